"""A field from above: its floor, its objects, its zones, and the paths on it."""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.rig import Field, Rig
from pivrex.scene.robot import add_outline
from pivrex.scene.scene import Box, Margins, Scene

__all__ = ["SIGMAS", "EstimatedPose", "add_estimate", "add_trail", "ellipse", "field_scene", "floor_of", "whole"]

Floats = NDArray[np.float64]

MARGINS = Margins(1, 1, 1, 1)
"""Its name stands above it, metres below."""

SIGMAS = 2.0
"""Of a normal distribution in the plane 86 of 100 lie within."""

WALL = 0.006
"""Room for the walls, as a share of the field."""

AGES = ("old trail", "trail", "measured")
"""A trail in three ages."""


def ellipse(covariance: Floats, points: int = 60) -> Floats:
    """Return points round a covariance, (2, 2), `SIGMAS` away from its middle: (N, 2).

    Notes
    -----
    Its axes are the eigenvectors, as long as the roots of the eigenvalues.
    """
    angle = np.linspace(0, 2 * np.pi, points)
    values, vectors = np.linalg.eigh(covariance)
    outline: Floats = (
        vectors * (SIGMAS * np.sqrt(np.maximum(values, 0.0))) @ np.stack((np.cos(angle), np.sin(angle)))
    ).T
    return outline


def whole(field: Field) -> Box:
    """Return all of a field, walls included."""
    rim = WALL * max(field.length_m, field.width_m)
    return Box(-rim, -rim, field.length_m + rim, field.width_m + rim)


@lru_cache(maxsize=12)
def floor_of(field: Field, box: Box, zones: bool = False, named: bool = True) -> Scene:
    """Return everything that does not move: the floor, benches and walls; with their names and zones on request."""
    scene = Scene(box, margins=MARGINS if named else Margins())
    length, width = field.length_m, field.width_m
    walls = [(0.0, 0.0), (length, 0.0), (length, width), (0.0, width), (0.0, 0.0)]
    scene.area(walls, "floor")
    inner = [(float(x), float(y)) for x in range(1, int(np.ceil(length))) for y in range(1, int(np.ceil(width)))]
    for x in range(1, int(np.ceil(length))):
        scene.line([(x, 0.0), (x, width)], "grid", 0.05)
    for y in range(1, int(np.ceil(width))):
        scene.line([(0.0, y), (length, y)], "grid", 0.05)
    for thing in field.blocks:
        half = np.array([thing.length_m, thing.width_m]) / 2
        corners = np.array([thing.x_m, thing.y_m]) + half * [(-1, -1), (1, -1), (1, 1), (-1, 1), (-1, -1)]
        scene.area(corners, "bench")
        scene.line(corners, "bench rim", 0.08)
    for one in field.rounds:
        scene.disc((one.x_m, one.y_m), one.radius_m, "bench")
        scene.circle((one.x_m, one.y_m), one.radius_m, "bench rim", 0.08)
    for zone in field.zones if zones else ():
        scene.circle((zone.x_m, zone.y_m), zone.radius_m, "target", 0.3, 0.8)
    scene.line(walls, "wall", 0.3)
    if named:
        _name(scene, field, inner)
    return scene


def _name(scene: Scene, field: Field, inner: list[tuple[float, float]]) -> None:
    """Write what things are called, and whole metres below the floor and as points on it."""
    box = scene.box
    scene.caption(f"{field.name} {field.length_m:g} × {field.width_m:g} m")
    for thing in field.blocks:
        scene.label((thing.x_m, thing.y_m), thing.name, "title", 3.0)
    for one in field.rounds:
        scene.label((one.x_m, one.y_m - one.radius_m), one.name, "rest", 2.0, "below right left above")
    if len(inner) <= 400:  # on a larger field they would be a carpet
        for x, y in inner:
            scene.label((x, y), "·", "frame", 0.1)
    step = next(s for s in (1, 2, 5, 10, 20, 50) if (box.right - box.left) / s <= 12 or s == 50)
    for metre in range(int(np.ceil(max(0.0, box.left))), int(min(field.length_m, box.right)) + 1):
        if metre % step == 0:
            scene.label((metre, box.bottom), f"{metre} m" if metre == 0 else str(metre), "dim", 1.0, "below")


def field_scene(field: Field, box: Box, zones: bool = False, named: bool = True) -> Scene:
    """Return a scene for everything that moves on a field, with the floor below it."""
    below = floor_of(field, box, zones, named)
    return Scene(box, margins=below.margins, below=below)


def add_trail(scene: Scene, trail: Floats, ages: tuple[str, ...] = AGES, width: float = 0.4) -> None:
    """Draw where something has been, (N, 2) in m: what is longer ago is fainter."""
    if len(trail) < 2:
        return
    ends = np.linspace(0, len(trail) - 1, len(ages) + 1).astype(int).tolist()
    for begin, end, named in zip(ends[:-1], ends[1:], ages, strict=True):
        scene.line(trail[begin : end + 1], named, width)


class EstimatedPose(NamedTuple):
    """The robot's estimated pose, x and y in m, heading in rad; and the covariance of its place, (2, 2) in m²."""

    pose: tuple[float, float, float]
    covariance: Floats


def add_estimate(
    scene: Scene, rig: Rig, estimated: EstimatedPose, pose: tuple[float, float, float], min_m: float
) -> None:
    """Draw the estimated pose dashed where it differs from the true one, and how far off it may be.

    A belief that is nearer to the truth than ``min_m`` would only hide the robot; so would an ellipse within it.
    """
    x, y, heading = estimated.pose
    off = float(np.hypot(x - pose[0], y - pose[1]))
    turned = abs(float(np.sin((heading - pose[2]) / 2))) * rig.chassis.length_m
    if not off + turned < min_m:
        add_outline(scene, rig, estimated.pose, "measured", 0.7)
    round_ = ellipse(estimated.covariance)
    if np.abs(round_).max() > max(rig.chassis.length_m, rig.chassis.width_m):
        scene.line(round_ + np.array([x, y]), "target", 0.3)
