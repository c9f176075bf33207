"""What a stick held still ends at: the stages of shaping, asked without time."""

from __future__ import annotations

from pivrex.line.band import dead_band
from pivrex.line.curve import curve
from pivrex.line.layout import Floats
from pivrex.line.line import Line

__all__ = ["respond"]


def respond(line: Line, fractions: Floats) -> Floats:
    """Give what sticks at ``fractions``, B + (C,), end at: band, curve and scale, without rates."""
    stages = line.stages
    bent = curve(stages["curve"].settings, dead_band(stages["band"].settings, fractions))
    scaled: Floats = bent * stages["scale"].settings.scale
    return scaled
