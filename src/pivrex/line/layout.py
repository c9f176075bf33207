"""The layout of a Tick: the place, name and unit of each number in its row."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["Column", "Floats", "Layout", "plain"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Column:
    """One number of a Tick.

    Attributes
    ----------
    stage : str
        The stage that writes it.
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
    """The columns of a rig's Ticks; fixed once by the rig. Columns of one stage stand together."""

    def __init__(self, columns: Iterable[Column]) -> None:
        self.columns = tuple(columns)
        self.titles = tuple(c.title for c in self.columns)
        self._places = {(c.stage, c.name): i for i, c in enumerate(self.columns)}
        self._slices: dict[str, slice] = {}
        for i, column in enumerate(self.columns):
            before = self._slices.get(column.stage)
            if before is not None and before.stop != i:
                raise ValueError(f"the columns of {column.stage} do not stand together")
            self._slices[column.stage] = slice(before.start if before is not None else i, i + 1)
        if len(self._places) != len(self.columns):
            raise ValueError("two columns of one name")

    def __len__(self) -> int:
        return len(self.columns)

    def at(self, stage: str, name: str) -> int:
        """Return the place of a column in the row; raises `KeyError` for one that is not there."""
        return self._places[stage, name]

    def has(self, stage: str, name: str) -> bool:
        """Return whether there is such a column."""
        return (stage, name) in self._places

    def stage(self, stage: str) -> slice:
        """Return the places of a whole stage; empty if there is no such stage."""
        return self._slices.get(stage, slice(0, 0))

    def these(self, stage: str, names: Iterable[str]) -> slice:
        """Return the places of columns that stand next to each other; raises `ValueError` if they do not."""
        at = [self.at(stage, name) for name in names]
        if not at:
            return slice(0, 0)
        if at != list(range(at[0], at[0] + len(at))):
            raise ValueError(f"columns of {stage} do not stand next to each other")
        return slice(at[0], at[-1] + 1)


def plain(name: str) -> str:
    """Make a person's name fit for a column: spaces become underscores."""
    return name.replace(" ", "_")
