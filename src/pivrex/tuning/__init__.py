"""Loops and how they are tuned: what they answer to steps and pushes, with which figures."""

from pivrex.tuning.answers import Answers, Bench, answers_to
from pivrex.tuning.experiment import EXPERIMENTS, Experiment
from pivrex.tuning.figures import Figures, figures_of
from pivrex.tuning.gains import Gains, gains_of, with_gains

__all__ = [
    "EXPERIMENTS",
    "Answers",
    "Bench",
    "Experiment",
    "Figures",
    "Gains",
    "answers_to",
    "figures_of",
    "gains_of",
    "with_gains",
]
