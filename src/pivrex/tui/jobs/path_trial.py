"""Tries a path on the simulated robot in the background, a moment after the last change, and keeps the trial before to compare."""

from __future__ import annotations

import time
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.path import Path as DrivenPath
from pivrex.rig import Field, Rig
from pivrex.routine.trial import tried
from pivrex.tui.jobs.job import Job, Progress

__all__ = ["PathTrial", "Ran", "ToTry"]

Floats = NDArray[np.float64]

PAUSE_S = 0.4
"""After the last change so much time passes before it is tried."""


class ToTry(NamedTuple):
    """The question: a path, a rig, a field, whether the planned motion and the corrections count, and the random deviations."""

    path: DrivenPath
    rig: Rig
    field: Field
    feeds: tuple[bool, bool]
    seed: int


class Ran(NamedTuple):
    """The answer: ``why`` it ended early, if it did, and the result as in `pivrex.routine.trial.Trial`."""

    job: ToTry
    why: str
    t: Floats
    truth: Floats
    estimated: Floats
    errors: Floats
    planned: Floats
    back: Floats
    off_m: float
    off_rad: float

    @property
    def said(self) -> str:
        """The parts that were left out, in words."""
        forward, back = self.job.feeds
        return "" if forward and back else "without corrections" if forward else "without the planned motion"


class PathTrial:
    """Tries a path a moment after its last change.

    Attributes
    ----------
    now, before : Ran or None
        The newest run, and the one before it with other halves.
    """

    def __init__(self) -> None:
        self.now: Ran | None = None
        self.before: Ran | None = None
        self._job: Job[ToTry, Ran] = Job("pivrex-trying", _ran)
        self._wanted: ToTry | None = None
        self._since = 0.0

    @property
    def goes_on(self) -> bool:
        """Whether something is tried, or will be."""
        return self._job.goes_on or self._wanted is not None

    def want(self, job: ToTry | None) -> None:
        """Report what is to be known by now."""
        if job is None or job == self._job.question:
            self._wanted = None
        elif job != self._wanted:
            self._wanted, self._since = job, time.monotonic()

    def poll(self) -> bool:
        """Take what has come, and begin what is wanted; returns whether something new is there."""
        answers = self._job.poll()
        for _, found in answers:
            self._take(found)
        if self._wanted is not None and not self._job.goes_on and time.monotonic() - self._since >= PAUSE_S:
            self._job.ask(self._wanted)
            self._wanted = None
        return bool(answers)

    def _take(self, found: Ran) -> None:
        if self.now is not None and self.now.job.feeds != found.job.feeds:
            self.before = self.now
        elif self.before is not None and self.before.job._replace(feeds=found.job.feeds) != found.job:
            self.before = None  # of another path
        self.now = found

    def close(self) -> None:
        """Let go of the process."""
        self._job.forget()
        self._wanted = None


def _ran(job: ToTry, _report: Progress) -> Ran:
    made = tried(job.path, job.rig, job.field, job.feeds, job.seed)
    end = made.plan.poses[-1]
    last = made.play.pose
    turned = (float(last[2] - end[2]) + np.pi) % (2 * np.pi) - np.pi
    why = made.play.why or ("" if made.play.ended == "finished" else made.play.ended)
    return Ran(
        job, why, made.t - made.t[0] if len(made.t) else made.t, made.truth, made.estimated, made.errors, made.planned, made.back,
        float(np.hypot(*(last[:2] - end[:2]))), abs(turned),
    )  # fmt: skip
