"""Watches the screen: two heartbeats, one of its process and one of the loop that handles its keys."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

__all__ = ["BY_HAND_S", "BY_OTHERS_S", "PAUSES_S", "PROCESS_S", "ScreenWatch", "Verdict"]

PROCESS_S = 0.25
"""A real robot stops when the screen's process has said nothing for so long."""

BY_HAND_S, BY_OTHERS_S = 0.25, 1.0
"""And when the screen has handled nothing: while keys or sticks on the screen drive, and while a gamepad, a radio or a routine does."""

PAUSES_S = 1.0
"""The simulated robot waits for a screen that has been silent for so long, and goes on with it."""


class Verdict(NamedTuple):
    """The decision: stop with a reason (empty for no stop); pause; and the length of a pause that has ended, in s."""

    stop: str = ""
    paused: bool = False
    waited_s: float = 0.0


@dataclass
class _Pulse:
    """A counter that goes up while something lives; one that never began is not missed."""

    count: int = 0
    at_s: float = 0.0

    def silent_s(self, count: int, now_s: float) -> float:
        """Return for how long it has not gone up, in s."""
        if count != self.count or not count:
            self.count, self.at_s = count, now_s
        return now_s - self.at_s


class ScreenWatch:
    """Looks at both heartbeats, once a tick."""

    def __init__(self) -> None:
        self._process, self._hands = _Pulse(), _Pulse()
        self._paused_at_s: float | None = None

    def look(self, now_s: float, process: int, hands: int, live: bool, by_hand: bool, only_simulated: bool) -> Verdict:
        """Return what the heartbeats mean.

        Parameters
        ----------
        now_s : float
        process, hands : int
            How often the screen's process has said that it lives, and its event loop that keys are handled.
        live : bool
            Whether a real robot may be driven.
        by_hand : bool
            Whether keys or sticks on the screen drive.
        only_simulated : bool
            Whether no robot is on a link, so that all may wait.
        """
        silent, unhandled = self._process.silent_s(process, now_s), self._hands.silent_s(hands, now_s)
        if live:
            longest = BY_HAND_S if by_hand else BY_OTHERS_S
            self._paused_at_s = None
            if silent > PROCESS_S:
                return Verdict(f"no sign of life from the screen for {PROCESS_S:g} s: this computer was too busy")
            if unhandled > longest:
                return Verdict(f"this computer was too busy for {longest:g} s: the screen took no keys")
            return Verdict()
        if only_simulated and max(silent, unhandled) > PAUSES_S:
            if self._paused_at_s is None:
                self._paused_at_s = now_s - max(silent, unhandled)
            return Verdict(paused=True)
        began, self._paused_at_s = self._paused_at_s, None
        return Verdict() if began is None else Verdict(waited_s=now_s - began)
