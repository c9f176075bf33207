"""The simulated robot, which moves when there is no real one."""

from pivrex.sim.ideal import IdealBody, IdealState
from pivrex.sim.model import simulator_of
from pivrex.sim.rollout import Rollout

__all__ = ["IdealBody", "IdealState", "Rollout", "simulator_of"]
