"""Panels: one idea per file, drawn in a rectangle from a Tick or a result."""

from typing import TYPE_CHECKING

from pivrex.face import showing

if TYPE_CHECKING:
    from pivrex.tui.panels.panel import Panel, Rect, Rule

__all__ = ["Panel", "Rect", "Rule"]
__getattr__ = showing(__name__, panel="Panel Rect Rule")
