"""A path on the field: drawn, changed by hand, and tried on the stand-in."""

from pivrex.tui.views.paths.acts import PATH_COMMANDS, PathActs

__all__ = ["PATH_COMMANDS", "PathActs"]
