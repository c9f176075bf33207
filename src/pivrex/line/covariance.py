"""The covariance of a robot's estimated pose, with errors that stay constant."""

from __future__ import annotations

from typing import Any

from pivrex.kernels.maths import hypot
from pivrex.kernels.records import Number, Record, field
from pivrex.kernels.subset import kernel

__all__ = ["Covariance", "Doubts", "grow", "measured"]


class Covariance(Record):
    """The covariance of the estimated pose: of x, y (m) and heading h (rad), and with what is off all the time: the share k
    of distances, the share m of turns, the gyro's drift d (rad/s), and how far the point l lies back about which it turns (m).
    """

    xx: Number = field(unit="m^2")
    xy: Number = field(unit="m^2")
    xh: Number = field(unit="m rad")
    yy: Number = field(unit="m^2")
    yh: Number = field(unit="m rad")
    hh: Number = field(unit="rad^2")
    xk: Number = field()
    xm: Number = field()
    xd: Number = field()
    yk: Number = field()
    ym: Number = field()
    yd: Number = field()
    hk: Number = field()
    hm: Number = field()
    hd: Number = field()
    xl: Number = field()
    yl: Number = field()
    hl: Number = field()


class Doubts(Record):
    """Errors of an estimated pose.

    Attributes
    ----------
    way, turning, drift, pivot_off : float
        Variances of what is off all the time: of the shares, in rad²/s², and of the pivot in m².
    rough : float
        What chance adds, in m² for each metre.
    gyro_s : float
        How long a gyro drifts in each tick, in s; 0 where none counts.
    """

    is_settings = True

    way: Number = field()
    turning: Number = field()
    drift: Number = field(unit="rad^2/s^2")
    pivot_off: Number = field(unit="m^2")
    rough: Number = field(unit="m")
    gyro_s: Number = field(unit="s")


@kernel
def grow(
    s: Doubts, p: Covariance, after: Covariance, dx: float, dy: float, turn: float, left_x: float, left_y: float
) -> None:
    """Write the covariance after a displacement along the field, in m, and a turn, in rad. ``left`` is the robot's left times the turn.

    Notes
    -----
    To first order an error of heading turns the displacement, one of the distances stretches it, one of the turns and a drift turn
    the heading, one of the pivot moves it sideways: δx' = δx - dy·δh + dx·k + left_x·l, δy' = δy + dx·δh + dy·k + left_y·l,
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
    if s.pivot_off != 0.0:
        mxx, mxy, mxh, mxl = mxx + left_x * p.xl, mxy + left_x * p.yl, mxh + left_x * p.hl, mxl + left_x * s.pivot_off
        myy, myh, myl = myy + left_y * p.yl, myh + left_y * p.hl, myl + left_y * s.pivot_off
        mxx, mxy, myy = mxx + left_x * mxl, mxy + left_y * mxl, myy + left_y * myl
    chance = s.rough * hypot(dx, dy)
    after.xx, after.xy, after.xh = (
        mxx + a * mxh + dx * mxk + chance,
        mxy + b * mxh + dy * mxk,
        mxh + t * mxm + tau * mxd,
    )
    after.yy, after.yh = myy + b * myh + dy * myk + chance, myh + t * mym + tau * myd
    after.hh = mhh + t * mhm + tau * mhd
    after.xk, after.xm, after.xd, after.xl = mxk, mxm, mxd, mxl
    after.yk, after.ym, after.yd, after.yl = myk, mym, myd, myl
    after.hk, after.hm, after.hd, after.hl = p.hk, mhm, mhd, p.hl


def measured(p: Covariance, across: list[float], variance: float) -> tuple[Covariance, tuple[Any, Any, Any], Any]:
    """Return the covariance after a measurement, the gain for x, y and heading, and the expected variance of the number. ``across``: how the
    number changes with x, y and heading (h); ``variance``: of the measurement (r).

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
    less = p._replace(
        xx=p.xx - kx * ph[0], xy=p.xy - kx * ph[1], xh=p.xh - kx * ph[2],
        yy=p.yy - ky * ph[1], yh=p.yh - ky * ph[2], hh=p.hh - kh * ph[2],
        xk=p.xk - kx * of_k, xm=p.xm - kx * of_m, xd=p.xd - kx * of_d,
        yk=p.yk - ky * of_k, ym=p.ym - ky * of_m, yd=p.yd - ky * of_d,
        hk=p.hk - kh * of_k, hm=p.hm - kh * of_m, hd=p.hd - kh * of_d,
        xl=p.xl - kx * of_l, yl=p.yl - ky * of_l, hl=p.hl - kh * of_l,
    )  # fmt: skip
    return less, (kx, ky, kh), s
