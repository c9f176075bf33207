"""The floor under the wheels: load on each, and a step of body and wheels together, tyres between them."""

from __future__ import annotations

from typing import NamedTuple

from pivrex.line.stage import Floats
from pivrex.line.values import Ops, Value, single
from pivrex.sim.body.settings import BodySettings, Contact

__all__ = ["Held", "Sums", "Touch", "added", "holding", "loads_of", "passing", "solve", "touches_of"]

TINY = 1e-12


class Touch(NamedTuple):
    """A contact in this moment: its two directions as rows, what its motor takes of each, its load, the
    squares of its grip, how its friction is softened, and from which slip on it slides.
    """

    contact: Contact
    first: tuple[Value, Value, Value]
    second: tuple[Value, Value, Value]
    rolls: tuple[Value, Value]
    load: Value
    grips: tuple[Value, Value]
    soft: Value
    loose: Value


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
    whole: list[Touch] = []
    sides = s.sides if mixed else (s.sides[int(o.some(back != 0))],) * 2
    turned = [o.turned(angle) for angle in angles]
    for k, (contact, other) in enumerate(zip(*sides, strict=True)):
        first, second, rolls = contact.first, contact.second, contact.rolls
        if contact.turn >= 0:
            c, sn = turned[contact.turn]
            first, second = _along(contact, c, sn), _along(contact, -sn, c)
        if mixed:
            there, beside = other.first, other.second
            if other.turn >= 0:
                c, sn = turned[other.turn]
                there, beside = _along(other, c, sn), _along(other, -sn, c)
            first, second, rolls = (
                tuple(o.where(back != 0, b, a) for a, b in zip(pair[0], pair[1], strict=True))
                for pair in ((first, there), (second, beside), (rolls, other.rolls))
            )
        whole.append(Touch(contact, first, second, rolls, load[k], contact.squares, contact.soft, contact.loose))
    return whole


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
    share = on_floor * s.mass * 9.81 / o.most(whole, TINY)
    return [each * share for each in found]


def passing(touch: Touch, v: list[Value], spin: list[Value]) -> tuple[Value, Value]:
    """Give how fast the floor passes under a contact along its two directions, in m/s."""
    (ax, ay, aw), (bx, by, bw) = touch.first, touch.second
    vx, vy, w = v
    s1 = ax * vx + ay * vy + aw * w
    s2 = bx * vx + by * vy + bw * w
    motor = touch.contact.motor
    if motor >= 0:
        s1 = s1 - touch.rolls[0] * spin[motor]
        s2 = s2 - touch.rolls[1] * spin[motor]
    return s1, s2


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
        a=[x + y for x, y in zip(sums.a, more, strict=True)],
        r=[x + y for x, y in zip(sums.r, right, strict=True)],
    )
