"""A table of Ticks as CSV: a column for each number, every bit of it kept."""

from __future__ import annotations

import orjson

from pivrex.line.layout import Floats
from pivrex.line.line import Line

__all__ = ["tick_header", "tick_line"]


def tick_header(line: Line) -> str:
    """Give the first line of a table of Ticks."""
    return ",".join(line.layout.titles) + "\n"


def tick_line(row: Floats) -> str:
    """Write a Tick, (K,), as a line. Each number is the shortest that reads back as the same, a whole one without its
    point; what is not there is an empty cell.
    """
    # a library for another format writes exact numbers ten times as fast as Python does
    text = orjson.dumps(row, option=orjson.OPT_SERIALIZE_NUMPY)[1:-1].decode("ascii") + "\n"
    text = text.replace(".0,", ",").replace(".0\n", "\n")
    return text.replace("null", "") if "null" in text else text
