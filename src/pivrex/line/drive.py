"""Drive: from wheel speeds to each motor's drive, with its polarity; none while the robot brakes or coasts."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pivrex.line.inputs import Inputs
from pivrex.line.law import HALTS, halts
from pivrex.line.layout import Layout, plain
from pivrex.line.motion import speeds_at
from pivrex.line.probe import probed
from pivrex.line.stage import Floats, Rung, Stage, named, some
from pivrex.line.told import Told
from pivrex.rig.rig import Rig

__all__ = ["Drive", "DriveSettings", "drive_of", "settings_of"]


@dataclass(frozen=True)
class DriveSettings:
    """``share``, (D, W) float64: each driving motor's drive from its wheels' surface speeds in m/s: the mean of speed/top,
    with the motor's polarity.
    """

    share: Floats


def settings_of(rig: Rig) -> DriveSettings:
    """Take the shares from a rig."""
    wheels = [w.name for w in rig.chassis.wheels]
    share = np.zeros((len(rig.motors), len(wheels)))
    for m, motor in enumerate(rig.motors.values()):
        sign = -1.0 if motor.reversed else 1.0
        for wheel in motor.wheels:
            share[m, wheels.index(wheel)] = sign / len(motor.wheels) / rig.wheel_top_m_s(wheel)
    return DriveSettings(share)


def drive_of(settings: DriveSettings, speeds: Floats) -> Floats:
    """Give each driving motor's drive, B + (D,) in [-1, 1] with its polarity, from wheel surface speeds, B + (W,) in m/s."""
    return np.einsum("mw,...w->...m", settings.share, speeds)


class Drive(Stage):
    """The drive of all M motors, in [-1, 1], those that drive before those that steer."""

    name = "drive"
    reads = ("bindings", "law", "limits", "steering", "control", "probe")

    def __init__(self, rig: Rig) -> None:
        self.settings: DriveSettings = settings_of(rig)
        self._wheels = [plain(w.name) for w in rig.chassis.wheels]
        self._steered = [plain(w) for w in rig.steered]
        self._motors = [plain(m) for m in rig.motors]
        self._polarity = np.array([-1.0 if m.reversed else 1.0 for m in rig.motors.values()])
        self.columns = named("drive", *((plain(m), "") for m in rig.motor_names))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Drive:
        return cls(rig)

    def place(self, layout: Layout) -> None:
        self._speeds, self._probe = speeds_at(layout, self._wheels), layout.stage("probe")
        self._out = layout.stage("drive")
        motors = self._motors if layout.has("control", f"{self._motors[0]}_drive") else []
        self._controlled = layout.these("control", [f"{m}_drive" for m in motors])
        self._driving = slice(self._out.start, self._out.start + len(self.settings.share))
        self._steering = slice(self._driving.stop, self._out.stop)
        self._halts = halts(layout)
        self._turning = layout.these("steering", [f"{w}_drive" for w in self._steered])

    def step(self, state: object, row: Floats) -> object:
        if self._controlled.stop:
            row[..., self._driving] = row[..., self._controlled] * self._polarity
        else:
            row[..., self._driving] = drive_of(self.settings, row[..., self._speeds])
        if self._halts is not None:
            row[..., self._driving] *= self._halts(row)[..., None] == 0
        if self._steered:
            row[..., self._steering] = row[..., self._turning]
        if some(row[..., self._probe.start]):
            motor, duty = row[..., self._probe.start], row[..., self._probe.start + 1]
            row[..., self._out] = probed(row[..., self._out], motor, duty)
        return state

    # --- what it tells ---

    def _halted(self, told: Told) -> str:
        """What leaves no drive: "brake", "coast" or both; empty if nothing does."""
        if self._halts is None or not self._halts(told.row):
            return ""
        return " and ".join(n for n in HALTS if told.get("bindings", n))

    def phrases(self, told: Told) -> list[str]:
        halted = self._halted(told)
        return [f"{halted}: no loop, no drive"] if halted else []

    def rungs(self, told: Told) -> list[Rung]:
        halted = self._halted(told)
        return (
            [Rung("drive", f"{halted}: the wheels get no drive, whatever loops ask for", "", f"! {halted}")]
            if halted
            else []
        )
