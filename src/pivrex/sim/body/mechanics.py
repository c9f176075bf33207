"""A step of a realistic body: battery, motors, steering, floor and walls, solved together."""

from __future__ import annotations

from pivrex.kernels.maths import cos, div, exp, larger, sin, smaller, sqrt
from pivrex.kernels.records import Numbers
from pivrex.kernels.subset import kernel
from pivrex.line.seeing import Scenery
from pivrex.sim.body.feed import friction, sagged
from pivrex.sim.body.ground import add_damper, add_floor, directions, holding, loads, passing, solve
from pivrex.sim.body.leaning import begin_lean, end_lean, loads_of, passes_stop
from pivrex.sim.body.settings import GRAVITY_M_S2, BodySettings
from pivrex.sim.body.state import BodyScratch, BodyState
from pivrex.sim.body.walls import find_places
from pivrex.sim.bumps import is_near

__all__ = ["RESTART_S", "body_step"]

RESTART_S = 1.0
"""How long the electronics take to start again after the battery sagged."""

BOARD_S = 0.02
"""Over how long accelerations are averaged before they shift the load: a frame and its tyres give way a little."""

REACH_M = 0.05
"""How near something must be to be looked at."""

RELEASES = 4
"""How often contacts that would have to pull are let go in a step."""

STIFF = 1000.0
"""How much harder to push a wall is than the robot itself."""

AGAIN, BREAKS = 3, 1.03
"""A step in which a tyre slides is solved again, at most this often, while its slip changes by more than this factor."""

SLOW_M_S = 0.02
"""A tyre that slips no faster along either direction does not slide, whatever its grip."""

NOTICED_M_S = 0.002
"""What stands in the way counts as a bump once it takes this much speed in a step."""

SLIDES_M_S = 0.02
PUSHED_OUT_M = 0.002
"""A body that overlaps something is moved out by at most this in a step, without getting any speed from it."""


@kernel
def take_from_battery(s: BodySettings, w: BodyScratch, m: BodyState, coasting: bool, h: float) -> None:
    """Set each motor's duty and the battery's voltage now, and take what they need; electronics start again when it sags."""
    awake = m.restart <= 0.0
    for k in range(len(m.spin)):
        w.duty[k] = m.drive[k] if awake else 0.0
        w.fed[k] = 0.0 if coasting or (w.released[k] if awake else s.coasts[k]) else 1.0
    volts, amps = sagged(s, m.charge, w.duty, m.spin, w.fed)
    m.volts = volts
    m.charge = larger(m.charge - amps * div(h, s.capacity), 0.0)
    if volts < s.least and awake:
        m.restart = RESTART_S
    else:
        m.restart = larger(m.restart - h, 0.0)


@kernel
def turn_steering(s: BodySettings, w: BodyScratch, m: BodyState, awake: bool, h: float) -> None:
    """Let steering motors follow with a lag, as fast as the battery lets them."""
    decay = exp(-div(h, s.steer_lag))
    memory = s.steer_lag * (1.0 - decay)
    power = div(m.volts, s.volts) if awake else 0.0
    for k in range(len(m.angle)):
        target = w.steer[k] * power
        gap = m.turning[k] - target
        m.angle[k] = m.angle[k] + (target * h + gap * memory)
        m.turning[k] = target + gap * decay


@kernel
def set_motors(s: BodySettings, w: BodyScratch, m: BodyState, h: float) -> None:
    """Write the motors' own part of the equations: torque and friction.

    Notes
    -----
    The torque falls with the speed at the end of the step; of a robot that balances with the mean of the speeds at its beginning and end
    (the trapezoidal rule), which leaves an error of second order: it stands by that torque.
    """
    for k in range(len(m.spin)):
        push = s.stall[k] * s.strength[k] * w.duty[k] * w.fed[k] * div(m.volts, s.volts)
        slope = div(s.stall[k], s.free[k]) * w.fed[k]
        breakaway = s.lifted_breakaway[k] if m.lifted else s.breakaway[k]
        rub = friction(m.spin[k], push - slope * m.spin[k] + m.reaction[k], breakaway, s.running[k])
        now = 0.5 * slope if s.balances else 0.0
        w.own[k] = s.rotor_inertia[k] + h * (slope - now + rub)
        w.q[k] = s.rotor_inertia[k] * m.spin[k] + h * (push - now * m.spin[k])


@kernel
def take_slips(s: BodySettings, w: BodyScratch, side: int) -> None:
    """Write how fast the floor passes under each contact at the speeds that were solved for."""
    for k in range(len(s.turn)):
        w.slips[k][0], w.slips[k][1] = passing(s, w, side, k)


@kernel
def hold_again(s: BodySettings, w: BodyScratch, m: BodyState) -> bool:
    """Hold contacts that slide otherwise at the end of the step than at its beginning by what holds them there. Returns whether any
    does: else a tyre that breaks loose would hold for a step by more than its friction.
    """
    again = False
    for k in range(len(s.turn)):
        s1, s2, size = w.slips[k][0], w.slips[k][1], w.hold[k][2]
        if larger(abs(s1), abs(s2)) > SLOW_M_S or size > s.loose[k]:
            first, second, now = holding(s, k, m.load[k], s1, s2)
            other = now > BREAKS * size or now * BREAKS < size
            if other and larger(now, size) > s.loose[k]:
                w.hold[k][0], w.hold[k][1], w.hold[k][2] = first, second, now
                again = True
    return again


@kernel
def roll_and_slide(s: BodySettings, w: BodyScratch, m: BodyState, side: int, h: float) -> None:
    """Solve the step on the floor alone: tyres that break loose meanwhile are solved for again."""
    for i in range(3):
        w.v[i] = m.velocity[i]
    w.v[3] = m.lean_rate
    for k in range(len(m.spin)):
        w.spin[k] = m.spin[k]
    for k in range(len(s.turn)):
        s1, s2 = passing(s, w, side, k)
        w.hold[k][0], w.hold[k][1], w.hold[k][2] = holding(s, k, m.load[k], s1, s2)
    add_floor(s, w, m, side, h)
    solve(w)
    take_slips(s, w, side)
    for _ in range(AGAIN):
        if not hold_again(s, w, m):
            break
        add_floor(s, w, m, side, h)
        solve(w)
        take_slips(s, w, side)


@kernel
def along_twist(way: Numbers, v: Numbers) -> float:
    """Return how fast a place moves along a direction."""
    return way[0] * v[0] + way[1] * v[1] + way[2] * v[2] + way[3] * v[3]


@kernel
def slowest(w: BodyScratch, k: int, h: float) -> float:
    """Return how fast the body may come nearer at place k, below 0: its gap may be closed within the step, no more."""
    return -div(larger(w.gap[k], 0.0), h)


@kernel
def hold_what_comes(s: BodySettings, w: BodyScratch, h: float) -> bool:
    """Put a damper where the body would come too near within the step. Returns whether it does anywhere."""
    any_held = False
    for k in range(len(w.gap)):
        held = along_twist(w.push[k], w.v) < slowest(w, k, h) and w.gap[k] < REACH_M
        w.stiff[k] = STIFF * s.mass if held else 0.0
        any_held = any_held or held
    return any_held


@kernel
def press(s: BodySettings, w: BodyScratch, m: BodyState, side: int, h: float) -> None:
    """Solve the step with the dampers of all that pushes; what would have to pull is let go."""
    for _ in range(RELEASES):
        add_floor(s, w, m, side, h)
        for k in range(len(w.gap)):
            add_damper(w.a, w.r, w.push[k], w.stiff[k], slowest(w, k, h))
        solve(w)
        pulls = False
        for k in range(len(w.gap)):
            w.force[k] = w.stiff[k] * (slowest(w, k, h) - along_twist(w.push[k], w.v))
            pulls = pulls or w.force[k] < 0.0
        if not pulls:
            break
        for k in range(len(w.gap)):
            if w.force[k] < 0.0:
                w.stiff[k] = 0.0


@kernel
def push_back(f: Scenery, s: BodySettings, w: BodyScratch, m: BodyState, side: int, centre_y: float, h: float) -> bool:
    """Solve again where the body would run into something; else all stays as it is. Returns whether something pushed.

    Notes
    -----
    Where the gap g would be closed within the step, the body may come nearer by no more than g/h: a stiff damper
    towards that speed, solved for together with all else. What pushed is known then, and friction of the body on what
    it touches is added and solved for likewise. Both only take speed away.
    """
    find_places(f, s, w, m.pose, centre_y)
    if not hold_what_comes(s, w, h):
        return False
    press(s, w, m, side, h)
    total = 0.0
    for k in range(len(w.gap)):
        w.force[k] = larger(w.force[k], 0.0)
        total += w.force[k]
        if s.bumper != 0.0:
            rub = div(s.bumper * w.force[k], larger(abs(along_twist(w.along[k], w.v)), SLIDES_M_S))
            add_damper(w.a, w.r, w.along[k], rub, 0.0)
    solve(w)
    if total * h > NOTICED_M_S * s.mass:
        m.blocked = True
    if total > 0.0:
        push_out(w, m)
        take_slips(s, w, side)
        return True
    roll_and_slide(s, w, m, side, h)
    return False


@kernel
def push_out(w: BodyScratch, m: BodyState) -> None:
    """Move a body that overlaps something out of it, a little in each step."""
    deepest = 0
    for k in range(len(w.gap)):
        if w.gap[k] < w.gap[deepest]:
            deepest = k
    out = smaller(larger(-w.gap[deepest], 0.0), PUSHED_OUT_M)
    m.pose[0] += w.away[deepest][0] * out
    m.pose[1] += w.away[deepest][1] * out


@kernel
def note_tyres(s: BodySettings, w: BodyScratch, m: BodyState, side: int) -> None:
    """Note how each tyre slides, and what the floor does to each motor."""
    for k in range(len(m.spin)):
        m.reaction[k] = 0.0
    for k in range(len(s.turn)):
        s1, s2 = w.slips[k][0], w.slips[k][1]
        m.slip[k] = sqrt(s1 * s1 + s2 * s2) if s.is_plain[k] else abs(s1)
        if s.motor[k] >= 0:
            rolls = s.rolls[side][k]
            m.reaction[s.motor[k]] += w.hold[k][0] * s1 * rolls[0] + w.hold[k][1] * s2 * rolls[1]


@kernel
def move_body(s: BodySettings, w: BodyScratch, m: BodyState, centre_y: float, out: float, h: float) -> None:
    """Move the pose along the velocity, and turn the velocity with the body. ``out``: how fast the lean moves the mass centre forward
    of the axle, in m/s.
    """
    vx, vy, turn = w.v[0], w.v[1], w.v[2]
    half = turn * (0.5 * h)
    c, sn = cos(m.pose[2] + half), sin(m.pose[2] + half)
    # of the robot's centre, which the pose is of; the mass centre of a body that leans moves before it
    px, py = vx + turn * centre_y - out, vy - turn * w.forward
    m.pose[0] += (c * px - sn * py) * h
    m.pose[1] += (sn * px + c * py) * h
    m.pose[2] += turn * h
    c, sn = cos(2.0 * half), sin(2.0 * half)
    m.velocity[0], m.velocity[1], m.velocity[2] = vx * c + vy * sn, vy * c - vx * sn, turn


@kernel
def body_step(f: Scenery, s: BodySettings, w: BodyScratch, m: BodyState, coasting: bool, h: float) -> None:
    """Let a short step pass.

    Notes
    -----
    Semi-implicit Euler with the coefficients of friction as they are at the beginning of each step: all that resists
    is solved for together with the speeds, so it takes energy at every step length and never gives any. The body's velocity is
    then turned by what the body has turned, which keeps its length.
    """
    side = 1 if m.upside_down else 0
    awake = m.restart <= 0.0
    take_from_battery(s, w, m, coasting, h)
    turn_steering(s, w, m, awake, h)
    begin_lean(s, w, m, h)
    weight = 0.0 if m.lifted else larger(s.mass * (GRAVITY_M_S2 + m.heave) - m.frame_load, 0.0)
    loads(s, loads_of(m, side), m.acceleration[0], m.acceleration[1], weight, m.load)
    directions(s, w, m, side)
    set_motors(s, w, m, h)
    roll_and_slide(s, w, m, side, h)
    if w.pitches and passes_stop(s, w, m, h):
        roll_and_slide(s, w, m, side, h)
    centre_y = -s.centre[1] if side == 1 else s.centre[1]
    pushed = False
    if is_near(f, m.pose[0], m.pose[1], sqrt(s.half[0] * s.half[0] + s.half[1] * s.half[1]) + REACH_M):
        pushed = push_back(f, s, w, m, side, centre_y, h)
    if m.lifted or m.held:
        w.v[0], w.v[1], w.v[2] = 0.0, 0.0, 0.0
    settle = 1.0 - exp(-h / BOARD_S)
    for i in range(2):
        m.acceleration[i] += (div(w.v[i] - m.velocity[i], h) - m.acceleration[i]) * settle
    note_tyres(s, w, m, side)
    for k in range(len(m.spin)):
        w.rolled[k] += w.spin[k] * h
        m.spin[k] = w.spin[k]
    out = end_lean(s, w, m, pushed, settle, h)
    move_body(s, w, m, centre_y, out, h)
