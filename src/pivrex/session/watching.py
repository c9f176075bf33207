"""What the view Driver gets about every source, many times a second, while it is open."""

from __future__ import annotations

from pivrex.devices.link import RobotLink
from pivrex.devices.source import Source
from pivrex.rig import Rig
from pivrex.session.inputs import SessionInputs
from pivrex.session.report import Report, Watch, link_report

__all__ = ["Watching"]

REPORT_EVERY = 4
"""A report for every so many ticks."""


class Watching:
    """Follows the sources while someone looks.

    Attributes
    ----------
    report : Report or None
        The newest.
    """

    def __init__(self) -> None:
        self._on = False
        self._watches: dict[str, Watch] = {}
        self._ticks = 0
        self.report: Report | None = None

    def turn(self, on: bool) -> None:
        """Begin to look, again, or end it."""
        self._on = on
        self._watches.clear()

    def measure_again(self, source: str) -> None:
        """Forget where a source's channels have been."""
        self._watches.pop(source, None)

    def follow(self, inputs: SessionInputs, link: RobotLink | None, rig: Rig, now_s: float) -> None:
        """Take a tick's readings, and report now and then."""
        if not self._on:
            return
        followed = [s for s in inputs.sources.values() if not s.can.plays or s is inputs.driver]
        for source in followed:
            self._watches.setdefault(source.name, Watch(source)).add(_readings(source, now_s))
        self._ticks += 1
        if self._ticks % REPORT_EVERY == 0:
            reports = (self._watches[s.name].report(s, rig, inputs.guards.get(s.name), now_s) for s in followed)
            self.report = Report(now_s, tuple(reports), link_report(link, now_s) if link is not None else None)


def _readings(source: Source, now_s: float) -> dict[str, float]:
    return dict(source.read(now_s)) if not source.lost else {}
