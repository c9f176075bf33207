"""What every view is: a canvas that the app asks to take what is new and to draw it, and hands keys and the mouse."""

from __future__ import annotations

from pivrex.tui.canvas import Canvas
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel

__all__ = ["View"]


class View(Canvas):
    """A view of the model. Subclasses draw, and have ``act_NAME`` for the commands of their own."""

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(id=name)
        self.view_name = name
        self.typing = False
        """Whether somebody types in a text: then keys are the text's."""
        self.model = model

    def opened(self) -> None:
        """Begin what goes on while the view is open. Textual's own Show and Hide come late, so the app calls these two itself."""

    def closed(self) -> None:
        """End what goes on while the view is open: another one opens."""

    def update(self) -> None:
        """Take what is new, once a frame while the view is open: only here, and where keys and mouse lead, may a view ask
        the session for something or change the rig.
        """

    def draw(self, width: int, height: int) -> Picture:
        """Draw what there is now. Changes nothing; what can be clicked is marked in the picture."""
        raise NotImplementedError

    def press(self, what: str, value: str) -> bool:
        """Take a click on something that was marked; tells whether that is all. If not, `point` follows."""
        return False

    def point(self, x: int, y: int, phase: str) -> None:
        """Take the mouse at a cell."""

    def select(self, key: str) -> None:
        """Select a setting of the rig, if this view has it."""

    def has(self, key: str) -> bool:
        """Tell whether this view shows a setting of the rig."""
        return False

    def chosen_key(self) -> str:
        """Give the key of the rig at which what is selected here stands; empty if nothing of the rig is."""
        return ""

    def copied(self) -> list[str]:
        """Give what is selected here as lines of text."""
        key = self.chosen_key()
        return [f"{key} = {self.model.file.get(key)}"] if key else []

    def help_lines(self) -> list[tuple[str, str]]:
        """Give what is to be seen here: a sign, and what it means."""
        return []

    def cancel(self) -> None:
        """Give up what the view waits for: the robot was stopped."""

    def close(self) -> None:
        """Let go of what works beside the screen: it ends."""

    def take_key(self, key: str) -> bool:
        """Take a key before the commands do, where something in the view asks for one; tells whether it was taken."""
        return False
