"""The layout of a Tick: which number stands where in its row, under which name, in which unit."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

__all__ = ["STAGES", "Column", "Layout"]

STAGES = (
    "clock",
    "sensed",
    "raw",
    "axes",
    "band",
    "curve",
    "scale",
    "rate",
    "bindings",
    "law",
    "frame",
    "wheels",
    "steering",
    "limits",
    "motion",
    "attachments",
    "outputs",
)
"""The stages in the order of the line; every column belongs to one."""


@dataclass(frozen=True)
class Column:
    """One number of a Tick.

    Attributes
    ----------
    stage : str
        One of `STAGES`.
    name : str
        What it is within its stage; spaces of a person's names become underscores.
    unit : str
        Empty for fractions, flags and counts.
    """

    stage: str
    name: str
    unit: str = ""

    @property
    def title(self) -> str:
        """The column's name in files: ``stage.name``, with the unit behind it where there is one."""
        return f"{self.stage}.{self.name}" + (f"_{_SPELLED.get(self.unit, self.unit)}" if self.unit else "")


_SPELLED = {"m/s": "m_s", "rad/s": "rad_s", "deg/s": "deg_s", "us": "us", "mm/s": "mm_s", "%": "percent", "g": "g"}


class Layout:
    """The columns of a rig's Ticks; fixed once by the rig."""

    def __init__(self, columns: Iterable[Column]) -> None:
        self.columns = tuple(columns)
        self.titles = tuple(c.title for c in self.columns)
        self._places = {(c.stage, c.name): i for i, c in enumerate(self.columns)}
        self._slices: dict[str, slice] = {}
        for stage in STAGES:
            at = [i for i, c in enumerate(self.columns) if c.stage == stage]
            self._slices[stage] = slice(at[0], at[-1] + 1) if at else slice(0, 0)
        if len(self._places) != len(self.columns):
            raise ValueError("two columns of one name")

    def __len__(self) -> int:
        return len(self.columns)

    def at(self, stage: str, name: str) -> int:
        """Give the place of a column in the row; raises `KeyError` for one that is not there."""
        return self._places[stage, name]

    def has(self, stage: str, name: str) -> bool:
        """Tell whether there is such a column."""
        return (stage, name) in self._places

    def stage(self, stage: str) -> slice:
        """Give the places of a whole stage."""
        return self._slices[stage]


def plain(name: str) -> str:
    """Make a person's name fit for a column: spaces become underscores."""
    return name.replace(" ", "_")
