"""Motors on a bench in Chassis: their settings, and the places of bars, strips and settings."""

from __future__ import annotations

from collections.abc import Iterable

from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.attachment_rows import AttachmentBars
from pivrex.tui.panels.panel import Panel, Place, Rect, Rule
from pivrex.tui.panels.settings_list import SettingsColumn
from pivrex.tui.panels.wheel_bars import WheelBars, WheelStrips

__all__ = ["bench_columns", "bench_places"]

Parts = tuple[WheelBars, WheelStrips, Rule, Panel | None, SettingsColumn, SettingsColumn, AttachmentBars]


def bench_columns(model: ScreenModel) -> list[list[str]]:
    """Return the settings of each column: none of a motion, those of the selected motor, those of all."""
    keys = ("top_speed", "gear", "counts_per_turn", "smallest", "reversed", "encoder_reversed")
    motor = [f"motors.{model.wheel_name}.{key}" for key in keys]
    loop = [f"control.{key}" for key in ("wheels", "p", "i", "d")]
    return [[], motor, ["limits.fit", *(loop if model.rig.control is not None else [])]]


def bench_places(parts: Parts, width: int, height: int) -> Iterable[Place]:
    """Return where they stand: bars and strips at the left, at the right the settings, or the shakedown while it is open."""
    bars, strips, rule, shakedown, motor, rules, attachments = parts
    left = width * 11 // 20
    high = bars.rows(height)
    yield bars, Rect(1, 0, left - 2, high)
    yield strips, Rect(1, high + 1, left - 2, height - high - 1)
    yield rule, Rect(left, 0, 1, height)
    x, w = left + 2, width - left - 3
    if shakedown is not None:
        yield shakedown, Rect(x, 0, w, height)
        return
    yield motor, Rect(x, 0, w, motor.rows)
    yield rules, Rect(x, motor.rows + 1, w, rules.rows)
    y = motor.rows + rules.rows + 2
    yield attachments, Rect(x, y, w, min(len(attachments.model.rig.attachments), height - y))
