"""Helpers that find gains: they tell how far they are, and can be stopped."""

from __future__ import annotations

from math import degrees
from typing import NamedTuple

from pivrex.rig import Rig
from pivrex.tui.jobs.job import Job, Progress
from pivrex.tuning import Gains, loop_named
from pivrex.tuning.placement import placements
from pivrex.tuning.relay import gains_by, relay_on
from pivrex.tuning.search import search

__all__ = ["Proposal", "ToFind", "gain_job", "propose"]


class ToFind(NamedTuple):
    """What a helper shall do: "relay", "search" or "placement", for a loop of a rig, with a goal."""

    kind: str
    rig: Rig
    loop: str
    goal: str
    candidates: int = 500


class Proposal(NamedTuple):
    """What a helper found: a sentence, and gains if it found any."""

    text: str
    gains: Gains | None = None
    failed: bool = False


def propose(job: ToFind, progress: Progress) -> Proposal:
    """Do what is asked."""
    if job.kind == "placement":
        trials = (
            f"{p.mounting} {degrees(p.drift_rad):.2f} deg off, noise {degrees(p.noise_rad_s):.2f} deg/s"
            for p in placements(job.rig)
        )
        return Proposal("gyro after 8 s: " + "; ".join(trials))
    loop = loop_named(job.loop)
    if job.kind == "relay":
        found = relay_on(job.rig, loop)
        if found is None:
            return Proposal(
                "the relay experiment did not swing evenly: friction holds it, or it has no limit", None, True
            )
        said = f"relay: ultimate gain {found.gain:.3g}, period {found.period_s:.2f} s; {job.goal} gains from them"
        return Proposal(said, gains_by(found, job.goal))

    def given_up(done: int, whole: int) -> bool:
        return not progress(done / whole, f"{done} of {whole} candidates, each under 8 conditions")

    best = search(job.rig, loop, job.goal, job.candidates, progress=given_up)
    if best is None:
        return Proposal("the search was stopped before it found anything", None, True)
    scale = loop.scale
    said = (
        f"{job.goal}, {best.tried} tried: settles in {best.settle_s[0]:.2f} s (worst {best.settle_s[1]:.2f}), beyond "
        f"{best.beyond[0] * scale:.1f} (worst {best.beyond[1] * scale:.1f}) {loop.unit.partition(' ')[0]}"
    )
    return Proposal(said, best.gains)


def gain_job() -> Job[ToFind, Proposal]:
    """Return the job that finds gains."""
    return Job("pivrex-helper", propose, patient=False)
