"""Whether the condition that a routine waits for is true."""

from __future__ import annotations

from math import inf

from pivrex.routine.planning import number
from pivrex.routine.program import Limit
from pivrex.routine.thread import Blocked
from pivrex.routine.values import Seen
from pivrex.routine.watching import STEADY_TICKS, STUCK_TICKS
from pivrex.routine.world import World

__all__ = ["has_come", "limit_tick"]


def has_come(b: Blocked, n: int, world: World, moved: bool) -> bool:  # noqa: PLR0911 - a case for each kind of waiting
    """Return whether what a robot waits for has come by tick ``n``; ``moved`` says that its motion came to its end."""
    match b.kind:
        case "motion":
            return moved or not world.moving()
        case "time":
            return n >= b.until_n
        case "there":
            return world.there(b.name)
        case "zero":
            return world.zeroed()
        case "settle":
            return n >= b.begin + STEADY_TICKS and world.rested() >= STEADY_TICKS
        case "home":
            return world.stuck(b.name) > STUCK_TICKS
    return False


def limit_tick(limit: Limit, seen: Seen, n: int, dt_s: float) -> float:
    """Return the tick at which a limit in time is reached; infinite for one that is no time."""
    if limit.most is None or limit.kind.second != 1:
        return inf
    return n + max(0, round(number(limit.most, seen, "the limit") / dt_s))
