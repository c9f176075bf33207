"""The line: every stage a pure function, and the Tick that joins them."""

from pivrex.line.layout import Column, Layout, plain
from pivrex.line.line import Line, LineState

__all__ = ["Column", "Layout", "Line", "LineState", "plain"]
