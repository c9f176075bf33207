"""What every panel is: one idea, drawn in a rectangle of a view; it takes keys, clicks and the mouse."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from pivrex.tui.draw.picture import Picture

if TYPE_CHECKING:
    from pivrex.tui.view import View

__all__ = ["Panel", "Rect", "Rule"]


class Rect(NamedTuple):
    """Where something is drawn, in cells."""

    x: int
    y: int
    width: int
    height: int

    def holds(self, x: int, y: int) -> bool:
        """Tell whether a cell lies in it."""
        return self.x <= x < self.x + self.width and self.y <= y < self.y + self.height


class Panel:
    """A part of a view. Subclasses say what they can; all else does nothing. ``act_NAME`` does a command of its view."""

    def __init__(self, view: View) -> None:
        self.view, self.model = view, view.model

    def draw(self, width: int, height: int) -> Picture:
        """Draw what there is now. Changes nothing of the model; what can be clicked is marked in the picture."""
        return Picture(width, height)

    def opened(self) -> None:
        """Begin what goes on while the view is open."""

    def closed(self) -> None:
        """End what goes on while the view is open: another one opens."""

    def update(self) -> None:
        """Take what is new, once a frame while the view is open: only here, and where keys and mouse lead, may a panel ask
        the session for something or change the rig.
        """

    def take_key(self, key: str) -> bool:
        """Take a key before the commands do, where something asks for one; tells whether it was taken."""
        return False

    def press(self, what: str, value: str) -> bool:
        """Take a click on something that was marked; tells whether that is all. If not, `point` follows."""
        return False

    def point(self, x: int, y: int, phase: str) -> None:
        """Take the mouse at a cell of the panel: "press" in it, and "drag" and "release" of what was pressed there."""

    def cancel(self) -> None:
        """Give up what is waited for: the robot was stopped."""

    def close(self) -> None:
        """Let go of what works beside the screen: it ends."""

    # --- settings of the rig ---

    def has(self, key: str) -> bool:
        """Tell whether it shows a setting of the rig."""
        return False

    def select(self, key: str) -> None:
        """Select a setting that it has."""

    def chosen_key(self) -> str:
        """Give the key of the rig at which what is selected here stands; empty if nothing of the rig is."""
        return ""

    def copied(self) -> list[str]:
        """Give what is selected here as lines of text."""
        key = self.chosen_key()
        return [f"{key} = {self.model.file.get(key)}"] if key else []


class Rule(Panel):
    """A line between panels: as wide, or as high, as its rectangle."""

    def draw(self, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        if width == 1:
            picture.down(0, 0, height)
        else:
            picture.across(0, 0, width)
        return picture
