"""The first difference of two runs: tick by tick, and in the order of the line."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from pivrex.line import Line
from pivrex.line.layout import Column, Floats
from pivrex.line.order import STAGES
from pivrex.rig.difference import Change
from pivrex.runs.run import Run

__all__ = ["INPUTS", "Parting", "Partings", "StageParting", "exact_floors", "is_exact"]

INPUTS = ("clock", "sensed", "truth")
"""What comes from outside the line: a difference there is the world's, or follows from one before."""

TOLERANCES = {"m": 0.01, "m/s": 0.03, "rad": 0.02, "rad/s": 0.06, "V": 0.3, "us": 8.0, "g": 0.1, "N": 2.0, "": 0.03}
"""By unit: what two drives of one real robot differ by all the time, which is no parting. """

OF_THE_LARGEST = 0.04
"""And at least so much of the largest value nearby: counts of outputs, covariances."""

EXACT, SMALL = 1e-9, 1e-3
"""Where both runs are exact a difference counts that is no rounding, as a share, and more than so much of `TOLERANCES`."""

HOLDS_S = 0.1
"""A difference within noise must last so long to count."""

LOOK_ON_S = 10.0
"""How long after the first parting it is looked for when the other stages part."""


def exact_floors(values: Floats, columns: Sequence[Column]) -> Floats:
    """Return by how much values, (..., K), of so many columns must differ where both runs are exact."""
    small = SMALL * np.array([TOLERANCES.get(c.unit, 0.0) for c in columns])
    floors: Floats = np.maximum(EXACT * np.maximum(1.0, np.abs(values)), small)
    return floors


@dataclass(frozen=True)
class StageParting:
    """When a stage's columns are first apart: seconds after what the runs are lined up by, and which column; NaN for never."""

    stage: str
    t_s: float
    column: str = ""


@dataclass(frozen=True)
class Parting:
    """Where two runs first part.

    Attributes
    ----------
    t_s : float
        After what they are lined up by.
    rows : (int, int)
        Which row of each it is.
    stage, column, unit : str
        The first in the order of the line.
    values : (float, float)
    change : Change or None
        The one setting that by itself makes the first run's line do what the second's did.
    """

    t_s: float
    rows: tuple[int, int]
    stage: str
    column: str
    unit: str
    values: tuple[float, float]
    change: Change | None = None


class _Block(NamedTuple):
    """Rows of both that stand next to each other, and the lines that made them; ``at`` is how many rows behind the zero."""

    at: int
    one: Floats
    other: Floats
    lines: tuple[Line, Line]


class Partings:
    """Finds for each stage when it first parts."""

    def __init__(self, one: Run, other: Run, zero: tuple[int, int], exact: bool) -> None:
        self._one, self._other, self._zero, self._exact = one, other, zero, exact
        self._holds = 1 if exact else max(1, round(HOLDS_S / one.dt_s))
        self._found: dict[str, tuple[int, str]] = {}
        """For each title when it is first apart, in rows behind the zero, and its stage."""
        self._values: dict[str, tuple[float, float]] = {}
        self._units: dict[str, str] = {}
        self._stages: set[str] = set()
        self._order: dict[str, int] = {}

    def search(self, overlap: int) -> None:
        until = overlap
        for block in _blocks(self._one, self._other, self._zero, overlap):
            if block.at >= until:
                break
            self._look(block)
            if self._found:
                first = min(at for at, _ in self._found.values())
                until = min(until, first + round(LOOK_ON_S / self._one.dt_s))

    def _look(self, block: _Block) -> None:
        a, b = (line.layout for line in block.lines)
        places = {t: i for i, t in enumerate(b.titles)}
        pairs = [(i, places[t]) for i, t in enumerate(a.titles) if t in places and t not in ("clock.tick", "clock.t_s")]
        mine, theirs = block.one[:, [i for i, _ in pairs]], block.other[:, [j for _, j in pairs]]
        columns = [a.columns[i] for i, _ in pairs]
        self._stages |= {c.stage for c in columns}
        with np.errstate(invalid="ignore"):
            if self._exact:
                floors = exact_floors(mine, columns)
            else:
                largest = np.nan_to_num(np.abs(mine)).max(axis=0, initial=0.0)
                floors = np.maximum([TOLERANCES.get(c.unit, 0.0) for c in columns], OF_THE_LARGEST * largest)
            apart = np.abs(mine - theirs) > floors
        apart |= np.isnan(mine) != np.isnan(theirs)
        some = np.flatnonzero(apart.sum(axis=0) >= self._holds)
        for k in some:
            title = columns[k].title
            self._order.setdefault(title, pairs[k][0])
            if title in self._found:
                continue
            at = _first_run(apart[:, k], self._holds)
            if at >= 0:
                self._found[title] = block.at + at, columns[k].stage
                self._values[title] = float(mine[at, k]), float(theirs[at, k])
                self._units[title] = columns[k].unit

    def first(self) -> Parting | None:
        if not self._found:
            return None
        found = self._found
        if not self._exact:
            # what real robots sense is never the same: it counts once their commands are
            inside = {t: f for t, f in found.items() if f[1] not in INPUTS}
            found = inside or found
        title = min(found, key=lambda t: (found[t][0], self._order[t]))
        at, stage = found[title]
        rows = self._zero[0] + at, self._zero[1] + at
        return Parting(at * self._one.dt_s, rows, stage, title, self._units[title], self._values[title])

    def stages(self) -> tuple[StageParting, ...]:
        said = []
        for stage in (s for s in STAGES if s in self._stages and s != "clock"):
            mine = {t: at for t, (at, s) in self._found.items() if s == stage}
            title = min(mine, key=lambda t: (mine[t], self._order[t]), default="")
            said.append(StageParting(stage, mine[title] * self._one.dt_s if title else np.nan, title))
        return tuple(said)


def _first_run(flags: Any, length: int) -> int:
    """Return where the first run of at least ``length`` flags begins; -1 for none."""
    if length == 1:
        return int(np.argmax(flags)) if flags.any() else -1
    long = np.convolve(flags, np.ones(length), "valid") >= length
    return int(np.argmax(long)) if long.any() else -1


def _blocks(one: Run, other: Run, zero: tuple[int, int], overlap: int) -> Iterator[_Block]:
    """Return rows that stand next to each other, as far as both pieces of them reach."""
    at = 0
    while at < overlap:
        alike = one.alike(zero[0] + at, other, zero[1] + at)
        if alike:
            at += alike
            continue
        mine, theirs = one.piece(zero[0] + at), other.piece(zero[1] + at)
        begin, begins = zero[0] + at - mine.first, zero[1] + at - theirs.first
        count = min(len(mine.rows) - begin, len(theirs.rows) - begins, overlap - at)
        if count <= 0:
            return
        lines = one.line(zero[0] + at), other.line(zero[1] + at)
        yield _Block(at, mine.rows[begin : begin + count], theirs.rows[begins : begins + count], lines)
        at += count


def is_exact(one: Run, other: Run, zero: tuple[int, int]) -> bool:
    """Return whether both are drives of simulated robots that begin alike, so that every bit can be compared."""
    a, b = one.line(zero[0]), other.line(zero[1])
    first = one.row(zero[0]), other.row(zero[1])
    true = [row[line.layout.stage("truth")][:3] for row, line in zip(first, (a, b), strict=True)]
    if not all(np.isfinite(t).all() for t in true):
        return False
    return bool(np.abs(true[0] - true[1]).max() < EXACT)
