"""What lies over a view for a moment: lists, help, the palette, a value that is typed."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.overlays.choices import Choice, Choices
    from pivrex.tui.overlays.entry import ValueEntry
    from pivrex.tui.overlays.help import Help
    from pivrex.tui.overlays.message_list import Messages
    from pivrex.tui.overlays.palette import Palette

__all__ = ["Choice", "Choices", "Help", "Messages", "Palette", "ValueEntry"]
__getattr__ = showing(
    __name__, choices="Choice Choices", entry="ValueEntry", help="Help", message_list="Messages", palette="Palette"
)
