"""A robot to scale on a floor: solid, its front at a glance at any angle; or as an outline, for where it was or would be."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from pivrex.rig import Rig
from pivrex.tui.draw.field_scale import FieldScale
from pivrex.tui.draw.picture import Areas, Dots

__all__ = ["lay_robot", "outline_robot", "placed"]

Floats = NDArray[np.float64]

TYRE = 0.7
"""A wheel's width as a share of its radius."""

SMALL = 14.0
"""Dots: of a robot that is drawn shorter than this the whole front is filled; a wedge would not be seen."""

LEAST_TYRE = 3.0
"""Dots: a wheel that is drawn shorter than this is left out."""


def placed(scale: FieldScale, pose: tuple[float, ...], points: Floats) -> tuple[Floats, Floats]:
    """Give where points of a robot, (N, 2) forward and left in m, lie at a pose, in dots."""
    x, y, heading = pose
    c, s = np.cos(heading), np.sin(heading)
    return scale.x(x + c * points[:, 0] - s * points[:, 1]), scale.y(y + s * points[:, 0] + c * points[:, 1])


def lay_robot(
    areas: Areas,
    scale: FieldScale,
    rig: Rig,
    pose: tuple[float, ...],
    angles: Floats | None = None,
    hull: str = "hull",
    sliding: NDArray[np.bool_] | None = None,
) -> None:
    """Lay a robot at a pose (m, m, rad): its body, its wheels where they are large enough, its front as a wedge.

    ``angles``, (W,) in rad, are where the wheels point; ``sliding``, (W,), which of their tyres slide.
    """
    length, width = rig.chassis.length_m / 2, rig.chassis.width_m / 2
    box = np.array([(length, width), (-length, width), (-length, -width), (length, -width)])
    areas.convex(areas.layer(hull), *placed(scale, pose, box))
    tyres, loose = areas.layer("tyre"), areas.layer("limit")
    for k, wheel in enumerate(rig.chassis.wheels):
        if 2 * wheel.radius_m * scale.per_m < LEAST_TYRE:
            continue
        angle = float(angles[k]) if angles is not None else wheel.drive_rad
        c, s, r, half = np.cos(angle), np.sin(angle), wheel.radius_m, wheel.radius_m * TYRE / 2
        corners = np.array([(r, half), (-r, half), (-r, -half), (r, -half)])
        turned = np.stack((corners[:, 0] * c - corners[:, 1] * s, corners[:, 0] * s + corners[:, 1] * c), axis=1)
        slides = sliding is not None and bool(sliding[k])
        areas.convex(loose if slides else tyres, *placed(scale, pose, turned + np.array([wheel.x_m, wheel.y_m])))
    if 2 * length * scale.per_m < SMALL:
        front = np.array(
            [(length * 1.25, width), (length * 1.25, -width), (length * 0.2, -width), (length * 0.2, width)]
        )
    else:
        front = np.array([(length * 1.15, 0.0), (length * 0.25, width * 0.8), (length * 0.25, -width * 0.8)])
    areas.convex(areas.layer("nose"), *placed(scale, pose, front))


def outline_robot(dots: Dots, scale: FieldScale, rig: Rig, pose: tuple[float, ...], named: str, every: int = 1) -> None:
    """Draw a robot's outline and where it points."""
    length, width = rig.chassis.length_m / 2, rig.chassis.width_m / 2
    layer = dots.layer(named)
    box = np.array([(length, width), (-length, width), (-length, -width), (length, -width), (length, width)])
    dots.path(layer, *placed(scale, pose, box), every=every)
    dots.path(layer, *placed(scale, pose, np.array([(0.0, 0.0), (length * 1.3, 0.0)])), every=every)
