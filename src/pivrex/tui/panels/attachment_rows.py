"""The robot's attachments: commanded, reached, limits, safe state, and who moves them."""

from __future__ import annotations

from pivrex.tui.draw.attachment_bar import draw_standing, name_width
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.panel import Panel
from pivrex.tui.panels.standings import standing_of

__all__ = ["AttachmentBars", "AttachmentRows"]


class AttachmentRows(Panel):
    """A row for each, and where there is room another with what moves it."""

    def draw(self, width: int, height: int) -> Picture:
        picture, standings = Picture(width, height), standing_of(self.model)
        picture.across(0, 0, width)
        at = picture.text(1, 0, " attachments ", "title")
        picture.text(at + 1, 0, " ● target  ○ reached ", "dim", max(0, width - at - 2))
        two = height >= 2 + 2 * len(standings)
        y = 1
        for one in standings:
            draw_standing(picture, 2, y, width - 3, one, name_width(standings, width - 3))
            if two:
                y += 1
                picture.text(12, y, f"{one.kind}, moved by {one.by}" if not one.by.startswith(("nothing", "shows")) else one.by,
                             "alarm" if one.by.startswith("nothing") else "dim", width - 13)  # fmt: skip
            y += 1
        return picture


class AttachmentBars(Panel):
    """A row for each, and no more."""

    def draw(self, width: int, height: int) -> Picture:
        picture, standings = Picture(width, height), standing_of(self.model)
        for y, one in enumerate(standings):
            draw_standing(picture, 0, y, width, one, name_width(standings, width))
        return picture
