"""Helpers of the Routine view: rehearsals, the way back, another version next to it, a number."""

from __future__ import annotations

import contextlib
from pathlib import Path

from pivrex.errors import PivrexError, ReadError, UnitError
from pivrex.files import free_name, is_file, read_persons, write_atomically
from pivrex.routine import check_text
from pivrex.routine.files import shared_next_to
from pivrex.routine.goals import Goal
from pivrex.routine.own_move import SEEDS, made_move, suggested
from pivrex.routine.program import MAIN
from pivrex.routine.reading import LARGEST_FILE
from pivrex.tui.jobs.number_solving import Asking, ToSolve, number_at, solving_job, solving_words
from pivrex.tui.jobs.rehearsals import rehearsal_job
from pivrex.tui.jobs.routine_made import Against, Home, Proven, ToCompare, ToProve, ToReturn, made_job
from pivrex.tui.overlays.choices import Choice
from pivrex.tui.overlays.entry import ValueEntry
from pivrex.tui.panels.open_routine import OpenRoutine
from pivrex.tui.panels.panel import Panel

__all__ = ["RoutineHelpers"]

AS_OPENED = "as opened"


class RoutineHelpers(Panel):
    """Starts work on the routine in the background, and takes the results.

    Attributes
    ----------
    rehearsal, solving, made : Job
    other : Against or None
        Another version, that is held against this one.
    """

    def __init__(self, routine: OpenRoutine) -> None:
        super().__init__(routine.view)
        self._routine = routine
        self.rehearsal, self.solving, self.made = rehearsal_job(), solving_job(), made_job()
        self.other: Against | None = None

    def words(self) -> list[tuple[str, str]]:
        """Return what is looked for, made or found, each sentence with its role."""
        made, other = self.made, self.other
        if made.goes_on and made.question is not None:
            rows = [(f"making {made.question.title} ...", "dim")]
        else:
            rows = [(one, "target") for one in other.found.sentences()] if other is not None else []
        return [solving_words(self.solving), *rows]

    def act_rehearse(self) -> None:
        if self.rehearsal.goes_on:
            self.rehearsal.stop()
        elif self._routine.document.program is not None:
            self.rehearsal.ask(self._routine.job(self._routine.document.program))

    def act_back(self) -> None:
        """Make the way back."""
        if self._routine.document.program is None or not self._routine.document.is_open:
            self.model.say("fix the mistakes first")
        else:
            self.made.ask(ToReturn(self._routine.job(self._routine.document.program), self._routine.document.path))

    def act_against(self) -> None:
        """Choose another version, or take it away."""
        document = self._routine.document
        if self.other is not None or self.made.goes_on:
            self.other = None
            self.made.stop()
            return
        if document.program is None or not document.is_open:
            self.model.say("fix the mistakes first")
            return
        program, here = document.program, document.path

        def choices() -> list[Choice]:
            before = [Choice(AS_OPENED, "as it was opened", here.stem)] if document.opened != document.text else []
            return before + [Choice(str(p), p.stem, "") for p in self._alike(here)]

        def take(chosen: str) -> None:
            try:
                text = document.opened if chosen == AS_OPENED else read_persons(Path(chosen), LARGEST_FILE)
            except ReadError as problem:
                self.model.say(str(problem), alarm=True)
                return
            name = f"{here.stem} as opened" if chosen == AS_OPENED else Path(chosen).stem
            checked = check_text(text, self.model.rig, name, shared_next_to(here))
            if checked.program is None:
                m = checked.wrong[0]
                self.model.say(f"{name} cannot be played by {self.model.rig.name}: line {m.line}: {m.what}", alarm=True)
                return
            self.made.ask(ToCompare(self._routine.job(program), checked.program, f"{name} beside it"))

        if not choices():
            self.model.say("there is no other routine in this workspace, and this one is as it was opened")
        else:
            self.view.choose("against which?", choices, "", "A", take)

    def _alike(self, here: Path) -> list[Path]:
        """Return the other routines that this robot could play: those that say that they are for it, or for none."""
        found = []
        for path in self.model.folder.routines():
            with contextlib.suppress(ReadError):
                text = read_persons(path, LARGEST_FILE)
                checked = check_text(text, self.model.rig, path.stem, shared_next_to(path))
                program = checked.program
                if path != here and program is not None and program.codes[MAIN] and program.floor == self.model.floor:
                    found.append(path)
        return found

    def update(self) -> None:
        self.rehearsal.poll()
        self.solving.poll()
        for question, made in self.made.poll():
            if isinstance(made, Against):
                self.other = made
            elif isinstance(question, ToProve) and isinstance(made, Proven):
                self._keep_move(made.differs, question)
            elif isinstance(question, ToReturn) and isinstance(made, Home):
                self._keep_home(made, question.path)

    def _keep_home(self, made: Home, path: Path) -> None:
        if not made.text:
            self.model.say(made.said, alarm=True)
            return
        file = path.with_name(f"{path.stem}-back.txt")
        try:
            if is_file(file) and not read_persons(file, LARGEST_FILE).startswith(made.text.split("\n")[0]):
                file = free_name(path.parent, f"{path.stem}-back", ".txt")  # someone's own text stays
            write_atomically(file, made.text)
        except PivrexError as problem:
            self.model.say(str(problem), alarm=True)
            return
        self._routine.open(file)
        self.model.say(f"{file.stem}: {made.said}")

    def act_make_move(self) -> None:
        """Ask for a name and parameters, and make an own move of the selected lines."""
        document, editor = self._routine.document, self._routine.editor
        if document.program is None or not document.is_open:
            self.model.say("fix the mistakes first")
            return
        (begin, _), (end, column) = sorted(editor.selection)
        first, last = begin + 1, end + (column > 0 or end == begin)
        program, text, path = document.program, document.text, document.path

        def take(typed: str) -> None:
            made = made_move(text, first, last, typed)
            checked = check_text(made.text, self.model.rig, path.stem, shared_next_to(path))
            if checked.program is None:
                raise UnitError(f"the new text would be wrong: line {checked.wrong[0].line}: {checked.wrong[0].what}")
            self.made.ask(ToProve(self._routine.job(program), checked.program, made, text))

        which = f"line {first}" if first == last else f"lines {first} to {last}"
        allowed = f"of {which}; leave a parameter out, and its number stays"
        self.view.ask("own move", suggested(text, first, last), allowed, take)

    def _keep_move(self, differs: str, question: ToProve) -> None:
        made = question.made
        if differs:
            self.model.say(f"{made.name} would do something else: {differs}", alarm=True)
        elif self._routine.document.text != question.old:
            self.model.say("the routine was changed meanwhile; do it again", alarm=True)
        else:
            self._routine.editor.take_text(made.text)
            calls = "one passage is" if made.calls == 1 else f"{made.calls} passages are"
            self.model.say(f"{calls} {made.name} now: the same Ticks in {len(SEEDS)} drives; u undoes it")

    def act_solve(self) -> None:
        """Ask what must come true, and look for the number at the cursor."""
        document, (row, column) = self._routine.document, self._routine.editor.cursor_location
        if self.solving.goes_on:
            self.solving.forget()
            return
        number = number_at(document.text, row + 1, column)
        if document.program is None or not document.is_open or number is None:
            wrong = document.is_open and document.program is None
            self.model.say(
                "fix the mistakes first" if wrong else "no number stands on this line; put the cursor on one"
            )
            return
        program, text, path = document.program, document.text, document.path

        def take(goal: Goal) -> None:
            self.solving.forget()
            self.solving.ask(ToSolve(self._routine.job(program), text, path, number, goal))

        line = text.split("\n")[row]
        self.view.lay_over(ValueEntry(Asking(number, line, tuple(self.model.rig.attachments), take)))

    def act_write_number(self) -> None:
        """Write what was found into the text."""
        found, question = self.solving.answer, self.solving.answered
        if found is None or question is None:
            self.model.say("no number was found yet; N looks for the one at the cursor")
            return
        number, row = question.number, question.number.line - 1
        if self._routine.document.text.split("\n")[row : row + 1] != [question.row]:
            self.model.say("that line was changed meanwhile; N looks for its number again", alarm=True)
            return
        self._routine.editor.replace(found.written, (row, number.begin), (row, number.end))
        self.solving.forget()
        self.model.say(f"line {number.line}: {number.text} is {found.written} now; u undoes it")

    def close(self) -> None:
        for job in (self.rehearsal, self.solving, self.made):
            job.close()
