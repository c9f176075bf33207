"""What remotes say: bytes to readings. Every reader takes whatever comes; what it cannot use it counts and explains."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping
from typing import NamedTuple, Protocol

from pivrex.devices.sentence import unframe
from pivrex.rig.deeds import split_time
from pivrex.rig.sources import FrameField, FramesSource, LettersSource, NumbersSource, PacketsSource, letter_channel

__all__ = [
    "FAULTS",
    "FramesReader",
    "LettersReader",
    "Lines",
    "Message",
    "NumbersReader",
    "PacketsReader",
    "Reader",
    "crc8",
    "reader_of",
]

LONGEST_LINE = 240
"""Bytes; what is longer is no line of a remote."""

WIDEST_NUMBER = 24
"""Characters of a number; what is longer is no number of a remote."""

BEYOND = 1.5
"""A packet's number beyond this many times full is absurd."""

FAULTS = ("damaged", "repeated", "out of order", "old", "foreign", "unknown")
"""Why a message moves nothing. Damaged: it cannot be read. Old: far behind the newest. Foreign: another sender.
Unknown: it is whole, but the rig does not say what it means."""

ONCE_S = 0.12
"""How long a letter is seen whose deed is done once: longer than any tick."""

WINDOW = 32
"""A packet that is at most so many behind the newest came out of order; one further behind is old."""


class Message(NamedTuple):
    """One message.

    Attributes
    ----------
    text : str
        As it came, in printable characters.
    readings : dict or None
        What it says, by channel; None if it says nothing that counts.
    fault : str
        One of `FAULTS`; empty for a good one.
    reason : str
        What is wrong with it, in words.
    missed : int
        How many before it must have got lost.
    """

    text: str
    readings: Mapping[str, float] | None
    fault: str = ""
    reason: str = ""
    missed: int = 0


class Reader(Protocol):
    """Bytes of one sender to messages."""

    def feed(self, data: bytes, at_s: float) -> Iterator[Message]:
        """Take bytes that came."""
        ...

    def current(self, now_s: float) -> Mapping[str, float]:
        """Give what holds now."""
        ...

    def forget(self) -> None:
        """Begin anew: another sender, or the same one after it was lost."""
        ...


def shown(data: bytes) -> str:
    """Write bytes so that a person can read them: printable ASCII as it is, the rest in hexadecimal."""
    text = data.strip(b"\r\n")
    return "".join(chr(b) if 32 <= b < 127 else f"\\x{b:02x}" for b in text[:120])


class Lines:
    """Cuts bytes into lines. A line that is too long is given once, cut, as too long."""

    def __init__(self) -> None:
        self._rest = b""
        self._skipping = False

    def feed(self, data: bytes) -> Iterator[tuple[bytes, bool]]:
        """Give each whole line, and whether it was too long."""
        *lines, rest = re.split(rb"\r\n|\n|\r", self._rest + data)
        for line in lines:
            if self._skipping:
                self._skipping = False  # the end of one that was said already
            elif line:
                yield line[:LONGEST_LINE], len(line) > LONGEST_LINE
        if len(rest) > LONGEST_LINE:
            if not self._skipping:
                yield rest[:LONGEST_LINE], True
            self._skipping, rest = True, b""
        self._rest = rest

    def forget(self) -> None:
        """Drop what is not a whole line yet."""
        self._rest, self._skipping = b"", False


def _number(text: str) -> float:
    """Read a decimal number; raises `ValueError` with what is wrong."""
    if len(text) > WIDEST_NUMBER:
        raise ValueError(f"a number of {len(text)} characters")
    try:
        value = float(text)
    except ValueError:
        raise ValueError(f"{text!r} is no number") from None
    if not math.isfinite(value) or "_" in text:
        raise ValueError(f"{text!r} is no number")
    return value


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
            text = shown(line)
            try:
                if too_long:
                    raise ValueError(f"longer than {LONGEST_LINE} bytes")
                plain = line.decode("ascii")
                readings = self._labelled(plain) if self._labels else self._in_order(plain)
            except UnicodeDecodeError:
                yield Message(text, None, "damaged", "not ASCII; a wrong rate looks like this")
            except ValueError as problem:
                yield Message(text, None, "damaged", str(problem))
            else:
                self._now = {**self._now, **readings}
                yield Message(text, readings)

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
        value, spec = _number(text), self._spec
        if channel.startswith("button_"):
            return float(value > 0 if value <= 1 else value > self._middle)
        slack = (spec.high - spec.low) * 0.02
        if not spec.low - slack <= value <= spec.high + slack:
            raise ValueError(f"{channel} is {text}, outside {spec.low:g} to {spec.high:g}")
        if channel.endswith("_trigger"):
            return min(1.0, max(0.0, (value - spec.low) / (spec.high - spec.low)))
        return min(1.0, max(-1.0, (value - self._middle) / self._half))

    def current(self, now_s: float) -> Mapping[str, float]:
        return self._now

    def forget(self) -> None:
        self._lines.forget()
        self._now = {}


class LettersReader:
    """One character a command. A letter's channel counts how often it came while it lasts, and reads 0 else."""

    def __init__(self, spec: LettersSource, groups: Mapping[str, str]) -> None:
        self._spec = spec
        self.groups = dict(groups)
        self._lasts = {letter: split_time(text)[1] for letter, text in spec.letters.items()}
        self._until: dict[str, float] = {}
        self._value: dict[str, float] = {}

    def feed(self, data: bytes, at_s: float) -> Iterator[Message]:
        for byte in data:
            char = chr(byte)
            if char in "\r\n":
                continue
            letter = self._find(char)
            if letter is None:
                known = "damaged" if not 32 < byte < 127 else "unknown"
                yield Message(shown(bytes([byte])), None, known, "no letter of this rig")
                continue
            group = self.groups.get(letter, "")
            for other in list(self._until):
                # what is done once ends at once, another of the same group ends what lasted
                if other != letter and (group and self.groups.get(other) == group):
                    del self._until[other]
            once = not group and not self._lasts[letter]
            self._until[letter] = at_s + (self._lasts[letter] or (ONCE_S if once else math.inf))
            self._value[letter] = self._value.get(letter, 0.0) % 997 + 1
            yield Message(char, {letter_channel(letter): self._value[letter]})

    def _find(self, char: str) -> str | None:
        if char in self._spec.letters:
            return char
        if self._spec.either_case and char.swapcase() in self._spec.letters:
            return char.swapcase()
        return None

    def current(self, now_s: float) -> Mapping[str, float]:
        for letter in [k for k, until in self._until.items() if now_s >= until]:
            del self._until[letter]
        lasting = {letter_channel(k): self._value[k] for k in self._until}
        return {**dict.fromkeys(self._spec.channels(), 0.0), **lasting}

    def forget(self) -> None:
        self._until.clear()


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
            value = (_number(word) - spec.zero) / spec.full
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


class FramesReader:
    """Frames of bits: a mark, a fixed number of bytes, a check."""

    def __init__(self, spec: FramesSource) -> None:
        self._spec = spec
        self._mark = bytes(spec.mark)
        self._size = len(self._mark) + spec.length + (spec.check != "none")
        self._rest = b""
        self._now: dict[str, float] = {}

    def feed(self, data: bytes, at_s: float) -> Iterator[Message]:
        rest = self._rest + data
        while True:
            at = rest.find(self._mark)
            if at < 0:
                # the end may be the beginning of a mark
                keep = next((n for n in range(len(self._mark) - 1, 0, -1) if rest.endswith(self._mark[:n])), 0)
                noise, rest = rest[: len(rest) - keep], rest[len(rest) - keep :]
                if noise:
                    yield self._noise(noise)
                break
            if at:
                yield self._noise(rest[:at])
                rest = rest[at:]
            if len(rest) < self._size:
                break
            frame = rest[: self._size]
            body = frame[len(self._mark) : len(self._mark) + self._spec.length]
            wanted = check_byte(self._spec.check, body)
            if wanted is not None and frame[-1] != wanted:
                # a mark may stand within what is no frame: only the mark is passed over
                yield Message(_hex(frame), None, "damaged", f"check {frame[-1]:02X}, but its bytes give {wanted:02X}")
                rest = rest[len(self._mark) :]
                at = rest.find(self._mark)
                rest = rest[at:] if at >= 0 else rest[max(0, min(len(rest), self._size - len(self._mark))) :]
                continue
            rest = rest[self._size :]
            try:
                readings = {f.channel: _field(f, body) for f in self._spec.fields}
            except ValueError as problem:
                yield Message(_hex(frame), None, "damaged", str(problem))
                continue
            self._now = readings
            yield Message(_hex(frame), readings)
        self._rest = rest

    def _noise(self, data: bytes) -> Message:
        return Message(
            _hex(data), None, "damaged", f"{len(data)} byte{'s' * (len(data) != 1)} without the mark {_hex(self._mark)}"
        )

    def current(self, now_s: float) -> Mapping[str, float]:
        return self._now

    def forget(self) -> None:
        self._rest, self._now = b"", {}


def _hex(data: bytes) -> str:
    return " ".join(f"{b:02X}" for b in data[:24]) + (" ..." if len(data) > 24 else "")


def _field(field: FrameField, body: bytes) -> float:
    size = len(body) * 8
    if field.low_first:
        first = field.bit // 8
        number = int.from_bytes(body[first : first + field.width // 8], "little")
    else:
        number = int.from_bytes(body, "big") >> (size - field.bit - field.width) & ((1 << field.width) - 1)
    value = (number + field.offset) * field.scale
    if field.width > 1 and abs(value) > BEYOND:
        raise ValueError(f"{field.channel} is {value:g}, far beyond 1")
    return min(1.0, max(-1.0, value)) if field.width > 1 else value


def check_byte(kind: str, body: bytes) -> int | None:
    """Give the check of a frame's bytes; None for frames without one."""
    match kind:
        case "sum":
            return sum(body) & 0xFF
        case "complement":
            return ~sum(body) & 0xFF
        case "xor":
            found = 0
            for b in body:
                found ^= b
            return found
        case "crc8":
            return crc8(body)
    return None


def crc8(data: bytes) -> int:
    """Give the CRC with the polynomial x⁸ + x² + x + 1 (0x07), from 0, highest bit first. (ITU-T I.432.1, without its final 0x55.)"""
    found = 0
    for byte in data:
        found ^= byte
        for _ in range(8):
            found = (found << 1 ^ 0x07) & 0xFF if found & 0x80 else found << 1
    return found


def reader_of(spec: NumbersSource | LettersSource | PacketsSource | FramesSource, groups: Mapping[str, str]) -> Reader:
    """Make the reader of a source; ``groups`` say of letters which put an end to each other."""
    match spec:
        case NumbersSource():
            return NumbersReader(spec)
        case LettersSource():
            return LettersReader(spec, groups)
        case PacketsSource():
            return PacketsReader(spec)
        case FramesSource():
            return FramesReader(spec)
