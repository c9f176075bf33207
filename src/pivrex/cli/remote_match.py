"""Simulates the desk that starts a match."""

from __future__ import annotations

import time
from functools import partial

from pivrex.cli.remote_end import FarEnd
from pivrex.devices.match_wire import ORDERS, order_of
from pivrex.devices.seal import sealed

__all__ = ["HOW", "Desk"]

HOW = f"""\
What to type:
  {", ".join(ORDERS[:4])}   make ready; start the whole match; only one period
  leave, stop                   end the match; everything at rest
  wait 0.5                      wait so many seconds
  again                         send the last order once more: it does nothing
  unplug                        end (as the end of input does)"""

TIMES = 3
"""Each order is sent so often: a datagram may get lost, and a second one does nothing."""


class Desk:
    """Return orders into a wire. ``key`` is that of the rig, empty for none."""

    def __init__(self, end: FarEnd, key: bytes) -> None:
        self._end = end
        # a later start continues with higher numbers
        self._sign = partial(sealed, key, session=int(time.time())) if key else None
        self._number = int(time.time())
        self._last = b""

    def move(self, **readings: float) -> None:
        """A desk has no sticks."""

    def tick(self) -> None:
        """It says something only when someone orders."""

    def obey(self, words: list[str]) -> bool:
        """Do what was typed; returns whether it was understood."""
        match words:
            case [order] if order in ORDERS:
                self._number += 1
                self._last = order_of(order, self._number, self._sign)
                for _ in range(TIMES):
                    self._end.send(self._last)
            case ["again"]:
                self._end.send(self._last)
            case _:
                return False
        return True

    def unplug(self) -> None:
        """Close the connection."""
        self._end.close()
