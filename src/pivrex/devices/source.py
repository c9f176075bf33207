"""What every source of raw readings is to the session."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

__all__ = ["Source"]


class Source(Protocol):
    """A source of raw readings, in the channels of `pivrex.rig.channels`.

    ``name`` is unique among the sources that are there, and the same when the device comes back. ``kind`` is "keys",
    "sticks", "gamepad" or "recording"; ``title`` is for the screen; ``lost`` says why it cannot be read any more, and
    is empty while it can.
    """

    @property
    def name(self) -> str: ...

    @property
    def kind(self) -> str: ...

    @property
    def title(self) -> str: ...

    @property
    def lost(self) -> str: ...

    def channels(self) -> frozenset[str]:
        """Give the channels that it has."""
        ...

    def read(self, now_s: float) -> Mapping[str, float]:
        """Give the readings of this instant; ``now_s`` is a clock that only goes forward."""
        ...
