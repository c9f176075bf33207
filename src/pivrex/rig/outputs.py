"""The signals that motor drivers expect, one table for each kind."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import AfterValidator, Field

from pivrex.rig.base import Table
from pivrex.rig.quantities import Quantity

__all__ = [
    "ENCODER_PINS",
    "DutyOutput",
    "EncoderPins",
    "FractionOutput",
    "MagnitudeOutput",
    "Output",
    "PercentOutput",
    "Pin",
    "Ported",
    "ServoOutput",
    "SpeedOutput",
    "ThreePinOutput",
    "TwoPinOutput",
]

Bits = Annotated[int, Field(ge=1, le=16)]
Pin = Annotated[int | str, Field(union_mode="left_to_right")]


def _two_or_none(pins: tuple[int | str, ...]) -> tuple[int | str, ...]:
    if len(pins) not in (0, 2):
        raise ValueError(f"has {len(pins)} pins; an encoder has two, A and B")
    return pins


EncoderPins = Annotated[tuple[Pin, ...], AfterValidator(_two_or_none)]
ENCODER_PINS: Any = Field(
    default=(),
    description="The pins of its encoder on the board, A and B, for `pivrex board`; A leads while it counts up. Each edge of both "
    "is a count.",
    examples=[[2, 3]],
)


class Ported(Table):
    """Something that sits on a port or on pins."""

    port: str = Field(
        default="", description="The port of the driver board that the motor is connected to, as printed on the board."
    )

    PINS: ClassVar[tuple[str, ...]] = ()
    HALTS: ClassVar[tuple[str, ...]] = ()
    """What it can be commanded besides a drive: "brake" and "coast"; else the driver does what it does at 0."""

    def pins(self) -> dict[str, int | str]:
        """Return the pins in use, by their role."""
        return {role: getattr(self, role) for role in self.PINS if getattr(self, role) != ""}


class _Pulsed(Ported):
    pwm_hz: Annotated[float, Quantity("frequency", above=0)] = Field(
        default=1000.0,
        alias="pwm",
        description="How often per second the driver switches. Low (50 to 500 Hz) gives more torque at small duty and an "
        "audible whine; high (above 18 kHz) is silent and smooth, but many driver chips run hot or lose torque at "
        "small duty. Only for your notes and the wiring table.",
        examples=["1 kHz"],
    )
    bits: Bits = Field(default=8, description="Bits of the PWM counter: 8 means 0 to 255.", examples=[8])

    @property
    def full(self) -> int:
        """The count that means all the time on."""
        return int(2**self.bits) - 1


class FractionOutput(Ported):
    """A fraction of full drive, -1 to 1."""

    kind: Literal["fraction"]
    HALTS = ("brake", "coast")


class PercentOutput(Ported):
    """A percentage of full drive, -100 to 100."""

    kind: Literal["percent"]
    HALTS = ("brake", "coast")


class SpeedOutput(Ported):
    """The wheel's speed over the ground, for a driver that controls speed itself."""

    kind: Literal["speed"]
    HALTS = ("brake", "coast")
    unit: Literal["m/s", "mm/s"] = Field(default="m/s", description="The unit of the number.", examples=["mm/s"])


class DutyOutput(_Pulsed):
    """A signed duty: one whole number, rounded to the nearest (halves to the even one), whose sign is the direction."""

    kind: Literal["duty"]
    PINS: ClassVar[tuple[str, ...]] = ("pin",)
    pin: Pin = Field(default="", description="The PWM pin.", examples=[5])


class MagnitudeOutput(_Pulsed):
    """A duty without a sign, and a pin for the direction: 0 backward, 1 forward."""

    kind: Literal["magnitude"]
    PINS: ClassVar[tuple[str, ...]] = ("pin", "direction_pin")
    pin: Pin = Field(default="", description="The PWM pin.", examples=[5])
    direction_pin: Pin = Field(default="", description="The pin for the direction.", examples=[4])


class TwoPinOutput(_Pulsed):
    """Two PWM pins, one for each way; the other one rests at 0. Both high brake. Also for a driver whose enable pin is tied
    high, with the speed on its two direction pins.
    """

    kind: Literal["two pins"]
    HALTS = ("brake",)
    PINS: ClassVar[tuple[str, ...]] = ("forward_pin", "backward_pin")
    forward_pin: Pin = Field(default="", description="The PWM pin that drives forward.", examples=[5])
    backward_pin: Pin = Field(default="", description="The PWM pin that drives backward.", examples=[6])


class ThreePinOutput(_Pulsed):
    """An enable pin that takes the PWM, and two direction pins: forward one is high, backward the other. At rest all three are
    low. Both direction pins and enable high brake; enable low lets the motor coast, so it coasts at rest too.
    """

    kind: Literal["three pins"]
    HALTS = ("brake", "coast")
    PINS: ClassVar[tuple[str, ...]] = ("enable_pin", "forward_pin", "backward_pin")
    enable_pin: Pin = Field(default="", description="The PWM pin that switches the motor on.", examples=[5])
    forward_pin: Pin = Field(default="", description="The pin that is high for forward.", examples=[7])
    backward_pin: Pin = Field(default="", description="The pin that is high for backward.", examples=[8])

    def mistakes(self) -> list[tuple[str, str]]:
        if not self.pins():
            return []
        return [
            (
                role,
                "is missing; a driver with three pins needs enable_pin, forward_pin and backward_pin, or none of them here",
            )
            for role in self.PINS
            if role not in self.pins()
        ]


class ServoOutput(Ported):
    """A servo pulse, as continuous-rotation servos and many speed controllers take it."""

    kind: Literal["servo"]
    PINS: ClassVar[tuple[str, ...]] = ("pin",)
    pin: Pin = Field(default="", description="The signal pin.", examples=[9])
    backward_s: Annotated[float, Quantity("time", above=0)] = Field(
        default=0.001, alias="backward", description="The pulse for full backward.", examples=["1000 us"]
    )
    rest_s: Annotated[float, Quantity("time", above=0)] = Field(
        default=0.0015, alias="rest", description="The pulse for standing still.", examples=["1500 us"]
    )
    forward_s: Annotated[float, Quantity("time", above=0)] = Field(
        default=0.002, alias="forward", description="The pulse for full forward.", examples=["2000 us"]
    )

    def mistakes(self) -> list[tuple[str, str]]:
        between = self.backward_s < self.rest_s < self.forward_s or self.backward_s > self.rest_s > self.forward_s
        if between:
            return []
        spell = [f"{s * 1e6:g} us" for s in (self.backward_s, self.rest_s, self.forward_s)]
        return [("rest", f"is {spell[1]}, but must lie between backward ({spell[0]}) and forward ({spell[2]})")]


Output = Annotated[
    FractionOutput
    | PercentOutput
    | SpeedOutput
    | DutyOutput
    | MagnitudeOutput
    | TwoPinOutput
    | ThreePinOutput
    | ServoOutput,
    Field(discriminator="kind"),
]
