"""A path tried on the stand-in beside the screen, a moment after the last change, and the run before to hold it against."""

from __future__ import annotations

import time
from multiprocessing.connection import Connection
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.errors import PivrexError
from pivrex.path import Path as DrivenPath
from pivrex.rig import Field, Rig
from pivrex.routine.trial import tried
from pivrex.tui.jobs.worker import WorkerProcess

__all__ = ["Job", "Ran", "Trying"]

Floats = NDArray[np.float64]

PAUSE_S = 0.4
"""After the last change so much time passes before it is tried."""


class Job(NamedTuple):
    """What is tried: a path, a rig, a field, whether the planned motion and the corrections count, and with which chance."""

    path: DrivenPath
    rig: Rig
    field: Field
    feeds: tuple[bool, bool]
    seed: int


class Ran(NamedTuple):
    """What came of it: ``why`` it ended, if not by itself, and the rest as `pivrex.routine.trial.Trial` has it."""

    job: Job
    why: str
    t: Floats
    truth: Floats
    believed: Floats
    errors: Floats
    planned: Floats
    back: Floats
    off_m: float
    off_rad: float

    @property
    def said(self) -> str:
        """What was left out, in words."""
        forward, back = self.job.feeds
        return "" if forward and back else "without corrections" if forward else "without the planned motion"


class Trying:
    """At most one at a time.

    Attributes
    ----------
    now, before : Ran or None
        The newest run, and the one before it with other halves.
    """

    def __init__(self) -> None:
        self.now: Ran | None = None
        self.before: Ran | None = None
        self._worker: WorkerProcess | None = None
        self._busy: Job | None = None
        self._wanted: Job | None = None
        self._since = 0.0

    @property
    def goes_on(self) -> bool:
        """Whether something is tried, or will be."""
        return self._busy is not None or self._wanted is not None

    def want(self, job: Job | None) -> None:
        """Say what is to be known by now."""
        known = self._busy or (self.now.job if self.now is not None else None)
        if job is None or job == known:
            self._wanted = None
        elif job != self._wanted:
            self._wanted, self._since = job, time.monotonic()

    def poll(self) -> bool:
        """Take what has come, and begin what is wanted; tells whether something new is there."""
        fresh = False
        try:
            if self._worker is not None and self._busy is not None and self._worker.wire.poll():
                found = self._worker.wire.recv()
                fresh = self._take(found)
                self._busy = None
            if self._wanted is not None and self._busy is None and time.monotonic() - self._since >= PAUSE_S:
                if self._worker is None:
                    self._worker = WorkerProcess("pivrex-trying", _work)
                self._worker.wire.send(self._wanted)
                self._busy, self._wanted = self._wanted, None
        except (EOFError, OSError):
            self.close()
        return fresh

    def _take(self, found: Ran | str) -> bool:
        if isinstance(found, str):
            return False
        if self.now is not None and self.now.job.feeds != found.job.feeds:
            self.before = self.now
        elif self.before is not None and self.before.job._replace(feeds=found.job.feeds) != found.job:
            self.before = None  # of another path
        self.now = found
        return True

    def close(self) -> None:
        """Let go of the process."""
        if self._worker is not None:
            self._worker.close()
        self._worker = self._busy = self._wanted = None


def _work(wire: Connection) -> None:
    while True:
        job: Job = wire.recv()
        try:
            wire.send(_ran(job))
        except PivrexError as problem:
            wire.send(f"{problem}")


def _ran(job: Job) -> Ran:
    made = tried(job.path, job.rig, job.field, job.feeds, job.seed)
    end = made.plan.poses[-1]
    last = made.play.pose
    turned = (float(last[2] - end[2]) + np.pi) % (2 * np.pi) - np.pi
    why = made.play.why or ("" if made.play.ended == "finished" else made.play.ended)
    return Ran(
        job, why, made.t - made.t[0] if len(made.t) else made.t, made.truth, made.believed, made.errors, made.planned, made.back,
        float(np.hypot(*(last[:2] - end[:2]))), abs(turned),
    )  # fmt: skip
