"""The simulated robot's body: its mass, its grip, and its battery. No stage of the line reads these."""

from __future__ import annotations

from math import pi, radians, sqrt
from typing import Annotated, Literal

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.chassis import Chassis
from pivrex.rig.outputs import Pin
from pivrex.rig.quantities import Quantity

__all__ = ["Battery", "Body"]

PER_AREA_KG_M2 = 25.0
"""What a robot weighs for each square metre that it covers, if no one has weighed it."""

_Share = Annotated[float, Quantity("fraction", at_least=0, at_most=1, step="1 %")]
_Grip = Annotated[float, Quantity("number", at_least=0, at_most=3, step="0.05")]


class Body(Table):
    """How the simulated robot moves. ``realistic``: motors that must push a mass over a floor that gives way; ``ideal``: wheels that
    follow with `lag`, no slip, sensors without a fault.
    """

    kind: Literal["realistic", "ideal"] = Field(
        default="realistic",
        description="realistic: mass, motors, battery, tyres, load and sensors as below. ideal: the wheels follow with `lag` "
        "and never slip, and sensors read the true values. A rig without [body] is ideal.",
        examples=["realistic"],
    )
    mass_kg: Annotated[float, Quantity("mass", above=0, at_most=1000, step="50 g")] | None = Field(
        default=None,
        alias="mass",
        description="The mass with everything on it. If left out, 25 kg for each square metre of the body.",
        examples=["1.4 kg"],
    )
    height_m: Annotated[float, Quantity("length", at_least=0, at_most=10, step="5 mm")] | None = Field(
        default=None,
        alias="height",
        description="The height of the mass centre above the floor: with a high one, a hard start lifts the front wheels. If "
        "left out, 1.5 times the largest wheel's radius.",
        examples=["50 mm"],
    )
    spread_m: Annotated[float, Quantity("length", above=0, at_most=10, step="5 mm")] | None = Field(
        default=None,
        alias="spread",
        description="The radius of gyration about the vertical axis: how far out the mass is. If left out, that of a uniform "
        "plate, √((length² + width²)/12).",
        examples=["80 mm"],
    )
    lean_spread_m: Annotated[float, Quantity("length", above=0, at_most=10, step="5 mm")] | None = Field(
        default=None,
        alias="lean_spread",
        description="The radius of gyration about the lateral axis through the mass centre: how hard the robot is to tip. If "
        "left out, that of a uniform box twice as high as its mass centre.",
        examples=["60 mm"],
    )
    lies_forward_rad: Annotated[float, Quantity("angle", above=0, at_most=pi / 2, step="5 deg")] | None = Field(
        default=None,
        alias="lies_forward",
        description="The lean at which a robot that fell forward lies on its frame: 60 deg for one that balances, 90 deg for others, "
        "if left out.",
        examples=["60 deg"],
    )
    lies_back_rad: Annotated[float, Quantity("angle", above=0, at_most=pi / 2, step="5 deg")] | None = Field(
        default=None, alias="lies_back", description="The same backward, as a positive angle.", examples=["60 deg"]
    )
    grip: _Grip = Field(
        default=0.8,
        description="Friction coefficient of the tyres along the wheel: the largest force for each newton of load. Rubber on "
        "wood has 0.8, on dust 0.4.",
        examples=[0.8],
    )
    grip_across: _Grip | None = Field(
        default=None, description="The same across the wheel; equal to `grip` if left out.", examples=[0.7]
    )
    rolling: _Grip = Field(
        default=0.015, description="Drag of a rolling wheel for each newton of load.", examples=[0.015]
    )
    rollers: _Grip = Field(
        default=0.03,
        description="Drag of the rollers of omni and mecanum wheels along their free direction, for each newton of load.",
        examples=[0.03],
    )
    casters: _Grip = Field(
        default=0.05, description="Drag of casters and skids, for each newton of load.", examples=[0.05]
    )
    bumper: _Grip = Field(
        default=0.3,
        description="Friction between the body and obstacles; with 0 it slides along a bench freely.",
        examples=[0.3],
    )
    at_zero: Literal["brake", "coast"] = Field(
        default="brake",
        description="What a motor does at output 0: brake (its two ends are connected) or coast. A driver with three pins "
        "coasts.",
        examples=["brake"],
    )

    def weighs_kg(self, chassis: Chassis) -> float:
        """The mass of a robot with this chassis."""
        return self.mass_kg if self.mass_kg is not None else PER_AREA_KG_M2 * chassis.length_m * chassis.width_m

    def high_m(self, chassis: Chassis) -> float:
        """How high its weight sits."""
        return self.height_m if self.height_m is not None else 1.5 * max(w.radius_m for w in chassis.wheels)

    def spread_of_m(self, chassis: Chassis) -> float:
        """Its radius of gyration."""
        even = sqrt((chassis.length_m**2 + chassis.width_m**2) / 12)
        return self.spread_m if self.spread_m is not None else even

    def gyration_m(self, chassis: Chassis) -> tuple[float, float]:
        """Its radii of gyration about the axis across and that along it."""
        high = 2 * self.high_m(chassis)
        across = self.lean_spread_m or sqrt((chassis.length_m**2 + high**2) / 12)
        return across, sqrt((chassis.width_m**2 + high**2) / 12)

    def lies_rad(self, balances: bool) -> tuple[float, float]:
        """The leans forward and back at which it lies on its frame."""
        edge = radians(60) if balances else pi / 2
        return self.lies_forward_rad or edge, self.lies_back_rad or edge

    @property
    def across(self) -> float:
        """Friction across the wheel."""
        return self.grip if self.grip_across is None else self.grip_across


class Battery(Table):
    """What feeds the simulated robot's motors. All sag together when they pull."""

    volts: Annotated[float, Quantity("voltage", above=0, at_most=1000, step="0.1 V")] = Field(
        default=7.4, description="Its nominal voltage, at which the motors' `top_speed` holds.", examples=["7.4 V"]
    )
    capacity_As: Annotated[float, Quantity("charge", above=0, at_most=3.6e6, step="50 mAh")] = Field(  # noqa: N815 - ampere seconds
        default=1500 * 3.6, alias="capacity", description="Its charge when full.", examples=["1500 mAh"]
    )
    charge: _Share = Field(
        default=0.5,
        description="Its charge at the start. When full its voltage is 6 % above nominal, at a tenth 5 % below; then it falls "
        "to 70 %.",
        examples=["50 %"],
    )
    resistance_ohm: Annotated[float, Quantity("resistance", at_least=0, at_most=100, step="10 mohm")] = Field(
        default=0.12,
        alias="resistance",
        description="Its internal resistance, with the wires to it.",
        examples=["120 mohm"],
    )
    electronics_A: Annotated[float, Quantity("current", at_least=0, at_most=100, step="10 mA")] = Field(  # noqa: N815 - amperes
        default=0.3, alias="electronics", description="The current of everything but the motors.", examples=["300 mA"]
    )
    sensed: bool = Field(
        default=False,
        description="Whether the robot measures its battery's voltage and reports it; then wheel control may compensate for it.",
        examples=[True],
    )
    pin: Pin = Field(
        default="",
        description="The analogue pin of the board that measures it through the divider, for `pivrex board`.",
        examples=["A3"],
    )
    r1_ohm: Annotated[float, Quantity("resistance", above=0, at_most=1e7)] = Field(
        default=20e3, alias="r1", description="The divider's resistor between battery and pin.", examples=["20 kohm"]
    )
    r2_ohm: Annotated[float, Quantity("resistance", above=0, at_most=1e7)] = Field(
        default=10e3, alias="r2", description="The divider's resistor between pin and ground.", examples=["10 kohm"]
    )
    min_V: Annotated[float, Quantity("voltage", at_least=0, at_most=1000, step="0.1 V")] | None = Field(  # noqa: N815 - volts
        default=None,
        alias="least",
        description="Below this the electronics restart: for a second outputs rest and the robot does not reply. If left out, "
        "60 % of the nominal voltage.",
        examples=["4.5 V"],
    )

    @property
    def restarts_below_V(self) -> float:  # noqa: N802 - volts
        """Below this the electronics restart."""
        return self.min_V if self.min_V is not None else 0.6 * self.volts
