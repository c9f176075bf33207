"""The definition of a loop with gains: its place in a Tick, its experiments, and how to put gains into a line."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from pivrex.line import Line
from pivrex.line.stage import Floats
from pivrex.rig import Rig
from pivrex.routine.motion import Motion

__all__ = ["AT_ONCE", "OPEN", "Experiment", "Gains", "Loop", "rounded"]

PUSH_AT_S = {"push": 0.3, "both": 1.1}
"""When a push comes: once the heading is held, or once a step has settled."""


class Gains(NamedTuple):
    """Gains of a loop; floats, or arrays of a batch's shape. Their units are the loop's."""

    p: float | Floats
    i: float | Floats
    d: float | Floats


@dataclass(frozen=True)
class Experiment:
    """An experiment with a loop.

    Attributes
    ----------
    kind : str
        "step" of the target, "push" from outside, "both" one after the other, "turn" (a profiled one), "straight".
    amount : float
        In the loop's unit; of a push N·s, of a straight drive m.
    seconds : float
        For how long it is watched.
    push : float
        Of "both": N·s.
    title : str
        What it is, in words.
    begins_s : float
        When its motion begins.
    pushed_s : float
        When it is pushed; 0 for the usual time.
    """

    kind: str
    amount: float
    seconds: float
    push: float = 0.0
    title: str = ""
    begins_s: float = 0.0
    pushed_s: float = 0.0

    @property
    def push_at_s(self) -> float:
        """When it is pushed; below 0 for never."""
        return self.pushed_s or PUSH_AT_S.get(self.kind, -1.0)


AT_ONCE = 1e6
"""The acceleration of a command at once, in m/s²."""


OPEN = Gains(-1.0, 0.0, 0.0)
"""Of a wheel: neither a loop nor feedforward, only the share of top speed."""


class Loop:
    """A loop of a line: its columns in the Tick, its experiments, and how to change its gains.

    Attributes
    ----------
    name : str
    unit : str
        Of what it controls, for people; ``scale`` times SI is in it. ``p_unit`` is that of P, with a space before it.
    gives : str
        The unit of what it gives, with ``gives_scale``.
    kinds : tuple of str
        The experiments that mean something here.
    least : float
        The narrowest band, in SI, within which it counts as settled.
    """

    name = ""
    unit, scale = "", 1.0
    p_unit = " /s"
    gives, gives_scale = "", 1.0
    kinds: tuple[str, ...] = ("step",)
    least = 0.0
    ranges = ((1.0, 30.0), (0.0, 60.0), (0.0, 1.0))
    """Between which P, I and D are searched."""
    from_start = True
    """Whether its value counts from where it began."""
    follows = False
    """Whether it ends at what its target is then, whatever the experiment's size."""

    def of(self, rig: Rig) -> Rig | None:
        """Return the rig on which this loop is tried; None if it has no such loop."""
        raise NotImplementedError

    def gains(self, rig: Rig) -> Gains:
        """Return a rig's own gains."""
        raise NotImplementedError

    def without_gains(self, rig: Rig) -> Rig:
        """Return a rig as if it had no gains of its own here: what is the same for all gain sets."""
        return rig

    def put(self, line: Line, gains: Gains) -> None:
        """Let a line go on with other gains than its rig says; arrays count robot by robot of a batch."""
        raise NotImplementedError

    def places(self, line: Line) -> tuple[int, int, dict[str, int]]:
        """Return where value, target and parts stand in the row."""
        raise NotImplementedError

    def experiment(self, rig: Rig, kind: str) -> Experiment:
        """Return an experiment of a size that suits a rig."""
        raise NotImplementedError

    def move(self, line: Line, experiment: Experiment) -> Motion:
        """Return what makes it on a line, but for a push."""
        raise NotImplementedError

    def impulse(self, rig: Rig, experiment: Experiment) -> Floats:
        """Return the push, (3,): forward and left in N·s, turning in N·m·s about the mass centre."""
        return np.zeros(3)

    def changes(self, rig: Rig, gains: Gains) -> dict[str, object]:
        """Return what a rig file must say for it to have these gains, by dotted key."""
        raise NotImplementedError


def rounded(value: float) -> float:
    """Return a gain with the digits that mean something."""
    return float(f"{value:.3g}")
