"""The sheet next to the list of runs: the selected run, two compared, what one teaches about its robot, or the season."""

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
from pivrex.tui.panels.learned_values import draw_learned
from pivrex.tui.panels.panel import Panel, View
from pivrex.tui.panels.run_comparison import draw_side_by_side
from pivrex.tui.panels.run_selection import RunSelection
from pivrex.tui.panels.run_story import draw_run, draw_season
from pivrex.units import parse

__all__ = ["LOOK_KEY", "RunSheet"]

SHEETS = ("run", "learned", "season")
BY = ("start", "motion", "bump")
REPORT_W, MIN_W = 124, 84
"""Letters that a report is wide on the screen, at most and at least."""

LOOK_KEY = "R"


class RunSheet(Panel):
    """The details of the selected run.

    Attributes
    ----------
    sheet : str
        One of `SHEETS`.
    turned_rad : float
        How far the robot truly turned in the selected run, as someone said; 0 if no one did.
    """

    def __init__(self, view: View, selection: RunSelection) -> None:
        super().__init__(view)
        self.selection = selection
        self.sheet = SHEETS[0]
        self.turned_rad = 0.0
        self._looks = False
        self._tolds: dict[str, OpenRun] = {}
        """The runs that are shown, by name: the selected and the marked one."""

    def update(self) -> None:
        selection = self.selection
        if selection.run_shown is not None:
            self._tolds[selection.run_shown.name] = selection.run_shown
        wanted = [n for n in (selection.selected, selection.marked, *selection.also) if n]
        self._tolds = {n: t for n, t in self._tolds.items() if n in wanted}
        for n in wanted:
            run = selection.run(n)
            known = self._tolds.get(n)
            if run is None or run.facts is None:
                continue
            pins = tuple(self.model.documents.pins(run.facts.rig).items())
            if known is None or (known.facts, known.pins) != (run.facts, pins):
                selection.ask("open", selection.folder / n, pins)
                break
        if selection.marked and selection.marked != selection.selected and selection.selected:
            if selection.compared is None or (*selection.compared.names, selection.compared.by) != (
                selection.marked,
                selection.selected,
                selection.by,
            ):
                selection.ask(
                    "compare", selection.folder / selection.marked, selection.folder / selection.selected, selection.by
                )
        elif self.sheet == "learned" and selection.selected and selection.learned_of != self.learning():
            selection.ask(*self.learning())
        self.model.report_words = self._report_words()
        if selection.report is not None and self._looks:
            report, selection.report, self._looks = selection.report, None, False
            self.view.lay_over(Sheet("report", LOOK_KEY, lambda width: draw_pages(report.pages, width)))

    def act_look(self) -> None:
        """Show the report of what is selected, as it would be written."""
        kind, *words = self._report_words() or ("",)
        if kind:
            runs = [Path(word) for word in words if not word.startswith("--") and word != self.selection.by]
            width = min(REPORT_W, self.view.size.width - 8)
            self.selection.ask("pages", max(MIN_W, width), *runs, *([self.selection.by] if len(runs) > 1 else []))
            self._looks = True
            self.model.say("making the report; x writes it")

    def _report_words(self) -> tuple[str, ...]:
        selection = self.selection
        if selection.marked and selection.marked != selection.selected:
            return (
                "comparison",
                str(selection.folder / selection.marked),
                str(selection.folder / selection.selected),
                "--by",
                selection.by,
            )
        return ("run", str(selection.folder / selection.selected)) if selection.selected else ()

    def learning(self) -> tuple[Any, ...]:
        return "learned", self.selection.folder / self.selection.selected, self.model.file.path, self.turned_rad

    def depends(self) -> tuple[object, ...]:
        selection = self.selection
        shown = (selection.selected, selection.marked, *selection.also)
        return (
            self.sheet,
            shown,
            *(self._tolds.get(n) for n in shown),
            selection.compared,
            selection.learned,
            selection.problem,
        )

    def draw(self, width: int, height: int) -> Picture:
        selection = self.selection
        run_shown, marked = self._tolds.get(selection.selected), self._tolds.get(selection.marked)
        waits = ""
        if selection.problem:
            waits = f"! {selection.problem}"
        elif selection.marked and selection.marked != selection.selected:
            found = selection.compared
            if (
                found is not None
                and run_shown is not None
                and marked is not None
                and found.names == (selection.marked, selection.selected)
            ):
                more = [self._tolds[n] for n in selection.also if n in self._tolds and n != selection.selected]
                return draw_side_by_side(found, [marked, run_shown, *more], width, height)
            waits = "comparing ..."
        elif self.sheet == "learned":
            if selection.learned is not None and selection.learned.run == selection.selected:
                return draw_learned(selection.learned, width, height)
            waits = "learning ..."
        elif run_shown is not None:
            return (draw_season if self.sheet == "season" else draw_run)(run_shown, width, height)
        elif selection.selected:
            waits = "reading ..."
        empty = Picture(width, height)
        empty.text(1, 1, waits, "alarm" if selection.problem else "dim", width - 2)
        return empty

    # --- what is done ---

    def act_by(self) -> None:
        selection = self.selection
        selection.by = BY[(BY.index(selection.by) + 1) % len(BY)] if selection.by in BY else BY[0]
        self.model.say(f"aligned by {selection.by}")

    def act_by_said(self) -> None:
        def take(text: str) -> None:
            self.selection.by, self.selection.problem = " ".join(text.split()) or "start", ""

        allowed = "start, motion, bump, step 9 (a line of the routine), or a place such as 1.2,0.8"
        self.view.ask("align by", self.selection.by, allowed, take)

    def act_turned(self) -> None:
        def take(text: str) -> None:
            self.turned_rad = parse(text, "angle") if text.strip() else 0.0

        self.view.ask("it turned", "", "how far, from standing to standing, such as 3 turns", take)

    def act_sheet(self) -> None:
        self.selection.marked, self.selection.also, self.selection.problem = "", [], ""
        self.sheet = SHEETS[(SHEETS.index(self.sheet) + 1) % len(SHEETS)]

    def act_through(self) -> None:
        selection = self.selection
        if selection.selected:
            self.model.say(f"simulates the same driver with {self.model.file.path.name} ...")
            selection.ask("through", selection.folder / selection.selected, self.model.file.path)

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

    def act_write_learned(self) -> None:
        learned = self.selection.learned
        if self.sheet != "learned" or learned is None or learned.run != self.selection.selected or not learned.changes:
            self.model.say("nothing is learned yet: y shows what this run teaches")
            return
        if self.model.edit(f"learned from {learned.run}", lambda d: put_changes(d, learned.changes)):
            self.selection.learned_of = ()
            self.model.say(f"{len(learned.changes)} values are in {self.model.file.path.name} now; u undoes them")
