"""The definition of a stage: one object with its settings, its columns, its state and its explanation. Its kernel comes first in its file."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

from pivrex.kernels.records import Form, Numbers, Record, field
from pivrex.line.inputs import Inputs
from pivrex.line.layout import Column, Floats, Layout
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.rig import Rig

__all__ = ["PRESSED", "Floats", "Fractions", "Rung", "Stage", "named"]

PRESSED = 0.5
"""A button counts as pressed from here on; buttons read 0 to 1."""


class Fractions(Record):
    """The result of a shaping stage for each function of the law, in [-1, 1]."""

    value: Numbers = field("functions")


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

    Its kernel reads columns of the Tick that stand before its own, and writes its own; it reads the state of the tick before and
    writes that of this one. `pivrex.line.tick` calls it.

    Attributes
    ----------
    name : str
        Of its columns in the Tick.
    settings : Record
        Numbers from the rig.
    columns : tuple of Column
    form : Form
        How its columns stand, as its kernel knows them.
    memory : Form or None
        How its state stands, for a stage that remembers something.
    begins : mapping
        What of its state is not 0 before the first tick.
    scratch : Form or None
        Where its kernel computes, for one that needs a place.
    kept_while : tuple
        Its state lives on in a changed rig whose stage of this name has the same here.
    """

    name: ClassVar[str]
    entry: Any = None
    """The places of what another than the controls may ask for instead; see `pivrex.line.entry`."""
    entered: int = -1
    """The place of whether one did."""
    settings: Any = None
    columns: tuple[Column, ...] = ()
    form: Form
    memory: Form | None = None
    begins: Mapping[str, Any] = {}
    scratch: Form | None = None
    kept_while: tuple[object, ...] = ()

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Stage | None:
        """Make the stage of a rig; None if the rig has no use for it."""
        raise NotImplementedError

    def place(self, layout: Layout) -> None:
        """Find where in the row its columns and those that it reads stand."""

    def start(self, batch: tuple[int, ...]) -> Any:
        """Return the state before the first tick, for a batch of shape ``batch``; None for a stage that remembers nothing."""
        return self.memory.of(batch, **self.begins) if self.memory is not None else None

    def keep(self, other: Stage, state: Any, batch: tuple[int, ...]) -> Any:
        """Return the next state after the rig was changed, from the state of the stage ``other`` of the rig before."""
        return state if other.kept_while == self.kept_while else self.start(batch)

    # --- explanation ---

    def phrases(self, tick: WheelTick) -> list[str]:
        """Return its parts of the sentence that derives a wheel's output."""
        return []

    def rungs(self, tick: WheelTick) -> list[Rung]:
        """Return its rungs of the ladder."""
        return []


def named(stage: str, *names: tuple[str, str]) -> tuple[Column, ...]:
    """Make a stage's columns from names and units."""
    return tuple(Column(stage, name, unit) for name, unit in names)
