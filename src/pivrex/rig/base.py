"""The base of every table in a rig file: frozen, no unknown keys, and mistakes that name their key."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, model_validator
from pydantic_core import InitErrorDetails, PydanticCustomError, ValidationError

__all__ = ["Table", "counted", "place_of"]


class Table(BaseModel):
    """A table of a rig file. ``mistakes()`` says what is wrong between its keys once each key is right by itself."""

    model_config = ConfigDict(
        frozen=True, extra="forbid", populate_by_name=False, allow_inf_nan=False,
        defer_build=True,  # the whole rig builds its tables; building each by itself too takes twice as long
    )  # fmt: skip

    def mistakes(self) -> list[tuple[str, str]]:
        """Return pairs of a key in this table (dotted, may be empty) and what is wrong there."""
        return []

    @model_validator(mode="after")
    def _refuse(self) -> Table:
        found = self.mistakes()
        if found:
            details: list[InitErrorDetails] = [
                {
                    "type": PydanticCustomError("mistake", "{what}", {"what": what}),
                    "loc": place_of(self, key),
                    "input": None,
                }
                for key, what in found
            ]
            raise ValidationError.from_exception_data(type(self).__name__, details)
        return self


def place_of(table: Table, key: str) -> tuple[str | int, ...]:
    """Return where a dotted key stands in a table: what counts in a list is a number, and a name may hold digits and dots of its own."""
    at: object = table
    found: list[str | int] = []
    parts = key.split(".") if key else []
    while parts:
        if isinstance(at, list | tuple):
            index = int(parts.pop(0))
            found.append(index)
            at = at[index] if index < len(at) else None
            continue
        if isinstance(at, dict):
            # names are a person's own: the longest that is there
            whole = (n for n in range(len(parts), 0, -1) if ".".join(parts[:n]) in at)
            count = next(whole, 1)
            name, parts = ".".join(parts[:count]), parts[count:]
            at = at.get(name)
        else:
            name = parts.pop(0)
            fields = type(at).model_fields if isinstance(at, BaseModel) else {}
            at = getattr(at, next((n for n, f in fields.items() if (f.alias or n) == name), name), None)
        found.append(name)
    return tuple(found)


def counted(key: str) -> str:
    """Write a dotted key for people: entries of lists count from 1, as a letter a digit stays itself."""
    letters, _, rest = key.partition(".letters.")
    shown = ".".join(str(int(part) + 1) if part.isdigit() else part for part in letters.split("."))
    return f"{shown}.letters.{rest}" if rest else shown
