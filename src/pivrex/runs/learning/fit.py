"""Least squares with residuals that are correlated over time, and outliers left out."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from pivrex.line.layout import Floats

__all__ = ["Fit", "fit"]

OUTLIER = 4.0
"""How many sigma off, and a window is left out: the robot was held, or slid."""

TOGETHER = 3
"""How many windows that follow each other may be off in one way."""


class Fit(NamedTuple):
    """The result of a fit: values, their standard deviations, the standard deviation of the residuals, and the number of windows."""

    values: Floats
    sigma: Floats
    residual: float
    windows: int


def fit(x: Floats, y: Floats) -> Fit:
    """Fit y = x·b.

    Parameters
    ----------
    x : (N, P) float64
    y : (N,) float64

    Notes
    -----
    Windows further off than `OUTLIER` robust sigma (1.4826 · median) are left out, three times. The covariance is that of Newey
    and West (1987, Econometrica 55), (XᵀX)⁻¹·(Γ0 + Σ w_k(Γk + Γkᵀ))·(XᵀX)⁻¹ with Γk = Σ e_i e_{i-k} x_i x_{i-k}ᵀ and
    w_k = 1 - k/(K + 1), and never less than that of residuals that have nothing to do with each other.
    """
    kept = np.ones(len(y), bool)
    b: Any = np.zeros(x.shape[1])
    for _ in range(4):
        b = np.linalg.lstsq(x[kept], y[kept], rcond=None)[0]
        off = y - x @ b
        spread = 1.4826 * float(np.median(np.abs(off - np.median(off)))) + 1e-9
        kept = np.abs(off) < OUTLIER * spread
        if kept.sum() < x.shape[1] + 2:
            kept = np.ones(len(y), bool)
            break
    xs, e = x[kept], (y - x @ b)[kept]
    count, free = len(e), max(1, len(e) - x.shape[1])
    inverse = np.linalg.pinv(xs.T @ xs)
    z = xs * e[:, None]
    middle = z.T @ z
    for k in range(1, TOGETHER + 1):
        apart = z[k:].T @ z[:-k]
        middle = middle + (1 - k / (TOGETHER + 1)) * (apart + apart.T)
    together = np.diag(inverse @ middle @ inverse) * count / free
    alone = np.diag(inverse) * float(e @ e) / free
    return Fit(b, np.sqrt(np.maximum(together, alone)), float(np.sqrt(e @ e / free)), count)
