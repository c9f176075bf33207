"""Loops and their tuning: their responses to steps and pushes, and how to find gains."""

from pivrex.tuning.balance_loops import BalanceLoop
from pivrex.tuning.figures import Figures, figures_of
from pivrex.tuning.loop import OPEN, Experiment, Gains, Loop
from pivrex.tuning.loops import LOOPS, loop_named, loops_of
from pivrex.tuning.step_responses import Bench, StepResponses, step_responses_to

__all__ = [
    "LOOPS",
    "OPEN",
    "BalanceLoop",
    "Bench",
    "Experiment",
    "Figures",
    "Gains",
    "Loop",
    "StepResponses",
    "figures_of",
    "loop_named",
    "loops_of",
    "step_responses_to",
]  # fmt: skip
