"""A routine's path on the field, and a close view of where many drives of it ended."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.rig import Rig
from pivrex.rig.field import Zone
from pivrex.scene.floor import ellipse
from pivrex.scene.robot import add_outline, add_robot
from pivrex.scene.scene import Box, Margins, Scene

__all__ = ["Route", "add_route", "cloud_scene"]

Floats = NDArray[np.float64]

MIN_M, FAR_M = 0.08, 0.3
"""Half of the window at least; a zone that would need more than that and three times the cloud is left out."""


class Route(NamedTuple):
    """The data of the drawing: poses, (N, 3), driven and commanded, the ticks of the chosen steps, those with a mark, the robot, its end
    poses in many drives, (M, 3), and the path of another version, (N, 3).
    """

    poses: Floats
    commanded: Floats
    chosen: tuple[tuple[int, int], ...]
    marked: tuple[tuple[int, int], ...]
    at: int
    live: tuple[float, float, float] | None = None
    cloud: Floats | None = None
    other: Floats | None = None


def add_route(scene: Scene, rig: Rig, route: Route) -> None:
    """Draw a routine's way onto a field."""

    def path(named: str, poses: Floats, width: float = 0.4, dash: float = 0.0) -> None:
        if len(poses) > 1:
            scene.line(poses[:, :2], named, width, dash)

    if route.other is not None:
        path("target", route.other, 0.3, 0.9)
    for begin, end in route.chosen:
        path("title", route.commanded[begin : end + 1], 1.1)
    path("commanded", route.commanded)
    path("measured", route.poses, 0.4, 0.8)
    for begin, end in route.marked:
        path("alarm", route.poses[begin : end + 1], 0.5)
    if route.cloud is not None:
        scene.dots(route.cloud[:, :2], "target", 0.2)
    if len(route.poses):
        add_outline(scene, rig, route.poses[0].tolist(), "ghost")
        at = min(route.at, len(route.poses) - 1)
        add_robot(scene, rig, route.poses[at].tolist())
    if route.live is not None:
        add_robot(scene, rig, route.live, hull="measure fill")


def _half(poses: Floats, zone: Zone | None) -> float:
    """Return half of the window's height in m: all but the farthest two in a hundred lie within, and a zone that is not far away."""
    off = np.abs(poses[:, :2] - poses[:, :2].mean(axis=0)).max(axis=1)
    half = float(np.quantile(off, 0.98)) * 1.15
    if zone is not None:
        mx, my = poses[:, :2].mean(axis=0)
        needed = zone.radius_m * 1.1 + max(abs(zone.x_m - mx), abs(zone.y_m - my))
        half = max(half, needed) if needed < max(3 * half, FAR_M) else half
    return max(half, MIN_M)


def cloud_scene(poses: Floats, zone: Zone | None) -> Scene:
    """Draw end poses, (N, 3), in a window round their mean: the points, their scatter as an ellipse, and the zone to be reached.

    Notes
    -----
    The ellipse is that of two sigma of a normal distribution with their covariance: 86 of 100 would lie within.
    """
    half, middle = _half(poses, zone), poses[:, :2].mean(axis=0)
    left, bottom = (middle - half).tolist()
    scene = Scene(Box(left, bottom, left + 2 * half, bottom + 2 * half), margins=Margins(0, 1, 0, 1))
    if zone is not None:
        scene.disc((zone.x_m, zone.y_m), zone.radius_m, "floor")
        scene.circle((zone.x_m, zone.y_m), zone.radius_m, "frame", 0.3)
        scene.caption(zone.name)
    scene.dots(poses[:, :2], "target", 0.22)
    if len(poses) > 2:
        scene.line(ellipse(np.cov(poses[:, :2], rowvar=False), 90) + middle, "rest", 0.35, 0.9)
    # how long something is: a bar of a round length
    bar = next(b for b in (0.5, 0.2, 0.1, 0.05, 0.02, 0.01, 0.0) if b <= 2 * half / 3)
    if bar:
        y = bottom + 0.06 * half
        scene.line([(left, y), (left + bar, y)], "dim", 0.4)
        scene.caption(f"▔ {bar * 100:g} cm", "dim", "bottom")
    return scene
