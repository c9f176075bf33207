"""The widget that shows a picture. It draws only rows that changed, and never needs a new layout."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from rich.segment import Segment
from textual import events
from textual.app import ComposeResult
from textual.geometry import Region
from textual.message import Message
from textual.strip import Strip
from textual.widget import Widget
from textual.widgets import TextArea

from pivrex.scene.marks import ROLES
from pivrex.tui.draw.fit import covered
from pivrex.tui.draw.picture import TEXT, Picture, to_ascii
from pivrex.tui.themes import STROKES, TEXTURES, style_of

__all__ = ["Canvas"]

APART = 5
"""Columns: changes that are nearer to each other are written in one go."""


class Canvas(Widget):
    """Shows the last picture it was given."""

    DEFAULT_CSS = """
    Canvas { width: 1fr; height: 1fr; background: $background; layers: base inner; }
    Canvas > * { layer: inner; }
    """

    @dataclass
    class Pointed(Message):
        """The mouse pressed, dragged or let go at a cell."""

        canvas: Canvas
        x: int
        y: int
        phase: str
        """"press", "drag" or "release"."""

        @property
        def control(self) -> Canvas:
            return self.canvas

    ALLOW_SELECT = False

    ascii_only = False
    """Set once for the program: the terminal knows ASCII only."""

    def __init__(
        self,
        *,
        id: str | None = None,  # noqa: A002 - Textual's name
        inner: Callable[[], Iterable[Widget]] = tuple,
        heard: Callable[[Message], None] = lambda _: None,
    ) -> None:
        super().__init__(id=id)
        self._inner, self._heard = inner, heard
        self._picture = Picture(0, 0)
        self.row_by_row = False
        """Whether of each row only what changed is written: there may be pixels next to it."""
        self._strips: dict[int, Strip] = {}
        self._styles_of = ""

    def compose(self) -> ComposeResult:
        yield from self._inner()

    def on_text_area_changed(self, event: TextArea.Changed) -> None:
        self._hear(event)

    def on_text_area_selection_changed(self, event: TextArea.SelectionChanged) -> None:
        self._hear(event)

    def _hear(self, message: Message) -> None:
        """Pass on what a widget says that stands on the canvas."""
        message.stop()
        self._heard(message)

    @property
    def picture(self) -> Picture:
        """The shown picture."""
        return self._picture

    def show(self, picture: Picture) -> None:
        """Show a picture; rows that are as they were cost nothing."""
        before, self._picture = self._picture, picture
        if before.chars.shape != picture.chars.shape:
            self._strips.clear()
            self.refresh()
            return
        changed = (
            (before.chars != picture.chars)
            | (before.roles != picture.roles)
            | (before.grounds != picture.grounds)
            | (before.blends != picture.blends)
        )
        rows = np.flatnonzero(changed.any(axis=1)).tolist()
        for y in rows:
            self._strips.pop(y, None)
        if rows:
            if self.row_by_row:
                regions = [Region(run[0], y, len(run), 1) for y in rows for run in _runs(changed[y])]
            else:
                blocks = np.split(rows, np.flatnonzero(np.diff(rows) > 1) + 1)
                regions = [Region(0, int(block[0]), picture.width, len(block)) for block in blocks]
            self.refresh(*regions)

    def render_lines(self, crop: Region) -> list[Strip]:
        """Return the rows of a region. There is no border or padding that Textual's own way would have to add."""
        rows = [self.render_line(y) for y in range(crop.y, crop.bottom)]
        if crop.x == 0 and crop.width == self.size.width:
            return rows
        return [row.crop(crop.x, crop.right) for row in rows]

    def render_line(self, y: int) -> Strip:
        """Return a row for Textual."""
        theme = self.app.theme
        if theme != self._styles_of:
            self._styles_of = theme
            self._strips.clear()
        strip = self._strips.get(y)
        if strip is None:
            strip = self._strips[y] = self._strip(y, theme)
        return strip

    def _strip(self, y: int, theme: str) -> Strip:
        picture, behind = self._picture, style_of(theme, 0)
        if y >= picture.height or not picture.width:
            return Strip.blank(self.size.width, behind)
        text = picture.row(y)
        if theme == "plain" or self.ascii_only:
            text = self._textured(text, y)
        if self.ascii_only:
            text = to_ascii(text)
        roles, grounds, blends = picture.roles[y], picture.grounds[y], picture.blends[y]
        differs = (roles[1:] != roles[:-1]) | (grounds[1:] != grounds[:-1]) | (blends[1:] != blends[:-1])
        starts = [0, *(np.flatnonzero(differs) + 1).tolist()]
        looks = zip(roles[starts].tolist(), grounds[starts].tolist(), blends[starts].tolist(), strict=True)
        segments = [
            Segment(text[a:b], style_of(theme, *look))
            for (a, b), look in zip(itertools.pairwise([*starts, len(text)]), looks, strict=True)
        ]
        return Strip(segments, picture.width).adjust_cell_length(self.size.width, behind)

    def _textured(self, text: str, y: int) -> str:
        """Draw a row without colours: areas of signs, lines of blocks or of their own sign."""
        picture = self._picture
        if not picture.grounds[y].any() and (picture.blends[y] == TEXT).all():
            return text
        over = covered(text, picture.blends[y])
        cells = zip(
            text, picture.roles[y].tolist(), picture.grounds[y].tolist(), picture.blends[y].tolist(), over, strict=True
        )
        return "".join(_sign(*cell) for cell in cells)

    def on_show(self) -> None:
        # a picture that was set while this was hidden has not been drawn
        self.refresh()

    def on_resize(self) -> None:
        self._strips.clear()
        self.refresh()

    def on_mouse_down(self, event: events.MouseDown) -> None:
        if event.button == 1:
            self.capture_mouse()
            self.post_message(self.Pointed(self, event.x, event.y, "press"))

    def on_mouse_move(self, event: events.MouseMove) -> None:
        if event.button == 1 and self.app.mouse_captured is self:
            self.post_message(self.Pointed(self, event.x, event.y, "drag"))

    def on_mouse_up(self, event: events.MouseUp) -> None:
        if self.app.mouse_captured is self:
            self.release_mouse()
            self.post_message(self.Pointed(self, event.x, event.y, "release"))


def _runs(changed: NDArray[np.bool_]) -> list[range]:
    """Return the changed columns, in runs with more than `APART` columns between them: unchanged columns are not written again."""
    columns = np.flatnonzero(changed)
    runs = np.split(columns, np.flatnonzero(np.diff(columns) > APART) + 1)
    return [range(int(run[0]), int(run[-1]) + 1) for run in runs]


def _sign(char: str, role: int, ground: int, blend: int, over: bool) -> str:
    """Return the sign of a cell for a terminal without colours."""
    if blend == TEXT:
        name = ROLES[ground]
        return TEXTURES.get(name) or STROKES.get(name, "█") if char == " " and name else char
    name = ROLES[role]
    if name in TEXTURES or not name:
        return TEXTURES.get(name if over else ROLES[ground], " ")
    return STROKES.get(name, char)
