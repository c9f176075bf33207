"""Own moves that a button starts: the robot makes one by itself, also while a person drives, until a stick ends it."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from pivrex.line import Entry, Line, LineState
from pivrex.line.layout import Floats
from pivrex.rig.field import Field
from pivrex.routine.program import Program
from pivrex.routine.runner import Runner
from pivrex.session.board import Board

__all__ = ["OwnMoves"]

TOUCHED = 0.1
"""A stick that is pushed by so much more than when the move began cuts it off: so does one that was let go, and is pushed again."""

BUTTONS = ("forward", "left", "turn", "pivot")


class OwnMoves:
    """At most one at a time."""

    def __init__(self, board: Board) -> None:
        self._board = board
        self._moves: Mapping[str, Program | str] = {}
        """By what is bound, such as "do pour with seconds 2 s": what it does, or why it cannot be done."""
        self._runner: Runner | None = None
        self._title = ""
        self._line: Line | None = None
        self._pushed: Floats = np.zeros(0)
        """How far sticks and buttons were pushed when it began, or are since, whichever is less."""
        self._first, self._told = False, 0

    @property
    def goes_on(self) -> bool:
        """Whether one does."""
        return self._runner is not None

    def use(self, moves: Mapping[str, Program | str]) -> None:
        """Take what may be done, by what is bound."""
        self._moves = moves

    def press(self, text: str, line: Line, row: Floats, field: Field | None, busy: str) -> None:
        """Begin one, unless something is in its way: ``busy`` says what."""
        move = self._moves.get(text, "is not read yet")
        title = text.removeprefix("do ")
        if isinstance(move, str):
            self._board.note(f"{title}: {move}")
        elif busy or self._runner is not None:
            self._board.note(f"{title}: not while {busy or self._title + ' goes on'}")
        else:
            pose = row[line.layout.these("odometry", ("x", "y", "heading"))]
            self._runner, self._title, self._line, self._first = Runner(move, line, pose, field), title, line, True
            self._pushed, self._told = _pushed(line, row), 0
            self._board.set(experiment=title, shown=())
            self._board.note(f"{title} begins")

    def end(self, why: str = "") -> None:
        """End the one that goes on."""
        if self._runner is None:
            return
        self._runner = None
        self._board.set(experiment="")
        if why:
            self._board.note(f"{self._title}: {why}")

    def entry(self, line: Line, row: Floats | None, drives: bool) -> Entry | None:
        """Return what it asks for in this tick, from the Tick before; None without one."""
        runner = self._runner
        if runner is None or row is None:
            return None
        if not drives:
            self.end("ended, the robot was stopped")
        elif line is not self._line:
            self.end("ended, the rig was changed")
        elif self._touched(line, row):
            self.end("cut off by the driver")
        else:
            entry = runner.tick(None if self._first else row)
            self._first, interpreter = False, runner.interpreter
            self._board.hear(interpreter.messages[self._told :], line.dt_s)
            self._told = len(interpreter.messages)
            if not interpreter.ended:
                return entry
            self.end(
                interpreter.ended
                + (f", {interpreter.why}" if interpreter.why else f" after {runner.n * line.dt_s:.1f} s")
            )
        return None

    def _touched(self, line: Line, row: Floats) -> bool:
        now, before = _pushed(line, row), self._pushed
        self._pushed = np.where(
            np.sign(now) == np.sign(before), np.sign(now) * np.minimum(np.abs(now), np.abs(before)), 0.0
        )
        return bool((np.abs(now - self._pushed) > TOUCHED).any())

    def before(self, state: LineState) -> LineState:
        """Return the line's state for this tick; call it after `entry`."""
        return self._runner.before(state) if self._runner is not None else state


def _pushed(line: Line, row: Floats) -> Floats:
    """Return how far sticks and motion buttons are pushed."""
    layout = line.layout
    buttons = [row[layout.at("bindings", n)] for n in BUTTONS if layout.has("bindings", n)]
    return np.concatenate((row[layout.stage("scale")], buttons))
