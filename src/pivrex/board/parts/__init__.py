"""The parts of a board's program that are the same for every rig, copied unchanged into its folder."""

from __future__ import annotations

from importlib.resources import files

__all__ = ["part"]


def part(name: str) -> str:
    """Return a part of the program by the name of its file."""
    return (files("pivrex.board.parts") / name).read_text(encoding="utf-8")
