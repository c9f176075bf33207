"""Loops and how they are tuned: what they answer to steps and pushes, which gains suit, and how they are found."""

from pivrex.tuning.answers import Answers, Bench, answers_to
from pivrex.tuning.figures import Figures, figures_of
from pivrex.tuning.loops import LOOPS, OPEN, BalanceLoop, Experiment, Gains, Loop, loop_named, loops_of

__all__ = [
    "LOOPS", "OPEN", "Answers", "BalanceLoop", "Bench", "Experiment", "Figures", "Gains", "Loop", "answers_to", "figures_of", "loop_named",
    "loops_of",
]  # fmt: skip
