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
