"""The recorder: readings of the sources as a CSV file that plays again."""

from __future__ import annotations

import contextlib
import threading
from collections import deque
from collections.abc import Mapping
from datetime import datetime
from pathlib import Path

from pivrex.devices.source import Source
from pivrex.files import free_name
from pivrex.line.layout import plain
from pivrex.line.line import Line
from pivrex.lower import reason
from pivrex.rig.channels import CHANNELS

__all__ = ["Recorder"]

WRITE_EVERY_S = 0.25

LONGEST_WAIT_S = 3.0
"""A disk that takes longer is not waited for."""


class Recorder:
    """Takes readings tick by tick and keeps those that changed. A thread in the background writes them, every bit of them: whole lines reach
    the disk four times a second, so a kill leaves a readable file.

    Raises ``OSError`` if the file cannot be begun.

    Attributes
    ----------
    path : Path
    source : str
        The source that drives.
    problem : str
        Why it cannot write any more; empty while it can.
    """

    def __init__(self, folder: Path, source: Source, line: Line, now_s: float) -> None:
        # all channels of the source that drives, and the other channels that the line reads
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
        self.problem = ""
        self._stream = self.path.open("x", encoding="ascii", newline="", buffering=1 << 16)
        try:
            self._stream.write(",".join(("t", *heard)) + "\r\n")
            self._stream.flush()
        except OSError:
            with contextlib.suppress(OSError):
                self._stream.close()
            self.path.unlink(missing_ok=True)
            raise
        self._began_s = now_s
        self._last: tuple[float, ...] = ()
        self._at_s = -1.0
        self._lines: deque[tuple[float, tuple[float, ...]]] = deque()
        self._written = False
        """Whether more than the header has reached the disk."""
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._write, daemon=True)
        self._thread.start()

    @property
    def done(self) -> bool:
        """Whether all of it is on the disk, or cannot be."""
        return not self._thread.is_alive()

    def add(self, readings: Mapping[str, Mapping[str, float]], sources: Mapping[str, Source], now_s: float) -> None:
        """Take a tick's readings of all sources; what is not there counts as 0."""
        of_kind = {sources[name].kind: found for name, found in readings.items()}
        found = (readings.get(name, of_kind.get(name, {})).get(channel, 0.0) for name, channel in self._heard.values())
        values = tuple(v if v == v else 0.0 for v in found)  # noqa: PLR0124 - NaN is not itself
        if values != self._last:
            self._put(values, now_s)

    def _put(self, values: tuple[float, ...], now_s: float) -> None:
        at = round(now_s - self._began_s, 6)
        if at > self._at_s:
            self._lines.append((at, values))
            self._last, self._at_s = values, at

    def end(self, now_s: float) -> None:
        """End it, without waiting; the last reading stands again at its end, which says how long it was."""
        if self._last:
            self._put(self._last, now_s)
        self._ended.set()

    def wait(self) -> None:
        """Wait until it is done."""
        self._thread.join(LONGEST_WAIT_S)

    # --- in the background ---

    def _write(self) -> None:
        try:
            with self._stream:
                while not self._ended.wait(WRITE_EVERY_S):
                    self._write_what_came()
                self._write_what_came()
        except OSError as problem:
            self.problem = reason(problem)
            if not self._written:
                with contextlib.suppress(OSError):
                    self.path.unlink()  # a header without rows is useless

    def _write_what_came(self) -> None:
        while self._lines:
            at, values = self._lines[0]
            self._stream.write(",".join((repr(at).removesuffix(".0"), *map(_cell, values))) + "\r\n")
            self._lines.popleft()
        self._stream.flush()
        self._written = True


def _cell(value: float) -> str:
    return repr(value).removesuffix(".0")
