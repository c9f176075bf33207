"""The ellipse of a covariance: how far off something may be, which way."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["SIGMAS", "ellipse"]

Floats = NDArray[np.float64]

SIGMAS = 2.0
"""Of a normal distribution 86 of 100 lie within."""


def ellipse(covariance: Floats, points: int = 90) -> Floats:
    """Give points round a covariance, (2, 2), `SIGMAS` away from its middle: (2, N).

    Notes
    -----
    Its axes are the eigenvectors, as long as the roots of the eigenvalues.
    """
    angle = np.linspace(0, 2 * np.pi, points)
    values, vectors = np.linalg.eigh(covariance)
    outline: Floats = vectors * (SIGMAS * np.sqrt(np.maximum(values, 0.0))) @ np.stack((np.cos(angle), np.sin(angle)))
    return outline
