"""Probe: one motor is told something by itself while all others rest. The shakedown asks for it."""

from __future__ import annotations

import numpy as np

from pivrex.line.given import Given
from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout
from pivrex.line.stage import Floats, Rung, named
from pivrex.line.told import Told
from pivrex.rig.rig import Rig

__all__ = ["Probe", "probed"]


def probed(drive: Floats, motor: Floats, duty: Floats) -> Floats:
    """Give the drives of all motors, B + (M,), where one may be probed.

    Parameters
    ----------
    drive : B + (M,) float64
        What the line asks of them.
    motor : B float64
        Which one is probed, from 1; 0 for none: then the line's drives stay.
    duty : B float64
        What it is told, in [-1, 1], in the port's own sense.

    Returns
    -------
    B + (M,) float64
    """
    alone = np.where(np.arange(1, drive.shape[-1] + 1) == motor[..., None], duty[..., None], 0.0)
    return np.where(motor[..., None] > 0, alone, drive)


class Probe(Given):
    """Which motor is probed, and its duty: none, unless somebody enters and says so."""

    name = "probe"
    columns = named("probe", ("motor", ""), ("duty", ""))

    def __init__(self, rig: Rig) -> None:
        self._motors = rig.motor_names

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Probe:
        return cls(rig)

    def place(self, layout: Layout) -> None:
        self.entry = layout.stage("probe")

    def rungs(self, told: Told) -> list[Rung]:
        motor = int(told("probe", "motor"))
        if not motor:
            return []
        return [
            Rung("probe", f"only motor {self._motors[motor - 1]} is told anything → duty {told('probe', 'duty'):+.3f}")
        ]
