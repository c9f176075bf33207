"""The values of one robot in the middle of a routine, in addition to its threads."""

from __future__ import annotations

from dataclasses import dataclass, field

from pivrex.routine.interpreter import Interpreter

__all__ = ["Habits", "Memory"]


@dataclass
class Habits:
    """The settings of one robot from here on: its speeds, whether the gyro corrects it, and what is slowed."""

    drive: float
    turn: float
    gyro: bool
    slow: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Memory:
    """The memory of one robot in the middle of a routine, between two steps: it can continue from there.

    Attributes
    ----------
    n : int
        Ticks that have been.
    interpreter : Interpreter
    attached : dict
        The command of each attachment, as `pivrex.routine.hands.AttachedState` says.
    off : set of str
        Sensors that are switched off.
    habits : Habits
    estimated : (3,) of float
        Its estimated pose, x and y in m, heading in rad.
    angles : dict of str to float
        Where its attachments with an encoder are, as they are called.
    """

    n: int
    interpreter: Interpreter
    attached: dict[str, dict[str, float]]
    off: set[str]
    habits: Habits
    estimated: tuple[float, float, float]
    angles: dict[str, float]
