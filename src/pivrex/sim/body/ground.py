"""The floor under the wheels: load on each, and a step of body and wheels together, tyres between them."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from pivrex.line.stage import Floats
from pivrex.line.values import Ops, Value, single
from pivrex.sim.body.settings import GRAVITY_M_S2, BodySettings, Contact, Sparse, Terms

__all__ = ["Held", "Sums", "Touch", "added", "floored", "holding", "loads_of", "passing", "solve", "touches_of"]

TINY = 1e-12


class Touch(NamedTuple):
    """A contact in this moment: its two directions as rows, what its motor takes of each, its load, its
    share of the equations if it is not steered, the squares of its grip, how its friction is softened, and from which slip on it slides; in a
    batch of which only some lie on their backs the same there, and which do.
    """

    contact: Contact
    first: tuple[Value, Value, Value]
    second: tuple[Value, Value, Value]
    rolls: tuple[Value, Value]
    load: Value
    sums: Sparse | None
    grips: tuple[Value, Value]
    soft: Value
    loose: Value
    other: Touch | None = None
    back: Value = False


class Sums(NamedTuple):
    """A step's equations: [A B'; B D]·(v, ω) = (r, q), A symmetric by its upper half, D diagonal.

    ``a`` six values, ``b`` three for each motor, ``d`` and ``q`` one for each motor, ``r`` three.
    """

    a: list[Value]
    b: list[list[Value]]
    d: list[Value]
    r: list[Value]
    q: list[Value]


def touches_of(
    o: Ops, s: BodySettings, angles: list[Value], load: list[Value], back: Value, mixed: bool
) -> list[Touch]:
    """Give all contacts as they stand now: on the wheels or on the back, steered wheels at their angles."""
    turned = [o.turned(angle) for angle in angles]
    upright, over = (
        [_touch(contact, turned, load[k]) for k, contact in enumerate(side)] if side is not None else []
        for side in (
            (s.sides[0] if mixed or not o.some(back != 0) else None),
            (s.sides[1] if o.some(back != 0) else None),
        )
    )
    if not mixed:
        return upright or over
    return [
        one._replace(
            other=other, back=back != 0,
            rolls=tuple(o.where(back != 0, b, a) for a, b in zip(one.rolls, other.rolls, strict=True)),
        )
        for one, other in zip(upright, over, strict=True)
    ]  # fmt: skip


def _touch(contact: Contact, turned: list[tuple[Value, Value]], load: Value) -> Touch:
    first, second = contact.first, contact.second
    sums: Sparse | None = contact.sums
    if contact.turn >= 0:
        c, sn = turned[contact.turn]
        first, second, sums = _along(contact, c, sn), _along(contact, -sn, c), None
    return Touch(contact, first, second, contact.rolls, load, sums, contact.squares, contact.soft, contact.loose)


def _along(contact: Contact, c: Value, sn: Value) -> tuple[Value, Value, Value]:
    """The row of a direction of a steered wheel: mirrored left where its wheel is on the back."""
    side = contact.second[1]  # of a wheel that points ahead left is +1, on the back -1
    return c, side * sn, contact.x * (side * sn) - contact.y * c


def loads_of(o: Ops, s: BodySettings, felt: list[Value], back: Value, mixed: bool, on_floor: Value) -> list[Value]:
    """Give the load on each contact in N. One that would be pulled down is lifted, and the others carry its share."""
    upright, turned = s.loads if mixed else (s.loads[int(o.some(back != 0))],) * 2
    ax, ay = felt
    found = []
    for (n, x, y), (nb, xb, yb) in zip(upright.tolist(), turned.tolist(), strict=True):
        each = n + x * ax + y * ay
        if mixed:
            each = o.where(back != 0, nb + xb * ax + yb * ay, each)
        found.append(o.most(each, 0.0))
    whole = 0.0
    for each in found:
        whole = whole + each
    share = on_floor * s.mass * GRAVITY_M_S2 / o.most(whole, TINY)
    return [each * share for each in found]


def passing(touch: Touch, v: list[Value], spin: list[Value]) -> tuple[Value, Value]:
    """Give how fast the floor passes under a contact along its two directions, in m/s."""
    if touch.other is not None:
        there = passing(touch.other, v, spin)
        here = passing(touch._replace(other=None, rolls=touch.contact.rolls), v, spin)
        return np.where(touch.back, there[0], here[0]), np.where(touch.back, there[1], here[1])
    motor = touch.contact.motor
    if touch.sums is None or type(v[0]) is float:
        # for one robot a product with 0 is sooner done than left out; it changes nothing
        (ax, ay, aw), (bx, by, bw) = touch.first, touch.second
        vx, vy, w = v
        s1 = ax * vx + ay * vy + aw * w
        s2 = bx * vx + by * vy + bw * w
        if motor >= 0:
            turning = spin[motor]
            s1, s2 = s1 - touch.rolls[0] * turning, s2 - touch.rolls[1] * turning
        return s1, s2
    s1, s2 = _added_up(touch.sums.slip[0], v), _added_up(touch.sums.slip[1], v)
    if motor >= 0:
        s1 = s1 - touch.rolls[0] * spin[motor]
        if touch.contact.rolls[1] != 0:
            s2 = s2 - touch.rolls[1] * spin[motor]
    return s1, s2


def _added_up(terms: Terms, values: list[Value]) -> Value:
    k, share = terms[0]
    found = values[k] * share
    for k, share in terms[1:]:
        found = found + values[k] * share
    return found


class Held(NamedTuple):
    """By what a contact is held to the floor along its two directions, in N·s/m, and how far its slip goes, weighed by its
    grip, in m/s.
    """

    first: Value
    second: Value
    size: Value


def holding(o: Ops, touch: Touch, slip: tuple[Value, Value]) -> Held:
    """Give by what a contact is held at a slip.

    Notes
    -----
    One ellipse of friction for both directions: the force is the one inside it that takes most power off the slip,
    F_k = -μ_k²·N·s_k / √(μ_1²s_1² + μ_2²s_2²) (maximum dissipation; Goyal, Ruina & Papadopoulos 1991), softened below
    `SOFT_M_S` so that it is the stiffness of a tyre there.
    """
    s1, s2 = slip
    q1, q2 = touch.grips
    size = o.sqrt(q1 * (s1 * s1) + q2 * (s2 * s2) + touch.soft)
    each = touch.load / o.most(size, TINY)
    return Held(q1 * each, q2 * each, size)


def solve(o: Ops, sums: Sums) -> tuple[list[Value], list[Value]]:
    """Solve a step's equations: the twist about the mass centre, and each motor's rate.

    Notes
    -----
    The motors are eliminated one by one (each touches only itself and the body: Schur's complement), what is left is a
    symmetric positive 3 × 3 system, by its adjugate.
    """
    a, b, c, d, e, f = sums.a
    x, y, z = sums.r
    for (p, q, r), own, right in zip(sums.b, sums.d, sums.q, strict=True):
        pd, qd, rd = p / own, q / own, r / own
        a, b, c = a - p * pd, b - p * qd, c - p * rd
        d, e, f = d - q * qd, e - q * rd, f - r * rd
        x, y, z = x - pd * right, y - qd * right, z - rd * right
    aa, bb, cc = d * f - e * e, c * e - b * f, b * e - c * d
    dd, ee, ff = a * f - c * c, b * c - a * e, a * d - b * b
    whole = a * aa + b * bb + c * cc
    v = [(aa * x + bb * y + cc * z) / whole, (bb * x + dd * y + ee * z) / whole, (cc * x + ee * y + ff * z) / whole]
    spin = [
        (right - (p * v[0] + q * v[1] + r * v[2])) / own
        for (p, q, r), own, right in zip(sums.b, sums.d, sums.q, strict=True)
    ]
    return v, spin


def added(sums: Sums, ways: Floats, stiff: Floats, target: Floats, batch: tuple[int, ...]) -> Sums:
    """Add dampers along ``ways``, B + (N, 3), towards ``target`` speeds, B + (N,), to equations."""
    pairs = ((0, 0), (0, 1), (0, 2), (1, 1), (1, 2), (2, 2))
    scaled = ways * stiff[..., None]
    more = [single((scaled[..., i] * ways[..., j]).sum(axis=-1)) for i, j in pairs]
    right = [single((scaled[..., i] * target).sum(axis=-1)) for i in range(3)]
    return sums._replace(
        a=[x + y for x, y in zip(sums.a, more, strict=True)], r=[x + y for x, y in zip(sums.r, right, strict=True)]
    )


def floored(touches: list[Touch], held: list[Held], base: Sums, h: float) -> Sums:
    """Give the equations with what the floor does in them."""
    if touches and touches[0].other is not None:
        here = floored([t._replace(other=None, rolls=t.contact.rolls) for t in touches], held, base, h)
        there = floored([t.other for t in touches if t.other is not None], held, base, h)
        back = touches[0].back
        return base._replace(
            a=[np.where(back, y, x) for x, y in zip(here.a, there.a, strict=True)],
            b=[
                [np.where(back, y, x) for x, y in zip(*rows, strict=True)] for rows in zip(here.b, there.b, strict=True)
            ],
            d=[np.where(back, y, x) for x, y in zip(here.d, there.d, strict=True)],
        )
    a, d = list(base.a), list(base.d)
    b = [list(row) for row in base.b]
    for touch, hold in zip(touches, held, strict=True):
        first, second = hold.first * h, hold.second * h
        k = touch.contact.motor
        if touch.sums is not None:
            sums = touch.sums
            for held_by, terms, rows in ((first, sums.body[0], sums.row[0]), (second, sums.body[1], sums.row[1])):
                for i, share in terms:
                    a[i] = a[i] + held_by * share
                if k >= 0:
                    for i, share in rows:
                        b[k][i] = b[k][i] + held_by * share
            if k >= 0:
                d[k] = d[k] + (first * sums.own[0] + second * sums.own[1] if sums.own[1] else first * sums.own[0])
            continue
        (ax, ay, aw), (bx, by, bw) = touch.first, touch.second
        fx, fy, fw, gx, gy, gw = first * ax, first * ay, first * aw, second * bx, second * by, second * bw
        a[0] = a[0] + (fx * ax + gx * bx)
        a[1] = a[1] + (fx * ay + gx * by)
        a[2] = a[2] + (fx * aw + gx * bw)
        a[3] = a[3] + (fy * ay + gy * by)
        a[4] = a[4] + (fy * aw + gy * bw)
        a[5] = a[5] + (fw * aw + gw * bw)
        if k >= 0:
            one, two = touch.rolls
            row = b[k]
            row[0] = row[0] - (fx * one + gx * two)
            row[1] = row[1] - (fy * one + gy * two)
            row[2] = row[2] - (fw * one + gw * two)
            d[k] = d[k] + (first * one * one + second * two * two)
    return base._replace(a=a, b=b, d=d)
