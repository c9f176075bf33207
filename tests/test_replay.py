"""A run plays again on the screen: the same pictures, row for row, as when it was driven."""

from __future__ import annotations

import gzip
import re
import shutil
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np

from pivrex.line import Line
from pivrex.rig import read_rig
from pivrex.rig.field import Field
from pivrex.runs.events import Event
from pivrex.runs.facts import Facts
from pivrex.runs.replay import SPEEDS, Replay
from pivrex.runs.run import Run
from pivrex.runs.shelf import Shelf
from pivrex.runs.writing import RunWriter
from pivrex.session import messages as ask
from pivrex.session.periods import Period
from pivrex.session.replaying import ReplayClient
from pivrex.tui.draw.replay_line import HAPPENED, ReplayLine, draw_replay_line
from pivrex.tui.panels.heading_live import HeadingNow, HeadingStrip
from pivrex.tui.views.routine import RoutineView
from tests.local import LocalClient
from tests.support import PLAIN, TempCase, plain_rig
from tests.test_app import AppCase, in_loop


def written(folder: Path, rows: int = 600, events: tuple[Event, ...] = ()) -> Run:
    """A run of a robot that rolls along x, a centimetre a tick."""
    line = Line(plain_rig())
    layout = line.layout
    made = np.zeros((rows, len(layout)))
    made[:, layout.at("clock", "tick")] = np.arange(rows)
    made[:, layout.at("clock", "t")] = np.arange(rows) / 60
    made[:, layout.at("truth", "x")] = np.arange(rows) / 100
    writer = RunWriter(folder, Facts("Plain", "plain", datetime(2030, 5, 4, tzinfo=UTC), 60.0), line, PLAIN, Field())
    writer.add(made)
    for event in events:
        writer.event(event)
    writer.close()
    return Run(folder)


class PlayerTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        events = (Event(1, 60, "stop", "Esc"), Event(2, 120, "said", "x"), Event(3, 180, "bump", "wall"))
        self.replay = Replay(written(self.folder / "r", events=events))

    def test_time_passes_at_its_speed(self) -> None:
        replay = self.replay
        self.assertEqual(list(replay.pass_time(0.1)), [1, 2, 3, 4, 5, 6])
        replay.faster(1)
        self.assertEqual(len(replay.pass_time(0.1)), 12)
        replay.faster(-2)
        self.assertEqual(replay.speed, 0.5)
        self.assertEqual(len(replay.pass_time(0.1)), 3)
        replay.faster(-100)
        self.assertEqual(replay.speed, SPEEDS[0])
        # what is less than a tick is not lost
        self.assertEqual(sum(len(replay.pass_time(0.05)) for _ in range(40)), 6)

    def test_it_ends_steps_and_jumps(self) -> None:
        replay = self.replay
        self.assertEqual(replay.pass_time(100.0), range(1, 600))
        self.assertEqual((replay.at, replay.playing), (599, False))
        replay.play(True)
        self.assertEqual((replay.at, replay.playing), (0, True))
        replay.step(5)
        replay.step(-2)
        self.assertEqual((replay.at, replay.playing, len(replay.pass_time(1.0))), (3, False, 0))
        replay.jump(10_000)
        self.assertEqual((replay.at, replay.t_s, replay.length_s), (599, 599 / 60, 599 / 60))
        replay.jump(100)
        found = replay.next_event(1)
        assert found is not None
        self.assertEqual((found.kind, found.row), ("bump", 180))  # what was only said is passed over
        before = replay.next_event(-1)
        assert before is not None
        self.assertEqual(before.row, 60)
        self.assertIsNone(replay.next_event(1, ("live",)))

    def test_what_happened_before_the_last_minutes_is_not_jumped_to(self) -> None:
        with mock.patch("pivrex.runs.writing.PIECE_S", 2.0):
            run = written(self.folder / "s", events=(Event(1, 60, "stop", "Esc"), Event(2.5, 150, "bump", "wall")))
        for kind in ("ticks", "track"):
            (run.folder / f"{kind}-0000000.csv").unlink()
        replay = Replay(Run(run.folder))
        self.assertEqual((replay.at, replay.t_s), (120, 0.0))
        replay.jump(200)
        found = replay.next_event(-1)
        assert found is not None
        replay.jump(found.row)
        self.assertEqual(found.row, 150)
        self.assertIsNone(replay.next_event(-1))

    def test_a_stop_and_each_beat_reach_the_robot_that_is_driven_now(self) -> None:
        live = mock.Mock()
        client = ReplayClient(self.replay.run, live)
        client.beat()
        live.beat.assert_called_once()
        client.send(ask.KeyDown("w"))
        client.send(ask.GoLive())
        live.send.assert_not_called()
        client.replay.play(True)
        stop = ask.Stop("Esc")
        client.send(stop)
        live.send.assert_called_once_with(stop)
        self.assertFalse(client.replay.playing)


class LineTest(TempCase):
    def test_the_time_line(self) -> None:
        events = [Event(1, 60, "stop", "Esc"), Event(1, 60, "said", "x"), Event(5, 300, "bump", "wall")]
        data = ReplayLine("r", 0, 600, 290, 1 / 60, True, 2.0, events)
        picture = draw_replay_line(data, 102)
        top, bar, words = picture.rows()
        self.assertEqual(top.index(HAPPENED["stop"][0]), 1 + round(60 / 600 * 99))
        self.assertEqual(bar.index("●"), 1 + round(290 / 600 * 99))
        self.assertIn("plays at 2 times", words)
        self.assertIn("4.83 s of 10.00 s", words)
        self.assertIn("in 0.2 s bump: wall", words)
        spot = picture.spot_at(1 + 50, 1)
        assert spot is not None
        self.assertEqual((spot.what, spot.value), ("replay", str(round(50 / 99 * 600))))
        for width in (10, 20, 61):
            draw_replay_line(data, width)


class ScreenCase(AppCase):
    def setUp(self) -> None:
        super().setUp()
        LocalClient.keeps = True
        self.addCleanup(setattr, LocalClient, "keeps", False)
        self.at = 100.0

    def kept(self) -> Path:
        client = self.model.client
        assert isinstance(client, LocalClient) and client.keeping is not None
        client.keeping.close()
        client.keeping = None
        runs = [r for r in Shelf(self.home / "runs").runs() if r.facts is not None]
        return runs[0].folder

    def pictures(self) -> dict[str, Any]:
        found = {}
        for name in ("shaping", "chassis", "field"):
            view = self.app.views[name]
            view.update()
            picture = view.draw(150, 38)
            found[name] = (picture.rows(), picture.roles.copy(), picture.grounds.copy())
        # the rest of that view is computed in the background, whatever is driven
        for name, live in (("heading", HeadingNow), ("heading strip", HeadingStrip)):
            picture = live(self.app.views["heading"]).draw(60, 20)
            found[name] = (picture.rows(), picture.roles.copy(), picture.grounds.copy())
        return found

    def open(self, path: Path) -> ReplayClient:
        """Open a run whose clock is the test's."""
        self.assertTrue(self.model.run.open(path), self.model.message)
        client = self.model.replay
        assert client is not None
        client._clock = lambda: self.at
        client._now = self.at
        client.replay.jump(client.run.first)
        self.app.frame()
        return client


class SamePicturesTest(ScreenCase):
    @in_loop
    async def test_row_for_row(self) -> None:
        async with self.running("recording watering") as _:
            rows: dict[int, tuple[Any, str]] = {}
            count = 0
            for i in range(150):
                self.app.frame()
                count += 1
                if i % 7 == 0 and self.model.row is not None:
                    rows[int(self.model.row[0])] = (self.pictures(), self.text("why"))
            del count
            client = self.open(self.kept())
            replay = client.replay
            self.app.frame()
            compared = 0
            for tick, (pictures, why) in rows.items():
                # ticks come three by three, as they did
                while replay.at + 3 <= tick:
                    replay.at += 3
                    self.app.frame()
                replay.at = tick
                self.app.frame()
                assert self.model.row is not None
                self.assertEqual(int(self.model.row[0]), tick)
                again = self.pictures()
                for name, (text, roles, grounds) in pictures.items():
                    self.assertEqual("\n".join(again[name][0]), "\n".join(text), f"{name} at tick {tick}")
                    np.testing.assert_array_equal(again[name][1], roles)
                    np.testing.assert_array_equal(again[name][2], grounds)
                self.assertEqual(self.text("why"), why)
                compared += 1
            self.assertGreater(compared, 20)


class KeysTest(ScreenCase):
    async def driven(self) -> ReplayClient:
        self.model.ask(ask.KeyDown("w"))
        await self.frames(40)
        self.model.ask(ask.Stop("Esc"))
        await self.frames(20)
        return self.open(self.kept())

    @in_loop
    async def test_it_plays_steps_and_jumps_by_keys(self) -> None:
        async with self.running():
            client = await self.driven()
            replay = client.replay
            self.assertIn("paused", self.text("replay"))
            await self.press("shift+right")
            self.assertEqual(replay.at, 60)
            await self.press("right", "shift+left")
            self.assertEqual(replay.at, 1)
            self.assertEqual(self.model.value("clock", "tick"), client.run.row(1)[0])
            await self.press("full_stop")
            self.assertEqual(client.run.events[[e.row for e in client.run.events].index(replay.at)].kind, "stop")
            self.assertIn("stop: Esc", self.text("replay"))
            self.assertIn("! STOPPED", self.text("head"))
            await self.press("home")
            self.assertEqual(replay.at, 0)
            self.assertNotIn("STOPPED", self.text("head"))
            await self.press("space")
            self.at += 0.5
            await self.frames(1)
            self.assertEqual(replay.at, 30)
            await self.press("right_square_bracket", "space")
            self.assertEqual((replay.speed, replay.playing), (2.0, False))
            await self.press("end")
            self.assertEqual(replay.at, replay.last)

    @in_loop
    async def test_nothing_drives_and_nothing_changes_in_it(self) -> None:
        async with self.running():
            client = await self.driven()
            before = client.run.rig_file(0).read_text("utf-8")
            await self.press("2", "down")
            for key in ("w", "ctrl+l", "r", "M", "asterisk", "g", "u", "E"):
                await self.press(key)
                self.assertIn("a kept run", self.model.message, key)
                self.model.say("")
            for change in ("nudge", "undo", "redo"):
                self.model.say("")
                getattr(self.model, change)(*(("shaping.forward.dead_band", 1) if change == "nudge" else ()))
                self.assertIn("a kept run", self.model.message)
            self.assertEqual(client.run.rig_file(0).read_text("utf-8"), before)
            live = client.live
            assert isinstance(live, LocalClient)
            self.assertTrue(live.session.status.held)

    @in_loop
    async def test_a_robot_that_drives_is_stopped_when_a_run_is_opened(self) -> None:
        run = written(self.home / "runs" / "r")
        async with self.running():
            self.model.ask(ask.SetKeysMode("latched"))
            self.model.ask(ask.KeyDown("w"))
            await self.frames(30)
            live = self.model.client
            assert isinstance(live, LocalClient) and live.session is not None
            duty = live.session.line.layout.at("outputs", "left_duty")
            self.assertNotEqual(live.rows()[-1].values[duty], 0)
            self.assertTrue(self.model.run.open(run.folder))
            await self.frames(3)
            self.assertIn("a run of Plain plays again", live.session.status.held)
            self.assertEqual(live.rows()[-1].values[duty], 0)
            await self.press("L")
            self.assertIn("! STOPPED", self.text("head"))
            self.assertEqual(self.model.message, "back at the robot: g lets it move again")

    @in_loop
    async def test_leaving_leads_back_to_the_robot(self) -> None:
        async with self.running():
            file, folder = self.model.file, self.model.folder
            self.model.skips.append((self.model.skips[-1][0], self.model.skips[-1][1] + 9))
            await self.driven()
            await self.frames(2)
            self.assertNotRegex(self.text("head"), "tick|skipped")  # those of the run were computed before
            self.assertIsNot(self.model.folder, folder)
            self.assertNotEqual(self.model.file, file)
            await self.press("L")
            self.assertIs(self.model.file, file)
            self.assertIs(self.model.folder, folder)
            self.assertIsNone(self.model.replay)
            self.assertFalse(self.app._parts["replay"].display)
            self.assertLess(self.model.skipped, 9)
            await self.press("g")
            await self.press("w", "w")
            await self.frames(20)
            self.assertGreater(self.model.value("limits", "left_limited"), 0.1)

    @in_loop
    async def test_the_routine_that_is_open_stays_and_the_floor_is_the_runs(self) -> None:
        chosen = self.home / "routines" / "mine.txt"
        chosen.write_text("on floor slalom\nwait 1 s\n")
        async with self.running():
            whole = self.app.views["routine"]
            assert isinstance(whole, RoutineView)
            view = whole.routine
            client = await self.driven()
            await self.press("L", "6")
            view.open(chosen)
            await self.frames(3)
            self.assertEqual(self.model.floor, "slalom")
            live = client.live
            assert isinstance(live, LocalClient)
            self.assertEqual(live.status.match.routine, "mine")
            self.open(client.run.folder)
            await self.frames(3)
            view._due = 1e-9
            await self.frames(3)
            self.assertEqual(self.model.folder.settings.field, client.run.floor)
            await self.press("L")
            await self.frames(3)
            self.assertEqual(view.document.path, chosen)
            self.assertEqual(self.model.floor, "slalom")

    @in_loop
    async def test_the_routine_view_reads_what_the_run_had(self) -> None:
        mine = self.home / "routines" / "mine.txt"
        mine.write_text("drive ahead 10 cm\nturn to 120 deg\nwait 1 s\n")
        async with self.running():
            whole = self.app.views["routine"]
            assert isinstance(whole, RoutineView)
            view = whole.routine
            await self.press("6")
            view.open(mine)
            await self.frames(3)
            self.model.ask(ask.StartPeriod(Period.ALONE, only=True))
            await self.frames(60)
            line = int(self.model.value("routine", "line"))
            self.assertIn(line, (2, 3), (self.model.message, self.model.status.match))
            path = self.kept()
            await self.press("y", "escape", "down", "down")  # the text, on its third line
            changed = "turn to -90 deg\nwait 3 s\nwait 4 s\n"
            mine.write_text(changed)
            view._looked = 0.0
            await self.frames(2)
            self.assertIn("turn to -90 deg", view.editor.text)
            at = view.line
            client = self.open(path)
            client.replay.jump(client.run.end - 1)
            await self.frames(3)
            self.assertEqual(view.editor.text.splitlines()[1], "turn to 120 deg")
            self.assertEqual(view.editor.driven_line, line)
            self.assertEqual(view.line, line)
            self.assertEqual(view.t, self.model.value("clock", "t"))
            self.assertIn("mine  as the run had it", self.text("routine"))
            had = "drive ahead 10 cm\nturn to 120 deg\nwait 1 s\n"
            await self.pilot.click(view.editor, offset=(12, 1))
            for key in ("x", "y", "u", "x", "c", "R", "A"):
                await self.press(key)
            self.assertFalse(whole.typing)
            self.assertEqual(len(self.app.screen_stack), 1)
            view.document.saver.wait()
            self.assertEqual((view.editor.text, (path / "routine.txt").read_text("utf-8")), (had, had))
            await self.press("L")
            await self.frames(2)
            self.assertEqual((view.editor.text, view.line), (changed, at))
            self.assertEqual(view.editor.driven_line, 0)
            await self.press("y")
            self.assertTrue(whole.typing)
            await self.press("x")
            view.document.saver.wait()
            self.assertIn("x", mine.read_text("utf-8").replace(changed, ""))

    @in_loop
    async def test_a_routine_of_a_run_that_cannot_be_read_is_said_once(self) -> None:
        folder = self.home / "runs" / "r"
        written(folder)
        (folder / "routine.txt").write_bytes(b"drive \xff\xfe")
        with (folder / "status.jsonl").open("ab") as stream:
            stream.write(b'{"row": 0, "routine": "routine.txt"}\n')
        async with self.running():
            await self.press("6")
            self.open(folder)
            await self.frames(2)
            self.assertIn("routine.txt", self.model.message)
            self.assertIn("! this run's routine cannot be read", self.text("routine"))
            self.model.say("")
            await self.frames(3)
            self.assertEqual(self.model.message, "")

    @in_loop
    async def test_a_run_without_a_routine_says_so(self) -> None:
        async with self.running():
            run = written(self.home / "runs" / "r")
            whole = self.app.views["routine"]
            assert isinstance(whole, RoutineView)
            view = whole.routine
            await self.press("6")
            text = view.editor.text
            self.assertTrue(text)
            self.open(run.folder)
            await self.frames(3)
            self.assertIn("this run had no routine", self.text("routine"))
            self.assertEqual(view.editor.text, "")
            await self.press("L")
            await self.frames(2)
            self.assertEqual(view.editor.text, text)

    @in_loop
    async def test_opening_a_robot_leaves_the_run(self) -> None:
        async with self.running():
            await self.driven()
            self.model.open_rig(self.home / "rigs" / "coot.toml")
            await self.frames(3)
            self.assertIsNone(self.model.replay)
            self.assertEqual(self.model.rig.name, "Coot")
            self.assertIn("Coot", self.text("head"))

    @in_loop
    async def test_a_run_that_cannot_be_read_is_a_sentence(self) -> None:
        async with self.running():
            self.model.ask(ask.KeyDown("w"))
            await self.frames(40)
            path = self.kept()
            (path / "rig.toml").write_text("name = 3")
            self.assertFalse(self.model.run.open(path))
            self.assertIn("rig.toml", self.model.message)
            shutil.rmtree(path)
            self.assertFalse(self.model.run.open(path))
            self.assertIn("there is no such folder", self.model.message)
            self.assertIsNone(self.model.replay)

    @in_loop
    async def test_clicks_on_the_time_line_jump(self) -> None:
        async with self.running():
            client = await self.driven()
            await self.frames(2)
            await self.pilot.click("#replay", offset=(80, 1))
            await self.frames(1)
            self.assertAlmostEqual(client.replay.at / client.replay.last, 79 / 157, delta=0.02)

    @in_loop
    async def test_the_driver_view_shows_what_the_line_read(self) -> None:
        async with self.running():
            client = await self.driven()
            client.replay.jump(90)
            await self.press("1")
            await self.frames(2)
            self.assertIn("left_y", self.text())
            report = client.report
            assert report is not None
            keys = next(s for s in report.sources if s.name == "keys")
            layout = self.model.line.layout
            self.assertEqual(keys.readings["left_y"], client.run.row(90)[layout.at("raw", "left_y")])


class GoneTest(ScreenCase):
    """Runs of an older version, or of which a person has taken columns away."""

    def without(self, path: Path, keep: Callable[[str], bool]) -> None:
        """Take columns of a kept run away, and the figures that were made of them."""
        for file in path.glob("ticks-*.csv.gz"):
            lines = [line.split(",") for line in gzip.decompress(file.read_bytes()).decode("ascii").splitlines()]
            there = [i for i, title in enumerate(lines[0]) if keep(title)]
            text = "".join(",".join(line[i] for i in there) + "\n" for line in lines)
            file.write_bytes(gzip.compress(text.encode("ascii")))

    @in_loop
    async def test_every_view_draws_a_run_of_which_columns_are_gone(self) -> None:
        keeps: tuple[tuple[str, Callable[[str], bool]], ...] = (
            ("only the clock", lambda title: title.startswith("clock.")),
            ("nothing but what was sensed", lambda title: title.startswith(("clock.", "sensed."))),
            ("no clock", lambda title: not title.startswith("clock.")),
            ("every second", lambda title: sum(title.encode()) % 2 == 0),
        )
        for rig, keep in (("plover", keeps[:2]), ("avocet", keeps[2:]), ("coot", keeps[3:])):
            LocalClient.keeps = True
            async with self.running():
                self.model.open_rig(self.home / "rigs" / f"{rig}.toml")
                await self.frames(2)
                self.model.ask(ask.KeyDown("w"))
                await self.frames(60)
                path = self.kept()
                for what, there in keep:
                    with self.subTest(f"{rig}, {what}"):
                        spoiled = self.home / "runs" / what
                        shutil.copytree(path, spoiled)
                        self.without(spoiled, there)
                        client = self.open(spoiled)
                        self.assertIn("has no column", self.model.message)
                        shown = ""
                        for digit in "1234567":
                            await self.press(digit)
                            shown += self.text() + "\n"
                            client.replay.step(7)
                            self.app.frame()
                        self.assertEqual([row for row in shown.splitlines() if re.search(r"\bnan\b", row)], [])
                        if what != "no clock":
                            self.assertIn("?", self.text("why"))
            shutil.rmtree(self.home / "runs")


class PutBackTest(ScreenCase):
    @in_loop
    async def test_after_a_jump_the_trail_is_that_since_the_robot_was_put_back(self) -> None:
        events = (Event(1.0, 300, "put back", ""), Event(9.0, 550, "stop", "Esc"))
        path = written(self.home / "runs" / "made", 600, events).folder
        async with self.running():
            client = self.open(path)
            client.replay.jump(500)
            self.app.frame()
            # a centimetre a tick along x: before row 300 it was the time before
            self.assertGreaterEqual(min(x for x, _ in self.model.trace.trail), 3.0)
            self.assertLess(max(x for x, _ in self.model.trace.ghost), 3.0)
            client.replay.jump(100)
            self.app.frame()
            self.assertEqual(self.model.trace.ghost, [])
            self.assertLessEqual(max(x for x, _ in self.model.trace.trail), 1.0)

    @in_loop
    async def test_after_a_jump_the_whole_way_is_there_however_long_it_is(self) -> None:
        async with self.running():
            run = written(self.home / "runs" / "long", rows=3000)
            client = self.open(run.folder)
            client.replay.jump(2900)
            self.app.frame()
            ways = [x for x, _ in self.model.trace.trail]
            self.assertEqual((ways[0], ways), (0.0, sorted(ways)))
            self.assertAlmostEqual(ways[-1], 29.0, delta=0.1)
            self.assertLess(np.diff(ways).max(), 0.15)  # nothing is left out between


class ChangedRigTest(ScreenCase):
    @in_loop
    async def test_over_a_change_of_columns_it_jumps_and_steps(self) -> None:
        async with self.running():
            self.model.ask(ask.KeyDown("w"))
            await self.frames(30)
            sensor = {"kind": "ranger", "x": "-110 mm", "y": "0 mm"}
            self.assertTrue(self.model.edit("a sensor", lambda d: d["sensors"].__setitem__("aft", sensor)))
            self.model.ask(ask.KeyDown("w"))
            await self.frames(30)
            client = self.open(self.kept())
            (_, _), (row, _) = client.run.rigs
            widths = [len(client.run.line(r).layout) for r in (row - 1, row)]
            self.assertNotEqual(*widths)
            for at in (row - 3, row + 20, row - 20, row + 1, row - 1, row):
                client.replay.jump(at)
                await self.frames(1)
                self.assertEqual(self.model.history.shape[1], len(client.run.line(at).layout))
                self.assertEqual("aft" in self.model.rig.sensors, at >= row)
                assert self.model.row is not None
                self.assertEqual(int(self.model.row[0]), int(client.run.row(at)[0]))

    @in_loop
    async def test_a_changed_rig_or_a_piece_that_cannot_be_read_is_a_sentence_and_what_was_before_is_shown(
        self,
    ) -> None:
        async with self.running():
            self.model.ask(ask.KeyDown("w"))
            await self.frames(30)
            sensor = {"kind": "ranger", "x": "-110 mm", "y": "0 mm"}
            self.assertTrue(self.model.edit("a sensor", lambda d: d["sensors"].__setitem__("aft", sensor)))
            self.model.ask(ask.KeyDown("w"))
            await self.frames(30)
            path = self.kept()
            rig, piece = (path / "rig-2.toml").read_text("utf-8"), sorted(path.glob("ticks-*"))[-1]
            for spoil in ("rig", "ticks"):
                (path / "rig-2.toml").write_text("name = 3" if spoil == "rig" else rig, "utf-8")
                if spoil == "ticks":
                    piece.unlink()
                    piece.with_name(f"{piece.stem.partition('.')[0]}.csv.gz").write_bytes(b"\x1f\x8bno")
                self.assertTrue(self.model.run.open(path), self.model.message)
                self.assertIn(f"{'rig-2.toml' if spoil == 'rig' else piece.stem.partition('.')[0]}", self.model.message)
                client = self.model.replay
                assert client is not None
                for row in (80, 0, 200, 5):
                    client.replay.jump(row)
                    await self.frames(2)
                self.assertEqual(self.model.rig.name, "Plover")
                await self.press("L")

    @in_loop
    async def test_what_a_changed_rig_made_is_shown_with_it(self) -> None:
        async with self.running():
            self.model.ask(ask.KeyDown("w"))
            await self.frames(20)
            self.model.type_in("shaping.forward.dead_band", "20 %")
            await self.frames(20)
            client = self.open(self.kept())
            (_, first), (row, second) = client.run.rigs
            self.assertEqual(read_rig(second).shaping.forward.dead_band, 0.2)
            self.assertNotEqual(read_rig(first).shaping.forward.dead_band, 0.2)
            client.replay.jump(row - 1)
            await self.frames(1)
            self.assertEqual(self.model.file.path, first)
            client.replay.play(True)
            self.at += 0.1
            await self.frames(2)
            self.at += 0.1
            await self.frames(2)
            self.assertEqual(self.model.file.path, second)
            self.assertGreater(client.replay.at, row)
            # what one look gives is made by one rig: when it plays over the change, and when it jumps over it, on or back
            for begin, ends in ((row - 20, 0), (row - 20, row + 30), (0, row + 1), (row + 30, row - 5)):
                client.replay.jump(begin)
                client.poll()
                client.rows()
                self.assertEqual(client.given, begin)
                client.replay.play(not ends)
                while client.given < (ends or row + 5) if ends > begin or not ends else client.given > ends:
                    if ends:
                        client.replay.jump(ends)
                    self.at += 0.1
                    client.poll()
                    self.assertEqual(client.jumped, bool(ends))  # strips go on while it plays
                    begins = client.begins
                    count = len(client.rows())
                    self.assertGreater(count, 0)
                    self.assertEqual(
                        {client.run.rig_file(begins + i) for i in range(count)}, {client.run.rig_file(begins)}
                    )
                    client.replay.play(not ends)
            client.replay.jump(0)
            await self.frames(1)
            self.assertEqual(self.model.file.path, first)
