"""The responses of a loop in an experiment, for many gain sets and conditions at once, on the simulated robot."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.line import Line
from pivrex.line.balance import STANDS
from pivrex.line.beginning import begun
from pivrex.line.stage import Floats
from pivrex.rig import Rig
from pivrex.routine.fleet import Fleet
from pivrex.routine.means import Means
from pivrex.sim.body import Conditions, RealisticBody
from pivrex.sim.ideal import IdealBody
from pivrex.tuning.figures import Figures, figures_of
from pivrex.tuning.loop import Experiment, Gains, Loop

__all__ = ["Bench", "StepResponses", "step_responses_to"]

UNSTABLE_STEPS = 6.0
"""An answer that ends this many steps from its target is called unstable; so is one that swings on."""

SWINGS, BUSY = 0.06, 0.12
"""What swings by less than this share of the step at the end (or than what counts as settled), or changes the output by less than this share of
its maximum, is noise and friction.
"""

LOOKS = 8
"""After this many ticks the caller is asked whether to go on."""

END_M, OFF_LINE = 0.02, 0.1
"""A straight drive has settled within this of its end; farther from its line than this share of its way (and `END_M`) it is unstable."""


@dataclass(frozen=True)
class StepResponses:
    """G answers over N ticks, in SI.

    Attributes
    ----------
    t_s : (N,) float64
    value, target : (G, N) float64
        Of the loop, from where it began; of a heading the true one.
    parts : dict of (G, N) float64
        What each part gave, and ``output``, all of it.
    sideways_m, way_m : (G, N) float64
        How far the robot is from the line on which it began, and along it.
    turned : (G, N) float64
        How far it has turned, in rad.
    figures : Figures
    unstable : (G,) bool
    fell_s : (G,) float64
        When a robot that balances fell, NaN if it did not.
    done_s : (G,) float64
        When the move was over; NaN if it was not within the time.
    ticks : int
    """

    t_s: Floats
    value: Floats
    target: Floats
    parts: dict[str, Floats]
    sideways_m: Floats
    way_m: Floats
    turned: Floats
    figures: Figures
    unstable: NDArray[np.bool_]
    fell_s: Floats
    done_s: Floats
    ticks: int

    @classmethod
    def of(cls, each: Sequence[StepResponses]) -> StepResponses:
        """Put several together."""
        names = ("value", "target", "sideways_m", "way_m", "turned", "fell_s", "done_s")
        return cls(
            t_s=each[0].t_s,
            parts={n: np.concatenate([a.parts[n] for a in each]) for n in each[0].parts},
            figures=Figures(*(np.concatenate(f) for f in zip(*(a.figures for a in each), strict=True))),
            unstable=np.concatenate([a.unstable for a in each]),
            ticks=each[0].ticks,
            **{n: np.concatenate([getattr(a, n) for a in each]) for n in names},
        )


def step_responses_to(
    rig: Rig, loop: Loop, experiment: Experiment, sets: Sequence[Gains], under: Conditions | None = None, seed: int = 0
) -> StepResponses:
    """Return what a few gain sets answer, each on a simulated robot of the rig that has the same chance. A few are sooner done one
    after the other than as a batch.
    """
    bench = Bench(rig, loop, under)
    return StepResponses.of([bench.run(experiment, gains, np.array(seed, np.uint64)) for gains in sets])


class Bench:
    """A rig's line and simulated robot on an open floor, to try experiments with one of its loops.

    Parameters
    ----------
    rig : Rig
        One with ideal physics is tried with that.
    loop : Loop
    under : Conditions, optional
        Factors of a batch's shape, or floats.
    judged : Loop, optional
        By whose values the answers are judged; the loop's own if left out.

    Raises
    ------
    ValueError
        If the rig has no such loop.
    """

    def __init__(self, rig: Rig, loop: Loop, under: Conditions | None = None, judged: Loop | None = None) -> None:
        tried = loop.of(rig)
        if tried is None:
            raise ValueError(f"{rig.name} has no loop {loop.name}")
        self.rig, self.loop, self._tuned = tried, judged or loop, loop
        self.line = Line(tried)
        self.model = RealisticBody(tried, under=under) if rig.has_realistic_physics else IdealBody(tried)

    def run(
        self,
        experiment: Experiment,
        gains: Gains | None,
        seeds: NDArray[np.uint64],
        until: Callable[[], bool] | None = None,
    ) -> StepResponses:
        """Try an experiment with a batch of G robots.

        Parameters
        ----------
        experiment : Experiment
        gains : Gains or None
            Of shape (G,) each; the rig's own if left out.
        seeds : (G,) uint64, or one by itself
        until : callable, optional
            Asked now and then whether to give up; what has been seen by then counts.
        """
        line, model, loop, seeds = self.line, self.model, self.loop, np.atleast_1d(seeds)
        self._tuned.put(line, gains if gains is not None else self._tuned.gains(self.rig))
        start = model.start(seeds.shape, seeds)
        if loop.name == "steering":
            start = model.point_ahead(start)
        value, target, parts = loop.places(line)
        places = [value, target, *(line.layout.at("truth", n) for n in ("heading", "x", "y")), *parts.values()]
        if "balance" in line.stages:
            places.append(line.layout.at("balance", "state"))
        ticks = max(2, round(experiment.seconds / line.dt_s))
        fleet = Fleet(Means(line, ticks + 1, places), model, begun(line, np.zeros(3), seeds.shape), start, np.zeros(3))
        fleet.run(1)
        moments = {round(experiment.begins_s / line.dt_s): lambda: fleet.begin(loop.move(line, experiment))}
        if experiment.push_at_s >= 0:
            moments[round(experiment.push_at_s / line.dt_s)] = lambda: fleet.push(loop.impulse(self.rig, experiment))
        seen = 0
        for k in sorted({*moments, *range(0, ticks, LOOKS), ticks}):
            if until is not None and k < ticks and until():
                break
            fleet.run(1 + k)
            seen = k
            if k in moments:
                moments[k]()
        table = fleet.table
        done = np.where(np.isfinite(fleet.ended_at), fleet.ended_at, np.nan) * line.dt_s
        return self._told(experiment, table[:, 1 : 1 + max(seen, 2)], table[:, 0, :5], list(parts), done)

    def _told(
        self, experiment: Experiment, whole: Floats, begin: Floats, parts: list[str], done: Floats
    ) -> StepResponses:
        loop, line = self.loop, self.line
        t_s = np.arange(1.0, whole.shape[1] + 1.0) * line.dt_s
        start = begin[:, 0] if loop.from_start else np.zeros(len(begin))
        value, target = whole[..., 0] - start[:, None], whole[..., 1] - start[:, None]
        first = begin[:, 2]
        c, s = np.cos(first)[:, None], np.sin(first)[:, None]
        dx, dy = whole[..., 3] - begin[:, 3:4], whole[..., 4] - begin[:, 4:5]
        fell = np.zeros(len(begin), bool)
        if "balance" in line.stages:
            fell = (whole[..., -1] != STANDS).any(axis=1)
        output = {n: np.nan_to_num(whole[..., 5 + k]) for k, n in enumerate(parts)}
        end = np.full(len(first), experiment.amount if experiment.kind in ("step", "turn", "both") else 0.0)
        if loop.follows:
            end = np.nan_to_num(target[:, -1])
        from_, to = self._watched(experiment, len(t_s))
        pushed = experiment.kind == "push"
        starts = end if pushed else np.zeros(len(first))
        span = slice(from_, to)
        figures = figures_of(t_s[span], value[:, span], starts, end, output["output"][:, span], loop.least)
        if experiment.kind == "both":
            after = slice(round(experiment.push_at_s / line.dt_s), None)
            after_push = figures_of(t_s[after], value[:, after], end, end, output["output"][:, after], loop.least)
            figures = figures._replace(back_s=after_push.settle_s, turned=after_push.overshoot, final=after_push.final)
        sideways, way = c * dy - s * dx, c * dx + s * dy
        unstable = _swings(value, end, output["output"], loop.least)
        if experiment.kind == "straight":
            figures, unstable = self._straight(experiment, t_s, value, (sideways, way), output["output"], done)
        return StepResponses(
            t_s=t_s,
            value=value,
            target=target,
            parts=output,
            sideways_m=sideways,
            way_m=way,
            turned=whole[..., 2] - first[:, None],
            figures=figures,
            unstable=unstable | fell,
            fell_s=np.where(fell, t_s[np.argmax(whole[..., -1] != STANDS, axis=1)], np.nan),
            done_s=done,
            ticks=len(t_s),
        )

    def _straight(
        self,
        experiment: Experiment,
        t_s: Floats,
        off: Floats,
        place: tuple[Floats, Floats],
        output: Floats,
        done: Floats,
    ) -> tuple[Figures, NDArray[np.bool_]]:
        """Return the figures of straight drives, (G,) each, and which are unstable, over the time of the move.

        The target of their heading is 0, so noise must not be measured against itself: the rise is that of the way, settled are
        heading and way, and unstable is what swings on by more than counts as settled, or ends off its line.
        """
        ended = np.nanmax(done) if np.isfinite(done).any() else t_s[-1]
        span = slice(0, max(2, round(float(ended) / self.line.dt_s)))
        sideways, way = (v[:, span] for v in place)
        zero, amount = np.zeros(len(off)), np.full(len(off), experiment.amount)
        turned = figures_of(t_s[span], off[:, span], zero, zero, output[:, span], self.loop.least)
        went = figures_of(t_s[span], way, zero, amount, output[:, span], END_M)
        strays = np.abs(sideways[:, -1]) > END_M + OFF_LINE * abs(experiment.amount)
        swings = _swings(off[:, span], zero, output[:, span], self.loop.least)
        return turned._replace(rise_s=went.rise_s, settle_s=np.maximum(turned.settle_s, went.settle_s)), swings | strays

    def _watched(self, experiment: Experiment, ticks: int) -> tuple[int, int]:
        """Return the ticks from which and up to which an answer's figures count."""
        push = round(experiment.push_at_s / self.line.dt_s)
        if experiment.kind == "push":
            return push, ticks
        if experiment.kind == "both":
            return 0, max(2, min(push, ticks))
        return 0, ticks


def _swings(value: Floats, end: Floats, output: Floats, least: float) -> NDArray[np.bool_]:
    """Return which answers, (G,), swing on by more than ``least`` and do not die down, or end far away."""
    n = value.shape[1]
    late, middle = value[:, -max(2, n // 5) :], value[:, n // 2 : n // 2 + max(2, n // 5)]
    wide, before = (np.ptp(part, axis=1) for part in (late, middle))
    size = np.maximum(np.abs(end), np.abs(value - end[:, None]).max(axis=1))
    busy, most = output[:, -max(2, n // 5) :].std(axis=1), np.abs(output).max(axis=1)
    swings = (wide > np.maximum(SWINGS * size, least)) & (wide > 0.7 * before) & (busy > BUSY * most)
    far: NDArray[np.bool_] = np.abs(end[:, None] - late).max(axis=1) > UNSTABLE_STEPS * np.maximum(np.abs(end), 0.1)
    return swings | far
