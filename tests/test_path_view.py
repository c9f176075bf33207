"""A path in the Field view, in Textual's pilot: chosen, moved, typed, dragged, mirrored, taken back, tried and driven."""

import unittest
from contextlib import asynccontextmanager
from math import atan2, pi, radians
from multiprocessing import resource_tracker
from typing import Any
from unittest import mock

import numpy as np

from pivrex.errors import UnitError
from pivrex.path.edit import added, looking_so, mirrored, removed, reversed_, segment_near
from pivrex.path.files import read_path
from pivrex.path.plan import plan_of
from pivrex.rig import open_folder, read_rig
from pivrex.scene.plan import letter_of, shares_of
from pivrex.session.periods import Period
from pivrex.tui.documents.path_document import PathDocument
from pivrex.tui.jobs.path_trial import PathTrial, ToTry, _ran
from pivrex.tui.panels.path_editor import PathEditor
from pivrex.tui.views.field import FieldView, field_exports
from tests.chassis import demo_path, ideal
from tests.local import ALONE
from tests.support import DEMO, TempCase, wait_for
from tests.test_app import AppCase, in_loop
from tests.test_path import path

ROUND = DEMO / "paths" / "round.toml"
FIELD = open_folder(DEMO).settings.field


class EditTest(unittest.TestCase):
    def test_mirrored_twice_is_as_before_and_lies_on_the_other_side(self) -> None:
        one = read_path(ROUND)
        for to, x, y, angle in (("end", 4.5, 0.5, pi), ("side", 0.5, 3.5, 0.0)):
            other = mirrored(one, FIELD, to)
            first = other.points[0]
            self.assertAlmostEqual(first.x_m, x)
            self.assertAlmostEqual(first.y_m, y)
            self.assertAlmostEqual(abs(first.direction_rad or 0.0), angle)
            self.assertAlmostEqual(other.slow[0].x_m, 5 - 2.65 if to == "end" else 2.65)
            back = mirrored(other, FIELD, to)
            np.testing.assert_allclose([(p.x_m, p.y_m) for p in back.points], [(p.x_m, p.y_m) for p in one.points])
            # it is as long, and bends the other way
            a, b = plan_of(one, ideal("plover")), plan_of(other, ideal("plover"))
            self.assertAlmostEqual(a.length_m, b.length_m)
            np.testing.assert_allclose(a.curve.bend, -b.curve.bend, atol=1e-6)

    def test_which_way_it_looks(self) -> None:
        one = path((0.5, 0.5), (1.5, 0.6), (2.5, 1.5))
        for heading in ("along", "fixed", "towards", "evenly", "points"):
            made = looking_so(one, heading, 0.1, 0.8, FIELD)
            self.assertEqual(made.mistakes(), [])
            plan = plan_of(made, ideal("bittern"))
            wanted = {"fixed": 0.1, "evenly": 0.1, "points": 0.1, "towards": atan2(1.5, 2.0)}.get(
                heading, float(plan.curve.angle[0])
            )
            self.assertAlmostEqual(float(plan.looks.heading[0]), wanted, places=6)
            end = {"fixed": 0.1, "evenly": 0.8, "points": 0.8, "towards": pi / 2}.get(
                heading, float(plan.curve.angle[-1])
            )
            self.assertAlmostEqual(float(plan.looks.heading[-1]), end, places=6)

    def test_the_other_way_is_the_same_curve(self) -> None:
        one = read_path(ROUND)
        a, b = plan_of(one, ideal("plover")), plan_of(reversed_(one), ideal("plover"))
        np.testing.assert_allclose(a.curve.x, b.curve.x[::-1], atol=1e-9)
        np.testing.assert_allclose(a.curve.bend, -b.curve.bend[::-1], atol=1e-6)

    def test_points_come_and_go(self) -> None:
        one = path((0, 0), (1, 0), (2, 0))
        self.assertEqual([p.x_m for p in added(one, 0, 0.5, 0.1).points], [0, 0.5, 1, 2])
        self.assertEqual([p.x_m for p in added(one, -1, -1, 0).points], [-1, 0, 1, 2])
        self.assertEqual([p.x_m for p in removed(one, 1).points], [0, 2])
        self.assertEqual(segment_near(one, 1.4, 0.3)[0], 1)
        self.assertAlmostEqual(segment_near(one, 1.4, 0.3)[1], 0.3)

    def test_letters_and_shares(self) -> None:
        plan = plan_of(read_path(ROUND), read_rig(demo_path("avocet")))
        shares = shares_of(plan)
        self.assertAlmostEqual(sum(share for *_, share in shares), 1.0, delta=0.01)
        self.assertEqual([s for *_, s in shares], sorted((s for *_, s in shares), reverse=True))
        letters = {letter_of(what) for what in plan.names()}
        self.assertLessEqual({"v", "t", "b", "W", "R", "S", "a", "r", "z", "0"}, letters)


class DeskTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.file = self.demo() / "paths" / "round.toml"
        self.document = PathDocument()
        self.document.open(self.file)

    def test_typed(self) -> None:
        self.document.mark = 2
        moved = self.document.typed("2.4 m, 85 cm, 30 deg")
        self.assertEqual(moved.points[2].y_m, 0.85)
        self.assertAlmostEqual(moved.points[2].direction_rad or 0, radians(30))
        self.assertEqual(self.document.put(moved), "")
        self.assertEqual(self.document.as_typed(), "2.400 m, 0.850 m, 30 deg")
        self.assertEqual(self.document.put(self.document.typed("2.4 m, 0.85 m facing -45 deg")), "")
        self.assertEqual(self.document.as_typed(), "2.400 m, 0.850 m facing -45 deg")
        assert self.document.content is not None
        self.assertAlmostEqual(read_path(self.file).points[2].heading_rad or 0, radians(-45), places=6)
        for text in ("2.4 m", "2.4, 1 m", "a, b", "1 m, 2 m, 3 m", "1 m, 2 m, 3 deg, 4", "2000 m, 0 m"):
            with self.assertRaises(UnitError):
                self.document.typed(text)

    def test_what_is_no_path_is_refused_and_nothing_changes(self) -> None:
        before, text = self.document.content, self.file.read_text()
        assert before is not None
        self.document.mark = 0
        self.assertIn("is the same place as point 1", self.document.put(self.document.typed("1.6 m, 0.55 m")))
        two = before.model_copy(update={"points": before.points[:2]})
        self.assertIn("at least two", self.document.put(removed(two, 0)))
        self.assertIs(self.document.content, before)
        self.assertEqual(self.file.read_text(), text)

    def test_a_folder_that_cannot_be_written_is_said(self) -> None:
        self.document.mark = 1
        moved = self.document.typed("1.7 m, 0.55 m")
        self.file.unlink()
        self.file.mkdir()
        self.assertIn("cannot be read any more", self.document.put(moved))
        (aside,) = self.file.parent.glob("round.yours-*.toml")  # nothing is lost
        self.assertEqual(read_path(aside).points[1].x_m, 1.7)

    def test_changed_outside_is_read_again_and_can_be_taken_back(self) -> None:
        self.document.mark = 1
        self.assertEqual(self.document.put(self.document.typed("1.7 m, 0.55 m")), "")
        mine = self.document.content
        self.assertFalse(self.document.look_outside())
        self.file.write_text(self.file.read_text().replace('"1.700 m"', '"1.800 m"', 1))
        self.assertTrue(self.document.look_outside())
        assert self.document.content is not None
        self.assertEqual(self.document.content.points[1].x_m, 1.8)
        self.document.mark = 4
        self.assertTrue(self.document.undo())
        self.assertEqual((self.document.content, self.document.mark), (mine, 1))
        self.file.write_text(self.file.read_text().replace('"1.700 m"', '"1.850 m"', 1))
        self.assertIn("do it again", self.document.put(self.document.typed("1.9 m, 0.55 m")))
        self.assertEqual(read_path(self.file).points[1].x_m, 1.85)  # theirs was not written over
        self.file.write_text("points = 3\n")
        self.assertTrue(self.document.look_outside())
        self.assertIn("round.toml", self.document.problem)


class TryingTest(unittest.TestCase):
    def test_the_run_before_is_kept_only_where_its_halves_differ(self) -> None:
        rig, one = ideal("plover"), path((0.5, 0.5), (1.0, 0.5))
        both = ToTry(one, rig, FIELD, (True, True), 1)
        trying = PathTrial()
        ran = _ran(both, ALONE)
        trying._take(ran)
        self.assertIsNone(trying.before)
        self.assertEqual(ran.said, "")
        bare = _ran(both._replace(feeds=(True, False)), ALONE)
        trying._take(bare)
        self.assertIs(trying.before, ran)
        self.assertEqual(bare.said, "without corrections")
        self.assertLess(ran.off_m, 0.08)
        trying._take(_ran(ToTry(path((0.5, 0.5), (1.2, 0.5)), rig, FIELD, (True, False), 1), ALONE))
        self.assertIsNone(trying.before)

    def test_beside_the_screen_after_a_pause(self) -> None:
        rig, one = ideal("plover"), path((0.5, 0.5), (1.0, 0.5))
        trying = PathTrial()
        self.addCleanup(trying.close)
        job = ToTry(one, rig, FIELD, (True, True), 1)
        trying.want(job)
        self.assertTrue(trying.goes_on)
        wait_for(trying.poll, 40)
        assert trying.now is not None
        self.assertEqual(trying.now.job, job)
        trying.want(job)
        self.assertFalse(trying.goes_on)


_job = PathEditor._job


class PathCase(AppCase):
    tries = False
    """Whether what is drawn is tried on the simulated robot, in a process of its own."""

    def setUp(self) -> None:
        super().setUp()
        self.file = self.home / "paths" / "round.toml"
        self.enterContext(mock.patch.object(PathEditor, "_job", lambda mode: _job(mode) if self.tries else None))
        resource_tracker.ensure_running()  # in a pilot there is no standard error that it could be given later

    @asynccontextmanager
    async def open(self, size: tuple[int, int] = (160, 47)) -> Any:
        async with self.running("keys", size, "field"):
            view = self.app.views["field"]
            assert isinstance(view, FieldView)
            self.view = view
            await self.press("P")
            yield view.paths

    def points(self) -> list[tuple[float, float]]:
        return [(p.x_m, p.y_m) for p in read_path(self.file).points]


class PathViewTest(PathCase):
    @in_loop
    async def test_points_are_chosen_moved_added_removed_and_taken_back(self) -> None:
        async with self.open() as paths:
            screen = self.text("field")
            self.assertIn("path round", screen)
            self.assertRegex(screen, r"11\.09 m in 1\d\.\d\d s, at most 0\.80 m/s")
            self.assertIn("keeps 12 cm from bench B", screen)
            self.assertIn("v 80 % your speed", screen)
            before = self.points()
            await self.press(".", ".", "up", "shift+right")
            self.assertEqual(paths.document.mark, 2)
            self.assertEqual(self.points()[2], (2.46, 0.9))
            await self.press("u", "u")
            self.assertEqual(self.points(), before)
            await self.press("U")
            self.assertEqual(self.points()[2], (2.45, 0.9))
            await self.press("+")
            self.assertEqual((len(self.points()), paths.document.mark), (15, 3))
            await self.press("-", ",", "-")
            self.assertEqual(len(self.points()), 13)
            await self.press("T")
            self.assertTrue(read_path(self.file).points[paths.document.mark].stop)
            self.assertIn("stops", self.text("field"))
            await self.press("v")
            self.assertEqual(self.points()[-1], before[0])

    @in_loop
    async def test_what_it_touches_is_said_and_what_cannot_be_driven_is_not(self) -> None:
        async with self.open() as paths:
            paths.document.mark = 3
            for _ in range(12):
                await self.press("left")
            self.assertRegex(
                self.text("field"), r"! touches bench A from \d\.\d\d m to \d\.\d\d m of its way, by \d+ cm"
            )
            fixed = paths.document.content.model_copy(update={"heading": "fixed"})
            paths.document.put(fixed)
            await self.press("D")
            self.assertIn("Plover cannot move sideways", self.app.model.message)
            self.assertIs(self.app.model.status.match.period, Period.OFF)

    @in_loop
    async def test_the_mouse_drags_a_point_and_adds_one(self) -> None:
        async with self.open() as paths:
            scale = self.view._map._placing
            assert scale is not None
            x, y = scale.cell(*self.points()[5])
            self.view.point(x, y, "press")
            self.assertEqual(paths.document.mark, 5)
            self.view.point(x + 3, y, "drag")
            self.assertEqual(self.points()[5], (4.1, 1.95))  # nothing is saved while it is held
            self.assertIn("limited by", self.text("field"))
            self.view.point(x + 3, y, "release")
            self.assertAlmostEqual(self.points()[5][0], 4.1 + 24 / scale.across, delta=8 / scale.across)
            await self.press("u")
            self.assertEqual(self.points()[5], (4.1, 1.95))
            middle = scale.cell(2.0, 0.7)
            self.view.point(middle[0], middle[1], "press")
            self.view.point(middle[0], middle[1], "release")
            self.assertEqual(len(self.points()), 15)
            self.assertEqual(paths.document.mark, 2)
            far = scale.cell(0.3, 0.2)  # nearer to an end than to the curve: before it
            self.view.point(far[0], far[1], "press")
            self.assertEqual(paths.document.mark, 0)

    @in_loop
    async def test_typed_mirrored_and_a_new_one(self) -> None:
        async with self.open() as paths:
            await self.press(".", "y")
            await self.press(*("space" if c == " " else c for c in "1.55 m, 0.60 m"), "enter")
            self.assertEqual(self.points()[1], (1.55, 0.6))
            await self.press("V", "down", "enter")
            self.assertEqual(self.points()[1], (1.55, 3.4))
            await self.press("u", "G", "down", "enter")
            self.assertEqual(read_path(self.file).heading, "fixed")
            self.assertIn("cannot move sideways", self.text("field"))
            await self.press("u", "c", "down", "enter")
            await self.frames(3)
            await self.press("enter")
            await self.frames(2)
            self.assertEqual(paths.document.path.name, "path.toml")
            self.assertEqual(len(paths.document.content.points), 2)
            self.assertTrue((self.home / "paths" / "path.toml").exists())

    @in_loop
    async def test_tried_and_without_corrections(self) -> None:
        self.tries = True
        async with self.open() as paths:
            await self.until(lambda: paths.trying.now is not None, 240)
            self.assertRegex(self.text("field"), r"the simulated robot ends \d\.\d cm and \d\.\d deg off")
            self.assertIn("errors", self.text("field"))
            await self.press("C")
            await self.until(lambda: paths.trying.before is not None, 60)
            await self.frames(1)
            self.assertIn("without corrections", self.text("field"))
            self.assertIn("before, with both:", self.text("field"))
            await self.press("O")
            self.assertIn("one of the two must be left", self.app.model.message)

    @in_loop
    async def test_driven_alone(self) -> None:
        async with self.open():
            await self.press("D")
            await self.until(lambda: self.app.model.status.match.period is Period.ALONE, 20)
            await self.until(lambda: self.app.model.value("following", "mode") > 0, 20)
            await self.until(lambda: self.app.model.value("truth", "x") > 0.6, 20)
            self.assertRegex(self.text("field"), r"now \d\.\d cm and \d\.\d deg off its plan")
            await self.press("escape")
            await self.until(lambda: bool(self.app.model.status.held), 20)

    @in_loop
    async def test_what_is_exported_is_the_path_while_it_is_open(self) -> None:
        async with self.open():
            kinds = [words[0] for words in field_exports(self.app.model)]
            self.assertEqual(kinds, ["plan", "following"])
            self.assertIn(str(self.file), field_exports(self.app.model)[0])

    @in_loop
    async def test_every_size_and_closed_again(self) -> None:
        for size in ((100, 30), (80, 24), (60, 20)):
            async with self.open(size):
                self.assertTrue(self.view.paths.open)
                self.text("field")
                await self.press("P")
                self.assertNotIn("path round", self.text("field"))
                await self.press("up")  # a setting's key again
                self.assertEqual(self.points()[0], (0.5, 0.5))

    @in_loop
    async def test_a_file_that_is_no_path(self) -> None:
        self.file.write_text("points = 3\n")
        async with self.open() as paths:
            self.assertIsNone(paths.document.content)
            self.assertIn("round.toml", self.text("field"))
            await self.press(".", "up", "+", "-", "v", "T", "y", "D", "u", "C")
            self.assertEqual(self.file.read_text(), "points = 3\n")
