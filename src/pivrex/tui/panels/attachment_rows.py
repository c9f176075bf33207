"""What the robot has beside its wheels, in Driver: asked, reached, limits, safe state, and who moves it."""

from __future__ import annotations

from pivrex.tui.draw.attachment_bar import Standing, draw_standing, name_width
from pivrex.tui.draw.picture import Picture

__all__ = ["draw_attached"]


def draw_attached(picture: Picture, x: int, y: int, width: int, height: int, standings: list[Standing]) -> None:
    """Draw a row for each, and where there is room another with what moves it."""
    picture.across(y, x, x + width)
    at = picture.text(x + 1, y, " beside its wheels ", "title")
    picture.text(at + 1, y, " ● asked  ○ reached ", "dim", max(0, width - at + x - 2))
    two = height >= 2 + 2 * len(standings)
    y += 1
    for one in standings:
        draw_standing(picture, x + 2, y, width - 3, one, name_width(standings, width - 3))
        if two:
            y += 1
            picture.text(x + 12, y, f"{one.kind}, moved by {one.by}" if not one.by.startswith(("nothing", "shows")) else one.by,
                         "alarm" if one.by.startswith("nothing") else "dim", width - 13)  # fmt: skip
        y += 1
