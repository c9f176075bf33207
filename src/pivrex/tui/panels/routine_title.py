"""The title above the text of a routine, and the keys for the text."""

from __future__ import annotations

from math import degrees

from pivrex.errors import PivrexError
from pivrex.routine.files import SUFFIX
from pivrex.routine.reading import SKIP
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.file_list import FileList, Kind
from pivrex.tui.panels.open_routine import OpenRoutine
from pivrex.tui.panels.panel import Panel

__all__ = ["RoutineTitle"]


EXAMPLE = """\
# What {robot} does alone. The view plays it as you type; G runs it.
for "{robot}"
start at {start}

drive ahead 0.5 m
turn left 90 deg
wait 0.5 s
drive back 0.2 m
"""


class RoutineTitle(Panel):
    """The routine's name, whether someone types, and how many mistakes there are."""

    def __init__(self, routine: OpenRoutine) -> None:
        super().__init__(routine.view)
        self._routine = routine
        self.files = FileList(
            routine.view, Kind("routine", "routines", SUFFIX, self._example), routine.open, self._renamed
        )

    def draw(self, width: int, height: int) -> Picture:
        picture, document, left = Picture(width, height), self._routine.document, width
        past = self.model.replay is not None
        if not document.is_open:
            said = document.title or "this run had no routine" if past else "no routine yet: Enter makes one"
            picture.text(1, 0, said, "dim", left)
            return picture
        wrong = [m for m in document.content.mistakes if not m.warning] if document.content is not None else []
        warned = (len(document.content.mistakes) if document.content is not None else 0) - len(wrong)
        x = picture.text(1, 0, document.title, "title", left - 2)
        state = "as the run had it" if past else "typing" if self.view.typing else "y types"
        x = picture.text(x + 2, 0, state, "commanded" if self.view.typing else "dim", max(0, left - x - 3))
        said = f"! {len(wrong)} mistake{'s' * (len(wrong) != 1)}" if wrong else "no mistakes"
        said += f", {warned} warning{'s' * (warned != 1)}" if warned else ""
        if x + len(said) + 2 < left:
            picture.right(left - 1, 0, said, "alarm" if wrong else "dim")
        return picture

    def act_choose_routine(self) -> None:
        document = self._routine.document
        document.saver.wait()
        self.files.choose(document.path if document.is_open else None, "c")

    def _example(self, _name: str) -> str:
        """Return a routine to begin with, for the robot and the floor that are here."""
        rig, start = self.model.rig, self.model.folder.settings.field.start
        at = f"{start.x_m:.2f} m, {start.y_m:.2f} m facing {degrees(start.heading_rad):.0f} deg"
        return EXAMPLE.format(robot=rig.name, start=at)

    def _renamed(self, before: str, name: str) -> None:
        try:
            self.model.documents.rename_routine(before, name)
        except PivrexError as problem:
            self.model.say(str(problem), alarm=True)

    def act_edit_text(self) -> None:
        if not self._routine.document.is_open:
            self.model.say("this workspace has no routine yet: Enter makes one")
            return
        self.view.typing = True
        self._routine.editor.can_focus = True
        self.view.canvas.screen.set_focus(self._routine.editor)  # at once: the next key belongs to the text
        self.model.say("typing: keys go into the text; Esc leaves it, and stops the robot as always")

    def cancel(self) -> None:
        if self.view.typing:
            self.view.typing = False
            self.view.canvas.screen.set_focus(None)
            self._routine.editor.can_focus = False

    def act_skip_line(self) -> None:
        row = self._routine.line - 1
        text = self._routine.editor.document.get_line(row)
        bare = text.lstrip()
        if not bare or bare.startswith("#"):
            return
        indent = len(text) - len(bare)
        if bare.split()[0] == SKIP:
            rest = bare[len(SKIP) :].lstrip()
            self._routine.editor.replace("", (row, indent), (row, len(text) - len(rest)))
        else:
            self._routine.editor.replace(f"{SKIP} ", (row, indent), (row, indent))

    def take_key(self, key: str) -> bool:
        """Take u and U: here they mean the text, not the rig; and Enter where there is no routine yet: it makes one."""
        if not self._routine.document.is_open and self.model.replay is None and key == "enter":
            self.files.ask_new(self.model.file.path.stem)
            return True
        if key == "u":
            self._routine.editor.undo()
        elif key in ("U", "shift+u", "upper_u"):
            self._routine.editor.redo()
        return key in ("u", "U", "shift+u", "upper_u")
