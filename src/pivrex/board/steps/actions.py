"""The actions of the steps of a routine on a board, as kernels."""

from __future__ import annotations

from pivrex.board.steps.values import attached_at, goal_of, pop, wrapped
from pivrex.board.steps.words import (
    ATTACH,
    CALLED,
    DRIVE,
    GYRO,
    HERE,
    HOME,
    HUSH,
    MOTION,
    RUN,
    SWITCH,
    TURN,
    WHEEL,
    WHEELS,
    ZERO,
    StepTable,
    ThinkScratch,
    Thoughts,
)
from pivrex.kernels.maths import clamp, inf, is_nan, nan, rint, whole
from pivrex.kernels.subset import kernel
from pivrex.line.tick import LineMemory, Tick
from pivrex.line.zeroing import WAITS
from pivrex.routine.profile import ProfileState
from pivrex.routine.ticking import RoutineSettings, RoutineState
from pivrex.routine.watching import is_finite

__all__ = [
    "act",
    "act_attached",
    "attach",
    "begin_homing",
    "begin_motion",
    "call_place",
    "end_homing",
    "end_motion",
    "know_place",
    "rest_motion",
    "take_motion",
    "take_wheels",
    "zero_gyro",
]


@kernel
def rest_motion(p: ProfileState, course: float, keeps: bool) -> None:
    """Let the robot rest; ``course`` is the gyro's heading to keep, NaN for that of its rest. As `pivrex.routine.motion.rest`."""
    p.active, p.raw, p.course, p.keep = False, False, course, keeps


@kernel
def end_motion(v: RoutineState, whole_way: bool) -> None:
    """End the motion; ``whole_way`` says that it came to its end. As `pivrex.routine.motion.end`."""
    p = v.profile
    if not p.active:
        return
    course = p.course + p.turn * (p.target if whole_way else p.ref)
    if not p.held:
        course = nan
    elif not whole_way and p.spins:
        course = v.measured.heading
    rest_motion(p, course, v.gyro)


@kernel
def begin_motion(s: RoutineSettings, v: RoutineState, raw: bool, held: bool) -> None:
    """Begin a motion, whose way and speed stand in the profile already. As `pivrex.routine.motion.begin`."""
    p = v.profile
    if is_nan(p.course) or not held:
        p.course = v.measured.heading
    p.active, p.raw, p.held, p.keep = True, raw, held, held
    p.t, p.way, p.sideways, p.rolled = 0.0, 0.0, 0.0, 0.0
    p.rate = -0.5 * p.rise * s.dt
    p.target, p.ref, p.speed, p.late, p.near, p.stands = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    p.from_x, p.from_y = v.seen.pose[0], v.seen.pose[1]


@kernel
def take_motion(m: StepTable, s: RoutineSettings, c: ThinkScratch, v: RoutineState, pc: int) -> None:
    """Begin the motion of a step: its flags stand in the table, its numbers among the values."""
    p = v.profile
    p.spins, p.field, p.arc = m.code[pc + 1] > 0, m.code[pc + 3] > 0, m.code[pc + 4] > 0
    c.top = c.top - 7
    p.forward, p.left, p.turn = c.stack[c.top], c.stack[c.top + 1], c.stack[c.top + 2]
    p.whole, p.most, p.rise = c.stack[c.top + 3], c.stack[c.top + 4], c.stack[c.top + 5]
    p.time_s = c.stack[c.top + 6]
    held = m.code[pc + 2]
    begin_motion(s, v, False, v.gyro if held > 1 else held > 0)


@kernel
def take_wheels(s: RoutineSettings, c: ThinkScratch, v: RoutineState) -> None:
    """Begin a motion that gives wheels the shares that they have got by now."""
    p = v.profile
    p.spins, p.field, p.arc, p.forward, p.left, p.turn = False, False, False, 0.0, 0.0, 0.0
    p.whole, p.most, p.rise = inf, 0.5, 1.0
    p.time_s = pop(c)
    for i in range(len(v.distances.gone)):
        v.distances.gone[i], v.distances.ended[i] = 0.0, False
    v.distances.stands = 0.0
    begin_motion(s, v, True, False)


@kernel
def know_place(v: RoutineState, after: LineMemory, x: float, y: float, heading: float) -> None:
    """Set the estimated pose of the robot and of its line."""
    v.seen.pose[0], v.seen.pose[1], v.seen.pose[2] = x, y, heading
    v.measured.x, v.measured.y, v.measured.offset = x, y, heading - v.measured.heading
    for i in range(3):
        after.odometry.pose[i] = v.seen.pose[i]
        after.odometry.apart[i] = 0.0


@kernel
def zero_gyro(s: RoutineSettings, v: RoutineState, k: Thoughts, after: LineMemory) -> None:
    """Let the line measure what its gyro says at rest."""
    if not v.profile.active:
        rest_motion(v.profile, nan, False)  # a heading held against a bias turns the robot
    k.zero_requested = v.seen.n
    if s.has_zeroing:
        z = after.zeroing
        z.status, z.readings, z.first, z.second = WAITS, 0.0, 0.0, 0.0


@kernel
def call_place(v: RoutineState, t: Tick, a: int, name: float) -> None:
    """Call the place where an attachment stands otherwise. As `pivrex.routine.hands.Hands.call`."""
    at = attached_at(v, t, a)
    goal, by = goal_of(v, t, a), name - at
    v.attached.goal[a], v.attached.first[a], v.attached.last[a] = (
        goal + by,
        v.attached.first[a] + by,
        v.attached.last[a] + by,
    )
    v.attached.is_called[a], v.attached.called[a] = True, name


@kernel
def attach(s: RoutineSettings, v: RoutineState, t: Tick, a: int, to: float, seconds: float) -> None:
    """Send an attachment somewhere, at once or over a time."""
    before = goal_of(v, t, a)
    v.attached.goal[a], v.attached.ticks[a] = to, 0
    if is_finite(seconds):
        v.attached.ticks[a] = max(1, whole(rint(seconds / s.dt)))
        v.attached.first[a], v.attached.last[a], v.attached.begin[a] = before, to, whole(v.seen.n)
    else:
        v.attached.sent[a] = to


@kernel
def begin_homing(v: RoutineState, a: int, share: float, name: float) -> None:
    """Drive an attachment against its stop."""
    v.attached.goal[a], v.attached.sent[a], v.attached.stuck_at[a] = nan, nan, nan
    v.attached.ticks[a], v.attached.stuck[a], v.attached.homes[a] = 0, 0, True
    v.attached.push[a], v.attached.found_as[a] = share, name


@kernel
def end_homing(v: RoutineState, t: Tick, a: int, found: bool) -> None:
    """Drive an attachment no longer; the place at which its stop was found is called as was said."""
    if v.attached.homes[a]:
        v.attached.homes[a], v.attached.goal[a] = False, attached_at(v, t, a)
        if found:
            call_place(v, t, a, v.attached.found_as[a])


@kernel
def act(  # noqa: PLR0911 - a case for each step
    m: StepTable, s: RoutineSettings, c: ThinkScratch, v: RoutineState, k: Thoughts, t: Tick, after: LineMemory, pc: int
) -> int:
    """Do what a step says of the robot; returns where the next one stands."""
    does, place = m.code[pc], m.code[pc + 1]
    if m.has[MOTION] and does == MOTION:
        take_motion(m, s, c, v, pc)
        return pc + 5
    if m.has[WHEEL] and does == WHEEL:
        v.distances.far[place] = pop(c)
        v.distances.share[place] = pop(c)
        return pc + 2
    if m.has[WHEELS] and does == WHEELS:
        take_wheels(s, c, v)
        return pc + 1
    if m.has[DRIVE] and does == DRIVE:
        k.drive = pop(c)
        return pc + 1
    if m.has[TURN] and does == TURN:
        k.turn = pop(c)
        return pc + 1
    if m.has[HERE] and does == HERE:
        heading = pop(c)
        y = pop(c)
        x = pop(c)
        was = v.seen.pose[2]
        know_place(v, after, x, y, was if is_nan(heading) else was + wrapped(heading - wrapped(was)))
        return pc + 1
    if m.has[ZERO] and does == ZERO:
        zero_gyro(s, v, k, after)
        return pc + 1
    if m.has[GYRO] and does == GYRO:
        v.gyro = place > 0
        return pc + 2
    if m.has[HUSH] and does == HUSH:
        k.off[place] = m.code[pc + 2] > 0
        return pc + 3
    act_attached(m, s, c, v, t, does, place)
    return pc + 2


@kernel
def act_attached(
    m: StepTable, s: RoutineSettings, c: ThinkScratch, v: RoutineState, t: Tick, does: int, a: int
) -> None:
    """Do what a step says of an attachment."""
    if m.has[ATTACH] and does == ATTACH:
        seconds = pop(c)
        to = pop(c)
        attach(s, v, t, a, to, seconds)
    elif m.has[SWITCH] and does == SWITCH:
        to = pop(c)
        v.attached.sent[a], v.attached.goal[a] = to, to
    elif m.has[RUN] and does == RUN:
        v.attached.share[a] = clamp(pop(c), -1.0, 1.0)
    elif m.has[CALLED] and does == CALLED:
        call_place(v, t, a, 0.0)
    elif m.has[HOME]:
        name = pop(c)
        share = pop(c)
        begin_homing(v, a, share, name)
