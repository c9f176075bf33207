"""The view Runs: listed, found, noted, laid over each other, learned from, played again; and the bench sums over any view."""

from __future__ import annotations

import os
import re
import shutil
import signal
from dataclasses import replace
from unittest import mock

import numpy as np

from pivrex.errors import PivrexError
from pivrex.rig import read_rig
from pivrex.rig.changes import Change
from pivrex.rig.field import Keep
from pivrex.runs.events import Event
from pivrex.runs.facts import read_facts, write_facts
from pivrex.runs.learning.learn import Learned, Learning
from pivrex.runs.run import Run
from pivrex.runs.shelf import Shelf
from pivrex.runs.track import TRACK
from pivrex.scene.marks import ROLES
from pivrex.session.messages import ChooseRoutine, StartPeriod
from pivrex.sums import SUMS
from pivrex.tui.draw.picture import TEXT
from pivrex.tui.draw.sums import draw_sum
from pivrex.tui.jobs.run_questions import OpenRun, RunReader, Went
from pivrex.tui.overlays.bench import Bench
from pivrex.tui.views.runs import RunsView
from tests.kept import FIRST, SECOND, keep_two
from tests.local import ALONE, LocalClient
from tests.support import wait_for
from tests.test_app import AppCase, in_loop
from tests.test_terminal import TerminalCase


class RunsCase(AppCase):
    """A workspace with two runs: the second newer, with another curve."""

    def setUp(self) -> None:
        super().setUp()
        keep_two(self.home, Event(1.0, 60, "bump", "it stands against something"))

    @property
    def view(self) -> RunsView:
        view = self.app.views["runs"]
        assert isinstance(view, RunsView)
        return view

    async def listed(self) -> None:
        await self.until(
            lambda: (
                "2 kept" in self.text("runs")
                and "bump" not in self.view.selection.problem
                and self.view.selection.run_shown
            )
        )

    async def typed(self, text: str) -> None:
        await self.pilot.pause()
        await self.pilot.press("end", "shift+home", "delete", *["space" if c == " " else c for c in text], "enter")
        await self.frames(2)


class ListTest(RunsCase):
    @in_loop
    async def test_listed_selected_and_told(self) -> None:
        async with self.running(view="runs"):
            await self.listed()
            self.assertEqual(self.view.selection.selected, SECOND)
            shown = self.text("runs")
            self.assertIn("05 May", shown)
            self.assertIn("5 s, recording watering", shown)
            self.assertIn("always kept: the last 5 min", shown)
            await self.until(lambda: "what happened" in self.text("runs"))
            self.assertRegex(self.text("runs"), r"1\.0 s ▲ it stands against something")
            self.assertRegex(self.text("runs"), r"driven +\d\.\d s")
            await self.press("down")
            self.assertEqual(self.view.selection.selected, FIRST)
            await self.until(lambda: "Saturday 04 May 2030" in self.text("runs"))
            self.assertIn("7 runs", self.text("line"))

    @in_loop
    async def test_found_by_typing(self) -> None:
        async with self.running(view="runs"):
            await self.listed()
            await self.press("slash")
            await self.typed("plover 04")
            self.assertEqual([r.name for r in self.view.selection.shown()], [FIRST])
            self.assertIn("find: plover 04", self.text("runs"))
            await self.press("slash")
            await self.typed("no one of this name")
            self.assertIn("nothing is found", self.text("runs"))
            await self.press("slash")
            await self.typed("")
            self.assertEqual(len(self.view.selection.shown()), 2)

    @in_loop
    async def test_noted_kept_taken_away_and_brought_back(self) -> None:
        async with self.running(view="runs"):
            await self.listed()
            await self.press("equals_sign")
            await self.typed("pulled left")
            self.assertEqual(read_facts(self.home / "runs" / SECOND).note, "pulled left")
            await self.until(lambda: "note: pulled left" in self.text("runs"))
            await self.press("S")
            self.assertEqual(read_facts(self.home / "runs" / SECOND).kept, "the last minutes")
            await self.press("S")
            self.assertEqual(read_facts(self.home / "runs" / SECOND).kept, "by key")
            await self.press("delete")
            self.assertFalse((self.home / "runs" / SECOND).exists())
            self.assertIn("Backspace brings it back", self.model.message)
            await self.until(lambda: "1 kept" in self.text("runs"))
            await self.press("backspace")
            await self.until(lambda: "2 kept" in self.text("runs"))
            self.assertTrue((self.home / "runs" / SECOND / "run.toml").exists())
            await self.press("backspace")
            self.assertIn("nothing was deleted", self.model.message)

    @in_loop
    async def test_what_was_just_driven_is_selected_rather_than_the_minutes_that_have_begun_since(self) -> None:
        begun = self.home / "runs" / SECOND
        write_facts(begun, replace(read_facts(begun), ended=None))
        async with self.running(view="runs"):
            await self.until(lambda: self.view.selection.run_shown)
            self.assertEqual([r.name for r in self.view.selection.shown()], [SECOND, FIRST])
            self.assertEqual(self.view.selection.selected, FIRST)

    @in_loop
    async def test_a_run_that_is_being_kept_is_not_taken_away(self) -> None:
        folder = self.home / "runs" / SECOND
        write_facts(folder, replace(read_facts(folder), ended=None))
        async with self.running(view="runs"):
            await self.listed()
            await self.press("up", "delete")
            self.assertIn(f"{SECOND} is still being written", self.model.message)
            self.assertTrue(folder.exists())

    @in_loop
    async def test_a_run_that_has_grown_has_another_picture(self) -> None:
        folder = self.home / "runs" / SECOND
        async with self.running(view="runs"):
            await self.listed()
            await self.until(lambda: SECOND in self.view.selection.went)
            before = self.view.selection.went[SECOND].points
            track = next(folder.glob("track-*.csv"))
            lines = track.read_text("ascii").splitlines()
            track.write_text("\n".join(lines[:10]) + "\n", "ascii")
            write_facts(folder, replace(read_facts(folder), ticks=90))
            await self.until(lambda: len(self.view.selection.went.get(SECOND, Went("", before, 1, 1)).points) == 9)

    @in_loop
    async def test_a_run_that_is_spoiled_stands_there_with_its_reason(self) -> None:
        (self.home / "runs" / FIRST / "run.toml").write_text("robot = 3")
        async with self.running(view="runs"):
            await self.until(lambda: "! robot is 3" in self.text("runs"))
            self.assertIn("05 May", self.text("runs"))

    def test_a_run_that_is_taken_away_while_it_is_read_is_not_shown_by_halves(self) -> None:
        folder, gone = self.home / "runs" / SECOND, self.home / "gone"
        reader = RunReader(folder.parent, Keep())
        for word in ("went", "open"):

            def taken_away(run: Run) -> np.ndarray:
                run.folder.rename(gone)
                return np.empty((0, len(TRACK)))

            refused = self.assertRaisesRegex(PivrexError, "was deleted while it was read")
            with mock.patch.object(Run, "track", property(taken_away)), refused:
                reader((word, folder), ALONE)
            gone.rename(folder)

    def test_a_run_is_held_against_those_before_it_and_learned_with_the_turn_that_was_seen(self) -> None:
        runs = self.home / "runs"
        reader = RunReader(runs, Keep())
        for name, count in ((FIRST, 0), (SECOND, 2)):
            told = reader(("open", runs / name), ALONE)
            assert isinstance(told, OpenRun)
            self.assertEqual({len(c.values) for c in told.course}, {count} - {0})
        with mock.patch("pivrex.tui.jobs.run_questions.learn") as learn:
            reader(("learned", runs / SECOND, self.rig_file, 6.28), ALONE)
        run, rig, text, turned = learn.call_args.args
        self.assertEqual((run.name, rig.name, turned), (SECOND, "Plover", 6.28))
        self.assertEqual(text, self.rig_file.read_text("utf-8"))

    @in_loop
    async def test_a_run_of_which_no_tick_came_to_disk(self) -> None:
        for path in (self.home / "runs" / SECOND).glob("t*-*.csv*"):
            path.unlink()
        async with self.running(view="runs"):
            await self.until(lambda: "Sunday 05 May 2030" in self.text("runs"))
            await self.press("c")
            await self.until(lambda: "has no tick" in self.model.message)

    @in_loop
    async def test_the_rule_is_that_of_the_workspace(self) -> None:
        path = self.home / "workspace.toml"
        path.write_text(path.read_text("utf-8") + '\n[keep]\nlast = "2 min"\nnewest = 3\n', "utf-8")
        async with self.running(view="runs"):
            await self.until(lambda: "2 kept" in self.text("runs"))
            self.assertIn("always kept: the last 2 min, the newest 3", self.text("runs"))
            self.assertIn("2 min here: 60 Hz, 161 columns", self.text("runs"))
            client = self.model.client
            assert isinstance(client, LocalClient) and client.session is not None
            self.assertEqual(
                (client.session._setup.keep.last_s, client.session._setup.runs), (120.0, self.home / "runs")
            )

    @in_loop
    async def test_small_windows(self) -> None:
        for size in ((100, 30), (80, 24), (60, 16)):
            async with self.running(view="runs", size=size):
                await self.until(lambda: "2 kept" in self.text("runs"))
                await self.press("plus", "down")
                await self.frames(2)


class OverEachOtherTest(RunsCase):
    @in_loop
    async def test_where_they_part_and_by_what(self) -> None:
        async with self.running(view="runs"):
            await self.listed()
            await self.press("down", "plus")
            self.assertEqual(self.view.selection.marked, FIRST)
            await self.press("up")
            await self.until(lambda: "first difference at" in self.text("runs"))
            shown = self.text("runs")
            self.assertIn("shaping.forward.curve: 35 % → 70 %", shown)
            self.assertIn("caused by", re.sub(r"\s+", " ", shown))
            self.assertRegex(shown, r"× curve +forward +0\.\d\d s")
            self.assertIn("aligned by start", shown)
            self.assertEqual(self.model.report_words, (
                "comparison", str(self.home / "runs" / FIRST), str(self.home / "runs" / SECOND), "--by", "start"))  # fmt: skip
            await self.press("v", "v")
            await self.until(lambda: "aligned by bump" in self.text("runs"))
            await self.press("V")
            await self.typed("0.5,0.6")
            await self.until(lambda: "aligned by 0.5,0.6" in self.text("runs"))
            await self.press("V")
            await self.typed("noon")
            await self.until(lambda: 'cannot be aligned by "noon"' in self.text("runs"))
            self.view.selection.by, self.view.selection.problem = "start", ""
            await self.press("plus")
            self.assertEqual((self.view.selection.marked, self.view.selection.also), (FIRST, [SECOND]))
            await self.press("plus", "down", "plus")
            self.assertEqual((self.view.selection.marked, self.view.selection.also), ("", []))
            await self.until(lambda: "what happened" in self.text("runs"))

    @in_loop
    async def test_more_than_two(self) -> None:
        shutil.copytree(self.home / "runs" / FIRST, self.home / "runs" / "third")
        async with self.running(view="runs"):
            await self.until(lambda: "3 kept" in self.text("runs"))
            selection = self.view.selection
            selection.marked, selection.also, selection.selected = FIRST, ["third"], SECOND
            await self.until(lambda: "and 1 more" in self.text("runs"))

    @in_loop
    async def test_the_first_and_the_second_look_alike_in_the_list_and_everywhere_beside_it(self) -> None:
        async with self.running(view="runs"):
            await self.listed()
            selection = self.view.selection
            await self.until(lambda: {FIRST, SECOND} <= set(selection.went))
            await self.press("plus", "down")  # the second of the list is laid over the first
            self.assertEqual((selection.marked, selection.selected), (SECOND, FIRST))
            await self.until(lambda: "first" in self.text("runs") and "forward speed" in self.text("runs"))
            picture = self.view.draw(160, 44)
            rows = picture.rows()

            def role(row: int, column: int) -> str:
                return ROLES[picture.roles[row, column]]

            def legend(words: str) -> str:
                row = next(y for y, text in enumerate(rows) if words in text)
                return role(row, rows[row].index(words))

            for sign, name, word, named in (("━", SECOND, "first", "measured"), ("╍", FIRST, "second", "commanded")):
                self.assertEqual((legend(f"{sign} {name}"), legend(f"{sign} {word}")), (named, named))
            small = [
                {role(y, x) for x in range(2, 18) if picture.blends[y, x] != TEXT} for y in range(2, 8)
            ]  # fmt: skip
            self.assertEqual(set().union(*small[:3]), {"measured"})
            self.assertEqual(set().union(*small[3:]), {"commanded"})

    @in_loop
    async def test_what_is_taken_away_lies_there_no_more(self) -> None:
        third = "20300503-090000-plover"
        shutil.copytree(self.home / "runs" / FIRST, self.home / "runs" / third)
        async with self.running(view="runs"):
            await self.until(lambda: "3 kept" in self.text("runs"))
            selection = self.view.selection
            for name in (SECOND, FIRST, third):
                selection.selected = name
                await self.press("plus")
            self.assertEqual((selection.marked, selection.also), (SECOND, [FIRST, third]))
            for name, left in ((FIRST, (SECOND, [third])), (SECOND, (third, [])), (third, ("", []))):
                selection.selected = name
                await self.press("delete")
                self.assertEqual((selection.marked, selection.also), left)
                await self.until(lambda name=name: selection.run(name) is None)  # type: ignore[misc]

    @in_loop
    async def test_the_season(self) -> None:
        async with self.running(view="runs"):
            await self.listed()
            await self.press("y", "y")
            await self.until(lambda: "Plover over 2 runs, driven by recording watering" in self.text("runs"))
            self.assertRegex(self.text("runs"), r"distance \d\.\d\d")

    @in_loop
    async def test_the_same_driver_through_the_open_rig(self) -> None:
        async with self.running(view="runs"):
            await self.listed()
            self.model.type_in("shaping.turn.dead_band", "30 %")
            await self.press("O")
            await self.until(lambda: f"{SECOND}-as-plover" in [r.name for r in Shelf(self.home / "runs").runs()])
            await self.until(lambda: self.view.selection.marked == SECOND and "what was changed" in self.text("runs"))
            self.assertIn("shaping.turn.dead_band: 8 % → 30 %", self.text("runs"))
            self.assertTrue(any(t.text.startswith("simulated with plover") for t in self.model.said))


class LearnedTest(RunsCase):
    @in_loop
    async def test_what_a_run_cannot_tell_is_said(self) -> None:
        async with self.running(view="runs"):
            await self.listed()
            await self.press("y")
            await self.until(lambda: "Drive straight" in self.text("runs"))
            await self.press("W")
            self.assertIn("nothing is learned yet", self.model.message)
            await self.press("T")
            await self.typed("2 turns")
            self.assertAlmostEqual(self.view.sheet.turned_rad, 4 * np.pi)

    @in_loop
    async def test_what_was_learned_is_written_and_undone(self) -> None:
        async with self.running(view="runs"):
            await self.listed()
            view, rig = self.view, self.model.rig
            view.sheet.sheet = "learned"
            rows = (Learned("lag", "lag of the wheels", 0.07, 0.068, 0.072, "s", 0.001),)
            changes = (Change("lag", "90 ms", "70 ms"),)
            refused = (("gyro.scale", "why not"),)
            view.selection.learned = Learning(view.selection.selected, rig, rows, refused, ("a note",), changes, None)
            view.selection.learned_of = view.sheet.learning()
            await self.frames(2)
            shown = self.text("runs")
            self.assertRegex(shown, r"lag of the wheels +0\.07 s +0\.068 to 0\.072")
            self.assertIn("? gyro.scale: why not", shown)
            self.assertIn("lag: 90 ms → 70 ms", shown)
            again = (Learned("lag", "lag of the wheels", 0.08, 0.078, 0.082, "s", 0.001),)
            view.selection.learned = Learning(view.selection.selected, rig, again, refused, ("a note",), changes, None)
            self.app.draw()
            self.assertRegex(self.text("runs"), r"lag of the wheels +0\.08 s +0\.078 to 0\.082")
            await self.press("W")
            self.assertEqual(read_rig(self.rig_file).lag_s, 0.07)
            self.assertIn("# how long the wheels take to follow", self.rig_file.read_text("utf-8"))
            await self.press("u")
            self.assertEqual(read_rig(self.rig_file).lag_s, 0.09)
            # what another run told is not this one's
            view.selection.learned, view.selection.selected = (
                Learning(SECOND, rig, rows, refused, (), changes, None),
                FIRST,
            )
            view.sheet.act_write_learned()
            self.assertIn("nothing is learned yet", self.model.message)
            self.assertEqual(read_rig(self.rig_file).lag_s, 0.09)

    @in_loop
    async def test_the_learning_drive_is_written_and_begins(self) -> None:
        async with self.running(view="runs"):
            await self.listed()
            await self.press("G")
            path = self.home / "routines" / "learning-plover.txt"
            self.assertIn("for plover", path.read_text("utf-8"))
            asked = [r for r in self.asked if isinstance(r, ChooseRoutine | StartPeriod)]
            self.assertEqual([type(r) for r in asked[-2:]], [ChooseRoutine, StartPeriod])
            await self.frames(3)
            self.assertEqual(self.model.status.match.period, "alone")
            self.assertGreater(self.model.status.match.left_s, 200)


class PlayedAgainTest(RunsCase):
    @in_loop
    async def test_c_plays_it_in_every_view(self) -> None:
        async with self.running(view="runs"):
            await self.listed()
            await self.press("c")
            client = self.model.replay
            assert client is not None
            self.assertEqual(client.run.name, SECOND)
            self.assertIn("◂ a run of", self.text("head"))
            self.assertEqual(self.app.view.view_name, "field")
            for digit in "1234567":
                await self.press(digit)
            client.replay.jump(client.run.first)
            await self.press("full_stop")
            self.assertIn("bump: it stands against something", self.text("replay"))
            await self.press("L")
            self.assertNotIn("◂ a run of", self.text("head"))

    @in_loop
    async def test_a_second_click_plays(self) -> None:
        async with self.running(view="runs"):
            await self.listed()
            self.view.press("run", FIRST)
            self.assertIsNone(self.model.replay)
            self.view.press("run", FIRST)
            client = self.model.replay
            assert client is not None
            self.assertEqual(client.run.name, FIRST)


class BenchTest(RunsCase):
    @in_loop
    async def test_walked_nudged_typed_and_written(self) -> None:
        async with self.running(view="chassis"):
            await self.press("number_sign")
            bench = self.app.screen
            assert isinstance(bench, Bench)
            shown = "\n".join(bench.canvas.picture.rows())
            self.assertIn("V_pin = V_sensor · R / (R1 + R)", shown)
            self.assertIn("R1 3.6 kohm", shown)
            await self.pilot.press("pagedown", "pagedown", "pagedown")
            self.assertEqual(bench.sum.name, "gear")
            await self.pilot.press("down", "right", "right")
            self.assertEqual(bench.values["gear"], 32)
            await self.pilot.press("shift+left")
            self.assertEqual(bench.values["gear"], 22)
            await self.pilot.press("equals_sign")
            await self.typed("25")
            self.assertEqual(bench.values["gear"], 25)
            await self.pilot.press("W")
            await self.frames(2)
            self.assertEqual(read_rig(self.rig_file).motors["left"].gear, 25)
            await self.pilot.press("number_sign")
            await self.frames(2)
            self.assertEqual(len(self.app.screen_stack), 1)

    def test_every_drawing_at_every_size(self) -> None:
        rig = read_rig(self.rig_file)
        for one in SUMS:
            values = one.filled(rig)
            for given in one.given:
                for value in (values[given.key], given.low, given.high):
                    tried = {**values, given.key: value}
                    try:
                        results = one.results(tried)
                    except ValueError:
                        results = []
                    for width, height in ((93, 10), (40, 8), (20, 5)):
                        picture = draw_sum(one.name, tried, results, width, height)
                        self.assertEqual((picture.width, picture.height), (width, height))


class JourneyTest(TerminalCase):
    def test_driven_kept_played_again_and_killed(self) -> None:
        terminal = self.open_demo("--view", "field")
        terminal.wait("recorded driver")
        wait_for(lambda: re.search(r"00:0[4-9]", terminal.row(0)), 60, terminal.screen)
        terminal.keys("*")
        terminal.wait("kept as runs/")
        terminal.keys("7")
        terminal.wait("kept: by key")
        terminal.keys("Down")
        terminal.wait("what happened")
        terminal.keys("c")
        terminal.wait("a run of")
        terminal.wait("Space play")
        terminal.keys("Space", "Home", ".")
        terminal.wait("mark: marked by key")
        terminal.keys("L")
        wait_for(lambda: "a run of" not in terminal.row(0) and "STOPPED" in terminal.row(0), 60, terminal.screen)
        terminal.keys("g", "w", "w")
        wait_for(
            lambda: not re.search(r"\+0\.00 m/s", terminal.row(4)) and "keys" in terminal.row(0), 30, terminal.screen
        )
        runs = self.workspace / "runs"
        for pid in terminal.pids():
            try:
                os.kill(pid, signal.SIGKILL)
            except ProcessLookupError:
                continue
        found = Shelf(runs).runs()
        self.assertGreaterEqual(len(found), 2)
        self.assertEqual([r.problem for r in found if r.problem], [])
