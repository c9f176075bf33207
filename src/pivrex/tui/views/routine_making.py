"""What is made of the open routine in the Routine view: rehearsals, the way back, another version beside it, a number."""

from __future__ import annotations

import contextlib
from pathlib import Path

from pivrex.errors import PivrexError, ReadError
from pivrex.files import free_name, is_file, read_persons, write_atomically
from pivrex.routine import Program, check_text
from pivrex.routine.files import shared_beside
from pivrex.routine.goals import Goal
from pivrex.routine.program import MAIN
from pivrex.routine.reading import LARGEST_FILE
from pivrex.tui.jobs.number_solving import Asking, ToSolve, number_at
from pivrex.tui.jobs.previews import ToPlay
from pivrex.tui.jobs.routine_made import Against, Home, ToCompare, ToReturn
from pivrex.tui.overlays.choices import Choice, Choices
from pivrex.tui.overlays.entry import ValueEntry
from pivrex.tui.views.routine_outside import RoutineOutside

__all__ = ["RoutineMaking"]

AS_OPENED = "as opened"


class RoutineMaking(RoutineOutside):
    """Makes things of the routine beside the screen, and takes what comes of them."""

    def _job(self, program: Program) -> ToPlay:
        raise NotImplementedError

    def open(self, path: Path) -> None:
        """Open another routine."""
        raise NotImplementedError

    def act_rehearse(self) -> None:
        if self.rehearsal.goes_on:
            self.rehearsal.stop()
        elif self.desk.program is not None:
            self.rehearsal.ask(self._job(self.desk.program))

    def act_back(self) -> None:
        """Make the way back."""
        if self.desk.program is None or self.desk.path is None:
            self.model.say("mend the mistakes first")
        else:
            self.made.ask(ToReturn(self._job(self.desk.program), self.desk.path))

    def act_against(self) -> None:
        """Choose another version, or take it away."""
        desk = self.desk
        if self.other is not None or self.made.goes_on:
            self.other = None
            self.made.stop()
            return
        if desk.program is None or desk.path is None:
            self.model.say("mend the mistakes first")
            return
        program, here = desk.program, desk.path

        def choices() -> list[Choice]:
            before = [Choice(AS_OPENED, "as it was opened", here.stem)] if desk.opened != desk.text else []
            return before + [Choice(str(p), p.stem, "") for p in self._alike(here)]

        def take(chosen: str | None) -> None:
            if chosen is None:
                return
            try:
                text = desk.opened if chosen == AS_OPENED else read_persons(Path(chosen), LARGEST_FILE)
            except ReadError as problem:
                self.model.say(str(problem), alarm=True)
                return
            name = f"{here.stem} as opened" if chosen == AS_OPENED else Path(chosen).stem
            checked = check_text(text, self.model.rig, name, shared_beside(here))
            if checked.program is None:
                m = checked.wrong[0]
                self.model.say(f"{name} cannot be played by {self.model.rig.name}: line {m.line}: {m.what}", alarm=True)
                return
            self.made.ask(ToCompare(self._job(program), checked.program, f"{name} beside it"))

        if not choices():
            self.model.say("there is no other routine in this workspace, and this one is as it was opened")
        elif len(self.app.screen_stack) == 1:
            self.app.push_screen(Choices("against which?", choices, "", "A"), take)  # type: ignore[arg-type]

    def _alike(self, here: Path) -> list[Path]:
        """Give the other routines that this robot could play: those that say that they are for it, or for none."""
        found = []
        for path in self.model.folder.routines():
            with contextlib.suppress(ReadError):
                text = read_persons(path, LARGEST_FILE)
                checked = check_text(text, self.model.rig, path.stem, shared_beside(path))
                program = checked.program
                if path != here and program is not None and program.codes[MAIN] and program.floor == self.model.floor:
                    found.append(path)
        return found

    def _take_made(self) -> None:
        """Take what was made beside the screen."""
        for asked, made in self.made.poll():
            if isinstance(made, Against):
                self.other = made
            elif isinstance(asked, ToReturn):
                self._keep_home(made, asked.path)

    def _keep_home(self, made: Home, path: Path) -> None:
        if not made.text:
            self.model.say(made.said, alarm=True)
            return
        file = path.with_name(f"{path.stem}-back.txt")
        try:
            if is_file(file) and not read_persons(file, LARGEST_FILE).startswith(made.text.split("\n")[0]):
                file = free_name(path.parent, f"{path.stem}-back", ".txt")  # somebody's own text stays
            write_atomically(file, made.text)
        except PivrexError as problem:
            self.model.say(str(problem), alarm=True)
            return
        self.open(file)
        self.model.say(f"{file.stem}: {made.said}")

    def act_solve(self) -> None:
        """Ask what must come true, and look for the number at the cursor."""
        desk, (row, column) = self.desk, self.editor.cursor_location
        if self.solving.goes_on:
            self.solving.forget()
            return
        number = number_at(desk.text, row + 1, column)
        if desk.program is None or desk.path is None or number is None:
            wrong = desk.path is not None and desk.program is None
            self.model.say(
                "mend the mistakes first" if wrong else "no number stands on this line; put the cursor on one"
            )
            return
        program, text, path = desk.program, desk.text, desk.path

        def take(goal: Goal) -> None:
            self.solving.forget()
            self.solving.ask(ToSolve(self._job(program), text, path, number, goal))

        line = text.split("\n")[row]
        self.app.push_screen(ValueEntry(Asking(number, line, tuple(self.model.rig.attachments), take)))

    def act_write_number(self) -> None:
        """Write what was found into the text."""
        found, asked = self.solving.answer, self.solving.answered
        if found is None or asked is None:
            self.model.say("no number was found yet; N looks for the one at the cursor")
            return
        number, row = asked.number, asked.number.line - 1
        if self.desk.text.split("\n")[row : row + 1] != [asked.row]:
            self.model.say("that line was changed meanwhile; N looks for its number again", alarm=True)
            return
        self.editor.replace(found.written, (row, number.begin), (row, number.end))
        self.solving.forget()
        self.model.say(f"line {number.line}: {number.text} is {found.written} now; u takes it back")
