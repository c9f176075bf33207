"""Finds the smallest duty that turns each wheel: a slow ramp until it moves, first with the wheels off the ground, then loaded."""

from __future__ import annotations

from math import ceil
from typing import Literal

from pivrex.diagnosis.moves import MotorMove
from pivrex.diagnosis.probes import Bench
from pivrex.rig.changes import Change
from pivrex.rig.rig import Rig

__all__ = ["MOST", "SLOWLY_PER_S", "Sweep"]

SLOWLY_PER_S, MOST = 0.03, 0.30
"""The duty rises by this much a second, up to so much."""

MOVED_M, MOVED_RAD = 0.0008, 0.01
STEP = 0.005
"""What is written is rounded up to half a per cent."""


class Sweep:
    """A sweep through all motors of a rig, once with the wheels up and once on the floor; on a bench once.

    Attributes
    ----------
    found : dict
        The smallest duty of each motor by (motor, place), place "up" or "floor"; None where it did not move.
    """

    def __init__(self, rig: Rig) -> None:
        self.rig, self.bench = rig, Bench(rig)
        self.found: dict[tuple[str, str], float | None] = {}

    def next(self, place: Literal["up", "floor"]) -> tuple[str, tuple[MotorMove, ...]] | None:
        """Return the next motor at a place, and its ramp; None when all have been there."""
        if place == "floor" and self.rig.is_bench:
            return None
        for k, name in enumerate(self.bench.names):
            if (name, place) not in self.found:
                at, _ = self.bench.watch(k)
                moved = MOVED_RAD if self.bench.steers(k) or self.rig.is_bench else MOVED_M
                there = self.bench.has_encoder[k]
                ramp = MotorMove(k, MOST, MOST / SLOWLY_PER_S, ramp=True, watch=at if there else -1, until=moved)
                return name, (ramp,)
        return None

    def take(self, motor: str, place: Literal["up", "floor"], duty: float) -> None:
        """Take the duty at which a ramp ended."""
        self.found[motor, place] = None if duty >= MOST - 1e-9 else duty

    def changes(self) -> list[Change]:
        """Return the changes of the rig: the loaded value if there is one."""
        found = []
        for name, (key, motor) in zip(self.bench.names, self.rig.all_motors().items(), strict=True):
            duty = self.found.get((name, "floor"))
            if duty is None:
                duty = self.found.get((name, "up"))
            if duty is None:
                continue
            before, after = f"{motor.smallest * 100:g} %", f"{ceil(duty / STEP - 1e-9) * STEP * 100:g} %"
            if before != after:
                found.append(Change(f"{key}.smallest", before, after))
        return found
