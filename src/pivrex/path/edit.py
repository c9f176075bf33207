"""Changes of a path, each of which returns a new path."""

from __future__ import annotations

from math import hypot, pi

import numpy as np

from pivrex.path.points import Path, PathPoint
from pivrex.rig.field import Field

__all__ = ["added", "changed", "looking_so", "mirrored", "removed", "reversed_", "segment_near"]


def changed(path: Path, k: int, **changes: object) -> Path:
    """Return the path with point ``k`` changed."""
    points = list(path.points)
    points[k] = points[k].model_copy(update=changes)
    return path.model_copy(update={"points": tuple(points)})


def added(path: Path, behind: int, x_m: float, y_m: float) -> Path:
    """Return the path with a point more, behind point ``behind``; -1 for before the first."""
    point = PathPoint.model_construct(x_m=x_m, y_m=y_m)
    if path.heading == "points" and behind in (-1, len(path.points) - 1):
        # an end of a path whose points say headings must have one
        end = path.points[0 if behind < 0 else -1]
        point = point.model_copy(update={"heading_rad": end.heading_rad})
    points = (*path.points[: behind + 1], point, *path.points[behind + 1 :])
    return path.model_copy(update={"points": points})


def removed(path: Path, k: int) -> Path:
    """Return the path without point ``k``."""
    return path.model_copy(update={"points": path.points[:k] + path.points[k + 1 :]})


def _turned(angle: float | None, by: float, sign: float = 1.0) -> float | None:
    return None if angle is None else (by + sign * angle + pi) % (2 * pi) - pi


def reversed_(path: Path) -> Path:
    """Return the path run the other way: its directions turned about, its headings as they are."""
    points = tuple(p.model_copy(update={"direction_rad": _turned(p.direction_rad, pi)}) for p in reversed(path.points))
    return path.model_copy(update={"points": points})


def mirrored(path: Path, field: Field, to: str) -> Path:
    """Return the path on the other side of the floor: ``to`` is "end" for the other end of its length, "side" across it."""
    if to == "end":

        def place(x: float, y: float) -> tuple[float, float]:
            return field.length_m - x, y

        by = pi
    else:

        def place(x: float, y: float) -> tuple[float, float]:
            return x, field.width_m - y

        by = 0.0
    points = []
    for p in path.points:
        x, y = place(p.x_m, p.y_m)
        points.append(
            p.model_copy(
                update={
                    "x_m": x,
                    "y_m": y,
                    "direction_rad": _turned(p.direction_rad, by, -1.0),
                    "heading_rad": _turned(p.heading_rad, by, -1.0),
                }
            )
        )
    slow = []
    for zone in path.slow:
        x, y = place(zone.x_m, zone.y_m)
        slow.append(zone.model_copy(update={"x_m": x, "y_m": y}))
    x, y = place(path.towards_x_m, path.towards_y_m)
    looks = _turned(path.looks_rad, by, -1.0)
    if path.heading != "towards":
        x, y = path.towards_x_m, path.towards_y_m
    if path.heading != "fixed":
        looks = path.looks_rad
    return path.model_copy(
        update={"points": tuple(points), "slow": tuple(slow), "towards_x_m": x, "towards_y_m": y, "looks_rad": looks}
    )


def looking_so(path: Path, heading: str, start_rad: float, end_rad: float, field: Field) -> Path:
    """Return the path on which a robot looks another way: along it, always as at its start, towards the floor's middle, or turning; ends
    that need a heading and have none get that of the curve there.
    """
    changes: dict[str, object] = {"heading": heading}
    if heading == "fixed":
        changes["looks_rad"] = start_rad
    elif heading == "towards":
        changes |= {"towards_x_m": field.length_m / 2, "towards_y_m": field.width_m / 2}
    elif heading in ("evenly", "points"):
        points = list(path.points)
        for k, angle in ((0, start_rad), (-1, end_rad)):
            if points[k].heading_rad is None:
                points[k] = points[k].model_copy(update={"heading_rad": _turned(angle, 0.0)})
        changes["points"] = tuple(points)
    if heading != "along":
        changes["backwards"] = False
    return path.model_copy(update=changes)


def segment_near(path: Path, x_m: float, y_m: float) -> tuple[int, float]:
    """Return between which point and its next a place lies nearest, and how far away that is, in m, by straight lines."""
    best, away = 0, np.inf
    for k in range(len(path.points) - 1):
        a, b = path.points[k], path.points[k + 1]
        dx, dy = b.x_m - a.x_m, b.y_m - a.y_m
        whole = dx * dx + dy * dy
        u = min(max(((x_m - a.x_m) * dx + (y_m - a.y_m) * dy) / whole, 0.0), 1.0) if whole > 0 else 0.0
        far = hypot(x_m - a.x_m - u * dx, y_m - a.y_m - u * dy)
        if far < away:
            best, away = k, far
    return best, float(away)
