"""Packets of a paired radio."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import lru_cache

from pivrex.devices.decode.lines import Lines
from pivrex.devices.decode.message import Message, number
from pivrex.devices.decode.order import Order, read_number
from pivrex.devices.decode.sentences import SentenceError, opened, words_from
from pivrex.devices.seal import Seal
from pivrex.rig.sources import PacketsSource

__all__ = ["BEYOND", "PacketsReader"]

BEYOND = 1.5
"""A packet's number beyond this many times full is absurd."""


class PacketsReader:
    """Sentences ``$PIVDRV,SENDER,SEQ,AXES...,BUTTONS*hh`` of the paired sender; see docs/wire.md."""

    def __init__(self, spec: PacketsSource, seal: Seal | None = None) -> None:
        self._spec, self._seal = spec, seal
        self._lines = Lines()
        self._now: dict[str, float] = {}
        self._order = Order(seal)
        self._axes_at = [(c, 0.0 if c.endswith("_trigger") else -1.0) for c in spec.columns]

    def feed(self, data: bytes, at_s: float) -> Iterator[Message]:
        for line, too_long in self._lines.feed(data):
            yield self._read(line, too_long, at_s)

    def _read(self, line: bytes, too_long: bool, at_s: float) -> Message:
        spec, seal = self._spec, self._seal
        try:
            body, session = opened(line, too_long, seal, "PIVDRV,")
            words = words_from(body, "PIVDRV", spec.sender)
            if len(words) != len(spec.columns) + 4:
                raise ValueError(f"{len(words) - 4} axes, but the rig says {len(spec.columns)}")
            seq = read_number(words[2], seal)
            readings = self._axes(words[3:-1])
            if len(words[-1]) > 5 or not words[-1].isalnum():
                raise ValueError(f"the buttons are {words[-1][:12]!r}, but should be hexadecimal")
            readings.update(_buttons(int(words[-1], 16)))
        except SentenceError as problem:
            return Message(line, None, problem.fault, str(problem))
        except ValueError as problem:
            return Message(line, None, "damaged", str(problem))
        missed, fault, reason = self._order.judge(seq, session, at_s)
        if fault:
            return Message(line, None, fault, reason, missed)
        self._now = readings
        return Message(line, readings, missed=missed)

    def _axes(self, words: list[str]) -> dict[str, float]:
        zero, full, found = self._spec.zero, self._spec.full, {}
        for (channel, low), word in zip(self._axes_at, words, strict=True):
            value = (number(word) - zero) / full
            if abs(value) > BEYOND:
                raise ValueError(f"{channel} is {word}, far beyond {full:g}")
            found[channel] = min(1.0, max(low, value))
        return found

    def count(self, data: bytes) -> int:
        return self._lines.count(data)

    def newest(self, data: bytes, most: int) -> bytes:
        return self._lines.newest(data, most)

    def left_out(self, count: int) -> None:
        self._order.left_out(count)

    def current(self, now_s: float) -> Mapping[str, float]:
        return self._now

    def forget(self) -> None:
        self._lines.forget()
        self._now, self._order = {}, Order(self._seal)


@lru_cache(maxsize=1024)
def _buttons(bits: int) -> Mapping[str, float]:
    """Give the buttons of a packet by channel: bit n is button n."""
    return {f"button_{n}": float(bits >> n & 1) for n in range(17) if n not in (6, 7)}
