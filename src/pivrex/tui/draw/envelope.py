"""The speed envelope with the present motion in it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.tui.draw.picture import Dots, Picture

__all__ = ["EnvelopeData", "draw_envelope"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class EnvelopeData:
    """What the drawing shows, as (up, to the left).

    Attributes
    ----------
    full : (N, 2) float64
        The edge with nothing else asked for.
    now : (N, 2) float64
        The edge that the present turn leaves.
    ghost : (N, 2) float64 or None
        The edge before the last change.
    commanded, measured : (2,) float64 or None
        The present motion.
    tops : (2,) float64
        What the drawing's upper and left edge mean.
    units : tuple of str
        Of up and left.
    names : tuple of str
        Top, left, right.
    caption : str
    """

    full: Floats
    now: Floats
    ghost: Floats | None
    commanded: Floats | None
    measured: Floats | None
    tops: Floats
    units: tuple[str, str]
    names: tuple[str, str, str]
    caption: str


def draw_envelope(data: EnvelopeData, width: int, height: int) -> Picture:
    """Draw it on ``width`` × ``height`` cells; needs 16 × 7 to be of use."""
    picture = Picture(width, height)
    picture.text(0, 0, "speed envelope", "title")
    h = min(height - 3, (width - 8) // 2)
    w = min(h * 2, width - 8)
    if h < 4:
        return picture
