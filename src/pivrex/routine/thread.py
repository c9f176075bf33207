"""The memory of the interpreter: its threads, what each waits for, and the finished steps."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from math import inf, nan

from pivrex.routine.kinds import NUMBER, Kind, in_unit, shown
from pivrex.routine.nodes import Condition
from pivrex.routine.program import Limit

__all__ = ["UNKNOWN", "Blocked", "Frame", "RoutineMessage", "StepRecord", "Thread", "copied", "renumber"]

UNKNOWN = "unknown"
"""The mark of a step that should have corrected the pose by a mark."""


@dataclass
class StepRecord:
    """A step that took time, or did something to an attachment.

    Attributes
    ----------
    code, at : str, int
        Which instruction it was.
    line : int
        In the routine's own text: of a step in a shared file that of its call.
    text : str
    lane : str
        "motion", "wait", "sense" or an attachment.
    begin, end : int
        Ticks of the routine; ``end`` is -1 while it goes on.
    marks : list of str
        What a student should look at: "limit", "cut off", "slipped", "limited", "unknown" where a mark said nothing.
    """

    code: str
    at: int
    line: int
    text: str
    lane: str
    begin: int
    end: int = -1
    marks: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class RoutineMessage:
    """A sentence that a routine showed, or a value.

    Attributes
    ----------
    code, at : str, int
        Which instruction it was.
    line : int
        As of a `StepRecord`.
    n : int
        The tick of the routine.
    label : str
        What the value is called; empty for a sentence.
    words : str
        The sentence.
    value : float
        In SI; NaN where nothing was sensed, and of a sentence.
    kind : Kind
    """

    code: str
    at: int
    line: int
    n: int
    label: str = ""
    words: str = ""
    value: float = nan
    kind: Kind = NUMBER

    @property
    def shown(self) -> float:
        """The value in the unit in which it is shown, `pivrex.routine.kinds.unit_of`."""
        return in_unit(self.value, self.kind)

    @property
    def text(self) -> str:
        """The text for a person."""
        return f"{self.label}: {shown(self.value, self.kind)}" if self.label else self.words


@dataclass
class Frame:
    """The routine itself, an own move that is being done, or a branch: where it stands, its names, and its counts.

    ``result`` is the name that takes what it gives, ``line`` that of the routine's own text in which it was begun.
    """

    code: str
    pc: int
    names: dict[str, float]
    counts: dict[int, float] = field(default_factory=dict)
    result: str = ""
    line: int = 0


@dataclass
class Blocked:
    """The event that a thread waits for.

    Attributes
    ----------
    kind : str
        "motion", "time", "until", "there", "settle", "home", "zero" or "join".
    record : int
        Its step.
    until_n : float
        The tick at which its own time is over.
    limit_n : float
        The tick at which its limit is reached.
    begin : int
        The tick at which it began to wait for rest.
    """

    kind: str
    record: int
    until_n: float = inf
    limit_n: float = inf
    limit: Limit = field(default_factory=Limit)
    cond: Condition | None = None
    name: str = ""
    children: tuple[int, ...] = ()
    mode: str = ""
    mark: str = ""
    """What a student should look at from the beginning."""
    begin: int = 0
    far_is_limit: bool = False
    """A motion whose way's end is a limit: it was to end when something is true."""


@dataclass
class Thread:
    """One of several things that go on at once; the last of its frames is being done."""

    frames: list[Frame]
    blocked: Blocked | None = None
    ended: bool = False


def copied(threads: dict[int, Thread]) -> dict[int, Thread]:
    """Return copies that go their own way; branches share the names of what began them."""
    names: dict[int, dict[str, float]] = {}

    def frame(one: Frame) -> Frame:
        return replace(one, names=names.setdefault(id(one.names), dict(one.names)), counts=dict(one.counts))

    return {
        key: Thread([frame(f) for f in t.frames], replace(t.blocked) if t.blocked is not None else None, t.ended)
        for key, t in threads.items()
    }


def renumber(threads: Mapping[int, Thread], lines: Mapping[float, float]) -> None:
    """Take other numbers for the lines in which own moves were begun."""
    for thread in threads.values():
        for frame in thread.frames:
            frame.line = int(lines.get(frame.line, frame.line))
