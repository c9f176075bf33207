"""A view as a row: all that the rest of the screen needs of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from pivrex.tui.commands import Command
from pivrex.tui.draw.bar import Cell
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.panel import View

__all__ = ["Bars", "ViewRow"]

Bars = tuple[tuple[str, float, str, str], ...]


def _nothing(_model: ScreenModel) -> list[list[str]]:
    return []


@dataclass(frozen=True)
class ViewRow:
    """One view.

    Attributes
    ----------
    name, digit : str
        It stands in the line by both, ``--view NAME`` opens it, and so does the digit's key.
    title : str
        A few words.
    help : str
        A sentence for ``?`` and the palette: what opening it shows.
    view : type of View
    bars : callable
        The tiny live instrument of its cell: (name, fraction of full, number with unit, role) each.
    exports : callable
        What ``x`` draws: the words behind `pivrex export` of each drawing, without ``-o``. May raise `SaveError`.
    commands : tuple of Command
        Those of its own; ``act_NAME`` of the view does them.
    """

    name: str
    digit: str
    title: str
    help: str
    view: type[View]
    bars: Callable[[ScreenModel], Bars]
    exports: Callable[[ScreenModel], list[list[str]]] = _nothing
    commands: tuple[Command, ...] = ()

    @property
    def needs_chassis(self) -> bool:
        """Whether it shows nothing of a bench."""
        return self.view.NEEDS_CHASSIS

    def cell(self, model: ScreenModel, is_open: bool) -> Cell:
        """Return its cell of the line."""
        off = self.needs_chassis and model.rig.is_bench
        return Cell(self.digit, self.name, is_open, (("no robot", 0.0, "", "dim"),) if off else self.bars(model))
