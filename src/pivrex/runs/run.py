"""A kept run: its Ticks, read piece by piece, with the line of each of them and its events."""

from __future__ import annotations

import zlib
from bisect import bisect_right
from collections import OrderedDict
from collections.abc import Iterator, Mapping
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import orjson

from pivrex.errors import ReadError, RigError, RunError
from pivrex.files import open_persons
from pivrex.formats.ticks import present_title, read_ticks
from pivrex.line import Line
from pivrex.line.layout import Floats
from pivrex.rig import Field, read_rig
from pivrex.rig.read import read_floor
from pivrex.runs.events import Event, read_events
from pivrex.runs.facts import Facts, read_facts
from pivrex.runs.track import OLD_TRACK, TRACK

__all__ = ["KEPT_PIECES", "Piece", "Run"]

KEPT_PIECES = 6
"""How many pieces stay in memory once they were read."""

LARGEST_PIECE = 400_000_000
LARGEST_TEXT = 200_000_000


class Piece(NamedTuple):
    """Some Ticks that follow each other.

    Attributes
    ----------
    first : int
        The row of the run with which it begins.
    rows : (N, K) float64
        In the layout of the line that made them.
    """

    first: int
    rows: Floats


class _File(NamedTuple):
    first: int
    path: Path


class Run:
    """A run on disk; only a few pieces of it are in memory, however long it is.

    One that was cut off at any moment is read up to there. Columns that are gone are NaN, columns that its rig does not have are
    passed over; ``warnings`` says so once a piece with them was read.

    Parameters
    ----------
    folder : Path

    Raises
    ------
    RunError
        If there is no run, or its facts cannot be read.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        if not folder.is_dir():
            raise RunError(folder, 0, "is no run: there is no such folder")
        self.facts: Facts = read_facts(folder)
        self.warnings: list[str] = []
        self._files = _files(folder, "ticks")
        self._pieces: OrderedDict[int, Piece] = OrderedDict()
        self._lines: dict[str, Line] = {}

    @property
    def name(self) -> str:
        """The name of its folder."""
        return self.folder.name

    @property
    def dt_s(self) -> float:
        """The time of one tick."""
        return 1 / self.facts.rate_hz

    @property
    def first(self) -> int:
        """The first row that is there still: of a run that kept only the last minutes it is not 0."""
        return self._files[0].first if self._files else 0

    @cached_property
    def end(self) -> int:
        """The row behind the last one."""
        if not self._files:
            return 0
        last = self._read(len(self._files) - 1)
        return last.first + len(last.rows)

    def __len__(self) -> int:
        return self.end - self.first

    # --- Ticks ---

    def piece(self, row: int) -> Piece:
        """Return the piece that has a row; the nearest for one that is not there. Raises `RunError` if there is none."""
        if not self._files:
            what = (
                "made room for others: only its figures and its track are left" if self.facts.thinned else "has no tick"
            )
            raise RunError(self.folder, 0, what)
        at = max(0, bisect_right([f.first for f in self._files], row) - 1)
        return self._read(at)

    def alike(self, row: int, other: Run, others: int) -> int:
        """Return how many Ticks from a row on are those of another run from one of its rows on, where that is known without reading them:
        where the files that begin there hold the same bytes. 0 where it cannot.
        """
        mine, theirs = ({f.first: (f, n) for f, n in zip(r._files, r._files[1:], strict=False)} for r in (self, other))
        if row not in mine or others not in theirs:
            return 0
        (one, after), (two, then) = mine[row], theirs[others]
        count = after.first - one.first
        if count != then.first - two.first or one.path.suffix != two.path.suffix:
            return 0
        try:
            return count if one.path.read_bytes() == two.path.read_bytes() else 0
        except OSError:
            return 0

    def row(self, row: int) -> Floats:
        """Return one Tick, (K,); the nearest for one that is not there."""
        piece = self.piece(row)
        if not len(piece.rows):
            raise RunError(self.folder, 0, "has no tick")
        return piece.rows[min(max(0, row - piece.first), len(piece.rows) - 1)]

    def rows(self, first: int, end: int) -> list[Floats]:
        """Return the Ticks from a row up to another, without it: each is (K,) of its own layout."""
        found: list[Floats] = []
        first = max(first, self.first)
        while first < end:
            piece = self.piece(first)
            some = piece.rows[max(0, first - piece.first) : end - piece.first]
            if not len(some):
                break
            found.extend(some)
            first += len(some)
        return found

    def pieces(self) -> Iterator[Piece]:
        """Return all pieces, in their order."""
        for at in range(len(self._files)):
            piece = self._read(at)
            if len(piece.rows):
                yield piece

    def _read(self, at: int) -> Piece:
        known = self._pieces.get(at)
        if known is None:
            file, line = self._files[at], self.line(self._files[at].first)
            most = self._files[at + 1].first - file.first if at + 1 < len(self._files) else 0
            try:
                titles, rows = self._parsed(file.path)
                known = Piece(file.first, self._laid_out(titles, rows[: most or len(rows)], line))
            except RunError as problem:
                if not at:
                    raise
                self._warn(f"{file.path.name} {problem.what}: no one knows what was there")
                known = Piece(file.first, np.full((most, len(line.layout)), np.nan))
            self._pieces[at] = known
            while len(self._pieces) > KEPT_PIECES:
                self._pieces.popitem(last=False)
        else:
            self._pieces.move_to_end(at)
        return known

    def _parsed(self, path: Path) -> tuple[list[str], Floats]:
        """Read a piece: whole lines only, for the last may be cut off; up to what is damaged."""
        data = _bytes(path)
        header, _, body = data.partition(b"\n")
        titles = [present_title(t) for t in header.decode("utf-8", "replace").strip().split(",")]
        body = body[: body.rfind(b"\n") + 1]
        if b"\r" in body:  # a spreadsheet saved it
            body = body.replace(b"\r\n", b"\n")
        while True:
            try:
                return titles, read_ticks(body, len(titles))
            except ValueError as problem:
                at, what = problem.args
                self._warn(f"{path.name}:{at + 2}: {what}; read up to there")
                body = b"".join(line + b"\n" for line in body.split(b"\n")[:at])

    def _laid_out(self, titles: list[str], rows: Floats, line: Line) -> Floats:
        """Put columns where the line has them."""
        wanted = line.layout.titles
        if tuple(titles) == wanted:
            return rows
        places = {title: i for i, title in enumerate(titles)}
        gone = [t for t in wanted if t not in places]
        if gone:
            more = f" and {len(gone) - 3} more" if len(gone) > 3 else ""
            self._warn(f"it has no column {', '.join(gone[:3])}{more}: an older version, or a changed file")
        found = np.full((len(rows), len(wanted)), np.nan)
        for i, title in enumerate(wanted):
            if title in places:
                found[:, i] = rows[:, places[title]]
        return found

    def _warn(self, what: str) -> None:
        if what not in self.warnings:
            self.warnings.append(what)

    # --- what stood next to them ---

    @cached_property
    def status_rows(self) -> list[tuple[int, Mapping[str, Any]]]:
        """The screen's status in addition to the Ticks: the first row of each change, and the change."""
        found = []
        for line in self._text("status.jsonl").split(b"\n"):
            try:
                one = orjson.loads(line)
                found.append((int(one["row"]), one))
            except (orjson.JSONDecodeError, KeyError, TypeError, ValueError):
                continue  # its last line may be cut off
        return found

    @cached_property
    def events(self) -> list[Event]:
        """The events, in their order."""
        return read_events(self._text("events.csv").decode("utf-8", "replace"))

    @cached_property
    def rigs(self) -> list[tuple[int, Path]]:
        """Which file of the folder has the rig, from which row on."""
        found = [(row, self.folder / str(one["rig"])) for row, one in self.status_rows if "rig" in one]
        there = [(row, path) for row, path in found if path.exists() and path.parent == self.folder]
        return there or [(0, self.folder / "rig.toml")]

    def rig_file(self, row: int) -> Path:
        """Return the file of the rig that made a row."""
        return self._of(self.rigs, row)

    def routine_file(self, row: int) -> Path | None:
        """Return the file of the routine that was chosen at a row; None for none."""
        found = [
            (at, self.folder / str(one["routine"])) for at, one in self.status_rows if "routine" in one and at <= row
        ]
        return found[-1][1] if found and found[-1][1].is_file() else None

    @staticmethod
    def _of(found: list[tuple[int, Path]], row: int) -> Path:
        at = bisect_right([one[0] for one in found], row) - 1
        return found[max(0, at)][1]

    def line(self, row: int) -> Line:
        """Return the line that made a row; if a changed rig cannot be read, the one before, with a warning. Raises `RunError` if the first
        cannot.
        """
        path = self.rig_file(row)
        if path.name not in self._lines:
            try:
                self._lines[path.name] = Line(read_rig(path))
            except RigError as problem:
                first = problem.mistakes[0]
                before = [(at, one) for at, one in self.rigs if at <= row and one != path]
                if not before:
                    raise RunError(path, first.line, f"{first}") from None
                self._warn(f"{path.name}:{first.line}: {first}; what it made is shown with the rig before")
                self._lines[path.name] = self.line(before[-1][0])
        return self._lines[path.name]

    @cached_property
    def floor(self) -> Field:
        """The floor that it was driven on."""
        path = self.folder / "floor.toml"
        try:
            return read_floor(path) if path.exists() else Field()
        except RigError as problem:
            self._warn(f"{path.name}: {problem.mistakes[0]}; an open floor stands in its place")
            return Field()

    @cached_property
    def track(self) -> Floats:
        """Its track, (N, len(TRACK)): see `pivrex.runs.track`."""
        found = []
        for file in _files(self.folder, "track"):
            titles, rows = self._parsed(file.path)
            if tuple(titles) in (TRACK, OLD_TRACK):
                found.append(rows)
        return np.concatenate(found) if found else np.empty((0, len(TRACK)))

    def _text(self, name: str) -> bytes:
        try:
            with open_persons(self.folder / name) as stream:
                return stream.read(LARGEST_TEXT)
        except (ReadError, OSError):
            return b""


def _files(folder: Path, kind: str) -> list[_File]:
    """Return the pieces of a kind by their first row; where one is there compressed and plain, the compressed one is whole."""
    found: dict[int, Path] = {}
    for path in sorted(folder.glob(f"{kind}-*.csv*")):
        digits, _, suffix = path.name.removeprefix(f"{kind}-").partition(".")
        if digits.isdecimal() and suffix in ("csv", "csv.gz"):
            found[int(digits)] = path  # .csv.gz sorts behind .csv
    return [_File(first, found[first]) for first in sorted(found)]


def _bytes(path: Path) -> bytes:
    """Read a piece, compressed or not; of one that is cut off what is there."""
    try:
        with open_persons(path) as stream:
            data = stream.read(LARGEST_PIECE)
    except (ReadError, OSError) as problem:
        raise RunError(path, 0, problem.reason if isinstance(problem, ReadError) else str(problem)) from None
    if not path.name.endswith(".gz"):
        return data
    try:
        return zlib.decompressobj(wbits=31).decompress(data, LARGEST_PIECE)
    except zlib.error:
        raise RunError(path, 0, "is damaged: it cannot be decompressed") from None
