"""The floor under the wheels: the load on each, and a step of body and wheels together with tyres."""

from __future__ import annotations

from pivrex.kernels.maths import cos, div, larger, sin, sqrt
from pivrex.kernels.records import Numbers
from pivrex.kernels.subset import kernel
from pivrex.sim.body.leaning import add_frame, add_lean, lean_way
from pivrex.sim.body.settings import BodySettings
from pivrex.sim.body.state import BodyScratch, BodyState

__all__ = ["add_damper", "add_floor", "directions", "holding", "loads", "passing", "solve"]

TINY = 1e-12


@kernel
def loads(s: BodySettings, on: int, forward: float, left: float, weight: float, load: Numbers) -> None:
    """Write the load on each contact in N, for an acceleration in m/s². One that would be pulled down is lifted, and the others
    carry its share of the weight, in N. ``on``: which contacts stand, see `pivrex.sim.body.leaning.loads_of`.
    """
    total = 0.0
    for k in range(len(s.turn)):
        per_kg = s.loads[on][k]
        load[k] = larger(per_kg[0] + per_kg[1] * forward + per_kg[2] * left, 0.0)
        total += load[k]
    share = div(weight, larger(total, TINY))
    for k in range(len(s.turn)):
        load[k] = load[k] * share


@kernel
def directions(s: BodySettings, w: BodyScratch, m: BodyState, side: int) -> None:
    """Write the two directions of each contact as they are now: steered wheels at their angles, all on an axle as the body leans."""
    for k in range(len(s.turn)):
        if s.turn[k] < 0:
            for i in range(3):
                w.first[k][i], w.second[k][i] = s.first[side][k][i], s.second[side][k][i]
        else:
            c, sn = cos(m.angle[s.turn[k]]), sin(m.angle[s.turn[k]])
            mirror = s.second[side][k][1]  # of a wheel that points ahead left is +1, on the back -1
            x, y = s.x[side][k], s.y[side][k]
            w.first[k][0], w.first[k][1], w.first[k][2] = c, mirror * sn, x * (mirror * sn) - y * c
            w.second[k][0], w.second[k][1], w.second[k][2] = -sn, mirror * c, x * (mirror * c) + y * sn
        w.first[k][3], w.second[k][3] = 0.0, 0.0
        if w.pitches:
            lean_way(s, w, m, k)


@kernel
def passing(s: BodySettings, w: BodyScratch, side: int, k: int) -> tuple[float, float]:
    """Return how fast the floor passes under a contact along its two directions, in m/s."""
    a, b, v, spin = w.first[k], w.second[k], w.v, w.spin
    s1 = a[0] * v[0] + a[1] * v[1] + a[2] * v[2]
    s2 = b[0] * v[0] + b[1] * v[1] + b[2] * v[2]
    if w.pitches:
        s1, s2 = s1 + a[3] * v[3], s2 + b[3] * v[3]
    if s.motor[k] >= 0:
        turning = spin[s.motor[k]]
        s1, s2 = s1 - s.rolls[side][k][0] * turning, s2 - s.rolls[side][k][1] * turning
    return s1, s2


@kernel
def holding(s: BodySettings, k: int, load: float, s1: float, s2: float) -> tuple[float, float, float]:
    """Return by what a contact is held at a slip along its two directions, in N·s/m, and the weighted slip, in m/s.

    Notes
    -----
    One ellipse of friction for both directions: the force is the one inside it that takes most power off the slip,
    F_k = -μ_k²·N·s_k / √(μ_1²s_1² + μ_2²s_2²) (maximum dissipation; Goyal, Ruina & Papadopoulos 1991), softened at slow slips
    so that it is the stiffness of a tyre there.
    """
    q1, q2 = s.squares[k][0], s.squares[k][1]
    size = sqrt(q1 * (s1 * s1) + q2 * (s2 * s2) + s.soft[k])
    each = div(load, larger(size, TINY))
    return q1 * each, q2 * each, size


@kernel
def add_damper(a: Numbers, r: Numbers, way: Numbers, stiff: float, target: float) -> None:
    """Add a damper along a direction of the twist and the lean, towards a target speed, to the equations of the body."""
    x, y, z, lean = stiff * way[0], stiff * way[1], stiff * way[2], stiff * way[3]
    a[0] += x * way[0]
    a[1] += x * way[1]
    a[2] += x * way[2]
    a[3] += y * way[1]
    a[4] += y * way[2]
    a[5] += z * way[2]
    a[6] += x * way[3]
    a[7] += y * way[3]
    a[8] += z * way[3]
    a[9] += lean * way[3]
    r[0] += x * target
    r[1] += y * target
    r[2] += z * target
    r[3] += lean * target


@kernel
def add_floor(s: BodySettings, w: BodyScratch, m: BodyState, side: int, h: float) -> None:
    """Write the equations of a step: body and motors by themselves, and what holds each contact to the floor."""
    for i in range(10):
        w.a[i] = 0.0
    v = m.velocity
    w.a[0], w.a[3], w.a[5] = s.mass, s.mass, s.inertia
    w.r[0], w.r[1], w.r[2], w.r[3] = s.mass * v[0], s.mass * v[1], s.inertia * v[2], 0.0
    if w.pitches:
        add_lean(s, w, m, h)
        add_frame(s, w, m, h)
    for k in range(len(w.own)):
        w.d[k] = w.own[k]
        for i in range(4):
            w.b[k][i] = 0.0
    for k in range(len(s.turn)):
        first, second = w.hold[k][0] * h, w.hold[k][1] * h
        add_damper(w.a, w.r, w.first[k], first, 0.0)
        add_damper(w.a, w.r, w.second[k], second, 0.0)
        if s.motor[k] >= 0:
            own = s.motor[k]
            one, two = s.rolls[side][k][0], s.rolls[side][k][1]
            for i in range(4):
                w.b[own][i] -= first * one * w.first[k][i] + second * two * w.second[k][i]
            w.d[own] += first * one * one + second * two * two


@kernel
def solve(w: BodyScratch) -> None:
    """Solve a step's equations: the twist about the mass centre, the rate of the lean, and each motor's rate.

    Notes
    -----
    The motors are eliminated one by one (each touches only itself and the body: Schur's complement), then the lean of a body that
    pitches; what is left is a symmetric positive 3 × 3 system, by its adjugate.
    """
    g, i, j, lean, t = w.a[6], w.a[7], w.a[8], w.a[9], w.r[3]
    a, b, c, d, e, f = w.a[0], w.a[1], w.a[2], w.a[3], w.a[4], w.a[5]
    x, y, z = w.r[0], w.r[1], w.r[2]
    for k in range(len(w.d)):
        p, q, r = w.b[k][0], w.b[k][1], w.b[k][2]
        pd, qd, rd = div(p, w.d[k]), div(q, w.d[k]), div(r, w.d[k])
        a, b, c = a - p * pd, b - p * qd, c - p * rd
        d, e, f = d - q * qd, e - q * rd, f - r * rd
        x, y, z = x - pd * w.q[k], y - qd * w.q[k], z - rd * w.q[k]
        if w.pitches:
            own = w.b[k][3]
            ld = div(own, w.d[k])
            g, i, j, lean, t = g - own * pd, i - own * qd, j - own * rd, lean - own * ld, t - ld * w.q[k]
    if w.pitches:
        gl, il, jl = div(g, lean), div(i, lean), div(j, lean)
        a, b, c = a - g * gl, b - g * il, c - g * jl
        d, e, f = d - i * il, e - i * jl, f - j * jl
        x, y, z = x - gl * t, y - il * t, z - jl * t
    aa, bb, cc = d * f - e * e, c * e - b * f, b * e - c * d
    dd, ee, ff = a * f - c * c, b * c - a * e, a * d - b * b
    whole = a * aa + b * bb + c * cc
    w.v[0] = div(aa * x + bb * y + cc * z, whole)
    w.v[1] = div(bb * x + dd * y + ee * z, whole)
    w.v[2] = div(cc * x + ee * y + ff * z, whole)
    w.v[3] = 0.0
    if w.pitches:
        w.v[3] = div(t - g * w.v[0] - i * w.v[1] - j * w.v[2], lean)
    for k in range(len(w.d)):
        back = w.b[k][0] * w.v[0] + w.b[k][1] * w.v[1] + w.b[k][2] * w.v[2]
        if w.pitches:
            back += w.b[k][3] * w.v[3]
        w.spin[k] = div(w.q[k] - back, w.d[k])
