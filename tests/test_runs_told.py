"""What was kept, on the command line and on paper; a season; bench sums."""

from __future__ import annotations

import csv
import json
import os
import re
import shutil
import unittest
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from pivrex.errors import UnitError
from pivrex.export.report import pages_of, write_report
from pivrex.line import Entry, Line
from pivrex.rig import read_rig
from pivrex.rig.difference import Change
from pivrex.runs.comparing import compare
from pivrex.runs.events import Event
from pivrex.runs.facts import Facts, write_facts
from pivrex.runs.run import Run
from pivrex.runs.season import season_of
from pivrex.runs.shelf import Shelf
from pivrex.sim import Rollout
from pivrex.sim.body import RealisticBody
from pivrex.sums import SUMS, computed
from pivrex.sums.sums import E24, nearest_pair
from tests.kept import BEGAN, SECOND, keep_two, kept_drives
from tests.support import DEMO, PLOVER, TempCase
from tests.test_cli import Ran


class KeptCase(TempCase):
    """A workspace with two runs of Plover: the second with another curve, a stop and a note."""

    def setUp(self) -> None:
        super().setUp()
        before = Path.cwd()
        self.addCleanup(os.chdir, before)
        self.place = self.demo()
        os.chdir(self.place)
        keep_two(self.place, Event(2.0, 120, "stop", "Esc"), ("", "pulled left"))
        self.changed = self.write("plover.toml", kept_drives()[SECOND][1])


class CommandsTest(KeptCase):
    def test_runs(self) -> None:
        ran = Ran("runs", "--json")
        found = json.loads(ran.out)
        self.assertEqual([r["run"] for r in found["runs"]], ["20300505-090000-plover", "20300504-090000-plover"])
        first = found["runs"][0]
        self.assertEqual(
            (first["seconds"], first["ticks"], first["note"], first["rig"]), (5.0, 300, "pulled left", "plover")
        )
        self.assertIn("the last 5 min", found["rule"])
        (self.place / "runs" / "20300504-090000-plover" / "run.toml").write_text("x = ")
        self.assertIn("! is not TOML", Ran("runs").out)

    def test_replay(self) -> None:
        ran = Ran("replay", "last", "--at", "2.5", "--wheel", "right", "--json")
        found = json.loads(ran.out)
        self.assertEqual([(e["t_s"], e["kind"], e["text"]) for e in found["events"]], [(2.0, "stop", "Esc")])
        run = Run(self.place / "runs" / "20300505-090000-plover")
        self.assertTrue(found["why"].startswith("why right: forward stick"))
        self.assertEqual(found["tick"]["clock.tick"], 150)
        self.assertEqual(found["tick"]["curve.forward"], run.row(150)[run.line(150).layout.at("curve", "forward")])
        self.assertEqual(Ran("replay", "last", "--at", "7").code, 2)
        ran = Ran("replay", "nothing")
        self.assertEqual((ran.code, "no run of this workspace" in ran.err), (1, True))

    def test_replay_of_the_last_minutes(self) -> None:
        """Times count from the first tick that is there still, and what happened before is no longer told."""
        shutil.rmtree(self.place / "runs")
        with mock.patch("pivrex.runs.writing.PIECE_S", 1.0):
            keep_two(self.place, Event(3.0, 180, "bump", "the wall"))
        folder = self.place / "runs" / SECOND
        with (folder / "events.csv").open("a") as stream:
            stream.write("0.5,30,stop,Esc\n")
        for path in folder.glob("t*-0000000.csv*"):
            path.unlink()
        found = json.loads(Ran("replay", "last", "--at", "0.5", "--json").out)
        self.assertEqual(found["tick"]["clock.tick"], 90)
        self.assertEqual([(e["t_s"], e["kind"]) for e in found["events"]], [(2.0, "bump")])
        self.assertEqual((found["ticks"], Ran("replay", "last", "--at", "4.5").code), (240, 2))

    def test_compare(self) -> None:
        found = json.loads(Ran("compare", "last-1", "last", "--json").out)
        self.assertEqual((found["parts"]["stage"], found["parts"]["setting"]), ("curve", "shaping.forward.curve"))
        self.assertEqual(Ran("compare", "last").code, 2)
        several = json.loads(Ran("compare", "last-1", "last", "last-1", "--json").out)["compared"]
        self.assertEqual([bool(one["parts"]) for one in several], [True, False])
        ran = Ran("compare", "last-1", "last", "--by", "bump")
        self.assertEqual(ran.code, 1)
        self.assertIn("bumps into nothing", ran.err)

    def test_the_same_driver_through_another_version(self) -> None:
        ran = Ran("compare", "last-1", "--through", str(self.changed), "--json")
        found = json.loads(ran.out)
        self.assertEqual(found["parts"]["setting"], "shaping.forward.curve")
        self.assertEqual(len(list((self.place / "runs").iterdir())), 2)  # nothing of it is kept

    def test_learn(self) -> None:
        ran = Ran("learn", "plover", "--drive")
        self.assertTrue(ran.out.startswith("# The learning drive of Plover"))
        ran = Ran("learn", "plover", "last", "--json")  # five seconds tell nothing
        self.assertEqual((ran.code, ran.out), (1, ""))
        self.assertIn("Drive straight, slowly and fast, forward and back", ran.err)
        self.assertEqual(Ran("learn", "plover").code, 2)

    def test_export_of_all_ticks(self) -> None:
        self.assertEqual(Ran("export", "run", "last", "-o", "t.csv").code, 0)
        rows = list(csv.reader(Path("t.csv").read_text().splitlines()))
        run = Run(self.place / "runs" / "20300505-090000-plover")
        self.assertEqual(tuple(rows[0]), run.line(0).layout.titles)
        self.assertEqual(len(rows), 301)
        back = np.array([[float(c) if c else np.nan for c in row] for row in rows[1:]])
        np.testing.assert_array_equal(back, np.array(run.rows(0, 300)))

    def test_report(self) -> None:
        ran = Ran("report", "last", "-o", "r.pdf", "-o", "r.svg")
        self.assertEqual((ran.code, ran.err), (0, "r.pdf\nr.svg\nr-2.svg\n"))
        self.assertEqual(len(re.findall(rb"/Type /Page\b", Path("r.pdf").read_bytes())), 2)
        first, second = (Path(n).read_text("utf-8") for n in ("r.svg", "r-2.svg"))
        self.assertIn("note: pulled left", first)
        self.assertIn("bench C", first)
        for said in ("forward: curve", "70 %", "changed since 20300504-090000-plover", "35 %", "Esc"):
            self.assertIn(said, second)
        self.assertNotIn("None", first + second)
        self.assertEqual(Ran("report", "last").code, 2)
        self.assertEqual(Ran("report", "last", "-o", "x.png").code, 1)

    def test_report_of_two(self) -> None:
        runs = [r.folder for r in Shelf(self.place / "runs").runs()]
        found = compare(Run(runs[1]), Run(runs[0]))
        self.assertEqual(len(pages_of(Run(runs[1]), found)), 2)
        self.assertEqual(Change(("body", "mass"), None, "2 kg").words, ("left out", "2 kg"))
        files = write_report(Run(runs[1]), self.folder / "two.svg", found)
        self.assertIn("first difference", files[0].read_text("utf-8"))
        self.assertIn("first in", files[1].read_text("utf-8"))
        same = files[0].read_bytes()
        write_report(Run(runs[1]), self.folder / "two.svg", found)
        self.assertEqual(files[0].read_bytes(), same)


class SeasonTest(TempCase):
    def runs(self, *values: float, driver: str = "go") -> None:
        for k, value in enumerate(values):
            path = self.folder / "runs" / f"{driver}{k}"
            path.mkdir(parents=True)
            facts = Facts("Plover", "plover", BEGAN + timedelta(k), 60.0, "a match", drivers=(driver,))
            write_facts(path, replace(facts, figures={"end_off_m": value, "distance_m": 5.0 + k}))

    def test_a_regression_stands_out(self) -> None:
        self.runs(0.02, 0.03, 0.02, 0.025, 0.03, 0.02, 0.11)
        self.runs(*[5.0] * 9, driver="another")
        courses = {c.figure.key: c for c in season_of(Shelf(self.folder / "runs").runs(), "plover", "go")}
        self.assertEqual((courses["end_off_m"].usual, courses["end_off_m"].stands_out), (0.0225, True))
        self.assertIn("final pose error is 0.110 m in go6; it was about 0.022 m before", courses["end_off_m"].said)
        self.assertFalse(courses["distance_m"].stands_out)  # more is neither better nor worse

    def test_what_differs_as_it_always_did_does_not(self) -> None:
        self.runs(0.02, 0.09, 0.03, 0.08, 0.05, 0.02, 0.09)
        self.assertFalse(any(c.stands_out for c in season_of(Shelf(self.folder / "runs").runs(), "plover", "go")))

    def test_what_is_better_than_ever_is_no_regression(self) -> None:
        self.runs(0.11, 0.12, 0.11, 0.115, 0.12, 0.11, 0.01)
        self.assertFalse(any(c.stands_out for c in season_of(Shelf(self.folder / "runs").runs(), "plover", "go")))

    def test_the_newest_is_held_against_drives_of_its_own_kind(self) -> None:
        self.runs(0.02, 0.03, 0.02)
        for k, value in ((10, 0.5), (11, 0.6)):
            path = self.folder / "runs" / f"by-hand{k}"
            path.mkdir(parents=True)
            facts = Facts("Plover", "plover", BEGAN + timedelta(k), 60.0, "live", drivers=("keys", "go"))
            write_facts(path, replace(facts, figures={"end_off_m": value}))
        (course,) = season_of(Shelf(self.folder / "runs").runs(), "plover")
        self.assertEqual((course.values, course.names), ((0.5, 0.6), ("by-hand10", "by-hand11")))

    def test_few_runs_say_nothing(self) -> None:
        self.runs(0.02, 0.02, 0.5)
        self.assertFalse(any(c.stands_out for c in season_of(Shelf(self.folder / "runs").runs(), "plover")))


class SumsTest(unittest.TestCase):
    """Against numbers that were computed by hand or stand in tables."""

    def of(self, name: str, **said: str) -> dict[str, float]:
        one = next(s for s in SUMS if s.name == name)
        return {r.key: r.value for r in computed(one, read_rig(PLOVER), said)[1]}

    def test_a_divider_of_resistors_that_can_be_bought(self) -> None:
        found = self.of("divider", sensor="5 V", pin="3.3 V", whole="30000 ohm", tolerance="0 %")
        self.assertLessEqual(found["out"], 3.3)
        self.assertGreater(found["out"], 3.29)
        self.assertAlmostEqual(found["out"], 5 * found["lower"] / (found["upper"] + found["lower"]), places=3)
        for key in ("upper", "lower"):
            digits = found[key] / 10.0 ** np.floor(np.log10(found[key]) + 1e-9)
            self.assertTrue(any(abs(digits - v) < 1e-9 for v in E24))

    @given(st.floats(3.0, 30.0), st.floats(0.2, 0.9), st.floats(1e3, 1e5))
    def test_no_divider_is_above_what_the_pin_may_have(self, given_v: float, share: float, whole: float) -> None:
        upper, lower = nearest_pair(given_v, given_v * share, whole)
        self.assertLessEqual(given_v * lower / (upper + lower), given_v * share * (1 + 1e-9))
        self.assertGreater(given_v * lower / (upper + lower), given_v * share * 0.93)

    def test_what_is_chosen_stays_below_by_its_tolerance_too(self) -> None:
        for tolerance in ("1 %", "5 %", "20 %"):
            found = self.of("divider", sensor="12 V", pin="3.3 V", tolerance=tolerance)
            off = float(tolerance.split()[0]) / 100
            r1, r2 = found["upper"] * (1 - off), found["lower"] * (1 + off)
            self.assertLessEqual(12 * r2 / (r1 + r2), 3.3 + 1e-9)
            self.assertGreater(12 * r2 / (r1 + r2), 3.3 * 0.93)

    def test_a_divider_of_resistors_at_hand(self) -> None:
        # 10 k above 20 k: 5 V · 2/3; with 5 % of each 5 · 21/(9.5 + 21) and 5 · 19/(10.5 + 19)
        found = self.of(
            "divider", sensor="5 V", pin="3.4 V", r1="10 kohm", r2="20 kohm", tolerance="5 %", load="1e9 ohm"
        )
        self.assertAlmostEqual(found["out"], 10 / 3, places=4)
        self.assertAlmostEqual(found["highest"], 5 * 21 / 30.5, places=3)
        self.assertAlmostEqual(found["lowest"], 5 * 19 / 29.5, places=3)
        one = next(s for s in SUMS if s.name == "divider")
        said = {"sensor": "5 V", "pin": "3.4 V", "r1": "10 kohm", "r2": "20 kohm", "tolerance": "5 %"}
        wrong = {r.key for r in computed(one, read_rig(PLOVER), said)[1] if r.wrong}
        self.assertEqual(wrong, {"highest"})
        # a load of 20 k next to the 20 k makes 10 k of them: half
        found = self.of("divider", sensor="5 V", pin="3.4 V", r1="10 kohm", r2="20 kohm", load="20 kohm")
        self.assertAlmostEqual(found["out"], 2.5)
        self.assertAlmostEqual(found["loaded"], (10 / 3 - 2.5) * 1e3)

    def test_an_echo(self) -> None:
        # 343.2 m/s at 20 degrees stands in every table; 331.3 at 0
        self.assertAlmostEqual(self.of("echo", time="10 ms", celsius="20")["distance"], 1.716, delta=0.001)
        self.assertAlmostEqual(self.of("echo", time="10 ms", celsius="0")["distance"], 1.6565, delta=1e-6)

    def test_counts_turns_and_gear(self) -> None:
        # 12 counts a turn of the shaft, gear 30: 360 counts are one turn of a wheel of 32 mm
        self.assertAlmostEqual(self.of("counts", counts="360")["distance"], 2 * np.pi * 0.032)
        turn = self.of("turn", angle="180 deg")
        self.assertAlmostEqual(turn["way"], np.pi * 0.08)
        self.assertAlmostEqual(turn["counts"], np.pi * 0.08 / (2 * np.pi * 0.032) * 360)
        whole = {"share": "100 %", "shift": "0 %", "drag": "0 %"}
        gear = self.of(
            "gear", stall="30 mNm", efficiency="50 %", mass="2 kg", grip="1", shaft="3000 rpm", gear="10", **whole
        )
        self.assertAlmostEqual(gear["top"], 3000 / 60 * 2 * np.pi / 10 * 0.032)
        self.assertAlmostEqual(gear["push"], 2 * 0.03 * 10 * 0.5 / 0.032)
        self.assertAlmostEqual(gear["rise"], 9.375 / 2)
        self.assertAlmostEqual(gear["grip"], 19.62)

    def test_a_turn_rolls_each_robots_wheels_as_describe_says(self) -> None:
        turn = next(s for s in SUMS if s.name == "turn")
        for name in ("plover", "coot", "bittern", "dunlin", "avocet"):
            path = DEMO / "rigs" / f"{name}.toml"
            found = {r.key: r.value for r in computed(turn, read_rig(path), {"angle": "90 deg", "scrub": "1"})[1]}
            said = re.findall(
                r"(\d+) counts/m.*\+90 deg: [+-]([0-9.]+) mm", Ran("describe", str(path), "--turn", "90").out
            )
            per_m, rolled = max(((float(c), float(w) / 1000) for c, w in said), key=lambda pair: pair[1])
            self.assertAlmostEqual(found["way"], rolled, places=4, msg=name)
            self.assertAlmostEqual(found["counts"], rolled * per_m, delta=0.5, msg=name)

    def test_a_start_is_as_hard_as_the_driven_wheels_hold(self) -> None:
        # Plover by hand: 60 of the 85 mm from caster to axle are the weight's lever, 45 mm its height; grip 0.8, caster 0.05
        share, shift = 60 / 85, 45 / 85
        by_hand = 9.81 * (0.8 * share - 0.05 * (1 - share)) / (1 + shift * 0.85)
        self.assertAlmostEqual(self.of("gear")["rise"], by_hand, places=3)
        # and the others as their simulated bodies start at full drive
        gear = next(s for s in SUMS if s.name == "gear")
        for name in ("plover", "bittern", "dunlin"):
            rig = read_rig(DEMO / "rigs" / f"{name}.toml").with_body("realistic").model_copy(update={"control": None})
            found = {r.key: r.value for r in computed(gear, rig, {})[1]}
            rollout = Rollout(Line(rig), RealisticBody(rig))
            entry = Entry(twist=np.array([9.0, 0.0, 0.0]))
            x = [rollout.tick(rollout.line.rest(), entry=entry)[rollout.line.layout.at("truth", "x")] for _ in range(9)]
            starts = np.diff(x, 2)[1:] * rig.rate_hz**2
            self.assertAlmostEqual(float(np.median(starts)), found["rise"], delta=0.06 * found["rise"], msg=name)

    def test_pwm_and_battery(self) -> None:
        pwm = self.of("pwm", bits="10", top="1 m/s", frequency="20000 Hz", clock="16000 kHz")
        self.assertEqual((pwm["steps"], pwm["possible"]), (1023, 9))
        self.assertAlmostEqual(pwm["speed"], 1000 / 1023)
        battery = self.of(
            "battery", capacity="2000 mAh", usable="50 %", electronics="500 mA", motors="2", each="750 mA", match="90 s"
        )
        self.assertEqual((battery["amps"], battery["minutes"], battery["matches"]), (2.0, 30.0, 20.0))

    def test_what_makes_no_sense_is_said(self) -> None:
        for said, why in (
            ({"pin": "6 V"}, "no divider is needed"), ({"pin": "3 m"}, "pin: "), ({"volts": "3 V"}, "divider has no volts; it takes"),
            ({"sensor": "900 V"}, "sensor: must be 0.1 V to 60 V"), ({"r1": "0 ohm", "r2": "10 kohm"}, "r1: is 0 ohm, which divides nothing"),
            ({"r1": "1 kohm"}, "r2: is 0 ohm"), ({"load": "0 ohm"}, "load: must be"),
        ):  # fmt: skip
            with self.assertRaisesRegex(UnitError, why):
                self.of("divider", **said)

    def test_what_a_rig_can_hold_is_right_there(self) -> None:
        import tomlkit

        from pivrex.rig import read_text
        from pivrex.rig.edit import set_key
        from pivrex.rig.rig import Rig

        rig = read_rig(PLOVER)
        for one in SUMS:
            document = tomlkit.parse(PLOVER.read_text("utf-8"))
            for key, value in one.writes(rig, one.filled(rig)):
                set_key(document, key, value)
            read_text(tomlkit.dumps(document), PLOVER, Rig)

    def test_on_the_command_line(self) -> None:
        ran = Ran("sums", "divider", "sensor=5V", "pin=2.5V", "tolerance=0%", "--rig", "coot", "--json")
        found = json.loads(ran.out)
        self.assertEqual((found["sum"], found["rig"]), ("divider", "Coot"))
        self.assertAlmostEqual({r["key"]: r["value"] for r in found["results"]}["out"], 2.5, places=3)
        self.assertEqual(Ran("sums", "nothing").code, 2)
        self.assertEqual(Ran("sums", "divider", "pin").code, 2)
        self.assertIn("turn", Ran("sums").out)
