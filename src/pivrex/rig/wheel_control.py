"""Wheel speed control: from a commanded wheel speed to a motor's drive."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.quantities import Quantity

__all__ = ["WheelControl"]

_Share = Annotated[float, Quantity("fraction", at_least=0, at_most=1, step="0.5 %")]
_Gain = Annotated[float, Quantity("number", at_least=0, at_most=100, step="0.05")]


class WheelControl(Table):
    """How each driving motor gets to its wheel's speed. Shares are of full drive, speeds of the wheel's top speed."""

    wheels: Literal["open", "feedforward", "pid"] = Field(
        default="open",
        description="open: the drive is the share of top speed. feedforward: the drive for friction, speed and acceleration is "
        "computed. pid: the same, and a loop with the encoder corrects the remaining error.",
        examples=["feedforward"],
    )
    static: _Share | None = Field(
        default=None, description="The drive for friction; each motor's `smallest` if left out.", examples=["4 %"]
    )
    speed: _Share | None = Field(
        default=None,
        description="The drive for top speed in addition to that; if left out, the rest of full drive.",
        examples=["96 %"],
    )
    acceleration_s: Annotated[float, Quantity("time", at_least=0, at_most=5, step="5 ms")] | None = Field(
        default=None,
        alias="acceleration",
        description="The drive for an acceleration: full drive for one from rest to top speed in this time; `lag` if left out.",
        examples=["90 ms"],
    )
    p: _Gain = Field(
        default=1.5, description="P: drive for each share of top speed of the error. No unit.", examples=[1.5]
    )
    i: _Gain = Field(default=2.0, description="I: drive for each share of the error in a second, in 1/s.", examples=[2])
    d: Annotated[float, Quantity("number", at_least=0, at_most=10, step="0.005")] = Field(
        default=0.0, description="D: drive for each share of top speed per second of the error, in s.", examples=[0]
    )
    i_limit: _Share = Field(
        default=0.2, description="The limit of the I term, as drive in both directions.", examples=["30 %"]
    )
    speed_filter_s: Annotated[float, Quantity("time", at_least=0, at_most=1, step="5 ms")] = Field(
        default=0.02,
        alias="speed_filter",
        description="The time over which the measured speed is averaged.",
        examples=["20 ms"],
    )
    compensate: Literal["off", "on"] = Field(
        default="on",
        description="Whether the drive is raised when the battery sags; only if its voltage is sensed (battery.sensed).",
        examples=["on"],
    )
