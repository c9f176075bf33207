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
        description="What says how far it has turned: the gyro, where the rig has one, or the wheels alone.",
        examples=["gyro"],
    )
    scrub: Annotated[float, Quantity("number", at_least=0.5, at_most=5, step="0.01")] = Field(
        default=1.0,
        description="Effective track ratio, how many times wider its track acts than it is: wheels that are dragged while it turns say more "
        "turn than there is. `pivrex learn` measures it.",
        examples=[1.35],
    )
    pivot_m: Annotated[float, Quantity("length", at_least=-10, at_most=10, step="1 mm")] | None = Field(
        default=None,
        alias="pivot",
        description="How far ahead of its centre the point lies about which it turns, if its wheels are dragged sideways while it turns: "
        "towards the heavier axle. Turn it on the spot, and look which point stays; 0 if left out.",
        examples=["-40 mm"],
    )
    pivot_error_m: Annotated[float, Quantity("length", at_least=0, at_most=10, step="1 mm")] | None = Field(
        default=None,
        alias="pivot_error",
        description="The standard deviation of that point: it moves with speed and load. If left out an eighth of the distance from axle to "
        "axle, a quarter where pivot is left out.",
        examples=["20 mm"],
    )
    way: _Share = Field(
        default=0.01,
        description="Scale error of every distance, as a share of it: tyres that are worn, a floor that lets them slide.",
        examples=["1 %"],
    )
    turning: _Share = Field(
        default=0.005,
        description="Scale error of every turn, as a share of it: of a gyro its scale, of wheels their track.",
        examples=["0.5 %"],
    )
    drift_rad_s: Annotated[float, Quantity("turn rate", at_least=0, at_most=1, step="0.01 deg/s")] = Field(
        default=radians(0.05),
        alias="drift",
        description="How fast a gyro turns that stands still.",
        examples=["0.05 deg/s"],
    )
    rough_m: Annotated[float, Quantity("length", at_least=0, at_most=1, step="1 mm")] = Field(
        default=0.006,
        alias="rough",
        description="Standard deviation after a metre; after four metres twice that.",
        examples=["6 mm"],
    )
