"""What the view Driver gets many times a second: every source with its readings, its travel and its health."""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping
from dataclasses import dataclass, field
from math import isfinite

from pivrex.devices.health import Health, Said
from pivrex.devices.link import RobotLink
from pivrex.devices.remote import RemoteSource
from pivrex.devices.source import BY_HAND, Abilities, Source
from pivrex.rig.rig import Rig
from pivrex.session.guard import Guard

__all__ = ["Report", "SourceReport", "Travel", "Watch", "link_report"]

NOISE_READINGS = 45
"""The readings over which the noise at rest is taken: about a second."""


@dataclass(frozen=True)
class Travel:
    """Where a channel has been since it was last asked from again.

    Attributes
    ----------
    low, high, mean : float
    noise : float
        The spread, highest less lowest, of the last second.
    readings : int
    now : float
        The newest reading.
    """

    low: float
    high: float
    mean: float
    noise: float
    readings: int
    now: float


@dataclass(frozen=True)
class SourceReport:
    """A source as it is now. ``nature`` is "stream" or "event"; ``waits`` says why it is not listened to; ``can`` is what
    it may do.
    """

    name: str
    kind: str
    title: str
    nature: str
    waits: str
    identity: str = ""
    can: Abilities = BY_HAND
    readings: Mapping[str, float] = field(default_factory=dict)
    travel: Mapping[str, Travel] = field(default_factory=dict)
    health: Health | None = None
    said: tuple[Said, ...] = ()
    bad: tuple[Said, ...] = ()
    sealed: bool = False
    """Whether what it says counts only with the rig's key."""


@dataclass(frozen=True)
class Report:
    """All sources, and the robot's link: its health, what it said, and what it was sent last."""

    at_s: float
    sources: tuple[SourceReport, ...]
    link: SourceReport | None = None


class Watch:
    """Follows the channels of one source."""

    def __init__(self, source: Source) -> None:
        self.name = source.name
        self._last: Mapping[str, float] = {}
        self._seen: dict[str, list[float]] = {}
        self._recent: dict[str, deque[float]] = {}

    def add(self, readings: Mapping[str, float]) -> None:
        """Take a tick's readings."""
        self._last = readings
        for channel, value in readings.items():
            if not isfinite(value):
                continue
            seen = self._seen.get(channel)
            if seen is None:
                self._seen[channel] = [value, value, value, 1]
                self._recent[channel] = deque([value], maxlen=NOISE_READINGS)
                continue
            if value < seen[0]:
                seen[0] = value
            elif value > seen[1]:
                seen[1] = value
            seen[2] += value
            seen[3] += 1
            self._recent[channel].append(value)

    def travel(self) -> dict[str, Travel]:
        """Sum up."""
        return {
            c: Travel(
                s[0], s[1], s[2] / s[3], max(self._recent[c]) - min(self._recent[c]), int(s[3]), self._recent[c][-1]
            )
            for c, s in self._seen.items()
        }

    def report(self, source: Source, rig: Rig, guard: Guard | None, now_s: float) -> SourceReport:
        """Return how the source is."""
        tally = source.tally if isinstance(source, RemoteSource) else None
        spec = rig.sources.get(self.name)
        return SourceReport(
            self.name,
            source.kind,
            source.title,
            spec.NATURE if spec is not None else "event",
            guard.reason if guard is not None else source.lost,
            getattr(source, "identity", ""),
            source.can,
            dict(self._last),
            self.travel(),
            tally.health(now_s) if tally is not None else None,
            tuple(tally.said) if tally is not None else (),
            tuple(tally.bad) if tally is not None else (),
            isinstance(source, RemoteSource) and source.sealed,
        )


def link_report(link: RobotLink, now_s: float) -> SourceReport:
    """Return how the link to a robot is, with what it was sent last."""
    said = tuple(link.tally.said) + ((link.sent,) if link.sent is not None else ())
    if link.fault:
        said += (Said(now_s, link.fault, "fault", "the robot says so"),)
    health, bad = link.tally.health(now_s), tuple(link.tally.bad)
    return SourceReport(
        "link", "link", link.title, "stream", link.problem(now_s), health=health, said=said, bad=bad, sealed=link.sealed
    )
