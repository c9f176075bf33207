"""How well a source is heard: rate, loss, jitter, age, and its newest message."""

from __future__ import annotations

from collections import Counter, deque
from dataclasses import dataclass, field

from pivrex.devices.decode.message import Message

__all__ = ["Health", "Said", "Tally"]

KEPT = 24
"""Messages that are kept for the screen."""

OVER_S = 2.0
"""The time over which rate and loss are taken."""

BINS_S = 0.25


@dataclass(frozen=True)
class Said:
    """A message for the screen: when (s on the session's clock), its text, what is wrong with it, and what came of it."""

    at_s: float
    text: str
    fault: str = ""
    reason: str = ""
    out: bool = False
    does: str = ""


@dataclass(frozen=True)
class Health:
    """The state of a source for the screen.

    Attributes
    ----------
    rate_hz : float
        Good messages a second, over the last two seconds.
    loss : float
        The share that got lost or came damaged, over the last two seconds.
    jitter_s : float
        How much the time between two messages varies, smoothed as in RFC 3550, section 6.4.1: it grows by a sixteenth of
        (D - J), D the size of the change.
    age_s : float
        Since the last good one; infinite before the first.
    good, missed : int
        Since the start.
    faults : dict
        How many of each fault since the start.
    """

    rate_hz: float = 0.0
    loss: float = 0.0
    jitter_s: float = 0.0
    age_s: float = float("inf")
    good: int = 0
    missed: int = 0
    faults: dict[str, int] = field(default_factory=dict)


class Tally:
    """Counts messages as they come. However many come, it keeps only the last few."""

    def __init__(self) -> None:
        self.good = self.missed = 0
        self.faults: Counter[str] = Counter()
        self._said: deque[tuple[float, Message]] = deque(maxlen=KEPT)
        self._bad: deque[tuple[float, Message]] = deque(maxlen=KEPT)
        self._bins: deque[list[float]] = deque(maxlen=int(OVER_S / BINS_S) + 1)
        self.last_s = float("-inf")
        self._gap = 0.0
        self._jitter = 0.0

    def add(self, message: Message, at_s: float) -> None:
        """Count a message that came at ``at_s``."""
        if not self._bins or at_s - self._bins[-1][0] >= BINS_S:
            self._bins.append([at_s, 0, 0])
        now = self._bins[-1]
        self.missed += message.missed
        now[2] += message.missed
        if message.fault:
            self.faults[message.fault] += 1
            now[2] += message.fault == "damaged"
            self._bad.append((at_s, message))
        else:
            self.good += 1
            now[1] += 1
            gap = at_s - self.last_s
            if gap < OVER_S:
                self._jitter += (abs(gap - self._gap) - self._jitter) / 16 if self._gap else 0.0
                self._gap = gap
            self.last_s = at_s
        self._said.append((at_s, message))

    def add_unread(self, fault: str, count: int, at_s: float, example: Message | None = None) -> None:
        """Count messages that no one has read, and keep one of them as an example."""
        self.faults[fault] += count
        if example is not None:
            self._bad.append((at_s, example))
            self._said.append((at_s, example))

    @property
    def said(self) -> list[Said]:
        """The newest message."""
        return [_said(*one) for one in self._said]

    @property
    def bad(self) -> list[Said]:
        """The newest message that moved nothing."""
        return [_said(*one) for one in self._bad]

    @property
    def newest_fault(self) -> str:
        """The fault of the newest message that moved nothing; empty if there was none."""
        return self._bad[-1][1].reason if self._bad else ""

    def health(self, now_s: float) -> Health:
        """Sum up."""
        recent = [b for b in self._bins if now_s - b[0] < OVER_S]
        good, lost = sum(b[1] for b in recent), sum(max(0, b[2]) for b in recent)
        window_s = min(OVER_S, max(BINS_S, now_s - recent[0][0])) if recent else OVER_S
        return Health(
            rate_hz=good / window_s,
            loss=lost / (good + lost) if good + lost else 0.0,
            jitter_s=self._jitter,
            age_s=now_s - self.last_s,
            good=self.good,
            missed=self.missed,
            faults=dict(self.faults),
        )


def _said(at_s: float, message: Message) -> Said:
    return Said(at_s, message.text, message.fault, message.reason, does=message.does)
