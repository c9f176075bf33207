"""The keyed check of a sentence: proves that its writer has the key, and that it is not a repetition.

A sealed body is ``BODY,SESSION,TAG``. SESSION is a number from 0 to 4294967295. TAG are the first eight bytes of the
HMAC-SHA256 (RFC 2104, FIPS 180-4) of ``BODY,SESSION`` under the key of 16 bytes, in 16 hexadecimal digits.
"""

from __future__ import annotations

import hmac
from hashlib import sha256

__all__ = ["HIGHEST", "SEAL_BYTES", "Seal", "sealed"]

TAG_BYTES = 8
HIGHEST = (1 << 32) - 1
"""The highest session number, and the highest sequence number of a sealed sentence."""

SEAL_BYTES = len(",4294967295,") + 2 * TAG_BYTES
"""How much longer a sealed sentence is at most."""


def tag(key: bytes, text: str) -> str:
    """Return the shortened HMAC-SHA256 of a text, in hexadecimal digits."""
    return hmac.digest(key, text.encode("ascii"), sha256)[:TAG_BYTES].hex().upper()


def sealed(key: bytes, body: str, session: int) -> str:
    """Seal a body."""
    text = f"{body},{session}"
    return f"{text},{tag(key, text)}"


class Seal:
    """A key with the newest session and number: anything not newer is a repetition.

    Attributes
    ----------
    newest : (int, int)
        The session, and the number in it, that count last; what is not beyond them is a repetition.
    """

    def __init__(self, key: bytes) -> None:
        self._key = key
        self.newest = (-1, -1)

    def open(self, body: str) -> tuple[str, int]:
        """Return what a sealed body says, and its session number.

        Raises
        ------
        ValueError
            If it is not sealed, or by another key.
        """
        text, _, given = body.rpartition(",")
        inner, _, session = text.rpartition(",")
        if len(given) != 2 * TAG_BYTES or not session.isdecimal() or len(session) > 10 or int(session) > HIGHEST:
            raise ValueError("not sealed, but this rig has a key")
        if not hmac.compare_digest(tag(self._key, text), given.upper()):
            raise ValueError("sealed with another key")
        return inner, int(session)
