"""Odometry: the inputs of the estimated pose, and their errors."""

from __future__ import annotations

from math import radians
from typing import Annotated, Literal

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.quantities import Quantity

__all__ = ["Odometry"]

_Share = Annotated[float, Quantity("fraction", at_least=0, at_most=1, step="0.1 %")]


class Odometry(Table):
    """The robot's estimated pose: the distances of its wheels and its turns, added up. The rest is its covariance,
    one sigma each.
    """

    turn: Literal["gyro", "wheels"] = Field(
        default="gyro",
        description="What measures its turn: the gyro, if the rig has one, or the wheels alone.",
        examples=["gyro"],
    )
    scrub: Annotated[float, Quantity("number", at_least=0.5, at_most=5, step="0.01")] = Field(
        default=1.0,
        description="Effective track ratio: how many times wider the track acts than it is. Wheels that slide sideways measure "
        "a larger turn than the true one. `pivrex learn` measures it.",
        examples=[1.35],
    )
    pivot_m: Annotated[float, Quantity("length", at_least=-10, at_most=10, step="1 mm")] | None = Field(
        default=None,
        alias="pivot",
        description="The distance forward of the centre of the point about which it turns, if its wheels slide sideways: toward"
        " the heavier axle. Turn it on the spot, and look which point does not move; 0 if left out.",
        examples=["-40 mm"],
    )
    pivot_error_m: Annotated[float, Quantity("length", at_least=0, at_most=10, step="1 mm")] | None = Field(
        default=None,
        alias="pivot_error",
        description="The standard deviation of that point: it moves with speed and load. If left out, an eighth of the distance"
        " from axle to axle, or a quarter if pivot is left out.",
        examples=["20 mm"],
    )
    way: _Share = Field(
        default=0.01,
        description="Scale error of every distance, as a share of it: from worn tyres, or a floor on which they slide.",
        examples=["1 %"],
    )
    turning: _Share = Field(
        default=0.005,
        description="Scale error of every turn, as a share of it: from the gyro's scale, or from the track of the wheels.",
        examples=["0.5 %"],
    )
    drift_rad_s: Annotated[float, Quantity("turn rate", at_least=0, at_most=1, step="0.01 deg/s")] = Field(
        default=radians(0.05), alias="drift", description="The gyro's drift at rest.", examples=["0.05 deg/s"]
    )
    rough_m: Annotated[float, Quantity("length", at_least=0, at_most=1, step="1 mm")] = Field(
        default=0.006,
        alias="rough",
        description="Standard deviation after a metre; after four metres twice that.",
        examples=["6 mm"],
    )
