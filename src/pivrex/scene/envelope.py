"""The speed envelope with the present motion in it, and two dials: the motion, and the compass."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from pivrex.scene.scene import Box, Margins, Scene

__all__ = ["EnvelopeData", "compass_scene", "envelope_scene", "motion_scene"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class EnvelopeData:
    """The data of the drawing, as (up, to the left).

    Attributes
    ----------
    full : (N, 2) float64
        The edge with nothing else asked for.
    now : (N, 2) float64
        The edge that the present turn leaves.
    ghost : (N, 2) float64 or None
        The edge before the last change.
    commanded, measured : (2,) float64 or None
        The present motion.
    tops : (2,) float64
        What the drawing's upper and left edge mean.
    units : tuple of str
        Of up and left.
    names : tuple of str
        Top, left, right.
    caption : str
    """

    full: Floats
    now: Floats
    ghost: Floats | None
    commanded: Floats | None
    measured: Floats | None
    tops: Floats
    units: tuple[str, str]
    names: tuple[str, str, str]
    caption: str


def envelope_scene(data: EnvelopeData) -> Scene:
    """Draw it, each axis as a share of its top."""
    scene = Scene(Box(-1.0, -1.0, 1.0, 1.0), margins=Margins(0, 1, 0, 2))
    tops = np.maximum(data.tops, 1e-9)

    def at(points: Floats) -> Floats:
        return np.stack((-points[..., 1] / tops[1], points[..., 0] / tops[0]), axis=-1)

    scene.caption("speed envelope", "title")
    for points, named in ((data.full, "floor"), (data.now, "hull")):
        if len(points):
            scene.area(at(points), named)
    scene.line([(-1.0, 0.0), (1.0, 0.0)], "frame", 0.2)
    scene.line([(0.0, -1.0), (0.0, 1.0)], "frame", 0.2)
    for edge, named, width, dash in (
        (data.ghost, "ghost", 0.3, 0.9),
        (data.full, "rest", 0.4, 0.0),
        (data.now, "target", 0.35, 0.9),
    ):
        if edge is not None and len(edge):
            scene.line(at(np.concatenate((edge, edge[:1]))), named, width, dash)
    for point, sign, named in ((data.measured, "○", "measured"), (data.commanded, "●", "commanded")):
        if point is not None and np.isfinite(point).all():
            scene.sign(at(np.clip(point, -tops, tops)), sign, named)
    scene.label((0.0, 1.0), f"{data.names[0]} {tops[0]:.2f} {data.units[0]}", "dim", 2.0, "right")
    across = f"±{tops[1]:.{2 if tops[1] < 10 else 0}f} {data.units[1]}"
    scene.label((0.0, -1.0), f"{data.names[1]}  {across}  {data.names[2]}", "dim", 1.0, "below")
    scene.label((0.0, -1.0), data.caption, "dim", 1.0, "below-below")
    return scene


def motion_scene(commanded: Floats, does: Floats) -> Scene:
    """Draw a commanded and a measured motion, (3,) each, as shares of the greatest forward, left and turn; NaN for unknown ones.

    Ahead is up. The arrows lie side by side; the turn is an arc from the top, to the left where the robot turns left.
    """
    below = _dial(4)
    scene = Scene(below.box, below=below)
    for motion, named, side, radius in ((commanded, "commanded", 1.0, 0.88), (does, "measured", -1.0, 0.66)):
        if not np.isfinite(motion).all():
            continue
        way = np.array([-motion[1], motion[0]])
        size = float(np.hypot(*way))
        if size > 0.03:
            scene.arrow((0.0, 0.0), way * min(1.0, 1.0 / size) * 0.92, named, 0.8, side * 0.8)
        turn = float(np.clip(motion[2], -1.0, 1.0)) * 0.75 * np.pi
        if abs(turn) > 0.03:
            angle = np.linspace(0.0, turn, 30)
            scene.line(radius * np.stack((-np.sin(angle), np.cos(angle)), axis=1), named, 0.7)
    return scene


def compass_scene(heading: float, target: float, true: float) -> Scene:
    """Draw headings in rad as seen from above, 0 up and left counter-clockwise; NaN for one that no one knows.

    The target is a dashed ray, what the gyro says an arrow; a mark on the rim shows what is true.
    """
    below = _dial(12)
    scene = Scene(below.box, below=below)
    if np.isfinite(true):
        scene.line(_ray(true, 0.8, 1.06), "rest", 0.8)
    if np.isfinite(target):
        scene.line(_ray(target, 0.0, 0.98), "target", 0.45, 0.9)
    if np.isfinite(heading):
        start, end = _ray(heading, -0.3, 0.86)
        scene.arrow(start, end, "measured", 0.8)
    return scene


def _ray(angle: float, start: float, end: float) -> Floats:
    """Return the ends of a ray, (2, 2): 0 is up, left counter-clockwise."""
    way = np.array([-np.sin(angle), np.cos(angle)])
    return np.stack((way * start, way * end))


@lru_cache(maxsize=4)
def _dial(marks: int) -> Scene:
    """Return a dial with so many marks on its rim."""
    scene = Scene(Box(-1.06, -1.06, 1.06, 1.06))
    scene.disc((0.0, 0.0), 1.0, "floor")
    scene.circle((0.0, 0.0), 1.0, "frame", 0.3)
    for k in range(marks):
        scene.line(_ray(k * 2 * np.pi / marks, 0.82 if 4 * k % marks == 0 else 0.92, 1.0), "frame", 0.3)
    return scene
