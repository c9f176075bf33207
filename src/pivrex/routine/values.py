"""Computes expressions and conditions of a routine for one robot, at one moment."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from math import isfinite, nan, sqrt

from pivrex.routine.nodes import Call, Compare, Condition, Expression, Group, IsState, Not, Quantity, Variable
from pivrex.routine.watching import SAME

__all__ = ["FaultError", "Seen", "holds", "value_of"]


class FaultError(Exception):
    """Something that only shows while a routine runs: a division by zero, a name without a value. Ends the routine."""


class Seen:
    """A robot's values at one moment: its names, its readings (NaN for nothing), and the states of its attachments."""

    def __init__(
        self, names: Mapping[str, float], reading: Callable[[str], float], state: Callable[[str, str], bool]
    ) -> None:
        self.names, self.reading, self.state = names, reading, state


def value_of(value: Expression, seen: Seen) -> float:  # noqa: PLR0911 - a case for each sign
    """Return the value in SI; NaN where nothing was sensed. Raises `FaultError`."""
    match value:
        case Quantity():
            return value.value
        case Variable():
            if value.name in seen.names:
                return seen.names[value.name]
            found = seen.reading(value.name)
            return found
        case Call():
            return _called(value, [value_of(a, seen) for a in value.args])
    a = value_of(value.a, seen)
    if value.sign == "neg":
        return -a
    b = value_of(value.b, seen)
    match value.sign:
        case "+":
            return a + b
        case "-":
            return a - b
        case "*":
            return a * b
    if b == 0:
        raise FaultError("divides by 0")
    return a / b


def _called(call: Call, args: list[float]) -> float:
    if not all(isfinite(a) for a in args):
        return nan
    match call.name:
        case "least":
            return min(args)
        case "most":
            return max(args)
        case "size":
            return abs(args[0])
    if args[0] < 0:
        raise FaultError("takes the root of something below 0")
    return sqrt(args[0])


def holds(cond: Condition, seen: Seen) -> bool:
    """Return whether a condition is true; one about nothing sensed is not. Raises `FaultError`."""
    match cond:
        case Not():
            return not holds(cond.of, seen)
        case Group():
            first = holds(cond.a, seen)
            return (first and holds(cond.b, seen)) if cond.word == "and" else (first or holds(cond.b, seen))
        case IsState():
            assert isinstance(cond.of, Variable)
            return seen.state(cond.of.name, cond.state)
    return _compared(cond, value_of(cond.a, seen), value_of(cond.b, seen))


def _compared(cond: Compare, a: float, b: float) -> bool:
    match cond.sign:
        case "<":
            return a < b
        case "<=":
            return a <= b
        case ">":
            return a > b
        case ">=":
            return a >= b
        case "is":
            return abs(a - b) < SAME
    return a == a and b == b and abs(a - b) >= SAME  # noqa: PLR0124 - NaN is not itself
