"""How sure a robot is of where it believes to be: the covariance of its pose, with what is off all the time."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from pivrex.line.values import Value, ops_of

__all__ = ["Doubts", "Spread", "grown", "measured"]


class Spread(NamedTuple):
    """The covariance of the believed pose, B each: of x, y (m) and heading h (rad), and with what is off all the time: the share k
    of ways, the share m of turns, the gyro's drift d (rad/s), and how far the point l lies back about which it turns (m).
    """

    xx: Value
    xy: Value
    xh: Value
    yy: Value
    yh: Value
    hh: Value
    xk: Value
    xm: Value
    xd: Value
    yk: Value
    ym: Value
    yd: Value
    hk: Value
    hm: Value
    hd: Value
    xl: Value
    yl: Value
    hl: Value


@dataclass(frozen=True)
class Doubts:
    """What may be off in what a robot believes.

    Attributes
    ----------
    way, turning, drift, pivot_off : float
        Variances of what is off all the time: of the shares, in rad²/s², and of the pivot in m².
    rough : float
        What chance adds, in m² for each metre.
    gyro_s : float
        How long a gyro drifts in each tick, in s; 0 where none counts.
    """

    way: float
    turning: float
    drift: float
    pivot_off: float
    rough: float
    gyro_s: float


def grown(s: Doubts, p: Spread, dx: Value, dy: Value, turn: Value, left: tuple[Value, Value] = (0.0, 0.0)) -> Spread:
    """Return the covariance after a displacement along the field, in m, and a turn, in rad. ``left`` is the robot's left, (x, y), times
    the turn.

    Notes
    -----
    To first order an error of heading turns the displacement, one of the ways stretches it, one of the turns and a drift turn
    the heading, one of the pivot moves it aside: δx' = δx - dy·δh + dx·k + left_x·l, δy' = δy + dx·δh + dy·k + left_y·l,
    δh' = δh + turn·m + dt·d. k, m, d and l stay as they are; the covariance goes through that matrix F as F·P·Fᵀ, and chance adds
    to x and y (Schmidt 1966: errors that are considered but not estimated; Thrun, Burgard & Fox, Probabilistic Robotics, ch. 5).
    """
    a, b, t = -dy, dx, turn
    tau = s.gyro_s
    mxx, mxy, mxh = p.xx + a * p.xh + dx * p.xk, p.xy + a * p.yh + dx * p.yk, p.xh + a * p.hh + dx * p.hk
    mxk, mxm, mxd = p.xk + a * p.hk + dx * s.way, p.xm + a * p.hm, p.xd + a * p.hd
    myy, myh = p.yy + b * p.yh + dy * p.yk, p.yh + b * p.hh + dy * p.hk
    myk, mym, myd = p.yk + b * p.hk + dy * s.way, p.ym + b * p.hm, p.yd + b * p.hd
    mhh, mhm, mhd = p.hh + t * p.hm + tau * p.hd, p.hm + t * s.turning, p.hd + tau * s.drift
    mxl, myl = p.xl + a * p.hl, p.yl + b * p.hl
    if s.pivot_off:
        lx, ly = left
        mxx, mxy, mxh, mxl = mxx + lx * p.xl, mxy + lx * p.yl, mxh + lx * p.hl, mxl + lx * s.pivot_off
        myy, myh, myl = myy + ly * p.yl, myh + ly * p.hl, myl + ly * s.pivot_off
        mxx, mxy, myy = mxx + lx * mxl, mxy + ly * mxl, myy + ly * myl
    chance = s.rough * ops_of(np.shape(dx)).sqrt(dx * dx + dy * dy)
    return Spread(
        xx=mxx + a * mxh + dx * mxk + chance,
        xy=mxy + b * mxh + dy * mxk,
        xh=mxh + t * mxm + tau * mxd,
        yy=myy + b * myh + dy * myk + chance,
        yh=myh + t * mym + tau * myd,
        hh=mhh + t * mhm + tau * mhd,
        xk=mxk, xm=mxm, xd=mxd, yk=myk, ym=mym, yd=myd, hk=p.hk, hm=mhm, hd=mhd, xl=mxl, yl=myl, hl=p.hl,
    )  # fmt: skip


def measured(p: Spread, across: list[float], variance: float) -> tuple[Spread, tuple[Value, Value, Value], Value]:
    """Return the covariance once a number was measured, the gain for x, y and heading, and the variance that was expected of the
    number. ``across``: how the number changes with x, y and heading (h); ``variance``: of the measurement (r).

    Notes
    -----
    The gain is k = P·h/s with s = h·P·h + r, the pose moves by k·off, and its covariance loses s·k·kᵀ. What is off all the
    time is considered, not estimated: its covariance with the pose loses k times its covariance with the number
    (Kalman 1960; Schmidt 1966).
    """
    hx, hy, hh = across
    ph = (p.xx * hx + p.xy * hy + p.xh * hh, p.xy * hx + p.yy * hy + p.yh * hh, p.xh * hx + p.yh * hy + p.hh * hh)
    s = hx * ph[0] + hy * ph[1] + hh * ph[2] + variance
    kx, ky, kh = (v / s for v in ph)
    considered = ((p.xk, p.yk, p.hk), (p.xm, p.ym, p.hm), (p.xd, p.yd, p.hd), (p.xl, p.yl, p.hl))
    of_k, of_m, of_d, of_l = (hx * a + hy * b + hh * c for a, b, c in considered)
    less = Spread(
        xx=p.xx - kx * ph[0], xy=p.xy - kx * ph[1], xh=p.xh - kx * ph[2],
        yy=p.yy - ky * ph[1], yh=p.yh - ky * ph[2], hh=p.hh - kh * ph[2],
        xk=p.xk - kx * of_k, xm=p.xm - kx * of_m, xd=p.xd - kx * of_d,
        yk=p.yk - ky * of_k, ym=p.ym - ky * of_m, yd=p.yd - ky * of_d,
        hk=p.hk - kh * of_k, hm=p.hm - kh * of_m, hd=p.hd - kh * of_d,
        xl=p.xl - kx * of_l, yl=p.yl - ky * of_l, hl=p.hl - kh * of_l,
    )  # fmt: skip
    return less, (kx, ky, kh), s
