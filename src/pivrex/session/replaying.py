"""Replays a run in the place of a session: the screen reads its Ticks and its status as if it were live."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np

from pivrex.line import Line
from pivrex.line.layout import Floats
from pivrex.runs.replay import Replay
from pivrex.runs.run import Run
from pivrex.session.client import SessionClient
from pivrex.session.journal import rebuilt
from pivrex.session.messages import Request, Stop
from pivrex.session.report import Report, SourceReport, Travel
from pivrex.session.shared import Row
from pivrex.session.status import Status

__all__ = ["ReplayClient"]

SERIAL = 1 << 40
"""Of all its rows: the screen has the line that made them already."""

BEFORE = 1200
"""How many Ticks before the one that is jumped to are shown with it."""

NOISE_READINGS = 45
REPORT_EVERY_S = 0.1


class ReplayClient:
    """Like a `SessionClient`; the live one behind it goes on, stopped.

    Attributes
    ----------
    replay : Replay
    live : SessionClient
    status : Status
        As it was when the Tick was made that is shown.
    """

    skipped = 0

    def __init__(self, run: Run, live: SessionClient, clock: Callable[[], float] = time.monotonic) -> None:
        self.replay, self.live = Replay(run), live
        self._clock = clock
        self._now = clock()
        self._given = run.first - 1
        self._told = 0
        self._folded = Status()
        self.status = Status()
        self._fresh = True
        self._report: Report | None = None
        self._reported_s = -1.0
        self._take_status()

    @property
    def run(self) -> Run:
        """The run."""
        return self.replay.run

    @property
    def alive(self) -> bool:
        """Whether the session behind it runs."""
        return self.live.alive

    def beat(self) -> None:
        """Report that the screen is alive; the session behind it must know."""
        self.live.beat()

    def send(self, request: Request) -> None:
        """Take a stop; nothing else means a robot that was driven in the past."""
        if isinstance(request, Stop):
            self.replay.playing = False
            self.live.send(request)

    def poll(self) -> bool:
        """Let time pass; returns whether `status` changed."""
        self.live.poll()
        self.live.rows()
        now = self._clock()
        passed, self._now = now - self._now, now
        if self.replay.pass_time(passed):
            # the Ticks of a changed rig are read with its own line, which the screen takes in between
            later = [row for row, _ in self.run.rigs if self._given + 1 < row <= self.replay.at]
            self.replay.at = min([self.replay.at, *(row - 1 for row in later)])
        return self._take_status()

    @property
    def given(self) -> int:
        """The last row."""
        return self._given

    @property
    def jumped(self) -> bool:
        """Whether the next `rows` do not follow the last ones: they are far away, earlier, or made with a changed rig."""
        at = self.replay.at
        over = any(self._given + 1 < row <= at for row, _ in self.run.rigs)
        return self._fresh or over or not self._given <= at <= self._given + BEFORE

    def rows(self) -> list[Row]:
        """Return the Ticks since the last call, oldest first; after a jump those before it too."""
        first = self._begins()
        self._given, self._fresh = self.replay.at, False
        rows = self.run.rows(first, self.replay.at + 1)
        return [Row(SERIAL, self.times_put_back(first + i), 0.0, 0.0, row) for i, row in enumerate(rows)]

    def times_put_back(self, row: int) -> int:
        """Return how often the robot had been put back at its start before a row."""
        return sum(e.kind == "put back" and e.row <= row for e in self.run.events)

    @property
    def begins(self) -> int:
        """The next row."""
        return self._begins()

    def _begins(self) -> int:
        """Return the next row: of what another rig made nothing is shown next to what this one makes."""
        if not self.jumped:
            return self._given + 1
        at = self.replay.at
        return max([self.run.first, at - BEFORE + 1, *(row for row, _ in self.run.rigs if row <= at)])

    def trail(self) -> list[tuple[float, float]]:
        """Return where the robot went before what `rows` gives next, since it was put at its start: x and y in m."""
        until = self._begins()
        since = max([self.run.first, *(e.row for e in self.run.events if e.kind == "put back" and e.row <= until)])
        track = self.run.track
        between = (track[:, 0] >= since) & (track[:, 0] < until) & np.isfinite(track[:, 2:4]).all(axis=1)
        return [(x, y) for x, y in track[between][:, 2:4].tolist()]

    def _take_status(self) -> bool:
        status_rows, at = self.run.status_rows, self.replay.at
        if self._told and status_rows[self._told - 1][0] > at:
            self._told, self._folded = 0, Status()
        begun = self._told
        while self._told < len(status_rows) and status_rows[self._told][0] <= at:
            self._folded = rebuilt(self._folded, status_rows[self._told][1])
            self._told += 1
        if begun == self._told and self.status is not self._folded:
            return False
        self.status = self._folded
        return True

    @property
    def line(self) -> Line:
        """The line that made the Tick that is shown."""
        return self.run.line(self.replay.at)

    @property
    def report(self) -> Report | None:
        """The readings of the sources: only those that the line read, because the Ticks have no others."""
        t = self.replay.t_s
        if self._report is None or not 0 <= t - self._reported_s < REPORT_EVERY_S:
            self._report, self._reported_s = self._made_report(), t
        return self._report

    def _made_report(self) -> Report:
        line, at = self.line, self.replay.at
        raw = line.layout.stage("raw")
        seen = np.array(
            [
                row[raw]
                for row in self.run.rows(max(self.run.first, at - BEFORE), at + 1)
                if len(row) == len(line.layout)
            ]
        )
        reports = []
        for source in self.status.sources:
            found = {}
            for i, (name, channel) in enumerate(line.inputs.wanted):
                if name == source.name or (name == "chosen" and source.name == self.status.source):
                    found[channel] = seen[:, i] if len(seen) else np.zeros(0)
            reports.append(
                SourceReport(
                    source.name, source.kind, source.title, "stream", source.waits, can=source.can,
                    readings={c: float(v[-1]) for c, v in found.items() if len(v)},
                    travel={c: _travel(v) for c, v in found.items() if np.isfinite(v).any()},
                )
            )  # fmt: skip
        return Report(self.replay.t_s, tuple(reports))

    def close(self) -> None:
        """Close the session behind it."""
        self.live.close()


def _travel(values: Floats) -> Travel:
    values = values[np.isfinite(values)]
    recent = values[-NOISE_READINGS:]
    return Travel(
        float(values.min()),
        float(values.max()),
        float(values.mean()),
        float(recent.max() - recent.min()),
        len(values),
        float(values[-1]),
    )
