"""Sentences on a wire, framed as in NMEA 0183: ``$BODY*hh`` with the exclusive-or of the body's bytes in hex."""

from __future__ import annotations

__all__ = ["frame", "unframe"]


def frame(body: str) -> bytes:
    """Frame a body of ASCII without ``$`` and ``*``, with the line end that the standard asks for."""
    data = body.encode("ascii")
    return b"$%b*%02X\r\n" % (data, _check(data))


def unframe(line: bytes) -> str:
    """Return the body of a framed line; raises `ValueError` with what is wrong with it."""
    line = line.strip()
    if line[:1] != b"$" or line[-3:-2] != b"*":
        raise ValueError("no frame $...*hh" if line.isascii() else "not ASCII")
    body, given = line[1:-3], line[-2:]
    wanted = b"%02X" % _check(body)
    if wanted != given.upper():
        raise ValueError(f"check {given.decode('ascii', 'replace')}, but its bytes give {wanted.decode()}")
    try:
        return body.decode("ascii")
    except UnicodeDecodeError:
        raise ValueError("not ASCII") from None


def _check(body: bytes) -> int:
    """Return the exclusive-or of all bytes, by folding one large number in half again and again."""
    number, width = int.from_bytes(body, "big"), 8
    while width < 8 * len(body):
        width *= 2
    while width > 8:
        width //= 2
        number ^= number >> width
    return number & 0xFF
