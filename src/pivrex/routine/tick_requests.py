"""One robot of a session, with its command for each tick: from a routine, or from a motion alone."""

from __future__ import annotations

import numpy as np

from pivrex.line.entry import Entry, entered
from pivrex.line.line import Line
from pivrex.line.stage import Floats
from pivrex.line.tick import Tick
from pivrex.routine.means import Means
from pivrex.routine.motion import Motion, begin, end
from pivrex.routine.ticking import ASK, FEEL, LOOK, RoutineState

__all__ = ["Asker", "Mover"]


class Asker:
    """The state of one robot, as the kernels of `pivrex.routine.ticking` compute it.

    Parameters
    ----------
    means : Means
    state : RoutineState
    """

    def __init__(self, means: Means, state: RoutineState) -> None:
        self._means, self._state, self._line = means, state, means.line

    def feel(self, row: Floats) -> None:
        """Take in the Tick before, (K,)."""
        FEEL(
            (),
            self._means.settings,
            self._line.settings,
            self._means.plans.table,
            self._state,
            Tick(self._line.form, row),
        )

    def look(self, row: Floats) -> bool:
        """Return whether something is over that was waited for."""
        scratch, tick = self._means.scratch.scratch, Tick(self._line.form, row)
        LOOK((), self._means.settings, self._line.settings, scratch, self._state, tick)
        return self._state.get("woken") > 0

    def ask(self) -> Entry:
        """Return the command in this tick; in the first one it stands."""
        requested, scratch = np.zeros(self._line.form.size), self._means.scratch.scratch
        tick = Tick(self._line.form, requested)
        ASK((), self._means.settings, self._line.settings, scratch, self._means.plans.table, self._state, tick)
        return entered(self._line.stages, requested)


class Mover:
    """A motion of one robot, without a routine.

    Attributes
    ----------
    done : bool
    time_s : float
        For how long it goes on.
    """

    def __init__(self, line: Line, motion: Motion) -> None:
        means = Means(line)
        self._motion, self._state, self._dt = motion, means.start(np.zeros(3)), line.dt_s
        self._asker = Asker(means, self._state)
        self.done, self.time_s = False, 0.0
        self._form = line.form

    def fits(self, line: Line) -> bool:
        """Return whether it can continue with a line whose Ticks have the same columns, as after a change of a gain."""
        return line.form is self._form

    def tick(self, row: Floats) -> Entry:
        """Return what it asks for in this tick, from the Tick before, (K,)."""
        state = self._state
        self._asker.feel(row)
        measured = state.measured
        if not self.time_s:
            begin(state.profile, self._motion, measured.get("x"), measured.get("y"), measured.get("heading"), self._dt)
            state.set(begun=1.0)
        elif state.get("came") and not self.done:
            self.done = True
            end(state.profile, measured.get("heading"), bool(state.get("gyro")), whole=True)
        self.time_s += self._dt
        return self._asker.ask()._replace(requests=None, routine=None, plan=None)
