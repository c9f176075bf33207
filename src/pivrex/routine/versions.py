"""Two versions of a routine next to each other: their first difference, which is faster, which is more reliable."""

from __future__ import annotations

from dataclasses import dataclass
from math import degrees, hypot, isnan, nan, radians

import numpy as np

from pivrex.rig.field import Field
from pivrex.routine.motion import wrapped
from pivrex.routine.playing import Play
from pivrex.routine.rehearsal import Rehearsed, reached
from pivrex.routine.thread import StepRecord

__all__ = ["Compared", "Version", "compared"]

APART_M, APART_RAD = 0.01, radians(1)
MORE_RELIABLE = 0.1
"""By this share less standard deviation counts as more reliable."""


@dataclass(frozen=True)
class Version:
    """One of them.

    Attributes
    ----------
    name : str
    time_s : float
        When it ended.
    pose : (3,) of float
        Where the robot came to rest, x and y in m, heading in rad.
    scatter_m : float
        Of the end in drives that differ, one sigma along either direction; NaN where none were made.
    zone : str
        The zone that it reaches most often; empty for none.
    share : float
        How often.
    line : int
        Which of its lines is done where they part; 0 for none.
    """

    name: str
    time_s: float
    pose: tuple[float, float, float]
    scatter_m: float
    zone: str
    share: float
    line: int


@dataclass(frozen=True)
class Compared:
    """Two versions.

    Attributes
    ----------
    at_s : float
        When their robots are first apart by 1 cm or 1 deg; NaN if they never are.
    """

    a: Version
    b: Version
    at_s: float

    @property
    def faster(self) -> str:
        """The name of the one that ends first; empty if they end together."""
        gap = self.a.time_s - self.b.time_s
        return "" if abs(gap) < 0.02 else (self.b if gap > 0 else self.a).name

    @property
    def more_reliable(self) -> str:
        """The name of the one that scatters clearly less; empty if neither does."""
        a, b = self.a.scatter_m, self.b.scatter_m
        if not a + b > 0 or abs(a - b) < MORE_RELIABLE * max(a, b):
            return ""
        return (self.a if a < b else self.b).name

    def sentences(self) -> list[str]:
        """Return the comparison, a sentence each."""
        a, b = self.a, self.b
        if isnan(self.at_s):
            said = ["they drive the same"]
        else:
            said = [
                f"they differ from {self.at_s:.2f} s on, at line {a.line} of {a.name} and line {b.line} of {b.name}"
            ]
        off = hypot(a.pose[0] - b.pose[0], a.pose[1] - b.pose[1])
        turned = abs(degrees(wrapped(a.pose[2] - b.pose[2])))
        said.append(f"they end {off * 100:.0f} cm and {turned:.0f} deg apart")
        if self.faster:
            said.append(
                f"{self.faster} is faster: {min(a.time_s, b.time_s):.1f} s instead of {max(a.time_s, b.time_s):.1f} s"
            )
        else:
            said.append(f"both take {a.time_s:.1f} s")
        if not isnan(a.scatter_m):
            both = ", ".join(
                f"{v.name} ± {v.scatter_m * 100:.1f} cm"
                + (f", in {v.zone} {v.share * 100:.0f} of 100 times" if v.zone else "")
                for v in (a, b)
            )
            said.append(
                f"{self.more_reliable} is more reliable: {both}"
                if self.more_reliable
                else f"neither is more reliable: {both}"
            )
        return said


def _line_at(steps: list[StepRecord], n: int) -> int:
    """Return the line that is done at a tick: the motion's, else any other."""
    there = [s for s in steps if s.begin <= n < max(s.end, s.begin + 1)]
    there = [s for s in there if s.lane == "motion"] or there or [s for s in steps if s.begin <= n][-1:]
    return there[0].line if there else 0


def _scatter(found: Rehearsed | None) -> float:
    return nan if found is None else float(np.sqrt(max(0.0, np.trace(found.covariance[:2, :2]) / 2)))


def compared(
    names: tuple[str, str], plays: tuple[Play, Play], found: tuple[Rehearsed, Rehearsed] | None, field: Field | None
) -> Compared:
    """Compare two plays of one robot, and what came of rehearsals with the same seeds."""
    first, second = plays
    n = min(len(first.poses), len(second.poses))
    off = first.poses[:n] - second.poses[:n]
    apart = (np.hypot(off[:, 0], off[:, 1]) > APART_M) | (np.abs((off[:, 2] + np.pi) % (2 * np.pi) - np.pi) > APART_RAD)
    part = int(np.argmax(apart)) if apart.any() else -1
    made = []
    for k, (name, play) in enumerate(zip(names, plays, strict=True)):
        rehearsed = found[k] if found is not None else None
        shares = reached(rehearsed, field) if rehearsed is not None and field is not None else {}
        zone, share = max(shares.items(), key=lambda one: one[1], default=("", 0.0))
        x, y, heading = (float(v) for v in play.pose)
        line = _line_at(play.steps, max(0, part - 1)) if part >= 0 else 0
        made.append(
            Version(name, play.time_s, (x, y, heading), _scatter(rehearsed), zone if share > 0 else "", share, line)
        )
    return Compared(made[0], made[1], part * first.dt_s if part >= 0 else nan)
