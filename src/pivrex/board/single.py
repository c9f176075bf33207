"""Functions in single precision, made only of sums, products and quotients: a chip and this computer get the same bits.

IEEE 754 rounds sums, products, quotients and roots in one way only, but leaves sines and exponentials to the library. A checksum over
what a board computes needs the same bits everywhere, so a board has these functions in place of its library's.

Source: the coefficients and the ranges are those of Cephes (Moshier, single precision).
"""

from __future__ import annotations

from pivrex.kernels.maths import div, floor, inf, is_nan, nan
from pivrex.kernels.subset import kernel

__all__ = ["atan2", "cos", "exp", "sin", "turned_sine"]

PER_QUARTER = 0.636619772367581
"""Quarter turns in a radian, 2/π."""

QUARTER_1, QUARTER_2, QUARTER_3 = 1.5703125, 4.837512969970703e-4, 7.549789948768648e-8
"""π/2 in three parts of few bits, so that a product with a count of quarter turns is exact."""

HALF_PI, FULL_PI = 1.5707963267948966, 3.141592653589793
TAN_3_8, TAN_1_8 = 2.414213562373095, 0.4142135623730951
"""The tangents of 3π/8 and of π/8: between them arctan begins from π/4."""

PER_LN2 = 1.4426950408889634
LN2_1, LN2_2 = 0.693359375, -2.12194440e-4
LARGEST, SMALLEST = 88.7, -87.3
"""Above and below these e to the power of x is infinite, or 0."""


@kernel
def turned_sine(x: float, quarters: float) -> float:
    """Return sin(x + quarters π/2), with quarters 0 or 1; within 2e-7 for |x| up to 8000."""
    turns = floor(x * PER_QUARTER + 0.5)
    rest = x - turns * QUARTER_1 - turns * QUARTER_2 - turns * QUARTER_3
    at = turns + quarters
    at = at - 4.0 * floor(at * 0.25)
    square = rest * rest
    if at in (0.0, 2.0):
        found = ((-1.9515295891e-4 * square + 8.3321608736e-3) * square - 1.6666654611e-1) * square * rest + rest
    else:
        found = (
            ((2.443315711809948e-5 * square - 1.388731625493765e-3) * square + 4.166664568298827e-2) * square * square
        )
        found = found - 0.5 * square + 1.0
    return -found if at >= 2.0 else found


@kernel
def sin(x: float) -> float:
    """Return the sine; NaN of infinity."""
    return turned_sine(x, 0.0)


@kernel
def cos(x: float) -> float:
    """Return the cosine; NaN of infinity."""
    return turned_sine(x, 1.0)


@kernel
def atan2(y: float, x: float) -> float:
    """Return the angle of (x, y) in rad, in [-π, π], within 4e-7; 0 for (0, 0)."""
    if is_nan(x) or is_nan(y):
        return nan
    if x == 0.0 and y == 0.0:
        return 0.0
    tall = abs(y)
    wide = abs(x)
    begins = 0.0
    if tall > TAN_3_8 * wide:
        begins = HALF_PI
        slope = -div(wide, tall)
    elif tall > TAN_1_8 * wide:
        begins = 0.5 * HALF_PI
        slope = div(tall - wide, tall + wide)
    else:
        slope = div(tall, wide)
    square = slope * slope
    series = ((8.05374449538e-2 * square - 1.38776856032e-1) * square + 1.99777106478e-1) * square - 3.33329491539e-1
    angle = begins + (series * square * slope + slope)
    if x < 0.0:
        angle = FULL_PI - angle
    return -angle if y < 0.0 else angle


@kernel
def exp(x: float) -> float:
    """Return e to the power of x, within 2e-7 of it; infinity above 88.7, 0 below -87.3."""
    if x > LARGEST:
        return inf
    if x < SMALLEST:
        return 0.0
    if is_nan(x):
        return x
    power = floor(x * PER_LN2 + 0.5)
    rest = x - power * LN2_1 - power * LN2_2
    series = (1.9875691500e-4 * rest + 1.3981999507e-3) * rest + 8.3334519073e-3
    series = ((series * rest + 4.1665795894e-2) * rest + 1.6666665459e-1) * rest + 5.0000001201e-1
    found = series * rest * rest + rest + 1.0
    while power > 0.0:
        found = found * 2.0
        power = power - 1.0
    while power < 0.0:
        found = found * 0.5
        power = power + 1.0
    return found
