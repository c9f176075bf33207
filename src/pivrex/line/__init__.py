"""The line: every stage as an object of its own, and the Tick that joins them."""

from pivrex.line.entry import Entry
from pivrex.line.layout import Column, Layout, plain
from pivrex.line.line import Line, LineState

__all__ = ["Column", "Entry", "Layout", "Line", "LineState", "plain"]
