"""Packets of a paired radio."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from pivrex.devices.decode.lines import LONGEST_LINE, Lines
from pivrex.devices.decode.message import Message, number, shown
from pivrex.devices.sentence import unframe
from pivrex.rig.sources import PacketsSource

__all__ = ["BEYOND", "PacketsReader"]

BEYOND = 1.5
"""A packet's number beyond this many times full is absurd."""


WINDOW = 32
"""A packet that is at most so many behind the newest came out of order; one further behind is old."""


class PacketsReader:
    """Sentences ``$PIVDRV,SENDER,SEQ,AXES...,BUTTONS*hh`` of the paired sender; see docs/wire.md."""

    def __init__(self, spec: PacketsSource) -> None:
        self._spec = spec
        self._lines = Lines()
        self._now: dict[str, float] = {}
        self._newest = -1
        self._seen = 0
        """Bit i: whether the packet i before the newest has come."""

    def feed(self, data: bytes, at_s: float) -> Iterator[Message]:
        for line, too_long in self._lines.feed(data):
            yield self._read(line, too_long)

    def _read(self, line: bytes, too_long: bool) -> Message:
        text = shown(line)
        try:
            if too_long:
                raise ValueError(f"longer than {LONGEST_LINE} bytes")
            words = unframe(line).split(",")
            if words[0] != "PIVDRV":
                return Message(text, None, "unknown", f"a sentence {words[0][:12]}, but PIVDRV is awaited")
            if len(words) != len(self._spec.columns) + 4:
                raise ValueError(f"{len(words) - 4} axes, but the rig says {len(self._spec.columns)}")
            if words[1] != self._spec.sender:
                return Message(text, None, "foreign", f"from {words[1][:24]!r}, but paired is {self._spec.sender!r}")
            if not words[2].isdecimal() or int(words[2]) > 65535:
                raise ValueError(f"the sequence number is {words[2][:12]!r}, but goes from 0 to 65535")
            readings = self._axes(words[3:-1])
            if len(words[-1]) > 5 or not words[-1].isalnum():
                raise ValueError(f"the buttons are {words[-1][:12]!r}, but should be hexadecimal")
            bits = int(words[-1], 16)
        except ValueError as problem:
            return Message(text, None, "damaged", str(problem))
        missed, fault = self._order(int(words[2]))
        if fault:
            behind = (self._newest - int(words[2])) % 65536
            said = "again" if fault == "repeated" else f"{behind} behind the newest"
            return Message(text, None, fault, f"number {words[2]} {said}", missed)
        readings.update((f"button_{n}", float(bits >> n & 1)) for n in range(17) if n not in (6, 7))
        self._now = readings
        return Message(text, readings, missed=missed)

    def _axes(self, words: list[str]) -> dict[str, float]:
        spec, found = self._spec, {}
        for channel, word in zip(spec.columns, words, strict=True):
            value = (number(word) - spec.zero) / spec.full
            if abs(value) > BEYOND:
                raise ValueError(f"{channel} is {word}, far beyond {spec.full:g}")
            found[channel] = min(1.0, max(0.0 if channel.endswith("_trigger") else -1.0, value))
        return found

    def _order(self, number: int) -> tuple[int, str]:
        """Give how many got lost before this one (-1: one that was thought lost has come), and its fault."""
        if self._newest < 0:
            self._newest, self._seen = number, 1
            return 0, ""
        ahead = (number - self._newest) % 65536
        if ahead == 0:
            return 0, "repeated"
        if ahead < 32768:
            self._seen = (self._seen << ahead | 1) & ((1 << WINDOW) - 1) if ahead < WINDOW else 1
            self._newest = number
            return ahead - 1, ""
        behind = 65536 - ahead
        if behind >= WINDOW:
            return 0, "old"
        if self._seen >> behind & 1:
            return 0, "repeated"
        self._seen |= 1 << behind
        return -1, "out of order"

    def current(self, now_s: float) -> Mapping[str, float]:
        return self._now

    def forget(self) -> None:
        self._lines.forget()
        self._now, self._newest, self._seen = {}, -1, 0
