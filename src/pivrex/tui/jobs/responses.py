"""The responses of gain sets in an experiment; known ones are not computed again."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from pivrex.rig import Rig
from pivrex.tui.jobs.job import Job, Progress
from pivrex.tuning import Bench, Experiment, Gains, StepResponses, loop_named

__all__ = ["Question", "Responses", "response_job"]


MAX_KNOWN = 64


class Question(NamedTuple):
    """The responses of some gain sets of a loop in an experiment."""

    rig: Rig
    loop: str
    experiment: Experiment
    sets: tuple[Gains, ...]

    @property
    def setting(self) -> tuple[Rig, str, Experiment]:
        """All but the gains."""
        return loop_named(self.loop).without_gains(self.rig), self.loop, self.experiment


class Responses:
    """Keeps known responses: a changed gain changes only one gain set of several."""

    def __init__(self) -> None:
        self._setting: tuple[Rig, str, Experiment] | None = None
        self._known: dict[Gains, StepResponses] = {}

    def __call__(self, question: Question, progress: Progress) -> StepResponses | None:
        if question.setting != self._setting:
            self._setting, self._known = question.setting, {}
        new = [g for g in question.sets if g not in self._known]
        if new:
            bench = Bench(question.rig, loop_named(question.loop))
            for gains in new:
                if progress.newer():
                    return None
                self._known[gains] = bench.run(question.experiment, gains, np.array(0, np.uint64))
        if len(self._known) > MAX_KNOWN:
            self._known = {g: self._known[g] for g in question.sets}
        return StepResponses.of([self._known[g] for g in question.sets])


def response_job() -> Job[Question, StepResponses]:
    """Return the job that computes what gain sets answer."""
    return Job("pivrex-answers", Responses, nice=5)
