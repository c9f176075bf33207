"""How much single drives of a robot differ; a rehearsal draws these deviations for each drive."""

from __future__ import annotations

from math import radians
from typing import Annotated

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.quantities import Quantity

__all__ = ["Spread"]

_Share = Annotated[float, Quantity("fraction", at_least=0, at_most=0.9, step="1 %")]


class Spread(Table):
    """By how much drives differ, at most, either way; every value in between is as likely."""

    start_m: Annotated[float, Quantity("length", at_least=0, at_most=1, step="1 mm")] = Field(
        default=0.015, alias="start", description="Where the robot is placed, along and across.", examples=["15 mm"]
    )
    heading_rad: Annotated[float, Quantity("angle", at_least=0, at_most=radians(90), step="0.5 deg")] = Field(
        default=radians(1.5),
        alias="heading",
        description="Its heading there; its gyro does not measure this.",
        examples=["1.5 deg"],
    )
    charge: _Share = Field(default=0.3, description="The battery's charge, around `battery.charge`.", examples=["30 %"])
    grip: _Share = Field(
        default=0.15, description="The grip of the floor, as a share of the tyres' grip.", examples=["15 %"]
    )
    mass: _Share = Field(default=0.05, description="Its mass: the can may be full or empty.", examples=["5 %"])
    strength: _Share = Field(
        default=0.04, description="The strength of each motor, so that the sides differ.", examples=["4 %"]
    )
    gyro: _Share = Field(default=0.5, description="Bias, drift and noise of the gyro.", examples=["50 %"])
