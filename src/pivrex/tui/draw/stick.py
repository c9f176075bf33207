"""A stick from above, with its cap where it is pushed."""

from __future__ import annotations

from pivrex.tui.draw.picture import Picture

__all__ = ["draw_stick"]


def draw_stick(x: float, y: float, width: int, height: int, used: bool, name: str) -> Picture:
    """Draw a stick whose raw readings are x (right +) and y (near +), in -1 to 1; greyed when no axis reads it."""
    picture = Picture(width, height)
    rim = "rest" if used else "frame"
    picture.text(0, 0, "╭" + "─" * (width - 2) + "╮", rim)
    picture.text(0, height - 1, "╰" + "─" * (width - 2) + "╯", rim)
    picture.down(0, 1, height - 1, "│", rim)
    picture.down(width - 1, 1, height - 1, "│", rim)
    cx, cy = width // 2, height // 2
    picture.across(cy, 1, width - 1, "╌", "frame")
    picture.down(cx, 1, height - 1, "╎", "frame")
    picture.text(2, 0, f" {name} ", "dim")
    clamped = [max(-1.0, min(1.0, v)) if abs(v) <= 2 else 0.0 for v in (x, y)]
    px, py = cx + round(clamped[0] * (cx - 2)), cy + round(clamped[1] * (cy - 1))
    picture.text(px - 1, py, "(●)", "commanded" if used else "frame")
    return picture
