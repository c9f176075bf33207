"""The definition of a path: points on the field that a robot drives through, and how."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from math import hypot
from typing import Annotated, Literal

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.quantities import Quantity

__all__ = ["MAX_POINTS", "Path", "PathPoint", "SlowZone", "path_through"]

MAX_POINTS = 10_000

SAME_M = 0.001
"""Two points in a row that lie closer than this are one."""

_Along = Annotated[float, Quantity("length", at_least=-1000, at_most=1000)]
_Speed = Annotated[float, Quantity("speed", above=0, at_most=100)]


class PathPoint(Table):
    """A point that the robot's centre goes through."""

    x_m: _Along = Field(alias="x", description="Along the field's length.", examples=["1.20 m"])
    y_m: _Along = Field(alias="y", description="Across it.", examples=["0.75 m"])
    direction_rad: Annotated[float, Quantity("angle")] | None = Field(
        default=None,
        alias="direction",
        description="The direction of the path there; the smoothest if left out.",
        examples=["90 deg"],
    )
    heading_rad: Annotated[float, Quantity("angle")] | None = Field(
        default=None,
        alias="heading",
        description='The heading of the robot there: if the path\'s heading is "points", or at the ends if it is "evenly".',
        examples=["0 deg"],
    )
    stop: bool = Field(default=False, description="Whether the robot stops there.", examples=[True])


class SlowZone(Table):
    """A place in which the robot is no faster than it says."""

    x_m: _Along = Field(alias="x", description="Its middle, along the field's length.", examples=["2.5 m"])
    y_m: _Along = Field(alias="y", description="Its middle, across it.", examples=["2.0 m"])
    radius_m: Annotated[float, Quantity("length", above=0, at_most=1000)] = Field(
        alias="radius", description="Its radius.", examples=["0.4 m"]
    )
    speed_m_s: _Speed = Field(alias="speed", description="The top speed.", examples=["0.2 m/s"])


class Path(Table):
    """Points on the field that a smooth curve runs through, and how it is driven."""

    floor: str = Field(
        default="", description="The floor of the path; the workspace's own field if left out.", examples=["greenhouse"]
    )
    heading: Literal["along", "fixed", "towards", "evenly", "points"] = Field(
        default="along",
        description="The heading of the robot: along the path, always the same (fixed), toward a place, evenly from the first "
        "point's heading to the last one's, or as the points say. All but the first need wheels that drive in any "
        "direction.",
        examples=["along"],
    )
    looks_rad: Annotated[float, Quantity("angle")] = Field(
        default=0.0, alias="looks", description="With fixed: the heading.", examples=["90 deg"]
    )
    towards_x_m: _Along = Field(
        default=0.0, alias="towards_x", description="With towards: the place.", examples=["2.5 m"]
    )
    towards_y_m: _Along = Field(
        default=0.0, alias="towards_y", description="With towards: the place.", examples=["2.0 m"]
    )
    backwards: bool = Field(
        default=False, description="With along: whether the robot's tail goes first.", examples=[True]
    )
    speed_m_s: _Speed | None = Field(
        default=None, alias="speed", description="The top speed; the rig's if left out.", examples=["0.8 m/s"]
    )
    acceleration_m_s2: Annotated[float, Quantity("acceleration", above=0, at_most=100)] | None = Field(
        default=None,
        alias="acceleration",
        description="The largest acceleration; the rig's if left out.",
        examples=["1 m/s/s"],
    )
    turn_rad_s: Annotated[float, Quantity("turn rate", above=0, at_most=100)] | None = Field(
        default=None, alias="turn", description="The fastest turn; the rig's if left out.", examples=["120 deg/s"]
    )
    points: tuple[PathPoint, ...] = Field(description="Where it runs.", min_length=2, max_length=MAX_POINTS)
    slow: tuple[SlowZone, ...] = Field(default=(), description="Where the robot is slow.", max_length=100)

    def mistakes(self) -> list[tuple[str, str]]:
        found = [
            (f"points.{k}", f"is the same place as point {k} before it; leave one out")
            for k, (a, b) in enumerate(pairwise(self.points), 1)
            if hypot(b.x_m - a.x_m, b.y_m - a.y_m) < SAME_M
        ]
        if self.heading in ("points", "evenly"):
            known = [k for k, p in enumerate(self.points) if p.heading_rad is not None]
            wanted = {0, len(self.points) - 1} - set(known)
            found += [
                (f"points.{k}", f'needs a heading, because the path\'s heading is "{self.heading}"') for k in wanted
            ]
        if self.backwards and self.heading != "along":
            found.append(("backwards", f'means something only with heading = "along", which is "{self.heading}" here'))
        return found


def path_through(
    x_m: float, y_m: float, heading_rad: float, keeps: bool, places: Sequence[tuple[float, float]]
) -> Path:
    """Return the path from where a robot stands through places. One that moves in any direction (``keeps``) goes on looking as it does, another
    begins as it looks.
    """
    first = PathPoint.model_construct(x_m=x_m, y_m=y_m, direction_rad=None if keeps else heading_rad)
    rest = [PathPoint.model_construct(x_m=x, y_m=y) for x, y in places]
    points, kept = [first], (x_m, y_m)
    for point in rest:
        if hypot(point.x_m - kept[0], point.y_m - kept[1]) >= SAME_M:
            points.append(point)
            kept = point.x_m, point.y_m
    if len(points) == 1:  # it is there already, within rounding
        points.append(PathPoint.model_construct(x_m=x_m + SAME_M, y_m=y_m))
    if keeps:
        return Path.model_construct(points=tuple(points), heading="fixed", looks_rad=heading_rad)
    return Path.model_construct(points=tuple(points))
