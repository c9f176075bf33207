"""Moving in the plane: the robot's frame or the field's, the point of turning, the gyro, and lying upside down."""

from __future__ import annotations

from math import radians
from typing import Annotated, Literal

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.chassis import Across, Name
from pivrex.rig.outputs import Pin
from pivrex.rig.quantities import Quantity
from pivrex.rig.steering import button_mistakes

__all__ = ["Gyro", "Mounting", "Plane", "TurningPoint", "UpsideDown"]


Mounting = Literal["firm", "loose", "by a motor"]
"""How a gyro sits."""


class TurningPoint(Table):
    """A point of the robot that stays where it is while the robot turns."""

    name: Name = Field(description="Your name for it.", examples=["boom tip"])
    x_m: Across = Field(alias="x", description="Distance forward of the centre.", examples=["200 mm"])
    y_m: Across = Field(alias="y", description="Distance left of the centre.", examples=["0 mm"])


class Plane(Table):
    """How the law planar is meant."""

    frame: Literal["robot", "field"] = Field(
        default="robot",
        description="The meaning of forward at the start: the direction of the robot's front, or the field's forward direction.",
        examples=["field"],
    )
    switch: str = Field(
        default="", description="The button that changes between robot and field.", examples=["button_9"]
    )
    forward: str = Field(
        default="",
        description="The button that makes the robot's current heading the field's forward direction.",
        examples=["button_8"],
    )
    straight: Literal["on", "off"] = Field(
        default="on",
        description="on: a robot that turns while it crosses the field keeps a straight path, because the turn of each tick is "
        "included (the logarithm on SE(2)). off: it drifts sideways.",
        examples=["on"],
    )
    lead_s: Annotated[float, Quantity("time", at_least=-0.2, at_most=1, step="5 ms")] = Field(
        default=0.0,
        alias="lead",
        description="How far into the future the heading is predicted while it turns: about the lag of the wheels; otherwise a "
        "path that is crossed while turning drifts sideways. Below 0 if the body's own momentum carries it on: on "
        "rollers, with fast wheel loops.",
        examples=["80 ms"],
    )
    points: tuple[TurningPoint, ...] = Field(
        default=(), description="Points to turn about instead of the centre.", max_length=9
    )
    next_point: str = Field(
        default="", description="The button that goes on to the next turning point.", examples=["button_3"]
    )

    def mistakes(self) -> list[tuple[str, str]]:
        buttons = {"switch": self.switch, "forward": self.forward, "next_point": self.next_point}
        found = button_mistakes(buttons)
        if self.next_point and not self.points:
            found.append(("next_point", "is given, but there are no points to go on to"))
        names = [point.name for point in self.points]
        found += [
            (f"points.{i}.name", f'is "{name}" again; every point needs its own name')
            for i, name in enumerate(names)
            if name in names[:i]
        ]
        return found


class Gyro(Table):
    """The gyro that says how far the robot has turned. All but ``reversed`` are faults of the simulated robot's."""

    reversed: bool = Field(
        default=False, description="True if its heading falls while the robot turns to the left.", examples=[False]
    )
    pin: Pin = Field(
        default="",
        description="Its analogue pin on the board, for `pivrex board`, if it gives its turn rate as a voltage. The board "
        "measures the voltage at rest when it is switched on.",
        examples=["A2"],
    )
    per_V_rad_s: Annotated[float, Quantity("turn rate", above=0, at_most=1000)] = Field(  # noqa: N815 - volts
        default=radians(150), alias="per_volt", description="The turn rate for each volt.", examples=["150 deg/s"]
    )
    zero_for_s: Annotated[float, Quantity("time", above=0, at_most=60, step="0.5 s")] = Field(
        default=2.0,
        alias="zero_for",
        description="How long the robot must stand still while its bias is measured, after a key or a button requests it.",
        examples=["2 s"],
    )
    bias_rad_s: Annotated[float, Quantity("turn rate", at_least=-10, at_most=10, step="0.01 deg/s")] = Field(
        default=radians(0.03),
        alias="bias",
        description="The rate that the simulated robot's gyro reads at rest, unless it is zeroed; each seed draws a value up to"
        " this, in both directions. Only with realistic physics, like all keys below.",
        examples=["0.03 deg/s"],
    )
    drift_rad_s2: Annotated[float, Quantity("turn rate drift", at_least=0, at_most=1, step="0.01 deg/s/min")] = Field(
        default=radians(0.02) / 60,
        alias="drift",
        description="How far the bias drifts in the first minute (a random walk; it grows with the square root of time).",
        examples=["0.02 deg/s/min"],
    )
    noise_rad_s: Annotated[float, Quantity("turn rate", at_least=0, at_most=10, step="0.01 deg/s")] = Field(
        default=radians(0.08), alias="noise", description="Noise of each reading (one sigma).", examples=["0.08 deg/s"]
    )
    scale: Annotated[float, Quantity("fraction", at_least=-0.2, at_most=0.2, step="0.1 %")] = Field(
        default=0.002, description="The scale error: by how much a measured turn is too large.", examples=["0.2 %"]
    )
    delay_s: Annotated[float, Quantity("time", at_least=0, at_most=0.5, step="1 ms")] = Field(
        default=0.005, alias="delay", description="How old its readings are.", examples=["5 ms"]
    )
    max_rad_s: Annotated[float, Quantity("turn rate", above=0, at_most=1000, step="10 deg/s")] = Field(
        default=radians(1000),
        alias="most",
        description="The fastest turn that it can measure; a faster one is cut off.",
        examples=["1000 deg/s"],
    )
    mounting: Mounting = Field(
        default="firm",
        description="loose: it rattles, and every acceleration adds noise. by a motor: every motor that turns adds noise.",
        examples=["firm"],
    )


class UpsideDown(Table):
    """A robot that also runs lying on its back, and the sensor that says which side is up."""

    threshold: Annotated[float, Quantity("number", above=0, at_most=0.95, step="0.05")] = Field(
        default=0.4,
        description="The side changes when the upward acceleration, in g, passes this value with the other sign; in between the"
        " side does not change.",
        examples=[0.4],
    )
    reversed: bool = Field(
        default=False, description="True if the sensor reads -1 g while the robot is on its wheels.", examples=[False]
    )
