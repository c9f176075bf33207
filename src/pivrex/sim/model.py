"""Chooses the simulated robot of a rig: ideal, or with a realistic body."""

from __future__ import annotations

from typing import Any

from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.sim.body import RealisticBody
from pivrex.sim.ideal import IdealBody
from pivrex.sim.wiring import Wiring

__all__ = ["AnySimulator", "simulator_of"]

AnySimulator = Any
"""A `IdealBody` or a `RealisticBody`; each has states of its own kind."""


def simulator_of(
    rig: Rig, field: Field | None = None, wiring: Wiring | None = None, tick_s: float | None = None
) -> AnySimulator:
    """Return the simulated robot of a rig, as its ``[body]`` says. ``tick_s`` is how long its ticks are, the rig's own if left out."""
    return (
        RealisticBody(rig, field, wiring, tick_s=tick_s) if rig.has_realistic_physics else IdealBody(rig, field, wiring)
    )
