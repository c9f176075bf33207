"""A number in a routine that gives a wanted result, found on the simulated robot, with its standard deviation."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from math import inf, isfinite

import numpy as np

from pivrex.errors import PivrexError
from pivrex.line.stage import Floats
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.routine.checking import check_text
from pivrex.routine.goals import Drive, Goal, drive_of, is_past, missing
from pivrex.routine.kinds import ANGLE, COUNTS, LENGTH, NUMBER, SPEED, TIME, TURN_RATE, TURNS
from pivrex.routine.numbers import FINEST, TextNumber, replaced
from pivrex.routine.playing import ALONE_S, Player
from pivrex.routine.program import Program
from pivrex.routine.rehearsal import watch
from pivrex.routine.thread import StepRecord

__all__ = ["DRIVES", "Solved", "solve"]

DRIVES = 40
"""How many drives that differ say how sure a number is."""

ROUNDS = 10
HALVINGS = 5
BISECTIONS = 9

LATEST_S = 3.0
"""How long after its line an attachment is still waited for."""

Tell = Callable[[str], bool]


@dataclass(frozen=True)
class Solved:
    """The result of the search.

    Attributes
    ----------
    number : TextNumber
        As it stood.
    goal : Goal
    value : float
        In SI.
    text : str
        Of the whole routine, with it.
    off : float
        How far the drive is from the goal then, in m, rad or s.
    found : bool
        Whether that is near enough.
    share : float
        Of drives that differ, how many fulfil the goal with this number; NaN where none was tried.
    sigma : float
        By how much the number would differ from drive to drive, one sigma, in SI; NaN where it changes nothing.
    plays : int
        How often it was played to find it.
    """

    number: TextNumber
    goal: Goal
    value: float
    text: str
    off: float
    found: bool
    share: float
    sigma: float
    plays: int

    @property
    def written(self) -> str:
        """The number as it is written in the text."""
        return self.number.written(self.value)

    @property
    def said(self) -> str:
        """Return a sentence about it."""
        if self.goal.kind == "fastest":
            said = f"{self.written}: as fast as it goes without sliding"
        elif self.goal.kind == "there":
            said = f"{self.written}: {self.goal.name} is there {max(0.0, -self.off):.2f} s before the line ends"
            said = (
                said
                if self.found
                else f"{self.written} brings it nearest: {self.goal.name} still {self.off:.2f} s late"
            )
        elif self.found:
            said = f"{self.written}: {self.goal.said}, {self.goal.off(self.off)} off"
        else:
            said = f"{self.written} brings it nearest, but still {self.goal.off(self.off)} off {self.goal.said}"
        if self.found and self.sigma >= FINEST.get(self.number.kind, 1e-4):
            said += f"; ± {self.number.written(self.sigma)} from drive to drive"
        if isfinite(self.share):
            said += f"; {self.share * 100:.0f} of 100 drives are near enough"
        return said


@dataclass
class _Search:
    """Plays a text with other numbers in one place."""

    text: str
    number: TextNumber
    goal: Goal
    rig: Rig
    field_: Field | None
    shared: Callable[[str], str | None] | None
    limit_s: float
    tell: Tell
    plays: int = 0
    known: dict[str, tuple[Floats, Program] | None] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.player = Player(self.rig, self.field_)

    def drive(self, value: float) -> tuple[Drive | None, Program | None, str]:
        """Play with a number; returns why it cannot be, if it cannot."""
        text = replaced(self.text, self.number, value)
        checked = check_text(text, self.rig, shared=self.shared)
        if checked.program is None:
            m = checked.wrong[0]
            return None, None, f"with {self.number.written(value)} line {m.line} is wrong: {m.what}"
        self.plays += 1
        said = self.number.written(value)
        play = self.player.play(
            checked.program, self.limit_s, lambda: not self.tell(f"trying {said}"), self.enough(checked.program)
        )
        if play is None:
            raise GivenUpError
        seen = drive_of(self.player.line, play.rows, play.poses, play.steps, self.number.line)
        why = (
            "" if seen is not None else f"the routine does not come to line {self.number.line}: it {_ended(play.ended)}"
        )
        return seen, checked.program, why

    def enough(self, program: Program) -> Callable[[list[StepRecord], int], bool] | None:
        """Say when no more need be played: once the line is done, where its end is what counts."""
        if self.goal.last:
            return None
        line, after = self.number.line, round(LATEST_S / self.rig.dt_s) if self.goal.kind == "there" else 0

        def says(steps: list[StepRecord], n: int) -> bool:
            return is_past(program, steps, line) and n >= max(s.end for s in steps if s.line == line) + after

        return says

    def off(self, value: float) -> tuple[Floats, Program] | None:
        """Return how far a number is from the goal; None where it cannot be played."""
        said = self.number.written(value)
        if said not in self.known:
            drive, program, _ = self.drive(value)
            self.known[said] = None if drive is None or program is None else (missing(self.goal, drive), program)
        return self.known[said]


class GivenUpError(Exception):
    """The search was cancelled."""


def _ended(how: str) -> str:
    return "is cut off by the clock before" if how == "out of time" else f"has {how} before"


def solve(
    text: str,
    number: TextNumber,
    goal: Goal,
    rig: Rig,
    field: Field | None,
    shared: Callable[[str], str | None] | None = None,
    limit_s: float = ALONE_S,
    tell: Tell = lambda _: True,
) -> Solved | None:
    """Find a number of a text so that a goal comes true.

    Parameters
    ----------
    text : str
    number : TextNumber
        As `pivrex.routine.numbers.numbers_in` finds it.
    goal : Goal
    rig : Rig
    field : Field or None
    shared : callable, optional
        Gives the text of a file of own moves.
    limit_s : float
    tell : callable
        Gets a text of what is tried; if it returns False, the result is None.

    Raises
    ------
    PivrexError
        Why nothing can be found.

    Notes
    -----
    Gauss-Newton in one number on how far the end is from the goal, its slope by a difference, steps halved until they help (Nocedal
    & Wright, Numerical Optimization, ch. 10); for the fastest a bisection on whether tyres slide. How sure: `DRIVES` drives
    that differ as the rig's spread says; their scatter divided by the slope is that of the number.
    """
    search = _Search(text, number, goal, rig, field, shared, limit_s, tell)
    try:
        drive, _, why = search.drive(number.value)
        if drive is None:
            raise PivrexError(why)
        if goal.kind == "fastest":
            return _surely(search, _fastest(search), 0.0)
        return _surely(search, *_nearest(search))
    except GivenUpError:
        return None


def _size(off: Floats) -> float:
    return float(np.hypot(*off)) if len(off) == 2 else abs(float(off[0]))


def _bounds(number: TextNumber, rig: Rig) -> tuple[float, float]:
    """Return between what a number may lie."""
    finest = FINEST.get(number.kind, 1e-4)
    if number.kind == ANGLE:
        return -7.0, 7.0
    sign = -1.0 if number.value < 0 else 1.0
    most = {
        LENGTH: 50.0, TIME: 60.0, NUMBER: 1.0 if number.unit == "%" else 1e4, COUNTS: 1e6, TURNS: 1e3,
        SPEED: rig.full_forward_m_s, TURN_RATE: rig.full_turn_rad_s,
    }.get(number.kind, 1e4)  # fmt: skip
    low, high = sorted((sign * finest, sign * most))
    return low, high


def _nearest(search: _Search) -> tuple[float, float]:
    """Return the number that brings the goal nearest, and how much the goal follows it there."""
    number, goal = search.number, search.goal
    low, high = _bounds(number, search.rig)
    finest = _finest(search)
    value = number.value
    now = search.off(value)
    assert now is not None
    slope = 0.0
    enough = 1e-3 if goal.kind != "there" else 0.0
    for _ in range(ROUNDS):
        off = now[0]
        if goal.kind != "there" and _size(off) < enough:
            break
        found = _slope(search, value, off, low, high)
        if found is None:
            break
        slope = float(np.sqrt(found @ found))
        step = -float(found @ off) / (slope * slope)
        room = 0.5 * max(abs(value), 40 * finest)
        step = min(max(step, -room), room)
        better = _step(search, value, step, now, low, high)
        if better is None:
            break
        moved = abs(better[0] - value)
        value, now = better
        if moved < finest:
            break
    return _finely(search, value, finest), slope


def _finest(search: _Search) -> float:
    """The smallest change of a number that has an effect: times are counted in ticks."""
    number = search.number
    return search.rig.dt_s if number.kind == TIME else FINEST.get(number.kind, 1e-4)


def _slope(search: _Search, value: float, off: Floats, low: float, high: float) -> Floats | None:
    """Return how the goal changes with the number; None if it does not."""
    by = max(0.02 * abs(value), 4 * _finest(search))
    for _ in range(4):
        for other in (value + by, value - by):
            if low <= other <= high:
                there = search.off(other)
                if there is not None and _size(there[0] - off) > 1e-6:
                    return np.asarray((there[0] - off) / (other - value))
        by *= 4
    return None


def _step(
    search: _Search, value: float, step: float, now: tuple[Floats, Program], low: float, high: float
) -> tuple[float, tuple[Floats, Program]] | None:
    """Go a step, halved until it helps; None if it does not."""
    for _ in range(HALVINGS):
        other = min(max(value + step, low), high)
        there = search.off(other)
        if there is not None and _size(there[0]) < _size(now[0]) - 1e-9:
            return other, there
        step /= 2
    return None


def _finely(search: _Search, value: float, finest: float) -> float:
    """Return the best of the numbers next to one: what is written is rounded, and ticks are steps."""
    scored = []
    for k in (0, -1, 1, -2, 2):
        there = search.off(value + k * finest)
        if there is None:
            continue
        off = float(there[0][0]) if search.goal.kind == "there" else _size(there[0])
        late = search.goal.kind == "there" and off > 1e-9
        scored.append((late, abs(off), abs(k), value + k * finest))
    return min(scored)[3] if scored else value


def _fastest(search: _Search) -> float:
    """Return the highest speed at which no tyre slides."""
    number = search.number
    if number.kind not in (SPEED, TURN_RATE, NUMBER) or (number.kind == NUMBER and number.unit != "%"):
        raise PivrexError(f"{number.text} is no speed; put the cursor on one, such as 60 %")
    low, high = _bounds(number, search.rig)
    slow, fast = (low, high) if number.value > 0 else (high, low)

    def slides(value: float) -> bool:
        there = search.off(value)
        return there is None or bool(there[0][0])

    if not slides(fast):
        return fast
    if slides(slow):
        raise PivrexError("its tyres slide however slowly it goes")
    for _ in range(BISECTIONS):
        middle = (slow + fast) / 2
        slow, fast = (slow, middle) if slides(middle) else (middle, fast)
    finest = FINEST[number.kind]
    return np.trunc(slow / finest) * finest


def _surely(search: _Search, value: float, slope: float) -> Solved:
    """Try a number in drives that differ."""
    number, goal = search.number, search.goal
    there = search.off(value)
    assert there is not None
    off, program = there
    size = float(off[0]) if goal.kind == "there" else _size(off)
    share, sigma = np.nan, np.nan
    if search.rig.has_realistic_physics:
        seeds = np.arange(1, DRIVES + 1, dtype=np.uint64)
        goes_on = lambda: search.tell(f"{number.written(value)} in {DRIVES} drives")  # noqa: E731 - one sentence
        seen = watch(program, search.rig, search.field_, seeds, search.limit_s, goes_on, search.enough(program))
        if seen is None:
            raise GivenUpError
        each = []
        for k, steps in enumerate(seen.steps):
            drive = drive_of(seen.line, seen.rows[:, k], seen.poses[:, k], steps, number.line)
            each.append(missing(goal, drive) if drive is not None else np.full_like(off, inf))
        sizes = np.array([float(e[0]) if goal.kind == "there" else _size(e) for e in each])
        share = float((sizes <= goal.tolerance + 1e-9).mean())
        there_all = np.array(each)[np.isfinite(sizes)]
        if slope > 0 and len(there_all) > 1:
            sigma = float(np.sqrt(there_all.var(axis=0).sum() / len(off))) / slope
    text = replaced(search.text, number, value)
    return Solved(number, goal, value, text, size, size <= goal.tolerance + 1e-9, share, sigma, search.plays)
