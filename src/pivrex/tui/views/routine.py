"""Routine: the text, the path on the field and a timeline, with one cursor in all three; and the match clock."""

from __future__ import annotations

import time
from math import isfinite
from pathlib import Path

from textual.app import ComposeResult
from textual.widgets import TextArea

from pivrex.errors import ReadError, RigError, UnitError
from pivrex.routine import Program
from pivrex.routine.midway import line_after
from pivrex.routine.program import Choose
from pivrex.routine.reading import SKIP
from pivrex.session.messages import LeaveMatch, MakeReady, PauseRoutine, StartPeriod, StepRoutine
from pivrex.session.periods import Period
from pivrex.tui.draw.step_bars import LABEL
from pivrex.tui.jobs.previews import Found, Place, ToPlay, preview_job
from pivrex.tui.model import ScreenModel
from pivrex.tui.overlays.choices import Choice, Choices
from pivrex.tui.overlays.entry import ValueEntry
from pivrex.tui.views.routine_past import RoutinePast

__all__ = ["RoutineView"]

PAUSE_S = 0.12
"""After the last key, before the routine is simulated again."""

LOOK_S = 0.5
NUDGE_S, COARSE_S = 0.1, 1.0


class RoutineView(RoutinePast):
    """The text at the left, the field at the right, the timeline below both."""

    DEFAULT_CSS = """
    RoutineView { layers: base text; }
    RoutineView RoutineText { layer: text; }
    """

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self._previews = preview_job()
        self._looked = 0.0
        self._asked = self._sent = -1
        self._found = ""
        self._rig_of = model.file.path
        self._place = (0, 0, 0, 0)

    def compose(self) -> ComposeResult:
        yield self.editor

    # --- the open routine ---

    def _default(self) -> Path | None:
        folder, rig = self.model.folder, self.model.file.path
        there = {p.stem: p for p in folder.routines()}
        wanted = folder.settings.routines.get(rig.stem, "")
        return there.get(wanted) or next((p for n, p in there.items() if n == rig.stem), None)

    def prepare(self) -> None:
        """See to it that the session has the routine that is open, or this rig's own if none is."""
        self._follow_rig()
        self._send()

    def _follow_rig(self) -> None:
        model = self.model
        self._follow_run()
        if model.replay is None and (self.desk.path is None or self._rig_of != model.file.path):
            self._rig_of = model.file.path
            path = self._default()
            if path is not None:
                self.open(path)
        elif self.desk.checked is not None and self.desk.checked_for is not model.rig:
            self.desk.check(model.rig)
            self._show_mistakes()
            self._due = time.monotonic()

    def open(self, path: Path) -> None:
        """Open another routine."""
        try:
            self.desk.open(path, self.model.rig)
        except ReadError as problem:
            self.model.say(str(problem), alarm=True)
            return
        self._show_text()

    def _follow_floor(self) -> None:
        """Lay out the floor that the routine says; the workspace's own where it says none."""
        program = self.desk.program
        if program is not None and program.floor != self.model.floor:
            try:
                self.model.lay_out(program.floor)
            except RigError as problem:
                self.model.say(str(problem), alarm=True)

    def _show_mistakes(self) -> None:
        checked = self.desk.checked
        self.editor.say(checked.mistakes if checked is not None else ())
        words = {*self.model.rig.attachments, *self.model.rig.sensors}
        if checked is not None and checked.program is not None:
            words |= set(checked.program.params)
        self.editor.names(words)

    def _send(self) -> None:
        """Give the session the routine as it is now; not while one drives, nor while a run is open, whose floor and routine stay."""
        if (
            self._sent == self.desk.serial
            or self.model.replay is not None
            or self.model.status.match.period is Period.ALONE
        ):
            return
        self._sent = self.desk.serial
        self._follow_floor()
        self.model.choose_routine(self.desk.program, self.desk.path, self.desk.raw())

    def on_text_area_changed(self, event: TextArea.Changed) -> None:
        event.stop()
        if self.desk.path is None or self.editor.text == self.desk.text:
            return
        self.desk.typed(self.editor.text, self.model.rig)
        self._show_mistakes()
        self._due = time.monotonic() + PAUSE_S

    def on_text_area_selection_changed(self, event: TextArea.SelectionChanged) -> None:
        event.stop()
        self.editor.refresh()
        if self.typing and self.preview is not None:
            step = next((s for s in self.preview.steps if s.line == self.line), None)
            if step is not None:
                self.t = step.begin * self.preview.dt_s

    def update(self) -> None:
        self._follow_rig()
        self.editor.colour(self.app.theme)
        now = time.monotonic()
        for _, seen in self._previews.poll():
            if isinstance(seen, Found):
                self._begin_at(seen)
            else:
                self.seen = seen
        self.rehearsal.poll()
        self.solving.poll()
        self._take_made()
        if self._due and now >= self._due:
            self._due = 0.0
            self._send()
            if self.desk.program is not None:
                self._asked = self.desk.serial
                self._previews.ask(self._job(self.desk.program))
        if now > self._looked + LOOK_S:
            self._looked = now
            self._look_outside()
        self._follow_match()
        self._lay_out()

    def _job(self, program: Program) -> ToPlay:
        folder = self.model.folder.settings
        values: tuple[float, ...] = ()
        if self.beside:
            cases = [v for code in program.codes.values() for s in code if isinstance(s, Choose) for v, _ in s.cases]
            values = (*dict.fromkeys(sorted(cases)), 0.0) if cases else (0.0, 1.0, 2.0, 3.0, 4.0)
        return ToPlay(self.desk.serial, self.model.rig, folder.field, program, folder.match.alone_s, 0, values[:6])

    def _follow_match(self) -> None:
        """Let the cursor go with what drives: in a match the routine, in a run whatever line of it the Tick says."""
        match = self.model.status.match
        drives = match.period is Period.ALONE and not match.ended
        line = self.model.number("routine", "line") if drives or self.model.replay is not None else 0
        t = self.model.value("clock", "t") + match.from_s
        if isfinite(t) and (drives or line):
            self.t = t
        if line != self.editor.driven_line:
            self.editor.driven_line = line
            self.editor.refresh()
            self.editor._line_cache.clear()
            if line and not self.typing:
                self.editor.to_line(line)

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

    def _walk(self, by: int) -> None:
        self.editor.to_line(self.line + by)
        steps = self._steps_of(self.line)
        if steps and self.preview is not None:
            self.t = steps[0].begin * self.preview.dt_s

    def act_previous_setting(self) -> None:
        self._walk(-1)

    def act_next_setting(self) -> None:
        self._walk(1)

    def act_earlier(self) -> None:
        self.go_to(self.t - NUDGE_S)

    def act_later(self) -> None:
        self.go_to(self.t + NUDGE_S)

    def act_much_earlier(self) -> None:
        self.go_to(self.t - COARSE_S)

    def act_much_later(self) -> None:
        self.go_to(self.t + COARSE_S)

    # --- typing ---

    def act_edit_text(self) -> None:
        if self.desk.path is None:
            self.model.say("this workspace has no routine yet; put one into its folder routines/")
            return
        self.typing = True
        self.editor.can_focus = True
        self.screen.set_focus(self.editor)  # at once: the next key belongs to the text
        self.model.say("typing: keys go into the text; Esc leaves it, and stops the robot as always")

    def cancel(self) -> None:
        if self.typing:
            self.typing = False
            self.screen.set_focus(None)
            self.editor.can_focus = False

    def on_descendant_focus(self) -> None:
        self.typing = True

    def act_skip_line(self) -> None:
        row = self.line - 1
        text = self.editor.document.get_line(row)
        bare = text.lstrip()
        if not bare or bare.startswith("#"):
            return
        indent = len(text) - len(bare)
        if bare.split()[0] == SKIP:
            rest = bare[len(SKIP) :].lstrip()
            self.editor.replace("", (row, indent), (row, len(text) - len(rest)))
        else:
            self.editor.replace(f"{SKIP} ", (row, indent), (row, indent))

    def take_key(self, key: str) -> bool:
        """Take u and U: here they mean the text, not the rig."""
        if key == "u":
            self.editor.undo()
        elif key in ("U", "shift+u", "upper_u"):
            self.editor.redo()
        return key in ("u", "U", "shift+u", "upper_u")

    def on_routine_text_find_asked(self) -> None:
        self.app.push_screen(ValueEntry(self))

    def entry(self) -> tuple[str, str, str]:
        return "find", self._found, ""

    def type_in(self, text: str) -> None:
        self._found = text
        if not self.editor.find(text):
            raise UnitError(f'"{text}" stands nowhere in this text')

    # --- which routine, and the match ---

    def act_choose_routine(self) -> None:
        paths = self.model.folder.routines()
        here = str(self.desk.path)

        def take(path: str | None) -> None:
            if path is not None:
                self.open(Path(path))

        def choices() -> list[Choice]:
            return [Choice(str(p), p.stem, "open" if str(p) == here else "") for p in paths]

        if paths and len(self.app.screen_stack) == 1:
            self.app.push_screen(Choices("which routine?", choices, here, "c"), take)  # type: ignore[arg-type]

    def act_values(self) -> None:
        self.beside = not self.beside
        self._due = time.monotonic()

    def ready(self) -> None:
        """Make ready for a match, or start it if all is ready."""
        self.prepare()
        status = self.model.status.match
        if status.period in (Period.OFF, Period.OVER):
            self.model.ask(MakeReady())
        elif status.period is Period.READY:
            self.model.ask(StartPeriod(Period.ALONE))

    def act_alone(self) -> None:
        self.prepare()
        self.model.ask(StartPeriod(Period.ALONE, only=True))

    def act_from_here(self) -> None:
        """Ask for how things stand before the cursor's line."""
        program = self.desk.program
        line = line_after(program, self.line) if program is not None else 0
        if program is None or not line:
            self.model.say("nothing is done on this line or below it" if program else "mend the mistakes first")
            return
        self._send()
        self._previews.ask(Place(self._job(program), line))

    def _begin_at(self, found: Found) -> None:
        if found.midway is None:
            self.model.say(found.why, alarm=True)
        else:
            self.model.ask(MakeReady(found.midway))

    def act_driven(self) -> None:
        self.model.ask(StartPeriod(Period.DRIVEN, only=True))

    def act_pause(self) -> None:
        self.model.ask(PauseRoutine(not self.model.status.match.paused))

    def act_one_step(self) -> None:
        if self.model.status.match.period is not Period.ALONE:
            self.act_alone()
        self.model.ask(StepRoutine())

    def leave(self) -> None:
        """Count no more."""
        self.model.ask(LeaveMatch())

    # --- where things stand ---

    def _lay_out(self) -> None:
        width, height = self.size
        if not width or not height:
            return
        left, bottom = self._split(width, height)
        place = (1, 1, left - 2, max(1, height - bottom - 2))
        if place != self._place:
            self._place = place
            styles = self.editor.styles
            styles.offset, styles.width, styles.height = (place[0], place[1]), place[2], place[3]

    # --- mouse and help ---

    def point(self, x: int, y: int, phase: str) -> None:
        width, height = self.size
        _, bottom = self._split(width, height)
        if y < height - bottom or phase == "release" or self.preview is None:
            return
        room = max(10, width - 2 - LABEL - 1)
        whole = max(self.model.folder.settings.match.alone_s, self.preview.time_s, 1.0)
        self.go_to((x - 1 - LABEL + 0.5) / room * whole)

    def help_lines(self) -> list[tuple[str, str]]:
        return [
            ("━", "where the robot is asked to be"),
            ("·", "where it gets to, on the stand-in"),
            ("▼", "the cursor: the line, the moment and the place are one; drag it along the timeline"),
            ("!", "a step that was held back, slid, bumped, waited to its limit or was cut off"),
            ("┃", "in the timeline: where the clock cuts the routine off, and where it is now"),
            ("·", "in lilac: where it ended in each drive of a rehearsal, and dashed the zones that it shall reach"),
            ("^", "below a line: what is wrong there, and what would be right"),
        ]

    def close(self) -> None:
        self.desk.close()
        self._previews.close()
        self.rehearsal.stop()
        self.solving.stop()
        self.made.stop()
