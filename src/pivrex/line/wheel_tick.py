"""One Tick for the why of a wheel: its numbers by name, and the function that matters most."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, Protocol

from pivrex.line.inputs import Inputs
from pivrex.line.layout import Floats, Layout, plain
from pivrex.rig.channels import is_one_sided
from pivrex.rig.rig import Rig

__all__ = ["TickLine", "WheelTick", "turning"]

NOTHING = 0.0005
"""What would be written as 0.000."""


class TickLine(Protocol):
    """The part of a `pivrex.line.line.Line` that the why needs."""

    rig: Rig
    layout: Layout
    wheels: tuple[str, ...]
    inputs: Inputs

    @property
    def stages(self) -> Mapping[str, Any]: ...

    @property
    def law(self) -> Any: ...


class WheelTick:
    """A Tick's row, for the why of one wheel.

    Attributes
    ----------
    line : Telling
    row : (K,) float64
    wheel : str
    w : int
        The wheel's place in the chassis.
    terms : dict of str to float
        What each function of the law adds to the wheel's speed, in m/s; see `pivrex.line.law`.
    by_stick : bool
        Whether the wheel's speed is derived from the sticks; else from a button, a letter or a motion from elsewhere.
    """

    def __init__(self, line: TickLine, row: Floats, wheel: str) -> None:
        self.line, self.row, self.wheel = line, row, wheel
        self.w = line.wheels.index(wheel)
        self.column = plain(wheel)
        self.terms = line.law.terms(self)
        self.main = max(self.terms, key=lambda f: abs(self.terms[f]))
        self.by_stick = not line.law.from_elsewhere(self)

    def __call__(self, stage: str, name: str) -> float:
        """Return a number of the Tick; what would be written as -0.000 is 0."""
        value = float(self.row[self.line.layout.at(stage, name)])
        return 0.0 if abs(value) < NOTHING else value

    def get(self, stage: str, name: str, otherwise: float = 0.0) -> float:
        """Return a number of the Tick that not every rig has."""
        return self(stage, name) if self.line.layout.has(stage, name) else otherwise

    def speed(self, speed: float, digits: int = 2, sign: str = "") -> str:
        """Write the speed of a wheel, in m/s; on a bench that of a motor, in rad/s, as rpm."""
        if self.line.rig.is_bench:
            return f"{speed * 30 / math.pi:{sign}.0f} rpm"
        return f"{speed:{sign}.{digits}f} m/s"

    @property
    def by_motion(self) -> bool:
        """Whether the wheel is derived from the whole motion, where the functions do not simply add up."""
        turned = any(
            abs(self("law", n) - self.get("frame", n, self("law", n))) > NOTHING for n in ("forward", "left", "turn")
        )
        corrected = abs(self.get("correction", "output")) > NOTHING
        return bool(
            corrected
            or self("law", "entered")
            or "steering" in self.line.stages
            or turned
            or self.get("heading", "upside_down")
        )

    @property
    def control(self) -> str:
        """The control in the hand: "forward stick"."""
        rig = self.line.rig
        channel = rig.channel(rig.law.axes()[self.main])
        return f"{self.main} {'trigger' if is_one_sided(channel) else 'stick'}"

    def of_function(self, stage: str) -> tuple[float, str]:
        """Return the main function's value at a stage; a turn is written as left or right, without a sign."""
        value = self(stage, self.main)
        if self.main != "turn":
            return value, ""
        return abs(value), " left" if value > 0 else " right" if value < 0 else ""


def turning(deg_s: float) -> str:
    """Say a rate of turn in words."""
    return f"{abs(deg_s):.1f} deg/s" + (" left" if deg_s > 0.05 else " right" if deg_s < -0.05 else "")
