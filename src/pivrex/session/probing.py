"""Probes: the shakedown's commands to single motors, carried out tick by tick, and their results."""

from __future__ import annotations

import numpy as np

from pivrex.diagnosis.moves import MotorMove, Runner
from pivrex.line.entry import Entry
from pivrex.line.layout import Floats
from pivrex.line.line import Line
from pivrex.session.board import Board
from pivrex.session.status import Probed

__all__ = ["HELD", "Probing"]

HELD = "only the shakedown moves it"


class Probing:
    """At most one probe."""

    def __init__(self, board: Board) -> None:
        self._board = board
        self._runner: Runner | None = None
        self._eyes = ""

    @property
    def goes_on(self) -> bool:
        """Whether a probe is being carried out."""
        return self._runner is not None

    def begin(self, number: int, moves: tuple[MotorMove, ...], line: Line) -> str:
        """Begin a probe; returns why it cannot be, empty if it does."""
        if any(move.port >= len(line.outputs.motors) for move in moves):
            return "the rig has changed; this probe means another motor now"
        self._runner, self._eyes = Runner(moves, line.dt_s), ""
        self._board.set(probing=number)
        return ""

    def entry(self, seen: Floats, eyes: str) -> Entry | None:
        """Return what the probe asks for in this tick; None once it is over.

        ``seen`` is what was sensed, with what is true behind it; ``eyes`` what a person next to the robot sees move.
        """
        runner = self._runner
        if runner is None:
            return None
        commands = runner.step(seen)
        if commands is None:
            probed = Probed(self._board.status.probing, tuple(runner.runs), self._eyes)
            self.stop()
            self._board.set(probed=probed)
            return None
        if not runner.runs:
            self._eyes = self._eyes or eyes  # what begins to move drives; what follows may be dragged along
        return Entry(probe=np.array([commands[0] + 1.0, commands[1]]))

    def end_move(self) -> None:
        """End the move that is being carried out: a person saw it."""
        if self._runner is not None:
            self._runner.end_move()

    def stop(self) -> None:
        """Return the probe up."""
        if self._runner is not None:
            self._runner = None
            self._board.set(probing=0)
