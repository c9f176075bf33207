"""The screen on which you make your own robot."""

from __future__ import annotations

from pathlib import Path

from textual import events
from textual.app import ComposeResult
from textual.screen import ModalScreen

from pivrex.tui.canvas import Canvas
from pivrex.tui.maker.maker_picture import draw_making
from pivrex.tui.maker.robot_in_making import Making
from pivrex.tui.overlays.closing import LiesOver

__all__ = ["Maker"]


class Maker(LiesOver, ModalScreen[Path | None]):
    """Return the file of the robot that was made, or None.

    Parameters
    ----------
    folder : Path
        The workspace.
    """

    DEFAULT_CSS = """
    Maker { background: $background; align: left top; }
    Maker Canvas { width: 100%; height: 100%; margin: 1 1; }
    """

    def __init__(self, folder: Path) -> None:
        super().__init__()
        self.making = Making(folder)
        self.making.typed = self.making.robot.name
        self.canvas = Canvas()

    def compose(self) -> ComposeResult:
        yield self.canvas

    def on_mount(self) -> None:
        self._draw()

    def on_resize(self) -> None:
        self.call_after_refresh(self._draw)

    def _draw(self) -> None:
        width, height = self.canvas.size
        if width and height:
            self.canvas.show(draw_making(self.making, width, height))

    def on_key(self, event: events.Key) -> None:
        event.stop()
        making, key = self.making, event.key
        if key == "enter" and making.step == "write":
            made = making.write()
            if made is not None:
                self.dismiss(made)
                return
        elif key == "enter" or (key in ("right", "tab") and not making.types):
            making.go(1)
        elif key in ("left", "shift+tab") or (key == "backspace" and not making.types):
            making.go(-1)
        elif making.types:
            if key == "backspace":
                making.rub_out()
            elif event.character and event.character.isprintable():
                making.type(event.character)
        elif key in ("up", "down"):
            making.look_at(making.at + (1 if key == "down" else -1))
        elif key == "space":
            making.mark()
        self._draw()

    def on_paste(self, event: events.Paste) -> None:
        event.stop()
        if self.making.types:
            for char in event.text.splitlines()[0] if event.text else "":
                self.making.type(char)
            self._draw()

    def on_canvas_pointed(self, message: Canvas.Pointed) -> None:
        """Choose by the mouse; what is chosen already goes on, or is taken in or out."""
        message.stop()
        spot = self.canvas.picture.spot_at(message.x, message.y) if message.phase == "press" else None
        if spot is not None and spot.what == "step":
            self.making.go_to(spot.value)
        elif spot is not None and spot.what == "option":
            again = int(spot.value) == self.making.at
            self.making.look_at(int(spot.value))
            if self.making.several:
                self.making.mark()
            elif again:
                self.making.go(1)
        self._draw()
