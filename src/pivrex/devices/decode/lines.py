"""Bytes to lines."""

from __future__ import annotations

import re
from collections.abc import Iterator

__all__ = ["LONGEST_LINE", "Lines"]

LONGEST_LINE = 240
"""Bytes; what is longer is no line of a remote."""


class Lines:
    """Cuts bytes into lines. A line that is too long is given once, cut, as too long."""

    def __init__(self) -> None:
        self._rest = b""
        self._skipping = False

    def feed(self, data: bytes) -> Iterator[tuple[bytes, bool]]:
        """Return each whole line, and whether it was too long."""
        *lines, rest = re.split(rb"\r\n|\n|\r", self._rest + data)
        for line in lines:
            if self._skipping:
                self._skipping = False  # the end of a line that was reported already
            elif line:
                yield line[:LONGEST_LINE], len(line) > LONGEST_LINE
        if len(rest) > LONGEST_LINE:
            if not self._skipping:
                yield rest[:LONGEST_LINE], True
            self._skipping, rest = True, b""
        self._rest = rest

    @staticmethod
    def count(data: bytes) -> int:
        """Return how many lines end in these bytes."""
        return max(data.count(b"\n"), data.count(b"\r"))

    def newest(self, data: bytes, most: int) -> bytes:
        """Return the last ``most`` lines of these bytes, and the rest after them; earlier bytes are forgotten."""
        kept = data.rsplit(b"\n" if b"\n" in data else b"\r", most + 1)
        if len(kept) <= most + 1:
            return data
        self.forget()
        return data[len(kept[0]) + 1 :]

    def forget(self) -> None:
        """Drop what is not a whole line yet."""
        self._rest, self._skipping = b"", False
