"""Helpers that find gains; they report progress and can be stopped."""

from __future__ import annotations

from math import degrees
from typing import NamedTuple

from pivrex.rig import Rig
from pivrex.tui.jobs.job import Job, Progress
from pivrex.tuning import BalanceLoop, Gains, Loop, loop_named
from pivrex.tuning.balance_loops import WHOLE
from pivrex.tuning.balancing import lqr_of
from pivrex.tuning.placement import placements
from pivrex.tuning.relay import gains_by, relay_on
from pivrex.tuning.search import search

__all__ = ["Proposal", "ToFind", "gain_job", "propose"]


class ToFind(NamedTuple):
    """The task of a helper: "relay", "search", "placement" or "lqr", for a loop of a rig, with a goal."""

    kind: str
    rig: Rig
    loop: str
    goal: str
    candidates: int = 500


class Proposal(NamedTuple):
    """The result of a helper: a sentence, gains if it found any, and other changes of the rig if there are some."""

    text: str
    gains: Gains | None = None
    changes: dict[str, object] | None = None
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
    if job.kind == "lqr":
        return _lqr(job.rig, loop)
    if job.kind == "relay":
        found = relay_on(job.rig, loop)
        if found is None:
            return Proposal(
                "the relay experiment did not oscillate evenly: friction holds it, or it has no limit", failed=True
            )
        said = f"relay: ultimate gain {found.gain:.3g}, period {found.period_s:.2f} s; {job.goal} gains from them"
        return Proposal(said, gains_by(found, job.goal, loop, job.rig))

    def given_up(done: int, whole: int) -> bool:
        return not progress(done / whole, f"{done} of {whole} candidates, each under 8 conditions")

    best = search(job.rig, loop, job.goal, job.candidates, progress=given_up)
    if best is None:
        return Proposal("the search was stopped before it found anything", failed=True)
    shown = WHOLE if isinstance(loop, BalanceLoop) else loop
    scale = shown.scale
    said = (
        f"{job.goal}, {best.tried} tried: settles in {best.settle_s[0]:.2f} s (worst {best.settle_s[1]:.2f}), overshoot "
        f"{best.beyond[0] * scale:.1f} (worst {best.beyond[1] * scale:.1f}) {loop.unit.partition(' ')[0]}"
    )
    if best.push_Ns is not None:
        said += f"; survives a push of {best.push_Ns[1]:.2f} N·s at worst, {best.push_Ns[0]:.2f} on average"
    return Proposal(said, best.gains)


def _lqr(rig: Rig, loop: Loop) -> Proposal:
    """Return the gains of LQR for all loops of a robot that balances."""
    found = lqr_of(rig)
    gains = ", ".join(f"{key.split('.')[1]} P {value:g}" for key, value in found.changes.items())
    slowest = -1.0 / found.poles.real.max()
    said = f"LQR from the linear theory, slowest {slowest:.2f} s: {gains}"  # `pivrex tune` prints its feedback too
    own = found.changes[f"balance.{loop.name}.p"]
    assert isinstance(own, float)
    return Proposal(said, Gains(own, loop.gains(rig).i, 0.0), found.changes)


def gain_job() -> Job[ToFind, Proposal]:
    """Return the job that finds gains."""
    return Job("pivrex-helper", propose, patient=False)
