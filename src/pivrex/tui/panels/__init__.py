"""Panels: one idea a file, drawn in a rectangle from a Tick or a result."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.panels.settings_list import SettingsView

__all__ = ["SettingsView"]
__getattr__ = showing(__name__, settings_list="SettingsView")
