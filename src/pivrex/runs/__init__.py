"""Recordings on disk and the Ticks that they make."""

from pivrex.runs.ticks import play_through, tick_table

__all__ = ["play_through", "tick_table"]
