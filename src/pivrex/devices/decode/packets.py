"""Packets of a paired radio."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

from pivrex.devices.decode.message import number
from pivrex.devices.decode.sentences import SentenceReader
from pivrex.devices.seal import Seal
from pivrex.line.stage import PRESSED
from pivrex.rig.sources import PacketsSource

__all__ = ["BEYOND", "PacketsReader"]

BEYOND = 1.5
"""A packet's number beyond this many times full is absurd."""


class PacketsReader(SentenceReader):
    """Sentences ``$PIVDRV,SENDER,SEQ,AXES...,BUTTONS*hh`` of the paired sender; see docs/wire.md."""

    KIND = "PIVDRV"

    def __init__(self, spec: PacketsSource, seal: Seal | None = None) -> None:
        super().__init__(spec.sender, seal)
        self._spec = spec
        self._now: Mapping[str, float] = {}
        self._axes_at = [(c, 0.0 if c.endswith("_trigger") else -1.0) for c in spec.columns]

    def _parse(self, words: list[str]) -> dict[str, float]:
        if len(words) != len(self._axes_at) + 4:
            raise ValueError(f"{len(words) - 4} axes, but the rig says {len(self._axes_at)}")
        readings = self._axes(words[3:-1])
        if len(words[-1]) > 5 or not words[-1].isalnum():
            raise ValueError(f"the buttons are {words[-1][:12]!r}, but should be hexadecimal")
        readings.update(_buttons(int(words[-1], 16)))
        return readings

    def _say(self, said: dict[str, float], at_s: float) -> Mapping[str, float]:
        self._now = said
        return said

    def _says_stop(self, said: dict[str, float]) -> bool:
        return any(said.get(channel, 0.0) >= PRESSED for channel in self.stops)

    def _axes(self, words: list[str]) -> dict[str, float]:
        zero, full, found = self._spec.zero, self._spec.full, {}
        for (channel, low), word in zip(self._axes_at, words, strict=True):
            value = (number(word) - zero) / full
            if abs(value) > BEYOND:
                raise ValueError(f"{channel} is {word}, far beyond {full:g}")
            found[channel] = min(1.0, max(low, value))
        return found

    def current(self, now_s: float) -> Mapping[str, float]:
        return self._now

    def forget(self) -> None:
        super().forget()
        self._now = {}


@lru_cache(maxsize=1024)
def _buttons(bits: int) -> Mapping[str, float]:
    """Return the buttons of a packet by channel: bit n is button n."""
    return {f"button_{n}": float(bits >> n & 1) for n in range(17) if n not in (6, 7)}
