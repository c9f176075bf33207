"""What the heading loop answers to an experiment, for many gain sets and conditions at once, on the stand-in."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.line import Line
from pivrex.line.stage import Floats
from pivrex.rig import Rig
from pivrex.sim.body import Conditions, RealBody
from pivrex.sim.rollout import Rollout
from pivrex.sim.stand_in import StandIn
from pivrex.tuning.experiment import PUSH_AT_S, Experiment, move_of
from pivrex.tuning.figures import Figures, figures_of
from pivrex.tuning.gains import Gains, gains_of, with_gains, with_table

__all__ = ["Answers", "Bench", "answers_to"]

LEAST_RAD = np.radians(0.5)
UNSTABLE_RAD = np.pi
"""An answer that ends this far from its target is called unstable; so is one that swings on."""

SWINGS_RAD, BUSY_RAD_S = np.radians(2.0), 0.35
"""What swings by less at the end, or is given by less, is noise and friction."""


@dataclass(frozen=True)
class Answers:
    """G answers over N ticks.

    Attributes
    ----------
    t_s : (N,) float64
    heading, target : (G, N) float64
        In rad from where it began; the heading is the true one.
    parts : dict of (G, N) float64
        What P, I and D, and the cascade's loop if there is one, gave, in rad/s, and ``given``, all of it.
    aside_m, way_m : (G, N) float64
        How far from the line on which it began, and along it.
    figures : Figures
        In rad and rad/s.
    unstable : (G,) bool
    done_s : (G,) float64
        When the move was over; NaN if it was not within the time.
    """

    t_s: Floats
    heading: Floats
    target: Floats
    parts: dict[str, Floats]
    aside_m: Floats
    way_m: Floats
    figures: Figures
    unstable: NDArray[np.bool_]
    done_s: Floats

    @classmethod
    def of(cls, each: Sequence[Answers]) -> Answers:
        """Put several together."""

        def stacked(name: str) -> Floats:
            return np.concatenate([getattr(a, name) for a in each])

        return cls(
            t_s=each[0].t_s,
            parts={n: np.concatenate([a.parts[n] for a in each]) for n in each[0].parts},
            figures=Figures(*(np.concatenate(f) for f in zip(*(a.figures for a in each), strict=True))),
            unstable=np.concatenate([a.unstable for a in each]),
            **{n: stacked(n) for n in ("heading", "target", "aside_m", "way_m", "done_s")},
        )


def answers_to(
    rig: Rig, experiment: Experiment, sets: Sequence[Gains], under: Conditions | None = None, seed: int = 0
) -> Answers:
    """Give what a few gain sets answer, each on a stand-in of the rig that has the same chance. A few are sooner done one
    after the other than as a batch.
    """
    bench = Bench(rig, under)
    return Answers.of([bench.run(experiment, gains, np.array(seed, np.uint64)) for gains in sets])


class Bench:
    """A rig's line and stand-in on an open floor, to try experiments with.

    Parameters
    ----------
    rig : Rig
        One with a perfect body is tried with that.
    under : Conditions, optional
        Factors of a batch's shape, or floats.
    """

    def __init__(self, rig: Rig, under: Conditions | None = None) -> None:
        self.rig = with_table(rig)
        self.line = Line(self.rig)
        self._model = RealBody(self.rig, under=under) if rig.has_real_body else StandIn(self.rig)

    def run(
        self,
        experiment: Experiment,
        gains: Gains | None,
        seeds: NDArray[np.uint64],
        until: Callable[[], bool] | None = None,
    ) -> Answers:
        """Try an experiment with a batch of G robots.

        Parameters
        ----------
        experiment : Experiment
        gains : Gains or None
            Of shape (G,) each; the rig's own if left out.
        seeds : (G,) uint64, or one by itself
        until : callable, optional
            Asked at every tick whether to give up; what has been seen by then counts.
        """
        line, model, batch = self.line, self._model, seeds.shape
        with_gains(line, gains if gains is not None else gains_of(self.rig))
        rollout = Rollout(line, model, line.start(batch), model.start(batch, seeds))
        raw, move = line.rest(batch), move_of(line, experiment)
        state, row = move.begin(batch), rollout.tick(raw)
        layout = line.layout
        parts = [n for n in ("p", "i", "d", "rate_p", "rate_i", "given") if layout.has("correction", n)]
        places = [layout.at("truth", n) for n in ("heading", "x", "y")]
        places += [layout.at("correction", "target"), *(layout.at("correction", n) for n in parts)]
        begin = row[..., places[:3]].copy()
        ticks = max(2, round(experiment.seconds / line.dt_s))
        seen = np.empty((ticks, *batch, len(places)))
        done = np.full(batch, np.nan)
        push_at = round(PUSH_AT_S / line.dt_s) if experiment.kind == "push" else -1
        impulse = experiment.impulse(self.rig)
        for k in range(ticks):
            if until is not None and until():
                seen = seen[: max(k, 2)]
                break
            if k == push_at:
                rollout.robot = model.pushed(rollout.robot, np.broadcast_to(impulse, (*batch, 3)))
            state, entry = move.step(line, state, row)
            row = rollout.tick(raw, entry=entry)
            seen[k] = row[..., places]
            done = np.where((state.done > 0) & np.isnan(done), (k + 1) * line.dt_s, done)
        if not batch:
            seen, begin, done = seen[:, None], begin[None], done[None]
        return _told(experiment, line, seen, begin, parts, done, push_at)


def _told(
    experiment: Experiment, line: Line, seen: Floats, begin: Floats, parts: list[str], done: Floats, push_at: int
) -> Answers:
    whole = np.moveaxis(seen, 0, 1)  # (G, N, columns)
    t_s = np.arange(1.0, whole.shape[1] + 1.0) * line.dt_s
    first = begin[:, 0]
    heading = whole[..., 0] - first[:, None]
    c, s = np.cos(first)[:, None], np.sin(first)[:, None]
    dx, dy = whole[..., 1] - begin[:, 1:2], whole[..., 2] - begin[:, 2:3]
    given = {n: np.nan_to_num(whole[..., 4 + k]) for k, n in enumerate(parts)}
    end = np.full(len(first), experiment.amount if experiment.kind in ("step", "turn") else 0.0)
    # a knock is watched from when it comes
    since = max(push_at, 0)
    figures = figures_of(
        t_s[since:], heading[:, since:], np.zeros(len(first)), end, given["given"][:, since:], float(LEAST_RAD)
    )
    unstable = _swings(heading, end, given["given"])
    return Answers(
        t_s=t_s,
        heading=heading,
        target=whole[..., 3] - first[:, None],
        parts=given,
        aside_m=c * dy - s * dx,
        way_m=c * dx + s * dy,
        figures=figures,
        unstable=unstable,
        done_s=done,
    )


def _swings(heading: Floats, end: Floats, given: Floats) -> NDArray[np.bool_]:
    """Tell, (G,), which answers swing on and do not die down, or end far away."""
    n = heading.shape[1]
    late, middle = heading[:, -max(2, n // 5) :], heading[:, n // 2 : n // 2 + max(2, n // 5)]
    wide, before = (np.ptp(part, axis=1) for part in (late, middle))
    busy = given[:, -max(2, n // 5) :].std(axis=1)
    swings = (wide > SWINGS_RAD) & (wide > 0.7 * before) & (busy > BUSY_RAD_S)
    far: NDArray[np.bool_] = np.abs(end[:, None] - late).max(axis=1) > UNSTABLE_RAD
    return swings | far
