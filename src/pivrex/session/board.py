"""The board: what the session tells the screen beside the Ticks. Every part of the session writes its own lines on it."""

from __future__ import annotations

from dataclasses import replace

from pivrex.session.status import Status

__all__ = ["Board"]


class Board:
    """Holds the newest `Status`; a change makes a new one."""

    def __init__(self, status: Status) -> None:
        self.status = status

    def set(self, **changes: object) -> None:
        """Change some of its fields."""
        self.status = replace(self.status, **changes)  # type: ignore[arg-type]

    def note(self, text: str) -> None:
        """Say something once."""
        self.set(note=text, notes=self.status.notes + 1)
