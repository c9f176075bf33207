"""A path on the field: the curve with letters for the active limits, its points, and the driven path."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.path.plan import Plan
from pivrex.rig import Rig
from pivrex.scene.robot import add_outline, add_robot
from pivrex.scene.scene import Scene

__all__ = ["Tried", "add_plan", "letter_of", "shares_of"]

Floats = NDArray[np.float64]


class Tried(NamedTuple):
    """Where a robot went, and went by its estimate, (N, 3) each; and where it went the time before."""

    truth: Floats
    estimated: Floats
    before: Floats | None = None


def letter_of(what: str) -> str:
    """Return the letter of what holds a plan: speed, acceleration, turn, its rise, a wheel's speed, its rise, a bend, a slow zone..."""
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
        "your turn's acceleration": "r",
        "the bend": "b",
        "a slow zone": "z",
        "a stop": "0",
    }.get(what, " ")


def shares_of(plan: Plan) -> list[tuple[str, str, float]]:
    """Return what holds a plan: letter, words, and over which share of its way; most first."""
    shares: dict[tuple[str, str], float] = {}
    for from_m, to_m, what in plan.held_by():
        letter = letter_of(what)
        words = {"W": "a wheel's speed", "R": "a wheel's acceleration", "S": "a wheel's steering"}.get(letter, what)
        shares[(letter, words)] = shares.get((letter, words), 0.0) + (to_m - from_m) / max(plan.length_m, 1e-9)
    return [(*key, share) for key, share in sorted(shares.items(), key=lambda one: -one[1])]


def add_plan(scene: Scene, rig: Rig, plan: Plan, touching: NDArray[np.bool_], at: int, tried: Tried | None) -> None:
    """Draw a plan onto its field.

    Parameters
    ----------
    scene : Scene
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
    way = np.stack((curve.x, curve.y), axis=1)
    if tried is not None and tried.before is not None:
        scene.line(tried.before[:, :2], "ghost", 0.3, 0.9)
    scene.line(way, "commanded", 0.5)
    for part in np.split(np.arange(len(curve.s)), np.flatnonzero(np.diff(touching)) + 1):
        if len(part) and touching[part[0]]:
            scene.line(way[part], "alarm", 0.6)
    if tried is not None:
        scene.line(tried.truth[:, :2], "measured", 0.4, 0.8)
        scene.line(tried.estimated[:, :2], "target", 0.25, 0.5)
    here = plan.poses[curve.of[at]]
    add_robot(scene, rig, here.tolist(), hull="limit" if touching[curve.of[at]] else "hull")
    if tried is not None and len(tried.truth):
        add_outline(scene, rig, tried.truth[-1].tolist(), "measured")
    for k, place in enumerate(curve.of):
        scene.sign(way[place], "◆" if k == at else "○", "chosen" if k == at else "title")
    for from_m, to_m, what in plan.held_by():
        middle = int(np.searchsorted(curve.s, (from_m + to_m) / 2).clip(0, len(curve.s) - 1))
        left = -float(np.sin(curve.angle[middle]))
        rises = "below" if float(np.cos(curve.angle[middle])) < 0 else "above"
        aligned = ("right", "left") if left >= 0 else ("left", "right")
        upright = abs(left) < 0.7
        sides = (rises, *aligned) if upright else (*aligned, rises)
        scene.label(way[middle], letter_of(what), "key", 1.0 + to_m - from_m, " ".join(sides))
