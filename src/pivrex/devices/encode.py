"""Encoders of remotes: readings to the bytes of each kind of source, the reverse of `pivrex.devices.decode`."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from pivrex.devices.decode.frames import check_byte
from pivrex.devices.decode.order import RANGE
from pivrex.devices.sentence import frame
from pivrex.rig.sources import FramesSource, LettersSource, NumbersSource, PacketsSource

__all__ = ["frame_of", "letters_of", "line_of", "packet_of"]


def line_of(spec: NumbersSource, readings: Mapping[str, float]) -> bytes:
    """Write a line of numbers as a serial stick sends it."""

    def raw(channel: str) -> str:
        value = readings.get(channel, 0.0)
        if channel == "-" or channel.startswith("button_"):
            return str(int(value >= 0.5))
        share = value if channel.endswith("_trigger") else (value + 1) / 2
        return f"{round(spec.low + share * (spec.high - spec.low))}"

    if spec.labels:
        return (",".join(f"{label}:{raw(channel)}" for label, channel in spec.labels.items()) + "\r\n").encode("ascii")
    return (" ".join(raw(c) for c in spec.columns) + "\r\n").encode("ascii")


def packet_of(
    spec: PacketsSource, readings: Mapping[str, float], seq: int, sign: Callable[[str], str] | None = None
) -> bytes:
    """Write a packet of a radio: ``$PIVDRV,SENDER,SEQ,AXES...,BUTTONS*hh``; ``sign`` seals its body."""
    axes = ",".join(f"{readings.get(c, 0.0) * spec.full + spec.zero:.4f}" for c in spec.columns)
    bits = sum(1 << n for n in range(17) if readings.get(f"button_{n}", 0.0) >= 0.5)
    return frame((sign or str)(f"PIVDRV,{spec.sender},{seq if sign else seq % RANGE},{axes},{bits:X}"))


def letters_of(spec: LettersSource, letters: str, seq: int, sign: Callable[[str], str] | None = None) -> bytes:
    """Write letters as a remote sends them: bare, or ``$PIVLET,SENDER,SEQ,LETTERS*hh``."""
    if not spec.framed:
        return letters.encode("latin-1", "replace")
    plain = "".join(c for c in letters if c.isascii() and c not in "$*,\r\n")
    return frame((sign or str)(f"PIVLET,{spec.sender},{seq if sign else seq % RANGE},{plain}"))


def frame_of(spec: FramesSource, readings: Mapping[str, float]) -> bytes:
    """Write a frame of bits as a toy remote sends it."""
    size = spec.length * 8
    body = 0
    for f in spec.fields:
        number = round(readings.get(f.channel, 0.0) / f.scale - f.offset)
        number = min(max(number, 0), (1 << f.width) - 1)
        if f.low_first:
            number = int.from_bytes(number.to_bytes(f.width // 8, "little"), "big")
        body |= number << (size - f.bit - f.width)
    data = body.to_bytes(spec.length, "big")
    check = check_byte(spec.check, data)
    return bytes(spec.mark) + data + (bytes([check]) if check is not None else b"")
