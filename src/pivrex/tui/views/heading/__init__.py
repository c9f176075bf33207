"""The view Heading: what the heading loop answers, what it gives now, and its gains in place."""

from pivrex.tui.views.heading.view import HEADING_COMMANDS, HeadingView, heading_bars, heading_exports

__all__ = ["HEADING_COMMANDS", "HeadingView", "heading_bars", "heading_exports"]
