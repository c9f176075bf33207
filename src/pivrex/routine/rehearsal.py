"""A rehearsal: the same routine many times, each drive a little different, as one batch; and what came of it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.line import Line
from pivrex.line.beginning import begun
from pivrex.line.stage import Floats
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.routine.playing import ALONE_S, OUT_OF_TIME, REST_S, start_pose
from pivrex.routine.program import Program
from pivrex.routine.runner import Runner
from pivrex.routine.thread import StepRecord
from pivrex.sim.driving import drive
from pivrex.sim.spread import drawn, placed_by, stand_in_under

__all__ = ["Follows", "Rehearsed", "Watched", "follows", "reached", "rehearse", "split", "together", "watch"]

AT_ONCE = 500
"""So many robots are one batch: larger ones win little, and must be waited for."""


class Follows(NamedTuple):
    """How much the end follows one thing that differs: the correlation of what with it, and which it is."""

    name: str
    of: str
    correlation: float


@dataclass(frozen=True)
class Rehearsed:
    """What came of N drives.

    Attributes
    ----------
    seeds : (N,) uint64
    poses : (N, 3) float64
        Where each came to rest.
    times_s : (N,) float64
        When each routine ended.
    ended : tuple of str
        How each ended, as `pivrex.routine.playing.Play` has it.
    names : tuple of str
        What differs from drive to drive, P of them.
    values : (N, P) float64
    """

    seeds: NDArray[np.uint64]
    poses: Floats
    times_s: Floats
    ended: tuple[str, ...]
    names: tuple[str, ...]
    values: Floats

    @property
    def mean(self) -> Floats:
        """The mean end pose, (3,)."""
        found: Floats = self.poses.mean(axis=0)
        return found

    @property
    def covariance(self) -> Floats:
        """Of the end poses, (3, 3)."""
        return np.cov(self.poses, rowvar=False) if len(self.poses) > 1 else np.zeros((3, 3))

    @property
    def worst(self) -> int:
        """Which drive ended farthest from the mean."""
        off = self.poses - self.mean
        return int(np.argmax(np.hypot(off[:, 0], off[:, 1])))


def rehearse(
    program: Program,
    rig: Rig,
    field: Field | None,
    seeds: NDArray[np.uint64],
    limit_s: float = ALONE_S,
    goes_on: Callable[[int, int], bool] = lambda _done, _whole: True,
) -> Rehearsed | None:
    """Play a routine once for each seed, exactly as `pivrex.routine.playing.play` does.

    Parameters
    ----------
    program : Program
    rig : Rig
    field : Field or None
    seeds : (N,) uint64
    limit_s : float
    goes_on : callable
        Is told how many ticks are done and how many there are; None is given once it says no.
    """
    parts = [seeds[k : k + AT_ONCE] for k in range(0, len(seeds), AT_ONCE)]
    made = []
    for k, part in enumerate(parts):

        def told(done: int, whole: int, before: int = k) -> bool:
            return goes_on(before * whole + done, len(parts) * whole)

        found = _batch(program, rig, field, part, limit_s, told)
        if found is None:
            return None
        made.append(found)
    return together(made)


def _batch(
    program: Program,
    rig: Rig,
    field: Field | None,
    seeds: NDArray[np.uint64],
    limit_s: float,
    goes_on: Callable[[int, int], bool],
) -> Rehearsed | None:
    drives = _Drives(program, rig, field, seeds, limit_s)
    most, rests = drives.most, drives.rests
    ends = np.zeros((len(seeds), 3))
    while not drives.over:
        if drives.n % 16 == 0 and not goes_on(drives.n, most + rests):
            return None
        # each comes to rest for the same time after its own end
        at_rest = np.minimum(drives.ended_at, most) + rests == drives.n
        ends[at_rest] = drives.robot.pose[at_rest]
        drives.tick()
    at_rest = np.minimum(drives.ended_at, most) + rests == drives.n
    ends[at_rest] = drives.robot.pose[at_rest]
    how = tuple(mind.ended or OUT_OF_TIME for mind in drives.runner.minds)
    times = drives.ended_at * drives.line.dt_s
    return Rehearsed(seeds, ends, times, how, drives.drew.names, drives.drew.values)


class _Drives:
    """A batch of drives of one routine, tick by tick.

    Attributes
    ----------
    n : int
        Ticks that have been.
    ended_at : (N,) int
        The tick at which each routine ended; the clock's last for those that have not.
    """

    def __init__(
        self, program: Program, rig: Rig, field: Field | None, seeds: NDArray[np.uint64], limit_s: float
    ) -> None:
        self.line, self.drew = Line(rig), drawn(rig, seeds)
        self.model = stand_in_under(rig, field, self.drew)
        pose, batch = start_pose(program, field), seeds.shape
        self.robot, self._state = placed_by(self.model, seeds, pose, self.drew), begun(self.line, pose, batch)
        self.runner = Runner(program, self.line, np.broadcast_to(pose, (*batch, 3)), batch, field)
        self._raw = self.line.rest(batch)
        self.row: Floats | None = None
        self.most, self.rests = round(limit_s / self.line.dt_s), round(REST_S / self.line.dt_s)
        self.ended_at = np.full(len(seeds), self.most)
        self._ended = np.zeros(len(seeds), bool)
        self.n = 0

    @property
    def over(self) -> bool:
        """Whether all have come to rest."""
        return self.n >= int(self.ended_at.max()) + self.rests

    def tick(self) -> None:
        """Let a tick pass."""
        entry = None
        if self.n < self.most and not self._ended.all():
            self._state = self.runner.before(self._state)
            entry = self.runner.tick(self.row)
            now = np.array([bool(mind.ended) for mind in self.runner.minds])
            self.ended_at = np.where(now & ~self._ended, self.n, self.ended_at)
            self._ended = self._ended | now
        stop = (self._ended | (self.n >= self.most)).astype(float)
        self._state, self.robot, self.row = drive(
            self.line, self.model, self._state, self.robot, self._raw, stop, entry=entry
        )
        self.n += 1


class Watched(NamedTuple):
    """Drives with all their Ticks: (T, N, K), the poses before each Tick and at last, (T + 1, N, 3), and the steps of each."""

    line: Line
    rows: Floats
    poses: Floats
    steps: tuple[list[StepRecord], ...]


def watch(
    program: Program,
    rig: Rig,
    field: Field | None,
    seeds: NDArray[np.uint64],
    limit_s: float = ALONE_S,
    goes_on: Callable[[], bool] = lambda: True,
    enough: Callable[[list[StepRecord], int], bool] | None = None,
) -> Watched | None:
    """Play a routine once for each seed and keep every Tick; for some dozens of drives. None once ``goes_on`` says no; ``enough`` as
    in `pivrex.routine.playing.Player.play`, for all of them.
    """
    drives = _Drives(program, rig, field, seeds, limit_s)
    rows: list[Floats] = []
    poses = [np.asarray(drives.robot.pose)]
    while not drives.over:
        if drives.n % 16 == 0 and not goes_on():
            return None
        minds = drives.runner.minds
        if enough is not None and drives.n % 8 == 7 and all(m.ended or enough(m.records, drives.n) for m in minds):
            break
        drives.tick()
        assert drives.row is not None
        rows.append(drives.row)
        poses.append(np.asarray(drives.robot.pose))
    for mind in drives.runner.minds:
        mind.close(drives.n)
    return Watched(drives.line, np.array(rows), np.array(poses), tuple(m.records for m in drives.runner.minds))


def together(parts: Sequence[Rehearsed]) -> Rehearsed:
    """Put rehearsals of the same routine together."""
    return Rehearsed(
        seeds=np.concatenate([p.seeds for p in parts]),
        poses=np.concatenate([p.poses for p in parts]),
        times_s=np.concatenate([p.times_s for p in parts]),
        ended=tuple(e for p in parts for e in p.ended),
        names=parts[0].names,
        values=np.concatenate([p.values for p in parts]),
    )


def reached(found: Rehearsed, field: Field) -> dict[str, float]:
    """Give for each zone of a field the share of drives that ended in it."""
    x, y = found.poses[:, 0], found.poses[:, 1]
    return {z.name: float((np.hypot(x - z.x_m, y - z.y_m) <= z.radius_m).mean()) for z in field.zones}


def follows(found: Rehearsed) -> list[Follows]:
    """Give how much the end follows each thing that differs, the most first.

    Notes
    -----
    For each of them the largest correlation (Pearson's r) with the end's x, y and heading.
    """
    told = []
    off = found.poses - found.mean
    spread = off.std(axis=0)
    for k, name in enumerate(found.names):
        own = found.values[:, k] - found.values[:, k].mean()
        wide = own.std()
        if wide == 0:
            continue
        each = [
            (float((own * off[:, j]).mean() / (wide * spread[j])) if spread[j] > 1e-9 else 0.0, of)
            for j, of in enumerate(("x", "y", "heading"))
        ]
        best = max(each, key=lambda one: abs(one[0]))
        told.append(Follows(name, best[1], best[0]))
    return sorted(told, key=lambda one: -abs(one.correlation))


def split(seeds: NDArray[np.uint64], workers: int) -> list[NDArray[np.uint64]]:
    """Cut seeds into tasks: as large as a batch may be, and at least one for each worker. What comes of them does not hang on it."""
    size = max(1, min(AT_ONCE, -(-len(seeds) // max(1, workers))))
    return [seeds[k : k + size] for k in range(0, len(seeds), size)]
