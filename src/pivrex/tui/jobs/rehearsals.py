"""A rehearsal beside the screen: progress as it goes on, stopped at will."""

from __future__ import annotations

from multiprocessing.connection import Connection
from typing import NamedTuple

import numpy as np

from pivrex.rig import Field
from pivrex.rig.field import Zone
from pivrex.routine.mind import STOPPED
from pivrex.routine.playing import OUT_OF_TIME
from pivrex.routine.rehearsal import Rehearsed, follows, reached, rehearse
from pivrex.tui.jobs.previews import Job
from pivrex.tui.jobs.worker import WorkerProcess

__all__ = ["TIMES", "News", "Rehearsal"]

TIMES = 200
"""So many drives: enough for a share to a few per cent, and a few seconds' work."""


class News(NamedTuple):
    """How far a rehearsal has come, and what came of it at last."""

    share: float
    found: Rehearsed | None = None


class Rehearsal:
    """At most one at a time."""

    def __init__(self) -> None:
        self._worker: WorkerProcess | None = None
        self.serial = -1
        """Of the text that is, or was, rehearsed."""
        self.share = 0.0
        self.found: Rehearsed | None = None

    @property
    def goes_on(self) -> bool:
        """Whether one is being made."""
        return self._worker is not None

    def begin(self, job: Job, times: int = TIMES) -> None:
        """Begin one; one that goes on is given up."""
        self.stop()
        self.found, self.share, self.serial = None, 0.0, job.serial
        self._worker = WorkerProcess("pivrex-rehearsal", _work, job, times)

    def poll(self) -> None:
        """Take what has come."""
        try:
            while self._worker is not None and self._worker.wire.poll():
                news: News = self._worker.wire.recv()
                self.share = news.share
                if news.found is not None:
                    self.found = news.found
                    self.stop()
        except (EOFError, OSError):
            self.stop()

    def stop(self) -> None:
        """Give it up; what was found before stays."""
        if self._worker is not None:
            self._worker.close()
            self._worker = None

    def words(self, field: Field) -> str:
        """Say how far it is, or in one line what came of it."""
        if self.goes_on:
            return f"rehearsing {TIMES} times: {self.share * 100:3.0f} %, R stops it"
        return ", ".join(text for text, _ in self.rows(field)[:3])

    def zone(self, field: Field) -> Zone | None:
        """The zone that is reached most often; the nearest if none is."""
        found = self.found
        if found is None or not field.zones:
            return None
        shares, middle = reached(found, field), found.mean
        return min(field.zones, key=lambda z: (-shares[z.name], np.hypot(z.x_m - middle[0], z.y_m - middle[1])))

    def rows(self, field: Field) -> list[tuple[str, str]]:
        """Say what came of it, line by line with their roles; nothing before there is something."""
        found = self.found
        if found is None:
            return []
        told = [(f"rehearsed {len(found.seeds)} times", "title")]
        zone = self.zone(field)
        if zone is not None:
            share = reached(found, field)[zone.name]
            told.append((f"{zone.name} {share * 100:.0f} %", "measured" if share >= 0.95 else "alarm"))
        sigma = np.sqrt(np.trace(found.covariance[:2, :2]) / 2)
        turned = np.degrees(np.sqrt(found.covariance[2, 2]))
        told.append((f"± {sigma * 100:.1f} cm, ± {turned:.1f} deg", "rest"))
        late = sum(how == OUT_OF_TIME for how in found.ended)
        stopped = sum(how == STOPPED for how in found.ended)
        told.append((f"{found.times_s.mean():.1f} s, at worst {found.times_s.max():.1f} s", "dim"))
        told += [(f"! {late} cut off by the clock", "alarm")] if late else []
        told += [(f"! {stopped} stopped by themselves", "alarm")] if stopped else []
        most = [f for f in follows(found)[:2] if abs(f.correlation) > 0.3]
        told += [(f"follows {f.name} ({f.of}, r {f.correlation:+.2f})", "dim") for f in most]
        k = found.worst
        off = np.hypot(*(found.poses[k] - found.mean)[:2])
        told.append((f"farthest out: seed {found.seeds[k]}, {off * 100:.0f} cm", "dim"))
        return told


def _work(wire: Connection, job: Job, times: int) -> None:
    told = [-1.0]

    def tell(done: int, whole: int) -> bool:
        share = done / whole
        if share > told[0] + 0.02:
            told[0] = share
            wire.send(News(share))
        return True

    seeds = np.arange(1, times + 1, dtype=np.uint64)
    wire.send(News(1.0, rehearse(job.program, job.rig, job.field, seeds, job.limit_s, tell)))
