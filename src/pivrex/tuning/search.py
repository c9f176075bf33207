"""A search for gains with a goal, on many simulated robots under several conditions: gains that are good in one run only do not win."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from pivrex.line.stage import Floats
from pivrex.rig import Rig
from pivrex.sim.body import Conditions
from pivrex.tuning.balance_loops import WHOLE, BalanceLoop
from pivrex.tuning.balancing import biggest_push
from pivrex.tuning.loop import Gains, Loop
from pivrex.tuning.step_responses import Bench, StepResponses

__all__ = ["CONDITIONS", "GOALS", "Found", "search"]

CONDITIONS = {
    #  charge  grip  mass  noise: each high and low four times, every two of them together twice (a half fraction, 2^(4-1))
    "charge": np.array([0.9, 0.9, 0.9, 0.9, 0.15, 0.15, 0.15, 0.15]),
    "grip": np.array([1.1, 1.1, 0.7, 0.7, 1.1, 1.1, 0.7, 0.7]),
    "mass": np.array([0.9, 1.3, 0.9, 1.3, 0.9, 1.3, 0.9, 1.3]),
    "noise": np.array([0.5, 3.0, 3.0, 0.5, 3.0, 0.5, 0.5, 3.0]),
    #  what the motors of the left side are worth
    "side": np.array([1.0, 0.93, 1.0, 0.93, 0.93, 1.0, 0.93, 1.0]),
}
"""Under these every candidate is tried."""

GOALS = {
    "quick": "settles as fast as possible, with a little overshoot",
    "calm": "little effort and overshoot, even if it takes longer",
    "robust": "no overshoot under any condition, and back soon after a push",
}
FINALISTS = 6
"""How many of the best are pushed harder and harder where being sure is the goal."""

AT_ONCE = 125
"""Candidates that are tried together, each under all conditions."""

NEVER_S = 3.0
"""What an answer that does not settle counts as."""


@dataclass(frozen=True)
class Found:
    """The result of a search. Each figure is over all conditions: its mean and its worst.

    Attributes
    ----------
    gains : Gains
    score : float
    tried : int
    rise_s, settle_s, beyond, back_s, turned, final, effort : (float, float)
        In SI.
    push_Ns : (float, float) or None
        The biggest push that a robot that balances survives: the mean over the conditions, and the least.
    """

    gains: Gains
    score: float
    tried: int
    rise_s: tuple[float, float]
    settle_s: tuple[float, float]
    beyond: tuple[float, float]
    back_s: tuple[float, float]
    turned: tuple[float, float]
    final: tuple[float, float]
    effort: tuple[float, float]
    push_Ns: tuple[float, float] | None = None  # noqa: N815 - newton seconds


def search(
    rig: Rig,
    loop: Loop,
    goal: str,
    candidates: int = 500,
    seed: int = 0,
    progress: Callable[[int, int], bool] | None = None,
) -> Found | None:
    """Search for gains.

    Parameters
    ----------
    rig : Rig
    loop : Loop
    goal : str
        One of `GOALS`.
    candidates : int
        How many are tried: half of them anywhere in the loop's ranges, half near the best of those.
    seed : int
        Of chance; the same one gives the same gains.
    progress : callable, optional
        Told how many of how many have been tried; it tells whether to stop.

    Returns
    -------
    Found or None
        None if it was stopped before anything was found.

    Notes
    -----
    A candidate is worth the mean of its score over the conditions and its worst, half and half. The score is in seconds:
    of settling and of being back after a push, more for overshoot, what is left over and effort, as the goal weighs them.
    The rig's own gains are among the candidates, so what is found is never worse.
    """
    chance = np.random.default_rng(seed)
    own = loop.gains(loop.of(rig) or rig)
    low, high = (np.array([r[k] for r in loop.ranges]) for k in (0, 1))
    first = low + (high - low) * chance.random((candidates // 2, 3)) ** np.array([1.0, 2.0, 2.0])
    first[0] = [float(v) for v in own]
    tried: list[Floats] = []
    scores: list[Floats] = []
    figures: list[Floats] = []
    done = 0
    for stage in range(2):
        rows = first
        if stage:
            rows = _near(chance, np.concatenate(tried), np.concatenate(scores), candidates - len(first), low, high)
        for start in range(0, len(rows), AT_ONCE):
            part = rows[start : start + AT_ONCE]
            if progress is not None and progress(done, candidates):
                return _best(tried, scores, figures, done) if tried else None
            worth, figure = _worth(rig, loop, goal, part)
            tried.append(part)
            scores.append(worth)
            figures.append(figure)
            done += len(part)
    if progress is not None:
        progress(done, candidates)
    if isinstance(loop, BalanceLoop):
        return _surest(rig, loop, goal, tried, scores, figures, done)
    return _best(tried, scores, figures, done)


def _surest(
    rig: Rig, loop: BalanceLoop, goal: str, tried: list[Floats], scores: list[Floats], figures: list[Floats], done: int
) -> Found:
    """Return the best of a robot that balances: for the goal sure that of the best which survives the biggest push at its worst."""
    worth = np.concatenate(scores)
    best = np.argsort(worth, kind="stable")[: FINALISTS if goal == "robust" else 1]
    pushes = []
    for k in best:
        gains = Gains(*(float(v) for v in np.concatenate(tried)[k]))
        pushes.append(biggest_push(loop.with_gains(rig, gains), _under(rig, 1), len(CONDITIONS["charge"])))
    first = int(np.argmax([p.min() for p in pushes]))
    found = _found(np.concatenate(tried), worth, np.concatenate(figures), int(best[first]), done)
    return replace(found, push_Ns=(float(pushes[first].mean()), float(pushes[first].min())))


def _near(chance: np.random.Generator, tried: Floats, scores: Floats, many: int, low: Floats, high: Floats) -> Floats:
    """Return candidates near the best eight, nearer the better they are."""
    best = tried[np.argsort(scores)[:8]]
    around = best[chance.integers(0, len(best), many)]
    spread = (high - low) * chance.choice([0.02, 0.06, 0.15], (many, 1))
    return np.minimum(np.maximum(around + spread * chance.standard_normal((many, 3)), low * 0.2), high * 1.5)


def _worth(rig: Rig, loop: Loop, goal: str, rows: Floats) -> tuple[Floats, Floats]:
    """Return the score of each candidate, (N,), and its figures, (N, 7, 2): mean and worst over the conditions."""
    many, kinds = len(rows), len(CONDITIONS["charge"])
    gains = Gains(*(np.repeat(column, kinds) for column in rows.T))
    judged = WHOLE if isinstance(loop, BalanceLoop) else loop
    bench = Bench(rig, loop, _under(rig, many), judged)
    seeds: NDArray[np.uint64] = np.tile(np.arange(kinds, dtype=np.uint64), many)
    responses = bench.run(loop.experiment(bench.rig, "both"), gains, seeds)
    each = _scored(responses, goal).reshape(many, kinds)
    figure = _figures(responses).reshape(7, many, kinds)
    with np.errstate(invalid="ignore"):
        both = np.stack([figure.mean(axis=2), np.abs(figure).max(axis=2)], axis=-1)
    return (each.mean(axis=1) + each.max(axis=1)) / 2, np.moveaxis(both, 0, 1)


def _under(rig: Rig, many: int) -> Conditions:
    """Return all conditions, one after the other, so many times."""
    charge, grip, mass, noise, side = (
        np.tile(CONDITIONS[n], many) for n in ("charge", "grip", "mass", "noise", "side")
    )
    left = {w.name for w in rig.chassis.wheels if w.y_m > 1e-6}
    strength = {name: side for name, motor in rig.motors.items() if left & set(motor.wheels)}
    return Conditions(mass=mass, grip=grip, noise=noise, charge=charge, strength=strength)


def _figures(a: StepResponses) -> Floats:
    f = a.figures
    rows = [f.rise_s, f.settle_s, f.overshoot, f.back_s, f.turned, np.abs(f.final), f.effort]
    return np.array([np.nan_to_num(r, nan=NEVER_S) for r in rows])


def _scored(a: StepResponses, goal: str) -> Floats:
    """Return the score of each answer in s; less is better."""
    f = a.figures
    step = np.maximum(np.abs(a.target[:, -1]), 1e-9)
    settle, back = (np.nan_to_num(v, nan=NEVER_S) for v in (f.settle_s, f.back_s))
    beyond, left = f.overshoot / step, np.abs(f.final) / step
    turned = np.nan_to_num(f.turned, nan=0.0) / step
    most = np.maximum(np.abs(a.parts["output"]).max(), 1e-9)
    restless = np.diff(a.parts["output"], axis=1).std(axis=1) / most
    weights = {  # settling, back, overshoot, left over, turned away, restlessness
        "quick": (1.0, 0.6, 1.0, 4.0, 0.5, 1.0),
        "calm": (0.5, 0.4, 3.0, 3.0, 0.3, 8.0),
        "robust": (0.6, 0.8, 10.0, 5.0, 0.8, 2.0),
    }[goal]
    parts = (settle, back, beyond, left, turned, restless)
    found: Floats = np.sum([w * v for w, v in zip(weights, parts, strict=True)], axis=0) + 10.0 * a.unstable
    return found


def _best(tried: list[Floats], scores: list[Floats], figures: list[Floats], done: int) -> Found:
    rows, worth, figure = np.concatenate(tried), np.concatenate(scores), np.concatenate(figures)
    return _found(rows, worth, figure, int(np.argmin(worth)), done)


def _found(rows: Floats, worth: Floats, figure: Floats, k: int, done: int) -> Found:
    pairs = [(float(figure[k, n, 0]), float(figure[k, n, 1])) for n in range(7)]
    return Found(Gains(*(float(v) for v in rows[k])), float(worth[k]), done, *pairs)
