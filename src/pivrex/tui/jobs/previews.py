"""Previews of a routine, made in a process of their own: the newest text counts, and what is alike is not played again."""

from __future__ import annotations

from dataclasses import dataclass
from multiprocessing.connection import Connection
from typing import NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from pivrex.rig import Field, Rig
from pivrex.routine import Play, Player, Program
from pivrex.routine.asked_path import asked_path
from pivrex.routine.midway import Midway, before_line
from pivrex.routine.playing import start_pose
from pivrex.routine.thread import StepRecord
from pivrex.tui.jobs.worker import WorkerProcess

__all__ = ["Found", "Job", "Place", "Preview", "PreviewAtOnce", "PreviewBeside", "Previews", "Seen"]

Floats = NDArray[np.float64]


class Job(NamedTuple):
    """What shall be previewed. ``values`` are the numbers that a post may show, for decisions side by side."""

    serial: int
    rig: Rig
    field: Field | None
    program: Program
    limit_s: float
    seed: int
    values: tuple[float, ...] = ()


@dataclass(frozen=True)
class Preview:
    """What came of one play.

    Attributes
    ----------
    poses, asked : (N + 1, 3) float64
        Where the robot got to, and where it was asked to be, before each Tick and at last.
    at : (N, A) float64
        Where each attachment was told to be, in the rig's order.
    """

    poses: Floats
    asked: Floats
    at: Floats
    steps: tuple[StepRecord, ...]
    ended: str
    why: str
    time_s: float
    dt_s: float

    def tick(self, time_s: float) -> int:
        """Give the tick of a time."""
        return max(0, min(len(self.poses) - 1, round(time_s / self.dt_s)))


class Seen(NamedTuple):
    """An answer: the preview, and those for each value that a post may show."""

    serial: int
    preview: Preview
    values: tuple[tuple[float, Preview], ...] = ()


class Place(NamedTuple):
    """A question: how do things stand before this line of a job?"""

    job: Job
    line: int


class Found(NamedTuple):
    """Its answer, or why there is none."""

    midway: Midway | None
    why: str


class Previews(Protocol):
    """Makes previews, and finds places to begin at."""

    def ask(self, job: Job | Place) -> None:
        """Begin this one; one that goes on is given up."""
        ...

    def take(self) -> Seen | Found | None:
        """Give the newest answer since the last call."""
        ...

    def close(self) -> None:
        """End."""
        ...


class _Maker:
    """Plays for the newest job; keeps players for as long as rig and field stay."""

    def __init__(self) -> None:
        self._players: dict[float | None, Player] = {}
        self._of: tuple[object, ...] = ()

    def answer(self, asked: Job | Place, newer: object) -> Seen | Found | None:
        """Do what is asked; None if something newer is."""
        if isinstance(asked, Place):
            job = asked.job
            return Found(*before_line(job.program, job.rig, job.field, asked.line, job.limit_s))
        return self._make(asked, newer)

    def _make(self, job: Job, newer: object) -> Seen | None:
        of = (job.rig, job.field, job.seed)
        if of != self._of:
            self._players, self._of = {}, of
        own = self._play(job, None, job.field, newer)
        if own is None:
            return None
        found = []
        for value in job.values:
            made = self._play(job, value, _showing(job.field, value), newer)
            if made is None:
                return None
            found.append((value, made))
        return Seen(job.serial, own, tuple(found))

    def _play(self, job: Job, value: float | None, field: Field | None, newer: object) -> Preview | None:
        player = self._players.get(value)
        if player is None:
            player = self._players[value] = Player(job.rig, field, job.seed)
        play = player.play(job.program, job.limit_s, newer)  # type: ignore[arg-type]
        return None if play is None else _told(player, play, start_pose(job.program, field))


def _told(player: Player, play: Play, start: Floats) -> Preview:
    layout = player.line.layout
    names = [
        c.name for s, c in ((c.stage, c) for c in layout.columns) if s == "attachments" and c.name.endswith("_target")
    ]
    at = play.rows[:, [layout.at("attachments", n) for n in names]]
    asked = asked_path(player.line, play.rows, start)
    return Preview(play.poses, asked, at, tuple(play.steps), play.ended, play.why, play.time_s, play.dt_s)


def _showing(field: Field | None, value: float) -> Field | None:
    """Give a field whose posts show another number."""
    if field is None:
        return None
    rounds = tuple(r.model_copy(update={"shows": value}) if r.shows else r for r in field.rounds)
    blocks = tuple(b.model_copy(update={"shows": value}) if b.shows else b for b in field.blocks)
    return field.model_copy(update={"rounds": rounds, "blocks": blocks})


class PreviewAtOnce:
    """Works where it is asked: for whoever may wait."""

    def __init__(self) -> None:
        self._maker = _Maker()
        self._seen: Seen | Found | None = None

    def ask(self, job: Job | Place) -> None:
        self._seen = self._maker.answer(job, lambda: False)

    def take(self) -> Seen | Found | None:
        seen, self._seen = self._seen, None
        return seen

    def close(self) -> None:
        self._seen = None


class PreviewBeside:
    """Works in a process of its own, which ends with it; begun when it is first needed."""

    def __init__(self) -> None:
        self._worker: WorkerProcess | None = None

    def ask(self, job: Job | Place) -> None:
        if self._worker is None:
            self._worker = WorkerProcess("pivrex-preview", _work, nice=5)
        try:
            self._worker.wire.send(job)
        except OSError:  # it has died: a new one begins with the next job
            self.close()

    def take(self) -> Seen | Found | None:
        seen: Seen | Found | None = None
        try:
            if self._worker is not None and self._worker.wire.poll():
                seen = self._worker.wire.recv()
        except (EOFError, OSError):
            self.close()
        return seen

    def close(self) -> None:
        if self._worker is not None:
            self._worker.close()
            self._worker = None


def _work(wire: Connection) -> None:
    maker = _Maker()
    while True:
        job: Job | Place = wire.recv()
        while wire.poll():
            job = wire.recv()
        seen = maker.answer(job, wire.poll)
        if seen is not None:
            wire.send(seen)
