"""A routine on a board, as kernels: a table of steps, and its progress from tick to tick.

They do what `pivrex.routine.interpreter` does on the desktop, with numbers alone.
"""

from __future__ import annotations

from pivrex.board.steps.actions import act, end_homing, end_motion, rest_motion
from pivrex.board.steps.values import evaluate, pop
from pivrex.board.steps.words import (
    AT_ONCE,
    BASE_BEFORE,
    BLOCKED,
    CALL,
    COUNT,
    DRIVE,
    END,
    ENDED,
    FORK,
    FREE,
    GIVE,
    GOES,
    HEADER,
    HOME,
    JUMP,
    LIMIT,
    NEXT,
    OF_ALL,
    OF_GYRO,
    OF_LIMITED_MOTION,
    OF_ONE,
    OF_REST,
    OF_STOP,
    OF_TIME,
    RESULT_INTO,
    RETURNS_TO,
    RUN,
    SINCE,
    STOP,
    STORE,
    UNLESS,
    WAIT_WORDS,
    StepTable,
    ThinkScratch,
    Thoughts,
)
from pivrex.kernels.maths import inf, larger, nan, rint, whole
from pivrex.kernels.subset import kernel
from pivrex.line.tick import LineMemory, LineSettings, Tick
from pivrex.line.zeroing import DONE
from pivrex.routine.follows import PlanTable
from pivrex.routine.ticking import RoutineScratch, RoutineSettings, RoutineState, ask_robot, feel_robot, look_robot
from pivrex.routine.watching import STEADY_TICKS, STUCK_TICKS

__all__ = [
    "ask_routine",
    "call_move",
    "drop",
    "drop_children",
    "give_back",
    "go_on",
    "go_where",
    "has_come",
    "has_zeroed",
    "have_joined",
    "is_over",
    "keep",
    "leave",
    "pass_threads",
    "start_thread",
    "think",
    "think_routine",
    "wait",
]


@kernel
def start_thread(k: Thoughts, pc: int, base: int, parent: int) -> None:
    """Begin a thread."""
    th = 0
    while th < len(k.state) - 1 and k.state[th] != FREE:
        th += 1
    k.pc[th], k.base[th], k.parent[th] = pc, base, parent
    k.state[th], k.limit[th] = GOES, inf
    k.order[k.many] = th
    k.many = k.many + 1


@kernel
def call_move(m: StepTable, c: ThinkScratch, k: Thoughts, th: int, pc: int) -> int:
    """Begin an own move: behind the frame of what does it; in a branch that shares its frame with others, among its own places."""
    own, base = th * m.depth, k.base[th]
    new = base + m.code[pc + 2] if own <= base < own + m.depth else own
    for i in range(m.code[pc + 3]):
        k.slot[new + HEADER + m.code[pc + 3] - 1 - i] = pop(c)
    k.slot[new + RETURNS_TO], k.slot[new + BASE_BEFORE] = 1.0 * (pc + 5), 1.0 * base
    k.slot[new + RESULT_INTO] = 1.0 * m.code[pc + 4]
    k.base[th] = new
    return m.code[pc + 1]


@kernel
def give_back(c: ThinkScratch, k: Thoughts, th: int) -> int:
    """Go back to where an own move was done, with what it gives."""
    value, base = pop(c), k.base[th]
    before, into = whole(k.slot[base + BASE_BEFORE]), whole(k.slot[base + RESULT_INTO])
    if into >= 0:
        k.slot[before + into] = value
    k.base[th] = before
    return whole(k.slot[base + RETURNS_TO])


@kernel
def go_where(m: StepTable, c: ThinkScratch, k: Thoughts, th: int, pc: int) -> int:
    """Do a step that only says where to go on; returns where."""
    does, place, base = m.code[pc], m.code[pc + 1], k.base[th]
    if does == JUMP:
        return place
    if does == UNLESS:
        return pc + 2 if pop(c) > 0.0 else place
    if m.has[NEXT] and does == NEXT:
        k.slot[base + place] = k.slot[base + place] - 1.0
        return m.code[pc + 2] if k.slot[base + place] < 0.0 else pc + 3
    if m.has[CALL] and does == CALL:
        return call_move(m, c, k, th, pc)
    if m.has[GIVE] and does == GIVE:
        return give_back(c, k, th)
    if m.has[FORK]:
        for i in range(place):
            start_thread(k, m.code[pc + 2 + i], base, th)
    return pc + 2 + place


@kernel
def keep(m: StepTable, c: ThinkScratch, k: Thoughts, th: int, pc: int) -> int:
    """Do a step that keeps a value, or ends something; returns where the next one stands."""
    does, place, base = m.code[pc], m.code[pc + 1], k.base[th]
    if m.has[STORE] and does == STORE:
        k.slot[base + place] = pop(c)
        return pc + 2
    if m.has[COUNT] and does == COUNT:
        k.slot[base + place] = rint(pop(c))
        return pc + 2
    if m.has[END] and does == END:
        k.state[th] = ENDED
    elif m.has[STOP] and does == STOP:
        k.ended = True
    else:
        k.fault = place
    return pc + 1


@kernel
def wait(m: StepTable, s: RoutineSettings, c: ThinkScratch, v: RoutineState, k: Thoughts, th: int, pc: int) -> int:
    """Do a step that waits, or says for how long; returns where the next one stands."""
    does = m.code[pc]
    if m.has[SINCE] and does == SINCE:
        k.since[th] = v.seen.n + larger(0.0, rint(pop(c) / s.dt))
        return pc + 1
    if m.has[LIMIT] and does == LIMIT:
        k.limit[th] = v.seen.n + larger(0.0, rint(pop(c) / s.dt))
        return pc + 1
    k.state[th] = BLOCKED
    if m.waits[OF_REST] and m.code[pc + 1] == OF_REST:
        k.since[th] = v.seen.n + STEADY_TICKS
    return pc


@kernel
def go_on(
    m: StepTable, s: RoutineSettings, c: ThinkScratch, v: RoutineState, k: Thoughts, t: Tick, after: LineMemory, th: int, most: int
) -> int:  # fmt: skip
    """Do a thread's steps until one takes time; returns how many were done."""
    used = 0
    c.top = 0
    while used < most and k.state[th] == GOES and not k.ended and k.fault == 0:
        used += 1
        pc = evaluate(m, c, v, k, t, k.pc[th], k.base[th])
        does = m.code[pc]
        if k.fault > 0:
            k.pc[th] = pc
        elif does < STORE:
            k.pc[th] = go_where(m, c, k, th, pc)
        elif does < SINCE:
            k.pc[th] = keep(m, c, k, th, pc)
        elif does < DRIVE:
            k.pc[th] = wait(m, s, c, v, k, th, pc)
        else:
            k.pc[th] = act(m, s, c, v, k, t, after, pc)
    return used


@kernel
def has_zeroed(v: RoutineState, k: Thoughts) -> bool:
    """Return whether the gyro has been zeroed; then its heading is kept again."""
    if v.seen.column[len(v.seen.column) - 1] != DONE or not v.seen.n > k.zero_requested:
        return False
    if not v.profile.active:
        rest_motion(v.profile, nan, v.gyro)
    return True


@kernel
def have_joined(k: Thoughts, th: int, one: bool) -> bool:
    """Return whether what a thread began has ended: all of it, or one is enough."""
    some, every = False, True
    for i in range(k.many):
        if k.parent[k.order[i]] == th:
            some = some or k.state[k.order[i]] == ENDED
            every = every and k.state[k.order[i]] == ENDED
    return some if one else every


@kernel
def has_come(  # noqa: PLR0911 - a case for each kind of waiting
    m: StepTable, s: RoutineSettings, v: RoutineState, k: Thoughts, t: Tick, th: int, what: int, a: int
) -> bool:
    """Return whether what a thread waits for has come by itself."""
    if what < OF_TIME:
        return v.came or not v.profile.active
    if m.waits[OF_TIME] and what == OF_TIME:
        return v.seen.n >= k.since[th]
    if m.waits[OF_GYRO] and s.has_zeroing and what == OF_GYRO:
        return has_zeroed(v, k)
    if m.waits[OF_REST] and what == OF_REST:
        return v.seen.n >= k.since[th] and v.seen.rested >= STEADY_TICKS
    if m.has[HOME] and what == OF_STOP:
        return v.attached.stuck[a] > STUCK_TICKS
    if m.has[FORK] and what >= OF_ALL:
        return have_joined(k, th, what == OF_ONE)
    return False


@kernel
def leave(m: StepTable, v: RoutineState, k: Thoughts, t: Tick, th: int, found: bool) -> None:
    """Undo what a thread's step began that waits: a motor that runs, an attachment that is driven against its stop."""
    what, a = m.code[k.pc[th] + 1], m.code[k.pc[th] + 2]
    if m.has[HOME] and what == OF_STOP:
        end_homing(v, t, a, found)
    elif m.has[RUN] and what == OF_TIME and a >= 0:
        v.attached.share[a] = 0.0
    k.limit[th] = inf


@kernel
def drop(m: StepTable, v: RoutineState, k: Thoughts, t: Tick, th: int) -> None:
    """End a thread, whatever it does."""
    if k.state[th] == BLOCKED:
        if m.code[k.pc[th] + 1] < OF_TIME:
            end_motion(v, False)
        leave(m, v, k, t, th, False)
    k.state[th] = FREE


@kernel
def drop_children(m: StepTable, v: RoutineState, k: Thoughts, t: Tick, th: int) -> None:
    """End what a thread began, and what that began: each stands behind what began it."""
    for i in range(k.many):
        own = k.order[i]
        by = k.parent[own]
        if by >= 0 and (by == th or k.state[by] == FREE):
            drop(m, v, k, t, own)
    left, at, last = 0, k.at, k.last
    for i in range(k.many):
        own = k.order[i]
        k.order[left] = own
        if k.state[own] != FREE:
            left += 1
        else:
            at -= 1 if i < k.at else 0
            last -= 1 if i < k.last else 0
    k.many, k.at, k.last = left, at, last


@kernel
def is_over(m: StepTable, s: RoutineSettings, c: ThinkScratch, v: RoutineState, k: Thoughts, t: Tick, th: int) -> bool:
    """Return whether what a thread waits for has come, or its limit has; then it goes on."""
    pc = k.pc[th]
    what = m.code[pc + 1]
    come, limited = has_come(m, s, v, k, t, th, what, m.code[pc + 2]), False
    if not come and m.code[pc + 5] > 0:
        c.top = 0
        evaluate(m, c, v, k, t, pc + WAIT_WORDS, k.base[th])
        come = c.stack[0] > 0.0 and k.fault == 0
        if come and what < OF_TIME:
            end_motion(v, False)
    elif come and what < OF_TIME:
        limited = what == OF_LIMITED_MOTION
        end_motion(v, True)
    if k.fault > 0:
        return False
    if not come and v.seen.n >= k.limit[th]:
        come, limited = True, True
        if what < OF_TIME:
            end_motion(v, False)
    if not come:
        return False
    if m.has[FORK] and what >= OF_ALL:
        drop_children(m, v, k, t, th)
    leave(m, v, k, t, th, not limited)
    k.state[th], k.pc[th] = GOES, m.code[pc + 4] if limited else m.code[pc + 3]
    return True


@kernel
def pass_threads(
    m: StepTable, s: RoutineSettings, c: ThinkScratch, v: RoutineState, k: Thoughts, t: Tick, after: LineMemory, first: bool, most: int
) -> int:  # fmt: skip
    """Let each thread go on that may; returns how many steps were done."""
    used = 0
    k.at, k.last = 0, k.many
    while k.at < k.last and not k.ended and k.fault == 0:
        th = k.order[k.at]
        k.at = k.at + 1
        # a motion that began in this tick has no measurement yet; only threads that wait for others may continue
        if (
            k.state[th] == BLOCKED and (first or m.code[k.pc[th] + 1] >= OF_ALL) and is_over(m, s, c, v, k, t, th)
        ) or k.state[th] == GOES:
            used += go_on(m, s, c, v, k, t, after, th, most - used)
    return used


@kernel
def think(
    m: StepTable, s: RoutineSettings, c: ThinkScratch, v: RoutineState, k: Thoughts, t: Tick, after: LineMemory
) -> None:
    """Go on with the routine as far as may be in this tick."""
    if k.many == 0:
        start_thread(k, 0, 0, -1)
    left, used, first = AT_ONCE, 1, True
    while used > 0 and left > 0 and not k.ended and k.fault == 0:
        used = pass_threads(m, s, c, v, k, t, after, first, left)
        left -= used
        first = False
    if k.state[0] == ENDED or k.fault > 0:
        k.ended = True
    if k.ended:
        end_motion(v, False)


@kernel
def ask_routine(
    s: RoutineSettings, line: LineSettings, c: RoutineScratch, p: PlanTable, v: RoutineState, k: Thoughts, t: Tick
) -> None:
    """Write what the routine asks for in this tick, while it drives."""
    if k.on:
        ask_robot(s, line, c, p, v, t)


@kernel
def think_routine(
    m: StepTable, s: RoutineSettings, line: LineSettings, c: RoutineScratch, w: ThinkScratch, p: PlanTable, v: RoutineState, k: Thoughts,
    t: Tick, after: LineMemory,
) -> None:  # fmt: skip
    """Take in the tick that was made, and go on, while the routine drives."""
    if k.on and not k.ended:
        feel_robot(s, line, p, v, t)
        look_robot(s, line, c, v, t)
        think(m, s, w, v, k, t, after)
