"""Rehearsals of a routine, and their results in words."""

from __future__ import annotations

import numpy as np

from pivrex.rig import Field
from pivrex.rig.field import Zone
from pivrex.routine.interpreter import STOPPED
from pivrex.routine.playing import OUT_OF_TIME
from pivrex.routine.rehearsal import Rehearsed, follows, reached, rehearse
from pivrex.tui.jobs.job import Job, Progress
from pivrex.tui.jobs.previews import ToPlay

__all__ = ["TIMES", "rehearsal_job", "rehearsal_rows", "rehearsal_words", "zone_of"]

TIMES = 200
"""How many drives: enough for a share to a few per cent, and a few seconds' work."""


def rehearsal_job() -> Job[ToPlay, Rehearsed]:
    """Return the job that rehearses a routine."""
    return Job("pivrex-rehearsal", _Rehearser, TIMES, patient=False)


class _Rehearser:
    def __init__(self, times: int) -> None:
        self._seeds = np.arange(1, times + 1, dtype=np.uint64)

    def __call__(self, question: ToPlay, progress: Progress) -> Rehearsed | None:
        def goes_on(done: int, whole: int) -> bool:
            return progress(done / whole)

        return rehearse(question.program, question.rig, question.field, self._seeds, question.limit_s, goes_on)


def rehearsal_words(job: Job[ToPlay, Rehearsed], field: Field) -> str:
    """Return how far it is, or in one line what came of it."""
    if job.goes_on:
        return f"rehearsing {TIMES} times: {job.share * 100:3.0f} %, R stops it"
    return ", ".join(text for text, _ in rehearsal_rows(job.answer, field)[:3])


def zone_of(found: Rehearsed | None, field: Field) -> Zone | None:
    """The zone that is reached most often; the nearest if none is."""
    if found is None or not field.zones:
        return None
    shares, middle = reached(found, field), found.mean
    return min(field.zones, key=lambda z: (-shares[z.name], np.hypot(z.x_m - middle[0], z.y_m - middle[1])))


def rehearsal_rows(found: Rehearsed | None, field: Field) -> list[tuple[str, str]]:
    """Return what came of it, line by line with their roles; nothing before there is something."""
    if found is None:
        return []
    lines = [(f"rehearsed {len(found.seeds)} times", "title")]
    zone = zone_of(found, field)
    if zone is not None:
        share = reached(found, field)[zone.name]
        lines.append((f"{zone.name} {share * 100:.0f} %", "measured" if share >= 0.95 else "alarm"))
    sigma = np.sqrt(np.trace(found.covariance[:2, :2]) / 2)
    turned = np.degrees(np.sqrt(found.covariance[2, 2]))
    lines.append((f"± {sigma * 100:.1f} cm, ± {turned:.1f} deg", "rest"))
    late = sum(how == OUT_OF_TIME for how in found.ended)
    stopped = sum(how == STOPPED for how in found.ended)
    lines.append((f"{found.times_s.mean():.1f} s, at worst {found.times_s.max():.1f} s", "dim"))
    lines += [(f"! {late} cut off by the clock", "alarm")] if late else []
    lines += [(f"! {stopped} stopped by themselves", "alarm")] if stopped else []
    most = [f for f in follows(found)[:2] if abs(f.correlation) > 0.3]
    lines += [(f"{f.of} correlates with {f.name}, r {f.correlation:+.2f}", "dim") for f in most]
    k = found.worst
    off = np.hypot(*(found.poses[k] - found.mean)[:2])
    lines.append((f"largest error: seed {found.seeds[k]}, {off * 100:.0f} cm", "dim"))
    return lines
