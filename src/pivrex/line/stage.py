"""What a stage of the line is: one object with its settings, its columns, its state, its step and what it tells."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from pivrex.line.inputs import Inputs
from pivrex.line.layout import Column, Floats, Layout
from pivrex.line.told import Told
from pivrex.rig.rig import Rig

__all__ = ["PRESSED", "Floats", "Rung", "Stage", "cleaned", "named", "some"]

PRESSED = 0.5
"""A button counts as pressed from here on; buttons read 0 to 1."""


@dataclass(frozen=True)
class Rung:
    """One step of the derivation of a wheel's output.

    Attributes
    ----------
    stage : str
        What happens here, in a word.
    text : str
        With its numbers; what goes in stands before the arrow, what comes out behind it.
    setting : str
        The dotted key of the rig that shaped it; empty if none does.
    note : str
        What a student should look at; empty when all is well.
    """

    stage: str
    text: str
    setting: str = ""
    note: str = ""


class Stage:
    """One stage of a rig's line.

    It reads columns of a Tick's row that stand before its own, and writes its own. The row is B + (K,), for any batch
    shape B; state is a tuple of arrays that begin with B, and never changes in place.

    Attributes
    ----------
    name : str
        Of its columns in the Tick.
    reads : tuple of str
        The groups of columns that it reads.
    settings
        A frozen record of numbers and arrays of numbers, so that it can be written out in another language.
    columns : tuple of Column
    kept_while : tuple
        Its state lives on in a changed rig whose stage of this name has the same here.
    """

    name: ClassVar[str]
    reads: tuple[str, ...] = ()
    entry: Any = None
    """The places of what somebody else may ask for instead; see `pivrex.line.entry`."""
    entered: int = -1
    """The place of whether somebody did."""
    settings: Any = None
    columns: tuple[Column, ...] = ()
    looks_back: ClassVar[bool] = False
    """Whether it has `afterwards`."""
    kept_while: tuple[object, ...] = ()

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Stage | None:
        """Make the stage of a rig; None if the rig has no use for it."""
        raise NotImplementedError

    @property
    def remembers(self) -> bool:
        """Whether it has a state."""
        return bool(self.start(()))

    def place(self, layout: Layout) -> None:
        """Find where in the row its columns and those that it reads stand."""

    def start(self, batch: tuple[int, ...]) -> Any:
        """Give the state before the first tick, for a batch of shape ``batch``."""
        return ()

    def step(self, state: Any, row: Floats) -> Any:
        """Write its columns into the row; gives the state after the tick."""
        raise NotImplementedError

    def afterwards(self, state: Any, row: Floats) -> Any:
        """Give the state once the whole tick is made: for a stage that remembers what later ones said (`looks_back`)."""
        return state

    def run(self, state: Any, rows: Floats, counts: Sequence[bool]) -> Any:
        """Write its columns into the rows, (N, K), of N ticks of one robot; gives the state after them.

        Those that do not count leave no trace. A stage whose memory is often idle may have a quicker way with the same
        bits.
        """
        if not self.remembers:
            self.step(state, rows)
            return state
        for row, counted in zip(rows, counts, strict=True):
            after = self.afterwards(self.step(state, row), row)
            state = after if counted else state
        return state

    @staticmethod
    def before(counts: Sequence[bool]) -> tuple[Any, int]:
        """Give for each of N ticks the last one before it that counts, -1 for none, and the last of all that counts."""
        last = np.maximum.accumulate(np.where(counts, np.arange(len(counts)), -1))
        return np.concatenate(([-1], last[:-1])), int(last[-1])

    def keep(self, other: Stage, state: Any, batch: tuple[int, ...]) -> Any:
        """Give the state to go on with after the rig was changed, from that of the stage ``other`` of the rig before."""
        return state if other.kept_while == self.kept_while else self.start(batch)

    # --- what it tells ---

    def phrases(self, told: Told) -> list[str]:
        """Give its parts of the sentence that derives a wheel's output."""
        return []

    def rungs(self, told: Told) -> list[Rung]:
        """Give its rungs of the ladder."""
        return []


def some(flags: Any) -> bool:
    """Tell whether any of an array is not zero; for a single robot much quicker than numpy's own ways."""
    return bool(flags) if flags.ndim == 0 else bool(np.count_nonzero(flags))


def cleaned(values: Floats, dust: float) -> Floats:
    """Make what is only rounding nothing."""
    kept: Floats = values * (np.abs(values) >= dust)
    return kept


def named(stage: str, *names: tuple[str, str]) -> tuple[Column, ...]:
    """Make a stage's columns from names and units."""
    return tuple(Column(stage, name, unit) for name, unit in names)
