"""Routine: what the robot does alone, seen as it is typed."""

from pivrex.tui.views.routine.clock import match_head, period_words, routine_bars, routine_exports
from pivrex.tui.views.routine.commands import ROUTINE_COMMANDS
from pivrex.tui.views.routine.view import RoutineView

__all__ = ["ROUTINE_COMMANDS", "RoutineView", "match_head", "period_words", "routine_bars", "routine_exports"]
