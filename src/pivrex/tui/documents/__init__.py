"""Documents: what rigs, routines and paths add to an open text; see `pivrex.document`."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.documents.path_document import PathDocument
    from pivrex.tui.documents.routine_document import RoutineDocument

__all__ = ["PathDocument", "RoutineDocument"]
__getattr__ = showing(__name__, path_document="PathDocument", routine_document="RoutineDocument")
