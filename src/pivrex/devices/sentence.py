"""Sentences on a wire, framed as in NMEA 0183: ``$BODY*hh`` with the exclusive-or of the body's bytes in hex."""

from __future__ import annotations

from functools import reduce
from operator import xor

__all__ = ["frame", "unframe"]


def frame(body: str) -> bytes:
    """Frame a body of ASCII without ``$`` and ``*``, with the line end that the standard asks for."""
    return f"${body}*{_check(body):02X}\r\n".encode("ascii")


def unframe(line: bytes) -> str:
    """Give the body of a framed line; raises `ValueError` with what is wrong with it."""
    try:
        text = line.strip().decode("ascii")
    except UnicodeDecodeError:
        raise ValueError("not ASCII") from None
    if not text.startswith("$") or text[-3:-2] != "*":
        raise ValueError("no frame $...*hh")
    body, given = text[1:-3], text[-2:]
    if f"{_check(body):02X}" != given.upper():
        raise ValueError(f"check {given}, but its bytes give {_check(body):02X}")
    return body


def _check(body: str) -> int:
    return reduce(xor, body.encode("ascii"), 0)
