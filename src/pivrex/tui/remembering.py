"""Remembers the choices on the screen for their workspace."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from pivrex.session.remembered import Chosen, remember
from pivrex.tui.model import ScreenModel
from pivrex.tui.themes import FEW

if TYPE_CHECKING:
    from textual.app import App

    _Base = App[int]
else:
    _Base = object

__all__ = ["Remembering"]


class Remembering(_Base):
    """For the application: its theme by the name that people know, and what is remembered."""

    model: ScreenModel
    _open: str
    _chosen = Chosen()

    @property
    def look(self) -> str:
        """The theme by the name that people know."""
        return self.theme.removesuffix(FEW)

    def look_is(self, name: str) -> None:
        """Take a theme, as it is for a terminal with as many colours as this one has."""
        few = self.console.color_system in ("standard", "windows") and name != "plain"
        self.theme = name + FEW if few else name

    def remember(self) -> None:
        """Remember the choices of this workspace, if they changed."""
        model = self.model
        if model.replay is not None or model.practice:
            return  # what is open was driven before, or is a copy
        theme = "" if os.environ.get("NO_COLOR") else self.look
        source = model.status.source
        now = Chosen(self._open, theme, model.file.path.stem, "" if source.startswith("recording ") else source)
        if now != self._chosen and not self.is_headless:
            self._chosen = now
            remember(model.folder.path, now)
