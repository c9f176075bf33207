"""Following: the speed on paths, and the loops that bring the robot back to them."""

from __future__ import annotations

from math import radians
from typing import Annotated, Literal

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.quantities import Quantity

__all__ = ["Following", "Loop"]

_Gain = Annotated[float, Quantity("number", at_least=0, at_most=100, step="0.1")]


class Loop(Table):
    """One of the errors that are corrected: along the path, across it, or of the heading."""

    p: _Gain = Field(default=3.0, description="P: output for each unit of the error, in 1/s.", examples=[3])
    i: _Gain = Field(
        default=0.0, description="I: output for each unit of the error in a second, in 1/s².", examples=[0.5]
    )
    d: _Gain = Field(default=0.0, description="D: share of the rate at which the error grows. No unit.", examples=[0.1])


class Following(Table):
    """How paths are driven: within which limits, and with which gains the three errors are corrected."""

    speed_m_s: Annotated[float, Quantity("speed", above=0, at_most=100, step="0.05 m/s")] | None = Field(
        default=None, alias="speed", description="Maximum speed; 80 % of full if left out.", examples=["0.8 m/s"]
    )
    acceleration_m_s2: Annotated[float, Quantity("acceleration", above=0, at_most=100, step="0.1 m/s/s")] = Field(
        default=1.0, alias="acceleration", description="How fast the speed may change.", examples=["1 m/s/s"]
    )
    turn_rad_s: Annotated[float, Quantity("turn rate", above=0, at_most=100, step="10 deg/s")] | None = Field(
        default=None, alias="turn", description="Maximum turn; 80 % of full if left out.", examples=["180 deg/s"]
    )
    turn_acceleration_rad_s2: Annotated[
        float, Quantity("turn acceleration", above=0, at_most=1e4, step="20 deg/s/s")
    ] = Field(
        default=radians(360),
        alias="turn_acceleration",
        description="How fast the turn rate may change.",
        examples=["360 deg/s/s"],
    )
    sideways_m_s2: Annotated[float, Quantity("acceleration", above=0, at_most=100, step="0.1 m/s/s")] = Field(
        default=2.0,
        alias="sideways",
        description="The largest sideways acceleration in a bend: less than the tyres' grip. A tyre with a friction coefficient"
        " of 0.5 slides at 4.9 m/s/s.",
        examples=["2 m/s/s"],
    )
    wheel_acceleration_m_s2: Annotated[float, Quantity("acceleration", above=0, at_most=1000, step="0.1 m/s/s")] = (
        Field(
            default=2.5,
            alias="wheel_acceleration",
            description="How fast the speed of a wheel on the ground may change.",
            examples=["2.5 m/s/s"],
        )
    )
    reserve: Annotated[float, Quantity("fraction", at_least=0, at_most=0.9, step="5 %")] = Field(
        default=0.1, description="The share of each wheel's speed that is kept for corrections.", examples=["10 %"]
    )
    along_track: Loop = Field(default=Loop(), description="Along-track error: behind or ahead of the plan.")
    cross_track: Loop = Field(
        default=Loop(),
        description="Cross-track error: left or right of it. A two-sided robot corrects that by turning, in proportion to its speed: "
        "p is in 1/m² then, 4 times what stands here; i and d mean nothing.",
    )
    heading: Loop = Field(
        default=Loop(p=4.0, i=8.0),
        description="Heading error. Of a two-sided robot p is for each metre driven, and i and d are on the error of the rate of turn: "
        "tyres that are dragged turn it slower than its wheels say.",
    )
    lost_m: Annotated[float, Quantity("length", above=0, at_most=100, step="5 cm")] = Field(
        default=0.5,
        alias="lost",
        description="If the robot is farther from its plan than this, it is lost.",
        examples=["0.5 m"],
    )
    when_lost: Literal["stop", "wait"] = Field(
        default="stop",
        description="What the robot does then: stop with a message, or let the plan wait and drive back to it.",
        examples=["stop"],
    )
