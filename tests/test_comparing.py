"""Two runs over each other: where they part, by which stage, and caused by which changed setting."""

from __future__ import annotations

import random
import shutil
import unittest
from datetime import UTC, datetime
from itertools import islice
from unittest import mock

import numpy as np

from pivrex.errors import RecordingError, RunError
from pivrex.formats.recording import Recording
from pivrex.line import Line
from pivrex.rig import open_folder, read_rig
from pivrex.rig.difference import applied, differences
from pivrex.rig.field import Field
from pivrex.runs.alignment import row_by
from pivrex.runs.comparing import Compared, compare, sentence_of
from pivrex.runs.events import Event
from pivrex.runs.facts import Facts
from pivrex.runs.run import Run
from pivrex.runs.through import keep_rows, through
from pivrex.runs.ticks import play_through
from pivrex.runs.writing import RunWriter
from tests.support import DEMO, PLAIN, TempCase, often, plain_rig, slow

BEGAN = datetime(2030, 5, 4, tzinfo=UTC)


class DifferenceTest(unittest.TestCase):
    def test_by_hand(self) -> None:
        one = 'name = "a"\n[shaping.turn]\ndead_band = "6 %"\nslew_up = "2 /s"\n[[chassis.wheels]]\nx = 1\n[[chassis.wheels]]\nx = 2\n'
        other = 'name = "a"\n[shaping.turn]\ndead_band = "8 %"\n[[chassis.wheels]]\nx = 1\n[[chassis.wheels]]\nx = 3\n[gyro]\n'
        found = differences(one, other)
        self.assertEqual(
            [str(c) for c in found],
            [
                "shaping.turn.dead_band: 6 % → 8 %",
                "shaping.turn.slew_up: 2 /s → left out",
                "chassis.wheels.2.x: 2 → 3",
                "gyro: left out → {}",
            ],
        )
        self.assertEqual(differences(one, one), [])
        self.assertEqual(applied(one, found[0])["shaping"]["turn"], {"dead_band": "8 %", "slew_up": "2 /s"})
        self.assertEqual(applied(one, found[1])["shaping"]["turn"], {"dead_band": "6 %"})
        self.assertEqual([w["x"] for w in applied(one, found[2])["chassis"]["wheels"]], [1, 3])
        self.assertEqual(applied(one, found[3])["gyro"], {})


class MadeCase(TempCase):
    """Runs of a robot that rolls along x at 1 m/s, with what a test changes in it."""

    def made(
        self, name: str, rows: int = 600, events: tuple[Event, ...] = (), at: int = 0, until: int | None = None, **changes: float
    ) -> Run:  # fmt: skip
        line = Line(plain_rig())
        layout = line.layout
        made = np.zeros((rows, len(layout)))
        made[:, layout.at("clock", "tick")] = np.arange(rows)
        made[:, layout.at("clock", "t")] = np.arange(rows) / 60
        made[:, layout.at("truth", "x")] = np.arange(rows) / 60
        made[:, line.speeds] = 1.0
        for column, value in changes.items():
            stage, _, what = column.partition("__")
            made[at:until, layout.at(stage, what)] += value
        writer = RunWriter(self.folder / name, Facts("Plain", "plain", BEGAN, 60.0), line, PLAIN, Field())
        writer.add(made)
        for event in events:
            writer.event(event)
        writer.close()
        return Run(self.folder / name)


class LiningTest(MadeCase):
    def test_by_each_way(self) -> None:
        events = (Event(1, 60, "bump", "x"), Event(2, 130, "step", "line 3"))
        run = self.made("a", events=events)
        self.assertEqual(row_by(run, "start"), 0)
        self.assertEqual(row_by(run, "bump"), 60)
        self.assertEqual(row_by(run, "step 3"), 130)
        self.assertEqual(row_by(run, "motion"), 0)
        self.assertEqual(row_by(run, "2.5, 0.1"), 150)
        other = self.made("b", limits__left_limited=-1.0, limits__right_limited=-1.0, at=0)
        for by, said in (
            ("motion", "never moves"), ("bump", "bumps into nothing"), ("step 9", "does not reach line 9"),
            ("2, 3", "never comes near 2 m, 3 m"), ("noon", 'cannot be aligned by "noon"; there are start, motion'),
        ):  # fmt: skip
            with self.assertRaisesRegex(RunError, said):
                row_by(other, by)

    def test_of_the_last_minutes_only_what_is_there_still_counts(self) -> None:
        events = (Event(1, 60, "bump", "gone"), Event(1, 60, "step", "line 3"), Event(5, 300, "bump", "there still"))
        still = {"limits__left_limited": -1.0, "limits__right_limited": -1.0, "until": 150}
        with mock.patch("pivrex.runs.writing.PIECE_S", 2.0):
            run = self.made("a", events=events, **still)  # type: ignore[arg-type]
        self.assertEqual(row_by(run, "motion"), 150)  # not where it stands in its piece
        for kind in ("ticks", "track"):
            (run.folder / f"{kind}-0000000.csv").unlink()
        run = Run(run.folder)
        self.assertEqual((run.first, row_by(run, "start"), row_by(run, "bump")), (120, 120, 300))
        with self.assertRaisesRegex(RunError, "does not reach line 3"):
            row_by(run, "step 3")
        # the track has every tenth tick: the nearest of all is another, before or behind it
        for place, row in (("2.45, 0", 147), ("2.55, 0", 153), ("2.0, 0", 120)):
            self.assertEqual(row_by(run, place), row)

    def test_compared_by_a_bump_the_rows_stand_beside_each_other(self) -> None:
        one = self.made("a", events=(Event(1, 60, "bump", ""),))
        other = self.made("b", events=(Event(1, 100, "bump", ""),), at=130, law__forward=0.5)
        found = compare(one, other, "bump")
        self.assertEqual((found.zero, found.exact), ((60, 100), False))
        assert found.parting is not None
        self.assertEqual((found.parting.stage, found.parting.rows, found.parting.t_s), ("law", (90, 130), 0.5))
        self.assertEqual(found.overlap_s, 500 / 60)


class PartingTest(MadeCase):
    def test_the_first_stage_of_the_first_tick(self) -> None:
        one = self.made("a")
        other = self.made("b", at=200, curve__forward=0.2, band__forward=0.0, law__forward=0.2, truth__y=0.0)
        found = compare(one, other)
        assert found.parting is not None
        self.assertTrue(found.exact)
        p = found.parting
        self.assertEqual((p.stage, p.column, p.rows, p.values), ("curve", "curve.forward", (200, 200), (0.0, 0.2)))
        times = {s.stage: s.t_s for s in found.stages}
        self.assertEqual((times["curve"], times["law"]), (200 / 60, 200 / 60))
        self.assertTrue(np.isnan(times["band"]))
        self.assertEqual(list(times), [s for s in times if s != "clock"])
        self.assertRegex(
            sentence_of(found), r"^at 3\.33 s same inputs, first difference after curve: forward 0 and 0\.2"
        )

    def test_what_is_too_small_to_matter_is_no_parting(self) -> None:
        one = self.made("a")
        tiny = compare(one, self.made("b", at=0, odometry__heading=9e-7, truth__y=0.0))
        self.assertTrue(tiny.exact)
        self.assertIsNone(tiny.parting)
        small = compare(one, self.made("c", at=200, odometry__heading=3e-5, truth__y=0.0)).parting
        assert small is not None
        self.assertEqual((small.column, small.rows), ("odometry.heading_rad", (200, 200)))

    def test_noise_of_a_real_robot_is_no_parting(self) -> None:
        one = self.made("a", truth__x=np.nan, sensed__left_speed=0.5, odometry__xx=1e-4, outputs__left_fraction=200.0)
        other = self.made(
            "b", truth__x=np.nan, sensed__left_speed=0.51, odometry__xx=1.03e-4, outputs__left_fraction=202.0
        )
        found = compare(one, other)
        self.assertEqual((found.exact, found.parting), (False, None))
        self.assertEqual(sentence_of(found), "no difference in the 10.0 s that both have")

    def test_what_lasts_less_than_a_tenth_of_a_second_is_noise(self) -> None:
        one = self.made("a", truth__x=np.nan)
        for ticks, parts in ((5, False), (6, True)):
            other = self.made(f"b{ticks}", truth__x=np.nan)
            rows = np.array(other.rows(0, 600))
            rows[100 : 100 + ticks, other.line(0).layout.at("law", "forward")] += 0.5
            other = keep_rows(self.folder / f"c{ticks}", other.facts, other.line(0), PLAIN, Field(), list(rows))
            parting = compare(one, other).parting
            self.assertEqual(parting.rows if parting is not None else None, (100, 100) if parts else None)

    def test_pieces_of_the_same_bytes_need_no_reading_and_what_follows_is_found(self) -> None:
        with mock.patch("pivrex.runs.writing.PIECE_S", 2.0):
            one, same = self.made("a"), self.made("b")
            other = self.made("c", at=500, band__forward=0.3)
        self.assertEqual(
            [one.alike(0, same, 0), one.alike(120, other, 120), one.alike(480, other, 480), one.alike(5, same, 5)],
            [120, 120, 0, 0],
        )
        self.assertIsNone(compare(one, same).parting)
        parting = compare(one, other).parting
        assert parting is not None
        self.assertEqual((parting.stage, parting.rows), ("band", (500, 500)))

    def test_tracks_apart(self) -> None:
        found = compare(self.made("a"), self.made("b", at=300, truth__y=0.4))
        self.assertAlmostEqual(found.apart_m, 0.4, places=5)
        self.assertAlmostEqual(found.apart_at_s, 5.0, delta=0.17)

    def test_runs_of_other_rates_are_compared_by_figures_only(self) -> None:
        self.made("a")
        shutil.copytree(self.folder / "a", self.folder / "b")
        path = self.folder / "b" / "run.toml"
        path.write_text(path.read_text().replace("rate_hz = 60.0", "rate_hz = 50.0"))
        found = compare(Run(self.folder / "a"), Run(self.folder / "b"))
        self.assertIsNone(found.parting)
        self.assertIn("60 Hz and 50 Hz", sentence_of(found))

    def test_two_robots(self) -> None:
        """Another layout: what both have is compared."""
        one = self.made("a")
        text = (DEMO / "rigs" / "bittern.toml").read_text("utf-8")
        line = Line(read_rig(DEMO / "rigs" / "bittern.toml"))
        rows = np.zeros((60, len(line.layout)))
        other = keep_rows(self.folder / "c", Facts("Bittern", "bittern", BEGAN, 60.0), line, text, None, list(rows))
        found = compare(one, other)
        self.assertGreater(len(found.changes), 20)
        self.assertIsNotNone(found.parting)


# what is changed (its line in plover.toml), the stage that does it, and the key: by hand, from the rig reference
CHANGES = (
    ("minimum = -0.98", "minimum = -0.{}", (85, 96), "axes", "axes.left_y.minimum"),
    ('dead_band = "6 %"', 'dead_band = "{} %"', (7, 14), "band", "shaping.forward.dead_band"),
    ('dead_band = "8 %"', 'dead_band = "{} %"', (9, 16), "band", "shaping.turn.dead_band"),
    ('curve = "35 %"', 'curve = "{} %"', (40, 90), "curve", "shaping.forward.curve"),
    ('curve = "50 %"', 'curve = "{} %"', (55, 90), "curve", "shaping.turn.curve"),
    ('scale = "45 %"', 'scale = "{} %"', (50, 90), "scale", "shaping.turn.scale"),
    ('overall = "100 %"', 'overall = "{} %"', (60, 95), "scale", "shaping.overall"),
    ('slew_up = "2.5 /s"', 'slew_up = "1.{} /s"', (1, 9), "rate", "shaping.forward.slew_up"),
    ('moving = "65 %"', 'moving = "{} %"', (40, 60), "law", "speed_levels.levels.2.moving"),
    ('wheels = "feedforward"', 'wheels = "feedforward"\nacceleration = "{} ms"', (1, 20), "control", "control.acceleration"),
    ("bits = 8", "bits = {}", (9, 12), "outputs", "motors.left.output.bits"),
    ('mass = "1.2 kg"', 'mass = "1.{} kg"', (4, 9), "truth", "body.mass"),
)  # fmt: skip


@slow
class ThirtyPairsTest(TempCase):
    def test_the_one_changed_setting_is_found(self) -> None:
        home = self.demo()
        rig, field = home / "rigs" / "plover.toml", open_folder(home).settings.field
        text = rig.read_text("utf-8")
        line = Line(read_rig(rig))
        rows = play_through(read_rig(rig), Recording(home / "inputs" / "watering.csv"), field, True, own_body=True)
        facts = Facts("Plover", "plover", BEGAN, 60.0)
        one = keep_rows(self.folder / "one", facts, line, text, field, [row.copy() for row in islice(rows, 330)])
        rng = random.Random(5)
        wrong = []
        for n in range(often(30, len(CHANGES))):
            old, new, (low, high), stage, key = CHANGES[n % len(CHANGES)]
            self.assertIn(old, text)  # the first of them is changed
            changed = text.replace(old, new.format(rng.randint(low, high)), 1)
            if n % 2:  # and what changes nothing of what it does
                changed = changed.replace('about = "two driven wheels and a caster"', 'about = "mended"')
                changed = changed.replace('longest = "2 m"', 'longest = "2.0 m"')
            path = self.write(f"rigs/changed{n}.toml", changed)
            other = through(one, path, self.folder / f"other{n}")
            found = compare(one, other)
            p = found.parting
            got = (p.stage, p.change.key if p.change is not None else "") if p is not None else None
            stages = {"truth": ("truth", "sensed")}.get(stage, (stage,))
            if got is None or got[0] not in stages or (got[1] != key and stage != "truth"):
                wrong.append((key, got))
            elif stage == "truth" and n % 2 == 0:
                self.assertEqual(got[1], key)
        self.assertEqual(wrong, [])


class ThroughTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        home = self.demo()
        self.rig, self.field = home / "rigs" / "plover.toml", open_folder(home).settings.field
        rows = play_through(
            read_rig(self.rig), Recording(home / "inputs" / "watering.csv"), self.field, True, own_body=True
        )
        self.rows = [row for row, _ in zip(rows, range(600), strict=False)]
        line = Line(read_rig(self.rig))
        facts = Facts("Plover", "plover", BEGAN, 60.0, drivers=("recording watering",))
        self.run_ = keep_rows(self.folder / "one", facts, line, self.rig.read_text("utf-8"), self.field, self.rows)

    def test_of_the_last_minutes_it_begins_with_what_is_there(self) -> None:
        with mock.patch("pivrex.runs.writing.PIECE_S", 2.0):
            text = self.rig.read_text("utf-8")
            line = Line(read_rig(self.rig))
            facts = Facts("Plover", "plover", BEGAN, 60.0)
            last = keep_rows(self.folder / "last", facts, line, text, self.field, self.rows[:240])
        next(last.folder.glob("ticks-0000000*")).unlink()
        again = through(Run(last.folder), self.rig, self.folder / "again")
        self.assertEqual((again.first, len(again)), (0, 120))
        raw = line.layout.stage("raw")
        np.testing.assert_array_equal(np.array(again.rows(0, 120))[:, raw], np.array(self.rows[120:240])[:, raw])

    def test_through_the_same_rig_it_is_the_same_drive_to_the_bit(self) -> None:
        again = through(self.run_, self.rig, self.folder / "again")
        np.testing.assert_array_equal(np.array(again.rows(0, 600)), np.array(self.rows))
        found = compare(self.run_, again)
        self.assertIsNone(found.parting)
        self.assertEqual(again.facts.drivers, ("recording watering",))
        self.assertIn("one simulated with plover.toml", again.facts.note)

    def test_with_a_perfect_body(self) -> None:
        other = through(self.run_, self.rig, self.folder / "ideal", own_body=False)
        self.assertNotIn("battery_low_V", other.facts.figures)
        self.assertAlmostEqual(other.facts.figures["distance_m"], self.run_.facts.figures["distance_m"], delta=0.5)

    def test_what_the_other_rig_reads_and_this_driver_lacks_is_said(self) -> None:
        text = self.rig.read_text("utf-8").replace('kind = "arcade"', 'kind = "tank"')
        path = self.write("tank.toml", text)
        with self.assertRaisesRegex(RecordingError, "has no column right_y, which the rig reads"):
            through(self.run_, path, self.folder / "tank")
        self.assertFalse((self.folder / "tank").exists())

    def test_said_as_json(self) -> None:
        changed = self.rig.read_text("utf-8").replace('curve = "35 %"', 'curve = "60 %"')
        other = through(self.run_, self.write("changed.toml", changed), self.folder / "two")
        found: Compared = compare(self.run_, other)
        said = found.as_json()
        self.assertEqual(said["parts"]["stage"], "curve")
        self.assertEqual(said["parts"]["setting"], "shaping.forward.curve")
        (setting,) = said["settings"]
        self.assertEqual(
            (setting["key"], setting["before"], setting["after"]), ("shaping.forward.curve", "35 %", "60 %")
        )
        self.assertEqual((setting["stage"], setting["acts_s"]), ("curve", said["parts"]["t_s"]))
        figures = {f["figure"]: f["values"] for f in said["figures"]}
        self.assertGreater(figures["distance_m"][0], figures["distance_m"][1])
        self.assertIn("shaping.forward.curve: 35 % → 60 %", said["said"])
