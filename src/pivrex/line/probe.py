"""Probe: one motor gets a command while all others rest, for the shakedown."""

from __future__ import annotations

from pivrex.kernels.records import Form, Number, Record, field
from pivrex.line.input_stages import InputStage
from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout
from pivrex.line.stage import Rung, named
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.rig import Rig

__all__ = ["Probe", "ProbeColumns"]


class ProbeColumns(Record):
    """Which motor is probed, from 1, 0 for none; and its duty, in [-1, 1], in the port's own sense."""

    motor: Number = field()
    duty: Number = field()


class Probe(InputStage):
    """Which motor is probed, and its duty: none, unless someone enters and says so."""

    name = "probe"
    columns = named("probe", ("motor", ""), ("duty", ""))

    def __init__(self, rig: Rig) -> None:
        self._motors = rig.motor_names
        self.form = Form(ProbeColumns)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Probe:
        return cls(rig)

    def place(self, layout: Layout) -> None:
        self.entry = layout.stage("probe")

    def rungs(self, tick: WheelTick) -> list[Rung]:
        motor = int(tick("probe", "motor"))
        if not motor:
            return []
        return [Rung("probe", f"only motor {self._motors[motor - 1]} is commanded → duty {tick('probe', 'duty'):+.3f}")]
