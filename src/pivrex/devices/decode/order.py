"""The order of numbered messages: which is new, which was there before, and how many were lost."""

from __future__ import annotations

from typing import NamedTuple

from pivrex.devices.seal import HIGHEST, Seal

__all__ = ["RANGE", "Order", "Place", "read_number"]

WINDOW = 32
"""A message that is at most so many behind the newest came out of order; one further behind is old."""

RANGE = 1 << 16
"""Numbers go from 0 to one less, then from 0 again."""

FASTEST_HZ = 5000.0
"""No radio sends more per second: a number that is further ahead than this allows is not real."""


class Place(NamedTuple):
    """Where a message stands: how many before it got lost (-1: one that was thought lost has come), and what is wrong."""

    missed: int
    fault: str = ""
    reason: str = ""


def read_number(word: str, seal: Seal | None) -> int:
    """Read a sequence number; raises `ValueError` if it is none. With a key it is one of 32 bits that does not go round."""
    highest = RANGE - 1 if seal is None else HIGHEST
    if not word.isdecimal() or len(word) > 10 or int(word) > highest:
        raise ValueError(f"the sequence number is {word[:12]!r}, but goes from 0 to {highest}")
    return int(word)


class Order:
    """Judges the numbers of one sender. With a `Seal`, old numbers stay refused, also for a new listener."""

    def __init__(self, seal: Seal | None = None) -> None:
        self._seal = seal
        self._newest = -1
        self._session = -1
        self._seen = 0
        """Bit i: whether the message i before the newest has come."""
        self._at_s = 0.0
        self._left_out = 0

    def left_out(self, count: int) -> None:
        """Take that so many messages were dropped unread."""
        self._left_out += count

    def judge(self, number: int, session: int, at_s: float) -> Place:
        """Return where a message stands that came at ``at_s``."""
        fault = self._judge_session(number, session) if self._seal is not None else None
        if fault is not None:
            return Place(0, *fault)
        ahead = number - self._newest if self._seal is not None else (number - self._newest) % RANGE
        if self._newest < 0:
            place, self._seen = Place(0), 1
        elif self._seal is None and (ahead == 0 or ahead >= RANGE // 2):
            return self._behind(number, (RANGE - ahead) % RANGE)
        elif self._seal is None and ahead > WINDOW + self._left_out + int((at_s - self._at_s) * FASTEST_HZ):
            return Place(0, "old", f"number {number} is {ahead} ahead of the newest, which cannot be")
        else:
            self._seen = (self._seen << ahead | 1) & ((1 << WINDOW) - 1) if ahead < WINDOW else 1
            place = Place(max(0, ahead - 1 - self._left_out))
        self._take(number, session, at_s)
        return place

    def _behind(self, number: int, behind: int) -> Place:
        """Return where a message stands that is not newer than the newest."""
        if behind == 0:
            return Place(0, "repeated", f"number {number} again")
        said = f"number {number} is {behind} behind the newest"
        if behind >= WINDOW:
            return Place(0, "old", said)
        if self._seen >> behind & 1:
            return Place(0, "repeated", said)
        self._seen |= 1 << behind
        return Place(-1, "out of order", said)

    def _judge_session(self, number: int, session: int) -> tuple[str, str] | None:
        assert self._seal is not None
        if self._session >= 0 and session != self._session:
            return "foreign", f"session {session}, while {self._session} is heard"
        if (session, number) <= self._seal.newest:
            return "repeated", f"session {session}, number {number} was there before"
        return None

    def _take(self, number: int, session: int, at_s: float) -> None:
        self._newest, self._session, self._at_s, self._left_out = number, session, at_s, 0
        if self._seal is not None:
            self._seal.newest = (session, number)
