"""Helpers that find gains, in a process of their own: they tell how far they are, and can be stopped."""

from __future__ import annotations

from collections.abc import Callable
from math import degrees
from multiprocessing.connection import Connection
from typing import NamedTuple, Protocol

from pivrex.rig import Rig
from pivrex.tui.jobs.worker import WorkerProcess
from pivrex.tuning import Gains, loop_named
from pivrex.tuning.placement import placements
from pivrex.tuning.relay import gains_by, relay_on
from pivrex.tuning.search import search

__all__ = ["HelpAtOnce", "HelpBeside", "Helping", "Job", "News", "carry_out"]


class Job(NamedTuple):
    """What a helper shall do: "relay", "search" or "placement", for a loop of a rig, with a goal."""

    kind: str
    rig: Rig
    loop: str
    goal: str
    candidates: int = 500


class News(NamedTuple):
    """What a helper says: how far it is, from 0 to 1; in the end a sentence, and gains if it found any."""

    share: float
    text: str
    gains: Gains | None = None
    over: bool = False
    failed: bool = False


def carry_out(job: Job, tell: Callable[[News], bool]) -> News:
    """Do a job; ``tell`` takes `News` and gives whether to stop."""
    if job.kind == "placement":
        trials = (
            f"{p.mounting} {degrees(p.drift_rad):.2f} deg off, noise {degrees(p.noise_rad_s):.2f} deg/s"
            for p in placements(job.rig)
        )
        return News(1.0, "gyro after 8 s: " + "; ".join(trials), None, True)
    loop = loop_named(job.loop)
    if job.kind == "relay":
        found = relay_on(job.rig, loop)
        if found is None:
            return News(
                1.0,
                "the relay experiment did not swing evenly: friction holds it, or it has no limit",
                None,
                True,
                True,
            )
        said = f"relay: ultimate gain {found.gain:.3g}, period {found.period_s:.2f} s; {job.goal} gains from them"
        return News(1.0, said, gains_by(found, job.goal), True)

    def progress(done: int, whole: int) -> bool:
        return tell(News(done / whole, f"{done} of {whole} candidates, each under 8 conditions"))

    best = search(job.rig, loop, job.goal, job.candidates, progress=progress)
    if best is None:
        return News(1.0, "the search was stopped before it found anything", None, True, True)
    scale = loop.scale
    said = (
        f"{job.goal}, {best.tried} tried: settles in {best.settle_s[0]:.2f} s (worst {best.settle_s[1]:.2f}), beyond "
        f"{best.beyond[0] * scale:.1f} (worst {best.beyond[1] * scale:.1f}) {loop.unit.partition(' ')[0]}"
    )
    return News(1.0, said, best.gains, True)


class Helping(Protocol):
    """Something that does one job."""

    def begin(self, job: Job) -> None:
        """Begin it; one that goes on is given up."""
        ...

    def take(self) -> News | None:
        """Give what it said since the last call; None if nothing."""
        ...

    def stop(self) -> None:
        """Give it up."""
        ...


class HelpAtOnce:
    """Works where it is asked: for whoever may wait."""

    def __init__(self) -> None:
        self._news: News | None = None

    def begin(self, job: Job) -> None:
        self._news = carry_out(job, lambda _news: False)

    def take(self) -> News | None:
        news, self._news = self._news, None
        return news

    def stop(self) -> None:
        self._news = None


class HelpBeside:
    """Works in a process of its own, which ends with it."""

    def __init__(self) -> None:
        self._worker: WorkerProcess | None = None

    def begin(self, job: Job) -> None:
        self.stop()
        self._worker = WorkerProcess("pivrex-helper", _help, job)

    def take(self) -> News | None:
        news: News | None = None
        try:
            while self._worker is not None and self._worker.wire.poll():
                news = self._worker.wire.recv()
        except (EOFError, OSError):
            news = (
                news
                if news is not None and news.over
                else News(1.0, "the helper ended without an answer", None, True, True)
            )
        if news is not None and news.over:
            self.stop()
        return news

    def stop(self) -> None:
        if self._worker is not None:
            self._worker.close()
            self._worker = None


def _help(wire: Connection, job: Job) -> None:
    def tell(news: News) -> bool:
        wire.send(news)
        return False

    wire.send(carry_out(job, tell))
