"""Recordings played through a line: the Ticks that they make."""

from pivrex.runs.ticks import play_through

__all__ = ["play_through"]
