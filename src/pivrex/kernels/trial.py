"""A few hundred ticks of an invented system that uses the whole subset: an engine that gives other bits fails here."""

from __future__ import annotations

from pivrex.kernels.maths import (
    atan2,
    clamp,
    cos,
    div,
    exp,
    floor,
    hypot,
    inf,
    is_nan,
    larger,
    mod,
    nan,
    pi,
    rint,
    sin,
    smaller,
    sqrt,
    whole,
    wrap,
)  # fmt: skip
from pivrex.kernels.records import Flag, Flags, Number, Numbers, Record, Whole, Wholes, field
from pivrex.kernels.subset import kernel

__all__ = ["TrialSettings", "TrialState", "trial_step"]

WAYS = ((1.0, 0.25), (-0.5, 2.0), (0.0, -1.0))
HALF = pi / 2


class TrialSettings(Record):
    """The settings of the trial."""

    is_settings = True

    weights: Numbers = field("n", 2)
    order: Wholes = field("n")
    on: Flags = field("n")
    most: Number = field()
    steps: Whole = field()
    odd: Flag = field()


class TrialState(Record):
    """The memory of the trial: numbers that depend on all before, and the result of each function for the values in ``special``."""

    x: Numbers = field("n")
    square: Numbers = field(2, 2)
    angle: Number = field()
    special: Numbers = field("special")
    out: Numbers = field("special", 16)
    ticks: Whole = field()
    over: Flag = field()


@kernel
def blended(a: float, b: float, share: float) -> tuple[float, float]:
    """Return two numbers blended both ways."""
    return a + (b - a) * share, b + (a - b) * share


@kernel
def functions(x: float, y: float, out: Numbers) -> None:
    """Take all functions of two numbers."""
    out[0], out[1], out[2] = div(x, y), sqrt(x), exp(x)
    out[3], out[4], out[5] = sin(x), cos(x), atan2(x, y)
    out[6], out[7], out[8] = floor(x), rint(x), mod(x, y)
    out[9], out[10], out[11] = larger(x, y), smaller(x, y), clamp(x, -1.0, 1.0)
    out[12], out[13], out[14] = hypot(x, y), wrap(x), abs(x)
    out[15] = 1.0 * whole(x)


@kernel
def trial_step(s: TrialSettings, before: TrialState, after: TrialState, push: float) -> None:
    """Make one tick."""
    after.angle = wrap(before.angle + 0.37 * push + (0.11 if s.odd else -0.07))
    c, sn = cos(after.angle), sin(after.angle)
    for k in range(len(s.order)):
        i = s.order[k]
        way = WAYS[k % 3]
        a, b = blended(before.x[i], way[0] * c + way[1] * sn, 0.125)
        if s.on[k] and not before.over:
            a = div(a, 1.0 + b * b)
        elif is_nan(a) or abs(a) == inf:
            a = 0.5
        after.x[k] = clamp(a * s.weights[i][0] + s.weights[k][1], -s.most, s.most)
    after.square[0][0], after.square[1][1] = c, exp(-abs(sn))
    after.square[0][1] = before.square[0][0] * c - before.square[1][1] * sn / 3.0
    after.square[1][0] = hypot(c, before.square[0][1])
    n, total = 0, 0.0
    while n < s.steps:
        n += 1
        if n == 3 and s.odd:
            continue
        total += sqrt(n * 0.5) * before.square[n % 2][0]
        if total > 9.0 or n > 40:
            break
    after.ticks = before.ticks + 1 - n * 0
    after.over = after.angle > HALF or total > 5.0
    for k in range(len(before.special)):
        after.special[k] = before.special[k]
        last = before.special[k - 1] if k > 0 else nan
        functions(before.special[k], last, after.out[k])
    after.x[0] += 1e-3 * total
