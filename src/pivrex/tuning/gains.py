"""Gain sets of the heading loop, tried on a line without changing its rig."""

from __future__ import annotations

from dataclasses import replace
from typing import NamedTuple

import numpy as np

from pivrex.line import Line
from pivrex.line.correction import Correction
from pivrex.line.stage import Floats
from pivrex.rig import Rig
from pivrex.rig.correction import Correction as CorrectionTable

__all__ = ["Gains", "gains_of", "with_gains", "with_table"]


class Gains(NamedTuple):
    """Gains of the heading loop: p in 1/s, i in 1/s², d without a unit; floats, or arrays of a batch's shape."""

    p: float | Floats
    i: float | Floats
    d: float | Floats


def with_table(rig: Rig) -> Rig:
    """Give a rig that has a table for the correction, with what is usual where it says nothing."""
    return rig if rig.correction is not None else rig.model_copy(update={"correction": CorrectionTable()})


def gains_of(rig: Rig) -> Gains:
    """Give a rig's own gains."""
    c = rig.correction or CorrectionTable()
    return Gains(c.p_per_s, c.i, c.d)


def with_gains(line: Line, gains: Gains) -> None:
    """Let a line correct with other gains than its rig says; arrays count robot by robot of a batch."""
    stage = line.stages["correction"]
    assert isinstance(stage, Correction)
    p, i, d = (np.asarray(v, float) for v in gains)
    outer = replace(stage.settings.outer, p=p, i=i, d=d)  # type: ignore[arg-type] # of a batch
    stage.settings = replace(stage.settings, outer=outer)
