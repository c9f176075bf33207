"""What the match clock needs from the rest of the session: robots at their start, hands at rest, and who may start what."""

from __future__ import annotations

import numpy as np

from pivrex.devices.match_wire import MatchWire
from pivrex.line import Line
from pivrex.line.layout import Floats
from pivrex.rig.field import Field
from pivrex.rig.field import Match as Periods
from pivrex.routine.midway import Midway
from pivrex.routine.playing import start_pose
from pivrex.routine.program import Program
from pivrex.session.board import Board
from pivrex.session.inputs import SessionInputs
from pivrex.session.match import Match
from pivrex.session.periods import Period
from pivrex.session.robots import Robots

__all__ = ["Rounds"]


class Rounds:
    """The match of a session.

    Attributes
    ----------
    match : Match
    field : Field or None
        The floor in use: its walls count, and so does its start if a routine has none.
    """

    def __init__(
        self, board: Board, inputs: SessionInputs, robots: Robots, field: Field | None, periods: Periods, seed: int
    ) -> None:
        self._board, self._inputs, self._robots = board, inputs, robots
        self.field, self._seed = field, seed
        self.match = Match(board, periods)
        self._wire = MatchWire(periods.wire) if periods.wire is not None else None
        self._damaged = 0

    def ordered(self, now_s: float, budget_s: float) -> list[str]:
        """Return what was ordered from outside since the last tick; see `pivrex.devices.match_wire.ORDERS`."""
        wire = self._wire
        if wire is None:
            return []
        wire.use(self._inputs.seal("match"))
        orders = wire.poll(now_s, budget_s)
        if wire.damaged != self._damaged:
            self._damaged = wire.damaged
            self._board.note(f"no order for the match: {wire.complaint}")
        self.match.wired(wire.says)
        for order in orders:
            self._board.note(f"from the desk: {order}")
        return orders

    def close(self) -> None:
        """Let the wire go."""
        if self._wire is not None:
            self._wire.close()

    def choose(self, program: Program | None) -> Floats | None:
        """Take another routine. A match stands at its start then; see `ready`."""
        self.match.choose(program, self._start(program))
        return self.ready() if self.match.status.period is not Period.OFF else None

    def ready(self, midway: Midway | None = None) -> Floats | None:
        """Put the simulated robot at the routine's start, or at its pose before one of its lines; nothing moves. Returns the estimated pose,
        (3,), with which the line must begin again; None if nothing has changed.
        """
        match = self.match
        if midway is not None and (match.program is None or match.program.text != midway.text):
            self._board.note("the routine was changed meanwhile; ask again")
            return None
        match.end("made ready again")
        pose = midway.pose if midway is not None else self._start(match.program)
        self._robots.put_at(np.array(pose), self._seed, midway.attached if midway is not None else None)
        match.ready(midway, pose)
        return np.array(midway.memory.estimated if midway is not None else pose)

    def _start(self, program: Program | None) -> tuple[float, float, float]:
        x, y, heading = start_pose(program, self.field) if program is not None else np.zeros(3)
        return float(x), float(y), float(heading)

    def start(self, period: Period, line: Line, only: bool, t: float, seconds: float = 0.0) -> Floats | None:
        """Start a period, of its own length or of so many seconds; returns what `ready` gives."""
        match, status = self.match, self._board.status
        real = self._robots.link is not None
        if period is Period.ALONE and match.program is None:
            self._board.note("no routine is chosen")
        elif not status.moving.line_drives:
            self._board.note("not while the robot is stopped: g lets it move again")
        elif real and not status.live:
            self._board.note("this would move a real robot: go live first, with Ctrl+L")
        elif period is Period.ALONE:
            stands_at = self.ready(match.midway if status.match.period is Period.READY else None)
            self._begin(period, line, only, 0.0, seconds)
            return stands_at
        else:
            self._begin(period, line, only, t, seconds)
        return None

    def _begin(self, period: Period, line: Line, only: bool, t: float, seconds: float = 0.0) -> None:
        if self._inputs.driver.can.plays:  # who plays a recording makes room
            self._inputs.choose(self._inputs.keys.name)
        self.match.begin(period, line, self.field, only, t, seconds)

    def count(self, line: Line, t: float) -> None:
        """Let a tick of the clock pass; where a driver takes over, the sticks must be at rest first."""
        match = self.match
        if match.status.waits and not self._inputs.not_at_rest():
            match.take_over()
        after = match.count()
        if after is not None:
            self._begin(after, line, match.status.only, t)
