"""Which simulated robot a rig has: a perfect one, or one with a real body."""

from __future__ import annotations

from typing import Any

from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.sim.body import RealBody
from pivrex.sim.stand_in import StandIn
from pivrex.sim.wiring import Wiring

__all__ = ["AnyStandIn", "stand_in_of"]

AnyStandIn = Any
"""A `StandIn` or a `RealBody`; each has states of its own kind."""


def stand_in_of(
    rig: Rig, field: Field | None = None, wiring: Wiring | None = None, tick_s: float | None = None
) -> AnyStandIn:
    """Return the simulated robot of a rig, as its ``[body]`` says. ``tick_s`` is how long its ticks are, the rig's own if left out."""
    return RealBody(rig, field, wiring, tick_s=tick_s) if rig.has_real_body else StandIn(rig, field, wiring)
