"""What every reader of a remote gives: messages, good or with one of six faults.

Every reader takes whatever comes; what it cannot use it counts and explains.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from typing import NamedTuple, Protocol

__all__ = ["FAULTS", "Message", "Reader", "number", "shown"]

WIDEST_NUMBER = 24
"""Characters of a number; what is longer is no number of a remote."""


FAULTS = ("damaged", "repeated", "out of order", "old", "foreign", "unknown")
"""Why a message moves nothing. Damaged: it cannot be read. Old: far behind the newest. Foreign: another sender.
Unknown: it is whole, but the rig does not say what it means."""


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
