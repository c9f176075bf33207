"""The simulated robot's real body: motors, battery, tyres, load, contact and the faults of its sensors."""

from pivrex.sim.body.robot import RealisticBody
from pivrex.sim.body.settings import Conditions
from pivrex.sim.body.state import BodyState

__all__ = ["BodyState", "Conditions", "RealisticBody"]
