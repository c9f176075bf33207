"""Frames of bits with a check."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from pivrex.devices.decode.message import Message, hexadecimal
from pivrex.devices.decode.packets import BEYOND
from pivrex.rig.sources import FrameField, FramesSource

__all__ = ["FramesReader", "crc8"]


class FramesReader:
    """Frames of bits: a mark, a fixed number of bytes, a check."""

    def __init__(self, spec: FramesSource) -> None:
        self._spec = spec
        self._mark = bytes(spec.mark)
        self._size = len(self._mark) + spec.length + (spec.check != "none")
        self._rest = b""
        self._now: dict[str, float] = {}

    def feed(self, data: bytes, at_s: float) -> Iterator[Message]:
        rest, mark, at = self._rest + data, self._mark, 0
        while True:
            found = rest.find(mark, at)
            if found < 0:
                # the end may be the beginning of a mark
                keep = next((n for n in range(len(mark) - 1, 0, -1) if rest.endswith(mark[:n], at)), 0)
                if at < len(rest) - keep:
                    yield self._noise(rest[at : len(rest) - keep])
                at = len(rest) - keep
                break
            if found > at:
                yield self._noise(rest[at:found])
                at = found
            if len(rest) - at < self._size:
                break
            frame = rest[at : at + self._size]
            body = frame[len(mark) : len(mark) + self._spec.length]
            wanted = check_byte(self._spec.check, body)
            if wanted is not None and frame[-1] != wanted:
                # the mark may occur inside other bytes: skip only the mark
                yield Message(
                    frame, None, "damaged", f"check {frame[-1]:02X}, but its bytes give {wanted:02X}", in_hex=True
                )
                again = rest.find(mark, at + len(mark))
                at = again if again >= 0 else min(len(rest), at + self._size)
                continue
            at += self._size
            try:
                readings = {f.channel: _field(f, body) for f in self._spec.fields}
            except ValueError as problem:
                yield Message(frame, None, "damaged", str(problem), in_hex=True)
                continue
            self._now = readings
            yield Message(frame, readings, in_hex=True)
        self._rest = rest[at:]

    def _noise(self, data: bytes) -> Message:
        said = f"{len(data)} byte{'s' * (len(data) != 1)} without the mark {hexadecimal(self._mark)}"
        return Message(data[:64], None, "damaged", said, in_hex=True)

    def count(self, data: bytes) -> int:
        return len(data) // self._size

    def newest(self, data: bytes, most: int) -> bytes:
        if len(data) <= most * self._size:
            return data
        self._rest = b""
        return data[-most * self._size :]

    def left_out(self, count: int) -> None:
        """Dropped frames cannot be counted: frames have no numbers."""

    def current(self, now_s: float) -> Mapping[str, float]:
        return self._now

    def forget(self) -> None:
        self._rest, self._now = b"", {}


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
    """Return the check of a frame's bytes; None for frames without one."""
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
    """Return the CRC with the polynomial x⁸ + x² + x + 1 (0x07), from 0, highest bit first. (ITU-T I.432.1, without its final 0x55.)"""
    found = 0
    for byte in data:
        found ^= byte
        for _ in range(8):
            found = (found << 1 ^ 0x07) & 0xFF if found & 0x80 else found << 1
    return found
