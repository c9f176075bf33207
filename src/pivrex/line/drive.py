"""Drive: from wheel speeds to each motor's drive, with its polarity; none while the robot brakes or coasts."""

from __future__ import annotations

import numpy as np

from pivrex.kernels.records import Form, Numbers, Record, Whole, field
from pivrex.kernels.subset import kernel
from pivrex.line.bindings import BindingsColumns, column_of
from pivrex.line.inputs import Inputs
from pivrex.line.law import HALTS, LawColumns, are_halted, halts
from pivrex.line.layout import plain
from pivrex.line.motion import row_sum
from pivrex.line.probe import ProbeColumns
from pivrex.line.stage import Rung, Stage, named
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.rig import Rig

__all__ = ["Drive", "DriveColumns", "DriveSettings", "drive_step"]


class DriveSettings(Record):
    """D driving motors of W wheels.

    Attributes
    ----------
    share : (D, W)
        Each motor's drive from its wheels' surface speeds in m/s: the mean of speed/top, with the motor's polarity.
    polarity : (D,)
        -1 for a reversed motor.
    brake, coast : int
        The columns of the bindings, -1 for none.
    """

    is_settings = True

    share: Numbers = field("motors", "wheels", unit="s/m")
    polarity: Numbers = field("motors")
    brake: Whole = field()
    coast: Whole = field()


class DriveColumns(Record):
    """The drive of all motors, in [-1, 1], those that drive before those that steer."""

    drive: Numbers = field("drives")


@kernel
def drive_step(
    s: DriveSettings, bindings: BindingsColumns, law: LawColumns, speeds: Numbers, controlled: Numbers, is_controlled: bool,
    steering: Numbers, probe: ProbeColumns, out: DriveColumns,
) -> None:  # fmt: skip
    """Write the drive of each motor with its polarity: from its control, else its share of top speed. While the robot brakes or coasts
    the wheels get none. Where one motor is probed all others rest.
    """
    motors = len(s.polarity)
    halted = are_halted(bindings, s.brake, s.coast, law.entered)
    for k in range(len(out.drive)):
        if k >= motors:
            out.drive[k] = steering[k - motors]
        elif halted:
            out.drive[k] = 0.0
        else:
            out.drive[k] = (
                controlled[k] * s.polarity[k] if is_controlled else row_sum(s.share[k], speeds, len(s.share[k]))
            )
        if probe.motor > 0.0:
            out.drive[k] = probe.duty if probe.motor == 1.0 * (k + 1) else 0.0


class Drive(Stage):
    """The drive of all M motors, in [-1, 1], those that drive before those that steer."""

    name = "drive"

    def __init__(self, rig: Rig, inputs: Inputs) -> None:
        wheels = [w.name for w in rig.chassis.wheels]
        share = np.zeros((len(rig.motors), len(wheels)))
        polarity = [-1.0 if m.reversed else 1.0 for m in rig.motors.values()]
        for m, motor in enumerate(rig.motors.values()):
            for wheel in motor.wheels:
                share[m, wheels.index(wheel)] = polarity[m] / len(motor.wheels) / rig.wheel_top_m_s(wheel)
        self.settings: DriveSettings = Form(DriveSettings, motors=len(polarity), wheels=len(wheels)).of(
            share=share, polarity=polarity, brake=column_of(rig, inputs, "brake"), coast=column_of(rig, inputs, "coast")
        )
        self.form = Form(DriveColumns, drives=len(rig.motor_names))
        self.columns = named("drive", *((plain(m), "") for m in rig.motor_names))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Drive:
        return cls(rig, inputs)

    # --- explanation ---

    def _halted(self, tick: WheelTick) -> str:
        """The reason for no drive: "brake", "coast" or both; empty if there is none."""
        if not halts(tick.line.layout, tick.row):
            return ""
        return " and ".join(n for n in HALTS if tick.get("bindings", n))

    def phrases(self, tick: WheelTick) -> list[str]:
        halted = self._halted(tick)
        return [f"{halted}: no loop, no drive"] if halted else []

    def rungs(self, tick: WheelTick) -> list[Rung]:
        halted = self._halted(tick)
        return (
            [Rung("drive", f"{halted}: the wheels get no drive, whatever loops command", "", f"! {halted}")]
            if halted
            else []
        )
