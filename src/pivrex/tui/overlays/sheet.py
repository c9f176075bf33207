"""A sheet of text over a view: as high as its text, scrolled by keys or wheel, closed by its own key."""

from __future__ import annotations

from collections.abc import Callable

from textual.app import ComposeResult
from textual.containers import VerticalScroll
from textual.screen import ModalScreen

from pivrex.tui.canvas import Canvas
from pivrex.tui.draw.picture import Picture
from pivrex.tui.keys import key_name
from pivrex.tui.overlays.closing import LiesOver

__all__ = ["Sheet"]

WIDEST = 150
LOOK_AGAIN_S = 0.5


class Sheet(LiesOver, ModalScreen[None]):
    """A sheet is drawn again whenever its window changes, and if its text goes on, twice a second.

    Parameters
    ----------
    title : str
    key : str
        The key that opened it closes it.
    drawn : callable
        Draws all of it at a width, as high as it is.
    goes_on : bool
    """

    DEFAULT_CSS = """
    Sheet { background: transparent; align: left top; }
    Sheet VerticalScroll {
        width: 100%; max-width: 160; height: auto; max-height: 100%; margin: 4 0 2 0; border: round $foreground;
        background: $background; border-title-color: $foreground; border-title-style: bold;
        scrollbar-size-vertical: 1; scrollbar-color: $foreground; scrollbar-background: $background;
    }
    Sheet.ascii VerticalScroll { border: ascii $foreground; }
    Sheet Canvas { width: 100%; }
    """
    means = ("up", "down", "home", "end", "pageup", "pagedown")

    def __init__(self, title: str, key: str, drawn: Callable[[int], Picture], goes_on: bool = False) -> None:
        super().__init__(classes="ascii" if Canvas.ascii_only else None)
        self._title, self.own_key, self._drawn, self._goes_on = title, key, drawn, goes_on
        self._canvas = Canvas()

    def compose(self) -> ComposeResult:
        with VerticalScroll():
            yield self._canvas

    def on_mount(self) -> None:
        scroll = self.query_one(VerticalScroll)
        scroll.border_title = f"{self._title}  {key_name(self.own_key)} closes"
        scroll.focus()
        self.on_resize()
        if self._goes_on:
            self.set_interval(LOOK_AGAIN_S, self.on_resize)

    def on_resize(self) -> None:
        picture = self._drawn(min(WIDEST, max(24, self.app.size.width - 8)))
        if self._canvas.styles.height is None or self._canvas.picture.height != picture.height:
            self._canvas.styles.height = picture.height
        self._canvas.show(picture)
