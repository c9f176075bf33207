"""The present state of the heading loop: compass, numbers, the last seconds."""

from __future__ import annotations

import numpy as np

from pivrex.line.layout import Floats
from pivrex.line.zeroing import DONE, MEASURES, MOVED, WAITS
from pivrex.scene.chart import Series, chart, span_of
from pivrex.scene.envelope import compass_scene
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.parts import centred_bar, number, turning
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.panel import Panel
from pivrex.tui.panels.wheel_bars import since_started, strip_depends
from pivrex.units import wrap_deg

__all__ = ["HeadingNow", "HeadingStrip", "parts_of"]

SECONDS = 8.0
MATCH_S = 135.0
"""25 seconds alone and 110 driven."""


def parts_of(model: ScreenModel) -> tuple[str, ...]:
    """Return the parts of what the loop gives."""
    return tuple(n for n in ("p", "i", "d", "rate_p", "rate_i") if model.line.layout.has("correction", n))


class HeadingNow(Panel):
    """The compass with its numbers at its right, and the parts as bars below."""

    def draw(self, width: int, height: int) -> Picture:
        model = self.model
        picture = Picture(width, height)
        parts = parts_of(model)
        around = max(0, min(height - len(parts) - 3, 14))
        across = min(around * 2, width - 26)
        heading, target = (model.value(*n) for n in (("heading", "heading"), ("correction", "target")))
        # the gyro's zero is where it was switched on; the true heading is turned to it if both are known
        true = model.value("truth", "heading")
        if around >= 4 and across >= 8:
            picture.place(print_scene(compass_scene(heading, target, true), across, around), 0, 0)
        x = across + 2
        drift = wrap_deg(float(np.degrees(heading - true))) if np.isfinite(heading - true) else float("nan")
        held = np.isfinite(target)
        rows = [
            (
                "heading",
                f"{number(wrap_deg(float(np.degrees(heading))) if np.isfinite(heading) else heading, 1, 7)} deg",
                "measured",
            ),
            ("unwrapped", f"{number(float(np.degrees(heading)), 1, 7)} deg", "dim"),
            ("target", f"{number(wrap_deg(float(np.degrees(target))), 1, 7)} deg" if held else "none held", "target"),
            ("error", f"{number(model.degrees('correction', 'error'), 2, 7)} deg", "alarm" if _far(model) else "rest"),
            ("turns at", turning(model.degrees("correction", "rate"), 1, "deg/s", 7), "measured"),
            ("gyro error", f"{number(drift, 2, 7)} deg" if np.isfinite(drift) else "no one knows", "rest"),
        ]
        rows += _zeroed(model)
        for k, (name, text, role) in enumerate(rows):
            if k < max(around, 6) and x + 20 <= width:
                picture.text(x, k, f"{name:<12}", "dim")
                picture.text(x + 12, k, text, role, width - x - 12)
        y = max(around, 6) + 1
        most = float(np.degrees(model.rig.correction.output_limit_rad_s)) if model.rig.correction is not None else 1.0
        bar = width - 28
        for name in (*parts, "output"):
            if y >= height:
                break
            value = model.degrees("correction", name)
            full = name == "output" and abs(value) > 0.999 * most
            role = "alarm" if full else "commanded"
            picture.text(1, y, _NAMES[name], "title" if name == "output" else "rest")
            if bar >= 9:
                # left is drawn to the left
                centred_bar(picture, 10, y, bar - 1 + bar % 2, -value / most, role)
            said = ("! " if full else "") + turning(value, 1, "deg/s", 5)
            picture.right(width - 1, y, f"{said:<17}", role)
            y += 1
        return picture


def _zeroed(model: ScreenModel) -> list[tuple[str, str, str]]:
    """Return what zeroing took off, and how far the heading will be off at the end of a match.

    Notes
    -----
    A bias b that is left adds up to b·T; one that was measured as the mean of n readings with noise s is known to s/√n, and
    the noise of each later tick adds up to s·√(T·dt).
    """
    status = model.number("zeroing", "status")
    bias, noise = model.degrees("zeroing", "bias"), model.degrees("zeroing", "noise")
    if status != DONE and not noise:
        words = {WAITS: "waits: stand still", MEASURES: "measures …", MOVED: "! it moved"}
        return [("zeroed", words.get(status, "not yet: Z does it"), "alarm" if status == MOVED else "rest")]
    dt = model.line.dt_s
    readings = max(1.0, model.rig.gyro.zero_for_s / dt) if model.rig.gyro is not None else 1.0
    spread = noise * float(np.hypot(MATCH_S / np.sqrt(readings), np.sqrt(MATCH_S * dt)))
    end, without = (f"{v:.1f}" if np.isfinite(v) else "–" for v in (spread, abs(bias) * MATCH_S))
    return [
        ("taken off", f"{number(bias, 3, 7)} deg/s", "rest"),
        ("match end", f"± {end} deg, {without} without", "rest"),
    ]


_NAMES = {"p": "P", "i": "I", "d": "D", "rate_p": "rate P", "rate_i": "rate I", "output": "output"}


def _far(model: ScreenModel) -> bool:
    return abs(model.degrees("correction", "error")) > 10


LEAST = 6
"""Rows: a strip that is lower says nothing."""


class HeadingStrip(Panel):
    """Heading and target over the last seconds, and where there is room terms of the output."""

    def depends(self) -> tuple[object, ...]:
        return strip_depends(self.model)

    def draw(self, width: int, height: int) -> Picture:
        picture, model = Picture(width, height), self.model
        rows, ago = since_started(model)
        if len(ago) < 2 or height < LEAST:
            return picture

        def values(stage: str, name: str) -> Floats:
            return np.degrees(rows[:, model.line.layout.at(stage, name)])

        upper = height // 2 if height >= 2 * LEAST else height  # the terms are in the bars above too
        lines = [
            Series("target", values("correction", "target"), "target", 0.9),
            Series("heading", values("heading", "heading"), "measured"),
        ]
        known = np.concatenate([one.values[np.isfinite(one.values)] for one in lines] or [np.zeros(1)])
        low, high = (float(known.min()), float(known.max())) if len(known) else (0.0, 0.0)
        # in steps, so that the scale seldom changes
        step = next(s for s in (2.0, 5.0, 10.0, 30.0, 90.0, 360.0, np.inf) if high - low <= 4 * s)
        span = (
            (np.floor(low / step - 0.2) * step, np.ceil(high / step + 0.2) * step) if np.isfinite(step) else (low, high)
        )
        scene = chart("last seconds", ago, lines, span, ("deg", "s"), (width, upper), ("target", "measured"),
                      (-SECONDS, 0.0))  # fmt: skip
        picture.place(print_scene(scene, width, upper), 0, 0)
        if upper < height:
            lines = [Series(_NAMES[n], values("correction", n), role, dash) for n, role, dash in
                     (("i", "other", 0.0), ("d", "rest", 0.9), ("p", "target", 0.0))]  # fmt: skip
            size = width, height - upper
            scene = chart("gives", ago, lines, span_of(lines, 40.0), ("deg/s", "s"), size, reach=(-SECONDS, 0.0))
            picture.place(print_scene(scene, *size), 0, upper)
        return picture
