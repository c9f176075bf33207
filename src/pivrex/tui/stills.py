"""Shows drawings that have not changed for a moment in pixels if the terminal can, with the texts of the cells on them, and removes them
when something changes.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from rich.console import Console
from textual._compositor import ChopsUpdate
from textual.app import App
from textual.geometry import Region

from pivrex.devices.terminal import Pictures
from pivrex.tui.canvas import Canvas
from pivrex.tui.draw.picture import TEXT, Picture, Placed
from pivrex.tui.draw.pixels import kitty_gone, kitty_shown, pixel_image, sixels
from pivrex.tui.themes import colour_of

if TYPE_CHECKING:
    from PIL import Image

__all__ = ["NO_PICTURES", "STILL_S", "Stills", "write_only_changes"]

STILL_S = 0.5
LEAST = (6, 3)
"""Columns and rows: a smaller drawing stays as it is."""

NO_PICTURES = Pictures("", (0, 0), "")


def write_only_changes() -> None:
    """Make Textual write only the changed part of a row: the rest would cover pixels."""

    def written(update: ChopsUpdate, console: Console) -> str:
        out = []
        for y, x1, x2 in update.spans:
            for end, (x, strip) in zip(update.chop_ends[y], update.chops[y].items(), strict=False):
                left, right = max(x, x1), min(end, x2)
                if strip is not None and left < right:
                    cut = strip if (left, right) == (x, end) else strip.crop(left - x, right - x)
                    out.append(f"\x1b[{y + 1};{left + 1}H{cut.render(console)}")
        return "".join(out)

    ChopsUpdate.render_segments = written  # type: ignore[method-assign,assignment]


class Stills:
    """The drawings of a canvas that are shown in pixels.

    Parameters
    ----------
    app : App
        Whose terminal it is.
    pictures : Pictures
        What the terminal can.
    """

    def __init__(self, app: App[Any], pictures: Pictures) -> None:
        self._app, self._pictures = app, pictures
        self._size = app.size
        self._canvas: Canvas | None = None
        self._theme = ""
        self._seen: dict[Region, tuple[int, float]] = {}
        """What each drawing looked like in the last frame, and since when."""
        self._shown: dict[Region, int] = {}

    def look(self, canvas: Canvas, theme: str, free: bool, now_s: float) -> None:
        """Look at a canvas, once per frame; ``free`` says that no overlay covers it."""
        if not self._pictures.kind:
            return
        now = canvas, theme, self._app.size
        if not free or now != (self._canvas, self._theme, self._size):
            self.clear()
        self._canvas, self._theme, self._size = now
        if not free:
            return
        picture = canvas.picture
        found = {region: placed for placed in picture.scenes if (region := _box(placed, picture)) is not None}
        regions = list(found)
        for k, region in enumerate(regions):
            if any(region.overlaps(other) for other in regions[k + 1 :]):
                del found[region]  # another drawing lies on it
        for region in [r for r in self._seen if r not in found]:
            self._hide(region)
            del self._seen[region]
        for region, placed in found.items():
            sign = hash(_bytes(picture, region))
            before = self._seen.get(region)
            if before is None or before[0] != sign:
                self._seen[region] = (sign, now_s)
                self._hide(region)
            elif region not in self._shown and now_s - before[1] >= STILL_S:
                self._show(canvas, placed, region)

    def clear(self) -> None:
        """Remove all pixels: an overlay covers them, or the window has another size."""
        for region in list(self._shown):
            self._hide(region)
        self._seen.clear()

    def _show(self, canvas: Canvas, placed: Placed, region: Region) -> None:
        number = min(set(range(1, len(self._shown) + 2)) - set(self._shown.values()))
        self._shown[region] = number
        canvas.row_by_row = self._pictures.kind == "sixel"  # what is written over them is gone
        theme = self._theme
        image = pixel_image(
            placed.scene, placed.width, placed.height, self._pictures.cell, lambda role: colour_of(theme, role)
        )
        image.putalpha(_mask(canvas.picture, region, image.size))
        at = canvas.region.offset + region.offset
        shown = (
            kitty_shown(image, number, region.width, region.height) if self._pictures.kind == "kitty" else sixels(image)
        )
        self._write(f"\x1b7\x1b[{at.y + 1};{at.x + 1}H{shown}\x1b8")

    def _write(self, text: str) -> None:
        if self._app._driver is not None:
            self._app._driver.write(text)

    def _hide(self, region: Region) -> None:
        number = self._shown.pop(region, None)
        if number is None or self._canvas is None:
            return
        if self._pictures.kind == "kitty":
            self._write(kitty_gone(number))
        else:
            self._canvas.refresh(region)  # cells that are written again have no pixels any more
        self._canvas.row_by_row = bool(self._shown) and self._pictures.kind == "sixel"


def _box(placed: Placed, picture: Picture) -> Region | None:
    """Return where the box of a scene lies on a picture; None if it is small, or not all of it is there."""
    margins = placed.scene.margins
    width, height = placed.width - margins.left - margins.right, placed.height - margins.top - margins.bottom
    x, y = placed.x + margins.left, placed.y + margins.top
    fits = x >= 0 and y >= 0 and x + width <= picture.width and y + height <= picture.height
    return Region(x, y, width, height) if fits and width >= LEAST[0] and height >= LEAST[1] else None


def _bytes(picture: Picture, region: Region) -> bytes:
    rows, columns = slice(region.y, region.bottom), slice(region.x, region.right)
    return b"".join(
        of[rows, columns].tobytes() for of in (picture.chars, picture.roles, picture.grounds, picture.blends)
    )


def _mask(picture: Picture, region: Region, size: tuple[int, int]) -> Image.Image:
    """Return where an image covers the cells of a region: everywhere but where something is written."""
    from PIL import Image

    rows, columns = slice(region.y, region.bottom), slice(region.x, region.right)
    written = (picture.blends[rows, columns] == TEXT) & (picture.chars[rows, columns] != " ")
    return Image.fromarray(np.where(written, 0, 255).astype(np.uint8)).resize(size, Image.Resampling.NEAREST)
