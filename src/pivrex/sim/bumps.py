"""Whether a robot's body touches an object on the field."""

from __future__ import annotations

from pivrex.kernels.maths import cos, hypot, larger, sin
from pivrex.kernels.subset import kernel
from pivrex.line.seeing import Scenery

__all__ = ["is_near", "touches"]


@kernel
def is_near(f: Scenery, x: float, y: float, reach: float) -> bool:
    """Return whether anything may be within ``reach`` of a place, in m."""
    if f.walls and not (reach < x < f.size[0] - reach and reach < y < f.size[1] - reach):
        return True
    for k in range(len(f.blocks)):
        b = f.blocks[k]
        if abs(x - b[0]) < b[2] + reach and abs(y - b[1]) < b[3] + reach:
            return True
    for k in range(len(f.rounds)):
        r = f.rounds[k]
        if abs(x - r[0]) < r[2] + reach and abs(y - r[1]) < r[2] + reach:
            return True
    return False


@kernel
def touches(f: Scenery, half_length: float, half_width: float, x: float, y: float, heading: float) -> bool:
    """Return whether a rectangular body at a pose overlaps anything.

    Notes
    -----
    Two rectangles are apart if some side direction of one separates them (separating axis theorem); a circle is apart if its
    centre, clamped to the rectangle, is farther than its radius.
    """
    if not is_near(f, x, y, hypot(half_length, half_width)):
        return False
    c, s = cos(heading), sin(heading)
    size_c, size_s = abs(c), abs(s)
    wide = half_length * size_c + half_width * size_s
    high = half_length * size_s + half_width * size_c
    if f.walls and (x - wide < 0.0 or x + wide > f.size[0] or y - high < 0.0 or y + high > f.size[1]):
        return True
    for k in range(len(f.blocks)):
        b = f.blocks[k]
        dx, dy = b[0] - x, b[1] - y
        is_apart = (
            abs(dx) > b[2] + wide
            or abs(dy) > b[3] + high
            or abs(dx * c + dy * s) > half_length + b[2] * size_c + b[3] * size_s
            or abs(dy * c - dx * s) > half_width + b[2] * size_s + b[3] * size_c
        )
        if not is_apart:
            return True
    for k in range(len(f.rounds)):
        r = f.rounds[k]
        dx, dy = r[0] - x, r[1] - y
        ahead, left = abs(dx * c + dy * s), abs(dy * c - dx * s)
        if hypot(larger(ahead - half_length, 0.0), larger(left - half_width, 0.0)) < r[2]:
            return True
    return False
