"""The recorder: what sources said, as a CSV that plays again."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from pathlib import Path

from pivrex.files import free_name

__all__ = ["Recorder"]

WRITE_EVERY_S = 1.0


class Recorder:
    """Writes readings line by line, only when one has changed. Whole lines reach the disk every second, so that a kill
    leaves a file that can be read.

    Raises ``OSError`` when it cannot write.
    """

    def __init__(self, folder: Path, source: str, columns: tuple[str, ...], now_s: float) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        plain = "".join(c if c.isalnum() else "-" for c in source.lower())
        self.path = free_name(folder, f"{plain}-{datetime.now():%Y%m%d-%H%M%S}", ".csv")
        self.source = source
        self.columns = columns
        self._stream = self.path.open("x", encoding="ascii", newline="", buffering=1 << 16)
        self._stream.write(",".join(("t", *columns)) + "\r\n")
        self._stream.flush()
        self._began_s = self._written_s = now_s
        self._last: tuple[str, ...] = ()
        self._at_s = -1.0

    def add(self, readings: Mapping[str, float], now_s: float) -> None:
        """Take a tick's readings; what is not there counts as 0."""
        cells = tuple(_cell(readings.get(c, 0.0)) for c in self.columns)
        if cells != self._last:
            self._write(cells, now_s)
        if now_s - self._written_s >= WRITE_EVERY_S:
            self._stream.flush()
            self._written_s = now_s

    def _write(self, cells: tuple[str, ...], now_s: float) -> None:
        at = round(now_s - self._began_s, 4)
        if at > self._at_s:
            self._stream.write(",".join((f"{at:.4f}", *cells)) + "\r\n")
            self._last, self._at_s = cells, at

    def close(self, now_s: float) -> None:
        """End it; the last reading stands again at its end, which says how long it was."""
        if self._last:
            self._write(self._last, now_s)
        self._stream.close()


def _cell(value: float) -> str:
    return f"{value:.5g}" if value == value else "0"  # noqa: PLR0124 - NaN is not itself
