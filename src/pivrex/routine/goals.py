"""The wanted result of a drive, in words, and how far a drive is from it."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from math import radians

import numpy as np

from pivrex.errors import PivrexError
from pivrex.line.attachments import reached
from pivrex.line.layout import plain
from pivrex.line.line import Line
from pivrex.line.stage import Floats
from pivrex.rig.attachments import ENCODED, reach_of
from pivrex.routine.kinds import ANGLE, LENGTH, UNITS, Kind, written
from pivrex.routine.marks import SLIPPED, mark_steps
from pivrex.routine.motion import wrapped
from pivrex.routine.program import MAIN, Jump, Program
from pivrex.routine.thread import StepRecord

__all__ = ["GOALS", "Drive", "Goal", "drive_of", "is_past", "missing", "read_goal"]

GOALS = (
    ("at X, Y", "the robot is there", "at 1.70 m, 1.70 m"),
    ("facing ANGLE", "it faces that way", "facing 90 deg"),
    ("turned ANGLE", "the line turned it by this much", "turned 180 deg"),
    ("driven LENGTH", "the line drove it this far", "driven 1 m"),
    ("ATTACHMENT there", "the attachment arrives just before the line has ended", "boom there"),
    ("fastest", "the line goes as fast as it can without sliding", "fastest"),
)
"""What may be requested, what it means, an example."""

AT_LAST = "at last"

_QUANTITY = re.compile(r"\s*(-?)\s*(\d+(?:\.\d+)?|\.\d+)\s*(\S+)\s*")

TOLERANCES = {"at": 0.03, "facing": radians(2), "turned": radians(2), "driven": 0.02, "there": 0.0, "fastest": 0.0}
"""Tolerance in m or rad: a drive within it fulfils it."""

LATE_S = 0.05
"""An attachment should be there so long before the line ends."""


@dataclass(frozen=True)
class Goal:
    """A condition for the result.

    Attributes
    ----------
    kind : str
        "at", "facing", "turned", "driven", "there" or "fastest".
    values : tuple of float
        In m or rad.
    name : str
        Of "there" the attachment.
    last : bool
        Whether it must be so at the end of the routine, instead of the line's.
    """

    kind: str
    values: tuple[float, ...] = ()
    name: str = ""
    last: bool = False

    @property
    def tolerance(self) -> float:
        """How near is near enough, in m, rad or s."""
        return TOLERANCES[self.kind]

    @property
    def said(self) -> str:
        """Return the text as it is read."""
        kind = LENGTH if self.kind in ("at", "driven") else ANGLE
        text = f"{self.kind} " + ", ".join(written(v, kind) for v in self.values)
        text = f"{self.name} there" if self.kind == "there" else text.strip()
        return f"{AT_LAST} {text}" if self.last else text

    def off(self, distance: float) -> str:
        """Return how far off something is."""
        if self.kind in ("facing", "turned"):
            return f"{np.degrees(distance):.2g} deg"
        if self.kind == "there":
            return f"{distance:.2f} s"
        return f"{distance * 1000:.0f} mm" if distance < 0.1 else f"{distance:.2f} m"


def read_goal(text: str, attachments: tuple[str, ...] = ()) -> Goal:
    """Read what must come true. Raises `PivrexError`."""
    bare = " ".join(text.split())
    last = bare.startswith(AT_LAST + " ") and bare != AT_LAST
    words = bare.removeprefix(AT_LAST).strip() if last else bare
    if words == "fastest":
        return Goal("fastest", last=False)
    if words.endswith(" there"):
        name = words.removesuffix(" there").strip().strip('"')
        if name not in attachments:
            known = ", ".join(attachments) or "none"
            raise PivrexError(f'"{name}" is no attachment that arrives anywhere; there are: {known}')
        return Goal("there", name=name)
    kind, _, rest = words.partition(" ")
    match kind:
        case "at":
            found = [_quantity(part, LENGTH, words) for part in rest.split(",")]
            if len(found) != 2:
                raise PivrexError(f'"{words}": a place is at X, Y, such as at 1.70 m, 1.70 m')
            return Goal("at", tuple(found), last=last)
        case "facing" | "turned":
            return Goal(kind, (_quantity(rest, ANGLE, words),), last=last and kind == "facing")
        case "driven":
            return Goal(kind, (_quantity(rest, LENGTH, words),))
    raise PivrexError(f'"{bare}" is no result; there are: {", ".join(g[0] for g in GOALS)}')


def _quantity(text: str, kind: Kind, whole: str) -> float:
    match = _QUANTITY.fullmatch(text)
    unit = match[3] if match is not None else ""
    if match is None or unit not in UNITS or UNITS[unit][1] != kind:
        wanted = "an angle such as 90 deg" if kind == ANGLE else "a length such as 1.70 m"
        raise PivrexError(f'"{whole}": {text.strip() or "nothing"} stands where {wanted} should')
    return float(match[1] + match[2]) * UNITS[unit][0]


@dataclass(frozen=True)
class Drive:
    """One drive, and the step that is looked at.

    Attributes
    ----------
    rows : (T, K) float64
    poses : (T + 1, 3) float64
        Before each Tick and at last.
    begin, end : int
        Ticks of the line's first step and of the end of its last.
    """

    line: Line
    rows: Floats
    poses: Floats
    steps: tuple[StepRecord, ...]
    begin: int
    end: int
    slips: bool


def drive_of(line: Line, rows: Floats, poses: Floats, steps: list[StepRecord], text_line: int) -> Drive | None:
    """Return a drive, seen at a line of its text; None if it does not come to that line."""
    own = [s for s in steps if s.line == text_line]
    if not own:
        return None
    moving = [s for s in own if s.lane == "motion"] or own
    marked = [replace(s, marks=[]) for s in moving]
    mark_steps(line, rows, marked)
    end = min(max(s.end for s in moving), len(poses) - 1)
    return Drive(line, rows, poses, tuple(steps), moving[0].begin, end, any(SLIPPED in s.marks for s in marked))


def is_past(program: Program, steps: list[StepRecord], text_line: int) -> bool:
    """Return whether a line has been done and is not come to again: the goal can be seen then."""
    own = [s for s in steps if s.line == text_line]
    if not own or any(s.end < 0 for s in own) or own[-1] is steps[-1]:
        return False
    for step in own:
        code = program.codes[step.code]
        again = any(isinstance(c, Jump) and c.by < 0 and k + c.by <= step.at <= k for k, c in enumerate(code))
        if step.code != MAIN or again:
            return False
    return True


def missing(goal: Goal, drive: Drive) -> Floats:
    """Return how far a drive is from a goal, (1,) or (2,), signed, in m, rad or s."""
    begin, end = drive.poses[drive.begin], drive.poses[-1 if goal.last else drive.end]
    match goal.kind:
        case "at":
            return np.asarray(end[:2] - np.array(goal.values))
        case "facing":
            return np.array([wrapped(float(end[2]) - goal.values[0])])
        case "turned":
            return np.array([abs(float(end[2] - begin[2])) - abs(goal.values[0])])
        case "driven":
            return np.array([float(np.hypot(*(end - begin)[:2])) - goal.values[0]])
        case "there":
            return np.array([_arrival_s(goal.name, drive) + LATE_S - drive.end * drive.line.dt_s])
    return np.array([float(drive.slips)])


def _arrival_s(name: str, drive: Drive) -> float:
    """Return when an attachment arrives where the newest step before the line's end sent it, in s of the routine."""
    layout = drive.line.layout
    own = [s for s in drive.steps if s.lane == name and s.begin <= drive.end]
    if not own:
        raise PivrexError(f"{name} is sent nowhere before that line has ended")
    sent = own[-1].begin
    after = [s.begin for s in drive.steps if s.lane == name and s.begin > sent]
    until = min([*after, len(drive.rows)])
    target = drive.rows[:, layout.at("attachments", f"{plain(name)}_target")]
    attachment = drive.line.rig.attachments[name]
    measured = attachment.kind in ENCODED
    at = drive.rows[:, layout.at("attachments", reached(plain(name), attachment.kind))] if measured else target
    last = until - 1 - round(0.5 / drive.line.dt_s) if until == len(drive.rows) else until - 1  # at last all is off
    goal = target[max(sent, last)]
    there = np.flatnonzero(np.abs(at[sent:until] - goal) < reach_of(attachment).near)
    arrives = sent + int(there[0]) if len(there) else until
    return arrives * drive.line.dt_s
