"""A routine over time: a lane for drives, for waits, for sensing, and for each attachment; curves of shown values; and the end of its
time.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from pivrex.scene.scene import Box, Margins, Scene

__all__ = ["LABEL", "Bar", "Curve", "Timeline", "timeline_scene"]

LABEL = 9
"""Letters before the lanes, for their names."""

_FILL = {"motion": "commanded", "wait": "dim", "sense": "target"}
CURVE = 2
"""Lines that a curve is high."""

THIN_LETTERS = 0.5
"""A step is drawn at least so wide."""


class Bar(NamedTuple):
    """A step in a lane: from when to when, which line it is, what it says, and whether a student should look at it."""

    lane: str
    begin_s: float
    end_s: float
    line: int
    text: str
    marks: tuple[str, ...] = ()


class Curve(NamedTuple):
    """Values that were shown: their label, the times in s, the values (NaN for nothing sensed), and the words of the one at the cursor."""

    label: str
    t_s: tuple[float, ...]
    values: tuple[float, ...]
    now: str = ""


class Timeline(NamedTuple):
    """The data of the drawing: the lanes from the top, the bars, the length of the clock, the cursor (below 0 for none), the selected line,
    now, and the curves below the lanes.
    """

    lanes: tuple[str, ...]
    bars: tuple[Bar, ...]
    limit_s: float
    end_s: float
    cursor_s: float
    line: int
    now_s: float = -1.0
    curves: tuple[Curve, ...] = ()

    @property
    def lines(self) -> int:
        """How many lines high it is drawn, with the one above for the times."""
        return 1 + len(self.lanes) + CURVE * len(self.curves)

    @property
    def whole_s(self) -> float:
        """How long is what is drawn."""
        return max(self.limit_s, self.end_s, 1.0)


def timeline_scene(data: Timeline, columns: int) -> Scene:
    """Draw it over ``columns`` letters, names included, and `Timeline.lines`."""
    whole, room = data.whole_s, max(1, columns - LABEL - 1)
    bottom = 1.0 - data.lines
    scene = Scene(Box(0.0, bottom, whole, 0.0), equal=False, margins=Margins(LABEL, 1, 1, 0))
    step = next(s for s in (1, 2, 5, 10, 20, 60, 120) if whole / s * 6 <= room or s == 120)
    for second in range(0, int(whole) + 1, step):
        scene.label((second, 0.0), f"{second} s" if second == 0 else str(second), "dim", 1.0, "above-from")
    for k, lane in enumerate(data.lanes):
        scene.label((0.0, -k - 0.5), lane[: LABEL - 1], "rest", 1.0, "left")
        scene.line([(0.0, -k - 0.5), (whole, -k - 0.5)], "grid", 0.2)
        for bar in data.bars:
            if bar.lane == lane:
                _add_bar(scene, k, bar, bar.line == data.line, whole / room)
    for k, curve in enumerate(data.curves):
        _add_curve(scene, -len(data.lanes) - CURVE * k, curve, whole)
    for t, named in ((data.limit_s, "alarm"), (data.now_s, "measured")):
        if t >= 0:
            scene.line([(t, 0.0), (t, bottom)], named, 0.35)
    if data.now_s < 0 <= data.cursor_s:
        scene.line([(data.cursor_s, 0.0), (data.cursor_s, bottom)], "title", 0.35)
        scene.label((data.cursor_s, 0.0), "▼", "chosen", 9.0, "above")
    return scene


def _add_curve(scene: Scene, top: float, curve: Curve, whole_s: float) -> None:
    """Draw a curve over its own range; a constant value lies in the middle."""
    values = np.array(curve.values)
    known = values[np.isfinite(values)]
    low, span = (float(known.min()), float(np.ptp(known))) if len(known) else (0.0, 0.0)
    share = (values - low) / span if span > 0 else np.where(np.isfinite(values), 0.5, np.nan)
    scene.line([(0.0, top - CURVE + 0.05), (whole_s, top - CURVE + 0.05)], "grid", 0.15)
    points = np.column_stack((curve.t_s, top - CURVE + 0.25 + share * (CURVE - 0.5)))
    scene.line(points, "measured", 0.3)
    scene.dots(points, "measured", 0.35)
    scene.label((0.0, top - 0.5), curve.label[: LABEL - 1].strip(), "rest", 1.0, "left")
    scene.label((0.0, top - 1.5), curve.now[: LABEL - 1], "measured", 2.0, "left")


def _add_bar(scene: Scene, k: int, bar: Bar, chosen: bool, letter_s: float) -> None:
    named = "title" if chosen else "alarm" if bar.marks else _FILL.get(bar.lane, "measured")
    begin, end, top, low = bar.begin_s, max(bar.end_s, bar.begin_s + THIN_LETTERS * letter_s), -k - 0.02, -k - 0.98
    scene.area([(begin, top), (end, top), (end, low), (begin, low)], named)
    said = f"{bar.line}{'!' if bar.marks else ''}"
    for text in (said, str(bar.line)):
        if end - begin >= (len(text) + 1) * letter_s:
            scene.sign(((begin + end) / 2, -k - 0.5), text, "groove")
            break
