"""The views: their panels, places and keys; and a row for each in one table."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.views.view_row import ViewRow
    from pivrex.tui.views.view_table import VIEWS

__all__ = ["VIEWS", "ViewRow"]
__getattr__ = showing(__name__, view_row="ViewRow", view_table="VIEWS")
