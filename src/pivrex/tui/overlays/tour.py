"""The tour of the first start: five lines over the view, gone at the first key."""

from __future__ import annotations

from pivrex.tui.draw.picture import Picture

__all__ = ["draw_tour"]

TOUR = (
    ("it drives", "a recorded driver steers; amber is commanded, teal is measured"),
    ("w a s d", "take over, or drag a stick; o lists gamepads too, b the other robots"),
    ("2  3", "Shaping, Chassis: ↑ ↓ select, ← → change, u takes back; 5 returns"),
    ("n  Enter", "why: a wheel derived from the stick, in a row; Enter shows it stage by stage"),
    ("Esc", "stops the robot from anywhere; g goes on. ? explains the view you are in"),
)


def draw_tour(width: int) -> Picture:
    """Five lines for the first start."""
    wide = min(width - 4, 91)
    picture = Picture(wide, len(TOUR) + 2)
    picture.text(0, 0, "╭" + "─" * (wide - 2) + "╮", "title")
    picture.down(0, 1, picture.height - 1, "│", "title")
    picture.down(wide - 1, 1, picture.height - 1, "│", "title")
    picture.text(0, picture.height - 1, "╰" + "─" * (wide - 2) + "╯", "title")
    picture.text(2, 0, " what to try    any key closes this ", "key")
    for y, (sign, text) in enumerate(TOUR, 1):
        picture.text(2, y, sign, "key")
        picture.text(13, y, text, "rest", wide - 15)
    return picture
