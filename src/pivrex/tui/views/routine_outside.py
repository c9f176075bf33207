"""The Routine view where its file is changed by somebody else meanwhile: nothing is lost, and the person says what counts."""

from __future__ import annotations

import contextlib
import time
from pathlib import Path

from pivrex.errors import PivrexError
from pivrex.tui.model import ScreenModel
from pivrex.tui.overlays.choices import Choice, Choices
from pivrex.tui.panels.routine_drawn import RoutineDrawn

__all__ = ["RoutineOutside"]


class RoutineOutside(RoutineDrawn):
    """Looks after the file; shows what is wrong with its text."""

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self._due = 0.0
        """When the text is played again; 0 for not at all."""
        self._asking = False

    def _show_mistakes(self) -> None:
        raise NotImplementedError

    def _look_outside(self) -> None:
        desk = self.desk
        if desk.saver.problem:
            self.model.say(desk.saver.problem, alarm=True)
        if desk.path is None or self._asking or self.model.drives_alone:
            return  # what drives goes on with its text; the model says what became of the file
        what = desk.outside()
        if what == "same":
            return
        if what == "changed" and not self.typing:
            with contextlib.suppress(PivrexError):
                before = desk.text
                desk.open(desk.path, self.model.rig)
                if desk.text != before:
                    self.editor.take_text(desk.text)
                    self._show_mistakes()
                    self._due = time.monotonic()
                    self.model.say(
                        f"{desk.path.name} was changed outside and read again; Ctrl+Z in the text brings back what was here"
                    )
            return
        self._ask_whose()

    def _ask_whose(self) -> None:
        """Both were changed: ask which to keep; the other goes into a file beside it."""
        desk = self.desk
        assert desk.path is not None
        name, self._asking = desk.path.name, True

        def choices() -> list[Choice]:
            return [
                Choice("ours", "what is typed here", f"the other goes into {Path(name).stem}-theirs.txt"),
                Choice("theirs", "what was saved outside", f"what is typed here goes into {Path(name).stem}-mine.txt"),
            ]

        def take(whose: str | None) -> None:
            self._asking = False
            if whose is None:
                return
            try:
                beside = desk.keep_ours() if whose == "ours" else desk.take_theirs(self.model.rig)
            except PivrexError as problem:
                self.model.say(str(problem), alarm=True)
                return
            self.editor.take_text(desk.text)
            self._show_mistakes()
            self._due = time.monotonic()
            self.model.say(f"{name}: kept {'what was typed here' if whose == 'ours' else 'what was saved outside'}; "
                           f"the other is in {beside.name if beside is not None else name}")  # fmt: skip

        if len(self.app.screen_stack) == 1:
            overlay = Choices(f"{name} was changed here and outside: which counts?", choices, "ours", "escape")
            self.app.push_screen(overlay, take)  # type: ignore[arg-type]
        else:
            self._asking = False
