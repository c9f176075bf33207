"""Sensors in addition to encoders and gyro: rangers, and readers of a lamp that shows a number on the field."""

from __future__ import annotations

from math import pi, radians
from typing import Annotated, Literal

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.chassis import Across
from pivrex.rig.outputs import Pin
from pivrex.rig.quantities import Quantity

__all__ = ["Lamp", "Ranger", "Sensor"]


class _Placed(Table):
    x_m: Across = Field(default=0.0, alias="x", description="Its distance forward of the centre.", examples=["110 mm"])
    y_m: Across = Field(default=0.0, alias="y", description="Its distance left of the centre.", examples=["0 mm"])
    direction_rad: Annotated[float, Quantity("angle", step="5 deg")] = Field(
        default=0.0,
        alias="direction",
        description="Where it looks, counter-clockwise from straight ahead.",
        examples=["0 deg"],
    )


class Ranger(_Placed):
    """An ultrasonic ranger: how far the nearest wall or block in its cone is; 0 where it hears no echo."""

    kind: Literal["ranger"]
    cone_rad: Annotated[float, Quantity("angle", at_least=0, at_most=pi, step="5 deg")] = Field(
        default=radians(20), alias="cone", description="The angle of its cone, from edge to edge.", examples=["20 deg"]
    )
    shortest_m: Annotated[float, Quantity("length", at_least=0, at_most=10, step="5 mm")] = Field(
        default=0.02, alias="shortest", description="Nearer objects read as this distance.", examples=["20 mm"]
    )
    longest_m: Annotated[float, Quantity("length", above=0, at_most=100, step="10 cm")] = Field(
        default=3.0, alias="longest", description="There is no echo from farther away.", examples=["3 m"]
    )
    trigger_pin: Pin = Field(
        default="", description="The pin of the board that makes it send a sound, for `pivrex board`.", examples=[12]
    )
    echo_pin: Pin = Field(
        default="", description="The pin that is high while the sound and its echo travel.", examples=[13]
    )
    noise_m: Annotated[float, Quantity("length", at_least=0, at_most=10, step="1 mm")] = Field(
        default=0.004,
        alias="noise",
        description="Noise of each reading (one sigma), in the simulated robot's realistic physics.",
        examples=["4 mm"],
    )
    missed: Annotated[float, Quantity("fraction", at_least=0, at_most=1, step="1 %")] = Field(
        default=0.02,
        description="The share of missed echoes, in the simulated robot's realistic physics.",
        examples=["2 %"],
    )

    def mistakes(self) -> list[tuple[str, str]]:
        if self.shortest_m >= self.longest_m:
            return [("shortest", f"is {self.shortest_m:g} m, but must be less than longest, {self.longest_m:g} m")]
        return []


class Lamp(_Placed):
    """What reads the number that something on the field shows, such as a moisture post; 0 while it sees none."""

    kind: Literal["lamp"]
    range_m: Annotated[float, Quantity("length", above=0, at_most=100, step="10 cm")] = Field(
        default=1.5, alias="range", description="It reads numbers within this range.", examples=["1.5 m"]
    )
    sight_rad: Annotated[float, Quantity("angle", above=0, at_most=2 * pi, step="5 deg")] = Field(
        default=radians(120),
        alias="sight",
        description="The angle of its view, from edge to edge. Blocks hide what is behind them.",
        examples=["120 deg"],
    )


Sensor = Annotated[Ranger | Lamp, Field(discriminator="kind")]
