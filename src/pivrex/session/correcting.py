"""Correction in the session: holding a heading by key, automatic moves, and a wrong gyro."""

from __future__ import annotations

import numpy as np

from pivrex.line import Entry, Line, LineState
from pivrex.line.correction import FAULTS, JUMPED, Correction
from pivrex.line.layout import Floats
from pivrex.line.zeroing import DONE, MEASURES, MOVED, WAITS, Zeroing
from pivrex.routine.motion import Motion
from pivrex.routine.tick_requests import Mover
from pivrex.session.board import Board

__all__ = ["Correcting"]


class Correcting:
    """At most one move at a time."""

    def __init__(self, board: Board) -> None:
        self._board = board
        self._mover: Mover | None = None
        self._fault = self._zeroing = 0
        self._commanded: tuple[str, bool] | None = None
        """Whether the person wants headings held, and what the rig said of it then."""

    def begin(self, line: Line, motion: Motion, title: str) -> None:
        """Begin a move; one that goes on ends."""
        if "correction" not in line.stages:
            self._board.note("this rig has no gyro with a correction; nothing can keep its heading")
            return
        self._mover = Mover(line, motion)
        self._board.set(experiment=title)

    def end(self, why: str = "") -> None:
        """End the move that goes on."""
        if self._mover is None:
            return
        title, self._mover = self._board.status.experiment, None
        self._board.set(experiment="")
        if why:
            self._board.note(f"{title}: {why}")

    def entry(self, line: Line, row: Floats | None, drives: bool) -> Entry | None:
        """Return what the move asks for in this tick, from the Tick before; None without one. A stick that is touched ends it."""
        mover = self._mover
        if mover is None or row is None:
            return None
        if not drives or "correction" not in line.stages:
            self.end("ended, the robot was stopped")
            return None
        if np.any(row[line.layout.stage("rate")] != 0):
            self.end("ended, the driver took over")
            return None
        if not mover.fits(line):
            self.end("ended, the rig was changed")
            return None
        entry = mover.tick(row)
        if mover.done:
            self.end(f"done after {mover.time_s:.2f} s")
        return entry

    def hold(self, line: Line, state: LineState, on: bool) -> LineState:
        """Return the line's state in which headings are held, or no longer."""
        stage = line.stages.get("correction")
        if not isinstance(stage, Correction):
            self._board.note("this rig has no gyro with a correction; nothing can hold its heading")
            return state
        assert line.rig.correction is not None
        self._commanded = line.rig.correction.hold, on
        return line.changed(state, "correction", stage.hold(line.of(state, "correction"), on))

    def held_again(self, line: Line, state: LineState) -> LineState:
        """Return the state of a line that begins again: the person's requests stay, unless the rig now says otherwise."""
        table, commanded = line.rig.correction, self._commanded
        return (
            state
            if table is None or commanded is None or commanded[0] != table.hold
            else self.hold(line, state, commanded[1])
        )

    def zero(self, line: Line, state: LineState) -> LineState:
        """Return the line's state in which the gyro's bias is measured as soon as the robot stands."""
        stage = line.stages.get("zeroing")
        if not isinstance(stage, Zeroing):
            self._board.note("this rig has no gyro with a correction; there is nothing to zero")
            return state
        self._board.note("the gyro is zeroed: the robot must stand still")
        return line.changed(state, "zeroing", stage.ask(line.of(state, "zeroing")))

    def _tell_zeroing(self, line: Line, row: Floats) -> None:
        status = int(row[line.layout.at("zeroing", "status")])
        if status == self._zeroing:
            return
        before, self._zeroing = self._zeroing, status
        bias, noise = (float(np.degrees(row[line.layout.at("zeroing", n)])) for n in ("bias", "noise"))
        if status == DONE:
            self._board.note(f"the gyro is zeroed: {bias:+.3f} deg/s are subtracted, its noise is {noise:.3f} deg/s")
        elif status == MOVED:
            self._board.note("the robot moved while the gyro was zeroed; it begins again once it stands still")
        elif status == WAITS and before != MEASURES:
            self._board.note("the gyro is zeroed as soon as it says something and the robot stands")

    def watch(self, line: Line, row: Floats) -> str:
        """Tell the screen whether headings are held; returns why the robot must stop, for a gyro that is wrong."""
        if "correction" not in line.stages:
            return ""
        if "zeroing" in line.stages:
            self._tell_zeroing(line, row)
        on = bool(row[line.layout.at("correction", "on")])
        if on != self._board.status.holding:
            self._board.set(holding=on)
        fault = int(row[line.layout.at("correction", "fault")])
        news, self._fault = fault != self._fault, fault
        if not fault or not news:
            return ""
        if fault == JUMPED:
            self._board.note(FAULTS[fault])
            return ""
        return FAULTS[fault]
