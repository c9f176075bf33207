"""Correction: how the gyro holds a heading, and the settings for turning to an angle and driving straight."""

from __future__ import annotations

from math import pi, radians
from typing import Annotated, Literal

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.quantities import Quantity

__all__ = ["Correction", "RateLoop"]

_Gain = Annotated[float, Quantity("number", at_least=0, at_most=50, step="0.05")]


class RateLoop(Table):
    """An inner loop: the heading asks for a rate of turn, and this loop holds that rate. Both at 0 leave it out."""

    p: _Gain = Field(
        default=0.0, description="P: added rate for each unit of the rate error, without a unit.", examples=[0.4]
    )
    i: _Gain = Field(
        default=0.0, description="I: the same for each unit of the error in a second, in 1/s.", examples=[2.0]
    )


class Correction(Table):
    """The heading loop: it turns the robot back to where it should point. It needs a gyro."""

    hold: Literal["off", "on"] = Field(
        default="off",
        description="Whether at the start the heading is held while the driver does not turn. A key changes it while driving.",
        examples=["off"],
    )
    p_per_s: Annotated[float, Quantity("rate", at_least=0, at_most=100, step="0.25 /s")] = Field(
        default=10.0, alias="p", description="P: rate in deg/s for each degree of the error.", examples=["10 /s"]
    )
    i: Annotated[float, Quantity("number", at_least=0, at_most=200, step="0.5")] = Field(
        default=20.0,
        description="I: added rate for each degree of error that lasts for a second, in 1/s²: against a constant pull, such as "
        "a weaker side.",
        examples=[20],
    )
    d: Annotated[float, Quantity("number", at_least=0, at_most=5, step="0.02")] = Field(
        default=0.2,
        description="D: the part of the difference between commanded and measured turn rate that is added: it brakes, but not "
        "against a moving setpoint. No unit.",
        examples=[0.2],
    )
    i_limit_rad_s: Annotated[float, Quantity("turn rate", at_least=0, at_most=10, step="5 deg/s")] = Field(
        default=radians(60),
        alias="i_limit",
        description="The limit of the I term, in both directions.",
        examples=["60 deg/s"],
    )
    i_leak_time_s: Annotated[float, Quantity("time", at_least=0, at_most=60, step="0.25 s")] = Field(
        default=0.0,
        alias="i_leak_time",
        description="The leak time constant: after this time 63 % of an old error has left the I term; 0 for no leak.",
        examples=["4 s"],
    )
    output_limit_rad_s: Annotated[float, Quantity("turn rate", above=0, at_most=20, step="10 deg/s")] = Field(
        default=radians(180),
        alias="output_limit",
        description="The most that is added to the turn, in both directions, also by a cascade. While this limit is active, no "
        "I term grows (anti-windup).",
        examples=["180 deg/s"],
    )
    rate_filter_s: Annotated[float, Quantity("time", at_least=0, at_most=0.5, step="5 ms")] = Field(
        default=0.02,
        alias="rate_filter",
        description="The time over which the measured turn rate is averaged, so that noise is not amplified.",
        examples=["20 ms"],
    )
    capture_below_rad_s: Annotated[float, Quantity("turn rate", above=0, at_most=2, step="1 deg/s")] = Field(
        default=radians(15),
        alias="capture_below",
        description="After the driver has released the turn, a heading is captured when the robot turns slower than this.",
        examples=["15 deg/s"],
    )
    tolerance_rad: Annotated[float, Quantity("angle", above=0, at_most=pi, step="0.1 deg")] = Field(
        default=radians(0.6),
        alias="tolerance",
        description="A turn to an angle ends when the heading error is below this.",
        examples=["0.6 deg"],
    )
    within_s: Annotated[float, Quantity("time", at_least=0, at_most=10, step="50 ms")] = Field(
        default=0.2,
        alias="within",
        description="The heading error must have been below `tolerance` for this long.",
        examples=["200 ms"],
    )
    turn_rate_rad_s: Annotated[float, Quantity("turn rate", above=0, at_most=100, step="10 deg/s")] | None = Field(
        default=None,
        alias="turn_rate",
        description="Maximum turn to an angle; half of the full turn if left out.",
        examples=["120 deg/s"],
    )
    turn_acceleration_rad_s2: Annotated[
        float, Quantity("turn acceleration", above=0, at_most=1e4, step="20 deg/s/s")
    ] = Field(
        default=radians(360),
        alias="turn_acceleration",
        description="How fast this turn rate may change: the setpoint follows a trapezoid.",
        examples=["360 deg/s/s"],
    )
    drive_acceleration_m_s2: Annotated[float, Quantity("acceleration", above=0, at_most=100, step="0.1 m/s/s")] = Field(
        default=1.0,
        alias="drive_acceleration",
        description="How fast the speed of a straight drive may change.",
        examples=["1 m/s/s"],
    )
    rate: RateLoop = Field(default=RateLoop(), description="The inner loop of a cascade.")
