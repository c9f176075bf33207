"""A robot that balances: its tilt sensor, and the loops that keep it upright."""

from __future__ import annotations

from math import pi, radians
from typing import Annotated

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.chassis import LARGEST_M
from pivrex.rig.outputs import Pin
from pivrex.rig.quantities import Quantity

__all__ = ["MIN_HZ", "Balance", "BalanceLoop", "Tilt"]

MIN_HZ = 80.0
"""A robot that falls doubles its lean in about 0.15 s: below this rate too little of that time is left to the loops."""

G_M_S2 = 9.81

_Gain = Annotated[float, Quantity("number", at_least=0, at_most=200, step="0.05")]
_Lean = Annotated[float, Quantity("angle", above=0, at_most=pi / 2, step="0.5 deg")]
_G = Annotated[float, Quantity("number", at_least=0, at_most=2, step="0.005")]


class Tilt(Table):
    """The tilt sensor: a gyro for the rate of the lean and two accelerometers, and the filter that makes one lean of them."""

    reversed: bool = Field(
        default=False,
        description="True if it is mounted backward: its lean grows while the robot leans back.",
        examples=[False],
    )
    height_m: Annotated[float, Quantity("length", at_least=0, at_most=LARGEST_M, step="5 mm")] | None = Field(
        default=None,
        alias="height",
        description="Its height above the floor; the axle if left out, where the lean disturbs the accelerometers least.",
        examples=["60 mm"],
    )
    rate_pin: Pin = Field(
        default="",
        description="The analogue pin of the board for the gyro's rate of the lean, for `pivrex board`. Half of the supply "
        "means no rate.",
        examples=["A2"],
    )
    forward_pin: Pin = Field(
        default="", description="The same for the accelerometer that points forward.", examples=["A4"]
    )
    up_pin: Pin = Field(default="", description="The same for the accelerometer that points up.", examples=["A5"])
    per_V_rad_s: Annotated[float, Quantity("turn rate", above=0, at_most=1000)] = Field(  # noqa: N815 - volts
        default=radians(150), alias="per_volt", description="The rate for each volt.", examples=["150 deg/s"]
    )
    g_per_V: Annotated[float, Quantity("number", above=0, at_most=100)] = Field(  # noqa: N815 - volts
        default=1.0, alias="g_per_volt", description="The acceleration in g for each volt.", examples=[1.0]
    )
    blend_s: Annotated[float, Quantity("time", above=0, at_most=60, step="50 ms")] = Field(
        default=1.0,
        alias="blend",
        description="The time constant of the filter. For faster changes the gyro counts, for slower ones the accelerometers. "
        "If it is too short, every acceleration looks like a lean; if it is too long, a gyro bias does.",
        examples=["1 s"],
    )
    bias_time_s: Annotated[float, Quantity("time", at_least=0, at_most=600, step="1 s")] = Field(
        default=10.0,
        alias="bias_time",
        description="How long the filter takes to learn the gyro's bias; 0 to leave it out.",
        examples=["10 s"],
    )
    rest_lean_rad: Annotated[float, Quantity("angle", at_least=-0.3, at_most=0.3, step="0.1 deg")] = Field(
        default=0.0,
        alias="rest_lean",
        description="The filter's lean while the robot balances at rest: the mounting error, once you know it.",
        examples=["0 deg"],
    )
    bias_rad_s: Annotated[float, Quantity("turn rate", at_least=0, at_most=10, step="0.1 deg/s")] = Field(
        default=radians(1.0),
        alias="bias",
        description="The bias of the simulated gyro; each seed draws a value up to this, in both directions. All keys below "
        "belong to the simulated sensor too.",
        examples=["1 deg/s"],
    )
    noise_rad_s: Annotated[float, Quantity("turn rate", at_least=0, at_most=10, step="0.05 deg/s")] = Field(
        default=radians(0.3), alias="noise", description="Noise of the gyro (one sigma).", examples=["0.3 deg/s"]
    )
    level: _G = Field(
        default=0.01,
        description="The bias of the accelerometers, in g; each seed draws a value up to this, in both directions.",
        examples=[0.01],
    )
    shake: _G = Field(default=0.03, description="Noise of the accelerometers, in g (one sigma).", examples=[0.03])
    mounting_error_rad: Annotated[float, Quantity("angle", at_least=-0.3, at_most=0.3, step="0.1 deg")] = Field(
        default=0.0,
        alias="mounting_error",
        description="How far forward the simulated sensor is tilted on the body.",
        examples=["0.8 deg"],
    )

    @property
    def level_m_s2(self) -> float:
        """The bias of the accelerometers."""
        return self.level * G_M_S2

    @property
    def shake_m_s2(self) -> float:
        """The noise of the accelerometers."""
        return self.shake * G_M_S2


class BalanceLoop(Table):
    """One loop of the cascade."""

    p: _Gain = Field(description="P: output for each unit of the error.", examples=[1.0])
    i: _Gain = Field(default=0.0, description="I: output for each unit of the error in a second.", examples=[0.5])


class PlaceLoop(BalanceLoop):
    """From a distance to a speed: it holds the place once the driver lets go."""

    p: _Gain = Field(default=1.0, description="P: speed for each metre of the error, in 1/s.", examples=[1.0])
    output_limit_m_s: Annotated[float, Quantity("speed", above=0, at_most=20, step="0.05 m/s")] = Field(
        default=0.3,
        alias="output_limit",
        description="The top speed at which it comes back after a push.",
        examples=["0.3 m/s"],
    )


class SpeedLoop(BalanceLoop):
    """From a speed to a lean: a robot that leans forward must drive forward."""

    p: _Gain = Field(default=12.0, description="P: lean in degrees for each m/s of the error.", examples=[12])
    i: _Gain = Field(
        default=6.0,
        description="I: lean in degrees for each m/s of the error in a second: it finds the lean of balance.",
        examples=[6],
    )
    i_limit_rad: _Lean = Field(
        default=radians(6),
        alias="i_limit",
        description="The limit of the I term, in both directions.",
        examples=["6 deg"],
    )
    output_limit_rad: _Lean = Field(
        default=radians(12),
        alias="output_limit",
        description="The largest lean that is commanded.",
        examples=["12 deg"],
    )
    speed_filter_s: Annotated[float, Quantity("time", at_least=0, at_most=1, step="5 ms")] = Field(
        default=0.02,
        alias="speed_filter",
        description="The time over which the measured speed is averaged.",
        examples=["20 ms"],
    )


class LeanLoop(BalanceLoop):
    """The loop from a lean to its rate."""

    p: _Gain = Field(default=6.0, description="P: deg/s for each degree of the error, in 1/s.", examples=[6])
    output_limit_rad_s: Annotated[float, Quantity("turn rate", above=0, at_most=50, step="10 deg/s")] = Field(
        default=radians(200), alias="output_limit", description="The fastest change of lean.", examples=["200 deg/s"]
    )


class LeanRateLoop(BalanceLoop):
    """From the rate of the lean to drive: drive forward tips the body back."""

    p: _Gain = Field(default=0.15, description="P: share of full drive for each rad/s of the error.", examples=[0.15])
    output_limit: Annotated[float, Quantity("fraction", above=0, at_most=1, step="5 %")] = Field(
        default=1.0, description="The most drive that balance may take.", examples=["100 %"]
    )


class TurnLoop(BalanceLoop):
    """From a difference of both sides to their drive."""

    p: _Gain = Field(
        default=0.6, description="P: drive for each share of top speed of the error. No unit.", examples=[0.6]
    )
    i: _Gain = Field(default=4.0, description="I: drive for each share of the error in a second, in 1/s.", examples=[4])
    output_limit: Annotated[float, Quantity("fraction", above=0, at_most=1, step="5 %")] = Field(
        default=0.4, description="The most drive that turning may take; balance goes before it.", examples=["40 %"]
    )


class Balance(Table):
    """How a robot on one axle stays upright: place or speed → lean → rate of the lean → drive. It needs [tilt] and encoders."""

    place: PlaceLoop = Field(default=PlaceLoop(), description="The loop that holds a place.")
    speed: SpeedLoop = Field(default=SpeedLoop(), description="The loop that keeps a speed.")
    lean: LeanLoop = Field(default=LeanLoop(), description="The loop that keeps a lean.")
    rate: LeanRateLoop = Field(default=LeanRateLoop(), description="The innermost loop.")
    turn: TurnLoop = Field(default=TurnLoop(), description="The loop that turns.")
    asking_rate_hz: Annotated[float, Quantity("frequency", at_least=20, at_most=200)] = Field(
        default=50.0,
        alias="asking_rate",
        description="How often per second the driver's command is computed; the balance loops run at `rate`, a whole multiple "
        "of it.",
        examples=["50 Hz"],
    )
    back_emf: Annotated[float, Quantity("fraction", at_least=0, at_most=1.2, step="5 %")] = Field(
        default=0.9,
        description="The part of the back-EMF that is added to the drive, so that the loops command a torque at any speed.",
        examples=["90 %"],
    )
    reach_m: Annotated[float, Quantity("length", above=0, at_most=10, step="5 cm")] = Field(
        default=0.5,
        alias="reach",
        description="How far a push may move the robot from its place. After a bigger push it holds a place that is nearer.",
        examples=["50 cm"],
    )
    falls_at_rad: _Lean = Field(
        default=radians(40),
        alias="falls_at",
        description="Above this lean it has fallen, and the drive switches off.",
        examples=["40 deg"],
    )
    upright_within_rad: _Lean = Field(
        default=radians(5),
        alias="upright_within",
        description="It begins to balance only within this angle of upright.",
        examples=["5 deg"],
    )
    held_for_s: Annotated[float, Quantity("time", at_least=0.1, at_most=10, step="0.1 s")] = Field(
        default=1.0, alias="held_for", description="It must also have been held still for this long.", examples=["1 s"]
    )
