"""Runs: the list at the left; at the right the selected run, two over each other, or what one tells of its robot."""

from __future__ import annotations

from typing import Any

from pivrex.errors import LearnError, PivrexError, SaveError, UnitError
from pivrex.files import write_atomically
from pivrex.rig.changes import put_changes
from pivrex.routine import check_text
from pivrex.runs.learning.routine import LASTS_S, learning_drive
from pivrex.session.messages import StartPeriod
from pivrex.session.periods import Period
from pivrex.tui.commands import Command
from pivrex.tui.draw.picture import Picture
from pivrex.tui.jobs.run_questions import Told
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.learnt_values import draw_learnt
from pivrex.tui.panels.run_comparison import draw_beside
from pivrex.tui.panels.run_list import draw_list, draw_season, draw_told, first_shown, room_for
from pivrex.tui.panels.runs_desk import Desk
from pivrex.tui.view import View
from pivrex.units import parse

__all__ = ["RUNS_COMMANDS", "RunsView", "runs_bars", "runs_exports"]

SHEETS = ("run", "learnt", "season")
BY = ("start", "motion", "bump")

BYTES = 3.0
"""A number of a Tick takes about so many on the disk, once it is compressed."""


class RunsView(View):
    """What was kept of every drive. ↑ ↓ select, c plays, + lays another beside."""

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self.desk = Desk(model.folder.path / "runs", model.folder.settings.keep)
        self.sheet = SHEETS[0]
        self._entering = "note"
        self._turned_rad = 0.0
        self._tolds: dict[str, Told] = {}
        """The runs that are shown, by name: the selected and the marked one."""

    # --- what is new ---

    def update(self) -> None:
        desk = self.desk
        room = room_for(self.size.height or 38)
        runs = desk.shown()
        names = [r.name for r in runs]
        first = first_shown(len(runs), names.index(desk.selected) if desk.selected in names else 0, room)
        desk.look([r.name for r in runs[first : first + room] if r.facts is not None])
        if desk.told is not None:
            self._tolds[desk.told.name] = desk.told
        wanted = [n for n in (desk.selected, desk.marked, *desk.also) if n]
        self._tolds = {n: t for n, t in self._tolds.items() if n in wanted}
        for n in wanted:
            run = desk.run(n)
            known = self._tolds.get(n)
            if run is not None and run.facts is not None and (known is None or known.facts != run.facts):
                desk.ask("told", desk.folder / n)
                break
        if desk.marked and desk.marked != desk.selected and desk.selected:
            if desk.beside is None or (*desk.beside.names, desk.beside.by) != (desk.marked, desk.selected, desk.by):
                desk.ask("beside", desk.folder / desk.marked, desk.folder / desk.selected, desk.by)
        elif self.sheet == "learnt" and desk.selected and desk.learnt_of != self._learning():
            desk.ask(*self._learning())
        self.model.report_words = self._report_words()
        if desk.new:
            self.model.say(f"driven through {self.model.file.path.stem}: {desk.new}")
            desk.new = ""

    def _report_words(self) -> tuple[str, ...]:
        desk = self.desk
        if desk.marked and desk.marked != desk.selected:
            return "comparison", str(desk.folder / desk.marked), str(desk.folder / desk.selected), "--by", desk.by
        return ("run", str(desk.folder / desk.selected)) if desk.selected else ()

    def _learning(self) -> tuple[Any, ...]:
        return "learnt", self.desk.folder / self.desk.selected, self.model.file.path, self._turned_rad

    # --- drawing ---

    def draw(self, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        side = max(38, min(56, width // 3)) if width >= 78 else 0
        desk = self.desk
        picture.place(draw_list(desk, side or width, height, self._much()), 0, 0)
        if side:
            picture.down(side, 0, height)
            picture.place(self._right(width - side - 2, height), side + 2, 0)
        return picture

    def _much(self) -> str:
        """Say how much the last minutes are, for this rig's rate and columns."""
        model = self.model
        columns, rate = len(model.line.layout), 1 / model.line.dt_s
        last_s = model.folder.settings.keep.last_s
        return (
            f"{last_s / 60:g} min here: {rate:g} Hz, {columns} columns, {columns * rate * last_s * BYTES / 1e6:.0f} MB"
        )

    def _right(self, width: int, height: int) -> Picture:
        desk = self.desk
        told, marked = self._tolds.get(desk.selected), self._tolds.get(desk.marked)
        waits = ""
        if desk.problem:
            waits = f"! {desk.problem}"
        elif desk.marked and desk.marked != desk.selected:
            found = desk.beside
            if (
                found is not None
                and told is not None
                and marked is not None
                and found.names == (desk.marked, desk.selected)
            ):
                more = [self._tolds[n] for n in desk.also if n in self._tolds and n != desk.selected]
                return draw_beside(found, [marked, told, *more], width, height)
            waits = "laying them over each other ..."
        elif self.sheet == "learnt":
            if desk.learnt is not None and desk.learnt.run == desk.selected:
                return draw_learnt(desk.learnt, width, height)
            waits = "learning ..."
        elif told is not None:
            return (draw_season if self.sheet == "season" else draw_told)(told, width, height)
        elif desk.selected:
            waits = "reading ..."
        empty = Picture(width, height)
        empty.text(1, 1, waits, "alarm" if desk.problem else "dim", width - 2)
        return empty

    # --- what is done ---

    def press(self, what: str, value: str) -> bool:
        if what == "run":
            if self.desk.selected == value:
                self.act_open_run()
            self.desk.selected = value
        return what == "run"

    def act_previous_setting(self) -> None:
        self.desk.walk(-1)

    def act_next_setting(self) -> None:
        self.desk.walk(1)

    def act_open_run(self) -> None:
        """Play the selected run in every view."""
        if self.desk.selected and self.model.open_run(self.desk.folder / self.desk.selected):
            self.app.show_view("field")  # type: ignore[attr-defined]

    def act_mark_run(self) -> None:
        if self.desk.selected:
            self.model.say(self.desk.mark())

    def act_by(self) -> None:
        desk = self.desk
        desk.by = BY[(BY.index(desk.by) + 1) % len(BY)] if desk.by in BY else BY[0]
        self.model.say(f"lined up by {desk.by}")

    def act_by_said(self) -> None:
        self._enter("by")

    def act_sheet(self) -> None:
        self.desk.marked, self.desk.also, self.desk.problem = "", [], ""
        self.sheet = SHEETS[(SHEETS.index(self.sheet) + 1) % len(SHEETS)]

    def act_stay(self) -> None:
        self._safely(self.desk.stay)

    def act_take_away(self) -> None:
        def take() -> str:
            name = self.desk.take_away()
            return f"{name} is taken away; Backspace brings it back" if name else ""

        self._safely(take)

    def act_bring_back(self) -> None:
        def back() -> str:
            name = self.desk.bring_back()
            return f"{name} is back" if name else "nothing was taken away"

        self._safely(back)

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
            model.choose_routine(program, path, text)
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

    def _safely(self, do: Any) -> None:
        try:
            said = do()
        except PivrexError as problem:
            self.model.say(str(problem), alarm=True)
        else:
            if said:
                self.model.say(said)

    # --- typing ---

    def act_find(self) -> None:
        self._enter("find")

    def act_turned(self) -> None:
        self._enter("turned")

    def act_type_value(self) -> None:
        self._enter("note")

    def _enter(self, what: str) -> None:
        from pivrex.tui.overlays.entry import ValueEntry  # the first screen need not wait for it

        self._entering = what
        if len(self.app.screen_stack) == 1:
            self.app.push_screen(ValueEntry(self))

    def entry(self) -> tuple[str, str, str]:
        """Give what is typed: a note, what is searched for, or how far the robot turned."""
        told = self._tolds.get(self.desk.selected)
        return {
            "note": ("note", told.facts.note if told is not None else "", "stands beside the run, and lets it stay"),
            "find": ("find", self.desk.find, "a robot, a driver, a day, a word of a note; empty shows all"),
            "by": (
                "lined up by",
                self.desk.by,
                "start, motion, bump, step 9 (a line of the routine), or a place such as 1.2,0.8",
            ),
            "turned": ("it turned", "", "how far, from standing to standing, such as 3 turns"),
        }[self._entering]

    def type_in(self, text: str) -> None:
        """Take what was typed; raises `UnitError`."""
        if self._entering == "find":
            self.desk.find = text.strip()
            self.desk.walk(0)
        elif self._entering == "by":
            self.desk.by, self.desk.problem = " ".join(text.split()) or "start", ""
        elif self._entering == "turned":
            self._turned_rad = parse(text, "angle") if text.strip() else 0.0
        elif self.desk.selected:
            try:
                self.desk.note(text)
            except PivrexError as problem:
                raise UnitError(str(problem)) from None

    def close(self) -> None:
        self.desk.close()

    def help_lines(self) -> list[tuple[str, str]]:
        return [
            ("▌", "the selected run: c or a second click plays it again in every view, with a time line below"),
            (
                "+",
                "makes the selected run the first: the next that is selected is laid over it, × where they part; more lie grey below",
            ),
            (
                "━ ┄",
                "the first solid teal, the second dashed amber; stage by stage when the line parted, and what each changed setting does",
            ),
            (
                "usual",
                "the median of the runs before that were driven alike; ! where this one is worse than they differ among themselves",
            ),
            (
                "v",
                "what the run tells of its robot, each value with the interval that holds it 95 times in 100; W writes it into the rig",
            ),
            ("thinned", "its ticks made room for newer runs; figures and track are there still"),
        ]


RUNS_COMMANDS = (
    Command("open_run", "play again", "Plays the selected run again: every view shows it, with a time line.", ("c",), foot=1),
    Command("mark_run", "lay over", "Makes the selected run the first of two; again takes that back.", ("plus", "+"), foot=2),
    Command("by", "lined up by", "Lines the two up by their start, their first motion or their first bump.", ("v",), foot=5),
    Command("by_said", "lined up by ...", "Types what they are lined up by, such as a line or a place.", ("V", "shift+v", "upper_v")),
    Command("sheet", "learn, season", "Walks from the run to what it tells of its robot, and to all runs like it.", ("y",), foot=3),
    Command("type_value", "note", "Types a note beside the selected run; then it stays.", ("equals_sign", "="), foot=4),
    Command("find", "find", "Finds runs by words of their robot, driver, day or note.", ("slash",), foot=4),
    Command("stay", "stays", "Lets the selected run stay, or make room again.", ("S", "shift+s", "upper_s"), foot=6),
    Command("through", "through this rig", "Drives the same driver through the open rig on the stand-in, and lays both over each other.",
            ("O", "shift+o", "upper_o"), foot=7),
    Command("learning_drive", "learning drive", "Writes the routine that tells most of a robot, and lets it drive.",
            ("G", "shift+g", "upper_g"), foot=8),
    Command("turned", "it turned", "Types how far the robot truly turned in the selected run: that tells the gyro's scale.",
            ("T", "shift+t", "upper_t"), foot=9),
    Command("write_learnt", "write into the rig", "Writes what was learnt into the open rig, as one step that undo takes back.",
            ("W", "shift+w", "upper_w"), foot=5),
    Command("take_away", "take away", "Takes the selected run away.", ("delete",), foot=10),
    Command("bring_back", "bring back", "Brings back the run that was taken away last.", ("backspace",)),
)  # fmt: skip


def runs_bars(model: ScreenModel) -> tuple[tuple[str, float, str, str], ...]:
    """How much is kept of what is driven now: the instrument of this view's cell."""
    status, last_s = model.status, model.folder.settings.keep.last_s
    t = model.value("clock", "t") - status.kept_from_s
    if status.cannot_keep:
        return (("kept", 0.0, "! not now", "alarm"),)
    if t != t:  # noqa: PLR0124 - NaN is not itself
        return (("kept", 0.0, "–", "dim"),)
    t = max(0.0, t)
    share = min(1.0, t / last_s)
    return (
        (
            "kept",
            share,
            "all of it" if status.keeping else f"{min(t, last_s):4.0f} s",
            "commanded" if status.keeping else "measured",
        ),
    )


def runs_exports(model: ScreenModel) -> list[list[str]]:
    """The report of what is selected: set by the view, which knows."""
    return [list(model.report_words)] if model.report_words else []
