"""Commands too small to move: a function whose full stick gives a motor less than its smallest duty, at a speed level and with its scale."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pivrex.line.control import Control
from pivrex.line.kinematics import kinematics_of
from pivrex.line.layout import Floats
from pivrex.line.wheel_tick import TickLine

__all__ = ["TooLittle", "too_little"]


@dataclass(frozen=True)
class TooLittle:
    """A function that only makes a motor hum.

    Attributes
    ----------
    function, motor : str
    level : int
        The speed level at which it is so.
    level_name : str
        Empty where there is only one.
    drive, smallest : float
        What a full stick gives the motor, and what turns its wheel, as shares of full drive.
    """

    function: str
    motor: str
    level: int
    level_name: str
    drive: float
    smallest: float

    @property
    def said(self) -> str:
        """Return the sentence."""
        level = f" at level {self.level_name}" if self.level_name else ""
        return (
            f"{self.function}{level}: a full stick gives {self.motor} {self.drive * 100:.3g} % drive, and less than "
            f"{self.smallest * 100:.3g} % only hums"
        )


def too_little(line: TickLine) -> list[TooLittle]:
    """Find the functions whose full stick is too little, at each speed level, each with the motor that lacks most.

    Notes
    -----
    Drive is the share of top speed that the law asks of the motor's wheels: with V the full speed of the function at the level
    and s its scale, |M·(s·V)|/top. A feedforward adds what friction takes; a loop on the encoder adds as much as is
    missing, so nothing is too little there.
    """
    rig, levels = line.rig, line.rig.speed_levels.levels
    control = line.stages.get("control")
    if isinstance(control, Control) and control.settings.loops:
        return []
    found = []
    for i, level in enumerate(levels):
        for k, function in enumerate(line.law.functions):
            speeds = _speeds(line, k, i)
            each = []
            for m, (name, motor) in enumerate(rig.motors.items()):
                share = abs(np.mean([speeds[line.wheels.index(w)] / rig.wheel_top_m_s(w) for w in motor.wheels]))
                drive = min(1.0, float(share))
                if isinstance(control, Control) and drive > 0:
                    s = control.settings
                    drive = min(1.0, float(s.static[m] + s.speed[m] * drive))
                if 0 < drive < motor.smallest:
                    each.append(
                        TooLittle(function, name, i, level.name if len(levels) > 1 else "", drive, motor.smallest)
                    )
            found += sorted(each, key=lambda one: one.drive / one.smallest)[:1]
    return found


def _speeds(line: TickLine, k: int, level: int) -> Floats:
    """Return what a full stick of function k asks of each wheel, (W,) in m/s, of a steered one along its hub's way; on a bench rad/s."""
    scale, law = line.stages["scale"].settings.scale, line.law
    unit = np.zeros(len(law.functions))
    unit[k] = scale[k]
    if line.rig.is_bench:
        return np.asarray(unit * law.settings.own[level])
    maps = kinematics_of(line.rig.chassis)
    twist = law.function(unit) * law.settings.full[level]
    if maps.hubs is None:
        return np.asarray(maps.inverse @ twist)
    return np.hypot(*(maps.hubs @ twist).T)
