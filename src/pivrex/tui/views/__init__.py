"""The views: each a class that draws, and a row in one table."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.views.row import ViewRow
    from pivrex.tui.views.settings import SettingsView
    from pivrex.tui.views.table import VIEWS
    from pivrex.tui.views.view import View

__all__ = ["VIEWS", "SettingsView", "View", "ViewRow"]
__getattr__ = showing(__name__, row="ViewRow", table="VIEWS", view="View", settings="SettingsView")
