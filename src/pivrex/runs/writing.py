"""Writes a run while it is driven: a folder that is readable at any moment, even if the program is killed.

- run.toml: what is known of it, figures, the note
- rig.toml, rig-2.toml, ...: the rig, and what it was changed to
- floor.toml: the floor
- routine.txt, routine-2.txt, ...: the routines that were chosen
- events.csv: what was said, stops, bumps, limits, lines of a routine
- status.jsonl: what the screen got in addition to the Ticks, for replaying
- ticks-0000000.csv, ...: the Ticks, a piece for each half minute, called by its first row; compressed when it is large
- track-0000000.csv, ...: a few columns of every few Ticks, for small pictures and for what shows the whole of it
"""

from __future__ import annotations

import contextlib
import gzip
import io
import os
import shutil
from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime
from pathlib import Path

import numpy as np
import orjson

from pivrex.errors import SaveError
from pivrex.files import write_atomically
from pivrex.formats.ticks import tick_header, tick_lines
from pivrex.line import Line
from pivrex.line.layout import Floats
from pivrex.lower import reason
from pivrex.rig import Field
from pivrex.rig.written import written
from pivrex.runs.events import EVENTS_HEADER, Event, Watcher, event_line
from pivrex.runs.facts import FACTS, Facts, read_facts, write_facts
from pivrex.runs.figures import Figures
from pivrex.runs.shelf import leads_out
from pivrex.runs.track import TRACK_HEADER, Track

__all__ = ["LARGE", "PIECE_S", "RunWriter", "piece_name"]

PIECE_S = 30.0
"""How much of a drive stands in one file."""

LARGE = 200_000
"""A finished piece of more bytes than this is compressed."""


def piece_name(kind: str, row: int) -> str:
    """Return the name of a piece that begins with a row, without its end."""
    return f"{kind}-{row:07d}"


class RunWriter:
    """Writes one run. Whatever cannot be written raises `SaveError`; what was written stays as it is.

    Parameters
    ----------
    folder : Path
        It must not be there yet; the folder above it is made.
    facts : Facts
    line : Line
    rig_text : str
        The rig's file.
    longest_s : float
        Of a run that only keeps the last minutes: older pieces go.

    Attributes
    ----------
    folder : Path
    rows : int
        How many Ticks it has taken.
    facts : Facts
    """

    def __init__(
        self, folder: Path, facts: Facts, line: Line, rig_text: str, floor: Field | None, longest_s: float = np.inf
    ) -> None:
        self.folder, self.facts, self.rows = folder, facts, 0
        self.longest_s = longest_s
        self._line = line
        self._figures, self._watcher, self._track = Figures(line, floor), Watcher(line), Track(line)
        self._pieces: list[int] = []
        self._ticks: io.BufferedWriter | None = None
        self._tracks: io.BufferedWriter | None = None
        self._counts = {"rig": 0, "routine": 0}
        self._routine: list[str] = []
        self._begin(folder, rig_text, floor)

    def _begin(self, folder: Path, rig_text: str, floor: Field | None) -> None:
        """Make the folder with all that a reader needs, under a hidden name; it has its own once it is whole."""
        partial = folder.with_name(f".{folder.name}.part")
        if leads_out(folder.parent):
            raise SaveError(folder.parent, "it is a link that leads out of the workspace")
        try:
            folder.parent.mkdir(exist_ok=True)  # but no workspace that was deleted
            partial.mkdir()
            write_facts(partial, self.facts)
            write_atomically(partial / "events.csv", EVENTS_HEADER)
            self._counts["rig"] = 1
            write_atomically(partial / "rig.toml", rig_text)
            write_atomically(partial / "status.jsonl", orjson.dumps({"row": 0, "rig": "rig.toml"}) + b"\n")
            if floor is not None:
                write_atomically(partial / "floor.toml", written(floor))
            partial.rename(folder)
            self._events = (folder / "events.csv").open("ab", buffering=0)
            self._status = (folder / "status.jsonl").open("ab", buffering=0)
        except (OSError, SaveError) as problem:
            shutil.rmtree(partial, ignore_errors=True)
            why = problem.reason if isinstance(problem, SaveError) else reason(problem)
            raise SaveError(folder, why) from problem

    # --- new rows ---

    def add(self, rows: Floats) -> None:
        """Take the next Ticks, (N, K)."""
        per_piece = max(1, round(PIECE_S / self._line.dt_s))
        while len(rows):
            if self._ticks is None or self.rows - self._pieces[-1] >= per_piece:
                self._begin_piece()
            room = per_piece - (self.rows - self._pieces[-1])
            self._add(rows[:room])
            rows = rows[room:]

    def _add(self, rows: Floats) -> None:
        assert self._ticks is not None and self._tracks is not None
        self._write(self._ticks, tick_lines(rows))
        self._write(self._tracks, self._track.lines(rows, self.rows))
        self._figures.add(rows)
        for event in self._watcher.add(rows, self.rows):
            self.event(self._with_words(event))
        self.rows += len(rows)

    def _with_words(self, event: Event) -> Event:
        """Return the text of the routine's line at a step."""
        number = event.text.removeprefix("line ")
        if event.kind != "step" or not number.isdecimal() or not 0 < int(number) <= len(self._routine):
            return event
        return replace(event, text=f"{event.text}: {self._routine[int(number) - 1].partition('#')[0].strip()}")

    def flush(self) -> None:
        """Let whoever reads it see all that came."""
        for stream in (self._ticks, self._tracks):
            if stream is not None:
                self._flushed(stream)

    def is_there(self) -> bool:
        """Return whether all files that it writes are still in its folder: a person or a program may delete them."""
        try:
            for stream in (self._events, self._status, self._ticks, self._tracks):
                if stream is not None and not os.path.samestat(os.fstat(stream.fileno()), Path(stream.name).stat()):
                    return False
            return (self.folder / FACTS).exists()
        except OSError:
            return False

    def event(self, event: Event) -> None:
        """Take something that happened."""
        self._write(self._events, event_line(event).encode())

    def status_rows(self, changed: Mapping[str, object]) -> None:
        """Take the changes of the screen's status from the next Tick on."""
        self._write(self._status, orjson.dumps({"row": self.rows, **changed}) + b"\n")

    def use(self, line: Line, rig_text: str) -> None:
        """Take a changed rig, from the next Tick on."""
        if line.layout.titles != self._line.layout.titles or line.dt_s != self._line.dt_s:
            self._end_piece()  # the next row begins another
        self._line = line
        for part in (self._figures, self._watcher, self._track):
            part.use(line)
        self._put_text("rig", ".toml", rig_text)

    def routine(self, name: str, text: str) -> None:
        """Take another routine that was chosen."""
        self.facts = replace(self.facts, routine=name)
        self._routine = text.splitlines()
        if text:
            self._put_text("routine", ".txt", text)

    def _put_text(self, what: str, suffix: str, text: str) -> None:
        self._counts[what] += 1
        count = self._counts[what]
        name = f"{what}{'' if count == 1 else f'-{count}'}{suffix}"
        write_atomically(self.folder / name, text)
        self.status_rows({what: name})

    def drives(self, who: str) -> None:
        """Take who drives now."""
        if who and who not in self.facts.drivers:
            self.facts = replace(self.facts, drivers=(*self.facts.drivers, who))

    def keep(self, why: str) -> None:
        """Let it stay, and say why."""
        self.facts, self.longest_s = replace(self.facts, kept=why), np.inf
        self._save_facts()

    # --- its end ---

    def close(self, lost: int = 0) -> None:
        """End it."""
        self._end_piece()
        for stream in (self._events, self._status):
            self._closed(stream)
        self.facts = replace(
            self.facts, ended=datetime.now().astimezone(), ticks=self.rows, lost=lost, figures=self.figures
        )
        self._save_facts()

    @property
    def figures(self) -> dict[str, float]:
        """Its figures by now."""
        return self._figures.values()

    def abandon(self) -> None:
        """Let its files go without another word to the disk: it cannot write any more."""
        for stream in (self._events, self._status, self._ticks, self._tracks):
            if stream is not None:
                with contextlib.suppress(OSError):
                    stream.close()

    def _save_facts(self) -> None:
        try:
            note = read_facts(self.folder).note  # it may have been typed while this went on
        except Exception:
            note = ""
        self.facts = replace(self.facts, note=note or self.facts.note)
        write_facts(self.folder, self.facts)

    # --- pieces ---

    def _begin_piece(self) -> None:
        self._end_piece()
        try:
            self._ticks = (self.folder / f"{piece_name('ticks', self.rows)}.csv").open("xb")
            self._tracks = (self.folder / f"{piece_name('track', self.rows)}.csv").open("xb")
        except OSError as problem:
            raise SaveError(self.folder, reason(problem)) from problem
        self._write(self._ticks, tick_header(self._line).encode())
        self._write(self._tracks, TRACK_HEADER)
        self._pieces.append(self.rows)
        self._drop_old()

    def _end_piece(self) -> None:
        ticks, tracks, self._ticks, self._tracks = self._ticks, self._tracks, None, None
        if tracks is not None:
            self._closed(tracks)
        if ticks is None:
            return
        self._closed(ticks)
        path = Path(ticks.name)
        try:
            if path.stat().st_size > LARGE:
                compress(path)
        except OSError as problem:
            raise SaveError(path, reason(problem)) from problem

    def _drop_old(self) -> None:
        """Let pieces go that are older than what should be kept of the last minutes."""
        while len(self._pieces) > 2 and (self.rows - self._pieces[1]) * self._line.dt_s >= self.longest_s:
            row = self._pieces.pop(0)
            for name in (
                f"{piece_name('ticks', row)}.csv.gz",
                f"{piece_name('ticks', row)}.csv",
                f"{piece_name('track', row)}.csv",
            ):
                (self.folder / name).unlink(missing_ok=True)

    def _write(self, stream: io.BufferedWriter | io.FileIO, data: bytes) -> None:
        try:
            stream.write(data)
        except OSError as problem:
            raise SaveError(self.folder, reason(problem)) from problem

    def _flushed(self, stream: io.BufferedWriter) -> None:
        try:
            stream.flush()
        except OSError as problem:
            raise SaveError(self.folder, reason(problem)) from problem

    def _closed(self, stream: io.BufferedWriter | io.FileIO) -> None:
        try:
            stream.close()
        except OSError as problem:
            raise SaveError(self.folder, reason(problem)) from problem


def compress(path: Path) -> None:
    """Put a compressed file in the place of a finished one: whole or not at all. Raises `OSError` or `SaveError`."""
    # level 1 saves three quarters of what the best level saves, in a third of the time
    write_atomically(path.with_name(f"{path.name}.gz"), gzip.compress(path.read_bytes(), 1, mtime=0))
    path.unlink()
