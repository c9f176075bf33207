"""Whether controls are at rest, which they must be before a robot may move again."""

from __future__ import annotations

from collections.abc import Collection

from pivrex.line.axes import Axes, fraction_of
from pivrex.line.band import Band, band_step
from pivrex.line.bindings import Bindings
from pivrex.line.line import Line
from pivrex.line.presses import deflection
from pivrex.line.stage import PRESSED, Floats

__all__ = ["not_at_rest"]

AT_REST = 0.02
"""What counts as rest behind the dead band: a bare stick of a few bits without one never reads 0 exactly."""


def not_at_rest(line: Line, raw: Floats, driving: str = "", of: Collection[int] | None = None) -> str:
    """Return what is not at rest; empty if all is.

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
    looked = range(len(line.inputs.wanted)) if of is None else of
    axes, band, bindings = (line.stages.get(n) for n in ("axes", "band", "bindings"))
    assert isinstance(axes, Axes) and isinstance(band, Band)
    count = len(line.functions)
    driver, readings = int(line.source_number(driving)), raw.tolist()
    fractions = [fraction_of(axes.settings.plain, driver, i, readings[i]) for i in range(count)]
    banded = axes.form.start().plain
    band_step(band.settings.plain, axes.form.of(value=fractions).plain, banded)
    for i, function in enumerate(line.functions):
        if i in looked and abs(banded.value[i]) > AT_REST:
            return f"let go first: {function} reads {banded.value[i]:+.2f}"
    if not isinstance(bindings, Bindings):
        return ""
    for patch, action, at in zip(bindings.patches, bindings.actions, bindings.at_rest, strict=True):
        moves = action.verb in ("motion", "speed", "on") and action.value != 0
        if at in looked and moves and raw[at] >= PRESSED:
            return f"let go first: {patch.channel} says {action.text}"
    own = bindings.settings.plain
    for k, (name, at) in enumerate(zip(bindings.followers, own.follows, strict=True)):
        if at in looked and abs(deflection(own, k, readings[at])) > AT_REST:
            return f"let go first: {line.inputs.wanted[at][1]} moves {name}"
    return ""
