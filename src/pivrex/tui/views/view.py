"""What every view is: a canvas that the app asks to draw itself, and hands keys and the mouse."""

from __future__ import annotations

from pivrex.tui.canvas import Canvas
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel

__all__ = ["View"]


class View(Canvas):
    """A view of the model. Subclasses draw, and have ``act_NAME`` for the commands of their own."""

    name_: str = ""
    digit: str = ""

    def __init__(self, model: ScreenModel) -> None:
        super().__init__(id=self.name_)
        self.model = model

    def draw(self, width: int, height: int) -> Picture:
        """Draw what the model holds now."""
        raise NotImplementedError

    def point(self, x: int, y: int, phase: str) -> None:
        """Take the mouse at a cell."""

    def select(self, key: str) -> None:
        """Select a setting of the rig, if this view has it."""

    def has(self, key: str) -> bool:
        """Tell whether this view shows a setting of the rig."""
        return False

    def help_lines(self) -> list[tuple[str, str]]:
        """Give what is to be seen here: a sign, and what it means."""
        return []

    def cancel(self) -> None:
        """Give up what the view waits for: the robot was stopped."""

    def take_key(self, key: str) -> bool:
        """Take a key before the commands do, where something in the view asks for one; tells whether it was taken."""
        return False
