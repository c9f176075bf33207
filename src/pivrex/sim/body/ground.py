"""The floor under the wheels: load on each, and a step of body and wheels together, tyres between them."""

from __future__ import annotations

from pivrex.kernels.maths import cos, div, larger, sin, sqrt
from pivrex.kernels.records import Numbers
from pivrex.kernels.subset import kernel
from pivrex.sim.body.settings import GRAVITY_M_S2, BodySettings
from pivrex.sim.body.state import BodyScratch

__all__ = ["add_damper", "add_floor", "directions", "holding", "loads", "passing", "solve"]

TINY = 1e-12


@kernel
def loads(s: BodySettings, side: int, forward: float, left: float, lifted: bool, load: Numbers) -> None:
    """Write the load on each contact in N, for an acceleration in m/s². One that would be pulled down is lifted, and the others
    carry its share.
    """
    total = 0.0
    for k in range(len(s.turn)):
        per_kg = s.loads[side][k]
        load[k] = larger(per_kg[0] + per_kg[1] * forward + per_kg[2] * left, 0.0)
        total += load[k]
    share = 0.0 if lifted else div(s.mass * GRAVITY_M_S2, larger(total, TINY))
    for k in range(len(s.turn)):
        load[k] = load[k] * share


@kernel
def directions(s: BodySettings, w: BodyScratch, side: int, angle: Numbers) -> None:
    """Write the two directions of each contact as they are now: steered wheels at their angles."""
    for k in range(len(s.turn)):
        if s.turn[k] < 0:
            for i in range(3):
                w.first[k][i], w.second[k][i] = s.first[side][k][i], s.second[side][k][i]
        else:
            c, sn = cos(angle[s.turn[k]]), sin(angle[s.turn[k]])
            mirror = s.second[side][k][1]  # of a wheel that points ahead left is +1, on the back -1
            x, y = s.x[side][k], s.y[side][k]
            w.first[k][0], w.first[k][1], w.first[k][2] = c, mirror * sn, x * (mirror * sn) - y * c
            w.second[k][0], w.second[k][1], w.second[k][2] = -sn, mirror * c, x * (mirror * c) + y * sn


@kernel
def passing(s: BodySettings, w: BodyScratch, side: int, k: int, v: Numbers, spin: Numbers) -> tuple[float, float]:
    """Return how fast the floor passes under a contact along its two directions, in m/s."""
    a, b = w.first[k], w.second[k]
    s1 = a[0] * v[0] + a[1] * v[1] + a[2] * v[2]
    s2 = b[0] * v[0] + b[1] * v[1] + b[2] * v[2]
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
    """Add a damper along a direction of the twist, towards a target speed, to the equations of the body."""
    x, y, z = stiff * way[0], stiff * way[1], stiff * way[2]
    a[0] += x * way[0]
    a[1] += x * way[1]
    a[2] += x * way[2]
    a[3] += y * way[1]
    a[4] += y * way[2]
    a[5] += z * way[2]
    r[0] += x * target
    r[1] += y * target
    r[2] += z * target


@kernel
def add_floor(s: BodySettings, w: BodyScratch, side: int, v: Numbers, h: float) -> None:
    """Write the equations of a step: body and motors by themselves, and what holds each contact to the floor."""
    for i in range(6):
        w.a[i] = 0.0
    w.a[0], w.a[3], w.a[5] = s.mass, s.mass, s.inertia
    w.r[0], w.r[1], w.r[2] = s.mass * v[0], s.mass * v[1], s.inertia * v[2]
    for k in range(len(w.own)):
        w.d[k] = w.own[k]
        w.b[k][0], w.b[k][1], w.b[k][2] = 0.0, 0.0, 0.0
    for k in range(len(s.turn)):
        first, second = w.hold[k][0] * h, w.hold[k][1] * h
        add_damper(w.a, w.r, w.first[k], first, 0.0)
        add_damper(w.a, w.r, w.second[k], second, 0.0)
        if s.motor[k] >= 0:
            m = s.motor[k]
            one, two = s.rolls[side][k][0], s.rolls[side][k][1]
            for i in range(3):
                w.b[m][i] -= first * one * w.first[k][i] + second * two * w.second[k][i]
            w.d[m] += first * one * one + second * two * two


@kernel
def solve(w: BodyScratch) -> None:
    """Solve a step's equations: the twist about the mass centre, and each motor's rate.

    Notes
    -----
    The motors are eliminated one by one (each touches only itself and the body: Schur's complement), what is left is a
    symmetric positive 3 × 3 system, by its adjugate.
    """
    a, b, c, d, e, f = w.a[0], w.a[1], w.a[2], w.a[3], w.a[4], w.a[5]
    x, y, z = w.r[0], w.r[1], w.r[2]
    for k in range(len(w.d)):
        p, q, r = w.b[k][0], w.b[k][1], w.b[k][2]
        pd, qd, rd = div(p, w.d[k]), div(q, w.d[k]), div(r, w.d[k])
        a, b, c = a - p * pd, b - p * qd, c - p * rd
        d, e, f = d - q * qd, e - q * rd, f - r * rd
        x, y, z = x - pd * w.q[k], y - qd * w.q[k], z - rd * w.q[k]
    aa, bb, cc = d * f - e * e, c * e - b * f, b * e - c * d
    dd, ee, ff = a * f - c * c, b * c - a * e, a * d - b * b
    whole = a * aa + b * bb + c * cc
    w.v[0] = div(aa * x + bb * y + cc * z, whole)
    w.v[1] = div(bb * x + dd * y + ee * z, whole)
    w.v[2] = div(cc * x + ee * y + ff * z, whole)
    for k in range(len(w.d)):
        back = w.b[k][0] * w.v[0] + w.b[k][1] * w.v[1] + w.b[k][2] * w.v[2]
        w.spin[k] = div(w.q[k] - back, w.d[k])
