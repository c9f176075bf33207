"""The motors: their speed, their wheels, their wiring."""

from __future__ import annotations

import math
from typing import Annotated

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.outputs import ENCODER_PINS, EncoderPins, Output
from pivrex.rig.quantities import Quantity

__all__ = ["Motor"]


class Motor(Table):
    """One output of the motor driver. It may turn several wheels that must run at the same speed."""

    wheels: tuple[str, ...] = Field(
        default=(),
        description="The wheels that it turns, by name. On a bench, without a chassis, it has none.",
        examples=[["left"]],
    )
    top_speed_rad_s: Annotated[float, Quantity("turn rate", above=0, at_most=1e5, step="10 rpm")] = Field(
        alias="top_speed",
        description="The speed of the motor shaft at full drive, with the robot on the floor.",
        examples=["9000 rpm"],
    )
    gear: Annotated[float, Quantity("number", above=0, at_most=1e6, step="1")] = Field(
        default=1.0, description="Turns of the motor shaft for one turn of the wheel.", examples=[30]
    )
    counts_per_turn: Annotated[float, Quantity("number", at_least=0, at_most=1e9, step="1")] = Field(
        default=0.0, description="Encoder counts for one turn of the motor shaft; 0 without an encoder.", examples=[12]
    )
    encoder_pins: EncoderPins = ENCODER_PINS
    reversed: bool = Field(
        default=False, description="True if a positive output turns the wheel backward.", examples=[False]
    )
    encoder_reversed: bool = Field(
        default=False, description="True if the encoder counts down while the wheel rolls forward.", examples=[False]
    )
    smallest: Annotated[float, Quantity("fraction", at_least=0, at_most=0.9, step="1 %")] = Field(
        default=0.0,
        description="The smallest drive that turns the loaded wheel. Below it the motor only hums.",
        examples=["8 %"],
    )
    strength: Annotated[float, Quantity("fraction", at_least=0, at_most=2, step="1 %")] = Field(
        default=1.0,
        description="The strength of this motor compared with a good one, in torque and in speed: 92 % is 8 % weaker. Only the "
        "simulated robot with realistic physics uses it.",
        examples=["92 %"],
    )
    stall_Nm: Annotated[float, Quantity("torque", above=0, at_most=1e4)] | None = Field(  # noqa: N815 - newton metres
        default=None,
        alias="stall",
        description="The torque of the motor shaft at nominal voltage while it is held still. If left out, Pivrex chooses it so"
        " that the robot follows with `lag`.",
        examples=["35 mNm"],
    )
    friction: Annotated[float, Quantity("fraction", at_least=0, at_most=0.9, step="1 %")] | None = Field(
        default=None,
        description="Friction of the running gear, as a share of the stall torque; half of `smallest` if left out.",
        examples=["2 %"],
    )
    efficiency: Annotated[float, Quantity("fraction", above=0, at_most=1, step="1 %")] = Field(
        default=0.85,
        description="The efficiency of the gear: the share of `stall` that reaches the wheel.",
        examples=["85 %"],
    )
    inertia_kg_m2: Annotated[float, Quantity("inertia", above=0, at_most=100)] | None = Field(
        default=None,
        alias="inertia",
        description="The inertia of the rotor and all that turns with it, at the motor shaft. If left out, it is worth a sixth "
        "of the robot's mass on this wheel.",
        examples=["3 g cm2"],
    )
    output: Output = Field(description="What the motor driver expects.")

    @property
    def wheel_top_rad_s(self) -> float:
        """The wheel's own top rate of turn."""
        return self.top_speed_rad_s / self.gear

    @property
    def counts_per_wheel_turn(self) -> float:
        """Encoder counts for one turn of the wheel."""
        return self.counts_per_turn * self.gear

    def counts(self, travel_m: float, radius_m: float) -> float:
        """Encoder counts after a wheel of ``radius_m`` has rolled ``travel_m``."""
        return travel_m / (2 * math.pi * radius_m) * self.counts_per_wheel_turn
