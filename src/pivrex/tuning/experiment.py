"""Experiments with the heading loop: a step of the target, a turn, a knock, a straight drive."""

from __future__ import annotations

from dataclasses import dataclass
from math import degrees, pi, radians

import numpy as np

from pivrex.line import Line
from pivrex.line.moves import Move, MoveState, Wait, straight_of, turn_of
from pivrex.line.stage import Floats
from pivrex.rig import Rig

__all__ = ["EXPERIMENTS", "PUSH_AT_S", "Experiment", "Step", "move_of", "usual"]

PUSH_AT_S = 0.3
"""A knock comes so long after the beginning, when the heading is held."""


@dataclass(frozen=True)
class Step(Move):
    """The target jumps by an angle at once, and stays there."""

    angle_rad: float = 0.0

    def _ask(self, line: Line, state: MoveState, row: Floats, heading: Floats) -> tuple[MoveState, Floats, Floats]:
        return state, np.zeros((*heading.shape, 3)), state.begin + self.angle_rad


@dataclass(frozen=True)
class Experiment:
    """What is tried.

    Attributes
    ----------
    kind : str
        "step" (of the target) or "turn" by ``amount`` rad, "push" with ``amount`` N·s to the left at the robot's front,
        "straight" for ``amount`` m.
    amount : float
    seconds : float
        For how long it is watched.
    """

    kind: str
    amount: float
    seconds: float

    @property
    def title(self) -> str:
        """What it is, in words."""
        match self.kind:
            case "step":
                return f"target jumps {degrees(self.amount):.0f} deg"
            case "turn":
                return f"turn {degrees(self.amount):.0f} deg"
            case "push":
                return f"knock {self.amount:.2f} N·s at the front"
        return f"straight on {self.amount:.1f} m"

    def impulse(self, rig: Rig) -> Floats:
        """Give the knock, (3,): forward and left in N·s, turning in N·m·s about the mass centre; none but for a push."""
        lever = rig.chassis.length_m / 2 - rig.chassis.mass_centre.x_m
        return np.array([0.0, self.amount, self.amount * lever]) if self.kind == "push" else np.zeros(3)


def move_of(line: Line, experiment: Experiment) -> Move:
    """Give the move that makes an experiment on a line; a knock has to be added."""
    match experiment.kind:
        case "step":
            return Step(angle_rad=experiment.amount)
        case "turn":
            return turn_of(line, experiment.amount)
        case "push":
            return Wait()
    return straight_of(line, experiment.amount)


def usual(rig: Rig, kind: str) -> Experiment:
    """Give an experiment of a size that suits a rig: a knock that turns a free robot at about 150 deg/s."""
    body = rig.with_body("real").body
    assert body is not None
    chassis = rig.chassis
    mass = body.weighs_kg(chassis)
    lever = chassis.length_m / 2 - chassis.mass_centre.x_m
    knock = round(mass * body.spread_of_m(chassis) ** 2 * radians(250) / lever, 2)
    match kind:
        case "step":
            return Experiment("step", radians(30), 2.0)
        case "turn":
            return Experiment("turn", pi / 2, 2.5)
        case "push":
            return Experiment("push", max(knock, 0.05), 2.0)
    return Experiment("straight", 1.0, 4.0)


EXPERIMENTS = ("step", "push", "turn", "straight")
"""The kinds, in the order in which they are walked."""
