"""Leaning: a body that pitches about an axle, falls onto its frame, and a robot whose wheels lift."""

from __future__ import annotations

from pivrex.kernels.maths import clamp, cos, div, larger, sin, sqrt
from pivrex.kernels.subset import kernel
from pivrex.sim.body.settings import GRAVITY_M_S2, BodySettings
from pivrex.sim.body.state import BodyScratch, BodyState

__all__ = [
    "add_frame",
    "add_lean",
    "begin_lean",
    "end_lean",
    "inertia_upright",
    "lean_way",
    "loads_of",
    "passes_stop",
    "sensed_speed",
]

HAND_RAD_S = 2.0
"""How fast a hand turns a robot that it holds."""

LIES_RAD = 1e-3
"""A body that is this near its stop lies on its frame."""

SLIDES_M_S = 0.02


@kernel
def axle_of(m: BodyState) -> int:
    """Return the place of the axle that the body leans about: 0 for the front one or the only one, 1 for the rear one."""
    return 1 if m.tips == 2 else 0


@kernel
def loads_of(m: BodyState, side: int) -> int:
    """Return which of the loads per kg count: on its wheels, on its back, on the front axle alone, on the rear one alone."""
    return 2 + axle_of(m) if m.tips > 0 else side


@kernel
def place_mass(s: BodySettings, w: BodyScratch, m: BodyState) -> None:
    """Write where the mass centre is from the axle at the present lean."""
    axle = axle_of(m)
    x, z = s.centre[0] - s.axle_x[axle], s.mass_z - s.axle_z[axle]
    c, sn = cos(m.lean), sin(m.lean)
    w.ahead, w.above = x * c + z * sn, z * c - x * sn


@kernel
def inertia_upright(s: BodySettings, lean: float) -> float:
    """Return the moment of inertia about the upright axis through the mass centre of a body that leans, in kg·m²."""
    c, sn = cos(lean), sin(lean)
    return s.inertia * (c * c) + s.roll_inertia * (sn * sn)


@kernel
def begin_lean(s: BodySettings, w: BodyScratch, m: BodyState, h: float) -> None:
    """Begin a step: a hand that holds the body turns it; a free one leans about its axle, if it has one."""
    for k in range(len(m.spin)):
        if w.duty[k] != 0.0 and not m.lifted:
            m.held = False
    w.stop, w.stop_rate = 0.0, 0.0
    if m.held or m.lifted:
        m.lean_rate = clamp(div(m.hand - m.lean, h), -HAND_RAD_S, HAND_RAD_S)
        m.heave, m.frame_load = 0.0, 0.0
        if not s.balances and abs(m.lean) < LIES_RAD:
            m.tips = 0
    w.pitches = m.tips > 0 and not m.held and not m.lifted and not m.upside_down
    w.ahead, w.above, w.forward = 0.0, 0.0, s.centre[0]
    if m.tips > 0:
        place_mass(s, w, m)
        w.forward = s.axle_x[axle_of(m)] + w.ahead


@kernel
def lean_way(s: BodySettings, w: BodyScratch, m: BodyState, k: int) -> None:
    """Turn both directions of a contact on the axle into those of a body that leans about it: the axle moves with the lean, and what
    is turned by a motor turns with the body.
    """
    first, second, y = w.first[k], w.second[k], s.y[0][k]
    first[2], second[2] = -(w.ahead * first[1]) - y * first[0], -(w.ahead * second[1]) - y * second[0]
    first[3], second[3] = -(w.above * first[0]) - s.rolls[0][k][0], -(w.above * second[0]) - s.rolls[0][k][1]


@kernel
def add_lean(s: BodySettings, w: BodyScratch, m: BodyState, h: float) -> None:
    """Add the lean's own equation to those of a step.

    Notes
    -----
    With θ the lean, (ρ, ζ) the mass centre forward and up from the axle, J the inertia about the axis across and I(θ) that about the
    upright axis: (J + m·ρ²)·θ'' = m·g·ρ - m·ρ·ζ·θ'² + ½·I'(θ)·ω² + what forces at the contacts do. The load on the axle is
    eliminated, N = m·(g - θ''·ρ - θ'²·ζ). (Lagrange's equations of an inverted pendulum on wheels in the coordinates of its mass
    centre, e.g. Kim & Kwon 2015; docs/body.md has them.)
    """
    whole = s.pitch_inertia + s.mass * (w.ahead * w.ahead)
    coupled = (s.roll_inertia - s.inertia) * (sin(m.lean) * cos(m.lean))
    turn = m.velocity[2]
    pull = s.mass * w.ahead * (GRAVITY_M_S2 - w.above * (m.lean_rate * m.lean_rate)) + coupled * (turn * turn)
    upright = inertia_upright(s, m.lean)
    w.a[5], w.r[2] = upright, upright * turn
    w.a[9] = whole + w.stop
    w.r[3] = whole * m.lean_rate + h * pull + w.stop * w.stop_rate


@kernel
def add_frame(s: BodySettings, w: BodyScratch, m: BodyState, h: float) -> None:
    """Add the friction of the frame of a robot that lies on it."""
    if m.frame_load > 0.0:
        axle = axle_of(m)
        x = (s.frame_x[axle] if m.lean > 0.0 else -s.frame_x[axle]) - w.ahead
        ahead, left = m.velocity[0], m.velocity[1] + m.velocity[2] * x
        rub = h * s.bumper * div(m.frame_load, larger(sqrt(ahead * ahead + left * left), SLIDES_M_S))
        w.a[0] += rub
        w.a[3] += rub
        w.a[4] += rub * x
        w.a[5] += rub * (x * x)


@kernel
def passes_stop(s: BodySettings, w: BodyScratch, m: BodyState, h: float) -> bool:
    """Return whether the frame would go into the floor in this step; then a damper lets it come no nearer than the gap allows."""
    after = m.lean + h * w.v[3]
    if w.stop != 0.0 or (after <= s.lies[0] and after >= -s.lies[1]):
        return False
    edge = s.lies[0] if after > 0.0 else -s.lies[1]
    w.stop_rate = div(edge - m.lean, h)
    w.stop = 1000.0 * (s.pitch_inertia + s.mass * (w.ahead * w.ahead))
    return True


@kernel
def lift_wheels(s: BodySettings, m: BodyState) -> None:
    """Let a robot that stands on more than one axle begin to tip where the moment of its acceleration is larger than that of its
    weight about the axle that is left.
    """
    moment = m.acceleration[0] * s.mass_z
    if -moment > GRAVITY_M_S2 * (s.axle_x[0] - s.centre[0]):
        m.tips = 1
    elif moment > GRAVITY_M_S2 * (s.centre[0] - s.axle_x[1]):
        m.tips = 2


@kernel
def end_lean(s: BodySettings, w: BodyScratch, m: BodyState, pushed: bool, settle: float, h: float) -> float:
    """End a step: take over the lean. A plain robot whose wheels come down again stands on all of them. Returns how fast the lean
    moves the mass centre forward of the axle, in m/s.
    """
    out = 0.0
    if w.pitches:
        before = m.lean_rate
        m.lean_rate = w.v[3]
        gained = -(div(m.lean_rate - before, h) * w.ahead) - m.lean_rate * m.lean_rate * w.above
        m.heave += (gained - m.heave) * settle
        axle = axle_of(m)
        carried = 0.0
        if w.stop != 0.0:
            carried = div(w.stop * abs(w.v[3] - w.stop_rate), h * larger(s.frame_x[axle], 0.001))
        m.frame_load += (carried - m.frame_load) * settle
    upright = inertia_upright(s, m.lean)
    m.lean += m.lean_rate * h
    if w.pitches:
        before_m = w.ahead
        place_mass(s, w, m)
        out = div(w.ahead - before_m, h)
        w.v[2] = w.v[2] * div(upright, inertia_upright(s, m.lean))
        down = (m.tips == 1 and m.lean <= 0.0) or (m.tips == 2 and m.lean >= 0.0)
        if down and not s.balances:
            m.lean, m.lean_rate, m.tips, m.heave, m.frame_load = 0.0, 0.0, 0, 0.0, 0.0
    elif s.tippable and m.tips == 0 and not m.lifted and not m.upside_down and not pushed:
        lift_wheels(s, m)
    return out


@kernel
def sensed_speed(s: BodySettings, m: BodyState) -> tuple[float, float, float]:
    """Return how fast the tilt sensor moves, forward, left and up, in m/s."""
    axle = axle_of(m)
    x, z = s.centre[0] - s.axle_x[axle], s.mass_z - s.axle_z[axle]
    c, sn = cos(m.lean), sin(m.lean)
    above, ahead = z * c - x * sn, x * c + z * sn
    over, before = s.tilt_z * c, s.tilt_z * sn
    forward = m.velocity[0] + m.velocity[2] * s.centre[1] - m.lean_rate * (above - over)
    return forward, m.velocity[1] - m.velocity[2] * (ahead - before), -(m.lean_rate * before)
