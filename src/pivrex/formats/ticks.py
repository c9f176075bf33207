"""A table of Ticks as CSV: a column for each number, every bit of it kept."""

from __future__ import annotations

from pivrex.line.layout import Floats
from pivrex.line.line import Line

__all__ = ["tick_header", "tick_line"]


def tick_header(line: Line) -> str:
    """Give the first line of a table of Ticks."""
    return ",".join(line.layout.titles) + "\n"


def tick_line(row: Floats) -> str:
    """Write a Tick, (K,), as a line. Each number is the shortest that reads back as the same; what is not there is an
    empty cell.
    """
    text = ",".join(map(repr, row.tolist())) + "\n"
    text = text.replace(".0,", ",").replace(".0\n", "\n")  # whole numbers without their zero
    return text.replace("nan", "") if "nan" in text else text
