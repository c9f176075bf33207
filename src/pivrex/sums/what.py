"""The definition of a bench sum: its inputs, its formula, its results, and which of them a rig can hold."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from pivrex.errors import UnitError
from pivrex.rig.rig import Rig
from pivrex.units import KINDS, format_quantity, parse

__all__ = ["Operand", "Result", "Sum", "Values", "computed"]

Values = Mapping[str, float]


@dataclass(frozen=True)
class Operand:
    """Something that goes in.

    Attributes
    ----------
    key, title : str
    kind : str
        A key of `pivrex.units.KINDS`, or "number".
    unit : str
        In which it is shown; of a number what stands behind it.
    default : callable
        Its value for a rig, in SI units.
    low, high : float
        What it may be, in SI units.
    step : float
        What one nudge changes, in SI units.
    """

    key: str
    title: str
    kind: str
    unit: str
    default: Callable[[Rig], float]
    low: float
    high: float
    step: float

    def shown(self, value: float) -> str:
        """Write a value with its unit."""
        if self.kind == "number":
            return f"{round(value, 6):g} {self.unit}".strip()
        return format_quantity(value, self.kind, self.unit, 4)

    def read(self, text: str) -> float:
        """Read a value; raises `UnitError` with what would be right."""
        if self.kind == "number":
            try:
                value = float(text.strip().removesuffix(self.unit).strip())
            except ValueError:
                raise UnitError(f"{text!r} is not a number") from None
        else:
            value = parse(text.strip(), self.kind)
        if not self.low <= value <= self.high:
            raise UnitError(f"must be {self.shown(self.low)} to {self.shown(self.high)}")
        return value

    def nudged(self, value: float, steps: float) -> float:
        """Return the value after some steps, within its bounds."""
        return min(max(self.low, round((value + steps * self.step) / self.step) * self.step), self.high)


class Result(NamedTuple):
    """Something that comes out: its key, its title, its value, its unit, the digits that matter, and whether it is something wrong."""

    key: str
    title: str
    value: float
    unit: str
    digits: int = 3
    wrong: str = ""

    @property
    def shown(self) -> str:
        """Write it with its unit."""
        return f"{self.value:.{self.digits}f} {self.unit}".strip()


@dataclass(frozen=True)
class Sum:
    """A bench sum.

    Attributes
    ----------
    name, title : str
    formula : tuple of str
        As it is written on paper.
    source : str
        Where it comes from.
    given : tuple of Operand
    results : callable
        From the values by their keys; raises `UnitError` where they make no sense together.
    writes : callable
        What a rig can hold of it, from the rig and the values: pairs of a dotted key and what stands there.
    """

    name: str
    title: str
    formula: tuple[str, ...]
    source: str
    given: tuple[Operand, ...]
    results: Callable[[Values], list[Result]]
    writes: Callable[[Rig, Values], list[tuple[str, object]]] = field(default=lambda _rig, _values: [])

    def filled(self, rig: Rig) -> dict[str, float]:
        """Return what the rig knows, and what is usual where it does not."""
        return {g.key: min(max(g.low, g.default(rig)), g.high) for g in self.given}


def computed(one: Sum, rig: Rig, said: Mapping[str, str]) -> tuple[dict[str, float], list[Result]]:
    """Compute a sum with some values as a person wrote them; the others come from the rig.

    Raises
    ------
    UnitError
        With the key that is wrong, and what would be right.
    """
    values = one.filled(rig)
    known = {g.key: g for g in one.given}
    for key, text in said.items():
        if key not in known:
            raise UnitError(f"{one.name} has no {key}; it takes {', '.join(known)}")
        try:
            values[key] = known[key].read(text)
        except UnitError as problem:
            raise UnitError(f"{key}: {problem}") from None
    return values, one.results(values)


assert {"length", "voltage", "resistance", "time", "turn rate", "torque", "charge", "current", "angle", "mass"} <= set(
    KINDS
)
