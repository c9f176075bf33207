"""A rehearsal: the same routine many times in one batch, each drive a little different; and its results."""

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
from pivrex.routine.drives import Drives
from pivrex.routine.playing import ALONE_S, OUT_OF_TIME, REST_S, start_pose
from pivrex.routine.program import Program
from pivrex.routine.thread import StepRecord
from pivrex.sim.sampled import Sampled, placed_by, sampled, simulator_under

__all__ = ["Follows", "Rehearsed", "Watched", "follows", "reached", "rehearse", "split", "together", "watch"]

AT_ONCE = 500
"""How many robots are one batch: larger ones win little, and must be waited for."""

STRETCH = 64
"""After this many ticks the caller is asked whether to go on."""

LOOKS = 8
"""After this many ticks that are kept the caller is asked whether they are enough."""


class Follows(NamedTuple):
    """How much the end follows one thing that differs: the correlation of what with it, and which it is."""

    name: str
    of: str
    correlation: float


@dataclass(frozen=True)
class Rehearsed:
    """The results of N drives.

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
        Gets how many ticks are done, and of how many; if it returns False, the result is None.
    """
    parts = [seeds[k : k + AT_ONCE] for k in range(0, len(seeds), AT_ONCE)]
    made = []
    for k, part in enumerate(parts):

        def report(done: int, whole: int, before: int = k) -> bool:
            return goes_on(before * whole + done, len(parts) * whole)

        found = _batch(program, rig, field, part, limit_s, report)
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
    # each comes to rest for the same time after its own end
    dt = rig.dt_s
    most, rests = round(limit_s / dt), round(REST_S / dt)
    drives, drew = _begun(program, rig, field, seeds, rests=rests)
    for n in range(0, most, STRETCH):
        if not goes_on(n, most + rests):
            return None
        drives.run(min(n + STRETCH, most))
        if drives.ended:
            break
    drives.cut_off()
    drives.run(np.inf)
    how = tuple(runner.interpreter.ended or OUT_OF_TIME for runner in drives.runners)
    return Rehearsed(seeds, np.array(drives.robot().pose), drives.ended_at * dt, how, drew.names, drew.values)


def _begun(
    program: Program, rig: Rig, field: Field | None, seeds: NDArray[np.uint64], keeps: int = 0, rests: float = np.inf
) -> tuple[Drives, Sampled]:
    """Return drives of a routine that begin, and by what they differ."""
    line, drew = Line(rig), sampled(rig, seeds)
    model, pose = simulator_under(rig, field, drew), start_pose(program, field)
    robots = placed_by(model, seeds, pose, drew)
    return Drives(program, line, model, begun(line, pose, seeds.shape), robots, pose, field, keeps, rests), drew


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
    drives, _ = _begun(program, rig, field, seeds, LOOKS)
    dt = drives.line.dt_s
    most, rests = round(limit_s / dt), round(REST_S / dt)
    rows: list[list[Floats]] = [[] for _ in seeds]

    def keep() -> None:
        for i, own in enumerate(rows):
            own.append(drives.kept(i)[0])

    cut = False
    for n in range(LOOKS - 1, most + LOOKS, LOOKS):
        if not goes_on():
            return None
        drives.run(min(n, most), made=keep)
        minds = [r.interpreter for r in drives.runners]
        cut = enough is not None and n < most and all(m.ended or enough(m.records, n) for m in minds)
        if drives.ended or cut:
            break
    end = float(drives.ticks[0])
    drives.cut_off()
    drives.run(end if cut else drives.ended_at.max() + rests, made=keep)
    for runner in drives.runners:
        runner.interpreter.close(int(drives.ticks[0]))
    table = np.stack([np.concatenate(own) for own in rows], axis=1)
    poses = table[:, :, drives.line.layout.these("truth", ("x", "y", "heading"))]
    return Watched(
        drives.line,
        table,
        np.concatenate((poses, drives.robot().pose[None])),
        tuple(r.interpreter.records for r in drives.runners),
    )


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
    """Return for each zone of a field the share of drives that ended in it."""
    x, y = found.poses[:, 0], found.poses[:, 1]
    return {z.name: float((np.hypot(x - z.x_m, y - z.y_m) <= z.radius_m).mean()) for z in field.zones}


def follows(found: Rehearsed) -> list[Follows]:
    """Return how much the end follows each thing that differs, the most first.

    Notes
    -----
    For each of them the largest correlation (Pearson's r) with the end's x, y and heading.
    """
    report = []
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
        report.append(Follows(name, best[1], best[0]))
    return sorted(report, key=lambda one: -abs(one.correlation))


def split(seeds: NDArray[np.uint64], workers: int) -> list[NDArray[np.uint64]]:
    """Split seeds into tasks: as large as a batch may be, and at least one for each worker. The results do not depend on the split."""
    size = max(1, min(AT_ONCE, -(-len(seeds) // max(1, workers))))
    return [seeds[k : k + size] for k in range(0, len(seeds), size)]
