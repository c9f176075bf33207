"""The final value of a held stick, by the stages of shaping, without time."""

from __future__ import annotations

import numpy as np

from pivrex.kernels.engines import Call
from pivrex.line.band import band_step
from pivrex.line.curve import curve_step
from pivrex.line.layout import Floats
from pivrex.line.line import Line
from pivrex.line.scale import scale_step
from pivrex.line.stage import Fractions

__all__ = ["respond"]

_STEPS = {"band": Call(band_step, ("out",)), "curve": Call(curve_step, ("out",)), "scale": Call(scale_step, ("out",))}


def respond(line: Line, fractions: Floats) -> Floats:
    """Return what sticks at ``fractions``, B + (C,), end at: band, curve and scale, without rates."""
    form, batch = line.stages["axes"].form, fractions.shape[:-1]
    now = Fractions(form, np.ascontiguousarray(fractions, np.float64))
    for name, step in _STEPS.items():
        after: Fractions = form.start(batch)
        step(batch, line.stages[name].settings, now, after)
        now = after
    return now.data
