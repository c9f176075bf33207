"""Help: the signs of the open view, then the keys that act there."""

from __future__ import annotations

from textual.app import ComposeResult
from textual.containers import VerticalScroll
from textual.screen import ModalScreen

from pivrex.tui.canvas import Canvas
from pivrex.tui.commands import Command
from pivrex.tui.draw.parts import wrapped
from pivrex.tui.draw.picture import Picture
from pivrex.tui.keys import key_name
from pivrex.tui.overlays.closing import LiesOver

__all__ = ["Help", "draw_help"]

WIDEST = 132
SIGNS = 12


class Help(LiesOver, ModalScreen[None]):
    """Lies over the view that it explains; scrolled by keys or wheel, closed by its own key."""

    DEFAULT_CSS = """
    Help { background: transparent; align: left top; }
    Help VerticalScroll {
        width: 100%; max-width: 136; height: auto; max-height: 100%; margin: 4 2 2 2; border: round $foreground;
        background: $background; border-title-color: $foreground; border-title-style: bold;
        scrollbar-size-vertical: 1; scrollbar-color: $foreground; scrollbar-background: $background;
    }
    Help.ascii VerticalScroll { border: ascii $foreground; }
    Help Canvas { width: 100%; }
    """
    means = ("up", "down", "home", "end", "pageup", "pagedown")

    def __init__(self, view: str, signs: list[tuple[str, str]], commands: list[Command], key: str) -> None:
        super().__init__(classes="ascii" if Canvas.ascii_only else None)
        self._view, self._signs, self._commands, self.own_key = view, signs, commands, key
        self._canvas = Canvas()

    def compose(self) -> ComposeResult:
        with VerticalScroll():
            yield self._canvas

    def on_mount(self) -> None:
        scroll = self.query_one(VerticalScroll)
        scroll.border_title = f"{self._view}: what is to be seen, and the keys  {key_name(self.own_key)} closes"
        scroll.focus()
        self.on_resize()

    def on_resize(self) -> None:
        picture = draw_help(self._signs, self._commands, min(WIDEST, max(24, self.app.size.width - 8)))
        self._canvas.styles.height = picture.height
        self._canvas.show(picture)


def draw_help(signs: list[tuple[str, str]], commands: list[Command], width: int) -> Picture:
    """Draw all of it, as high as it is; sentences that are too long go on in the next row."""
    lines = [(sign, text, "measured") for sign, text in signs]
    lines.append(("", "", "rest"))
    lines += [(c.key, f"{c.title}: {c.help}", "key") for c in commands if c.keys]
    lines.append(("F1 to F12", "press the buttons that the rig uses; Driver shows which", "key"))
    lines.append(("w a s d", "drive by keys, the left stick; i j k l the right one, q and e the triggers", "key"))
    rows = [
        (sign if i == 0 else "", part, named)
        for sign, text, named in lines
        for i, part in enumerate(wrapped(text, width - SIGNS - 2) or [""])
    ]
    picture = Picture(width, len(rows))
    for y, (sign, text, named) in enumerate(rows):
        picture.text(1, y, sign, named)
        picture.text(SIGNS, y, text, "rest", width - SIGNS)
    return picture
