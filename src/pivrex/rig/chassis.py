"""The chassis: where the wheels are and which way they drive, and the body around them."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.quantities import Quantity

__all__ = ["Caster", "Chassis", "Name", "Wheel"]

Name = Annotated[str, Field(pattern=r"^[A-Za-z][A-Za-z0-9 _-]{0,23}$")]
"""A name of letters, digits, spaces, - and _, at most 24 of them, beginning with a letter."""

LARGEST_M = 10.0
"""No student robot is larger; a bigger number is a slip of the unit."""


class Wheel(Table):
    """A driven wheel. x is forward and y is left of the robot's centre."""

    name: Name = Field(description="What you call the wheel.", examples=["front left"])
    x_m: Annotated[float, Quantity("length", at_least=-LARGEST_M, at_most=LARGEST_M, step="1 mm")] = Field(
        alias="x", description="How far forward of the centre it touches the ground.", examples=["0 mm"]
    )
    y_m: Annotated[float, Quantity("length", at_least=-LARGEST_M, at_most=LARGEST_M, step="1 mm")] = Field(
        alias="y", description="How far left of the centre it touches the ground.", examples=["80 mm"]
    )
    drive_rad: Annotated[float, Quantity("angle", step="1 deg")] = Field(
        default=0.0,
        alias="drive",
        description="The direction it rolls when driven forward, counter-clockwise from straight ahead.",
        examples=["0 deg"],
    )
    radius_m: Annotated[float, Quantity("length", above=0, at_most=LARGEST_M, step="1 mm")] = Field(
        alias="radius", description="From the axle to the ground.", examples=["32 mm"]
    )


class Caster(Table):
    """A wheel that only supports: a caster, a ball or a skid."""

    x_m: Annotated[float, Quantity("length", at_least=-LARGEST_M, at_most=LARGEST_M)] = Field(
        alias="x", description="How far forward of the centre.", examples=["-70 mm"]
    )
    y_m: Annotated[float, Quantity("length", at_least=-LARGEST_M, at_most=LARGEST_M)] = Field(
        alias="y", description="How far left of the centre.", examples=["0 mm"]
    )


class Chassis(Table):
    """The body and its wheels."""

    kind: Literal["two-sided"] = Field(
        description="How the chassis moves. Two-sided: wheels at the left and at the right that all drive along "
        "the robot, steering by their difference."
    )
    length_m: Annotated[float, Quantity("length", above=0, at_most=LARGEST_M)] = Field(
        alias="length",
        description="The body from front to back, for the drawing and for bumping into things.",
        examples=["220 mm"],
    )
    width_m: Annotated[float, Quantity("length", above=0, at_most=LARGEST_M)] = Field(
        alias="width", description="The body from side to side.", examples=["190 mm"]
    )
    wheels: tuple[Wheel, ...] = Field(description="The driven wheels; two or more.")
    casters: tuple[Caster, ...] = Field(default=(), description="Wheels that only support.")

    def mistakes(self) -> list[tuple[str, str]]:
        found = []
        seen: dict[str, int] = {}
        for i, wheel in enumerate(self.wheels):
            if wheel.name in seen:
                found.append((f"wheels.{i}.name", f'is "{wheel.name}" again; every wheel needs its own name'))
            seen.setdefault(wheel.name, i)
            if abs(wheel.drive_rad) > 1e-9:
                found.append(
                    (
                        f"wheels.{i}.drive",
                        'must be "0 deg" on a two-sided chassis: its wheels drive straight ahead',
                    )
                )
            for j in range(i):
                other = self.wheels[j]
                if (wheel.x_m, wheel.y_m) == (other.x_m, other.y_m):
                    found.append((f"wheels.{i}", f"stands in the same place as wheel {other.name!r}"))
        if len(self.wheels) < 2:
            count = "no wheel" if not self.wheels else "one wheel"
            found.append(
                (
                    "wheels",
                    f"has {count}; a two-sided chassis needs at least one at the left and one at the right",
                )
            )
        elif len({wheel.y_m for wheel in self.wheels}) < 2:
            found.append(
                (
                    "wheels",
                    "all have the same y, a track of zero: the chassis could not turn; give the left ones a larger y than the right ones",
                )
            )
        elif len({wheel.y_m for wheel in self.wheels}) > 2:
            found.append(
                (
                    "wheels",
                    "have more than two different values of y; on a two-sided chassis all wheels of a side share one y",
                )
            )
        return found

    @property
    def track_m(self) -> float:
        """The distance between the left and the right wheels."""
        return max(w.y_m for w in self.wheels) - min(w.y_m for w in self.wheels)
