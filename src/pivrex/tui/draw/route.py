"""A routine on the field: where it was asked to be, where it got to, the step that is chosen, and the robot at the cursor."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.rig import Field, Rig
from pivrex.tui.draw.field_scale import FieldScale
from pivrex.tui.draw.picture import Areas, Dots, Picture
from pivrex.tui.draw.small_robot import lay_robot, outline_robot

__all__ = ["Route", "draw_route", "draw_zones"]

Floats = NDArray[np.float64]


class Route(NamedTuple):
    """What is drawn: poses, (N, 3), got to and asked for, the ticks of the chosen steps, those with a mark, the robot,
    where it ended in many drives, (M, 3), and the way of another version, (N, 3).
    """

    poses: Floats
    asked: Floats
    chosen: tuple[tuple[int, int], ...]
    marked: tuple[tuple[int, int], ...]
    at: int
    live: tuple[float, float, float] | None = None
    cloud: Floats | None = None
    other: Floats | None = None


def draw_zones(picture: Picture, field: Field, scale: FieldScale) -> None:
    """Draw the places that shall be reached, and their names where there is room."""
    dots = Dots(*scale.cells)
    ring = dots.layer("target")
    angle = np.linspace(0, 2 * np.pi, 60)
    for zone in field.zones:
        x, y = zone.x_m + zone.radius_m * np.cos(angle), zone.y_m + zone.radius_m * np.sin(angle)
        dots.path(ring, scale.x(x), scale.y(y), every=2)
    dots.onto(picture, scale.left, scale.top)


def draw_route(ground: Picture, scale: FieldScale, rig: Rig, route: Route) -> Picture:
    """Draw a routine's way onto the ground, which is not changed."""
    picture = Picture(ground.width, ground.height)
    picture.place(ground, 0, 0)
    dots = Dots(*scale.cells)

    def path(named: str, poses: Floats, every: int = 1) -> None:
        if len(poses) > 1:
            dots.path(dots.layer(named), scale.x(poses[:, 0]), scale.y(poses[:, 1]), every=every)

    if route.other is not None:
        path("target", route.other, 3)
    path("measured", route.poses, 2)
    path("commanded", route.asked)
    for begin, end in route.marked:
        path("alarm", route.poses[begin : end + 1])
    for begin, end in route.chosen:
        path("rest", route.asked[begin : end + 1])
        # twice as thick, a dot beside
        path("rest", route.asked[begin : end + 1] + np.array([0.0, 1.0 / scale.per_m, 0.0]))
    if len(route.poses):
        outline_robot(dots, scale, rig, tuple(route.poses[0].tolist()), "ghost")
    dots.onto(picture, scale.left, scale.top)
    areas = Areas(*scale.cells)
    if len(route.poses):
        at = min(route.at, len(route.poses) - 1)
        lay_robot(areas, scale, rig, tuple(route.poses[at].tolist()))
    if route.live is not None:
        lay_robot(areas, scale, rig, route.live, hull="measure fill")
    areas.onto(picture, scale.left, scale.top)
    if route.cloud is not None:
        ends = Dots(*scale.cells)
        ends.points(ends.layer("target"), scale.x(route.cloud[:, 0]), scale.y(route.cloud[:, 1]))
        ends.onto(picture, scale.left, scale.top)
    return picture
