"""The values of a routine on a board, as kernels: expressions and conditions."""

from __future__ import annotations

from pivrex.board.steps.words import (
    ANGLE_OF,
    AWAY,
    BY_NOTHING,
    BY_ROOT,
    BY_ZERO,
    CASE,
    CHECK,
    COSINE,
    DROP,
    GOAL,
    HEARS,
    IF_FINITE,
    JUMP,
    LOCAL,
    LOOKS,
    OR_ELSE,
    OWN,
    OWN_DRIVE,
    PLACE,
    SINE,
    THERE,
    WRAP,
    StepTable,
    ThinkScratch,
    Thoughts,
)
from pivrex.kernels.maths import atan2, cos, hypot, is_nan, mod, nan, pi, sin
from pivrex.kernels.subset import kernel
from pivrex.line.tick import Tick
from pivrex.routine.ticking import RoutineState
from pivrex.routine.watching import (
    ANGLE,
    COLUMN,
    NEGATIVE,
    OVER,
    PLUS,
    POSE,
    ROOT,
    SAME,
    SENSOR,
    TIME,
    changed,
    is_finite,
    joined,
)

__all__ = [
    "attached_at",
    "evaluate",
    "fail",
    "goal_of",
    "is_there",
    "jumps",
    "looks_at",
    "own_change",
    "own_value",
    "pop",
    "wrapped",
]


@kernel
def wrapped(angle: float) -> float:
    """Return an angle within (-π, π]."""
    return pi - mod(pi - angle, 2.0 * pi)


@kernel
def attached_at(v: RoutineState, t: Tick, a: int) -> float:
    """Return where an attachment is, as it is called from now on."""
    first = len(t.sensed.readings) + len(t.sensed.battery)
    return v.attached.called[a] if v.attached.is_called[a] else v.seen.column[first + a]


@kernel
def goal_of(v: RoutineState, t: Tick, a: int) -> float:
    """Return where an attachment was sent last; where it is, if it never was."""
    return attached_at(v, t, a) if is_nan(v.attached.goal[a]) else v.attached.goal[a]


@kernel
def looks_at(v: RoutineState) -> float:
    """Return the direction of the field that the robot must look in; its heading where it holds none."""
    if v.profile.keep and is_finite(v.profile.course):
        return v.seen.pose[2] + v.profile.course - v.measured.heading
    return v.seen.pose[2]


@kernel
def own_value(m: StepTable, v: RoutineState, k: Thoughts, t: Tick, does: int, place: int, base: int) -> float:  # noqa: C901, PLR0911 - a case for each value
    """Return the value that a step puts on the stack."""
    if m.has[COLUMN] and does == COLUMN:
        return v.seen.column[place]
    if m.has[SENSOR] and does == SENSOR:  # a sensor without a value gives 0
        return v.seen.column[place] if v.seen.column[place] > 0.0 else nan
    if m.has[HEARS] and does == HEARS:
        return v.seen.column[place] if v.seen.column[place] > 0.0 and not k.off[place] else nan
    if m.has[TIME] and does == TIME:
        return v.seen.time
    if m.has[POSE] and does == POSE:
        return v.seen.pose[place]
    if m.has[ANGLE] and does == ANGLE:
        return wrapped(v.seen.pose[2])
    if m.has[LOCAL] and does == LOCAL:
        return k.slot[base + place]
    if m.has[GOAL] and does == GOAL:
        return goal_of(v, t, place)
    if m.has[PLACE] and does == PLACE:
        return attached_at(v, t, place)
    if m.has[LOOKS] and does == LOOKS:
        return looks_at(v)
    if m.has[OWN] and does == OWN:
        return k.drive if place == OWN_DRIVE else k.turn
    return m.value[place]


@kernel
def is_there(v: RoutineState, t: Tick, a: int, near: float) -> bool:
    """Return whether an attachment is where it was sent, as near as that."""
    if v.attached.ticks[a] > 0 or not is_nan(v.attached.sent[a]):
        return False
    return abs(attached_at(v, t, a) - goal_of(v, t, a)) < near


@kernel
def own_change(m: StepTable, does: int, a: float) -> float:
    """Return what a step that no watch knows makes of one value."""
    if m.has[WRAP] and does == WRAP:
        return wrapped(a)
    if m.has[COSINE] and does == COSINE:
        return cos(a)
    return sin(a) if m.has[SINE] else nan


@kernel
def jumps(does: int, a: float) -> bool:
    """Return whether a value decides already, so that the rest of its expression is passed over."""
    if does == IF_FINITE:
        return is_finite(a)
    return a > 0.0 if does == OR_ELSE else not a > 0.0


@kernel
def fail(k: Thoughts, why: int) -> None:
    """End the routine too early; what went wrong first counts."""
    if k.fault == 0:
        k.fault = why


@kernel
def evaluate(m: StepTable, c: ThinkScratch, v: RoutineState, k: Thoughts, t: Tick, begin: int, base: int) -> int:  # noqa: C901, PLR0912 - a case for each step
    """Compute the values that stand from there on; returns where the next step stands."""
    pc = begin
    while m.code[pc] < JUMP:
        does, place = m.code[pc], m.code[pc + 1]
        if does < NEGATIVE or LOCAL <= does < WRAP:
            c.stack[c.top] = own_value(m, v, k, t, does, place, base)
            c.top = c.top + 1
            pc += 2
        elif m.changes and does < PLUS:
            if m.has[ROOT] and does == ROOT and c.stack[c.top - 1] < 0.0:
                fail(k, BY_ROOT)
            c.stack[c.top - 1] = changed(does, c.stack[c.top - 1])
            pc += 1
        elif m.joins and does < LOCAL:
            c.top = c.top - 1
            if m.has[OVER] and does == OVER and c.stack[c.top] == 0.0:
                fail(k, BY_ZERO)
            c.stack[c.top - 1] = joined(does, c.stack[c.top - 1], c.stack[c.top])
            pc += 1
        elif m.turns and does < THERE:
            c.stack[c.top - 1] = own_change(m, does, c.stack[c.top - 1])
            pc += 1
        elif m.has[THERE] and does == THERE:
            c.stack[c.top - 1] = 1.0 if is_there(v, t, place, c.stack[c.top - 1]) else 0.0
            pc += 2
        elif m.measures and does < CHECK:
            c.top = c.top - 1
            y, x = c.stack[c.top - 1], c.stack[c.top]
            if m.has[ANGLE_OF] and does == ANGLE_OF:
                c.stack[c.top - 1] = atan2(y, x)
            elif m.has[AWAY]:
                c.stack[c.top - 1] = hypot(y, x)
            pc += 1
        elif m.has[CHECK] and does == CHECK:
            if not is_finite(c.stack[c.top - 1]):
                fail(k, BY_NOTHING)
            pc += 1
        elif m.has[CASE] and does == DROP:
            c.top = c.top - 1
            pc += 1
        elif m.has[CASE] and does == CASE and not abs(c.stack[c.top - 1] - m.value[place]) < SAME:
            pc += 3
        elif m.has[CASE] and does == CASE:
            c.top = c.top - 1
            pc = m.code[pc + 2]
        elif m.jumps and jumps(does, c.stack[c.top - 1]):
            pc = place
        else:
            c.top = c.top - 1
            pc += 2
    return pc


@kernel
def pop(c: ThinkScratch) -> float:
    """Return the last value, and take it away."""
    c.top = c.top - 1
    return c.stack[c.top]
