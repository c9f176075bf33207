"""Recordings played through a line: the Ticks that they make."""

from pivrex.runs.ticks import as_played, blocks_of_ticks, play_through

__all__ = ["as_played", "blocks_of_ticks", "play_through"]
