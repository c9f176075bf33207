"""What was said: every message whole, with its time, newest first; above them what the open rig is warned of."""

from __future__ import annotations

from collections.abc import Callable

from textual.app import ComposeResult
from textual.containers import VerticalScroll
from textual.screen import ModalScreen

from pivrex.tui.canvas import Canvas
from pivrex.tui.draw.parts import wrapped
from pivrex.tui.draw.picture import Picture
from pivrex.tui.editing import Told
from pivrex.tui.keys import key_name
from pivrex.tui.overlays.closing import LiesOver

__all__ = ["Messages", "draw_messages"]

LOOK_AGAIN_S = 0.5
WIDEST = 150
TIMES = 10


class Messages(LiesOver, ModalScreen[None]):
    """Lies over the view; scrolled by keys or wheel, closed by its own key."""

    DEFAULT_CSS = """
    Messages { background: transparent; align: left top; }
    Messages VerticalScroll {
        width: 100%; max-width: 154; height: auto; max-height: 100%; margin: 4 2 2 2; border: round $foreground;
        background: $background; border-title-color: $foreground; border-title-style: bold;
        scrollbar-size-vertical: 1; scrollbar-color: $foreground; scrollbar-background: $background;
    }
    Messages.ascii VerticalScroll { border: ascii $foreground; }
    Messages Canvas { width: 100%; }
    """
    means = ("up", "down", "home", "end", "pageup", "pagedown")

    def __init__(self, told: Callable[[], list[Told]], warnings: Callable[[], list[str]], key: str) -> None:
        super().__init__(classes="ascii" if Canvas.ascii_only else None)
        self._told, self._warnings, self.own_key = told, warnings, key
        self._canvas = Canvas()

    def compose(self) -> ComposeResult:
        with VerticalScroll():
            yield self._canvas

    def on_mount(self) -> None:
        scroll = self.query_one(VerticalScroll)
        scroll.border_title = f"what was said  {key_name(self.own_key)} closes"
        scroll.focus()
        self.on_resize()
        self.set_interval(LOOK_AGAIN_S, self.on_resize)

    def on_resize(self) -> None:
        picture = draw_messages(self._told(), self._warnings(), min(WIDEST, max(24, self.app.size.width - 8)))
        if self._canvas.styles.height is None or self._canvas.picture.height != picture.height:
            self._canvas.styles.height = picture.height
        self._canvas.show(picture)


def draw_messages(told: list[Told], warnings: list[str], width: int) -> Picture:
    """Draw all of them, newest first; one that is too long goes on in the next row."""
    rows: list[tuple[str, str, str]] = []
    if warnings:
        rows.append(("", "warnings of the open rig: no mistakes, but worth a look", "title"))
        for warning in warnings:
            rows += [
                ("!" if i == 0 else "", part, "alarm") for i, part in enumerate(wrapped(warning, width - TIMES - 2))
            ]
        rows.append(("", "", "rest"))
    if not told:
        rows.append(("", "nothing was said yet", "rest"))
    for one in reversed(told):
        text = one.text + (f"  ({one.times} times)" if one.times > 1 else "")
        named = "alarm" if one.alarm else "rest"
        rows += [
            (one.at if i == 0 else "", part, named) for i, part in enumerate(wrapped(text, width - TIMES - 2) or [""])
        ]
    picture = Picture(width, max(1, len(rows)))
    for y, (at, text, named) in enumerate(rows):
        picture.text(1, y, at, "alarm" if at == "!" else "key")
        picture.text(TIMES, y, text, named, width - TIMES)
    return picture
