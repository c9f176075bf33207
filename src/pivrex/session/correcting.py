"""What the correction is to the session: holding a heading by key, moves that the line makes alone, a gyro that lies."""

from __future__ import annotations

import numpy as np

from pivrex.line import Entry, Line, LineState
from pivrex.line.correction import FAULTS, JUMPED, Correction
from pivrex.line.layout import Floats
from pivrex.line.moves import Move, MoveState
from pivrex.session.board import Board

__all__ = ["Correcting"]


class Correcting:
    """At most one move at a time."""

    def __init__(self, board: Board) -> None:
        self._board = board
        self._move: Move | None = None
        self._state: MoveState | None = None
        self._fault = 0

    def begin(self, line: Line, move: Move, title: str) -> None:
        """Begin a move; one that goes on ends."""
        if "correction" not in line.stages:
            self._board.note("this rig has no gyro with a correction; nothing can keep its heading")
            return
        self._move, self._state = move, None
        self._board.set(experiment=title)

    def end(self, why: str = "") -> None:
        """End the move that goes on."""
        if self._move is None:
            return
        title, self._move, self._state = self._board.status.experiment, None, None
        self._board.set(experiment="")
        if why:
            self._board.note(f"{title}: {why}")

    def entry(self, line: Line, row: Floats | None, drives: bool) -> Entry | None:
        """Give what the move asks for in this tick, from the Tick before; None without one. A stick that is touched ends it."""
        if self._move is None or row is None:
            return None
        if not drives or "correction" not in line.stages:
            self.end("ended, the robot was stopped")
            return None
        if np.any(row[line.layout.stage("rate")] != 0):
            self.end("ended, the driver took over")
            return None
        state = self._state if self._state is not None else self._move.begin()
        self._state, entry = self._move.step(line, state, row)
        if self._state.done:
            self.end(f"done after {float(self._state.t):.2f} s")
        return entry

    def hold(self, line: Line, state: LineState, on: bool) -> LineState:
        """Give the line's state in which headings are held, or no more."""
        stage = line.stages.get("correction")
        if not isinstance(stage, Correction):
            self._board.note("this rig has no gyro with a correction; nothing can hold its heading")
            return state
        return line.changed(state, "correction", stage.hold(line.of(state, "correction"), on))

    def watch(self, line: Line, row: Floats) -> str:
        """Tell the screen whether headings are held; gives why the robot must stop, for a gyro that lies."""
        if "correction" not in line.stages:
            return ""
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
