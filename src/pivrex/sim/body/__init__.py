"""The simulated robot's realistic body: motors, battery, tyres, load, contact and sensor errors."""

from pivrex.sim.body.robot import RealisticBody
from pivrex.sim.body.settings import Conditions
from pivrex.sim.body.state import BodyState

__all__ = ["BodyState", "Conditions", "RealisticBody"]
