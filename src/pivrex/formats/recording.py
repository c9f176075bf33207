"""Recorded driving: a CSV of raw readings."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple, TextIO

from pivrex.errors import ReadError, RecordingError
from pivrex.files import open_persons
from pivrex.line.layout import plain
from pivrex.line.line import Line
from pivrex.line.order import STAGES
from pivrex.rig.channels import BUTTONS, CHANNELS, STICKS

__all__ = ["Reading", "Recording"]

LONGEST_GAP_S = 600.0
"""A longer jump of the time is a slip of the pen, not a pause."""


class Reading(NamedTuple):
    """One line of a recording.

    Attributes
    ----------
    line : int
        In the file, from 1.
    t_s : float
        Since the first reading.
    raw : dict
        Every channel that the recording has.
    sensed : dict
        What it says the robot sensed, by the titles of the Tick's columns; usually nothing.
    """

    line: int
    t_s: float
    raw: Mapping[str, float]
    sensed: Mapping[str, float]


def _is_reading(column: str) -> bool:
    """Return whether a column is a reading: a channel, or a channel with its source before it."""
    source, dot, channel = column.partition(".")
    return column in CHANNELS or bool(dot and channel and source not in STAGES)


@dataclass(frozen=True)
class Recording:
    """A recording on disk, read line by line: however long it is, only one line is in memory.

    Its columns are ``t`` in seconds and then raw readings by channel; a table of Ticks will do too (``clock.t_s``,
    ``raw.left_y``). Columns that Pivrex does not know are passed over. An empty cell keeps the reading above it.
    """

    path: Path
    columns: tuple[str, ...] = field(init=False, default=())

    def __post_init__(self) -> None:
        with self._open() as stream:
            try:
                header = next(csv.reader(stream), None)
            except (csv.Error, UnicodeDecodeError) as problem:
                raise RecordingError(self.path, 1, f"cannot be read as CSV: {problem}") from None
        if not header or not any(name.strip() for name in header):
            raise RecordingError(self.path, 1, "is empty; it needs a header with t and the readings")
        names = [name.strip() for name in header]
        if "t" not in names and "clock.t_s" not in names:
            raise RecordingError(self.path, 1, f"has no column t (seconds); its columns are {', '.join(names)[:400]}")
        plain = [n.removeprefix("raw.") for n in names]
        seen: set[str] = set()
        for name in plain:
            if name and name in seen:
                raise RecordingError(self.path, 1, f'has the column "{name}" twice')
            seen.add(name)
        object.__setattr__(self, "columns", tuple(plain))

    def require(self, inputs: tuple[tuple[str, str], ...]) -> None:
        """Refuse, with `RecordingError`, if a stick or trigger of ``inputs`` is missing; missing buttons rest.

        ``inputs`` are pairs of a source and a channel, as `pivrex.line.inputs.Inputs` has them.
        """
        by, there = self.driven_by(inputs), set(self.columns)
        missing = [
            channel
            for source, channel in inputs
            if channel in (*STICKS, "left_trigger", "right_trigger")
            and not {channel, f"{source}.{channel}", f"{by}.{channel}"} & there
        ]
        if missing:
            has = ", ".join(c for c in self.columns if _is_reading(c)) or "no reading at all"
            raise RecordingError(
                self.path, 1, f"has no column {', '.join(missing)}, which the rig reads; it has {has[:400]}"
            )

    def driven_by(self, inputs: tuple[tuple[str, str], ...]) -> str:
        """Return the source whose readings drove when this was recorded; empty if the columns do not say."""
        for source, channel in inputs:
            if source == "chosen" and channel not in self.columns:
                found = [c.rpartition(".")[0] for c in self.columns if c.endswith(f".{channel}")]
                if found:
                    return found[0]
        return ""

    def driving_source(self, line: Line) -> str:
        """Return the source of the line's rig whose readings these are; empty if they are those of none."""
        by = self.driven_by(line.inputs.wanted)
        return next((name for name in line.rig.sources if plain(name) == by), "") if by else ""

    def columns_for(self, line: Line) -> tuple[str, ...]:
        """Return the column of each of the line's inputs, empty where there is none."""
        by = self.driven_by(line.inputs.wanted)
        found = []
        for (source, channel), column in zip(line.inputs.wanted, line.inputs.names, strict=True):
            other = f"{by}.{channel}" if by and source == "chosen" else plain(channel)
            found.append(next((c for c in (column, other, channel) if c in self.columns), ""))
        return tuple(found)

    def channels(self) -> frozenset[str]:
        """Return the channels that it has; buttons it lacks count as never pressed."""
        there = {c for c in self.columns if _is_reading(c)}
        there |= {c.rpartition(".")[2] for c in there}
        return frozenset(there | {c for c in BUTTONS if c.startswith("button_")})

    def readings(self) -> Iterator[Reading]:
        """Read it line by line.

        Raises
        ------
        RecordingError
            At the first line that cannot be played, with its number.
        """
        clock = self.columns.index("t" if "t" in self.columns else "clock.t_s")
        raw_at = [(i, c) for i, c in enumerate(self.columns) if _is_reading(c)]
        sensed_at = [(i, c) for i, c in enumerate(self.columns) if c.startswith("sensed.")]
        held: dict[str, float] = {}
        first = before = math.nan
        for line, row in self._rows():
            numbers = self._numbers(row)
            t = numbers[clock] if numbers else self._number(row, clock, line, "t")
            self._check_time(line, t, before)
            first = t if math.isnan(first) else first
            before = t
            if numbers:
                held = {name: numbers[i] for i, name in raw_at}
                yield Reading(line, t - first, held, {name: numbers[i] for i, name in sensed_at})
                continue
            held = dict(held)  # the reading before may still be in use
            for i, name in raw_at:
                value = self._number(row, i, line, name)
                if not math.isnan(value):
                    held[name] = value
                elif name not in held:
                    what = f"{name} is empty; only later lines may leave it so, to keep the reading above"
                    raise RecordingError(self.path, line, what)
            sensed = {n: v for i, n in sensed_at if not math.isnan(v := self._number(row, i, line, n))}
            yield Reading(line, t - first, held, sensed)
        if math.isnan(first):
            raise RecordingError(self.path, 1, "has a header but no reading")

    def _rows(self) -> Iterator[tuple[int, list[str]]]:
        """Return the lines below the header that say anything, each with its number."""
        with self._open() as stream:
            rows = csv.reader(stream)
            next(rows, None)
            while True:
                try:
                    row = next(rows, None)
                except (csv.Error, UnicodeDecodeError) as problem:
                    raise RecordingError(self.path, rows.line_num + 1, f"cannot be read as CSV: {problem}") from None
                if row is None:
                    return
                if len(row) > len(self.columns):
                    what = f"has {len(row)} cells, but the header has {len(self.columns)}"
                    raise RecordingError(self.path, rows.line_num, what)
                if any(row):
                    yield rows.line_num, row

    def _check_time(self, line: int, t: float, before: float) -> None:
        if math.isnan(t):
            raise RecordingError(self.path, line, "t is empty; every line needs its time in seconds")
        if t <= before:
            again = "again" if t == before else f"after {before:g} s"
            raise RecordingError(self.path, line, f"t is {t:g} s {again}; times must rise from line to line")
        if t - before > LONGEST_GAP_S:
            raise RecordingError(self.path, line, f"t jumps by {t - before:g} s; at most {LONGEST_GAP_S:g} s may pass")

    def _numbers(self, row: list[str]) -> list[float] | None:
        """Read a line all of whose cells are finite numbers, as nearly all are; None if it needs a closer look."""
        try:
            numbers = [float(cell) for cell in row]
        except ValueError:
            return None
        return numbers if len(numbers) == len(self.columns) and math.isfinite(sum(numbers)) else None

    def _number(self, row: list[str], at: int, line: int, name: str) -> float:
        text = row[at].strip() if at < len(row) else ""
        if not text:
            return math.nan
        try:
            value = float(text)
        except ValueError:
            raise RecordingError(self.path, line, f"{name} is {text[:40]!r}, but should be a number") from None
        if not math.isfinite(value):
            raise RecordingError(self.path, line, f"{name} is {text}, but should be a finite number")
        return value

    def _open(self) -> TextIO:
        try:
            return io.TextIOWrapper(open_persons(self.path), encoding="utf-8-sig", newline="")
        except ReadError as problem:
            raise RecordingError(self.path, 1, problem.reason) from None
