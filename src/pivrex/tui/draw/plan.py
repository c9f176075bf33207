"""A path on the field: the curve with letters for what holds it where, its points, and what a robot made of it."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.path.plan import Plan
from pivrex.rig import Rig
from pivrex.tui.draw.field_scale import FieldScale
from pivrex.tui.draw.picture import Areas, Dots, Picture
from pivrex.tui.draw.small_robot import lay_robot, outline_robot

__all__ = ["Tried", "draw_plan", "letter_of", "shares_of"]

Floats = NDArray[np.float64]

APART = 4
"""So many cells lie between two letters."""


class Tried(NamedTuple):
    """Where a robot went, and believed to go, (N, 3) each; and where it went the time before."""

    truth: Floats
    believed: Floats
    before: Floats | None = None


def letter_of(what: str) -> str:
    """Give the letter of what holds a plan: speed, acceleration, turn, its rise, a wheel's speed, its rise, a bend, a slow zone..."""
    if what.startswith("the speed of"):
        return "W"
    if what.startswith("the rise of"):
        return "R"
    if what.startswith("how fast"):
        return "S"
    return {
        "your speed": "v",
        "your acceleration": "a",
        "your turn": "t",
        "your turn's rise": "r",
        "the bend": "b",
        "a slow zone": "z",
        "a stop": "0",
    }.get(what, " ")


def shares_of(plan: Plan) -> list[tuple[str, str, float]]:
    """Give what holds a plan: letter, words, and over which share of its way; most first."""
    shares: dict[tuple[str, str], float] = {}
    for from_m, to_m, what in plan.held_by():
        letter = letter_of(what)
        words = {"W": "a wheel's speed", "R": "a wheel's rise", "S": "a wheel's steering"}.get(letter, what)
        shares[(letter, words)] = shares.get((letter, words), 0.0) + (to_m - from_m) / max(plan.length_m, 1e-9)
    return [(*key, share) for key, share in sorted(shares.items(), key=lambda one: -one[1])]


def draw_plan(
    picture: Picture, scale: FieldScale, rig: Rig, plan: Plan, touching: NDArray[np.bool_], at: int, tried: Tried | None
) -> None:
    """Draw a plan onto a picture of its field.

    Parameters
    ----------
    picture : Picture
    scale : FieldScale
    rig : Rig
        For the outline at the chosen point.
    plan : Plan
    touching : (N,) bool
        Where its outline touches something.
    at : int
        The chosen point.
    tried : Tried, optional
    """
    curve = plan.curve
    dots = Dots(*scale.cells)

    def path(named: str, x: Floats, y: Floats, every: int = 1) -> None:
        if len(x) > 1:
            dots.path(dots.layer(named), scale.x(x), scale.y(y), every=every)

    if tried is not None and tried.before is not None:
        path("ghost", tried.before[:, 0], tried.before[:, 1], 3)
    if tried is not None:
        path("measured", tried.truth[:, 0], tried.truth[:, 1], 2)
        path("target", tried.believed[:, 0], tried.believed[:, 1], 4)
    path("commanded", curve.x, curve.y)
    for part in np.split(np.arange(len(curve.s)), np.flatnonzero(np.diff(touching)) + 1):
        if len(part) and touching[part[0]]:
            path("alarm", curve.x[part], curve.y[part])
    dots.onto(picture, scale.left, scale.top)
    areas = Areas(*scale.cells)
    here = plan.poses[curve.of[at]]
    lay_robot(areas, scale, rig, tuple(here.tolist()), hull="limit" if touching[curve.of[at]] else "hull")
    areas.onto(picture, scale.left, scale.top)
    if tried is not None and len(tried.truth):
        over = Dots(*scale.cells)
        outline_robot(over, scale, rig, tuple(tried.truth[-1].tolist()), "measured")
        over.onto(picture, scale.left, scale.top)
    _letters(picture, scale, plan, at)


def _letters(picture: Picture, scale: FieldScale, plan: Plan, at: int) -> None:
    """Write the points, and beside the curve what holds its speed, where there is room."""
    curve = plan.curve
    taken: list[tuple[int, int]] = []
    for k, place in enumerate(curve.of):
        x, y = scale.cell(float(curve.x[place]), float(curve.y[place]))
        taken.append((x, y))
        picture.text(x, y, "◆" if k == at else "○", "chosen" if k == at else "title")
    for from_m, to_m, what in plan.held_by():
        middle = int(np.searchsorted(curve.s, (from_m + to_m) / 2).clip(0, len(curve.s) - 1))
        x, y = scale.cell(float(curve.x[middle]), float(curve.y[middle]))
        left = -np.sin(curve.angle[middle])
        x, y = x + (2 if left >= 0 else -2), y - round(float(np.cos(curve.angle[middle])))
        if all(abs(x - a) + 2 * abs(y - b) >= APART for a, b in taken):
            taken.append((x, y))
            picture.text(x, y, letter_of(what), "key")
