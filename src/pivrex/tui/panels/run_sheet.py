"""The sheet next to the list of runs: the selected run, two over each other, what one tells of its robot, or the season."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pivrex.errors import LearnError, SaveError
from pivrex.files import write_atomically
from pivrex.rig.changes import put_changes
from pivrex.routine import check_text
from pivrex.runs.learning.routine import LASTS_S, learning_drive
from pivrex.session.messages import StartPeriod
from pivrex.session.periods import Period
from pivrex.tui.draw.cells import draw_pages
from pivrex.tui.draw.picture import Picture
from pivrex.tui.jobs.run_questions import OpenRun
from pivrex.tui.overlays.sheet import Sheet
from pivrex.tui.panels.learnt_values import draw_learnt
from pivrex.tui.panels.panel import Panel, View
from pivrex.tui.panels.run_comparison import draw_beside
from pivrex.tui.panels.run_selection import RunsDesk
from pivrex.tui.panels.run_story import draw_run, draw_season
from pivrex.units import parse

__all__ = ["LOOK_KEY", "RunSheet"]

SHEETS = ("run", "learnt", "season")
BY = ("start", "motion", "bump")
REPORT_W, LEAST_W = 124, 84
"""Letters that a report is wide on the screen, at most and at least."""

LOOK_KEY = "R"


class RunSheet(Panel):
    """What is shown of the selected run.

    Attributes
    ----------
    sheet : str
        One of `SHEETS`.
    turned_rad : float
        How far the robot truly turned in the selected run, as someone said; 0 if no one did.
    """

    def __init__(self, view: View, desk: RunsDesk) -> None:
        super().__init__(view)
        self.desk = desk
        self.sheet = SHEETS[0]
        self.turned_rad = 0.0
        self._looks = False
        self._tolds: dict[str, OpenRun] = {}
        """The runs that are shown, by name: the selected and the marked one."""

    def update(self) -> None:
        desk = self.desk
        if desk.run_shown is not None:
            self._tolds[desk.run_shown.name] = desk.run_shown
        wanted = [n for n in (desk.selected, desk.marked, *desk.also) if n]
        self._tolds = {n: t for n, t in self._tolds.items() if n in wanted}
        for n in wanted:
            run = desk.run(n)
            known = self._tolds.get(n)
            if run is None or run.facts is None:
                continue
            pins = tuple(self.model.documents.pins(run.facts.rig).items())
            if known is None or (known.facts, known.pins) != (run.facts, pins):
                desk.ask("told", desk.folder / n, pins)
                break
        if desk.marked and desk.marked != desk.selected and desk.selected:
            if desk.beside is None or (*desk.beside.names, desk.beside.by) != (desk.marked, desk.selected, desk.by):
                desk.ask("beside", desk.folder / desk.marked, desk.folder / desk.selected, desk.by)
        elif self.sheet == "learnt" and desk.selected and desk.learnt_of != self.learning():
            desk.ask(*self.learning())
        self.model.report_words = self._report_words()
        if desk.report is not None and self._looks:
            report, desk.report, self._looks = desk.report, None, False
            self.view.lay_over(Sheet("report", LOOK_KEY, lambda width: draw_pages(report.pages, width)))

    def act_look(self) -> None:
        """Show the report of what is selected, as it would be written."""
        kind, *words = self._report_words() or ("",)
        if kind:
            runs = [Path(word) for word in words if not word.startswith("--") and word != self.desk.by]
            width = min(REPORT_W, self.view.size.width - 8)
            self.desk.ask("pages", max(LEAST_W, width), *runs, *([self.desk.by] if len(runs) > 1 else []))
            self._looks = True
            self.model.say("making the report; x writes it")

    def _report_words(self) -> tuple[str, ...]:
        desk = self.desk
        if desk.marked and desk.marked != desk.selected:
            return "comparison", str(desk.folder / desk.marked), str(desk.folder / desk.selected), "--by", desk.by
        return ("run", str(desk.folder / desk.selected)) if desk.selected else ()

    def learning(self) -> tuple[Any, ...]:
        return "learnt", self.desk.folder / self.desk.selected, self.model.file.path, self.turned_rad

    def depends(self) -> tuple[object, ...]:
        desk = self.desk
        shown = (desk.selected, desk.marked, *desk.also)
        return self.sheet, shown, *(self._tolds.get(n) for n in shown), desk.beside, desk.learnt, desk.problem

    def draw(self, width: int, height: int) -> Picture:
        desk = self.desk
        run_shown, marked = self._tolds.get(desk.selected), self._tolds.get(desk.marked)
        waits = ""
        if desk.problem:
            waits = f"! {desk.problem}"
        elif desk.marked and desk.marked != desk.selected:
            found = desk.beside
            if (
                found is not None
                and run_shown is not None
                and marked is not None
                and found.names == (desk.marked, desk.selected)
            ):
                more = [self._tolds[n] for n in desk.also if n in self._tolds and n != desk.selected]
                return draw_beside(found, [marked, run_shown, *more], width, height)
            waits = "laying them over each other ..."
        elif self.sheet == "learnt":
            if desk.learnt is not None and desk.learnt.run == desk.selected:
                return draw_learnt(desk.learnt, width, height)
            waits = "learning ..."
        elif run_shown is not None:
            return (draw_season if self.sheet == "season" else draw_run)(run_shown, width, height)
        elif desk.selected:
            waits = "reading ..."
        empty = Picture(width, height)
        empty.text(1, 1, waits, "alarm" if desk.problem else "dim", width - 2)
        return empty

    # --- what is done ---

    def act_by(self) -> None:
        desk = self.desk
        desk.by = BY[(BY.index(desk.by) + 1) % len(BY)] if desk.by in BY else BY[0]
        self.model.say(f"lined up by {desk.by}")

    def act_by_said(self) -> None:
        def take(text: str) -> None:
            self.desk.by, self.desk.problem = " ".join(text.split()) or "start", ""

        allowed = "start, motion, bump, step 9 (a line of the routine), or a place such as 1.2,0.8"
        self.view.ask("lined up by", self.desk.by, allowed, take)

    def act_turned(self) -> None:
        def take(text: str) -> None:
            self.turned_rad = parse(text, "angle") if text.strip() else 0.0

        self.view.ask("it turned", "", "how far, from standing to standing, such as 3 turns", take)

    def act_sheet(self) -> None:
        self.desk.marked, self.desk.also, self.desk.problem = "", [], ""
        self.sheet = SHEETS[(SHEETS.index(self.sheet) + 1) % len(SHEETS)]

    def act_through(self) -> None:
        desk = self.desk
        if desk.selected:
            self.model.say(f"the same driver through {self.model.file.path.name} ...")
            desk.ask("through", desk.folder / desk.selected, self.model.file.path)

    def act_learning_drive(self) -> None:
        """Write the learning drive as a routine, and let it drive."""
        model = self.model
        name = model.file.path.stem
        try:
            text = learning_drive(model.rig, name, model.folder.settings.field)
            path = model.folder.path / "routines" / f"learning-{name}.txt"
            path.parent.mkdir(exist_ok=True)
            write_atomically(path, text)
        except (LearnError, SaveError, OSError) as problem:
            model.say(str(problem), alarm=True)
            return
        program = check_text(text, model.rig).program
        if program is not None:
            model.choose_routine(program)
            model.ask(StartPeriod(Period.ALONE, only=True, seconds=LASTS_S))
            model.say(f"the learning drive begins: routines/{path.name}; when it has ended, its run is here")

    def act_write_learnt(self) -> None:
        learnt = self.desk.learnt
        if self.sheet != "learnt" or learnt is None or learnt.run != self.desk.selected or not learnt.changes:
            self.model.say("nothing is learnt yet: y shows what this run tells")
            return
        if self.model.edit(f"learnt from {learnt.run}", lambda d: put_changes(d, learnt.changes)):
            self.desk.learnt_of = ()
            self.model.say(f"{len(learnt.changes)} values are in {self.model.file.path.name} now; u takes them back")
