"""Sticks drawn on the screen and dragged with the mouse."""

from __future__ import annotations

from collections.abc import Mapping
from math import isfinite

from pivrex.devices.source import BY_HAND
from pivrex.rig.channels import CHANNELS

__all__ = ["ScreenSticks"]


class ScreenSticks:
    """The source "sticks": what the screen says they are at. Let go, they spring back to rest."""

    name = kind = "sticks"
    can = BY_HAND
    title = "sticks on the screen"
    lost = ""

    def __init__(self) -> None:
        self._at: dict[str, float] = {}

    def channels(self) -> frozenset[str]:
        """Every channel: those that are not drawn rest."""
        return frozenset(CHANNELS)

    def move(self, readings: Mapping[str, float]) -> None:
        """Take where the sticks are dragged to; what is left out stays."""
        for channel, value in readings.items():
            if channel in CHANNELS and isfinite(value):
                self._at[channel] = max(-1.0, min(1.0, float(value)))

    def rest(self) -> None:
        """Let go of all of them."""
        self._at.clear()

    def read(self, now_s: float) -> Mapping[str, float]:
        """Return every channel."""
        return {**dict.fromkeys(CHANNELS, 0.0), **self._at}
