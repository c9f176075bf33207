"""A plan: the pose and speed of a robot at each moment of a path, its mistakes, and the limit that is active at each place."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import groupby
from typing import Any, NamedTuple

import numpy as np

from pivrex.line.stage import Floats
from pivrex.path.bounds import Bounds, bounds_of, twist_along
from pivrex.path.clearance import Clearance, clearance
from pivrex.path.curve import Curve, curve_of
from pivrex.path.looking import Looking, looking
from pivrex.path.points import Path
from pivrex.path.timing import TimeLaw, time_law
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig

__all__ = ["Moment", "Plan", "Stretch", "plan_of", "troubles"]

CUSP = 0.05
"""A curve that goes by its points this much slower than by chords turns on the spot."""

MAX_BEND_PER_M = 50.0


class Moment(NamedTuple):
    """Where the plan is: a float each, or an array for each robot of a batch.

    Attributes
    ----------
    x, y, heading, angle : float
        In m and rad; the angle is the curve's direction.
    forward, left, turn : float
        The twist of the robot that looks as planned, in m/s and rad/s.
    s, speed : float
        The way, in m, and how fast, in m/s.
    """

    x: Any
    y: Any
    heading: Any
    angle: Any
    forward: Any
    left: Any
    turn: Any
    s: Any
    speed: Any


class Stretch(NamedTuple):
    """From where to where on a path, in m, something holds."""

    from_m: float
    to_m: float
    what: str


@dataclass(frozen=True, eq=False)
class Plan:
    """A path with its curve, its headings and its time law.

    Attributes
    ----------
    path : Path
    curve : Curve
    looks : Looking
    bounds : Bounds
    law : TimeLaw
    """

    path: Path
    curve: Curve
    looks: Looking
    bounds: Bounds
    law: TimeLaw

    @property
    def length_m(self) -> float:
        return self.curve.length_m

    @property
    def time_s(self) -> float:
        return self.law.time_s

    @property
    def poses(self) -> Floats:
        """Where it goes, (N, 3)."""
        return np.stack((self.curve.x, self.curve.y, self.looks.heading), axis=1)

    def _table(self) -> Floats:
        found = self.__dict__.get("_made")
        if found is None:
            along, _ = twist_along(self.curve, self.looks)
            found = np.stack((self.curve.s, *self.poses.T, self.curve.angle, *along.T), axis=1)
            object.__setattr__(self, "_made", found)
        return found

    def at(self, t: Floats | float) -> Moment:
        """Return where the plan is at times from its beginning, B in s: before it at its start, after it at its end, at rest.

        Between two places the path acceleration is constant, so the way is s + v·τ + a·τ²/2.
        """
        law, table = self.law, self._table()
        t = np.minimum(np.maximum(t, 0.0), law.time_s)
        i = np.minimum(np.maximum(np.searchsorted(law.t, t, side="right") - 1, 0), len(law.t) - 2)
        tau = t - law.t[i]
        step = law.t[i + 1] - law.t[i]
        v0, v1 = law.speed[i], law.speed[i + 1]
        a = np.where(step > 0, (v1 - v0) / np.where(step > 0, step, 1.0), 0.0)
        speed, gone = v0 + a * tau, v0 * tau + 0.5 * a * tau * tau
        whole = table[i + 1, 0] - table[i, 0]
        share = np.where(whole > 0, gone / np.where(whole > 0, whole, 1.0), 0.0)
        row = table[i] + (table[i + 1] - table[i]) * share[..., None]
        s, x, y, heading, angle, along, left, turn = np.moveaxis(row, -1, 0)
        return Moment(x, y, heading, angle, along * speed, left * speed, turn * speed, s, speed)

    def names(self) -> tuple[str, ...]:
        """Return what each number of the time law's ``by`` is."""
        return (*self.bounds.cap_names, *self.bounds.rise_names)

    def held_by(self) -> list[Stretch]:
        """Return which bound holds it where, from the start to the end."""
        names = (*self.names(), "nothing")
        return _stretches(self.curve.s, [names[k] for k in self.law.by])

    def clearance(self, rig: Rig, field: Field | None) -> Clearance:
        """Return how far a rig's outline keeps from everything."""
        return clearance(field, rig.chassis.length_m, rig.chassis.width_m, self.poses)


def _stretches(s: Floats, whats: Sequence[str]) -> list[Stretch]:
    found = []
    for what, group in groupby(range(len(whats)), key=lambda i: whats[i]):
        each = list(group)
        found.append(Stretch(float(s[each[0]]), float(s[min(each[-1] + 1, len(s) - 1)]), what))
    return found


def plan_of(path: Path, rig: Rig) -> Plan:
    """Return the plan of a path for a rig.

    Parameters
    ----------
    path : Path
    rig : Rig

    Returns
    -------
    Plan
        Of some paths it cannot be driven: `troubles` says why.
    """
    points = np.array([(p.x_m, p.y_m) for p in path.points])
    known = [p.direction_rad for p in path.points]
    directions = np.array([np.nan if d is None else d for d in known]) if any(d is not None for d in known) else None
    curve = curve_of(points, directions, circles=[(z.x_m, z.y_m, z.radius_m) for z in path.slow])
    looks = looking(path, curve)
    bounds = bounds_of(path, rig, curve, looks)
    return Plan(path, curve, looks, bounds, time_law(curve.s, bounds))


def troubles(plan: Plan, rig: Rig, field: Field | None, floor: str = "") -> list[tuple[bool, str]]:
    """Return what is wrong with a plan: whether it keeps it from being driven, and a sentence with the place.

    ``floor`` is the name of the field, to be held to the one that the path is for.
    """
    found: list[tuple[bool, str]] = []
    path, curve = plan.path, plan.curve
    if path.heading != "along" and not rig.chassis.geometry.can(np.array([0.0, 1.0, 0.0])):
        found.append(
            (True, f'heading is "{path.heading}", but {rig.name} cannot move sideways: it faces along its path')
        )
    tight = (curve.pace < CUSP) | (np.abs(curve.bend) > MAX_BEND_PER_M)
    for stretch in _stretches(curve.s, ["cusp" if here else "" for here in tight.tolist()]):
        if stretch.what:
            k = int(np.searchsorted(curve.s, stretch.from_m))
            after = int(np.searchsorted(curve.of, k, side="right"))
            found.append(
                (
                    True,
                    f"turns on the spot near {curve.x[k]:.2f} m, {curve.y[k]:.2f} m (by point {after}): a cusp; move the point, or "
                    "give it a direction",
                )
            )
    if path.floor and floor and path.floor != floor:
        found.append((True, f'is for the floor "{path.floor}", and this is "{floor}"'))
    kept = plan.clearance(rig, field)
    for stretch in _stretches(
        curve.s, [kept.names[w] if a < 0 else "" for a, w in zip(kept.away, kept.what, strict=True)]
    ):
        if stretch.what:
            inside = (curve.s >= stretch.from_m) & (curve.s <= stretch.to_m)
            k = int(np.flatnonzero(inside)[kept.away[inside].argmin()])
            found.append(
                (
                    False,
                    f"touches {stretch.what} from {stretch.from_m:.2f} m to {stretch.to_m:.2f} m of its way, by {-kept.away[k] * 100:.0f} cm "
                    f"at {curve.x[k]:.2f} m, {curve.y[k]:.2f} m",
                )
            )
    return found
