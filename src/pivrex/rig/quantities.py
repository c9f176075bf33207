"""A pydantic type for quantities: written with a unit in the file, SI floats inside."""

from __future__ import annotations

from typing import Any

from pydantic import GetCoreSchemaHandler
from pydantic_core import CoreSchema, PydanticCustomError, core_schema

from pivrex.errors import UnitError
from pivrex.units import KINDS, parse, readable

__all__ = ["Quantity", "quoted"]


class Quantity:
    """Marks a float field with its kind (a key of `units.KINDS`, or "number") and what is allowed.

    Used as ``Annotated[float, Quantity("length", above=0)]``; the bounds are in SI units. ``step`` is what one
    fine nudge on the screen changes, as a student writes it.
    """

    def __init__(
        self,
        kind: str,
        above: float | None = None,
        at_least: float | None = None,
        at_most: float | None = None,
        step: str = "",
    ) -> None:
        self.kind, self.above, self.at_least, self.at_most, self.step = kind, above, at_least, at_most, step

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.no_info_plain_validator_function(self._read)

    def sentence(self, like: object = "") -> str:
        """Return what is allowed, in the unit of ``like``, a value as a person wrote it; empty when everything is."""
        bounds = (("more than", self.above), ("at least", self.at_least), ("at most", self.at_most))
        return " and ".join(f"{word} {self.written(bound, like, 4)}" for word, bound in bounds if bound is not None)

    def written(self, si_value: float, like: object = "", digits: int = 6) -> str:
        """Write a value in the unit of ``like``, or of a fine step, or of the kind's example."""
        if self.kind == "number":
            return f"{si_value:g}"
        kind = KINDS[self.kind]
        units = [str(text).strip().lstrip("+-.0123456789").strip() for text in (like, self.step, kind.example)]
        return readable(si_value, self.kind, next(u for u in units if u in kind.units), digits)

    def _read(self, value: object) -> float:
        number = self._number(value)
        broken = (
            (self.above is not None and number <= self.above)
            or (self.at_least is not None and number < self.at_least)
            or (self.at_most is not None and number > self.at_most)
        )
        if broken:
            raise _mistake(f"is {quoted(value)}, but must be {self.sentence(value)}")
        return number

    def _number(self, value: object) -> float:
        if self.kind == "number":
            if isinstance(value, bool) or not isinstance(value, int | float) or not abs(value) < float("inf"):
                raise _mistake(f"is {quoted(value)}, but should be a number")
            return float(value)
        try:
            return parse(value, self.kind)
        except UnitError as problem:
            raise _mistake(str(problem)) from None


def quoted(value: object) -> str:
    """Write a value as it stands in a TOML file."""
    if isinstance(value, bool):
        return str(value).lower()
    return f'"{value}"' if isinstance(value, str) else str(value)


def _mistake(what: str) -> PydanticCustomError:
    return PydanticCustomError("mistake", "{what}", {"what": what})
