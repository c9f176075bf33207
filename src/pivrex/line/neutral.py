"""Whether controls are at rest: what must be so before a robot may move again."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np
from numpy.typing import NDArray

from pivrex.line.attachments import deflection
from pivrex.line.levels import PRESSED
from pivrex.line.line import Line

__all__ = ["not_at_rest"]

Floats = NDArray[np.float64]

AT_REST = 0.02
"""What counts as rest behind the dead band: a bare stick of a few bits without one never reads 0 exactly."""


def not_at_rest(line: Line, raw: Floats, driving: str = "", of: Collection[int] | None = None) -> str:
    """Say what is not at rest; empty if all is.

    Parameters
    ----------
    line : Line
    raw : (R,) float64
        Readings; NaN counts as rest.
    driving : str
        The source that drives, for its calibration.
    of : collection of int or None
        The inputs that are looked at; all if left out.

    Returns
    -------
    str
        Such as "let go first: forward reads +0.40".
    """
    looked = range(len(line.inputs)) if of is None else of
    banded = line.shape(raw, driving)[1]
    for i, function in enumerate(line.functions):
        if i in looked and abs(banded[i]) > AT_REST:
            return f"let go first: {function} reads {banded[i]:+.2f}"
    if line.bindings is not None:
        for k, patch in enumerate(line.bindings.patches):
            at = int(line.bindings.channel[k])
            deed = patch.deed
            moves = deed is not None and deed.verb in ("motion", "speed", "on") and deed.value != 0
            if at in looked and patch.source != "session" and deed is not None and moves and raw[at] >= PRESSED:
                return f"let go first: {patch.channel} says {deed.text}"
    if line.attachments is not None:
        for one in line.attachments.each:
            for follow in one.follows:
                if follow.channel in looked and abs(float(deflection(follow, raw[..., follow.channel]))) > AT_REST:
                    return f"let go first: {line.inputs[follow.channel][1]} moves {one.name}"
    return ""
