"""Lines of numbers, labelled or not."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from pivrex.devices.decode.lines import LONGEST_LINE, Lines
from pivrex.devices.decode.message import Message, number
from pivrex.rig.sources import NumbersSource

__all__ = ["NumbersReader"]

_NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?")


_LABELLED = re.compile(r"([A-Za-z][A-Za-z_]*\d*)\s*[:=]\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)(?![\w.])")


_BETWEEN = re.compile(r"[^\w.+-]*")


class NumbersReader:
    """Lines of numbers with any separator, labelled or not, from the device's range to -1 to 1 (buttons 0 to 1)."""

    def __init__(self, spec: NumbersSource) -> None:
        self._spec = spec
        self._lines = Lines()
        self._labels = {label.lower(): channel for label, channel in spec.labels.items()}
        self._now: dict[str, float] = {}
        self._middle, self._half = (spec.low + spec.high) / 2, (spec.high - spec.low) / 2

    def feed(self, data: bytes, at_s: float) -> Iterator[Message]:
        for line, too_long in self._lines.feed(data):
            try:
                if too_long:
                    raise ValueError(f"longer than {LONGEST_LINE} bytes")
                plain = line.decode("ascii")
                readings = self._labelled(plain) if self._labels else self._in_order(plain)
            except UnicodeDecodeError:
                yield Message(line, None, "damaged", "not ASCII; a wrong rate looks like this")
            except ValueError as problem:
                yield Message(line, None, "damaged", str(problem))
            else:
                self._now = {**self._now, **readings}
                yield Message(line, readings)

    def _in_order(self, text: str) -> dict[str, float]:
        columns = self._spec.columns
        left = _NUMBER.sub(" ", text)
        if re.search(r"[A-Za-z0-9_]", left):
            raise ValueError("something else than numbers")
        numbers = _NUMBER.findall(text)
        if len(numbers) != len(columns):
            raise ValueError(f"{len(numbers)} numbers, but the rig says {len(columns)}")
        return {c: self._scaled(c, n) for c, n in zip(columns, numbers, strict=True) if c != "-"}

    def _labelled(self, text: str) -> dict[str, float]:
        found, end = {}, 0
        for match in _LABELLED.finditer(text):
            if not _BETWEEN.fullmatch(text, end, match.start()):
                raise ValueError(f"{text[end : match.start()].strip()!r} is no label with a number")
            end = match.end()
            channel = self._labels.get(match[1].lower())
            if channel is not None:
                if channel in found:
                    raise ValueError(f"{match[1]} twice")
                found[channel] = self._scaled(channel, match[2])
        if not found or not _BETWEEN.fullmatch(text, end):
            raise ValueError(
                "no line of labels with numbers" if not found else f"{text[end:].strip()!r} behind the numbers"
            )
        return found

    def _scaled(self, channel: str, text: str) -> float:
        value, spec = number(text), self._spec
        if channel.startswith("button_"):
            return float(value > 0 if value <= 1 else value > self._middle)
        slack = (spec.high - spec.low) * 0.02
        if not spec.low - slack <= value <= spec.high + slack:
            raise ValueError(f"{channel} is {text}, outside {spec.low:g} to {spec.high:g}")
        if channel.endswith("_trigger"):
            return min(1.0, max(0.0, (value - spec.low) / (spec.high - spec.low)))
        return min(1.0, max(-1.0, (value - self._middle) / self._half))

    def count(self, data: bytes) -> int:
        return self._lines.count(data)

    def newest(self, data: bytes, most: int) -> bytes:
        return self._lines.newest(data, most)

    def left_out(self, count: int) -> None:
        """Dropped lines cannot be counted: lines have no numbers of their own."""

    def current(self, now_s: float) -> Mapping[str, float]:
        return self._now

    def forget(self) -> None:
        self._lines.forget()
        self._now = {}
