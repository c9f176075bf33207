"""The simulated robot: what moves when there is no real one."""

from pivrex.sim.model import stand_in_of
from pivrex.sim.rollout import Rollout
from pivrex.sim.stand_in import StandIn, StandInState

__all__ = ["Rollout", "StandIn", "StandInState", "stand_in_of"]
