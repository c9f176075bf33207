"""The recorder: what sources said, as a CSV that plays again."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from pathlib import Path

from pivrex.devices.source import Source
from pivrex.files import free_name
from pivrex.line import Line
from pivrex.line.layout import plain
from pivrex.rig.channels import CHANNELS

__all__ = ["Recorder"]

WRITE_EVERY_S = 1.0


class Recorder:
    """Writes readings line by line, only when one has changed. Whole lines reach the disk every second, so that a kill
    leaves a file that can be read.

    Raises ``OSError`` when it cannot write.
    """

    def __init__(self, folder: Path, source: Source, line: Line, now_s: float) -> None:
        # all channels of the source that drives, and what the line hears of others beside it
        own = f"{source.name}." if source.name in line.rig.sources else ""
        there = source.channels()
        order = [c for c in CHANNELS if c in there] + sorted(there - set(CHANNELS))
        heard = {plain(own + c): (source.name, c) for c in order}
        for name, channel in line.inputs.wanted:
            if name not in ("chosen", "session", source.name):
                heard[plain(f"{name}.{channel}")] = (name, channel)
        self._heard = heard
        folder.mkdir(parents=True, exist_ok=True)
        short = "".join(c if c.isalnum() else "-" for c in source.name.lower())
        self.path = free_name(folder, f"{short}-{datetime.now():%Y%m%d-%H%M%S}", ".csv")
        self.source = source.name
        self._stream = self.path.open("x", encoding="ascii", newline="", buffering=1 << 16)
        self._stream.write(",".join(("t", *heard)) + "\r\n")
        self._stream.flush()
        self._began_s = self._written_s = now_s
        self._last: tuple[str, ...] = ()
        self._at_s = -1.0

    def add(self, readings: Mapping[str, Mapping[str, float]], sources: Mapping[str, Source], now_s: float) -> None:
        """Take a tick's readings of all sources; what is not there counts as 0."""
        of_kind = {sources[name].kind: found for name, found in readings.items()}
        cells = tuple(
            _cell(readings.get(name, of_kind.get(name, {})).get(channel, 0.0)) for name, channel in self._heard.values()
        )
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
