"""The ground of every table in a rig file: frozen, no unknown keys, and mistakes that name their key."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, model_validator
from pydantic_core import InitErrorDetails, PydanticCustomError, ValidationError

__all__ = ["Table"]


class Table(BaseModel):
    """A table of a rig file. ``mistakes()`` says what is wrong between its keys once each key is right by itself."""

    model_config = ConfigDict(
        frozen=True, extra="forbid", populate_by_name=False, allow_inf_nan=False,
        defer_build=True,  # the whole rig builds what it needs of its tables; to build each by itself too takes twice as long
    )  # fmt: skip

    def mistakes(self) -> list[tuple[str, str]]:
        """Give pairs of a key in this table (dotted, may be empty) and what is wrong there."""
        return []

    @model_validator(mode="after")
    def _refuse(self) -> Table:
        found = self.mistakes()
        if found:
            details: list[InitErrorDetails] = [
                {
                    "type": PydanticCustomError("mistake", "{what}", {"what": what}),
                    "loc": tuple(int(k) if k.isdigit() else k for k in key.split(".")) if key else (),
                    "input": None,
                }
                for key, what in found
            ]
            raise ValidationError.from_exception_data(type(self).__name__, details)
        return self
