"""Robots on stand-ins that drive a routine, each by its own clock: all their ticks are kernels, until the interpreter must go on."""

from __future__ import annotations

import copy
from collections.abc import Callable
from typing import Any

import numpy as np

from pivrex.kernels.engines import Call
from pivrex.line.line import Line, LineState
from pivrex.line.stage import Floats
from pivrex.line.tick import Tick
from pivrex.rig.field import Field
from pivrex.routine.means import Means
from pivrex.routine.program import Program
from pivrex.routine.runner import Runner
from pivrex.routine.ticking import BODY, STAND_IN, RoutineState
from pivrex.sim.body.sensors import CHANCE
from pivrex.sim.model import AnyStandIn
from pivrex.sim.stand_in import StandIn

__all__ = ["Drives"]


class Drives:
    """N robots that drive a routine.

    Parameters
    ----------
    program : Program
    line : Line
    model : StandIn or RealBody
    begin : LineState
        Of all of them, (N,).
    robots : state of N stand-ins
    pose : (3,) float64
        Where each believes to begin.
    field : Field or None
    keeps : int
        So many Ticks of each robot are kept in a call; 0 for none.
    rests : float
        So many ticks each makes after its end.

    Attributes
    ----------
    runners : list of Runner
    ended_at : (N,) float64
        The tick at which the routine of each ended; infinite while it goes on.
    """

    def __init__(
        self, program: Program, line: Line, model: AnyStandIn, begin: LineState, robots: Any, pose: Floats,
        field: Field | None, keeps: int = 0, rests: float = np.inf,
    ) -> None:  # fmt: skip
        count = len(begin.tick)
        self.line, self.model, self._means = line, model, Means(line, keeps)
        self._state = self._means.start(pose, (count,))
        self._state.tick[...] = begin.tick
        own = [RoutineState(self._state.form, row) for row in self._state.data]
        self.runners = [Runner(program, line, pose, field, self._means, state) for state in own]
        self._memories, self._robots = (begin.memory, begin.memory._replace()), (robots, robots._replace())
        self._rows = np.zeros((count, line.form.size))
        self._kept = np.zeros((count, keeps * self._means.row_length))
        self.ended_at: Floats = np.full(count, np.inf)
        self._halts_at, self._rests = np.inf, rests
        self._call = self._made_call()

    def _made_call(self) -> Call:
        line, model = self.line, self.model
        scratch = model.scratch.scratch, line.scratch.scratch, self._means.scratch.scratch
        if isinstance(model, StandIn):
            return STAND_IN.after(model.robot, line.settings, self._means.settings, *scratch)
        return BODY.after(model.robot, CHANCE, line.settings, self._means.settings, *scratch)

    def copied(self) -> Drives:
        """Return a copy that goes its own way."""
        made = copy.copy(self)
        made._state = self._state._replace()
        own = [RoutineState(made._state.form, row) for row in made._state.data]
        made.runners = [r.copied(state) for r, state in zip(self.runners, own, strict=True)]
        made._memories = tuple(m._replace() for m in self._memories)  # type: ignore[assignment]
        made._robots = tuple(r._replace() for r in self._robots)
        made._rows, made._kept, made.ended_at = self._rows.copy(), self._kept.copy(), self.ended_at.copy()
        return made

    # --- how they stand ---

    @property
    def ticks(self) -> Floats:
        """How many ticks each has made, (N,)."""
        return self._state.tick

    @property
    def ended(self) -> bool:
        """Whether all have ended."""
        return bool(np.isfinite(self.ended_at).all())

    def robot(self, before: bool = False) -> Any:
        """Return the state of the stand-ins, (N,); that ``before`` the tick that was made last."""
        odd = (self._state.odd > 0) != before
        one, other = self._robots
        return type(one)(one.form, np.where(odd[:, None], other.data, one.data))

    @property
    def rows(self) -> Floats:
        """The Tick that each has made last, (N, K)."""
        return self._rows

    def kept(self, i: int) -> tuple[Floats, Floats]:
        """Return the Ticks of one robot that the last call has kept, (M, K), and where it believed to be before each, (M, 3)."""
        many = self._state.kept[i]
        table = self._kept[i].reshape(-1, self._means.row_length)[: int(many)]
        columns = self.line.form.size
        return table[:, :columns].copy(), table[:, columns:].copy()

    # --- on ---

    def run(
        self, until: float | Floats, thought: Callable[[int], None] = lambda _: None, made: Callable[[], None] = lambda: None
    ) -> None:  # fmt: skip
        """Let each make its ticks before ``until``.

        Parameters
        ----------
        until : float or (N,) float64
        thought : callable
            Is told which robot's interpreter has gone on.
        made : callable
            Is called whenever ticks were made, to take what is kept.
        """
        state = self._state
        while True:
            state.until[...] = np.minimum(until, np.minimum(self.ended_at + self._rests, self._halts_at))
            self._call(
                state.batch, self._means.plans.table, state, *self._memories, *self._robots, Tick(self.line.form, self._rows), self._kept
            )  # fmt: skip
            made()
            woken = np.flatnonzero(state.woken)
            if not len(woken) and (not self._kept.size or np.all(state.tick >= state.until)):
                return
            for i in woken.tolist():
                self._think(i)
                thought(i)

    def _think(self, i: int) -> None:
        runner, memory = self.runners[i], self._memories[int(self._state.odd[i])]
        runner.think()
        own = type(memory)(memory.form, memory.data[i])
        after = runner.taught(own)
        if after is not own:
            memory.data[i] = after.data
        if runner.mind.ended:
            self._state.ended[i], self.ended_at[i] = 1.0, self._state.tick[i]

    def halt(self) -> None:
        """Let all wait after the next tick."""
        self._halts_at = float(self._state.tick.min()) + 1.0

    def cut_off(self) -> None:
        """End all that have not ended."""
        late = ~np.isfinite(self.ended_at)
        self.ended_at[late], self._state.ended[late] = self._state.tick[late], 1.0
        self._state.looked[late] = 0.0
