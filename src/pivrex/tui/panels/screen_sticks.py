"""Two sticks to drag with the mouse, and the values of their channels."""

from __future__ import annotations

from pivrex.session.messages import LetGo, MoveSticks
from pivrex.tui.draw.parts import number
from pivrex.tui.draw.picture import Picture
from pivrex.tui.draw.stick import draw_stick
from pivrex.tui.panels.panel import Panel, View

__all__ = ["STICKS_H", "STICKS_W", "ScreenSticks"]

STICK_H = 7
STICK_W = 15
STICKS_H, STICKS_W = STICK_H + 2, 2 * STICK_W + 2
"""What both need, in cells."""

NUMBER, MIN_NAME = 7, 9
"""What a reading needs next to its name, and what a name needs at least."""


class ScreenSticks(Panel):
    """They drive while they are held, and spring back."""

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self._places: dict[str, tuple[int, int]] = {}
        self._held = ""

    def depends(self) -> tuple[object, ...]:
        return self.model.serial, tuple(self.model.value("raw", channel) for channel in self.model.line.channels)

    def draw(self, width: int, height: int) -> Picture:
        picture, model, self._places = Picture(width, height), self.model, {}
        picture.text(0, 0, "sticks", "title")
        hint = "drag with the mouse, or w a s d and i j k l" if width >= 54 else "drag, or w a s d"
        picture.right(width, 0, hint, "dim")
        for i, side in enumerate(("left", "right")):
            left = i * (STICK_W + 3)
            at = {}
            for axis in ("x", "y"):
                channel = f"{side}_{axis}"
                used = channel in model.line.channels
                at[axis] = model.value("raw", channel) if used and model.row is not None else 0.0
            used = any(f"{side}_{a}" in model.line.channels for a in "xy")
            picture.place(draw_stick(at["x"], at["y"], STICK_W, STICK_H, used, side), left, 1)
            self._places[side] = (left, 1)
        text, channels = 2 * (STICK_W + 3), model.line.channels
        names = min(max(map(len, channels), default=0) + 1, width - text - NUMBER)
        if names < MIN_NAME:
            return picture
        shown = channels if len(channels) <= STICK_H else [*channels[: STICK_H - 1], ""]
        for row, channel in enumerate(shown, 1):
            name = channel if len(channel) < names else f"…{channel[2 - names :]}"
            picture.text(text, row, name if channel else f"{len(channels) - STICK_H + 1} more: Driver (1)", "dim")
            if channel:
                picture.text(text + names, row, number(model.value("raw", channel), 3, NUMBER), "rest")
        return picture

    def point(self, x: int, y: int, phase: str) -> None:
        if phase == "press":
            self._held = next(
                (s for s, (left, top) in self._places.items() if 0 <= x - left < STICK_W and 0 <= y - top < STICK_H), ""
            )
        if not self._held:
            return
        if phase == "release":
            self.model.ask(LetGo())
            self._held = ""
            return
        left, top = self._places.get(self._held, (0, 0))
        across = (x - left - STICK_W // 2) / (STICK_W // 2 - 1)
        down = (y - top - STICK_H // 2) / (STICK_H // 2 - 0.5)
        self.model.ask(MoveSticks({f"{self._held}_x": across, f"{self._held}_y": down}))
