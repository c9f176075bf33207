"""Attachments: a robot's parts in addition to its wheels. A motor by speed, a motor to an angle, a lift, a servo, a switch."""

from __future__ import annotations

from dataclasses import dataclass
from math import inf, pi
from typing import Annotated, ClassVar, Literal

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.outputs import ENCODER_PINS, EncoderPins, Output, Pin, Ported
from pivrex.rig.quantities import Quantity
from pivrex.units import format_quantity

__all__ = [
    "ENCODED",
    "PLACES",
    "Attachment",
    "Encoded",
    "LiftAttachment",
    "MotorAttachment",
    "Placed",
    "PositionAttachment",
    "PulseOutput",
    "Reach",
    "ServoAttachment",
    "SwitchAttachment",
    "SwitchOutput",
    "reach_of",
]

Angle = Annotated[float, Quantity("angle", step="1 deg")]
Height = Annotated[float, Quantity("length", at_least=-100, at_most=100, step="5 mm")]

ENCODED = ("position", "lift")
"""The kinds that move to a position of an encoder."""


def has_shaft(attachment: object) -> bool:
    """Return whether it is a motor with an encoder that goes to no place."""
    return isinstance(attachment, MotorAttachment) and attachment.counts_per_turn > 0


PLACES = (*ENCODED, "servo")
"""The kinds that are sent to a place."""


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
        description="Its place, forward of the robot's middle; for drawings.",
        examples=["60 mm"],
    )
    y_m: Annotated[float, Quantity("length", at_least=-100, at_most=100)] = Field(
        default=0.0, alias="y", description="Its place, left of the robot's middle.", examples=["0 mm"]
    )
    reach_m: Annotated[float, Quantity("length", at_least=0, at_most=100)] = Field(
        default=0.0, alias="reach", description="Its reach from there.", examples=["180 mm"]
    )
    points_rad: Angle = Field(
        default=0.0,
        alias="points",
        description="Its direction at an angle of 0, counter-clockwise from the robot's front.",
        examples=["-90 deg"],
    )


class MotorAttachment(Placed):
    """A motor that runs at a speed: an arm on a stick, a roller. With an encoder a loop may hold the speed."""

    kind: Literal["motor"]
    output: Output = Field(description="What the motor driver expects.")
    reversed: bool = Field(
        default=False, description="True if a positive output turns it the wrong way.", examples=[False]
    )
    largest: Annotated[float, Quantity("fraction", above=0, at_most=1, step="5 %")] = Field(
        default=1.0, description="The largest drive that it gets.", examples=["70 %"]
    )
    smallest: Annotated[float, Quantity("fraction", at_least=0, at_most=0.9, step="1 %")] = Field(
        default=0.0,
        description="The smallest drive that turns it. Commands are scaled to the range between this and full drive.",
        examples=["8 %"],
    )
    counts_per_turn: Annotated[float, Quantity("number", at_least=0, at_most=1e9)] = Field(
        default=0.0,
        description="Encoder counts for one turn of the attachment, with all gears; 0 without an encoder.",
        examples=[1440],
    )
    encoder_pins: EncoderPins = ENCODER_PINS
    encoder_reversed: bool = Field(
        default=False, description="True if the encoder counts down while it turns the right way.", examples=[False]
    )
    top_speed_rad_s: Annotated[float, Quantity("turn rate", above=0, at_most=1e5)] = Field(
        default=4 * pi, alias="top_speed", description="How fast it turns at full drive.", examples=["120 rpm"]
    )
    loop: Literal["duty", "speed"] = Field(
        default="duty",
        description="duty: it gets the commanded drive. speed: a loop with its encoder holds it at that share of its top speed.",
        examples=["speed"],
    )
    p: Annotated[float, Quantity("number", at_least=0, at_most=10, step="0.05")] = Field(
        default=0.2, description="P of the speed loop: drive for an error of the whole top speed.", examples=[0.2]
    )
    i: Annotated[float, Quantity("number", at_least=0, at_most=100, step="0.1")] = Field(
        default=1.0, description="I of the speed loop, in 1/s.", examples=[1.0]
    )
    # its safe state is standing still

    def mistakes(self) -> list[tuple[str, str]]:
        if self.loop == "speed" and not self.counts_per_turn:
            return [("loop", 'is "speed", but there is no encoder; give counts_per_turn, or say "duty"')]
        return []


class Encoded(Placed):
    """A motor that moves to a position of its encoder and stays there."""

    output: Output = Field(description="What the motor driver expects.")
    reversed: bool = Field(
        default=False, description="True if a positive output turns it the wrong way.", examples=[False]
    )
    encoder_pins: EncoderPins = ENCODER_PINS
    encoder_reversed: bool = Field(
        default=False, description="True if the encoder counts down while it turns the right way.", examples=[False]
    )
    counts_per_turn: Annotated[float, Quantity("number", above=0, at_most=1e9)] = Field(
        description="Encoder counts for one turn of the attachment (of a lift: of its drum), with all gears.",
        examples=[1440],
    )
    largest: Annotated[float, Quantity("fraction", above=0, at_most=1, step="5 %")] = Field(
        default=1.0, description="The largest drive that it gets.", examples=["70 %"]
    )
    safe: Literal["stop", "hold"] = Field(
        default="stop",
        description="When the robot stops: stop gives it no drive; hold keeps it in place against a load.",
        examples=["hold"],
    )

    def mistakes(self) -> list[tuple[str, str]]:
        reach = reach_of(self)
        if reach.low >= reach.high:
            return [("minimum", "must be less than maximum")]
        if not reach.low <= 0 <= reach.high:
            return [("minimum", "and maximum must have 0 between them, where it starts")]
        return [] if reach.low <= reach.begins <= reach.high else [("begins", "lies outside minimum and maximum")]


class PositionAttachment(Encoded):
    """A motor that turns to an angle of its encoder and stays there: a boom."""

    kind: Literal["position"]
    minimum_rad: Angle = Field(
        alias="minimum",
        description="Its limit in one direction; it starts at 0 unless begins is given.",
        examples=["0 deg"],
    )
    maximum_rad: Angle = Field(alias="maximum", description="Its limit in the other direction.", examples=["120 deg"])
    begins_rad: Angle = Field(
        default=0.0,
        alias="begins",
        description="The position of the simulated one when it is switched on, where its encoder begins to count; a routine's "
        "home finds the position of a real one.",
        examples=["25 deg"],
    )
    top_speed_rad_s: Annotated[float, Quantity("turn rate", above=0)] = Field(
        default=pi / 2, alias="top_speed", description="How fast it turns at full drive.", examples=["90 deg/s"]
    )
    full_at_rad: Annotated[float, Quantity("angle", above=0)] = Field(
        default=pi / 9,
        alias="full_at",
        description="Its drive is proportional to the error, and full from this error on.",
        examples=["20 deg"],
    )


class LiftAttachment(Encoded):
    """A motor that winds a cord on a drum, and so lifts something to a height and holds it there."""

    kind: Literal["lift"]
    drum_radius_m: Annotated[float, Quantity("length", above=0, at_most=10)] = Field(
        alias="drum_radius",
        description="Radius of the drum that winds the cord; of a gear on a rack its pitch radius. A turn moves the lift by 2π of it.",
        examples=["12 mm"],
    )
    minimum_m: Height = Field(
        alias="minimum", description="The lowest height; it starts at 0 unless begins is given.", examples=["0 mm"]
    )
    maximum_m: Height = Field(alias="maximum", description="The greatest height.", examples=["350 mm"])
    begins_m: Height = Field(
        default=0.0,
        alias="begins",
        description="The position of the simulated one when it is switched on, where its encoder begins to count; a routine's "
        "home finds the position of a real one.",
        examples=["40 mm"],
    )
    top_speed_m_s: Annotated[float, Quantity("speed", above=0)] = Field(
        default=0.2, alias="top_speed", description="How fast it moves at full drive.", examples=["200 mm/s"]
    )
    full_at_m: Annotated[float, Quantity("length", above=0)] = Field(
        default=0.03,
        alias="full_at",
        description="Its drive is proportional to the error, and full from this error on.",
        examples=["30 mm"],
    )


class ServoAttachment(Placed):
    """A servo that goes to an angle between its limits."""

    kind: Literal["servo"]
    output: PulseOutput = Field(default=PulseOutput(), description="Its pulse.")
    minimum_rad: Angle = Field(alias="minimum", description="The angle at one end.", examples=["0 deg"])
    maximum_rad: Angle = Field(alias="maximum", description="The angle at the other end.", examples=["90 deg"])
    start_rad: Angle | None = Field(
        default=None,
        alias="start",
        description="Its position at the start; the minimum if left out.",
        examples=["0 deg"],
    )
    rate_rad_s: Annotated[float, Quantity("turn rate", at_least=0, step="10 deg/s")] = Field(
        default=0.0, alias="rate", description="Maximum speed; 0 for no limit.", examples=["90 deg/s"]
    )
    safe_rad: Angle | None = Field(
        default=None,
        alias="safe",
        description="Its target when the robot stops; it does not move if left out.",
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
    start: Literal["on", "off"] = Field(default="off", description="Its state at the start.", examples=["off"])
    safe: Literal["on", "off"] = Field(default="off", description="Its state when the robot stops.", examples=["off"])
    shows: Literal["", "ready", "linked", "recording"] = Field(
        default="",
        description="For a lamp: its meaning. ready: the robot may move; linked: the robot is heard; recording.",
        examples=["linked"],
    )


Attachment = Annotated[
    MotorAttachment | PositionAttachment | LiftAttachment | ServoAttachment | SwitchAttachment,
    Field(discriminator="kind"),
]


@dataclass(frozen=True)
class Reach:
    """How far an attachment goes that is sent to places, in rad; of a lift in m.

    Attributes
    ----------
    low, high, begins : float
        Its limits, and where it is when it is switched on.
    rate : float
        How fast it moves at full drive, in its unit per second; 0 for one that is there at once.
    full_at : float
        What must be missing for full drive; infinite for one without an encoder.
    near : float
        What is as near as this to where it was sent is there.
    per_rad : float
        How far it moves while the shaft of its encoder turns by a radian: 1, or the drum's radius in m.
    unit : str
        "rad" or "m", as it stands in the Tick.
    """

    low: float
    high: float
    begins: float
    rate: float
    full_at: float
    near: float = 0.035
    per_rad: float = 1.0
    unit: str = "rad"

    @property
    def quantity(self) -> str:
        """The kind of its positions, a name of `pivrex.units.KINDS`."""
        return "angle" if self.unit == "rad" else "length"

    def written(self, value: float, digits: int = 0) -> str:
        """Write a place with its unit, in deg or mm."""
        return format_quantity(value, self.quantity, "deg" if self.unit == "rad" else "mm", digits)

    @property
    def limits(self) -> str:
        """Its limits in words, such as "0 to 90 deg"."""
        return f"{self.written(self.low, 1).split()[0]} to {self.written(self.high, 1)}"


def reach_of(attachment: object) -> Reach:
    """Return how far an attachment goes; raises `TypeError` for one that is not sent to places."""
    match attachment:
        case PositionAttachment() as a:
            return Reach(a.minimum_rad, a.maximum_rad, a.begins_rad, a.top_speed_rad_s, a.full_at_rad)
        case LiftAttachment() as a:
            return Reach(
                a.minimum_m, a.maximum_m, a.begins_m, a.top_speed_m_s, a.full_at_m, 0.002, a.drum_radius_m, "m"
            )
        case ServoAttachment() as a:
            begins = a.start_rad if a.start_rad is not None else a.minimum_rad
            return Reach(a.minimum_rad, a.maximum_rad, begins, a.rate_rad_s, inf)
    raise TypeError(f"{attachment!r} is not sent to places")
