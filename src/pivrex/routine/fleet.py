"""Simulated robots, each with its own clock: kernels make all their ticks, until an interpreter must run."""

from __future__ import annotations

import copy
from collections.abc import Callable
from typing import Any, Self

import numpy as np

from pivrex.kernels.engines import Call
from pivrex.line.line import LineState
from pivrex.line.stage import Floats
from pivrex.line.tick import LineMemory, Tick
from pivrex.routine.means import Means
from pivrex.routine.motion import Motion, begin, end
from pivrex.routine.ticking import BODY, IDEAL
from pivrex.sim.body.sensors import CHANCE
from pivrex.sim.ideal import IdealBody
from pivrex.sim.model import AnySimulator

__all__ = ["Fleet"]


class Fleet:
    """N robots that move as their states say; where a motion is over, one stands and keeps its heading.

    Parameters
    ----------
    means : Means
    model : IdealBody or RealisticBody
    begin : LineState
        Of all of them, (N,).
    robots : state of N simulated robots
    pose : (3,) or (N, 3) float64
        Where each begins by its estimate.
    rests : float
        Number of ticks of each after its end.

    Attributes
    ----------
    state : RoutineState
    ended_at : (N,) float64
        The tick at which what each does ended; infinite while it goes on.
    """

    def __init__(
        self, means: Means, model: AnySimulator, begin: LineState, robots: Any, pose: Floats, rests: float = np.inf
    ) -> None:
        count = len(begin.tick)
        self.means, self.line, self.model = means, means.line, model
        self.state = means.start(pose, (count,))
        self.state.set(tick=begin.tick)
        self._memories, self._robots = (begin.memory, begin.memory._replace()), (robots, robots._replace())
        self.rows: Floats = np.zeros((count, self.line.form.size))
        """The Tick that each has made last, (N, K)."""
        self._kept = np.zeros((count, int(means.settings.get("keeps")) * means.row_length))
        self.ended_at: Floats = np.full(count, np.inf)
        self._halts_at, self._rests = np.inf, rests

    def _call(self) -> Call:
        """Return what makes their ticks; each thread computes in a place of its own."""
        line, model = self.line, self.model
        scratch = model.scratch.scratch, line.scratch.scratch, self.means.scratch.scratch
        if isinstance(model, IdealBody):
            return IDEAL.after(model.robot, line.settings, self.means.settings, *scratch)
        return BODY.after(model.robot, CHANCE, line.settings, self.means.settings, *scratch)

    def copied(self) -> Self:
        """Return a copy that goes its own way."""
        made = copy.copy(self)
        made.state = self.state._replace()
        made._memories = tuple(m._replace() for m in self._memories)  # type: ignore[assignment]
        made._robots = tuple(r._replace() for r in self._robots)
        made.rows, made._kept, made.ended_at = self.rows.copy(), self._kept.copy(), self.ended_at.copy()
        return made

    # --- how they stand ---

    @property
    def ticks(self) -> Floats:
        """How many ticks each has made, (N,)."""
        return self.state.tick

    def robot(self, before: bool = False) -> Any:
        """Return the state of the simulated robots, (N,); that ``before`` the tick that was made last."""
        odd = (self.state.odd > 0) != before
        one, other = self._robots
        return type(one)(one.form, np.where(odd[:, None], other.data, one.data))

    @property
    def table(self) -> Floats:
        """The kept columns of the Ticks of all robots, (N, most, columns)."""
        return self._kept.reshape(len(self._kept), -1, self.means.row_length)

    def kept(self, i: int) -> tuple[Floats, Floats]:
        """Return the Ticks of one robot that are kept, (M, K), and its estimated pose before each, (M, 3)."""
        table, columns = self.table[i, : int(self.state.kept[i])], self.line.form.size
        return table[:, :columns].copy(), table[:, columns:].copy()

    # --- on ---

    def run(
        self, until: float, thought: Callable[[int], None] = lambda _: None, made: Callable[[], None] | None = None
    ) -> None:  # fmt: skip
        """Let each make its ticks before ``until``.

        Parameters
        ----------
        until : float
        thought : callable
            Called with the number of each robot whose interpreter ran.
        made : callable
            Called after ticks were made, to take what is kept; without it Ticks are kept while there is room.
        """
        state, call = self.state, self._call()
        while True:
            state.until[...] = np.minimum(until, np.minimum(self.ended_at + self._rests, self._halts_at))
            call(
                state.batch, self.means.plans.table, state, *self._memories, *self._robots, Tick(self.line.form, self.rows), self._kept
            )  # fmt: skip
            if made is not None:
                made()
                state.kept[...] = 0.0
            woken = np.flatnonzero(state.woken)
            if not len(woken) and (made is None or np.all(state.tick >= state.until)):
                return
            for i in woken.tolist():
                self.think(i)
                thought(i)

    def begin(self, motion: Motion) -> None:
        """Begin a motion of all of them, where each stands."""
        state, layout = self.state, self.line.layout
        x, y, heading = self.rows[:, layout.these("odometry", ("x", "y", "heading"))].T
        if layout.has("heading", "heading"):
            heading = self.rows[:, layout.at("heading", "heading")]
        begin(state.profile, motion, x, y, heading, self.line.dt_s)

    def think(self, i: int) -> None:
        """Think for a robot that must not go on without."""
        state = self.state.take(i)
        end(state.profile, state.measured.get("heading"), bool(state.get("gyro")), whole=True)
        self.state.data[i] = state.data
        self.state.woken[i] = 0.0
        self.ended_at[i] = min(self.ended_at[i], self.state.tick[i])

    def learn(self, i: int, learns: Callable[[LineMemory], LineMemory]) -> None:
        """Let the line of a robot remember something else."""
        memory = self._memories[int(self.state.odd[i])]
        own = type(memory)(memory.form, memory.data[i])
        after = learns(own)
        if after is not own:
            memory.data[i] = after.data

    def push(self, impulse: Floats) -> None:
        """Push all robots; see `pivrex.sim.body.RealisticBody.pushed`."""
        odd = self.state.odd > 0
        for robots, mine in zip(self._robots, (~odd, odd), strict=True):
            robots.data[mine] = self.model.pushed(robots, np.broadcast_to(impulse, (len(odd), 3))).data[mine]

    def halt(self) -> None:
        """Let all wait after the next tick."""
        self._halts_at = float(self.state.tick.min()) + 1.0

    def cut_off(self) -> None:
        """End all that have not ended."""
        late = ~np.isfinite(self.ended_at)
        self.ended_at[late], self.state.ended[late] = self.state.tick[late], 1.0
