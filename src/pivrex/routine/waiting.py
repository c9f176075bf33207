"""Whether what a routine waits for has come."""

from __future__ import annotations

from math import inf

from pivrex.routine.planning import number
from pivrex.routine.program import Limit
from pivrex.routine.thread import Blocked
from pivrex.routine.values import Seen
from pivrex.routine.world import World

__all__ = ["has_come", "limit_tick"]

STEADY_TICKS = 6
"""So many ticks in a row a robot must rest."""

STUCK_TICKS, STUCK_SHARE = 15, 1 / 35
"""What is driven against its stop is there once it has come no farther than this share of its `Reach.near` for so long; the way to
a real robot and back takes some of it.
"""


def has_come(b: Blocked, i: int, n: int, world: World, moved: bool) -> bool:  # noqa: PLR0911 - a case for each kind of waiting
    """Tell whether what robot ``i`` waits for has come by tick ``n``; ``moved`` says that its motion came to its end."""
    match b.kind:
        case "motion":
            return moved or not world.moving(i)
        case "time":
            return n >= b.until_n
        case "there":
            return world.there(i, b.name)
        case "zero":
            return world.zeroed(i)
        case "settle":
            b.still = b.still + 1 if world.rests(i) else 0
        case "home":
            at = world.angle(i, b.name)
            if not abs(at - b.last) < STUCK_SHARE * world.reach(b.name).near:
                b.still, b.last = 0, at
            b.still += 1
            return b.still > STUCK_TICKS
        case _:
            return False
    return b.still >= STEADY_TICKS


def limit_tick(limit: Limit, seen: Seen, n: int, dt_s: float) -> float:
    """Give the tick at which a limit in time is reached; infinite for one that is no time."""
    if limit.most is None or limit.kind.second != 1:
        return inf
    return n + max(0, round(number(limit.most, seen, "the limit") / dt_s))
