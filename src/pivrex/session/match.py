"""The match clock: the present period, what may move in it, and the routine that drives while no one else does."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pivrex.line import Entry, Line, LineState
from pivrex.line.layout import Floats
from pivrex.rig.field import Field
from pivrex.rig.field import Match as Periods
from pivrex.routine.midway import Midway
from pivrex.routine.playing import OUT_OF_TIME
from pivrex.routine.program import Program
from pivrex.routine.runner import Runner
from pivrex.session.board import Board
from pivrex.session.periods import COUNTED, MatchStatus, Period

__all__ = ["Match"]

Pose = tuple[float, float, float]
"""x and y in m, heading in rad."""

LET_GO = "let go of the sticks first"


class Match:
    """The clock, and the routine that drives while no one else does. `pivrex.session.moving` says what may move as well."""

    def __init__(self, board: Board, periods: Periods) -> None:
        self._board, self._periods = board, periods
        self._program: Program | None = None
        self._runner: Runner | None = None
        self._left = 0
        """Ticks that are left of the period."""
        self._dt_s = 1.0
        self._first = self._until_step = False
        self._steps = self._told = 0
        """How many steps had begun when one was asked for, and how many messages it has sent."""
        self.midway: Midway | None = None
        """Before which line it begins; None for the whole routine."""

    # --- status ---

    @property
    def status(self) -> MatchStatus:
        """The match for the screen."""
        return self._board.status.match

    @property
    def program(self) -> Program | None:
        """The routine that is chosen."""
        return self._program

    @property
    def rests(self) -> bool:
        """Whether nothing may move now, whoever drives."""
        status = self.status
        if status.period is Period.ALONE:
            return self._runner is None or bool(status.ended)
        return status.period in (Period.READY, Period.BETWEEN, Period.OVER) or bool(status.waits)

    @property
    def alone(self) -> bool:
        """Whether a routine drives."""
        return self.status.period is Period.ALONE and self._runner is not None and not self.status.ended

    def _say(self, **changes: object) -> None:
        self._board.set(match=replace(self.status, **changes))  # type: ignore[arg-type]

    def wired(self, says: str) -> None:
        """Take where orders may come from, or why none can."""
        if says != self.status.wire:
            self._say(wire=says)

    # --- choices ---

    def choose(self, program: Program | None, start: Pose) -> None:
        """Take another routine, with where the robot is put for it; one that drives is ended."""
        self.end("another routine was chosen")
        self._program = program
        self._say(routine=program.name if program is not None else "", from_line=0, start=start)

    def ready(self, midway: Midway | None, start: Pose) -> None:
        """Stand at the start, or before a line: nothing moves until someone starts a period."""
        self._runner, self.midway = None, midway
        self._say(
            period=Period.READY, left_s=self._periods.alone_s, ended="", why="", paused=False, waits="", only=False, start=start,
            from_line=midway.line if midway is not None else 0, from_s=0.0,
        )  # fmt: skip
        self._speak(Period.READY)

    def leave(self) -> None:
        """Count no longer: the robot may be driven, once the sticks are let go."""
        if self.status.period is Period.OFF:
            return
        self.end("left")
        self._runner = None
        self._say(period=Period.OFF, left_s=0.0, paused=False, waits=LET_GO, ended="", why="", says="")

    # --- periods ---

    def begin(
        self, period: Period, line: Line, field: Field | None, only: bool, t: float, seconds: float = 0.0
    ) -> None:
        """Begin a period on a floor. Of the first the robot stands where the routine starts, and the line knows nothing yet."""
        seconds = (
            seconds
            or {
                Period.ALONE: self._periods.alone_s,
                Period.BETWEEN: self._periods.between_s,
                Period.DRIVEN: self._periods.driven_s,
            }[period]
        )
        self._left = round(seconds / line.dt_s)
        self._runner, self._until_step = None, False
        self._board.set(shown=())
        if period is Period.ALONE and self._program is not None:
            self._runner, self._first = self._new_runner(self._program, line, field), True
            self._left = max(1, self._left - self._runner.n)
            seconds = self._left * line.dt_s
            self._told = len(self._runner.interpreter.messages)  # messages before its line were sent then
            self._say(from_s=self._runner.n * line.dt_s)
        waits = LET_GO if period is Period.DRIVEN else ""
        self._say(period=period, left_s=seconds, at_t=t, paused=False, only=only, ended="", why="", waits=waits)
        self._dt_s = line.dt_s
        self._speak(period)

    def _new_runner(self, program: Program, line: Line, field: Field | None) -> Runner:
        midway = self.midway
        if midway is None:
            return Runner(program, line, np.array(self.status.start), field)
        return Runner.resumed(program, line, midway.memory, simulated=self._board.status.linked == "off", field=field)

    def take_over(self) -> None:
        """The driver's sticks are at rest: from now on they count."""
        self._say(waits="")

    def end(self, why: str, how: str = "stopped") -> None:
        """End the routine that drives; the period goes on, and the robot stands."""
        if self.alone:
            self._say(ended=how, why=why)

    def pause(self, on: bool, t: float, dt_s: float) -> None:
        """Let clock and routine stand, or go on."""
        if self.status.period in COUNTED:
            self._until_step = False
            self._say(paused=on, left_s=self._left * dt_s, at_t=t)

    def one_step(self, t: float, dt_s: float) -> None:
        """Go on until another step begins, then pause."""
        if self.alone and self._runner is not None:
            self._steps, self._until_step = len(self._runner.interpreter.records), True
            self._say(paused=False, left_s=self._left * dt_s, at_t=t)

    def _speak(self, period: Period, left: int = 0) -> None:
        """Show the workspace's messages for a period: at its beginning, or a number of ticks before its end."""
        if not left:
            self._say(says="")
        for saying in self._periods.says:
            if saying.at == period and (round(saying.left_s / self._dt_s) if saying.left_s is not None else 0) == left:
                self._board.note(saying.text)
                self._say(says=saying.text, bells=self.status.bells + saying.bell)

    def walk(self, by: int) -> None:
        """Let the screen choose another routine, as far from this one: until a match begins."""
        if self.status.period in (Period.OFF, Period.READY):
            self._say(steps=self.status.steps + by)
        else:
            self._board.note("the routine can be changed until the match begins")

    # --- a tick ---

    def before(self, state: LineState) -> LineState:
        """Return the line's state for this tick; call it after `entry`."""
        return self._runner.before(state) if self.alone and self._runner is not None else state

    def entry(self, line: Line, row: Floats | None) -> Entry | None:
        """Return what the routine asks for in this tick; None where none drives."""
        runner = self._runner
        if not self.alone or runner is None:
            return None
        if self.status.paused:
            if row is not None and not self._first:
                runner.feel(row)  # it rolls out, and knows how far
            return Entry(twist=np.zeros(3), aim=np.array(np.nan))
        entry = runner.tick(None if self._first else row)
        self._first = False
        interpreter = runner.interpreter
        self._board.hear(interpreter.messages[self._told :], line.dt_s)
        self._told = len(interpreter.messages)
        if interpreter.ended:
            self._say(ended=interpreter.ended, why=interpreter.why)
            self._board.note(
                f"the routine has {interpreter.ended}" + (f": {interpreter.why}" if interpreter.why else "")
            )
            return None
        if self._until_step and len(interpreter.records) > self._steps:
            self._until_step = False
            t = float(row[line.layout.at("clock", "t")]) if row is not None else 0.0
            self._say(paused=True, left_s=self._left * line.dt_s, at_t=t)
        return entry

    def count(self) -> Period | None:
        """Let a tick of the clock pass; returns the period that begins now, None if none does."""
        status = self.status
        if status.period not in COUNTED or status.paused:
            return None
        self._left -= 1
        if self._left > 0:
            self._speak(status.period, self._left)
        if self._left > 0:
            return None
        if self.alone:
            self._say(ended=OUT_OF_TIME, why="the period is over")
            self._board.note("the period is over: the routine is cut off")
        after = {Period.ALONE: Period.BETWEEN, Period.BETWEEN: Period.DRIVEN, Period.DRIVEN: Period.OVER}[status.period]
        if after is Period.OVER or status.only:
            self._runner = None
            self._say(period=Period.OVER, left_s=0.0, waits="")
            self._speak(Period.OVER)
            return None
        return after
