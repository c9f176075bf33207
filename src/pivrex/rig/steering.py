"""Steered wheels: the motors that turn them, their angle loops and their sensors."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.channels import CHANNELS, is_one_sided
from pivrex.rig.chassis import Name
from pivrex.rig.outputs import ENCODER_PINS, EncoderPins, Output, Pin
from pivrex.rig.quantities import Quantity

__all__ = ["CountsSensor", "Steering", "SteeringMotor", "VoltageSensor", "steering_name"]

Offset = Annotated[float, Quantity("angle", step="0.5 deg")]


class _Sensor(Table):
    offset_rad: Offset = Field(
        default=0.0,
        alias="offset",
        description="The angle that it reads while the wheel points straight ahead; the calibration finds it.",
        examples=["37.5 deg"],
    )
    reversed: bool = Field(
        default=False, description="True if its reading falls while the wheel turns to the left.", examples=[False]
    )
    pin: Pin = Field(default="", description="Its analogue pin on the board, for `pivrex board`.", examples=["A0"])


class CountsSensor(_Sensor):
    """An absolute angle sensor that counts."""

    kind: Literal["counts"]
    per_turn: Annotated[float, Quantity("number", above=0, at_most=1e9)] = Field(
        description="Counts for one turn of the wheel.", examples=[4096]
    )

    @property
    def full(self) -> float:
        """The reading that means a whole turn."""
        return self.per_turn


class VoltageSensor(_Sensor):
    """An absolute angle sensor whose voltage, as a share of its supply, is the share of a turn."""

    kind: Literal["voltage"]
    at_supply: Annotated[float, Quantity("number", above=0, at_most=1e9)] = Field(
        default=1.0,
        description="What the robot sends at the full supply: 1 if it sends a share; otherwise the raw number of its converter,"
        " 1023 for 10 bits.",
        examples=[1023],
    )

    @property
    def full(self) -> float:
        """The reading that means a whole turn: all of the supply."""
        return self.at_supply


Sensor = Annotated[CountsSensor | VoltageSensor, Field(discriminator="kind")]


class SteeringMotor(Table):
    """The motor that turns one wheel about its upright axis, and the loop that brings it to an angle."""

    top_speed_rad_s: Annotated[float, Quantity("turn rate", above=0, at_most=1e5)] = Field(
        alias="top_speed", description="The speed of the motor shaft at full drive.", examples=["9000 rpm"]
    )
    gear: Annotated[float, Quantity("number", above=0, at_most=1e6)] = Field(
        default=1.0,
        description="Turns of the motor shaft for one turn of the wheel about its upright axis.",
        examples=[60],
    )
    counts_per_turn: Annotated[float, Quantity("number", at_least=0, at_most=1e9)] = Field(
        default=0.0, description="Encoder counts for one turn of the motor shaft; 0 without an encoder.", examples=[12]
    )
    encoder_pins: EncoderPins = ENCODER_PINS
    reversed: bool = Field(
        default=False, description="True if a positive output turns the wheel to the right.", examples=[False]
    )
    encoder_reversed: bool = Field(
        default=False,
        description="True if its encoder counts down while the wheel turns to the left.",
        examples=[False],
    )
    smallest: Annotated[float, Quantity("fraction", at_least=0, at_most=0.9, step="1 %")] = Field(
        default=0.0, description="The smallest drive that turns it. Below it the motor only hums.", examples=["5 %"]
    )
    p_per_s: Annotated[float, Quantity("rate", at_least=0, at_most=1e3, step="0.5 /s")] = Field(
        default=12.0,
        alias="p",
        description="P: how fast it turns, in deg/s, for each degree of the error.",
        examples=["12 /s"],
    )
    i: Annotated[float, Quantity("number", at_least=0, at_most=1e4, step="0.5")] = Field(
        default=0.0, description="I, in 1/s².", examples=[0]
    )
    d: Annotated[float, Quantity("number", at_least=0, at_most=10, step="0.01")] = Field(
        default=0.0, description="D: how much of the current rate of turn is subtracted.", examples=[0.05]
    )
    rate_rad_s: Annotated[float, Quantity("turn rate", above=0, at_most=1e5, step="10 deg/s")] | None = Field(
        default=None,
        alias="rate",
        description="It is never commanded to turn faster than this; if left out, as fast as the motor can.",
        examples=["360 deg/s"],
    )
    sensor: Sensor | None = Field(
        default=None,
        description="The absolute angle sensor. Without one the wheel must point straight ahead when the robot is "
        "switched on.",
    )
    output: Output = Field(description="What the motor driver expects.")

    def mistakes(self) -> list[tuple[str, str]]:
        if not self.counts_per_turn and self.sensor is None:
            return [("counts_per_turn", "is 0 and there is no sensor, so no one would know where the wheel points")]
        return []

    @property
    def top_rad_s(self) -> float:
        """The fastest that the wheel turns about its upright axis."""
        return self.top_speed_rad_s / self.gear


class Steering(Table):
    """What all steered wheels have in common, and the motor of each."""

    threshold_m_s: Annotated[float, Quantity("speed", at_least=0, at_most=10, step="0.005 m/s")] = Field(
        default=0.01,
        alias="threshold",
        description="Below this speed a wheel counts as not driven: it stands still and keeps its last angle.",
        examples=["0.01 m/s"],
    )
    cosine: Literal["on", "off"] = Field(
        default="on",
        description="on: a wheel drives with the cosine of its angle error. off: it drives at full speed meanwhile, and pushes "
        "the robot to one side.",
        examples=["on"],
    )
    hold: str = Field(
        default="",
        description="The button that turns all wheels inwards, so that no one can push the robot away.",
        examples=["button_2"],
    )
    wheels: dict[Name, SteeringMotor] = Field(
        description="The steering motor of each steered wheel, by the wheel's name."
    )

    def mistakes(self) -> list[tuple[str, str]]:
        return button_mistakes({"hold": self.hold})


def button_mistakes(buttons: dict[str, str]) -> list[tuple[str, str]]:
    """Return which of these keys do not name a button."""
    return [
        (key, f'is "{button}", which is no button; buttons are button_0 to button_16, left_trigger and right_trigger')
        for key, button in buttons.items()
        if button and (button not in CHANNELS or not is_one_sided(button))
    ]


def steering_name(wheel: str) -> str:
    """Name the steering motor of a wheel."""
    return f"{wheel} steering"
