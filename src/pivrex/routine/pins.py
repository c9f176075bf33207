"""Values that a person pins to the screen: a reading, a column of the Tick, or an expression of them, for any Ticks of a rig's line."""

from __future__ import annotations

from dataclasses import dataclass
from math import pi

import numpy as np

from pivrex.errors import UnitError
from pivrex.line.attachments import reached
from pivrex.line.layout import Floats, plain
from pivrex.line.line import Line
from pivrex.rig.attachments import ENCODED
from pivrex.routine.checking.scope import Scope
from pivrex.routine.checking.values import ValueChecks
from pivrex.routine.kinds import NUMBER, UNITS, Kind, in_unit, unit_of
from pivrex.routine.mistakes import nearest
from pivrex.routine.nodes import Call, Expression, Quantity, Variable
from pivrex.routine.parsing import Unread, parse_line

__all__ = ["DIVIDES", "MAX_PINS", "Pin", "named_pin", "read_pin"]

MAX_PINS = 8
DIVIDES = "divides by 0"
_SHOW = "show "
"""A pin is what stands behind this word in a routine, and columns next to."""


@dataclass(frozen=True)
class Pin:
    """The pinned expression, on one line.

    Attributes
    ----------
    name, text : str
        What it is called, and as it was typed.
    kind : Kind
    """

    name: str
    text: str
    kind: Kind
    _value: Expression
    _line: Line

    @property
    def unit(self) -> str:
        """The unit in which it is shown."""
        return unit_of(self.kind)

    def values(self, rows: Floats) -> tuple[Floats, Floats]:
        """Return its values in Ticks, (N, K).

        Returns
        -------
        values : (N,) float64
            In `unit`; NaN where nothing was sensed, and where it divides by 0.
        divides : (N,) bool
            Where it divides by 0.
        """
        divides = np.zeros(len(rows), bool)
        with np.errstate(all="ignore"):
            found = _computed(self._value, self._line, rows, divides)
        found = np.broadcast_to(np.asarray(in_unit(1.0, self.kind) * found, float), (len(rows),))
        return np.where(np.isfinite(found) & ~divides, found, np.nan), divides


def named_pin(typed: str) -> tuple[str, str]:
    """Part what a person types, "gap = front - 30 cm", into name and expression; the expression is its own name."""
    name, equals, text = typed.partition("=")
    name, text = " ".join(name.split()), " ".join(text.split())
    return (name, text) if equals else (name, name)


def read_pin(name: str, text: str, line: Line) -> Pin:
    """Read what is pinned, for the line of a rig.

    Raises
    ------
    UnitError
        If it cannot be had there, with the column of what is wrong.
    """
    read = parse_line(_SHOW + text)
    if isinstance(read, Unread):
        raise UnitError(_at(read.column, read.what.partition("; such as:")[0]))
    if read.form != "show":
        raise UnitError(f'"{text}" is no value')
    kind = _PinChecks(line).kind_of(read["value"])
    return Pin(name, text, kind, read["value"], line)


def _at(column: int, what: str) -> str:
    return f"column {column - len(_SHOW) + 1}: {what}"


class _PinChecks(ValueChecks):
    """Checks a value that may have columns of the Tick in it."""

    def __init__(self, line: Line) -> None:
        super().__init__(line.rig, "", None)
        self._columns = {n: _kind_of_unit(line.layout.columns[k].unit)[1] for n, k in _places(line).items()}

    def kind_of(self, value: Expression) -> Kind:
        """Return what it measures. Raises `UnitError`."""
        kind = self._kind(value, Scope({}))
        if self._found:
            first = min(self._found)
            raise UnitError(_at(first.column - 1, first.what))
        return NUMBER if kind is None else kind

    def _kind_of_name(self, value: Variable, scope: Scope) -> Kind | None:
        name = value.name
        if name in self._columns:
            return self._columns[name]
        known = [*self._words.readings, *self._columns]
        if name in self._words.readings or name in self._words.attachments:
            return super()._kind_of_name(value, scope)
        near = (
            nearest(name, known)
            or f"; readings are {', '.join(self._words.readings)}, columns such as limits.left_lost"
        )
        self._wrong(f'nothing is called "{name}"{near}', value.span)
        return None


def _places(line: Line) -> dict[str, int]:
    """Return the place of each column by its name, and by its title in files, with the unit behind it."""
    layout = line.layout
    titles = {title: k for k, title in enumerate(layout.titles)}
    return titles | {f"{c.stage}.{c.name}": k for k, c in enumerate(layout.columns)}


def _kind_of_unit(unit: str) -> tuple[float, Kind]:
    """Return the factor to SI and the kind of a column's unit; of those that no routine knows a plain number."""
    return UNITS.get(unit, (1.0, NUMBER))


def _computed(  # noqa: PLR0911 - a case for each sign
    value: Expression, line: Line, rows: Floats, divides: np.ndarray
) -> Floats | float:
    match value:
        case Quantity():
            return value.value
        case Variable():
            return _column(value.name, line, rows)
        case Call():
            return _called(value, [np.asarray(_computed(a, line, rows, divides)) for a in value.args])
    a = _computed(value.a, line, rows, divides)
    if value.sign == "neg":
        return -a
    b = _computed(value.b, line, rows, divides)
    match value.sign:
        case "+":
            return a + b
        case "-":
            return a - b
        case "*":
            return a * b
    divides |= np.equal(b, 0)
    return np.divide(a, b)


def _called(call: Call, args: list[Floats]) -> Floats:
    match call.name:
        case "least":
            return np.min(np.broadcast_arrays(*args), axis=0)
        case "most":
            return np.max(np.broadcast_arrays(*args), axis=0)
        case "size":
            return np.abs(args[0])
    return np.sqrt(args[0])


def _column(name: str, line: Line, rows: Floats) -> Floats:
    """Return a reading or a column in SI, as `pivrex.routine.knowing.Knowing.reading` gives it to a routine."""
    rig, at = line.rig, line.layout.at
    if "." in name:
        place = _places(line)[name]
        return rows[:, place] * _kind_of_unit(line.layout.columns[place].unit)[0]
    if name in ("x", "y"):
        return rows[:, at("odometry", name)]
    if name == "heading":
        return pi - (pi - rows[:, at("odometry", "heading")]) % (2 * pi)
    if name == "time":
        return rows[:, at("clock", "t")]
    if name in rig.attachments:
        kind = rig.attachments[name].kind
        target = reached(plain(name), kind) if kind in ENCODED else f"{plain(name)}_target"
        return rows[:, at("attachments", target)]
    found = rows[:, at("sensed", plain(name))]
    return np.where(found > 0, found, np.nan) if name in rig.sensors else found
