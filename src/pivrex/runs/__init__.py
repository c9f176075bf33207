"""Recordings played through a line: the Ticks that they make."""

from pivrex.runs.ticks import as_played, play_through

__all__ = ["as_played", "play_through"]
