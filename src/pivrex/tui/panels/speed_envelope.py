"""The speed envelope, with where the motion that is shown lies in it."""

from __future__ import annotations

from math import degrees

import numpy as np

from pivrex.tui.draw.envelope_chart import EnvelopeData, draw_envelope
from pivrex.tui.draw.parts import turning
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.chassis_shown import Shown, ShownChassis

__all__ = ["draw_how_fast"]


def draw_how_fast(chassis: ShownChassis, shown: Shown | None, width: int, height: int) -> Picture:
    """Draw how fast the robot goes in every direction; of one that only drives ahead, how fast against how it turns."""
    envelope, full, ghost = chassis.envelope()
    commanded = shown.commanded if shown is not None else np.zeros(3)
    achieved = shown.achieved if shown is not None else None
    tops = chassis.full()
    turn = float(commanded[2])
    if envelope.planar:
        part = [0, 1]
        now = envelope.outline(turn, 72) if abs(turn) > 0.02 else np.zeros((0, 2))
        data = EnvelopeData(
            full, now, ghost, commanded[part], achieved[part] if achieved is not None else None,
            np.full(2, max(float(np.nanmax(np.abs(full))), 1e-6)) * 1.06, ("m/s", "m/s"), ("ahead", "left", "right"),
            f"┄ left while turning {turning(degrees(turn), 0, 'deg/s')}" if len(now) else "─ nothing else asked for",
        )  # fmt: skip
    else:
        scale = np.array([1.0, degrees(1.0)])
        data = EnvelopeData(
            full * scale, np.zeros((0, 2)), ghost * scale if ghost is not None else None, commanded[[0, 2]] * scale,
            achieved[[0, 2]] * scale if achieved is not None else None,
            np.array([tops[0], degrees(tops[2])]) * 1.06, ("m/s", "deg/s"), ("ahead", "turn left", "turn right"),
            "speed against turn",
        )  # fmt: skip
    return draw_envelope(data, width, height)
