"""Previews of a routine: the newest text counts, and unchanged parts are not played again."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.rig import Field, Rig
from pivrex.routine import Play, Player, Program
from pivrex.routine.commanded_path import commanded_path
from pivrex.routine.midway import Midway, before_line
from pivrex.routine.playing import start_pose
from pivrex.routine.thread import RoutineMessage, StepRecord
from pivrex.tui.jobs.job import Job, Progress

__all__ = ["Found", "Place", "Preview", "PreviewMaker", "Seen", "ToPlay", "preview_job"]

Floats = NDArray[np.float64]


class ToPlay(NamedTuple):
    """The question of a preview. ``values`` are the numbers that a post may show, for decisions side by side."""

    serial: int
    rig: Rig
    field: Field | None
    program: Program
    limit_s: float
    seed: int
    values: tuple[float, ...] = ()


@dataclass(frozen=True)
class Preview:
    """The result of one play.

    Attributes
    ----------
    poses, commanded : (N + 1, 3) float64
        Where the robot went, and the commanded pose, before each Tick and at last.
    at : (N, A) float64
        The target of each attachment, in the rig's order.
    messages : tuple of Told
        What the routine said and showed.
    """

    poses: Floats
    commanded: Floats
    at: Floats
    steps: tuple[StepRecord, ...]
    ended: str
    why: str
    time_s: float
    dt_s: float
    messages: tuple[RoutineMessage, ...] = ()

    def tick(self, time_s: float) -> int:
        """Return the tick of a time."""
        return max(0, min(len(self.poses) - 1, round(time_s / self.dt_s)))


class Seen(NamedTuple):
    """An answer: the preview, and those for each value that a post may show."""

    serial: int
    preview: Preview
    values: tuple[tuple[float, Preview], ...] = ()


class Place(NamedTuple):
    """A question: how do things stand before this line of a job?"""

    job: ToPlay
    line: int


class Found(NamedTuple):
    """Its answer, or why there is none."""

    midway: Midway | None
    why: str


class PreviewMaker:
    """Plays for the newest job; keeps players for as long as rig and field stay."""

    def __init__(self) -> None:
        self._players: dict[float | None, Player] = {}
        self._of: tuple[object, ...] = ()

    def __call__(self, question: ToPlay | Place, progress: Progress) -> Seen | Found | None:
        if isinstance(question, Place):
            job = question.job
            return Found(*before_line(job.program, job.rig, job.field, question.line, job.limit_s))
        return self._make(question, progress.newer)

    def _make(self, job: ToPlay, newer: Callable[[], bool]) -> Seen | None:
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

    def _play(self, job: ToPlay, value: float | None, field: Field | None, newer: Callable[[], bool]) -> Preview | None:
        player = self._players.get(value)
        if player is None:
            player = self._players[value] = Player(job.rig, field, job.seed)
        play = player.play(job.program, job.limit_s, newer)
        return None if play is None else _told(player, play, start_pose(job.program, field))


def _told(player: Player, play: Play, start: Floats) -> Preview:
    layout = player.line.layout
    names = [
        c.name for s, c in ((c.stage, c) for c in layout.columns) if s == "attachments" and c.name.endswith("_target")
    ]
    at = play.rows[:, [layout.at("attachments", n) for n in names]]
    commanded = commanded_path(player.line, play.rows, start)
    return Preview(
        play.poses, commanded, at, tuple(play.steps), play.ended, play.why, play.time_s, play.dt_s, play.messages
    )


def _showing(field: Field | None, value: float) -> Field | None:
    """Return a field whose posts show another number."""
    if field is None:
        return None
    rounds = tuple(r.model_copy(update={"shows": value}) if r.shows else r for r in field.rounds)
    blocks = tuple(b.model_copy(update={"shows": value}) if b.shows else b for b in field.blocks)
    return field.model_copy(update={"rounds": rounds, "blocks": blocks})


def _kind(question: ToPlay | Place) -> tuple[int, object]:
    return 0, type(question).__name__


def preview_job() -> Job[ToPlay | Place, Seen | Found]:
    """Return the job that makes previews, and finds places to begin at."""
    return Job("pivrex-preview", PreviewMaker, key=_kind, nice=5)
