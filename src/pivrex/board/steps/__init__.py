"""Routines on a board: a checked routine becomes a table of steps, which kernels run together with the line."""

from pivrex.board.steps.routine import BoardRoutine, Task

__all__ = ["BoardRoutine", "Task"]
