"""Documents: a text on disk and on the screen, what was changed here and outside, and what can be taken back."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.documents.path_document import PathDesk
    from pivrex.tui.documents.routine_document import Desk

__all__ = ["Desk", "PathDesk"]
__getattr__ = showing(__name__, path_document="PathDesk", routine_document="Desk")
