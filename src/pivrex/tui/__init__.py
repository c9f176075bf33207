"""What people touch: drawing and keys, no computation."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.app import PivrexApp
    from pivrex.tui.commands import Command, Commands
    from pivrex.tui.model import ScreenModel

__all__ = ["Command", "Commands", "PivrexApp", "ScreenModel"]
__getattr__ = showing(__name__, app="PivrexApp", model="ScreenModel", commands="Command Commands")
