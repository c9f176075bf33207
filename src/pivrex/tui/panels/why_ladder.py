"""The why of the selected wheel: a sentence, and a ladder with a rung for each stage."""

from __future__ import annotations

from pivrex.line.why import Rung, ladder, sentence
from pivrex.tui.draw.bar import draw_ladder, draw_why
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel

__all__ = ["WhyLadder"]


class WhyLadder:
    """It stands below every view.

    Attributes
    ----------
    open : bool
    """

    def __init__(self, model: ScreenModel) -> None:
        self._model = model
        self.open = False
        self._rung = 0

    def _rungs(self) -> list[Rung]:
        model = self._model
        rungs = ladder(model.line, model.row, model.wheel_name) if model.row is not None else []
        self._rung = min(self._rung, max(0, len(rungs) - 1))
        return rungs

    def draw(self, width: int, height: int) -> Picture:
        """Draw the ladder."""
        return draw_ladder(self._rungs(), self._rung, self._model.wheel_name, width, height)

    def draw_sentence(self, width: int) -> Picture:
        """Draw the sentence; a click on it opens the ladder."""
        model = self._model
        why = "why: no tick yet" if model.row is None else sentence(model.line, model.row, model.wheel_name)
        picture = draw_why(why, width)
        picture.spot(0, 0, width, "command", "ladder")
        return picture

    def text(self) -> list[str]:
        """Return it as text: its sentence, or a line for each rung of the open ladder."""
        model = self._model
        if model.row is None:
            return []
        if self.open:
            return [f"{r.stage}: {r.text}" + (f"  ({r.setting})" if r.setting else "") for r in self._rungs()]
        return [sentence(model.line, model.row, model.wheel_name)]

    @property
    def setting(self) -> str:
        """The rig's setting that the chosen rung has; empty for none, and while it is closed."""
        rungs = self._rungs() if self.open else []
        return rungs[self._rung].setting or "" if rungs else ""

    def walk(self, by: int) -> None:
        """Choose another rung."""
        self._rung = max(0, self._rung + by)

    def choose(self, rung: int) -> bool:
        """Choose a rung; returns whether it was chosen already."""
        before, self._rung = self._rung, rung
        return before == rung

    def toggle(self) -> str:
        """Open it, or close it; closed, the key of the rig's setting that the chosen rung has is returned."""
        setting = self.setting
        self.open = not self.open
        return setting
