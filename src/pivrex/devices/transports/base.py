"""Common parts of all transports: when to try again, what went wrong, and bytes in and out without waiting.

A transport is polled once a tick. Opening a serial line or connecting may take long, so it is done in the background.
"""

from __future__ import annotations

import time
from typing import NamedTuple

from pivrex.lower import reason

__all__ = ["BUDGET_S", "MAX_BYTES", "PIECE", "Chunk", "OpenTransport"]

FIRST_PAUSE_S, LONGEST_PAUSE_S = 0.25, 4.0
"""Between two tries to open; each pause is twice the one before."""


PIECE = 1 << 16
"""Bytes taken from the system at once."""

MAX_BYTES = 1 << 20
"""Bytes taken at one poll of a stream: what is left waits for the next."""

BUDGET_S = 0.002
"""Time for reading at one poll, where no one says otherwise."""


class Chunk(NamedTuple):
    """Bytes that came.

    Attributes
    ----------
    data : bytes
        Of a datagram all; of the other wires whatever has come.
    sender : str
        Who sent it; empty where there can be only one.
    at_s : float
        When it came, on the clock of `time.perf_counter`.
    """

    data: bytes
    sender: str
    at_s: float


class OpenTransport:
    """Common parts of all wires: when to try again, and what went wrong.

    Attributes
    ----------
    problem : str
        Why it is not open; empty while it is.
    opened : int
        Counts how often it was opened.
    """

    whole_messages = False
    """Whether each chunk is a message of its own."""

    def __init__(self, title: str) -> None:
        self.title = title
        self.problem = "not open yet"
        self.opened = 0
        self._pause_s, self._try_at = FIRST_PAUSE_S, 0.0

    @property
    def is_open(self) -> bool:
        """Whether bytes can come and go."""
        return not self.problem

    @property
    def connected(self) -> bool:
        """Whether someone is at the other end, as far as the wire can tell."""
        return self.is_open

    @property
    def senders(self) -> tuple[str, ...] | None:
        """Who is connected, the first first; None where there are no connections."""
        return None

    def drop(self, sender: str) -> None:
        """Close the connection of a sender."""

    def poll(self, now_s: float, budget_s: float = BUDGET_S) -> list[Chunk]:
        """Return what has come since the last poll, as much as can be taken in ``budget_s`` s; opens what is not open when
        its time has come.
        """
        if self.problem and now_s >= self._try_at:
            self._try_at = now_s + self._pause_s
            self._pause_s = min(2 * self._pause_s, LONGEST_PAUSE_S)
            try:
                self._open()
            except OSError as problem:
                self._fail(problem)
        if self.problem:
            return []
        try:
            return self._take(now_s, time.perf_counter() + budget_s)
        except (
            OSError,
            TypeError,
            ValueError,
        ) as problem:  # pyserial raises TypeError for a port that is closed under it
            self._shut()
            self._fail(problem)
            return []

    def send(self, data: bytes, first: bool = False) -> bool:
        """Send, at once or not at all; returns whether it left. ``first``: whatever is still on its way out gives way to it."""
        if self.problem:
            return False
        try:
            return self._put(data, first)
        except BlockingIOError:
            return False
        except OSError as problem:
            self._shut()
            self._fail(problem)
            return False

    def answer(self, data: bytes, sender: str) -> bool:
        """Send to one that has said something, as `send` does."""
        return self.send(data)

    def close(self) -> None:
        """Let it go for good."""
        self._shut()
        self.problem = "closed"
        self._try_at = float("inf")

    def _is_there(self) -> None:
        self.problem = ""
        self.opened += 1
        self._pause_s = FIRST_PAUSE_S

    def _fail(self, problem: Exception) -> None:
        self.problem = reason(problem)[:120]

    def _open(self) -> None:
        raise NotImplementedError

    def _take(self, now_s: float, until_s: float) -> list[Chunk]:
        raise NotImplementedError

    def _put(self, data: bytes, first: bool) -> bool:
        raise NotImplementedError

    def _shut(self) -> None:
        raise NotImplementedError
