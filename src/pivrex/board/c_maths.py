"""The number types of a board, and in C the functions that kernels call; see `pivrex.kernels.maths`."""

from __future__ import annotations

__all__ = ["FUNCTIONS", "HEAD", "NEEDS", "OF_LIBRARY", "RINT"]

HEAD = """\
typedef {real} real; /* float or double: the one place that says which */
typedef int16_t whole;
typedef uint8_t flag;
{suffix}

/* Tables that stay as they are: in the flash of a chip that can read from there. */
#ifdef __AVR__
#define CONSTANT const __flash
#pragma GCC diagnostic ignored "-Wuninitialized" /* it says so of tables that it has computed away */
#else
#define CONSTANT const
#endif
"""

RINT = """\
/* What C says otherwise than textbooks, or not at all: the same on the desktop. */
#ifdef __AVR__
static inline real F_rint(real x) {{ /* halves to the even one */
    real low = floor(x), rest = x - low;
    if (!(fabs(x) < R(8388608.0))) return x;
    return rest > R(0.5) || (rest == R(0.5) && fmod(low, R(2.0)) != 0) ? low + R(1.0) : low;
}}
#else
#define F_rint F(rint)
#endif
"""

FUNCTIONS = {
    "m_div": "real m_div(real a, real b) { return a / b; }",
    "m_is_nan": "flag m_is_nan(real x) { return x != x; }",
    "m_sqrt": "real m_sqrt(real x) { return x >= 0 ? F(sqrt)(x) : NAN; }",
    "m_sin": "real m_sin(real x) { return F(sin)(x); }",
    "m_cos": "real m_cos(real x) { return F(cos)(x); }",
    "m_atan2": "real m_atan2(real y, real x) { return F(atan2)(y, x); }",
    "m_exp": "real m_exp(real x) { return x < R(709.0) ? F(exp)(x) : x >= R(709.0) ? INFINITY : NAN; }",
    "m_floor": "real m_floor(real x) { return F(floor)(x) + R(0.0); }",
    "m_rint": "real m_rint(real x) { return F_rint(x) + R(0.0); }",
    "m_copysign": "real m_copysign(real x, real y) { return F(copysign)(x, y); }",
    "m_larger": "real m_larger(real a, real b) { return (a > b || a != a ? a : b) + R(0.0); }",
    "m_smaller": "real m_smaller(real a, real b) { return (a < b || a != a ? a : b) + R(0.0); }",
    "m_clamp": "real m_clamp(real x, real low, real high) { return x > high ? high : x < low ? low : x; }",
    "m_hypot": "real m_hypot(real x, real y) { return m_sqrt(x * x + y * y); }",
    "m_whole": "whole m_whole(real x) { return x > R(-32768.0) && x < R(32768.0) ? (whole)x : 0; }",
    "m_abs": "real m_abs(real x) { return x < 0 ? -x : x + R(0.0); }",
    "i_max": "whole i_max(whole a, whole b) { return a > b ? a : b; }",
    "i_min": "whole i_min(whole a, whole b) { return a < b ? a : b; }",
    "i_abs": "whole i_abs(whole n) { return n < 0 ? -n : n; }",
    "i_mod": "whole i_mod(whole a, whole b) { whole r = a % b; return r != 0 && (r < 0) != (b < 0) ? r + b : r; }",
    "m_mod": """real m_mod(real a, real b) {
    real r;
    if (b == 0 || !(a > -INFINITY && a < INFINITY)) return NAN;
    r = F(fmod)(a, b);
    if (r != 0) return (b < 0) != (r < 0) ? r + b : r;
    return F(copysign)(R(0.0), b);
}""",
    "m_wrap": "real m_wrap(real x) { return m_mod(x + R(3.141592653589793), R(6.283185307179586)) - R(3.141592653589793); }",
}
OF_LIBRARY = ("m_sin", "m_cos", "m_atan2", "m_exp")
"""What each library computes in its own way; in single precision `pivrex.board.single` stands in their place."""

NEEDS = {
    "m_hypot": ("m_sqrt",), "m_wrap": ("m_mod",), "m_sin": ("m_floor",), "m_cos": ("m_floor",), "m_exp": ("m_floor", "m_is_nan"),
    "m_atan2": ("m_is_nan", "m_abs", "m_div"),
}  # fmt: skip
"""Which of them others call."""
