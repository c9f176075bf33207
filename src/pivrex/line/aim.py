"""Aim: a heading that another part than the driver requests."""

from __future__ import annotations

from pivrex.kernels.records import Form, Number, Record, field
from pivrex.line.input_stages import InputStage
from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout
from pivrex.line.stage import named
from pivrex.rig.rig import Rig

__all__ = ["Aim", "AimColumns"]


class AimColumns(Record):
    """The heading that another than the driver asks for, how fast it moves, and whether one asks."""

    heading: Number = field(unit="rad")
    rate: Number = field(unit="rad/s")
    entered: Number = field()


class Aim(InputStage):
    """The heading that someone next to the driver asks for, and how fast it moves: none, unless one enters and says so."""

    name = "aim"
    columns = named("aim", ("heading", "rad"), ("rate", "rad/s"), ("entered", ""))
    form = Form(AimColumns)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Aim | None:
        return cls() if rig.gyro is not None and rig.correction is not None else None

    def place(self, layout: Layout) -> None:
        self.entry, self.entered = layout.these("aim", ("heading", "rate")), layout.at("aim", "entered")
