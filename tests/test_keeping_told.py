"""What is kept in addition to the Ticks: what the screen was told, the floor, rigs without their keys, events with their times."""

from __future__ import annotations

from dataclasses import fields, replace

import numpy as np

from pivrex.rig import read_rig
from pivrex.rig.read import read_floor
from pivrex.runs.facts import read_facts, write_facts
from pivrex.runs.run import Run
from pivrex.runs.shelf import Shelf
from pivrex.runs.track import TRACK
from pivrex.session import messages as ask
from pivrex.session.journal import NOT_KEPT, rebuilt
from pivrex.session.status import Status
from tests.support import wait_for
from tests.test_keeping import KeepCase


class ToldTest(KeepCase):
    def kept(self, why: str) -> Run:
        self.keeping.close()
        return Run(next(r.folder for r in Shelf(self.runs).runs() if r.facts is not None and why in r.facts.kept))

    def test_the_status_comes_back_as_it_was_at_every_tick(self) -> None:
        self.begin("keys")
        self.ask(ask.SetKeysMode("latched"))
        self.tick(30)
        self.ask(ask.StartPeriod("driven", only=True))
        begins = len(self.statuses)
        self.tick(20)
        self.ask(ask.KeyDown("w"), ask.StepLevel(1))
        self.tick(20)
        self.ask(ask.Stop("Esc"))
        self.tick(10)
        self.ask(ask.GoOn())
        self.tick(10)
        self.ask(ask.PutBack())
        self.tick(20)
        self.ask(ask.LeaveMatch())
        self.tick(30)
        run = self.kept("a period")
        told, status, at = run.status_rows, Status(), 0
        for row in range(len(run)):
            while at < len(told) and told[at][0] <= row:
                status, at = rebuilt(status, told[at][1]), at + 1
            true = self.statuses[begins + row]
            for field in fields(Status):
                if field.name not in NOT_KEPT:
                    self.assertEqual(getattr(status, field.name), getattr(true, field.name), f"{field.name} at {row}")
        self.assertGreater(len({id(s) for s in self.statuses}), 5)  # it did change

    def test_events_have_the_time_and_the_row_at_which_they_happened(self) -> None:
        self.begin("keys")
        self.ask(ask.SetKeysMode("latched"), ask.KeyDown("w"))
        self.tick(40)
        self.ask(ask.Stop("Esc"))
        self.tick(20)
        self.ask(ask.GoOn())
        self.tick(20)
        self.ask(ask.KeepRun("here"))
        self.tick(1)
        run = self.kept("by key")
        clock = run.line(0).layout.at("clock", "t")
        found = {(e.kind, e.text): e for e in run.events}
        for which, row in ((("stop", "Esc"), 40), (("safe", "the robot may move again"), 60), (("mark", "here"), 80)):
            event = found[which]
            self.assertEqual(event.row, row)
            self.assertAlmostEqual(event.t_s, float(self.made[row - 1][clock]), delta=2 / 60, msg=str(which))

    def test_what_was_put_back_while_a_run_stays_is_an_event_of_it(self) -> None:
        self.begin("keys")
        self.tick(5)
        self.ask(ask.StartPeriod("driven", only=True), ask.KeyDown("w"))
        self.tick(30)
        self.ask(ask.PutBack())
        self.tick(30)
        self.ask(ask.LeaveMatch())
        self.tick(5)
        run = self.kept("a period")
        self.assertEqual([e.row for e in run.events if e.kind == "put back"], [30])
        self.assertEqual(len(run), 65)

    def test_the_track_has_every_tenth_tick_however_they_come(self) -> None:
        self.begin()
        for count in (7, 1, 13, 4, 395):
            self.tick(count)
        self.ask(ask.KeepRun())
        self.tick(1)
        run = self.kept("by key")
        layout = run.line(0).layout
        places = [layout.at(stage, name) for stage, name in (("truth", "x"), ("truth", "y"), ("odometry", "heading"))]
        columns = [TRACK.index(name) for name in ("x_m", "y_m", "estimated_heading_rad")]
        np.testing.assert_array_equal(run.track[:, 0], np.arange(0, 420, 10))
        made = np.array(self.made)[0:420:10]
        np.testing.assert_allclose(run.track[:, columns], made[:, places], atol=1e-5)
        for name, place, dt in (
            ("commanded_m_s", ("motion", "forward"), 1.0), ("measured_m_s", ("odometry", "forward"), 1 / 60),
            ("commanded_turn_rad_s", ("motion", "turn"), 1.0), ("measured_turn_rad_s", ("odometry", "turn"), 1 / 60),
        ):  # fmt: skip
            got = run.track[:, TRACK.index(name)]
            self.assertGreater(np.abs(got).max(), 0.0, name)
            np.testing.assert_allclose(got, made[:, layout.at(*place)] / dt, atol=1e-5, err_msg=name)

    def test_the_battery_of_a_track_is_the_lowest_since_the_line_before(self) -> None:
        self.begin("keys")
        self.ask(ask.SetKeysMode("latched"), ask.KeyDown("w"), ask.KeyDown("w"))
        self.tick(90)
        self.ask(ask.KeepRun())
        self.tick(1)
        run = self.kept("by key")
        layout = run.line(0).layout
        volts = np.array(self.made)[:, layout.at("truth", "battery")]
        wanted = [volts[max(0, k - 9) : k + 1].min() for k in range(0, len(run.track) * 10, 10)]
        np.testing.assert_allclose(run.track[:, TRACK.index("battery_V")], wanted, atol=1e-5)
        self.assertAlmostEqual(run.track[:, TRACK.index("battery_V")].min(), run.facts.figures["battery_low_V"], 1)

    def test_a_track_of_before_is_read(self) -> None:
        self.begin("keys")
        self.tick(60)
        self.ask(ask.KeepRun())
        self.tick(1)
        run = self.kept("by key")
        file = next(iter(run.folder.glob("track-*.csv")))
        said = (
            file.read_text("utf-8")
            .replace("estimated_", "believed_")
            .replace("commanded_", "asked_")
            .replace("measured_", "felt_")
        )
        file.write_text(said, "utf-8")
        np.testing.assert_array_equal(Run(run.folder).track, run.track)

    def test_a_note_that_is_typed_while_it_goes_on_stays(self) -> None:
        self.begin("keys")
        self.tick(5)
        self.ask(ask.StartPeriod("driven", only=True), ask.KeyDown("w"))
        self.tick(30)
        folder = self.runs / self.session.status.keeping
        write_facts(folder, replace(read_facts(folder), note="pulls left"))
        self.tick(30)
        self.ask(ask.LeaveMatch())
        self.tick(5)
        self.assertEqual(self.kept("a period").facts.note, "pulls left")

    def test_another_floor_begins_another_run_on_it(self) -> None:
        self.begin("keys")
        self.ask(ask.SetKeysMode("latched"), ask.KeyDown("w"))
        self.tick(90)
        other = read_floor(self.place / "floors" / "slalom.toml")
        self.ask(ask.LayOut(other))
        self.tick(90)
        self.ask(ask.KeepRun())
        self.tick(1)
        run = self.kept("by key")
        self.assertEqual(run.floor, other)
        np.testing.assert_array_equal(run.row(0), self.made[90])

    def test_no_rig_of_a_run_says_its_key(self) -> None:
        self.begin("keys")
        self.ask(ask.KeyDown("w"))
        self.tick(20)
        text = 'key = "club.key"\n' + (self.place / "rigs" / "plover.toml").read_text("utf-8")
        rig = read_rig(self.place / "rigs" / "plover.toml")
        self.ask(ask.UseRig(rig, 1, "plover", text))
        wait_for(lambda: self.tick(1) or self.session.status.serial == 1)  # type: ignore[func-returns-value]
        self.tick(5)
        self.ask(ask.KeepRun())
        self.tick(1)
        run = self.kept("by key")
        self.assertEqual(len(run.rigs), 2)
        for path in run.folder.iterdir():
            self.assertNotIn(b"club.key", path.read_bytes(), path.name)
