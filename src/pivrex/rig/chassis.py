"""The chassis: the places and directions of the wheels, and the body around them."""

from __future__ import annotations

from collections.abc import Iterable
from math import degrees, pi
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.geometry import Contact, Geometry, geometry_of, impossible_motion
from pivrex.rig.quantities import Quantity

__all__ = ["Bench", "Caster", "Chassis", "Name", "Spot", "Wheel", "bench_of"]

Name = Annotated[str, Field(pattern=r"^[A-Za-z][A-Za-z0-9 _-]{0,23}$")]
"""A name of letters, digits, spaces, - and _, at most 24 of them, beginning with a letter."""

LARGEST_M = 10.0
"""No student robot is larger; a bigger number is a slip of the unit."""

MAX_WHEELS = 12
"""No student robot has more; a longer list is a slip of the pen."""

NEARLY_SINGULAR = 1 / 300
"""Wheels whose weakest motion is this much weaker than their strongest are no chassis."""

Across = Annotated[float, Quantity("length", at_least=-LARGEST_M, at_most=LARGEST_M, step="5 mm")]


class Wheel(Table):
    """A driven wheel. x is forward and y is left of the robot's centre."""

    name: Name = Field(description="Your name for the wheel.", examples=["front left"])
    x_m: Across = Field(
        alias="x", description="Distance forward of the centre where it touches the ground.", examples=["0 mm"]
    )
    y_m: Across = Field(
        alias="y", description="Distance left of the centre where it touches the ground.", examples=["80 mm"]
    )
    drive_rad: Annotated[float, Quantity("angle", step="5 deg")] = Field(
        default=0.0,
        alias="drive",
        description="The direction it rolls when driven forward, counter-clockwise from straight ahead. A steered "
        "wheel has none.",
        examples=["0 deg"],
    )
    rollers_rad: Annotated[float, Quantity("angle", at_least=-4 * pi / 9, at_most=4 * pi / 9, step="5 deg")] | None = (
        Field(
            default=None,
            alias="rollers",
            description="For a wheel with rollers: the angle, counter-clockwise from its drive direction, to the axis of "
            'the roller that touches the ground. "0 deg" is an omni wheel; a mecanum wheel has 45 or -45 deg, its front '
            "left one -45. Left out: a plain wheel.",
            examples=["-45 deg"],
        )
    )
    steered: bool = Field(
        default=False, description="True if a motor turns the wheel about its upright axis.", examples=[False]
    )
    radius_m: Annotated[float, Quantity("length", at_least=0.001, at_most=LARGEST_M, step="1 mm")] = Field(
        alias="radius", description="From the axle to the ground.", examples=["32 mm"]
    )

    def mistakes(self) -> list[tuple[str, str]]:
        found = []
        if self.steered and self.rollers_rad is not None:
            found.append(
                (
                    "rollers",
                    "are given for a steered wheel; a wheel is steered or has rollers, and only a plain one steers",
                )
            )
        if self.steered and self.drive_rad:
            found.append(("drive", "is given for a steered wheel; its steering says which way it rolls"))
        return found

    @property
    def kind(self) -> str:
        """The kind of wheel: plain, omni, mecanum or steered."""
        if self.steered:
            return "steered"
        if self.rollers_rad is None:
            return "plain"
        return "omni" if abs(self.rollers_rad) < 1e-9 else "mecanum"


class Caster(Table):
    """A wheel that only supports: a caster, a ball or a skid."""

    x_m: Annotated[float, Quantity("length", at_least=-LARGEST_M, at_most=LARGEST_M)] = Field(
        alias="x", description="Distance forward of the centre.", examples=["-70 mm"]
    )
    y_m: Annotated[float, Quantity("length", at_least=-LARGEST_M, at_most=LARGEST_M)] = Field(
        alias="y", description="Distance left of the centre.", examples=["0 mm"]
    )


class Spot(Table):
    """A place on the robot."""

    x_m: Across = Field(default=0.0, alias="x", description="Distance forward of the centre.", examples=["20 mm"])
    y_m: Across = Field(default=0.0, alias="y", description="Distance left of the centre.", examples=["0 mm"])


class Chassis(Table):
    """The body and its wheels. What it can do follows from where the wheels are, whatever it is called."""

    kind: Literal["any", "two-sided", "omni", "mecanum", "steered"] = Field(
        default="any",
        description="The kind of chassis that you mean, so that Pivrex notices a mistake. two-sided: plain wheels on the left "
        "and on the right that all drive along the robot. omni: all wheels have rollers. mecanum: all have slanted "
        "rollers. steered: all are steered. any: no check.",
        examples=["two-sided"],
    )
    length_m: Annotated[float, Quantity("length", at_least=0.01, at_most=LARGEST_M, step="5 mm")] = Field(
        alias="length", description="The body from front to back, for drawings and contacts.", examples=["220 mm"]
    )
    width_m: Annotated[float, Quantity("length", at_least=0.01, at_most=LARGEST_M, step="5 mm")] = Field(
        alias="width", description="The body from side to side.", examples=["190 mm"]
    )
    mass_centre: Spot = Field(default=Spot(x=0, y=0), description="Where the weight sits, seen from above.")
    wheels: tuple[Wheel, ...] = Field(description="The driven wheels.")
    casters: tuple[Caster, ...] = Field(default=(), description="Wheels that only support.")

    def mistakes(self) -> list[tuple[str, str]]:
        found = []
        seen: dict[str, int] = {}
        for i, wheel in enumerate(self.wheels):
            if wheel.name in seen:
                found.append((f"wheels.{i}.name", f'is "{wheel.name}" again; every wheel needs its own name'))
            seen.setdefault(wheel.name, i)
            for other in self.wheels[:i]:
                if (wheel.x_m, wheel.y_m) == (other.x_m, other.y_m):
                    found.append((f"wheels.{i}", f"stands in the same place as wheel {other.name!r}"))
        if len(self.wheels) > MAX_WHEELS:
            return [("wheels", f"has {len(self.wheels)} wheels; at most {MAX_WHEELS} are taken")]
        if not self.wheels:
            return [*found, ("wheels", "has no wheel; a chassis needs at least two to go where it should")]
        found += self._kind_mistakes()
        return found or self._motion_mistakes()

    def _kind_mistakes(self) -> list[tuple[str, str]]:
        found = []
        wanted = {
            "two-sided": ("plain",),
            "omni": ("omni", "mecanum"),
            "mecanum": ("mecanum",),
            "steered": ("steered",),
        }.get(self.kind)
        if wanted is None:
            return []
        for i, wheel in enumerate(self.wheels):
            if wheel.kind not in wanted:
                found.append(
                    (f"wheels.{i}", f'is {wheel.kind}, but kind = "{self.kind}" wants {" or ".join(wanted)} wheels')
                )
            elif self.kind == "two-sided" and abs(wheel.drive_rad) > 1e-9:
                found.append(
                    (
                        f"wheels.{i}.drive",
                        'must be "0 deg" on a two-sided chassis, whose wheels drive straight ahead; leave kind out to turn it',
                    )
                )
        if found or self.kind != "two-sided":
            return found
        sides = {wheel.y_m for wheel in self.wheels}
        if len(self.wheels) < 2:
            return [
                ("wheels", "has one wheel; a two-sided chassis needs at least one at the left and one at the right")
            ]
        if len(sides) < 2:
            return [
                (
                    "wheels",
                    "all have the same y, a track of zero: the chassis could not turn; give the left ones a larger y than the right ones",
                )
            ]
        if len(sides) > 2:
            return [
                (
                    "wheels",
                    "have more than two different values of y; on a two-sided chassis all wheels of a side share one y",
                )
            ]
        return []

    def _motion_mistakes(self) -> list[tuple[str, str]]:
        """Refuse wheels that leave a motion to chance, or that are nearly unable to do one."""
        geometry = self.geometry
        if geometry.loose.size:
            motion = impossible_motion(geometry.loose[:, 0])
            why = (
                "the rollers let it roll that way freely"
                if any(w.rollers_rad is not None for w in self.wheels)
                else "no wheel drives or holds it there"
            )
            count = "one wheel" if len(self.wheels) == 1 else f"{len(self.wheels)} wheels"
            return [("wheels", f"has {count} that cannot do {motion}, nor keep from it: {why}")]
        if geometry.weakest < NEARLY_SINGULAR:
            motion = impossible_motion(geometry.weakest_motion)
            return [
                (
                    "wheels",
                    f"are placed so that {motion} is nearly impossible: it needs wheels {1 / geometry.weakest:.0f} times as "
                    f"fast as the easiest motion does (up to {1 / NEARLY_SINGULAR:.0f} times is taken)",
                )
            ]
        return []

    @property
    def geometry(self) -> Geometry:
        """The geometry of the wheels."""
        return geometry_of(tuple(Contact(w.x_m, w.y_m, w.drive_rad, w.rollers_rad, w.steered) for w in self.wheels))

    @property
    def shape(self) -> str:
        """The kind of chassis in a word: two-sided, omni, mecanum, steered or mixed."""
        kinds = {w.kind for w in self.wheels}
        if kinds == {"plain"} and all(abs(w.drive_rad) < 1e-9 for w in self.wheels):
            return "two-sided"
        if len(kinds) == 1 and kinds != {"plain"}:
            return kinds.pop()
        return "omni" if kinds == {"omni", "mecanum"} else "mixed"

    def describe_wheel(self, wheel: Wheel) -> str:
        """Return in a few words what a wheel is."""
        if wheel.steered:
            return "steered"
        turned = f", drives {degrees(wheel.drive_rad):+.0f} deg" if abs(wheel.drive_rad) > 1e-9 else ""
        rollers = f", rollers {degrees(wheel.rollers_rad):+.0f} deg" if wheel.rollers_rad else ""
        return f"{wheel.kind}{rollers}{turned}"


class Bench(Chassis):
    """The place of a missing chassis: a wheel for each motor, off the ground, for which a metre is a radian."""

    def mistakes(self) -> list[tuple[str, str]]:
        return []

    @property
    def geometry(self) -> Geometry:
        """No motion asks anything of its wheels, and they move nothing."""
        count = len(self.wheels)
        nothing, none = np.zeros((count, 3)), np.zeros((0, 3))
        return Geometry(
            rows=nothing, of_wheel=np.arange(count), forward=nothing.T, slip=none, slip_upside_down=none,
            of_plain=np.zeros(0, np.intp), clean=np.eye(3), clean_upside_down=np.eye(3), loose=np.eye(3), weakest=1.0,
            weakest_motion=np.array([0.0, 0.0, 1.0]), reach_m=0.0, rows_upside_down=nothing, forward_upside_down=nothing.T,
        )  # fmt: skip

    @property
    def shape(self) -> str:
        return "bench"


def bench_of(motors: Iterable[str]) -> Bench:
    """Return the bench that some motors stand on."""
    wheels = tuple(
        Wheel.model_validate({"name": name, "x": "0 mm", "y": f"{-100 * k} mm", "radius": "1 m"})
        for k, name in enumerate(motors)
    )
    return Bench.model_validate({"length": "200 mm", "width": "200 mm", "wheels": wheels})
