"""Calibrates a stick while you use it: release, roll, press, push. Its movements set its axes."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Protocol

from pivrex.rig.channels import STICKS, describe_channel
from pivrex.rig.rig import Rig

__all__ = ["Calibration", "Measured", "Phase", "Proposal"]

TAKEN_IN = 0.01
"""The ends are taken in by this share of the way, so that full stick surely reads full."""

MIN_WAY = 0.6
"""A stick that moves over less than this much of -1 to 1 was not rolled all round, or not a stick."""

MIN_DEAD_BAND, NOISES = 0.02, 3.0
"""The dead band is three times the noise of the resting stick, and at least 2 %."""

LARGEST_REST = 0.5
"""A stick that stands farther from the middle than this share of half its way is being held."""

LARGEST_TREMBLE = 0.15
"""One whose readings spread over more than this in a second is being moved."""

MIN_READINGS = 20


class Measured(Protocol):
    """Where a channel has been."""

    @property
    def low(self) -> float:
        """The lowest reading."""
        ...

    @property
    def high(self) -> float:
        """The highest reading."""
        ...

    @property
    def mean(self) -> float:
        """The mean of all readings."""
        ...

    @property
    def noise(self) -> float:
        """The spread of the last second."""
        ...

    @property
    def readings(self) -> int:
        """How many readings there were."""
        ...

    @property
    def now(self) -> float:
        """The newest reading."""
        ...


@dataclass(frozen=True)
class Phase:
    """Something that the person does. ``kind`` is "rest", "roll", "press" or "push"; a push has its channel."""

    kind: str
    words: str
    channel: str = ""


@dataclass(frozen=True)
class Proposal:
    """The proposed settings of an axis.

    Attributes
    ----------
    channel : str
    minimum, maximum : float
    centre : (float, float) or None
        None for a trigger.
    reversed : bool
    dead_band : float or None
        The dead band as a fraction; None for a trigger.
    reason : str
        Why, with the numbers.
    """

    channel: str
    minimum: float
    maximum: float
    centre: tuple[float, float] | None
    reversed: bool
    dead_band: float | None
    reason: str


class Calibration:
    """One calibration of a source's sticks and triggers."""

    def __init__(self, channels: tuple[str, ...]) -> None:
        self.axes = tuple(c for c in STICKS if c in channels)
        self.triggers = tuple(c for c in ("left_trigger", "right_trigger") if c in channels)
        self.phases: list[Phase] = []
        if self.axes:
            self.phases = [
                Phase("rest", "Let go of everything, hands off."),
                Phase("roll", "Roll each stick all round along its rim, twice."),
                Phase("rest", "Let go again, and leave it."),
            ]
        if self.triggers:
            self.phases.append(Phase("press", "Press each trigger all the way down, and let go."))
        for c in self.axes:
            way = "forward, away from you" if c.endswith("y") else "to the right"
            self.phases.append(Phase("push", f"Push this one {way}, and hold it: {describe_channel(c)}.", c))
        self.at = 0
        self._rest: dict[str, list[float]] = {}
        self._noise: dict[str, float] = {}
        self._ends: dict[str, tuple[float, float]] = {}
        self._reversed: dict[str, bool] = {}

    @property
    def phase(self) -> Phase | None:
        """The present instruction; None when all is done."""
        return self.phases[self.at] if self.at < len(self.phases) else None

    def problem(self, travel: Mapping[str, Measured]) -> str:  # noqa: PLR0911 - a sentence for each thing that may be wrong
        """Return why this phase is not done yet; empty if it is."""
        phase = self.phase
        if phase is None:
            return ""
        wanted = self.triggers if phase.kind == "press" else self.axes
        for c in wanted:
            if c not in travel or travel[c].readings < MIN_READINGS:
                return "not enough readings yet"
            way = travel[c].high - travel[c].low
            if phase.kind == "rest" and (held := self._held(c, travel[c])):
                return held
            if phase.kind == "roll" and way < MIN_WAY:
                return f"{c} has moved by {way:.2f} of 2.00; roll it all round"
            if phase.kind == "press" and way < MIN_WAY / 2:
                return f"{c} has moved by {way:.2f} of 1.00; press it down"
        if phase.kind == "push":
            moved = self._pushed(travel)
            if moved == "":
                return "nothing has moved far enough"
            if moved != phase.channel:
                return f"{moved} moves; move {phase.channel} instead"
        return ""

    def _held(self, c: str, travel: Measured) -> str:
        """Return why a stick does not count as let go: it stands far from the middle, of its way once that is known; or it is moved."""
        low, high = self._ends.get(c, (-1.0, 1.0))
        share = (travel.mean - low) / max(high - low, 1e-9) * 2 - 1
        if abs(share) > LARGEST_REST:
            own = "" if c in self._ends else "; if no one touches it, the range of its readings is described wrongly"
            return f"{c} reads {travel.mean:+.2f}: let go of it{own}"
        if travel.noise > LARGEST_TREMBLE:
            return f"{c} is moving: let go of it"
        return ""

    def _pushed(self, travel: Mapping[str, Measured]) -> str:
        ways = {c: abs(travel[c].now - self._middle(c)) for c in self.axes}
        best = max(ways, key=lambda c: ways[c])
        return best if ways[best] > MIN_WAY / 2 else ""

    def _middle(self, channel: str) -> float:
        low, high = self._rest[channel]
        return (low + high) / 2

    def take(self, travel: Mapping[str, Measured]) -> None:
        """Take what was measured in this phase, and go on to the next; `problem` has said that it will do."""
        phase = self.phase
        if phase is None:
            return
        if phase.kind == "rest":
            for c in self.axes:
                t, had = travel[c], self._rest.get(c)
                low, high = t.mean - t.noise / 2, t.mean + t.noise / 2
                self._rest[c] = [min(low, had[0]), max(high, had[1])] if had else [low, high]
                self._noise[c] = max(t.noise, self._noise.get(c, 0.0))
        elif phase.kind in ("roll", "press"):
            for c in self.axes if phase.kind == "roll" else self.triggers:
                self._ends[c] = (travel[c].low, travel[c].high)
        else:
            rose = travel[phase.channel].now > self._middle(phase.channel)
            # pushed away a stick reads less, and to the right more
            self._reversed[phase.channel] = rose == phase.channel.endswith("y")
        self.at += 1

    def proposals(self) -> list[Proposal]:
        """Return what each axis should be, once every phase is done."""
        return [self._stick(c) for c in self.axes] + [self._trigger(c) for c in self.triggers]

    def _stick(self, c: str) -> Proposal:
        low, high = self._ends[c]
        taken = TAKEN_IN * (high - low)
        low, high = low + taken, high - taken
        noise = self._noise[c]
        rest = (max(low + taken, self._rest[c][0] - noise / 2), min(high - taken, self._rest[c][1] + noise / 2))
        half = min(rest[0] - low, high - rest[1])
        share = noise / half
        dead_band = max(MIN_DEAD_BAND, math.ceil(NOISES * share * 100 - 1e-9) / 100)
        reason = f"its noise at rest is {noise:.4f}, {share * 100:.1f} % of half its way: "
        reason += (
            f"three times that is {dead_band:.0%}" if dead_band > MIN_DEAD_BAND else f"{MIN_DEAD_BAND:.0%} is enough"
        )
        return Proposal(
            c,
            round(low, 4),
            round(high, 4),
            (round(rest[0], 4), round(rest[1], 4)),
            self._reversed[c],
            dead_band,
            reason,
        )

    def _trigger(self, c: str) -> Proposal:
        low, high = self._ends[c]
        taken = TAKEN_IN * (high - low)
        return Proposal(
            c, round(low + 2 * taken, 4), round(high - taken, 4), None, False, None, "from let go to all the way down"
        )


def changes_of(rig: Rig, source: str, proposals: list[Proposal]) -> list[tuple[str, object]]:
    """Return the keys of the rig and their new values. A source of the rig gets a calibration of its own, others share
    [axes].
    """
    found: list[tuple[str, object]] = []
    for p in proposals:
        if source in rig.sources:
            place = f"sources.{source}.axes.{p.channel}"
        else:
            name = next((n for n, a in rig.axes.items() if (a.channel or n) == p.channel), p.channel)
            place = f"axes.{name}"
        found += [(f"{place}.minimum", p.minimum), (f"{place}.maximum", p.maximum)]
        if p.centre is not None:
            found.append((f"{place}.centre", list(p.centre)))
        if p.reversed or rig.axis_of(source, p.channel).reversed:
            found.append((f"{place}.reversed", p.reversed))
        if p.dead_band is not None:
            found += [
                (f"{rig.shaping.key(role)}.dead_band", f"{p.dead_band * 100:.0f} %")
                for role, axis in rig.law.axes().items()
                if rig.channel(axis) == p.channel and rig.axis(axis).source in ("chosen", source)
            ]
    return found
