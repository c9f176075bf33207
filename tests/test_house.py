"""The house of the screen: how little a view, a panel, a job and a document take, and how files and classes are kept."""

from __future__ import annotations

import ast
import importlib.util
import inspect
import pkgutil
import unittest
from collections import Counter
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path
from typing import Any

import pivrex.tui
from pivrex.document import Document
from pivrex.errors import PivrexError
from pivrex.tui.commands import COMMON, PUSHES, Command
from pivrex.tui.draw.picture import Picture
from pivrex.tui.jobs.job import Job, Progress
from pivrex.tui.panels.panel import Panel, Place, Rect, View
from pivrex.tui.views.runs import RunsView
from pivrex.tui.views.view_row import ViewRow
from pivrex.tui.views.view_table import VIEWS
from tests.local import local_model
from tests.support import ROOT, TempCase, wait_for
from tests.test_app import AppCase, in_loop

TUI = ROOT / "src" / "pivrex" / "tui"

# --- a view of one number: a panel, a view of it, a row for the table ---


class Odometer(Panel):
    """How far the robot went, in m; a click begins again."""

    begins_m = 0.0

    def draw(self, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        picture.text(1, 0, f"{self.model.value('sensed', 'left_travel') - self.begins_m:.2f} m", "measured")
        picture.spot(0, 0, width, "again")
        return picture

    def press(self, what: str, value: str) -> bool:
        if what == "again":
            self.act_again()
        return what == "again"

    def act_again(self) -> None:
        self.begins_m = self.model.value("sensed", "left_travel")


class OdometerView(View):
    """One panel."""

    def __init__(self, model: Any, name: str) -> None:
        super().__init__(model, name)
        self.panels = (Odometer(self),)

    def places(self, width: int, height: int) -> Iterable[Place]:
        yield self.panels[0], Rect(2, 1, width - 4, 1)


ODOMETER = ViewRow("odometer", "8", "how far", "Opens the odometer.", OdometerView,
                   lambda m: (("went", 0.5, f"{m.value('sensed', 'left_travel'):.2f} m", "measured"),),
                   commands=(Command("again", "begin again", "Begins again.", ("A",), foot=1),))  # fmt: skip


# --- a panel in a view that is there ---


class WithOdometer(RunsView):
    """The view Runs with an odometer in its last row."""

    def __init__(self, model: Any, name: str) -> None:
        super().__init__(model, name)
        self.odometer = Odometer(self)
        self.panels = (*self.panels, self.odometer)

    def places(self, width: int, height: int) -> Iterable[Place]:
        yield from super().places(width, height - 1)
        yield self.odometer, Rect(0, height - 1, width, 1)


# --- a job: a function ---


def words_of(text: str, _progress: Progress) -> int:
    """Count words."""
    return len(text.split())


# --- a document: what its text means ---


def numbers(text: str, path: Path) -> list[float]:
    """Read a number in each line."""
    try:
        return [float(line) for line in text.split()]
    except ValueError as problem:
        raise PivrexError(f"{path.name}: {problem}") from None


class AddedTest(AppCase):
    def test_each_takes_less_than_thirty_lines(self) -> None:
        for parts in ((Odometer,), (OdometerView,), (WithOdometer,), (words_of,), (numbers,)):
            self.assertLess(sum(len(inspect.getsource(part).splitlines()) for part in parts), 30)

    rows = (*(replace(r, view=WithOdometer) if r.name == "runs" else r for r in VIEWS), ODOMETER)

    @in_loop
    async def test_a_view_is_there_wherever_views_are_and_a_panel_is_in_its_view(self) -> None:
        async with self.running("recording watering"):
            await self.frames(90)
            self.assertIn(" 8 odometer", self.text("line"))
            await self.press("7")
            self.assertRegex(self.text("runs").split("\n")[-1], r"[0-9]\.\d\d m")
            await self.pilot.click("#line", offset=(150, 1))
            view: Any = self.app.view
            self.assertEqual(view.view_name, "odometer")
            self.assertIn("A begin again", self.text("foot"))
            await self.press("A")
            before = view.panels[0].begins_m
            self.assertGreater(before, 0.05)
            await self.frames(30)
            await self.pilot.click("#odometer", offset=(4, 1))
            self.assertGreater(view.panels[0].begins_m, before)
            await self.press("x")
            self.assertEqual(self.model.message, "there is nothing of odometer to export")
            await self.press("question_mark")
            self.assertIn("begin again: Begins again.", self.over())
            titles = [c.title for c in self.app.get_system_commands(self.app.screen)]
            self.assertIn("odometer  (8)", titles)

    @in_loop
    async def test_and_without_its_row_nothing_of_it_is_left(self) -> None:
        self.rows = VIEWS
        async with self.running():
            await self.press("8", "A")
            self.assertEqual(self.app.view.view_name, "field")
            self.assertNotIn("odometer", self.text())

    def test_a_panel_is_drawn_without_an_app(self) -> None:
        model = local_model(self.home)
        self.addCleanup(model.client.close)
        for _ in range(10):
            model.pull()
        self.assertIn("0.00 m", Odometer(View(model, "none")).draw(20, 1).row(0))

    def test_every_view_can_be_drawn_at_every_size(self) -> None:
        model = local_model(self.home)
        self.addCleanup(model.client.close)
        for _ in range(10):
            model.pull()
        for row in VIEWS:
            view = row.view(model, row.name)
            for width, height in (
                (60, 1),
                (60, 9),
                (79, 3),
                (80, 1),
                (80, 5),
                (80, 11),
                (100, 13),
                (128, 7),
                (160, 40),
            ):
                picture = view.draw(width, height)
                self.assertEqual((picture.width, picture.height), (width, height), row.name)
                view._kept.clear()
                self.assertEqual(picture.rows(), view.draw(width, height).rows(), row.name)

    def test_a_job(self) -> None:
        job: Job[str, int] = Job("pivrex-words", words_of)
        self.addCleanup(job.close)
        job.ask("one two three")
        wait_for(lambda: job.poll() or job.answer, 30)
        self.assertEqual(job.answer, 3)


class DocumentTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.path = self.write("some.txt", "1 2")
        self.document: Document[list[float]] = Document(numbers, "list")
        self.document.open(self.path)

    def test_changes_are_saved_listed_and_gone_to(self) -> None:
        document = self.document
        for k in range(3, 7):
            document.change(f"{document.text} {k}", f"{k} added")
        document.change(f"{document.text}0", "6 added", join=True)
        self.assertEqual(document.content, [1, 2, 3, 4, 5, 60])
        self.assertEqual([s.what for s in document.steps], ["3 added", "4 added", "5 added", "6 added"])
        self.assertEqual((document.undo(), document.undo(), document.content), ("6 added", "5 added", [1, 2, 3, 4]))
        self.assertEqual((document.can_undo, document.can_redo, document.at), (True, True, 2))
        self.assertEqual((document.go_to(0), self.path.read_text()), ("3 added", "1 2"))
        self.assertEqual((document.undo(), document.can_undo), ("", False))
        self.assertEqual((document.go_to(4), self.path.read_text()), ("6 added", "1 2 3 4 5 60"))
        document.go_to(1)
        document.change("7", "all but 7 gone")  # what was undone is gone for good
        self.assertEqual([s.what for s in document.steps], ["3 added", "all but 7 gone"])
        with self.assertRaises(PivrexError):
            document.change("seven", "in words")
        self.assertEqual((document.text, self.path.read_text()), ("7", "7"))

    def test_what_a_drive_began_with(self) -> None:
        document = self.document
        document.begin()
        self.assertEqual((document.since_begun(), document.differs), ("", False))
        self.path.write_text("1 2 3")
        said = "the list it began with still drives: some.txt was changed by another program"
        self.assertEqual((document.since_begun(), document.since_begun()), (said, ""))
        self.path.write_text("one")
        self.assertRegex(document.since_begun(), "has mistakes .*one")
        self.path.unlink()
        self.assertRegex(document.since_begun(), "some.txt is gone")
        self.assertTrue(document.differs)
        self.path.write_text("1 2")
        self.assertEqual((document.since_begun(), document.differs), ("", False))
        document.change("1 2 3", "3 added")
        self.assertRegex(document.since_begun(), "changed here")


class HouseTest(unittest.TestCase):
    def test_no_two_files_of_one_name(self) -> None:
        names = Counter(p.name for p in TUI.rglob("*.py") if p.name != "__init__.py")
        self.assertGreater(len(names), 80)
        self.assertEqual([n for n, count in names.items() if count > 1], [])

    def test_a_command_that_may_be_missing_says_why(self) -> None:
        every = [*COMMON, *PUSHES, *(c for row in VIEWS for c in row.commands)]
        missing = [c for c in every if c.available.__name__ != "_always"]
        self.assertGreater(len(missing), 25)
        self.assertEqual([c.name for c in missing if c.needs == "not now"], [])

    def test_a_view_says_which_panels_where_and_with_which_keys_and_no_more(self) -> None:
        for path in (TUI / "views").glob("*.py"):
            self.assertLess(len(path.read_text("utf-8").splitlines()), 150, path)

    def test_no_class_is_more_than_two_deep_and_none_of_the_panels_inherits_twice(self) -> None:
        found = 0
        for module in pkgutil.walk_packages(pivrex.tui.__path__, "pivrex.tui."):
            for thing in vars(importlib.import_module(module.name)).values():
                if inspect.isclass(thing) and thing.__module__ == module.name:
                    found += 1
                    self.assertLessEqual(_depth(thing), 2, thing)
                    if ".panels." in module.name or ".views." in module.name:
                        self.assertEqual(len(thing.__bases__), 1, thing)
        self.assertGreater(found, 80)

    def test_scripts_name_what_there_is(self) -> None:
        found = 0
        for path in (ROOT / "script").glob("*.py"):
            for one in ast.walk(ast.parse(path.read_text("utf-8"))):
                if isinstance(one, ast.ImportFrom) and one.module and one.module.startswith("pivrex"):
                    module = importlib.import_module(one.module)
                    for name in one.names:
                        found += 1
                        there = hasattr(module, name.name) or importlib.util.find_spec(f"{one.module}.{name.name}")
                        self.assertTrue(there, f"{path.name}: {one.module}.{name.name}")
        self.assertGreater(found, 50)

    def test_a_drawing_asks_nothing_and_changes_nothing(self) -> None:
        """``draw`` of a panel assigns nothing of the model and calls nothing of it that a person does."""
        deeds = {"ask", "edit", "choose", "nudge", "drag", "type_in", "undo", "redo", "go_to", "say", "probe"}
        for path in (TUI / "panels").glob("*.py"):
            for one in ast.walk(ast.parse(path.read_text("utf-8"))):
                if isinstance(one, ast.FunctionDef) and one.name == "draw":
                    called = {c.func.attr for c in ast.walk(one) if isinstance(c, ast.Call) and isinstance(c.func, ast.Attribute)
                              and ast.unparse(c.func.value) in ("self.model", "model")}  # fmt: skip
                    self.assertEqual(called & deeds, set(), path)


def _depth(kind: type) -> int:
    own = int(kind.__module__.startswith("pivrex"))
    return own + max([_depth(base) for base in kind.__bases__ if base is not object], default=0)


class ChangesTest(AppCase):
    async def listed(self) -> str:
        await self.press("ctrl+u")
        return self.over()

    @in_loop
    async def test_of_the_rig(self) -> None:
        before = self.rig_file.read_text("utf-8")
        async with self.running(view="shaping"):
            await self.press("right", "down", "right")
            shown = await self.listed()
            self.assertIn("plover.toml as it was after which change?", shown)
            rows = [row for row in shown.split("\n") if "shaping.forward" in row or "as it was opened" in row]
            self.assertEqual(["curve" in row for row in rows], [True, False, False])
            await self.press("down", "enter")
            self.assertEqual(self.model.file.at, 1)
            self.assertIn("undone", await self.listed())
            await self.press("end", "enter")
            self.assertEqual(self.rig_file.read_text("utf-8"), before)
            await self.listed()
            await self.press("home", "enter")
            self.assertEqual(self.model.file.at, 2)

    @in_loop
    async def test_of_the_path_that_is_open(self) -> None:
        file = self.home / "paths" / "round.toml"
        before = file.read_text("utf-8")
        async with self.running(view="field"):
            await self.press("P", "up", "up")
            self.assertIn("round.toml as it was", await self.listed())
            await self.press("end", "enter")
            self.assertEqual(file.read_text("utf-8"), before)

    @in_loop
    async def test_of_the_routine(self) -> None:
        file = self.home / "routines" / "greenhouse-plover.txt"
        before = file.read_text("utf-8")
        async with self.running(view="routine"):
            view: Any = self.app.view
            await self.frames(2)
            await self.press("y", "x", "x")
            view.routine.editor.to_line(3)
            await self.press("#", "escape")
            shown = await self.listed()
            self.assertIn("typed in line 1", shown)
            self.assertIn("typed in line 3", shown)
            await self.press("end", "enter")
            self.assertEqual(view.routine.editor.text, before)
            view.close()
            self.assertEqual(file.read_text("utf-8"), before)
