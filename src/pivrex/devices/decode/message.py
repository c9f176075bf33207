"""The messages of every reader of a remote: good, or with one of seven faults.

Every reader takes whatever comes; what it cannot use it counts and explains.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from typing import NamedTuple, Protocol

__all__ = ["FAULTS", "Message", "Reader", "hexadecimal", "number", "shown"]

WIDEST_NUMBER = 24
"""Characters of a number; what is longer is no number of a remote."""


FAULTS = ("damaged", "repeated", "out of order", "old", "foreign", "unknown", "too much")
"""Why a message moves nothing. Damaged: it cannot be read. Old: far from the newest. Foreign: another sender, or without the
rig's key. Unknown: it is whole, but the rig does not say what it means. Too much: more came than there is time to read, and
newer ones count."""


class Message(NamedTuple):
    """One message.

    Attributes
    ----------
    data : bytes
        As it came.
    readings : dict or None
        What it says, by channel; None if it says nothing that counts.
    fault : str
        One of `FAULTS`; empty for a good one.
    reason : str
        What is wrong with it, in words.
    missed : int
        How many before it must have got lost.
    in_hex : bool
        Whether its bytes are written as numbers.
    stops : bool
        Whether it says stop, sealed with the rig's key: that counts, though nothing else in it does.
    does : str
        What comes of it, in words, where its remote says one thing at a time.
    """

    data: bytes
    readings: Mapping[str, float] | None
    fault: str = ""
    reason: str = ""
    missed: int = 0
    in_hex: bool = False
    stops: bool = False
    does: str = ""

    @property
    def text(self) -> str:
        """Its bytes in printable characters. Written when someone looks: few of many messages are looked at."""
        return hexadecimal(self.data) if self.in_hex else shown(self.data)


class Reader(Protocol):
    """Bytes of one sender to messages."""

    def feed(self, data: bytes, at_s: float) -> Iterator[Message]:
        """Take bytes that came."""
        ...

    def count(self, data: bytes) -> int:
        """Return roughly how many messages these bytes hold, without reading them."""
        ...

    def newest(self, data: bytes, most: int) -> bytes:
        """Return the last bytes of these, about ``most`` messages; what came before is forgotten."""
        ...

    def left_out(self, count: int) -> None:
        """Take that so many messages were dropped unread before what is fed next."""
        ...

    def current(self, now_s: float) -> Mapping[str, float]:
        """Return what holds now."""
        ...

    def forget(self) -> None:
        """Begin again: another sender, or the same one after it was lost."""
        ...


def shown(data: bytes) -> str:
    """Write bytes so that a person can read them: printable ASCII as it is, the rest in hexadecimal."""
    text = data.strip(b"\r\n")
    return "".join(chr(b) if 32 <= b < 127 else f"\\x{b:02x}" for b in text[:120])


def hexadecimal(data: bytes) -> str:
    """Write bytes as numbers, the first few of them."""
    return " ".join(f"{b:02X}" for b in data[:24]) + (" ..." if len(data) > 24 else "")


def number(text: str) -> float:
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
