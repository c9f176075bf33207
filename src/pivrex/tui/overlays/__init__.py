"""Overlays over a view: lists, help, the palette, a typed value."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.overlays.choices import Choice, Choices
    from pivrex.tui.overlays.entry import ValueEntry
    from pivrex.tui.overlays.palette import Palette

__all__ = ["Choice", "Choices", "Palette", "ValueEntry"]
__getattr__ = showing(__name__, choices="Choice Choices", entry="ValueEntry", palette="Palette")
