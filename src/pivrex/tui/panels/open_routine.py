"""The open routine: its text on disk and in the editor, the result of playing it, and one cursor for line and time."""

from __future__ import annotations

import contextlib
import time
from math import isfinite
from pathlib import Path

from textual.widgets import TextArea

from pivrex.errors import PivrexError, ReadError, RigError, UnitError
from pivrex.routine import Program
from pivrex.routine.files import SUFFIX, check_file
from pivrex.routine.program import MAIN, Choose
from pivrex.routine.thread import StepRecord
from pivrex.session.messages import MakeReady
from pivrex.session.periods import Period
from pivrex.session.status import Shown, shown_of
from pivrex.tui.documents.routine_document import RoutineDocument
from pivrex.tui.jobs.previews import Found, Place, Preview, Seen, ToPlay, preview_job
from pivrex.tui.overlays.choices import Choice
from pivrex.tui.panels.panel import Changes, Panel, View
from pivrex.tui.panels.routine_text import RoutineText

__all__ = ["OpenRoutine"]

PAUSE_S = 0.12
"""After the last key, before the routine is simulated again."""

LOOK_S = 0.5


class OpenRoutine(Panel):
    """The data of Routine's panels; Textual's editor is on the canvas by itself.

    Attributes
    ----------
    document : RoutineDocument
    editor : RoutineText
    t : float
        Where the cursor stands, in s of the routine.
    compares : bool
        Whether a decision is shown for each value, side by side.
    seen : Seen or None
        What came of playing it.
    """

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self.document = RoutineDocument(self.model.folder.settings.match.alone_s)
        self.editor = RoutineText(self._find)
        self.t = 0.0
        self.compares = False
        self.seen: Seen | None = None
        self._previews = preview_job()
        self._due = 0.0
        """When the text is played again; 0 for not at all."""
        self._looked = 0.0
        self._sent = -1
        self._found = ""
        self._follows = False
        """Whether a robot drives by it, or a run of it is shown."""
        self._rig_of = self.model.file.path
        self._waiting: tuple[RoutineDocument, int] | None = None
        """The desk of the workspace while that of a run is shown, and its line."""
        self._shown: Path | None = None
        """The file of the run that is shown, or could not be."""

    @property
    def preview(self) -> Preview | None:
        """The preview of the text; that of the text before while the newest is still played."""
        return self.seen.preview if self.seen is not None else None

    @property
    def line(self) -> int:
        """The line that the cursor stands on, from 1."""
        return self.editor.cursor_location[0] + 1

    def steps_of(self, line: int) -> list[StepRecord]:
        """Return what was done for a line."""
        return [s for s in self.preview.steps if s.line == line] if self.preview is not None else []

    def curves(self) -> dict[str, list[Shown]]:
        """Return what the routine showed, by what it is called: on the robot that follows it, else in the preview."""
        if self._follows:
            return {label: list(curve) for label, curve in self.model.curves.by_label.items()}
        found: dict[str, list[Shown]] = {}
        for said in self.preview.messages if self.preview is not None else ():
            if said.label:
                found.setdefault(said.label, []).append(shown_of(said, self.preview.dt_s))  # type: ignore[union-attr]
        return found

    # --- which one ---

    def _default(self) -> Path | None:
        folder, rig = self.model.folder, self.model.file.path
        there = {p.stem: p for p in folder.routines()}
        wanted = self.model.rig.board.own_routine or folder.settings.routines.get(rig.stem, "")
        return there.get(wanted) or next((p for n, p in there.items() if n == rig.stem), None)

    def prepare(self) -> None:
        """See to it that the session has the routine that is open, or this rig's own if none is."""
        self._follow_rig()
        self.send()

    def _follow_rig(self) -> None:
        model = self.model
        self._follow_run()
        if model.replay is None and (not self.document.is_open or self._rig_of != model.file.path):
            self._rig_of = model.file.path
            path = self._default()
            if path is not None:
                self.open(path)
        elif self.document.is_open and self.document.rig is not model.rig:
            self.document.check(model.rig)
            self._show_mistakes()
            self._due = time.monotonic()

    def open(self, path: Path) -> None:
        """Open another routine."""
        try:
            self.document.lay(path, self.model.rig)
        except ReadError as problem:
            self.model.say(str(problem), alarm=True)
            return
        self._show_text()

    def _follow_floor(self) -> None:
        """Lay out the floor that the routine says; the workspace's own where it says none."""
        program = self.document.program
        if program is not None and program.floor != self.model.floor:
            try:
                self.model.lay_out(program.floor)
            except RigError as problem:
                self.model.say(str(problem), alarm=True)

    def _show_mistakes(self) -> None:
        checked = self.document.content
        self.editor.say(checked.mistakes if checked is not None else ())
        words = {*self.model.rig.attachments, *self.model.rig.sensors}
        if checked is not None and checked.program is not None:
            words |= set(checked.program.params)
        self.editor.names(words)

    def send(self) -> None:
        """Return the session the routine as it is now; not while one drives, nor while a run is open, whose floor and routine stay."""
        if (
            self._sent == self.document.serial
            or self.model.replay is not None
            or self.model.status.match.period is Period.ALONE
        ):
            return
        self._sent = self.document.serial
        self._follow_floor()
        self.model.choose_routine(self.document.program, self.document)

    def playable(self) -> list[Path]:
        """Return the routines that a button chooses from: those of the workspace's match, else all that the robot can play."""
        there = self.model.folder.routines()
        wanted = self.model.folder.settings.match.routines
        if wanted:
            return [path for name in wanted for path in there if path.stem == name]
        found = []
        for path in there:
            with contextlib.suppress(ReadError):
                program = check_file(path, self.model.rig).program
                if program is not None and program.codes[MAIN] and program.rig:
                    found.append(path)
        return found

    def walk(self, steps: int) -> None:
        """Open the routine that is this many further in the list, as a button commands, and let the session have it."""
        self._follow_rig()
        paths = self.playable()
        if not paths:
            self.model.say("there is no routine that this robot can play", alarm=True)
            return
        here = (
            paths.index(self.document.path)
            if self.document.is_open and self.document.path in paths
            else -1
            if steps > 0
            else 0
        )
        at = (here + steps) % len(paths)
        self.open(paths[at])
        self.send()
        self.model.say(f"routine: {paths[at].stem}, {at + 1} of {len(paths)}")

    def _follow_run(self) -> None:
        """Show the routine that the run which is open had at the Tick that is shown; without a run the workspace's."""
        client = self.model.replay
        if client is None:
            if self._waiting is not None:
                (self.document, line), self._waiting = self._waiting, None
                self._show_text()
                self.editor.to_line(line)
            return
        path = client.run.routine_file(client.replay.at)
        if self._waiting is None:
            self._waiting = self.document, self.line
            self.view.cancel()
        elif path == self._shown:
            return
        self._shown = path
        self.document = RoutineDocument(self.model.folder.settings.match.alone_s)
        if path is not None:
            home = (
                self.model.folder.path
                / "routines"
                / f"{client.status.match.routine or client.run.facts.routine}{SUFFIX}"
            )
            try:
                self.document.lay(path, self.model.rig, home)
            except ReadError as problem:
                self.document.title = "! this run's routine cannot be read"
                self.model.say(str(problem), alarm=True)
        self._show_text()

    def _show_text(self) -> None:
        """Show the selected text from its beginning, and play it again on the simulated robot."""
        self.seen, self.t = None, 0.0
        self.editor.load_text(self.document.text)
        self._show_mistakes()
        self._due = time.monotonic()

    # --- news ---

    def text_changed(self, event: TextArea.Changed | TextArea.SelectionChanged) -> None:
        """Take what was typed, or that the cursor of the text went elsewhere."""
        if isinstance(event, TextArea.Changed):
            if self.document.is_open and self.editor.text != self.document.text:
                self.document.typed(self.editor.text)
                self._show_mistakes()
                self._due = time.monotonic() + PAUSE_S
            return
        self.editor.refresh()
        step = next(iter(self.steps_of(self.line)), None) if self.view.typing else None
        if step is not None and self.preview is not None:
            self.t = step.begin * self.preview.dt_s

    def update(self) -> None:
        self._follow_rig()
        self.editor.colour(self.view.app.theme)
        self.editor.show({s.line: s.said for c in self.curves().values() for s in c if s.t_s <= self.t + 1e-6})
        for _, seen in self._previews.poll():
            if isinstance(seen, Found):
                self._begin_at(seen)
            else:
                self.seen = seen
        now = time.monotonic()
        if self._due and now >= self._due:
            self._due = 0.0
            self.send()
            if self.document.program is not None:
                self._previews.ask(self.job(self.document.program))
        if now > self._looked + LOOK_S:
            self._looked = now
            self._look_outside()
        self._follow_match()

    def job(self, program: Program) -> ToPlay:
        folder = self.model.folder.settings
        values: tuple[float, ...] = ()
        if self.compares:
            cases = [v for code in program.codes.values() for s in code if isinstance(s, Choose) for v, _ in s.cases]
            values = (*dict.fromkeys(sorted(cases)), 0.0) if cases else (0.0, 1.0, 2.0, 3.0, 4.0)
        return ToPlay(self.document.serial, self.model.rig, folder.field, program, folder.match.alone_s, 0, values[:6])

    def changes(self) -> Changes | None:
        return (self.document, self._go_to_change) if self.document.is_open and self.model.replay is None else None

    def _go_to_change(self, at: int) -> None:
        try:
            what = self.document.go_to(at)
        except PivrexError as problem:
            self.model.say(str(problem), alarm=True)
            return
        self._take_text()
        self.model.say(f"gone to: {what}" if what else "it is so already")

    def _take_text(self) -> None:
        """Show the text that the document has by now; Ctrl+Z in the editor brings back what was there."""
        self.editor.take_text(self.document.text)
        self._show_mistakes()
        self._due = time.monotonic()

    def begin_from(self, program: Program, line: int) -> None:
        """Make ready with how things stand before a line, once that is known."""
        self.send()
        self._previews.ask(Place(self.job(program), line))

    def _begin_at(self, found: Found) -> None:
        if found.midway is None:
            self.model.say(found.why, alarm=True)
        else:
            self.model.ask(MakeReady(found.midway))

    def _follow_match(self) -> None:
        """Let the cursor go with what drives: in a match the routine, in a run whatever line of it the Tick says."""
        model, match = self.model, self.model.status.match
        drives = match.period is Period.ALONE and not match.ended
        ended = self._follows and not drives and match.period is Period.ALONE
        self._follows = drives or self.model.replay is not None
        is_of_board = (
            model.status.watching and self.document.is_open and self.document.path.stem == model.rig.board.own_routine
        )
        says = drives or model.replay is not None or is_of_board
        line = model.number("routine", "line") if says else 0
        t = self.model.value("clock", "t") + match.from_s
        if isfinite(t) and not is_of_board and (drives or line or ended):
            self.t = t
        if line != self.editor.driven_line:
            self.editor.driven_line = line
            self.editor.refresh()
            self.editor._line_cache.clear()
            if line and not self.view.typing:
                self.editor.to_line(line)

    def act_values(self) -> None:
        self.compares = not self.compares
        self._due = time.monotonic()

    # --- one cursor ---

    def go_to(self, t: float) -> None:
        """Put the cursor at a time, and the text's on the line that is done then."""
        if self.preview is None:
            return
        self.t = min(max(t, 0.0), max(self.preview.time_s, 0.0))
        n = self.t / self.preview.dt_s
        there = [s for s in self.preview.steps if s.begin <= n + 1e-6 < max(s.end, s.begin + 1)]
        there.sort(key=lambda s: (s.lane != "motion", s.begin))
        before = [s for s in self.preview.steps if s.begin <= n + 1e-6]
        if there or before:
            self.editor.to_line((there or before[-1:])[0].line)

    # --- changed by another program meanwhile ---

    def _look_outside(self) -> None:
        document = self.document
        if document.saver.problem:
            self.model.say(document.saver.problem, alarm=True)
        if not document.is_open or self.model.drives_alone or len(self.view.app.screen_stack) > 1:
            return  # a drive continues with its text; the model reports the change of the file
        what = document.outside()
        if what == "same":
            return
        if what == "changed" and not self.view.typing:
            with contextlib.suppress(PivrexError):
                before = document.text
                document.take_theirs(keep_mine=False)
                if document.text != before:
                    self._take_text()
                    self.model.say(
                        f"{document.path.name} was changed by another program and read again; Ctrl+Z in the text brings back what was here"
                    )
            return
        self._ask_whose()

    def _ask_whose(self) -> None:
        """Both texts were changed: ask which to keep; the other goes into a file next to it."""
        document = self.document
        name = document.path.name

        def choices() -> list[Choice]:
            return [
                Choice("ours", "what is typed here", f"the other goes into {Path(name).stem}-theirs.txt"),
                Choice(
                    "theirs", "what another program saved", f"what is typed here goes into {Path(name).stem}-mine.txt"
                ),
            ]

        def take(whose: str) -> None:
            try:
                compares = document.keep_ours() if whose == "ours" else document.take_theirs()
            except PivrexError as problem:
                self.model.say(str(problem), alarm=True)
                return
            self._take_text()
            self.model.say(f"{name}: kept {'what was typed here' if whose == 'ours' else 'what another program saved'}; "
                           f"the other is in {compares.name if compares is not None else name}")  # fmt: skip

        if len(self.view.app.screen_stack) == 1:
            self.view.choose(
                f"{name} was changed here and by another program: which counts?", choices, "ours", "escape", take
            )

    def _find(self) -> None:
        def take(text: str) -> None:
            self._found = text
            if not self.editor.find(text):
                raise UnitError(f'"{text}" is not in this text')

        self.view.ask("find", self._found, "", take)

    def close(self) -> None:
        self.document.close()
        self._previews.close()
