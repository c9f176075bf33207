"""The board: what the session shows the screen in addition to the Ticks. Every part of the session writes its own lines on it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from pivrex.routine.thread import RoutineMessage
from pivrex.session.status import Status, shown_of

__all__ = ["Board"]

NOTES_BEFORE = 15
"""How many notes may be made between two looks of the screen, and none is lost."""


class Board:
    """Holds the newest `Status`; a change makes a new one."""

    def __init__(self, status: Status) -> None:
        self.status = status

    def set(self, **changes: object) -> None:
        """Change some of its fields."""
        self.status = replace(self.status, **changes)  # type: ignore[arg-type]

    def hear(self, messages: Sequence[RoutineMessage], dt_s: float) -> None:
        """Take what a routine said and showed since the last tick."""
        for one in messages:
            if one.label:
                others = (s for s in self.status.shown if s.line != one.line)
                self.set(shown=(*others, shown_of(one, dt_s)))
            else:
                self.note(one.words)

    def note(self, text: str) -> None:
        """Say something once."""
        status = self.status
        before = (*status.notes_before, status.note)[-NOTES_BEFORE:] if status.notes else ()
        self.set(note=text, notes=status.notes + 1, notes_before=before)
