"""Contact with walls and objects of the field: it pushes back, with friction, and adds no energy."""

from __future__ import annotations

from pivrex.kernels.maths import clamp, cos, div, hypot, sin
from pivrex.kernels.records import Numbers
from pivrex.kernels.subset import kernel
from pivrex.line.seeing import Scenery
from pivrex.sim.body.settings import BodySettings
from pivrex.sim.body.state import BodyScratch

__all__ = ["find_places", "places_of"]

CORNERS = ((1.0, 1.0), (1.0, -1.0), (-1.0, -1.0), (-1.0, 1.0))

OUTSIDE_M = 1e-9
"""A round whose middle is farther from the body than this is outside it."""


def places_of(f: Scenery) -> int:
    """Return the number of places at which a body may touch objects of a field."""
    return 16 * bool(f.walls) + 8 * len(f.blocks) + len(f.rounds)


@kernel
def apart(dx: float, dy: float, half_x: float, half_y: float) -> tuple[float, float, float]:
    """Return the gap between a point and a rectangle, and the direction from it to the point, which is (dx, dy) from its middle.

    Notes
    -----
    The larger of both gaps along the sides: while one side still separates them they do not touch (separating axis).
    """
    gap_x, gap_y = abs(dx) - half_x, abs(dy) - half_y
    if gap_x > gap_y:
        return gap_x, 1.0 if dx >= 0.0 else -1.0, 0.0
    return gap_y, 0.0, 1.0 if dy >= 0.0 else -1.0


@kernel
def set_place(
    w: BodyScratch, k: int, gap: float, to_x: float, to_y: float, away_x: float, away_y: float, c: float, s: float,
    below: float, centre_y: float,
) -> None:  # fmt: skip
    """Write place k: its gap, the direction away from the obstacle, and what forces there do to the body.

    ``to``: from the body's middle to the place; ``below``, ``centre_y``: how far under the mass centre a body that leans is
    pushed, and where that is left of the middle; all else in the field.
    """
    lever_x, lever_y = c * to_x + s * to_y - w.forward, c * to_y - s * to_x - centre_y
    own_x, own_y = c * away_x + s * away_y, c * away_y - s * away_x
    w.gap[k], w.away[k][0], w.away[k][1] = gap, away_x, away_y
    w.push[k][0], w.push[k][1], w.push[k][2] = own_x, own_y, lever_x * own_y - lever_y * own_x
    w.along[k][0], w.along[k][1], w.along[k][2] = -own_y, own_x, lever_x * own_x + lever_y * own_y
    w.push[k][3], w.along[k][3] = -(below * own_x), below * own_y


@kernel
def find_places(f: Scenery, b: BodySettings, w: BodyScratch, pose: Numbers, centre_y: float) -> None:
    """Write where a body may touch something: corners of the body against walls and blocks, corners of blocks against the body,
    rounds against the body's nearest point.
    """
    c, s = cos(pose[2]), sin(pose[2])
    x, y = pose[0], pose[1]
    half_x, half_y = b.half[0], b.half[1]
    # a robot that balances bumps with its wheels, any other at the height of its mass centre
    below = w.above if b.balances and w.pitches else 0.0
    for i in range(4):
        ahead, left = CORNERS[i][0] * half_x, CORNERS[i][1] * half_y
        w.corners[i][0], w.corners[i][1] = c * ahead - s * left, s * ahead + c * left
    k = 0
    if f.walls:
        for i in range(4):
            to_x, to_y = w.corners[i][0], w.corners[i][1]
            set_place(w, i, x + to_x, to_x, to_y, 1.0, 0.0, c, s, below, centre_y)
            set_place(w, i + 4, f.size[0] - (x + to_x), to_x, to_y, -1.0, 0.0, c, s, below, centre_y)
            set_place(w, i + 8, y + to_y, to_x, to_y, 0.0, 1.0, c, s, below, centre_y)
            set_place(w, i + 12, f.size[1] - (y + to_y), to_x, to_y, 0.0, -1.0, c, s, below, centre_y)
        k = 16
    for n in range(len(f.blocks)):
        block = f.blocks[n]
        for i in range(4):
            to_x, to_y = w.corners[i][0], w.corners[i][1]
            gap, away_x, away_y = apart(x + to_x - block[0], y + to_y - block[1], block[2], block[3])
            set_place(w, k + i, gap, to_x, to_y, away_x, away_y, c, s, below, centre_y)
            to_x, to_y = block[0] + CORNERS[i][0] * block[2] - x, block[1] + CORNERS[i][1] * block[3] - y
            gap, away_x, away_y = apart(c * to_x + s * to_y, c * to_y - s * to_x, half_x, half_y)
            away_x, away_y = s * away_y - c * away_x, -(s * away_x) - c * away_y
            set_place(w, k + 4 + i, gap, to_x, to_y, away_x, away_y, c, s, below, centre_y)
        k += 8
    for n in range(len(f.rounds)):
        to_x, to_y = f.rounds[n][0] - x, f.rounds[n][1] - y
        ahead, left = c * to_x + s * to_y, c * to_y - s * to_x
        near_x, near_y = clamp(ahead, -half_x, half_x), clamp(left, -half_y, half_y)
        far = hypot(ahead - near_x, left - near_y)
        gap, away_x, away_y = apart(ahead, left, half_x, half_y)
        if far > OUTSIDE_M:
            gap, away_x, away_y = far, div(ahead - near_x, far), div(left - near_y, far)
        away_x, away_y = s * away_y - c * away_x, -(s * away_x) - c * away_y
        set_place(
            w,
            k,
            gap - f.rounds[n][2],
            c * near_x - s * near_y,
            s * near_x + c * near_y,
            away_x,
            away_y,
            c,
            s,
            below,
            centre_y,
        )
        k += 1
