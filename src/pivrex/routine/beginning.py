"""Begins a step that takes time, and says what it waits for."""

from __future__ import annotations

from math import nan

from pivrex.routine.planning import number
from pivrex.routine.program import (
    AttachStep,
    HomeStep,
    Instruction,
    MarkStep,
    MotionStep,
    RunStep,
    SettleStep,
    WaitForStep,
    WaitStep,
    WaitUntilStep,
    ZeroStep,
)  # fmt: skip
from pivrex.routine.thread import Blocked
from pivrex.routine.values import Seen
from pivrex.routine.waiting import limit_tick
from pivrex.routine.world import World

__all__ = ["begin_step"]

MARK_TICKS = 3
"""After so many ticks a belief is what a mark made of it."""


def begin_step(  # noqa: C901, PLR0911 - a case for each step
    step: Instruction, n: int, world: World, seen: Seen, code: str, dt_s: float
) -> tuple[Blocked | None, str]:
    """Begin a step in tick ``n``; returns what it waits for, None for what is done at once, and its lane.

    Raises `FaultError`.
    """

    def after(seconds: float) -> float:
        return n + max(0, round(seconds / dt_s))

    limit = getattr(step, "limit", None)
    late = limit_tick(limit, seen, n, dt_s) if limit is not None else 0.0
    match step:
        case MotionStep():
            far = step.limit.most is not None and step.limit.kind.second != 1
            limited = far or (step.until is not None and step.amount is not None)
            world.begin_motion(step, seen, code)
            return Blocked(
                "motion", -1, cond=step.until, limit=step.limit, limit_n=late, far_is_limit=limited
            ), "motion"
        case WaitStep():
            seconds = world.slowed(code, number(step.time, seen, "how long"))
            return Blocked("time", -1, until_n=after(seconds)), "wait"
        case WaitUntilStep():
            return Blocked("until", -1, cond=step.until, limit=step.limit, limit_n=late), "sense"
        case WaitForStep():
            return Blocked("there", -1, name=step.name, limit=step.limit, limit_n=late), "wait"
        case SettleStep():
            return Blocked("settle", -1, begin=n, limit=step.limit, limit_n=late), "motion"
        case AttachStep():
            over = nan if step.over is None else number(step.over, seen, "over how long")
            world.move(step, number(step.value, seen, "where it goes"), over, n, code)
            waits = step.waits or world.is_slowed(code)
            return (Blocked("there", -1, name=step.name, limit=step.limit, limit_n=late) if waits else None), step.name
        case RunStep():
            world.run(step.name, number(step.share, seen, "the share"))
            if step.time is None:
                return None, step.name
            seconds = world.slowed(code, number(step.time, seen, "how long"))
            return Blocked("time", -1, until_n=after(seconds), name=step.name), step.name
        case ZeroStep():
            world.zero(step.what)
            return (Blocked("zero", -1, name=step.what) if step.what == "gyro" else None), "sense"
        case MarkStep():
            return Blocked("time", -1, until_n=n + MARK_TICKS, mark=world.mark(step.side, step.sensor)), "sense"
        case HomeStep():
            as_ = 0.0 if step.as_ is None else number(step.as_, seen, "what it is called")
            world.home(step.name, number(step.share, seen, "the share"), as_)
            return Blocked("home", -1, name=step.name, limit=step.limit, limit_n=late), step.name
    raise TypeError(f"unknown step {step!r}")
