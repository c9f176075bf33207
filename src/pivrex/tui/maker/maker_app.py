"""Makes a robot when none is open yet: the same screen, alone."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar

from textual.app import App
from textual.binding import Binding, BindingType

from pivrex.tui.maker.maker_overlay import Maker
from pivrex.tui.themes import FEW, THEMES

__all__ = ["MakerApp"]


class MakerApp(App[Path | None]):
    """Return the file of the robot that was made, or None."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape", "leave", priority=True, show=False),
        Binding("ctrl+c", "leave", priority=True, show=False),
        Binding("ctrl+q", "leave", priority=True, show=False),
    ]

    def __init__(self, folder: Path, theme: str) -> None:
        super().__init__()
        for one in THEMES:
            self.register_theme(one)
        few = self.console.color_system in ("standard", "windows") and theme != "plain"
        self.theme = theme + FEW if few else theme
        self._folder = folder

    def on_mount(self) -> None:
        self.push_screen(Maker(self._folder), self._made)

    def _made(self, path: object) -> None:
        self.exit(path if isinstance(path, Path) else None)

    def action_leave(self) -> None:
        self.exit(None)
