"""Runs are kept: every bit of every tick, whatever happens to the disk, the program or the files."""

import gzip
import os
import random
import shutil
import subprocess
import sys
import time
import tracemalloc
import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from pivrex.errors import RunError, SaveError
from pivrex.formats import read_ticks, tick_lines
from pivrex.line import Line
from pivrex.rig import open_folder, read_rig
from pivrex.rig.field import Field, Keep, Zone
from pivrex.rig.secret import without_key
from pivrex.routine.checking import check_text
from pivrex.runs.events import Event
from pivrex.runs.facts import UNMARKED, Facts, read_facts, write_facts
from pivrex.runs.figures import FIGURES, Figures
from pivrex.runs.run import KEPT_PIECES, Run
from pivrex.runs.shelf import Shelf, find_run
from pivrex.runs.through import keep_rows
from pivrex.runs.track import TRACK
from pivrex.runs.writing import RunWriter
from pivrex.session import messages as ask
from pivrex.session.core import Session
from pivrex.session.keeping import Keeping
from pivrex.session.status import Status
from tests.support import PLAIN, PLOVER, TempCase, often, plain_rig, slow, wait_for

NOW = datetime(2030, 5, 4, 12, 0, tzinfo=UTC)
numbers = st.floats(allow_nan=True, allow_infinity=True, width=64)


class TickFormatTest(unittest.TestCase):
    @given(
        st.integers(1, 6).flatmap(
            lambda k: arrays(np.float64, st.tuples(st.integers(1, 5), st.just(k)), elements=numbers)
        )
    )
    def test_every_bit_comes_back(self, rows: np.ndarray) -> None:
        back = read_ticks(tick_lines(rows), rows.shape[1])
        there = ~np.isnan(rows)
        np.testing.assert_array_equal(np.isnan(back), np.isnan(rows))
        np.testing.assert_array_equal(back[there].view(np.int64), rows[there].view(np.int64))

    def test_written_by_hand(self) -> None:
        self.assertEqual(tick_lines(np.array([[1.0, -0.0, 0.1, np.nan, -2.5]])), b"1,-0,0.1,,-2.5\n")
        self.assertEqual(tick_lines(np.array([[np.inf, np.nan, 2.0]])), b"inf,,2\n")
        self.assertEqual(tick_lines(np.empty((0, 3))), b"")

    def test_a_damaged_line_is_named(self) -> None:
        with self.assertRaises(ValueError) as caught:
            read_ticks(b"1,2\n3,x\n", 2)
        self.assertEqual(caught.exception.args, (1, "has 'x' where a number should stand"))
        with self.assertRaises(ValueError) as caught:
            read_ticks(b"1,2\n3,4,5\n", 2)
        self.assertEqual(caught.exception.args, (1, "has 3 cells, but the header has 2"))


class KeepCase(TempCase):
    """A session whose every tick is remembered here too."""

    def setUp(self) -> None:
        super().setUp()
        self.place = self.demo()
        self.runs = self.place / "runs"
        self.made: list[np.ndarray] = []
        self.statuses: list[Status] = []
        self.now = 0.0

    def begin(self, source: str = "recording watering", **keep: float) -> None:
        folder = open_folder(self.place)
        path = folder.first_rig()
        setup = ask.SetUp(
            read_rig(path), folder.settings.field, tuple(folder.recordings()), source, runs=self.runs, rig_name=path.stem,
            rig_text=path.read_text("utf-8"), keep=folder.settings.keep.model_copy(update=keep),
        )  # fmt: skip
        self.session = Session(setup)
        board = self.session.board
        self.said: list[str] = []
        self.keeping = Keeping(setup, self.session, self.said.append, board.set)
        self.addCleanup(self.keeping.close)

    def ask(self, *requests: object) -> None:
        for request in requests:
            self.keeping.take(request)
            self.session.handle(request, self.now)  # type: ignore[arg-type]

    def tick(self, count: int) -> None:
        for _ in range(count):
            self.now += self.session.dt_s
            row = self.session.tick(self.now)
            self.made.append(row.copy())
            self.statuses.append(self.session.status)
            self.keeping.add(row)
        self.settle()

    def settle(self) -> None:
        """Wait until the thread has taken all, and hear what it says."""
        writes = self.keeping._writes
        assert writes is not None
        wait_for(lambda: not self.keeping._waiting or not self.keeping._thread.is_alive())  # type: ignore[union-attr]
        time.sleep(0)
        with writes.busy:
            pass
        self.keeping.hear()

    def said_more_than(self, count: int) -> None:
        """Wait, for as long as is promised, until more is said."""

        def more() -> bool:
            self.keeping.hear()
            return len(self.said) > count

        wait_for(more, 2.0)

    def by_key(self) -> Run:
        return Run(next(r.folder for r in Shelf(self.runs).runs() if r.facts is not None and r.facts.kept == "by key"))

    def all_rows(self) -> list[np.ndarray]:
        shelf = sorted(Shelf(self.runs).runs(), key=lambda r: r.name)
        return [row for one in shelf for row in Run(one.folder).rows(0, 10**9)]


class KeptTest(KeepCase):
    def test_the_ticks_read_back_are_the_ticks_that_were_made(self) -> None:
        self.begin()
        self.tick(2700)  # the recording begins again on the way, and a run with it
        self.keeping.close()
        back = self.all_rows()
        self.assertEqual(len(back), len(self.made))
        for there, made in zip(back, self.made, strict=True):
            np.testing.assert_array_equal(np.isnan(there), np.isnan(made))
            some = ~np.isnan(made)
            np.testing.assert_array_equal(there[some].view(np.int64), made[some].view(np.int64))
        self.assertEqual([len(Run(r.folder)) for r in Shelf(self.runs).runs()], [len(back) - 2516, 2516])

    def test_a_run_has_all_that_it_is_about(self) -> None:
        self.begin("keys")
        self.ask(ask.KeyDown("w"), ask.KeyDown("w"))
        self.tick(200)
        self.ask(ask.KeepRun("went left"))
        self.tick(1)
        self.assertRegex(self.said[-1], r"^kept as runs/\d{8}-\d{6}-plover: the last 3 s$")
        run = self.by_key()
        self.assertEqual(
            (run.facts.robot, run.facts.rig, run.facts.kept, run.facts.drivers),
            ("Plover", "plover", "by key", ("keys",)),
        )
        self.assertEqual(run.facts.rate_hz, 60.0)
        self.assertEqual(
            (run.folder / "rig.toml").read_text("utf-8"), (self.place / "rigs" / "plover.toml").read_text("utf-8")
        )
        self.assertEqual(run.floor, open_folder(self.place).settings.field)
        self.assertIn(("mark", "went left"), [(e.kind, e.text) for e in run.events])
        self.assertGreater(run.facts.figures["distance_m"], 0.1)
        self.assertEqual(run.line(0).layout.titles, self.session.line.layout.titles)

    def test_stops_bumps_and_limits_are_events_with_their_ticks(self) -> None:
        self.begin("keys")
        self.ask(ask.KeyDown("w"), ask.KeyDown("w"), ask.KeyDown("w"))
        self.tick(700)  # into the wall
        self.ask(ask.Stop("Esc"))
        self.tick(1)
        self.ask(ask.KeepRun())
        self.tick(1)
        run = self.by_key()
        layout = run.line(0).layout
        bump = next(e for e in run.events if e.kind == "bump")
        blocked = np.array(self.made)[:, layout.at("truth", "blocked")]
        self.assertEqual(bump.row, int(np.flatnonzero(blocked)[0]))
        self.assertEqual(bump.t_s, round(float(self.made[bump.row][layout.at("clock", "t")]), 4))
        self.assertIn(("stop", "Esc"), [(e.kind, e.text) for e in run.events if e.row >= 699])

    def test_live_marks_a_run_with_its_stop_and_its_rolling_out(self) -> None:
        self.begin("keys")
        self.tick(60)
        self.ask(ask.GoLive())
        self.tick(60)
        self.assertNotEqual(self.session.status.keeping, "")
        self.ask(ask.KeyDown("w"))
        self.tick(60)
        self.ask(ask.Stop("Esc"))
        self.tick(100)
        self.assertNotEqual(self.session.status.keeping, "")
        self.tick(60)
        self.assertEqual(self.session.status.keeping, "")
        live = [r for r in Shelf(self.runs).runs() if r.facts is not None and r.facts.kept == "live"]
        self.assertEqual(len(live), 1)
        run = Run(live[0].folder)
        self.assertEqual([e.kind for e in run.events if e.kind in ("live", "stop")], ["live", "stop"])
        self.assertGreaterEqual(len(run), 120 + 120)
        self.assertTrue(run.facts.ended)

    def test_a_match_marks_one_run_from_its_first_tick(self) -> None:
        self.begin("keys")
        text = "start at 1 m, 0.5 m\ndrive ahead 20 cm\nwait 0.5 s\n"
        program = check_text(text, self.session.line.rig).program
        assert program is not None
        self.ask(ask.ChooseRoutine(program))
        self.tick(30)
        self.ask(ask.StartPeriod("alone", only=True))
        self.tick(200)
        self.ask(ask.LeaveMatch())
        self.tick(200)
        run = Run(next(r.folder for r in Shelf(self.runs).runs() if r.facts is not None and "alone" in r.facts.kept))
        self.assertEqual(run.facts.routine, program.name)
        self.assertEqual(run.row(0)[run.line(0).layout.at("clock", "tick")], 0)
        file = run.routine_file(10)
        assert file is not None
        self.assertEqual(file.read_text("utf-8"), text)
        self.assertEqual(
            [e.text for e in run.events if e.kind == "step"], ["line 2: drive ahead 20 cm", "line 3: wait 0.5 s"]
        )

    def test_a_changed_rig_is_kept_with_the_ticks_that_it_made(self) -> None:
        self.begin("keys")
        self.ask(ask.KeyDown("w"))
        self.tick(50)
        text = (self.place / "rigs" / "plover.toml").read_text("utf-8")
        assert "[rangers" not in text
        changed = text.replace("[sensors.front]", "[sensors.nose]")
        self.assertNotEqual(changed, text)
        rig = read_rig(self.write("plover.toml", changed))
        self.ask(ask.UseRig(rig, 1, "plover", changed))
        self.tick(50)
        self.ask(ask.KeepRun())
        self.tick(1)
        run = self.by_key()
        self.assertEqual([row for row, _ in run.rigs], [0, 50])
        self.assertIn("sensed.front_m", run.line(49).layout.titles)
        self.assertIn("sensed.nose_m", run.line(50).layout.titles)
        for i in (0, 49, 50, 99):
            np.testing.assert_array_equal(run.row(i), self.made[i])

    def test_a_changed_rate_and_other_columns_begin_another_piece(self) -> None:
        self.begin("keys")
        self.ask(ask.KeyDown("w"))
        self.tick(50)
        text = (self.place / "rigs" / "plover.toml").read_text("utf-8")
        start = text.index("[sensors.front]")
        block = text[start : text.index("\n[", start)].replace("[sensors.front]", "[sensors.aft]")
        block = block.replace("trigger_pin = 12\necho_pin = 13\n", "")
        slower = 'rate = "50 Hz"\n' + text.replace('rate = "60 Hz"', "")
        for k, changed in enumerate((slower, f"{slower}\n{block}\n"), 1):
            self.ask(ask.UseRig(read_rig(self.write("plover.toml", changed)), k, "plover", changed))
            self.tick(50)
        self.ask(ask.KeepRun())
        self.tick(1)
        run = self.by_key()
        self.assertEqual([p.first for p in run.pieces()], [0, 50, 100])
        self.assertEqual([round(1 / run.line(row).dt_s) for row in (49, 50, 100)], [60, 50, 50])
        self.assertGreater(len(run.track), 10)
        for row, t, x, felt in run.track[:, [TRACK.index(n) for n in ("row", "t_s", "x_m", "measured_m_s")]].tolist():
            made, layout, dt_s = self.made[int(row)], run.line(int(row)).layout, run.line(int(row)).dt_s
            self.assertAlmostEqual(x, made[layout.at("truth", "x")], places=5)
            self.assertAlmostEqual(t, made[layout.at("clock", "t")], places=5)
            self.assertAlmostEqual(felt, made[layout.at("odometry", "forward")] / dt_s, places=4)

    def test_rigs_that_are_changed_faster_than_they_are_built_are_all_kept_as_they_were_written(self) -> None:
        self.begin("keys")
        self.ask(ask.KeyDown("w"))
        self.tick(10)
        text = (self.place / "rigs" / "plover.toml").read_text("utf-8")
        texts = [text.replace("[sensors.front]", f"[sensors.{name}]") for name in ("nose", "beak")]
        first, second = (
            ask.UseRig(read_rig(self.write(f"{k}.toml", one)), k, "plover", one) for k, one in enumerate(texts, 1)
        )
        self.ask(first)
        self.keeping.take(second)  # asked while the first is still built
        wait_for(lambda: self.tick(1) or self.session.status.serial == 1)  # type: ignore[func-returns-value]
        self.session.handle(second, self.now)
        wait_for(lambda: self.tick(1) or self.session.status.serial == 2)  # type: ignore[func-returns-value]
        self.tick(10)
        self.ask(ask.KeepRun())
        self.tick(1)
        run = self.by_key()
        self.assertEqual([path.read_text("utf-8") for _, path in run.rigs], [text, *texts])
        self.assertIn("sensed.beak_m", run.line(run.end - 1).layout.titles)

    def test_nothing_is_kept_of_a_robot_that_only_stood(self) -> None:
        self.begin("keys")
        self.tick(300)
        self.keeping.close()
        self.assertEqual(Shelf(self.runs).runs(), [])

    def test_only_the_last_minutes_stay_of_what_nobody_marks(self) -> None:
        with mock.patch("pivrex.runs.writing.PIECE_S", 5.0):
            self.begin("keys", last_s=10.0)
            self.ask(ask.SetKeysMode("latched"), ask.KeyDown("j"))
            self.tick(60 * 30)
        run = Run(Shelf(self.runs).runs()[0].folder)
        self.assertGreaterEqual(run.end - run.first, 60 * 10)
        self.assertLessEqual(run.end - run.first, 60 * (10 + 5) + 1)
        np.testing.assert_array_equal(run.row(run.first), self.made[run.first])
        self.assertEqual(int(run.track[0, 0]), run.first)

    def test_the_key_of_a_rig_is_not_copied(self) -> None:
        self.assertNotIn("key", without_key('key = "secret.key"\nname = "x"\n'))
        self.assertEqual(without_key('name = "key"\n'), 'name = "key"\n')


class TroubleTest(KeepCase):
    def test_a_folder_that_cannot_be_written_is_said_once_and_driving_goes_on(self) -> None:
        shutil.rmtree(self.runs, ignore_errors=True)
        self.runs.write_text("no folder")
        self.begin()
        self.tick(400)
        self.tick(400)
        self.assertEqual(len(self.said), 1)
        self.assertRegex(self.said[0], "^runs are not kept now: .*; driving goes on$")
        self.assertNotEqual(self.session.status.cannot_keep, "")
        self.assertGreater(abs(self.made[-1][self.session.line.speeds]).max(), 0.0)

    def test_a_disk_that_has_room_again_is_tried_again(self) -> None:
        shutil.rmtree(self.runs, ignore_errors=True)
        self.runs.write_text("no folder")
        self.begin()
        self.tick(100)
        self.runs.unlink()
        self.tick(1500)
        self.assertEqual(self.said[-1], "runs are kept again")
        self.assertEqual(self.session.status.cannot_keep, "")
        self.keeping.close()
        self.assertGreater(len(self.all_rows()), 50)

    def test_a_run_that_is_deleted_while_it_is_kept_begins_anew(self) -> None:
        """The whole folder, the run's own, and one that stands in its place: each is said, and what is driven then is on the disk."""
        shutil.rmtree(self.runs, ignore_errors=True)
        self.begin()
        self.tick(100)
        for spoil in (
            lambda run: shutil.rmtree(self.runs),
            shutil.rmtree,
            lambda run: (run.rename(run.with_name("moved")), run.mkdir()),
        ):
            run = next(r.folder for r in Shelf(self.runs).runs() if r.facts is not None and r.facts.ended is None)
            spoil(run)
            heard, count = len(self.said), len(self.made)
            self.tick(round(0.25 / self.session.dt_s))
            self.said_more_than(heard)
            self.assertEqual(self.said[-1], f"runs/{run.name} was deleted; a new run begins")
            self.assertEqual((len(self.said), self.session.status.cannot_keep), (heard + 1, ""))
            self.made, self.statuses = self.made[count:], []
            since = float(self.made[-1][self.session.line.layout.at("clock", "t")])
            self.tick(200)
            self.assertAlmostEqual(self.session.status.kept_from_s, since, delta=0.3)
        self.ask(ask.KeepRun())
        self.tick(1)
        self.assertIn("kept as runs/", self.said[-1])
        self.assertAlmostEqual(len(self.by_key()), 200, delta=16)

    def test_a_run_that_is_marked_is_not_said_to_be_kept_once_it_is_gone(self) -> None:
        self.begin("keys")
        self.tick(10)
        self.ask(ask.GoLive())
        self.tick(30)
        name = self.session.status.keeping
        self.assertTrue((self.runs / name).exists())
        writes = self.keeping._writes
        assert writes is not None
        with writes.busy:  # deleted, and marked by key in the same moment
            shutil.rmtree(self.runs / name)
            self.ask(ask.KeepRun())
        self.tick(1)
        self.assertEqual(self.said[-1:], [f"runs/{name} was deleted; a new run begins"])
        after = self.session.status.keeping
        self.assertNotEqual(after, "")
        self.tick(30)
        with writes.busy:
            shutil.rmtree(self.runs)
            self.keeping._waiting.append(ask.LayOut(Field()))
        self.keeping.close()
        self.keeping.hear()
        self.assertNotIn("kept as", " ".join(self.said))
        self.assertFalse(self.runs.exists())

    def test_no_workspace_that_was_deleted_comes_back(self) -> None:
        self.begin()
        self.tick(100)
        shutil.rmtree(self.place)
        self.tick(20)
        self.said_more_than(0)
        self.tick(20)
        self.said_more_than(1)
        self.assertRegex(self.said[1], "^runs are not kept now: .*; driving goes on")
        self.assertFalse(self.place.exists())

    def test_nothing_is_kept_through_a_link_out_of_the_workspace(self) -> None:
        shutil.rmtree(self.runs, ignore_errors=True)
        away = self.folder / "away"
        away.mkdir()
        self.runs.symlink_to(away, target_is_directory=True)
        self.begin()
        self.tick(100)
        self.assertEqual(
            self.said, ["runs are not kept now: it is a link that leads out of the workspace; driving goes on"]
        )
        self.assertEqual(list(away.iterdir()), [])

    def test_a_disk_that_fills_up(self) -> None:
        """A limit on the size of files is a real one: the system refuses to write."""
        script = f"""
import resource, signal, sys
sys.path[:0] = [{str(Path(__file__).parent.parent)!r}]
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
from tests.test_keeping import KeepCase
class Full(KeepCase):
    def runTest(self):
        self.begin()
        self.tick(60)
        resource.setrlimit(resource.RLIMIT_FSIZE, (90_000, resource.RLIM_INFINITY))
        self.tick(600)
        self.assertRegex(self.said[0], "file too large; driving goes on")
        self.assertEqual(len(self.said), 1)
        resource.setrlimit(resource.RLIMIT_FSIZE, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))
        self.tick(10)
        self.assertGreaterEqual(len(self.all_rows()), 40)
import unittest
result = unittest.TextTestRunner(stream=sys.stdout).run(Full())
sys.exit(not result.wasSuccessful())
"""
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)

    def test_old_runs_that_cannot_go_keep_no_new_one_from_being_kept(self) -> None:
        with mock.patch("pivrex.runs.shelf.Shelf.thin", side_effect=SaveError(self.runs, "not permitted")):
            self.begin()
            self.tick(200)
            self.ask(ask.KeepRun())
            self.tick(10)
            self.assertIn("kept as runs/", self.said[-1])
        self.assertEqual(self.session.status.cannot_keep, "")

    def test_another_robot_has_a_run_of_its_own(self) -> None:
        self.begin()
        self.tick(200)
        path = self.place / "rigs" / "coot.toml"
        self.ask(ask.UseRig(read_rig(path), 1, "coot", path.read_text("utf-8")), ask.KeyDown("w"), ask.KeyDown("i"))
        self.tick(200)
        self.keeping.close()
        runs = {r.facts.rig: Run(r.folder) for r in Shelf(self.runs).runs() if r.facts is not None}
        self.assertEqual((len(runs["plover"]), len(runs["coot"])), (200, 200))
        self.assertEqual(runs["coot"].line(0).rig.name, "Coot")

    def test_a_slow_disk_costs_ticks_of_the_run_and_no_memory(self) -> None:
        self.begin()
        self.tick(30)
        writes = self.keeping._writes
        assert writes is not None
        with writes.busy:  # the thread waits for the disk
            for _ in range(3000):
                self.now += self.session.dt_s
                self.keeping.add(self.session.tick(self.now))
            self.assertLessEqual(len(self.keeping._waiting), self.keeping._most + 10)
        self.tick(1)
        self.assertEqual(
            [s for s in self.said if "slow" in s], ["the disk is too slow to keep every tick; driving goes on"]
        )
        self.ask(ask.LayOut(open_folder(self.place).settings.field))  # another run, of which nothing is lost
        self.tick(200)
        self.keeping.close()
        lost = sorted(r.facts.lost for r in Shelf(self.runs).runs() if r.facts is not None)
        self.assertGreaterEqual(lost[-1], 3000 - 1800 - 10)
        self.assertEqual(lost[:-1], [0])

    def test_two_programs_keep_at_once(self) -> None:
        others = []
        for _ in range(2):
            self.begin()
            self.tick(200)
            others.append((self.keeping, self.made))
            self.made = []
        for one, made in others:
            one.close()
            del made
        runs = Shelf(self.runs).runs()
        self.assertEqual(len(runs), 2)
        self.assertEqual([len(Run(r.folder)) for r in runs], [200, 200])


class SpoiledTest(TempCase):
    """A run that was kept, and what may become of its files."""

    def setUp(self) -> None:
        super().setUp()
        self.line = Line(plain_rig())
        self.rows = np.random.default_rng(1).normal(size=(400, len(self.line.layout)))
        self.rows[:, self.line.layout.at("clock", "tick")] = np.arange(400)
        self.path = self.folder / "runs" / "a"
        writer = RunWriter(self.path, Facts("Plain", "plain", NOW, 1 / self.line.dt_s), self.line, PLAIN, Field())
        for i in range(0, 400, 16):
            writer.add(self.rows[i : i + 16])
        writer.event(Event(1.5, 90, "stop", "Esc, with a comma"))
        writer.close()
        self.ticks = next(self.path.glob("ticks-*"))

    def plain_text(self) -> bytes:
        return gzip.decompress(self.ticks.read_bytes()) if self.ticks.suffix == ".gz" else self.ticks.read_bytes()

    def as_plain(self, data: bytes) -> Path:
        self.ticks.unlink()
        path = self.path / "ticks-0000000.csv"
        path.write_bytes(data)
        return path

    def test_cut_off_at_any_byte(self) -> None:
        data = self.plain_text()
        rng = random.Random(3)
        # anywhere, and behind each of the last digits: half a number is none
        for cut in (*(rng.randrange(len(data)) for _ in range(40)), *range(len(data) - 12, len(data))):
            self.as_plain(data[:cut])
            self.ticks = self.path / "ticks-0000000.csv"
            run = Run(self.path)
            whole = max(0, data[:cut].count(b"\n") - 1)
            self.assertEqual(len(run), whole)
            if whole:
                np.testing.assert_array_equal(np.array(run.rows(0, 400)), self.rows[:whole])

    def test_however_long_a_run_is_a_few_pieces_of_it_are_in_memory(self) -> None:
        with mock.patch("pivrex.runs.writing.PIECE_S", 0.2):
            run = keep_rows(self.folder / "long", Facts("Plain", "plain", NOW, 60.0), self.line, PLAIN, None, self.rows)
        self.assertEqual(sum(len(piece.rows) for piece in run.pieces()), 400)
        self.assertLessEqual(len(run._pieces), KEPT_PIECES)
        self.assertEqual(float(run.row(3)[0]), 3.0)

    def test_a_compressed_piece_that_is_cut_off(self) -> None:
        packed = gzip.compress(self.plain_text())
        self.ticks.unlink()
        (self.path / "ticks-0000000.csv.gz").write_bytes(packed[: len(packed) // 2])
        run = Run(self.path)
        self.assertGreater(len(run), 100)
        np.testing.assert_array_equal(np.array(run.rows(0, 400)), self.rows[: len(run)])
        (self.path / "ticks-0000000.csv.gz").write_bytes(b"no gzip at all")
        with self.assertRaisesRegex(RunError, r"ticks-0000000\.csv\.gz: is damaged: it cannot be decompressed"):
            Run(self.path).row(0)

    def test_killed_between_compressing_and_taking_the_plain_one_away(self) -> None:
        data = self.plain_text()
        self.ticks.unlink()
        (self.path / "ticks-0000000.csv").write_bytes(data)
        (self.path / "ticks-0000000.csv.gz").write_bytes(gzip.compress(data))
        self.assertEqual(len(Run(self.path)), 400)

    def test_a_damaged_row_is_named_and_read_up_to(self) -> None:
        lines = self.plain_text().splitlines(keepends=True)
        lines[101] = b"spoiled\n"
        self.as_plain(b"".join(lines))
        run = Run(self.path)
        self.assertEqual(len(run), 100)
        self.assertIn("ticks-0000000.csv:102: has 1 cells", run.warnings[0])

    def test_saved_by_a_spreadsheet(self) -> None:
        self.as_plain(self.plain_text().replace(b"\n", b"\r\n"))
        np.testing.assert_array_equal(np.array(Run(self.path).rows(0, 400)), self.rows)

    def test_columns_that_are_gone_or_not_known(self) -> None:
        lines = self.plain_text().decode().splitlines()
        at = lines[0].split(",").index("law.turn_rad_s")
        cut = [",".join([*(cells := line.split(","))[:at], *cells[at + 1 :], "9"]) for line in lines]
        cut[0] = cut[0].removesuffix("9") + "some.other"
        self.as_plain("\n".join([*cut, ""]).encode())
        run = Run(self.path)
        layout = self.line.layout
        self.assertTrue(np.isnan(run.row(5)[layout.at("law", "turn")]))
        self.assertEqual(run.row(5)[layout.at("law", "forward")], self.rows[5, layout.at("law", "forward")])
        self.assertEqual(run.warnings, ["it has no column law.turn_rad_s: an older version, or a changed file"])

    def test_columns_of_an_older_version_are_read_by_their_old_names(self) -> None:
        text, renamed = self.plain_text().decode(), 0
        for now, then in (
            ("_requested_m_s", "_asked_m_s"), ("_limited_m_s", "_given_m_s"), ("correction.output_", "correction.given_"),
            ("along_track_", "along_"), ("cross_track_", "across_"), ("heading_error_rad", "off_rad"),
            ("following.correction_", "following.back_"),
        ):  # fmt: skip
            renamed += text.count(now)
            text = text.replace(now, then)
        self.assertGreater(renamed, 15)
        self.as_plain(text.encode())
        run = Run(self.path)
        np.testing.assert_array_equal(np.array(run.rows(0, 400)), self.rows)
        self.assertEqual(run.warnings, [])

    def test_facts_that_are_gone_spoiled_older_or_newer(self) -> None:
        path = self.path / "run.toml"
        good = path.read_text("utf-8")
        for text, said in (
            (
                good.replace("version = 1", "version = 2"),
                "run.toml: is of version 2, but this Pivrex reads versions up to 1",
            ),
            (good.replace("rate_hz = ", "rate = "), "rate_hz is 'missing', but should be the rate of its Ticks"),
            (good.replace('robot = "Plain"', "robot = 4"), "robot is 4, but should be the robot's name"),
            ("= = =", "is not TOML"),
        ):
            path.write_text(text)
            with self.assertRaisesRegex(RunError, said):
                Run(self.path)
            listed = Shelf(self.folder / "runs").runs()
            self.assertEqual((listed[0].facts, bool(listed[0].problem)), (None, True))
        path.unlink()
        with self.assertRaisesRegex(RunError, "run.toml: cannot be read"):
            Run(self.path)
        path.write_text(good.replace("version = 1\n", "").replace("thinned = false", "thinned = 7"))
        self.assertEqual(Run(self.path).facts.thinned, False)

    def test_a_rig_that_is_gone_is_said_with_its_place(self) -> None:
        (self.path / "rig.toml").unlink()
        with self.assertRaisesRegex(RunError, "rig.toml: cannot be read"):
            Run(self.path).row(0)

    def test_events_and_notes(self) -> None:
        run = Run(self.path)
        self.assertEqual([e for e in run.events if e.kind == "stop"], [Event(1.5, 90, "stop", "Esc, with a comma")])
        (self.path / "events.csv").write_text("t,row,kind,text\n1,2\n0.5,30,bump,wall\nx,y,z,w\n")
        self.assertEqual(Run(self.path).events, [Event(0.5, 30, "bump", "wall")])
        facts = replace(read_facts(self.path), note='pulls "left", a bit')
        write_facts(self.path, facts)
        self.assertEqual(read_facts(self.path), facts)
        self.assertIn("# A run that was kept", (self.path / "run.toml").read_text("utf-8"))

    def test_names(self) -> None:
        shutil.copytree(self.path, self.folder / "runs" / "b-plover")
        write_facts(self.folder / "runs" / "b-plover", replace(read_facts(self.path), began=NOW + timedelta(1)))
        self.assertEqual(find_run("last", self.folder).name, "b-plover")
        self.assertEqual(find_run("last-1", self.folder).name, "a")
        self.assertEqual(find_run("PLOV", self.folder).name, "b-plover")
        self.assertEqual(find_run(str(self.path), Path("/")), self.path)
        for name, said in (
            ("last-2", "too far back: there are 2 runs"),
            ("x", "no run of this workspace"),
            ("", "could be"),
        ):
            with self.assertRaisesRegex(RunError, said):
                find_run(name, self.folder)

    def long(self) -> Run:
        """A run of two pieces."""
        rows = np.resize(self.rows, (2000, self.rows.shape[1]))
        rows[:, self.line.layout.at("clock", "tick")] = np.arange(2000)
        rows[:, self.line.layout.at("truth", "blocked")] = (np.arange(2000) >= 100) & (np.arange(2000) < 700)
        return keep_rows(
            self.folder / "runs" / "long", Facts("Plain", "plain", NOW, 60.0), self.line, PLAIN, Field(), rows
        )

    def test_one_bump_is_one_however_long_the_robot_stands_there(self) -> None:
        self.assertEqual([e.row for e in self.long().events if e.kind == "bump"], [100])

    def test_a_piece_ends_where_the_next_begins(self) -> None:
        run = self.long()
        first = sorted(run.folder.glob("ticks-*"))[0]
        data = gzip.decompress(first.read_bytes()) if first.suffix == ".gz" else first.read_bytes()
        plain = first.with_name(first.name.removesuffix(".gz"))
        first.unlink()
        plain.write_bytes(data + b"".join(data.splitlines(keepends=True)[-5:]))
        again = Run(run.folder)
        ticks = [row[self.line.layout.at("clock", "tick")] for row in again.rows(0, 10**6)]
        self.assertEqual((len(again), ticks), (2000, list(range(2000))))

    def test_pieces_of_unequal_length_are_not_alike(self) -> None:
        run = self.long()
        other = run.folder.with_name("other")
        shutil.copytree(run.folder, other)
        second = [p.first for p in run.pieces()][1]
        self.assertEqual(run.alike(0, Run(other), 0), second)
        for path in other.glob(f"*-{second:07d}.*"):
            path.rename(path.with_name(path.name.replace(f"{second:07d}", f"{second - 1:07d}")))
        self.assertEqual(run.alike(0, Run(other), 0), 0)

    def test_last_is_a_run_and_no_other_folder(self) -> None:
        (self.folder / "runs" / "20990101-000000-z").mkdir()
        spoiled = self.folder / "runs" / "spoiled"
        shutil.copytree(self.path, spoiled)
        (spoiled / "run.toml").write_text("no facts", "utf-8")
        self.assertEqual(find_run("last", self.folder).name, "a")
        with self.assertRaisesRegex(RunError, "too far back: there are 1 runs"):
            find_run("last-1", self.folder)

    def test_a_link_is_no_run(self) -> None:
        runs, away = self.folder / "runs", self.folder / "away"
        shutil.copytree(self.path, away)
        write_facts(away, replace(read_facts(away), began=NOW + timedelta(1), kept=UNMARKED, ended=NOW + timedelta(1)))
        (runs / "linked").symlink_to(away, target_is_directory=True)
        (runs / "facts").mkdir()
        (runs / "facts" / "run.toml").symlink_to(away / "run.toml")
        self.assertEqual(find_run("last", self.folder).name, "a")
        before = sorted((p.name, p.stat().st_mtime_ns) for p in away.iterdir())
        Shelf(runs, Keep(newest=1, megabytes=1)).thin()
        self.assertEqual(sorted((p.name, p.stat().st_mtime_ns) for p in away.iterdir()), before)
        self.assertTrue((runs / "linked").is_symlink())
        # the whole folder
        shutil.move(runs, self.folder / "elsewhere")
        runs.symlink_to(self.folder / "elsewhere", target_is_directory=True)
        self.assertEqual([r.name for r in Shelf(runs).runs()], ["a"])  # still in the workspace
        inner = self.folder / "inner"
        inner.mkdir()
        (inner / "runs").symlink_to(self.folder / "elsewhere", target_is_directory=True)
        self.assertEqual(Shelf(inner / "runs").runs(), [])
        Shelf(inner / "runs", Keep(newest=1, megabytes=1)).thin()
        circle = inner / "circle"
        circle.symlink_to(circle)
        self.assertEqual(Shelf(circle).runs(), [])
        Shelf(circle).thin()
        self.assertFalse(read_facts(self.folder / "elsewhere" / "a").thinned)


class ThinningTest(TempCase):
    def shelved(self, name: str, day: int, kept: str = UNMARKED, note: str = "", size: int = 10) -> Path:
        path = self.folder / "runs" / name
        path.mkdir(parents=True)
        ended = NOW + timedelta(day, 60)
        write_facts(
            path, Facts("Plover", "plover", NOW + timedelta(day), 60, kept, ended, note=note, figures={"bumps": 2.0})
        )
        (path / "ticks-0000000.csv").write_bytes(b"x" * size)
        return path

    def left(self) -> list[str]:
        return sorted(r.name for r in Shelf(self.folder / "runs").runs())

    def test_of_those_that_nothing_marked_the_newest_stay(self) -> None:
        for day in range(6):
            self.shelved(f"u{day}", day)
        self.shelved("noted", 0, note="keep")
        self.shelved("live", 0, kept="live")
        Shelf(self.folder / "runs", Keep(newest=2)).thin()
        self.assertEqual(self.left(), ["live", "noted", "u4", "u5"])

    def test_beyond_the_room_the_oldest_lose_their_ticks_and_keep_their_figures(self) -> None:
        paths = [self.shelved(f"r{day}", day, kept="live", size=400_000, note="n" * (day == 1)) for day in range(9)]
        shelf = Shelf(self.folder / "runs", Keep(megabytes=2.9))
        shelf.thin()
        facts = [read_facts(p) for p in paths]
        # 3.6 MB: two must go; the second oldest has a note
        self.assertEqual([f.thinned for f in facts], [True, False, True] + [False] * 6)
        self.assertEqual(facts[0].figures, {"bumps": 2.0})
        with self.assertRaisesRegex(RunError, "made room for others"):
            Run(paths[0]).row(0)
        self.assertIn("2.9 MB", shelf.rule())

    def test_one_that_is_being_written_is_left_alone(self) -> None:
        path = self.shelved("now", 0)
        write_facts(path, replace(read_facts(path), ended=None))
        for day in range(1, 4):
            self.shelved(f"u{day}", day)
        Shelf(self.folder / "runs", Keep(newest=1)).thin()
        self.assertEqual(self.left(), ["now", "u3"])

    def test_nothing_is_taken_away_through_a_link(self) -> None:
        outside = self.folder / "outside"
        old = outside / "thesis"
        old.mkdir(parents=True)
        (old / "text").write_text("mine")
        runs = self.folder / "runs"
        self.shelved("u", 0)
        (runs / ".gone").symlink_to(outside, target_is_directory=True)
        (runs / ".x.part").symlink_to(outside, target_is_directory=True)
        with mock.patch("pivrex.runs.shelf.time.time", lambda: 4e9):
            Shelf(runs).thin()
        self.assertTrue((old / "text").exists())

    def test_one_that_cannot_go_keeps_no_other(self) -> None:
        for day in range(4):
            self.shelved(f"u{day}", day)
        stubborn, real = "u0", shutil.rmtree

        def rmtree(path: Path, **more: Any) -> None:
            if path.name == stubborn:
                raise PermissionError(13, "Permission denied")
            real(path, **more)

        with (
            mock.patch("pivrex.runs.shelf.shutil.rmtree", rmtree),
            self.assertRaisesRegex(SaveError, "u0.*permission denied"),
        ):
            Shelf(self.folder / "runs", Keep(newest=1)).thin()
        self.assertEqual(self.left(), ["u0", "u3"])

    def test_thousands_of_runs(self) -> None:
        text = (self.shelved("m0", 0, kept="live") / "run.toml").read_text("utf-8")
        for i in range(1, 2000):
            path = self.folder / "runs" / f"m{i}"
            path.mkdir()
            (path / "run.toml").write_text(text, "utf-8")
        shelf = Shelf(self.folder / "runs", Keep(newest=1))
        self.assertEqual(len(shelf.runs()), 2000)
        with mock.patch("pivrex.runs.shelf.read_facts") as read:
            self.assertEqual(len(shelf.runs()), 2000)
        read.assert_not_called()


class MemoryTest(TempCase):
    def test_a_long_run_grows_no_memory(self) -> None:
        line = Line(plain_rig())
        writer = RunWriter(self.folder / "r", Facts("P", "p", NOW, 60.0), line, PLAIN, None)
        rows = np.random.default_rng(0).normal(size=(1800, len(line.layout)))
        rows[:, line.layout.at("routine", "line")] = 0
        for _ in range(3):
            writer.add(rows)
        tracemalloc.start()
        self.addCleanup(tracemalloc.stop)
        before = tracemalloc.get_traced_memory()[0]
        for _ in range(12):
            writer.add(rows)
        self.assertLess(tracemalloc.get_traced_memory()[0] - before, 300_000)
        writer.close()
        self.assertEqual(len(Run(self.folder / "r")), 15 * 1800)

    def test_writing_what_is_there_already_is_refused(self) -> None:
        line = Line(plain_rig())
        (self.folder / "r").mkdir()
        (self.folder / "r" / "mine.txt").write_text("x")
        with self.assertRaises(SaveError):
            RunWriter(self.folder / "r", Facts("P", "p", NOW, 60.0), line, PLAIN, None)
        self.assertEqual((self.folder / "r" / "mine.txt").read_text(), "x")


class FiguresTest(unittest.TestCase):
    """Against a drive that was made by hand: 1 m/s for two seconds with three ticks of lag, then a wall."""

    def test_computed_by_hand(self) -> None:
        line = Line(plain_rig())
        layout, dt = line.layout, line.dt_s
        rows = np.zeros((300, len(layout)))
        asked = np.where((np.arange(300) >= 60) & (np.arange(300) < 180), 1.0, 0.0)
        for w in ("left", "right"):
            rows[:, layout.at("sensed", f"{w}_speed")] = np.concatenate((np.zeros(3), asked[:-3]))
        rows[:, line.speeds] = asked[:, None]
        rows[:, layout.at("odometry", "forward")] = np.concatenate((np.zeros(3), asked[:-3])) * dt
        rows[:, layout.at("limits", "left_lost")][70:76] = 0.1
        rows[170:200, layout.at("truth", "blocked")] = 1
        rows[-1, layout.at("odometry", "x")] = 0.03
        rows[-1, layout.at("truth", "y")] = 0.04
        rows[-1, layout.at("odometry", "heading")] = np.radians(358)
        for size in (1, 7, 300):
            figures = Figures(line, Field(zones=(Zone(name="goal", x="3 cm", y="34 cm", radius="10 cm"),)))
            for i in range(0, 300, size):
                figures.add(rows[i : i + size])
            found = figures.values()
            self.assertAlmostEqual(found["driven_s"], 2.0)
            self.assertAlmostEqual(found["distance_m"], 2.0)
            self.assertAlmostEqual(found["top_speed_m_s"], 1.0)
            self.assertAlmostEqual(found["lag_s"], 3 * dt, delta=0.1 * dt)
            self.assertAlmostEqual(found["limited_s"], 0.1)
            self.assertAlmostEqual(found["lost_m"], 0.01)
            self.assertEqual((found["bumps"], round(found["blocked_s"], 9)), (1.0, 0.5))
            self.assertAlmostEqual(found["end_off_m"], 0.05)
            self.assertAlmostEqual(found["end_off_deg"], 2.0)
            # it ends at x 0, y 4 cm; the zone is 3 cm and 30 cm away
            self.assertAlmostEqual(found["end_zone_m"], np.hypot(0.03, 0.30))
            self.assertNotIn("battery_low_V", found)
        self.assertEqual(set(found) - {f.key for f in FIGURES}, set())

    def test_the_lowest_and_the_fastest_of_all_batches_count(self) -> None:
        line = Line(read_rig(PLOVER))
        layout = line.layout
        rows = np.zeros((90, len(layout)))
        volts = layout.at("truth", "battery")
        rows[:, volts], rows[10, volts], rows[80, volts] = 7.4, 6.9, 7.1
        rows[5, layout.at("truth", "left_slip")] = 0.5
        rows[50, layout.at("truth", "right_slip")] = 0.2
        rows[3, layout.at("odometry", "forward")] = 0.9 * line.dt_s
        rows[70, layout.at("odometry", "forward")] = 0.4 * line.dt_s
        for size in (7, 30, 90):
            figures = Figures(line, None)
            for i in range(0, 90, size):
                figures.add(rows[i : i + size])
            found = figures.values()
            self.assertEqual((found["battery_low_V"], found["slip_top_m_s"]), (6.9, 0.5))
            self.assertAlmostEqual(found["battery_mean_V"], (88 * 7.4 + 6.9 + 7.1) / 90)
            self.assertAlmostEqual(found["top_speed_m_s"], 0.9)
            self.assertAlmostEqual(found["slides_s"], 2 * line.dt_s)


CHILD = """
import mmap, os, sys, time
sys.path[:0] = [{root!r}]
import numpy as np
from pathlib import Path
from pivrex.rig import open_folder, read_rig
from pivrex.session.core import Session
from pivrex.session.keeping import Keeping
from pivrex.session import messages as ask

place, shared = Path(sys.argv[1]), sys.argv[2]
folder = open_folder(place); path = folder.first_rig()
rig, text = read_rig(path), path.read_text("utf-8")

def drive(runs):
    setup = ask.SetUp(rig, folder.settings.field, tuple(folder.recordings()), "recording watering", runs=runs,
                      rig_name=path.stem, rig_text=text)
    session = Session(setup)
    keeping = Keeping(setup, session, session.board.note, session.board.set)
    times = np.memmap(shared, np.float64, "r+", shape=(20000,))
    for i in range(20000):
        row = session.tick(i * session.dt_s)
        keeping.add(row)
        times[i] = time.monotonic()
        if i % 3 == 0:
            time.sleep(0.0005)

for line in sys.stdin:
    pid = os.fork()
    if pid == 0:
        drive(Path(line.strip()))
        os._exit(0)
    print(pid, flush=True)
    os.waitpid(pid, 0)
"""


@slow
class KilledTest(TempCase):
    @unittest.skipUnless(hasattr(os, "fork"), "needs fork")
    def test_killed_at_random_moments_every_run_opens(self) -> None:
        place, shared = self.demo(), self.folder / "times"
        np.zeros(20000).tofile(shared)
        script = CHILD.format(root=str(Path(__file__).parent.parent))
        child = subprocess.Popen(
            [sys.executable, "-c", script, str(place), str(shared)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )
        self.addCleanup(child.wait)
        assert child.stdin is not None and child.stdout is not None
        self.addCleanup(child.stdout.close)
        self.addCleanup(child.stdin.close)
        rng = random.Random(16)
        times = np.memmap(shared, np.float64, "r+", shape=(20000,))
        opened = 0
        count = often(50, 15)
        for n in range(count):
            times[:] = 0
            runs = self.folder / f"runs{n}"
            child.stdin.write(f"{runs}\n")
            child.stdin.flush()
            pid = int(child.stdout.readline())
            wait_for(lambda: times[0] > 0)
            time.sleep(rng.uniform(0.0, 1.3))
            killed = time.monotonic()
            os.kill(pid, 9)
            made = int((times > 0).sum())
            old = int(((times > 0) & (times < killed - 1.0)).sum())
            found = sorted(runs.iterdir()) if runs.exists() else []
            kept = 0
            for path in [p for p in found if not p.name.startswith(".")]:
                run = Run(path)
                kept += len(run)
                self.assertEqual(run.facts.robot, "Plover")
                if len(run):
                    run.line(0)
                    ticks = np.array(run.rows(0, 10**9))[:, 0]
                    np.testing.assert_array_equal(ticks, np.arange(len(ticks)) + ticks[0])
                    opened += 1
                self.assertEqual(Shelf(runs).runs()[-1].problem, "")
            self.assertGreaterEqual(kept, old, f"{made} ticks made, {old} of them a second before the end")
        self.assertGreater(opened, 0.6 * count)
