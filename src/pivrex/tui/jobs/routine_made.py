"""Background work on a routine, once: the way back, and a comparison with another version."""

from __future__ import annotations

from math import degrees
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.routine import Player, Program, check_text
from pivrex.routine.backwards import backwards, there_and_back
from pivrex.routine.files import shared_next_to
from pivrex.routine.motion import wrapped
from pivrex.routine.own_move import MadeMove, differs
from pivrex.routine.rehearsal import rehearse
from pivrex.routine.versions import Compared, compared
from pivrex.tui.jobs.job import Job, Progress
from pivrex.tui.jobs.previews import ToPlay

__all__ = ["Against", "Home", "Proven", "ToCompare", "ToProve", "ToReturn", "made_job"]

TIMES = 60
"""How many drives of each version say which is more reliable."""


class Home(NamedTuple):
    """A routine that goes back: its text, and what came of there and back; empty with why there is none."""

    text: str
    said: str


class Against(NamedTuple):
    """Two versions, and where the other one goes, (N, 3)."""

    found: Compared
    poses: NDArray[np.float64]


class ToReturn(NamedTuple):
    """A routine whose way back is to be made."""

    play: ToPlay
    path: Path
    title: str = "the way back"


class ToCompare(NamedTuple):
    """A routine against which another version is to be held."""

    play: ToPlay
    other: Program
    title: str


class ToProve(NamedTuple):
    """A routine with a new own move, that must do what it did before: ``old`` is the text that it was made of."""

    play: ToPlay
    other: Program
    made: MadeMove
    old: str

    @property
    def title(self) -> str:
        """The kind of work."""
        return f"proving that {self.made.name} does the same"


class Proven(NamedTuple):
    """Where it does something else; empty if it never does."""

    differs: str


Question = ToReturn | ToCompare | ToProve
Answer = Home | Against | Proven


def made_job() -> Job[Question, Answer]:
    """Return the job that makes the way back, holds another version against a routine, or proves that one does the same."""
    return Job("pivrex-beside", _make, patient=False)


def _make(question: Question, _report: Progress) -> Answer:
    if isinstance(question, ToProve):
        job = question.play
        return Proven(differs(job.program, question.other, job.rig, job.field, job.limit_s))
    return (
        _home(question.play, question.path)
        if isinstance(question, ToReturn)
        else _against(question.play, question.other)
    )


def _home(job: ToPlay, path: Path) -> Home:
    player = Player(job.rig, job.field, job.seed)
    there = player.play(job.program, job.limit_s)
    assert there is not None
    text = backwards(job.program, job.rig, there)
    both = check_text(
        there_and_back(job.program, job.rig, there), job.rig, "there and back", shared_next_to(path)
    ).program
    if both is None:
        return Home("", "it ends before its last line, so there is no way back behind that")
    back = player.play(both, 4 * job.limit_s)
    assert back is not None
    off = back.pose - there.poses[0]
    away, turned = float(np.hypot(off[0], off[1])), abs(degrees(wrapped(float(off[2]))))
    how = "" if back.ended == "finished" else f", {back.ended}"
    said = (
        f"there and back takes {back.time_s:.1f} s{how} and ends {away * 100:.1f} cm and {turned:.1f} deg off its start"
    )
    return Home(text, said)


def _against(job: ToPlay, other: Program) -> Against:
    plays = []
    for program in (job.program, other):
        made = Player(job.rig, job.field, job.seed).play(program, job.limit_s)
        assert made is not None
        plays.append(made)
    found = None
    if job.rig.has_realistic_physics:
        seeds = np.arange(1, TIMES + 1, dtype=np.uint64)
        each = [rehearse(program, job.rig, job.field, seeds, job.limit_s) for program in (job.program, other)]
        assert each[0] is not None and each[1] is not None
        found = (each[0], each[1])
    names = (job.program.name, other.name)
    return Against(compared(names, (plays[0], plays[1]), found, job.field), plays[1].poses)
