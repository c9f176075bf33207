"""The headings of a robot along a curve."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from pivrex.line.stage import Floats
from pivrex.path.curve import Curve, spline_through
from pivrex.path.points import Path

__all__ = ["Looking", "looking"]


class Looking(NamedTuple):
    """Headings in N places of a curve.

    Attributes
    ----------
    heading : (N,) float64
        In rad, unwrapped.
    turns, turns_more : (N,) float64
        How it changes with the way, in rad/m, and how that does, in rad/m².
    """

    heading: Floats
    turns: Floats
    turns_more: Floats


def looking(path: Path, curve: Curve) -> Looking:
    """Return the headings of a path.

    Notes
    -----
    *along* is the direction of the curve, *evenly* runs straight from the first to the last heading the shorter way, *points* is the
    smooth spline through those of the points, each the shorter way from the one before. *towards* is the bearing of a place, whose
    change with the way is (t × r)/|r|², with t the curve's direction and r the way to that place.
    """
    none = np.zeros_like(curve.s)
    if path.heading == "along":
        return Looking(curve.angle + (np.pi if path.backwards else 0.0), curve.bend, curve.bends)
    if path.heading == "fixed":
        return Looking(none + path.looks_rad, none, none)
    if path.heading == "towards":
        dx, dy = path.towards_x_m - curve.x, path.towards_y_m - curve.y
        square = np.maximum(dx * dx + dy * dy, 1e-6)
        turns = (np.cos(curve.angle) * dy - np.sin(curve.angle) * dx) / square
        return Looking(np.unwrap(np.arctan2(dy, dx)), turns, np.gradient(turns, curve.s))
    known = [(k, p.heading_rad) for k, p in enumerate(path.points) if p.heading_rad is not None]
    if path.heading == "evenly":
        known = [known[0], known[-1]]
    at = curve.s[curve.of[[k for k, _ in known]]]
    wanted = np.unwrap([h for _, h in known])
    spans = np.diff(at)
    spline = spline_through(wanted[:, None], spans)
    piece = np.clip(np.searchsorted(at, curve.s, side="right") - 1, 0, len(spans) - 1)
    u = curve.s - at[piece]
    return Looking(*(spline.at(piece, u, k)[:, 0] for k in range(3)))
