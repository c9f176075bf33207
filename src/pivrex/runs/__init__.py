"""Kept runs, and recordings played with a rig: their Ticks."""

from pivrex.runs.ticks import as_played, blocks_of_ticks, play_through

__all__ = ["as_played", "blocks_of_ticks", "play_through"]
