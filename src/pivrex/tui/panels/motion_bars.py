"""The motion that is shown, nudged and dragged by its bars, and what there is to say about it."""

from __future__ import annotations

from math import degrees, isfinite

import numpy as np

from pivrex.line.questions.ask import can_do
from pivrex.line.questions.preview import preview
from pivrex.tui.draw.parts import centred_bar, number, turning, wrapped
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.chassis_shown import MOTION, Shown, ShownChassis

__all__ = ["draw_motion", "motion_bars"]


def draw_motion(
    picture: Picture, chassis: ShownChassis, shown: Shown | None, chosen: str, x: int, width: int
) -> tuple[int, list[tuple[str, int, int, int]]]:
    """Draw it; gives the row below it, and where its bars are: key, row, left column, width."""
    twist, own = chassis.twist, chassis.own is not None
    at = picture.text(x, 0, "motion", "title")
    hint = "yours; v follows the robot again" if own else "the robot's; ←→ makes it yours"
    picture.text(at + 2, 0, hint, "dim", x + width - at - 2)
    full, bar = chassis.full(), max(0, width - 34)
    bar -= 1 - bar % 2
    bars = []
    for row, ((key, name), value, top) in enumerate(zip(MOTION, twist.tolist(), full.tolist(), strict=True), 1):
        here = key == chosen
        picture.spot(x, row, width, "setting", key)
        picture.text(x, row, "▸" if here else " ", "commanded")
        picture.text(x + 2, row, f"{name:<8}", "title" if here else "dim")
        shown_value = turning(degrees(value), 0, "deg/s", 4) if name == "turn" else f"{number(value)} m/s"
        if name == "left":
            shown_value = turning(value, 2, "m/s", 6)
        if bar >= 9:
            centred_bar(picture, x + 10, row, bar, (-value if name != "forward" else value) / top, "commanded")
            bars.append((key, row, x + 10, bar))
        picture.text(x + 12 + max(bar, 0), row, f"{shown_value:<19}", "chosen" if here and own else "commanded")
    y = 4
    # rows are kept for remarks, so that nothing below jumps when there is one
    rows = 3 if picture.height >= 38 else 2 if picture.height >= 34 else 1
    lines = [(line, named) for text, named in _remarks(chassis, shown) for line in wrapped(text, width)]
    for row, (line, named) in enumerate(lines[:rows], y):
        picture.text(x, row, line, named)
    return y + rows, bars


def _remarks(chassis: ShownChassis, shown: Shown | None) -> list[tuple[str, str]]:
    """What there is to say about the motion: what cannot be, what is lost, what scrubs."""
    model, own = chassis.model, chassis.own
    found = []
    if own is not None:
        missing = preview(model.line, own).missing
        words = [f"{abs(missing[i]):.2f} m/s {('forward', 'sideways')[i]}" for i in range(2) if abs(missing[i]) > 1e-6]
        if words and not (model.rig.law.kind != "planar" and abs(own[1]) < 1e-9):
            found.append((f"! it cannot do {' and '.join(words)}: {can_do(model.rig)}", "alarm"))
    if shown is None:
        return found
    limited = np.abs(shown.asked) > model.line.top_m_s * 1.0005
    if limited.any():
        many = f"{int(limited.sum())} of {len(limited)} wheels too fast"
        found.append((f"! {many}: {model.rig.limits.fit} leaves {_left(shown)}", "alarm"))
    if shown.residual > 0.01:
        found.append((f"! the wheels disagree by {shown.residual:.2f} m/s: some of them must slip", "alarm"))
    if shown.scrub > 0.005:
        found.append((f"tyres scrub sideways at {shown.scrub:.2f} m/s", "target"))
    return found


def _left(shown: Shown) -> str:
    """What the limits leave of a motion, in words."""
    forward, left, turn = shown.commanded
    parts = [f"{abs(forward):.2f} m/s {'ahead' if forward >= 0 else 'back'}"]
    if abs(left) > 0.005:
        parts.append(turning(left, 2, "m/s"))
    if abs(turn) > 0.005:
        parts.append(turning(degrees(turn), 0, "deg/s"))
    return ", ".join(parts)


def motion_bars(model: ScreenModel) -> tuple[tuple[str, float, str, str], ...]:
    """What the wheels are to make of the motion; left and right in words, their bars to their sides."""
    forward, left, turn = (model.value("motion", n) for n in ("forward", "left", "turn"))
    rig = model.rig
    bars = [("forward", forward / rig.full_forward_m_s, f"{number(forward, 2, 5)} m/s", "commanded")]
    if rig.law.kind == "planar":
        bars.append(("aside", -left / rig.full_left_m_s, turning(left, 2, "m/s", 4, steady=True), "commanded"))
    deg_s = degrees(turn) if isfinite(turn) else turn
    bars.append(("turn", -turn / rig.full_turn_rad_s, turning(deg_s, 0, "deg/s", 3, steady=True), "commanded"))
    return tuple(bars)
