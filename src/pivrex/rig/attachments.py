"""Attachments: what a robot has beside its wheels. A motor by speed, a motor to a position, a servo, a switch."""

from __future__ import annotations

from math import pi
from typing import Annotated, ClassVar, Literal

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.outputs import Output, Pin, Ported
from pivrex.rig.quantities import Quantity

__all__ = [
    "Attachment",
    "MotorAttachment",
    "Placed",
    "PositionAttachment",
    "PulseOutput",
    "ServoAttachment",
    "SwitchAttachment",
    "SwitchOutput",
]

Angle = Annotated[float, Quantity("angle", step="1 deg")]


class PulseOutput(Ported):
    """A servo's pulse, from one end of its range to the other."""

    at_minimum_s: Annotated[float, Quantity("time", above=0)] = Field(
        default=0.001, alias="at_minimum", description="The pulse at the minimum.", examples=["1000 us"]
    )
    at_maximum_s: Annotated[float, Quantity("time", above=0)] = Field(
        default=0.002, alias="at_maximum", description="The pulse at the maximum.", examples=["2000 us"]
    )
    PINS: ClassVar[tuple[str, ...]] = ("pin",)
    pin: Pin = Field(default="", description="The signal pin.", examples=[10])


class SwitchOutput(Ported):
    """A pin that is on or off."""

    PINS: ClassVar[tuple[str, ...]] = ("pin",)
    pin: Pin = Field(default="", description="The pin.", examples=[12])
    low_is_on: bool = Field(default=False, description="True if a low pin switches it on.", examples=[False])


class Placed(Table):
    """Something that has a place on the robot: only drawings need to know it."""

    x_m: Annotated[float, Quantity("length", at_least=-100, at_most=100)] | None = Field(
        default=None,
        alias="x",
        description="Where it sits, forward of the robot's middle; for drawings.",
        examples=["60 mm"],
    )
    y_m: Annotated[float, Quantity("length", at_least=-100, at_most=100)] = Field(
        default=0.0, alias="y", description="Where it sits, left of the robot's middle.", examples=["0 mm"]
    )
    reach_m: Annotated[float, Quantity("length", at_least=0, at_most=100)] = Field(
        default=0.0, alias="reach", description="How far it reaches from there.", examples=["180 mm"]
    )
    points_rad: Angle = Field(
        default=0.0,
        alias="points",
        description="Where it points at an angle of 0, counter-clockwise from the robot's front.",
        examples=["-90 deg"],
    )


class MotorAttachment(Placed):
    """A motor that runs at a speed: an arm on a stick, a roller."""

    kind: Literal["motor"]
    output: Output = Field(description="What the motor driver wants to be told.")
    reversed: bool = Field(
        default=False, description="True if a positive output turns it the wrong way.", examples=[False]
    )
    largest: Annotated[float, Quantity("fraction", above=0, at_most=1, step="5 %")] = Field(
        default=1.0, description="The most drive that it ever gets.", examples=["70 %"]
    )
    # its safe state is standing still: a motor without a sensor has no other


class PositionAttachment(Placed):
    """A motor that turns to a position of its encoder and stays there: a boom."""

    kind: Literal["position"]
    output: Output = Field(description="What the motor driver wants to be told.")
    reversed: bool = Field(
        default=False, description="True if a positive output turns it the wrong way.", examples=[False]
    )
    encoder_reversed: bool = Field(
        default=False, description="True if the encoder counts down while it turns the right way.", examples=[False]
    )
    counts_per_turn: Annotated[float, Quantity("number", above=0, at_most=1e9)] = Field(
        description="Encoder counts for one turn of the attachment, gears reckoned in.", examples=[1440]
    )
    minimum_rad: Angle = Field(
        alias="minimum",
        description="As far as it may go one way; it starts at 0, where nobody says otherwise.",
        examples=["0 deg"],
    )
    maximum_rad: Angle = Field(alias="maximum", description="As far as it may go the other way.", examples=["120 deg"])
    begins_rad: Angle = Field(
        default=0.0,
        alias="begins",
        description="Where the stand-in's is when it is switched on, from which its encoder counts; a routine's home finds out "
        "where a real one is.",
        examples=["25 deg"],
    )
    top_speed_rad_s: Annotated[float, Quantity("turn rate", above=0)] = Field(
        default=pi / 2, alias="top_speed", description="How fast it turns at full drive.", examples=["90 deg/s"]
    )
    largest: Annotated[float, Quantity("fraction", above=0, at_most=1, step="5 %")] = Field(
        default=1.0, description="The most drive that it ever gets.", examples=["70 %"]
    )
    full_at_rad: Annotated[float, Quantity("angle", above=0)] = Field(
        default=pi / 9,
        alias="full_at",
        description="It is driven in proportion to what is missing, and fully from this much on.",
        examples=["20 deg"],
    )
    safe: Literal["stop", "hold"] = Field(
        default="stop",
        description="When the robot is stopped: stop gives it no drive; hold keeps it where it is against a load.",
        examples=["hold"],
    )

    def mistakes(self) -> list[tuple[str, str]]:
        if self.minimum_rad >= self.maximum_rad:
            return [("minimum", "must be less than maximum")]
        if not self.minimum_rad <= self.begins_rad <= self.maximum_rad:
            return [("begins", "lies outside minimum and maximum")]
        return (
            []
            if self.minimum_rad <= 0 <= self.maximum_rad
            else [("minimum", "and maximum must have 0 between them, where it starts")]
        )


class ServoAttachment(Placed):
    """A servo that goes to an angle between its limits."""

    kind: Literal["servo"]
    output: PulseOutput = Field(default=PulseOutput(), description="Its pulse.")
    minimum_rad: Angle = Field(alias="minimum", description="The angle at one end.", examples=["0 deg"])
    maximum_rad: Angle = Field(alias="maximum", description="The angle at the other end.", examples=["90 deg"])
    start_rad: Angle | None = Field(
        default=None, alias="start", description="Where it begins; the minimum if left out.", examples=["0 deg"]
    )
    rate_rad_s: Annotated[float, Quantity("turn rate", at_least=0, step="10 deg/s")] = Field(
        default=0.0, alias="rate", description="How fast it may be moved; 0 for at once.", examples=["90 deg/s"]
    )
    safe_rad: Angle | None = Field(
        default=None,
        alias="safe",
        description="Where it goes when the robot is stopped; it stays where it is if left out.",
        examples=["0 deg"],
    )

    def mistakes(self) -> list[tuple[str, str]]:
        if self.minimum_rad >= self.maximum_rad:
            return [("minimum", "must be less than maximum")]
        return [
            (key, "lies outside minimum and maximum")
            for key, angle in (("start", self.start_rad), ("safe", self.safe_rad))
            if angle is not None and not self.minimum_rad <= angle <= self.maximum_rad
        ]


class SwitchAttachment(Placed):
    """Something that is on or off: a pump, a lamp."""

    kind: Literal["switch"]
    output: SwitchOutput = Field(default=SwitchOutput(), description="Its pin.")
    start: Literal["on", "off"] = Field(default="off", description="How it begins.", examples=["off"])
    safe: Literal["on", "off"] = Field(
        default="off", description="How it is when the robot is stopped.", examples=["off"]
    )
    shows: Literal["", "ready", "linked", "recording"] = Field(
        default="",
        description="For a lamp: what it shows. ready: the robot may move; linked: the robot is heard; recording.",
        examples=["linked"],
    )


Attachment = Annotated[
    MotorAttachment | PositionAttachment | ServoAttachment | SwitchAttachment, Field(discriminator="kind")
]
