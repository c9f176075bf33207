"""The functions that kernels call, with C's results: infinity or NaN where Python raises an error.

Both engines use the C library of this machine for sin, cos, atan2 and exp, so they agree to the bit. Sums, products, quotients and
roots are exactly rounded everywhere (IEEE 754).
"""

from __future__ import annotations

import math
from math import copysign, inf, nan, pi

__all__ = [
    "atan2", "clamp", "copysign", "cos", "div", "exp", "floor", "hypot", "inf", "is_nan", "larger", "mod", "nan", "pi", "rint", "sin",
    "smaller", "sqrt", "whole", "wrap",
]  # fmt: skip

LARGEST = 2.0**62
"""No number beyond this becomes a whole number."""


def div(a: float, b: float) -> float:
    """Return a/b; infinity or NaN where b is 0."""
    if b != 0.0:
        return a / b
    if a == 0.0 or is_nan(a):
        return nan
    return copysign(inf, a) * copysign(1.0, b)


def is_nan(x: float) -> bool:
    """Return whether it is no number."""
    return x != x  # noqa: PLR0124 - NaN is not itself


def sqrt(x: float) -> float:
    """Return the square root; NaN of a number below 0."""
    return math.sqrt(x) if x >= 0.0 else nan


def sin(x: float) -> float:
    """Return the sine; NaN of infinity."""
    return math.sin(x) if -inf < x < inf else nan


def cos(x: float) -> float:
    """Return the cosine; NaN of infinity."""
    return math.cos(x) if -inf < x < inf else nan


def atan2(y: float, x: float) -> float:
    """Return the angle of (x, y) in rad, in [-π, π]."""
    return math.atan2(y, x)


def exp(x: float) -> float:
    """Return e to the power of x; infinity where that is too large."""
    return math.exp(x) if x < 709.0 else inf if x >= 709.0 else nan


def floor(x: float) -> float:
    """Return the largest whole number that is not above x; x itself if it is infinite or NaN."""
    return float(math.floor(x)) if -inf < x < inf else x


def rint(x: float) -> float:
    """Return the nearest whole number, the even one half way; x itself if it is infinite or NaN."""
    return float(round(x)) if -inf < x < inf else x


def mod(a: float, b: float) -> float:
    """Return what is left of a when b is taken off as often as it fits: it has the sign of b. NaN for b = 0 and infinite a."""
    return a % b if b != 0.0 and -inf < a < inf else nan


def whole(x: float) -> int:
    """Return a number as an integer, without its fraction; 0 for NaN and for a number that is too large."""
    return int(x) if -LARGEST < x < LARGEST else 0


def larger(a: float, b: float) -> float:
    """Return the larger number, 0 without a sign; NaN if either is NaN."""
    return (a if a > b or is_nan(a) else b) + 0.0


def smaller(a: float, b: float) -> float:
    """Return the smaller number, 0 without a sign; NaN if either is NaN."""
    return (a if a < b or is_nan(a) else b) + 0.0


def clamp(x: float, low: float, high: float) -> float:
    """Return x, or the bound that it passes; NaN stays NaN."""
    return high if x > high else low if x < low else x


def hypot(x: float, y: float) -> float:
    """Return √(x² + y²)."""
    return sqrt(x * x + y * y)


def wrap(angle: float) -> float:
    """Return an angle in rad as the same direction in [-π, π)."""
    return mod(angle + pi, 2.0 * pi) - pi
