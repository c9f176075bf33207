"""Records the sources, from one press of a key or a button to the next."""

from __future__ import annotations

from pathlib import Path

from pivrex.line.line import Line
from pivrex.lower import reason
from pivrex.session.board import Board
from pivrex.session.inputs import SessionInputs
from pivrex.session.recorder import Recorder

__all__ = ["Recordings"]


class Recordings:
    """At most one recording, and those that are still on their way to the disk."""

    def __init__(self, board: Board, inputs: SessionInputs, folder: Path | None) -> None:
        self._board, self._inputs, self._folder = board, inputs, folder
        self._recorder: Recorder | None = None
        self._ending: list[Recorder] = []

    def toggle(self, line: Line, now_s: float) -> None:
        """Begin to record, or end it."""
        if self._recorder is not None:
            self._end(now_s)
            return
        if self._folder is None:
            self._board.note("there is no workspace to record into")
            return
        source = self._inputs.driver
        if source.can.plays:
            self._board.note(f"{source.title} plays already; choose another source, or take over with w")
            return
        try:
            self._recorder = Recorder(self._folder, source, line, now_s)
        except OSError as problem:
            self._board.note(f"cannot record: {reason(problem)}")
            return
        self._board.set(recording=self._recorder.path.name)
        self._board.note(f"recording {source.name} into inputs/{self._recorder.path.name}")

    def add(self, now_s: float) -> None:
        """Take a tick's readings, and see what has reached the disk."""
        if self._recorder is not None:
            if self._inputs.driver.name != self._recorder.source:
                self._end(now_s)
            elif self._recorder.problem:
                self._board.note(f"recording ended: {self._recorder.problem}")
                self._recorder.end(now_s)
                self._recorder = None
                self._board.set(recording="")
            else:
                self._recorder.add(self._inputs.readings, self._inputs.sources, now_s)
        for recorder in [r for r in self._ending if r.done]:
            self._ending.remove(recorder)
            self._tell(recorder)

    def _end(self, now_s: float) -> None:
        assert self._recorder is not None
        self._recorder.end(now_s)
        self._ending.append(self._recorder)
        self._recorder = None
        self._board.set(recording="")

    def _tell(self, recorder: Recorder) -> None:
        if recorder.problem:
            self._board.note(f"the recording may lack its end: {recorder.problem}")
        self._inputs.add_recording(recorder.path)
        self._board.note(f"recorded inputs/{recorder.path.name}; it can be chosen as a source")

    def close(self, now_s: float) -> None:
        """End it, and wait for the disk."""
        if self._recorder is not None:
            self._end(now_s)
        for recorder in self._ending:
            recorder.wait()
