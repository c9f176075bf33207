"""What is made of a routine beside the screen, once: the way back, and another version held against it."""

from __future__ import annotations

from math import degrees
from multiprocessing.connection import Connection
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.routine import Player, Program, check_text
from pivrex.routine.backwards import backwards, there_and_back
from pivrex.routine.files import shared_beside
from pivrex.routine.motion import wrapped
from pivrex.routine.rehearsal import rehearse
from pivrex.routine.versions import Compared, compared
from pivrex.tui.jobs.previews import Job
from pivrex.tui.jobs.worker import WorkerProcess

__all__ = ["Against", "Beside", "Home"]

TIMES = 60
"""So many drives of each version say which is surer."""


class Home(NamedTuple):
    """A routine that goes back: its text, and what came of there and back; empty with why there is none."""

    text: str
    said: str


class Against(NamedTuple):
    """Two versions, and where the other one goes, (N, 3)."""

    found: Compared
    poses: NDArray[np.float64]


class Beside:
    """At most one at a time.

    Attributes
    ----------
    title : str
        What is made.
    """

    def __init__(self) -> None:
        self._worker: WorkerProcess | None = None
        self.title = ""

    @property
    def goes_on(self) -> bool:
        """Whether something is made."""
        return self._worker is not None

    def home(self, job: Job, path: Path) -> None:
        """Make the way back."""
        self._begin("the way back", _home, job, path)

    def against(self, job: Job, name: str, other: Program) -> None:
        """Hold another version against it."""
        self._begin(f"{name} beside it", _against, job, other)

    def _begin(self, title: str, work: object, *args: object) -> None:
        self.stop()
        self.title = title
        self._worker = WorkerProcess("pivrex-beside", work, *args)  # type: ignore[arg-type]

    def poll(self) -> Home | Against | None:
        """Give what was made, once."""
        found: Home | Against | None = None
        try:
            if self._worker is not None and self._worker.wire.poll():
                found = self._worker.wire.recv()
                self.stop()
        except (EOFError, OSError):
            self.stop()
        return found

    def stop(self) -> None:
        """Give it up."""
        if self._worker is not None:
            self._worker.close()
            self._worker = None


def _home(wire: Connection, job: Job, path: Path) -> None:
    player = Player(job.rig, job.field, job.seed)
    there = player.play(job.program, job.limit_s)
    assert there is not None
    text = backwards(job.program, job.rig, there)
    both = check_text(
        there_and_back(job.program, job.rig, there), job.rig, "there and back", shared_beside(path)
    ).program
    if both is None:
        wire.send(Home("", "it ends before its last line, so there is no way back behind that"))
        return
    back = player.play(both, 4 * job.limit_s)
    assert back is not None
    off = back.pose - there.poses[0]
    away, turned = float(np.hypot(off[0], off[1])), abs(degrees(wrapped(float(off[2]))))
    how = "" if back.ended == "finished" else f", {back.ended}"
    wire.send(
        Home(
            text,
            f"there and back takes {back.time_s:.1f} s{how} and ends {away * 100:.1f} cm and {turned:.1f} deg off its start",
        )
    )


def _against(wire: Connection, job: Job, other: Program) -> None:
    plays = []
    for program in (job.program, other):
        made = Player(job.rig, job.field, job.seed).play(program, job.limit_s)
        assert made is not None
        plays.append(made)
    found = None
    if job.rig.has_real_body:
        seeds = np.arange(1, TIMES + 1, dtype=np.uint64)
        each = [rehearse(program, job.rig, job.field, seeds, job.limit_s) for program in (job.program, other)]
        assert each[0] is not None and each[1] is not None
        found = (each[0], each[1])
    names = (job.program.name, other.name)
    wire.send(Against(compared(names, (plays[0], plays[1]), found, job.field), plays[1].poses))
