"""Wheels that run at shares of their top speed until each has rolled its distance by its own encoder, as kernels."""

from __future__ import annotations

from pivrex.kernels.maths import div, inf, larger
from pivrex.kernels.records import Flags, Number, Numbers, Record
from pivrex.kernels.records import field as of_size
from pivrex.kernels.subset import kernel
from pivrex.routine.profile import ProfileSettings, ProfileState

__all__ = ["WheelDistances", "feel_wheels", "give_wheels"]

BIT_M = 0.0015
"""How near a wheel is where it must roll to."""

ROLLS_M_S, MIN_M_S = 0.08, 0.03
"""A wheel that rolls faster rolls out; what brings it the last bit is no slower than this."""

SLOW_M_S = 0.002
"""A wheel that rolls no faster stands."""


class WheelDistances(Record):
    """How far each wheel must roll whose motion gives it a share.

    Attributes
    ----------
    share : of its top speed
    far : how far it must roll, in m; infinite for one that ends by something else
    gone : how far it has, along its share
    speed : how fast it rolls along its share
    at : what its encoder says, in m
    commanded : the share of the last tick
    ended : whether its last bit has begun
    stands : for how long none rolls, or none must
    """

    share: Numbers = of_size("wheels")
    far: Numbers = of_size("wheels", unit="m")
    gone: Numbers = of_size("wheels", unit="m")
    speed: Numbers = of_size("wheels", unit="m/s")
    at: Numbers = of_size("wheels", unit="m")
    commanded: Numbers = of_size("wheels")
    ended: Flags = of_size("wheels")
    stands: Number = of_size(unit="s")


@kernel
def rolls_out(s: ProfileSettings, speed: float, top: float) -> float:
    """Return how far a wheel rolls on that is commanded to stand, in m.

    Notes
    -----
    One that follows with the lag τ rolls on by v·τ. One whose control drives against its speed, with all that its motor has, stops
    after τ·ln(1 + σ), with σ its share of top speed, and rolls τ·top·(σ - ln(1 + σ)), here to the third power. (The motor's own
    equation; own rule.)
    """
    if not s.controlled:
        return speed * s.lag
    share = larger(div(speed, top), 0.0)
    return s.lag * top * share * share * (0.5 - div(share, 3.0))


@kernel
def wheel_share(s: ProfileSettings, w: WheelDistances, k: int) -> float:
    """Return the share of its top speed for a wheel: none once it has rolled so far, or will by itself.

    Notes
    -----
    In each tick in which its command is the speed u it rolls u·dt farther; the command of the tick before is not measured yet. The
    last tick gets what is left. (Own rule; of a first-order lag it is exact.)
    """
    if not w.far[k] < inf:
        return w.share[k]
    each = s.tops[k] * s.dt
    left = w.far[k] - w.gone[k] - rolls_out(s, w.speed[k], s.tops[k]) - abs(w.commanded[k]) * each
    whole = abs(w.share[k]) * each
    if not left > 0.0 or whole == 0.0:
        return 0.0
    return w.share[k] * div(left, whole) if left < whole else w.share[k]


@kernel
def missing_share(s: ProfileSettings, w: WheelDistances, k: int) -> float:
    """Return what brings a wheel that has had its share the last bit, on or back: slowly, and nothing while it still rolls out."""
    missing = w.far[k] - w.gone[k] - rolls_out(s, abs(w.speed[k]), s.tops[k]) * (1.0 if w.speed[k] > 0.0 else -1.0)
    if w.share[k] == 0.0 or abs(missing) < BIT_M or abs(w.speed[k]) > ROLLS_M_S:
        return 0.0
    slow = div(larger(s.creep, MIN_M_S), s.tops[k])
    on = missing * w.share[k] > 0.0
    return slow if on else -slow


@kernel
def give_wheels(s: ProfileSettings, w: WheelDistances, raw: bool) -> None:
    """Return each wheel its share in this tick."""
    for k in range(len(w.share)):
        if not raw:
            w.commanded[k] = 0.0
        elif w.ended[k]:
            w.commanded[k] = missing_share(s, w, k)
        else:
            w.commanded[k] = wheel_share(s, w, k)
            w.ended[k] = abs(w.commanded[k]) < abs(w.share[k])


@kernel
def feel_wheels(s: ProfileSettings, travel: Numbers, speed: Numbers, v: ProfileState, w: WheelDistances) -> bool:
    """Take in how far each wheel has rolled; returns whether all that must have rolled so far, and stand, or none can."""
    counts, rolls, over, last = False, False, True, True
    for k in range(len(w.far)):
        sign = -1.0 if w.share[k] < 0.0 else 1.0
        w.gone[k] += sign * (travel[k] - w.at[k])
        w.at[k], w.speed[k] = travel[k], sign * speed[k]
        counts = counts or w.far[k] < inf
        rolls = rolls or abs(speed[k]) > SLOW_M_S
        over = over and (w.share[k] == 0.0 or (w.ended[k] and missing_share(s, w, k) == 0.0))
        last = last and (w.share[k] == 0.0 or w.ended[k])
    if not (v.active and v.raw and counts):
        return False
    w.stands = w.stands + s.dt if last or not rolls else 0.0
    return (over and not rolls) or w.stands > s.patience
