"""Changes a setting by steps or by a typed value, in the unit that the person wrote."""

from __future__ import annotations

from functools import cache
from typing import Any, get_args

from pydantic.fields import FieldInfo

from pivrex.errors import UnitError
from pivrex.rig.quantities import Quantity
from pivrex.rig.rig import Rig
from pivrex.rig.schema import field_at
from pivrex.units import KINDS, format_quantity, parse, split

__all__ = ["Setting", "marks_of", "setting_at"]

COARSE = 5
"""Fine steps in a coarse one."""


class Setting:
    """One key of a rig that you can change on the screen.

    Attributes
    ----------
    key : str
        Dotted, entries of lists by index from 0.
    quantity : Quantity or None
        None for a choice.
    choices : tuple of str
        What may stand there; empty for a quantity.
    """

    def __init__(self, key: str, field: FieldInfo) -> None:
        self.key = key
        self.quantity = next((m for m in marks_of(field) if isinstance(m, Quantity)), None)
        self._is_flag = field.annotation is bool
        self.choices = (
            ("no", "yes") if self._is_flag else tuple(v for v in get_args(field.annotation) if isinstance(v, str))
        )
        self.description = field.description or ""

    def value(self, rig: Rig) -> Any:
        """Return what a rig has there, in SI units."""
        at: Any = rig
        for part in self.key.split("."):
            if isinstance(at, tuple):
                at = at[int(part)]
            elif isinstance(at, dict):
                at = at[part]
            else:
                name = next(n for n, f in type(at).model_fields.items() if part in (f.alias, n))
                at = getattr(at, name)
        return at

    def choice(self, rig: Rig) -> str:
        """Return which of its choices a rig has."""
        value = self.value(rig)
        return self.choices[int(value)] if self._is_flag else str(value)

    def chosen(self, choice: str) -> object:
        """Return the text in the file for a choice; raises `UnitError` for an unknown one."""
        if choice not in self.choices:
            raise UnitError(f'is "{choice}", but should be one of {", ".join(self.choices)}')
        return choice == "yes" if self._is_flag else choice

    def stepped(self, rig: Rig, written: object, steps: int) -> object:
        """Return what should stand in the file after some fine steps.

        Parameters
        ----------
        rig : Rig
            For the value when the file leaves it out.
        written : object
            What stands in the file; None if it leaves it out.
        steps : int
            Up or down; a choice goes round.

        Returns
        -------
        object
            In the unit of ``written``, on the grid of the step, within the bounds.
        """
        if self.choices:
            at = self.choices.index(self.choice(rig))
            return self.chosen(self.choices[(at + steps) % len(self.choices)])
        assert self.quantity is not None
        kind = self.quantity.kind
        unit = self._unit(written)
        step = self._step
        si = self.value(rig)
        moved = (
            round(si / step) * step + steps * step if abs(round(si / step) - si / step) < 1e-6 else si + steps * step
        )
        return self._written(self._bounded(moved), kind, unit)

    def at_share(self, rig: Rig, written: object, share: float, largest: float) -> object:
        """Return what should stand in the file for a slider at ``share`` of 0 to ``largest`` (SI), on the grid."""
        if self.choices:
            return self.chosen(self.choices[min(len(self.choices) - 1, int(share * len(self.choices)))])
        assert self.quantity is not None
        step = self._step
        si = round(max(0.0, min(1.0, share)) * largest / step) * step
        return self._written(self._bounded(si), self.quantity.kind, self._unit(written))

    def typed(self, written: object, text: str) -> object:
        """Read what a person typed; a bare number gets the unit that stands there. Raises `UnitError`."""
        if self.choices:
            return self.chosen(text)
        assert self.quantity is not None
        number, unit = split(text)
        if self.quantity.kind == "number":
            if unit or number != self._bounded(number):
                allowed = self.quantity.sentence()
                raise UnitError(f"is {text}, but must be a number" + (f", {allowed}" if allowed else ""))
            return number
        if not unit and self.quantity.kind == "fraction" and self._unit(written) == "%" and 0 < abs(number) <= 1:
            raise UnitError(
                f"is {text}: in the file that is a share, here a percentage; write {number * 100:g} % or {number:g} %"
            )
        unit = unit or self._unit(written)
        si = parse(f"{number:g} {unit}" if unit else number, self.quantity.kind)
        if si != self._bounded(si):
            raise UnitError(f"is {text}, but must be {self.quantity.sentence(text if split(text)[1] else written)}")
        return self._written(si, self.quantity.kind, unit)

    def largest(self) -> float:
        """Return the SI value at the right end of a slider."""
        if self.quantity is None:
            return 1.0
        return self.quantity.at_most if self.quantity.at_most is not None else 100 * self._step

    def shown(self, rig: Rig, written: object) -> str:
        """Write the value with its unit, for the screen."""
        value = self.value(rig)
        if self.quantity is None:
            return self.choice(rig)
        if self.quantity.kind == "number":
            return f"{value:g}"
        unit = self._unit(written) or "%"
        return format_quantity(value, self.quantity.kind, unit, 3)

    def _unit(self, written: object) -> str:
        assert self.quantity is not None
        if self.quantity.kind == "number":
            return ""
        if isinstance(written, str):
            return split(written)[1]
        if isinstance(written, int | float) and KINDS[self.quantity.kind].bare:
            return ""
        return split(self.quantity.step)[1]

    @property
    def _step(self) -> float:
        """A fine step, in SI units."""
        assert self.quantity is not None
        return (
            float(self.quantity.step)
            if self.quantity.kind == "number"
            else parse(self.quantity.step, self.quantity.kind)
        )

    def _bounded(self, si: float) -> float:
        assert self.quantity is not None
        q = self.quantity
        step = self._step
        if q.above is not None and si <= q.above:
            si = q.above + step
        if q.at_least is not None:
            si = max(q.at_least, si)
        return min(q.at_most, si) if q.at_most is not None else si

    @staticmethod
    def _written(si: float, kind: str, unit: str) -> object:
        return format_quantity(si, kind, unit) if unit else round(si, 6)


def marks_of(field: FieldInfo) -> list[Any]:
    """The marks of a field, also of one that may be left out: ``Annotated[float, mark] | None``."""
    inner = [m for part in get_args(field.annotation) for m in getattr(part, "__metadata__", ())]
    return [*field.metadata, *inner]


@cache
def setting_at(key: str) -> Setting:
    """Return the setting of a rig at a dotted key; raises `KeyError` if there is none."""
    path = tuple(int(p) if p.isdigit() else p for p in key.split("."))
    field = field_at(Rig, path)
    if field is None:
        raise KeyError(key)
    return Setting(key, field)
