"""A robot is learned from a drive: what was spoiled in a simulated robot comes back, within its interval as often as that claims."""

from __future__ import annotations

import re
import tempfile
import unittest
from concurrent.futures import ProcessPoolExecutor
from datetime import UTC, datetime
from functools import lru_cache
from math import comb
from multiprocessing import get_context
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import tomlkit
from numpy.typing import NDArray

from pivrex.errors import LearnError
from pivrex.line import Entry, Line
from pivrex.rig import open_folder, read_rig, read_text
from pivrex.rig.read import rig_text
from pivrex.rig.rig import Rig
from pivrex.routine import check_text, play
from pivrex.runs.facts import Facts
from pivrex.runs.learning import Learning, learn
from pivrex.runs.learning.drive import Drive, drive_of
from pivrex.runs.learning.fit import fit
from pivrex.runs.learning.motors import windows_of
from pivrex.runs.learning.routine import LASTS_S, learning_drive, room_ahead
from pivrex.runs.learning.to_rig import changes_for, put_into
from pivrex.runs.run import Run
from pivrex.runs.through import keep_rows
from pivrex.sim.body import Conditions, RealisticBody
from pivrex.tui.panels.learned_values import draw_learned
from tests.kept import FIRST, kept_drives
from tests.support import DEMO, PLOVER, TempCase, often, slow
from tests.test_board import GYRO_PIN

BEGAN = datetime(2030, 5, 4, tzinfo=UTC)
SECONDS = 120
ROBOTS = 10
"""In each batch, which shares what a rig says; its robots differ in what stands in `Conditions`."""

SEEDS = (1, 2)[: often(2, 1)]


def fewest(count: int, share: float = 0.95, level: float = 0.001) -> int:
    """Return the fewest hits of so many tries that are less rare than ``level``, each with the chance ``share``: exact, from the binomial."""
    below, hits = 0.0, 0
    while hits < count:
        below += comb(count, hits) * share**hits * (1 - share) ** (count - hits)
        if below > level:
            return hits
        hits += 1
    return count


def spoiled_text(text: str, **changes: Any) -> str:
    document = tomlkit.parse(text)
    for key, value in changes.items():
        at: Any = document
        *path, last = key.split("__")
        for part in path:
            at = at.setdefault(part, tomlkit.table())
        at[last] = value
    return tomlkit.dumps(document)


def drive_asked(line: Line) -> np.ndarray:
    """Two minutes by hand: standing, then straight and turning at many speeds with ramps, then standing. (N, 3)."""
    chance = np.random.default_rng(0)
    dt = line.dt_s
    count, top = round(SECONDS / dt), float(line.top_m_s.min())
    track = 2 * max(abs(w.y_m) for w in line.rig.chassis.wheels)
    asked, at, k = np.zeros((count, 3)), round(8 / dt), 0
    while at < count:
        speed = (0.25, 0.5, 0.75, 0.95, 0.6, 0.35)[k % 6] * top
        wish = (
            (speed, 0, 0), (-speed, 0, 0), (0, 0, 1.2 * speed / track), (0, 0, -0.8 * speed / track),
            (0.6 * speed, 0, 0), (-0.6 * speed, 0, 0), (0, 0, 0), (0.6 * speed, 0, chance.uniform(-0.8, 0.8) * top / track),
        )[k % 8]  # fmt: skip
        size = round(chance.uniform(0.9, 1.6) / dt)
        asked[at : at + size] = wish
        at, k = at + size, k + 1
    asked[-round(6 / dt) :] = 0
    most = np.array([0.8, 0.8, 1.6 / track]) * dt
    now, ramped = np.zeros(3), np.zeros_like(asked)
    for i, twist in enumerate(asked):
        now = now + np.clip(twist - now, -most, most)
        ramped[i] = now
    return ramped


def spoiled_drives(seed: int) -> list[dict[str, Any]]:
    """Drive a batch of spoiled simulated robots with the commands of the rig as it is written; gives rows, and what is true of each.

    What is true is taken from the simulated robot's own equations, not from anything that learns: torque = stall·(s·u - ω/ω0) - friction.
    """
    chance = np.random.default_rng(seed)
    plain = spoiled_text(rig_text(PLOVER), battery__sensed=True)
    said = read_text(plain, PLOVER, Rig)
    smallest = f"{chance.uniform(2, 7):.2f} %"
    top = f"{9000 * chance.uniform(0.85, 1.15):.0f} rpm"
    scale = chance.uniform(-0.02, 0.02)
    text = spoiled_text(
        plain, lag=f"{chance.uniform(60, 140):.0f} ms", gyro__scale=f"{100 * scale:.3f} %", gyro__bias="0.3 deg/s",
        battery__charge=f"{chance.uniform(70, 100):.0f} %",
        **{f"motors__{m}__{k}": v for m in ("left", "right") for k, v in (("top_speed", top), ("smallest", smallest))},
    )  # fmt: skip
    rig = read_text(text, PLOVER, Rig)
    under = Conditions(
        mass=chance.uniform(0.85, 1.3, ROBOTS), grip=chance.uniform(0.85, 1.1, ROBOTS),
        strength={m: chance.uniform(0.88, 1.0, ROBOTS) for m in rig.motors},
    )  # fmt: skip
    line, model = Line(said), RealisticBody(rig, None, under=under)
    asked = drive_asked(line)
    state, nothing = line.start(), np.zeros(len(line.stages["sensed"].columns))
    made = []
    for twist in asked:
        state, row = line.step(state, line.rest(), nothing, entry=Entry(twist=twist))
        made.append(row)
    one, told = np.array(made), line.commands(np.array(made))
    rows = np.repeat(one[:, None], ROBOTS, axis=1)
    sensed, truth = line.layout.stage("sensed"), line.layout.stage("truth")
    seeds = np.arange(1, ROBOTS + 1, dtype=np.uint64) + np.uint64(100 * seed)
    robot, biases = model.start((ROBOTS,), seeds), np.zeros(ROBOTS)
    for i in range(len(rows)):
        rows[i][:, sensed], rows[i][:, truth] = model.sense(robot), model.truth(robot)
        biases += robot.bias / len(rows)
        robot = model.step(robot, np.broadcast_to(told[i], (ROBOTS, told.shape[1])), line.dt_s)
    s = model.settings
    radius, motors = rig.chassis.wheels[0].radius_m, s.stall.shape[-1]
    found = []
    for b in range(ROBOTS):
        own = s.take(b) if s.batch else s
        strength = own.strength
        stall, free = float(own.stall[0]), float(own.free[0])
        mass = float(own.mass)
        casters = sum(
            mass * float(load[0]) * float(np.sqrt(square[0]))
            for motor, square, load in zip(own.motor, own.squares, own.loads[0], strict=True) if motor < 0
        )  # fmt: skip
        static = float(np.mean((own.running[0] + casters * radius / motors) / stall / strength))
        speed = float(np.mean(1 / (free * radius * strength)))
        rise = float(np.mean((own.rotor_inertia[0] + mass * radius**2 / motors) / (stall * radius * strength)))
        heading = rows[:, b, truth.start + 2]
        step = round(0.5 / line.dt_s)
        turned = np.diff(heading[::step])
        track = said.chassis.wheels[0].y_m - said.chassis.wheels[1].y_m
        way = rows[::step, b][:, [line.layout.at("sensed", f"{w}_travel") for w in ("left", "right")]]
        by_wheels = np.diff(way[:, 1] - way[:, 0]) / track
        turns = np.abs(turned) > 0.2
        scrub = float((by_wheels[turns] @ turned[turns]) / (turned[turns] @ turned[turns]))
        top_m_s = (1 - static) / speed
        true = {
            "motors.*.top_speed": top_m_s, "control.static": static, "control.speed": 1 - static,
            "control.acceleration": rise * top_m_s, "lag": rise * top_m_s, "gyro.scale": scale,
            "gyro.bias": float(np.degrees(biases[b])),
            "odometry.scrub": scrub,
            "motors.left.strength": float(strength[0] / strength.max()), "motors.right.strength": float(strength[1] / strength.max()),
        }  # fmt: skip
        found.append({"rows": rows[:, b], "true": true, "turned": float(heading[-1] - heading[0]), "text": plain})
    return found


def learned_of(drive: dict[str, Any], folder: Path, turned: bool = True) -> Learning:
    rig = read_text(drive["text"], PLOVER, Rig)
    run = keep_rows(folder, Facts("Plover", "plover", BEGAN, 60.0), Line(rig), drive["text"], None, list(drive["rows"]))
    found = learn(run, rig, drive["text"], drive["turned"] if turned else 0.0, np.radians(0.5))
    if turned:  # the same with turns that no one can have seen: what they tell of turning
        with mock.patch("pivrex.runs.learning.learn._motors", return_value=None):
            drive["useless"] = [
                learn(run, rig, drive["text"], seen, np.radians(0.5))
                for seen in (2 * (3.0, 2.5 * drive["turned"] + 40.0))[int(1000 * drive["turned"]) % 2 :][: often(2, 1)]
            ]
    return found


def spoiled_and_learned(seed: int) -> list[tuple[dict[str, Any], Learning]]:
    """Drive a batch, and learn each of it; of the rows only those of the first few are given back."""
    with tempfile.TemporaryDirectory() as folder:
        both = [(drive, learned_of(drive, Path(folder) / str(k))) for k, drive in enumerate(spoiled_drives(seed))]
    return [(drive if k < 4 else {**drive, "rows": None}, found) for k, (drive, found) in enumerate(both)]


@lru_cache(maxsize=1)
def all_learned() -> list[tuple[dict[str, Any], Learning]]:
    with ProcessPoolExecutor(2, get_context("spawn")) as pool:
        return [one for batch in pool.map(spoiled_and_learned, SEEDS) for one in batch]


class GapTest(TempCase):
    def test_a_piece_that_cannot_be_read_is_left_out(self) -> None:
        line, text, rows = kept_drives()[FIRST]
        with mock.patch("pivrex.runs.writing.PIECE_S", 1.0):
            run = keep_rows(self.folder / "a", Facts("Plover", "plover", BEGAN, 60.0), line, text, None, rows)
        piece = next(run.folder.glob("ticks-0000120*"))
        piece.unlink()
        piece.with_name("ticks-0000120.csv.gz").write_bytes(b"\x1f\x8bno")
        run = Run(run.folder)
        travel = drive_of(run, line).travel
        there = np.r_[0:120, 180:300]
        np.testing.assert_array_equal(travel[:, 0], rows[there, line.layout.at("sensed", "left_travel")])
        self.assertIn("no one knows what was there", run.warnings[0])


@slow
class SpoiledRobotsTest(TempCase):
    def test_each_value_lies_in_its_interval_as_often_as_that_claims(self) -> None:
        inside: dict[str, list[bool]] = {}
        wide: dict[str, list[float]] = {}
        better = []
        for drive, found in all_learned():
            self.assertEqual([key for key, _ in found.refused], [])
            for p in found.learned:
                true = drive["true"][p.key]
                if p.key.endswith("strength") and true == 1.0:
                    continue  # the best is what the others are held against
                inside.setdefault(p.key.rpartition(".")[2], []).append(p.low <= true <= p.high)
                wide.setdefault(p.key.rpartition(".")[2], []).append((p.high - p.low) / 2)
            assert found.held_out is not None
            better.append(found.held_out.after / found.held_out.before)
        for name, hits in inside.items():
            # so few hits come of an interval that holds 95 times in 100 once in a thousand
            self.assertGreaterEqual(sum(hits), fewest(len(hits)), name)
        every = [hit for hits in inside.values() for hit in hits]
        self.assertGreaterEqual(sum(every), fewest(len(every)))
        # and none is right because it says nothing
        narrow = {
            "top_speed": 0.006,
            "static": 0.004,
            "acceleration": 0.008,
            "strength": 0.008,
            "bias": 0.03,
            "scale": 0.004,
            "scrub": 0.006,
        }
        for name, most in narrow.items():
            self.assertLess(np.median(wide[name]), most, name)
        self.assertLess(np.median(better), 0.3)
        self.assertLess(max(better), 1.0)

    def test_a_turn_that_is_refused_makes_the_track_no_surer(self) -> None:
        inside = []
        for drive, sure in all_learned():
            for found in drive["useless"]:
                self.assertIn("gyro.scale", dict(found.refused))
                self.assertIn("the track is as accurate as the gyro's scale", found.notes)
                (scrub,) = (p for p in found.learned if p.key == "odometry.scrub")
                (narrow,) = (p for p in sure.learned if p.key == "odometry.scrub")
                self.assertGreater(scrub.sigma, 3 * narrow.sigma)
                inside.append(scrub.low <= drive["true"]["odometry.scrub"] <= scrub.high)
        self.assertGreaterEqual(len(inside), ROBOTS)
        self.assertGreaterEqual(sum(inside), fewest(len(inside)))

    def test_without_a_turn_that_somebody_saw_the_scale_is_refused_and_the_track_is_less_sure(self) -> None:
        drive, sure = all_learned()[0]
        unsure = learned_of(drive, self.folder / "t", turned=False)
        self.assertEqual([key for key, _ in unsure.refused], ["gyro.scale"])
        self.assertIn("T in the view Runs", unsure.refused[0][1])
        width = [next(p.high - p.low for p in one.learned if p.key == "odometry.scrub") for one in (sure, unsure)]
        self.assertGreater(width[1], 3 * width[0])

    def test_written_into_the_rig_its_stand_in_is_that_robot(self) -> None:
        """The learned rig's own simulated robot, asked by hand, has the top speed that the spoiled one has."""
        drive, found = all_learned()[3]
        changes = {c.key: c.after for c in found.changes}
        self.assertRegex(changes["lag"], r"^\d+(\.\d+)? ms$")
        self.assertRegex(changes["motors.left.top_speed"], r"rpm$")
        learned = read_text(put_into(drive["text"], found.changes), PLOVER, Rig)
        s = RealisticBody(learned).settings
        static = np.mean(s.running[0] / s.stall[0] / s.strength)
        top = (1 - static) / np.mean(1 / (s.free[0] * float(s.radius[0]) * s.strength))
        self.assertAlmostEqual(top, drive["true"]["motors.*.top_speed"], delta=0.02)
        self.assertIn("# how long the wheels take to follow", put_into(drive["text"], found.changes))


class RefusalTest(TempCase):
    """What a drive cannot tell is said, with what to drive."""

    def kept(self, name: str, rows: np.ndarray, text: str) -> Run:
        rig = read_text(text, PLOVER, Rig)
        return keep_rows(self.folder / name, Facts("Plover", "plover", BEGAN, 60.0), Line(rig), text, None, list(rows))

    def driven(self, twists: list[tuple[float, float]], text: str = "") -> tuple[Run, Rig, str]:
        """Forward and turn, each for a second and a half, from standing."""
        text = text or rig_text(PLOVER)
        rig = read_text(text, PLOVER, Rig)
        line, model = Line(rig), RealisticBody(rig)
        state, robot, rows = line.start(), model.start(), []
        for forward, turn in [(0.0, 0.0), (0.0, 0.0), *twists, (0.0, 0.0)]:
            for _ in range(90):
                twist = np.array([forward, 0.0, turn])
                state, row = line.step(
                    state, line.rest(), model.sense(robot), truth=model.truth(robot), entry=Entry(twist=twist)
                )
                robot = model.step(robot, line.commands(row), line.dt_s)
                rows.append(row)
        return self.kept(f"r{len(list(self.folder.iterdir()))}", np.array(rows), text), rig, text

    def test_a_robot_that_stands_tells_its_bias_only(self) -> None:
        found = learn(*self.driven([(0, 0)] * 4))
        self.assertEqual([p.key for p in found.learned], ["gyro.bias"])
        why = dict(found.refused)
        self.assertIn("Drive straight, slowly and fast, forward and back", why["motors.*.top_speed"])
        self.assertIn("turn it on the spot", why["odometry.scrub"])
        self.assertIsNone(found.held_out)
        self.assertIn("G in Runs drives it", "\n".join(draw_learned(found, 120, 40).rows()))
        told = learn(*self.driven([(1, 0), (0.3, 0), (-1, 0), (-0.3, 0)] * 8))
        self.assertEqual("G in Runs" in "\n".join(draw_learned(told, 120, 40).rows()), bool(told.refused))

    def test_one_speed_cannot_tell_friction_from_speed(self) -> None:
        found = learn(*self.driven([(0.5, 0), (0.5, 0), (-0.5, 0), (-0.5, 0)] * 6))
        self.assertIn("drives at about one speed only, 0.", dict(found.refused)["control.static"])

    def test_turns_that_are_too_short_or_that_the_gyro_did_not_see(self) -> None:
        run, rig, text = self.driven([(0.0, 2.0)] * 6 + [(0.0, 0.0)] * 2)
        said = dict(learn(run, rig, text, np.radians(90)).refused)
        self.assertIn("less than 360 deg", said["gyro.scale"])
        said = dict(learn(run, rig, text, np.radians(9000)).refused)
        self.assertRegex(said["gyro.scale"], "that is no turn of 9000 deg")

    def test_four_wheels_push_each_other_through_the_floor(self) -> None:
        path = DEMO / "rigs" / "coot.toml"
        text, rig = rig_text(path), read_rig(path)
        line, model = Line(rig), RealisticBody(rig)
        state, robot, rows = line.start(), model.start(), []
        for k, forward in enumerate([0.0, 0.2, -0.2, 0.4, -0.4, 0.6, -0.6, 0.3, -0.3, 0.5, -0.5, 0.7, -0.7, 0.0] * 2):
            for i in range(90):
                twist = np.array([forward * min(1.0, i / 30), 0.0, 1.5 * (k % 2) * (i > 60)])
                state, row = line.step(
                    state, line.rest(), model.sense(robot), truth=model.truth(robot), entry=Entry(twist=twist)
                )
                robot = model.step(robot, line.commands(row), line.dt_s)
                rows.append(row)
        run = keep_rows(self.folder / "coot", Facts("Coot", "coot", BEGAN, 60.0), line, text, None, rows)
        found = learn(run, rig, text)
        self.assertIn("they push each other through the floor", dict(found.refused)["motors.*.strength"])
        self.assertIn("motors.*.top_speed", [p.key for p in found.learned])

    def test_a_run_of_another_robot(self) -> None:
        run, _, _ = self.driven([(0.3, 0)])
        path = DEMO / "rigs" / "bittern.toml"
        with self.assertRaisesRegex(LearnError, "is of another robot than Bittern: it has no "):
            learn(run, read_rig(path), rig_text(path))

    def test_a_rig_without_gyro(self) -> None:
        text = (
            "".join(part for part in rig_text(PLOVER).partition("[correction]")[:1]).replace("[gyro]\n" + GYRO_PIN, "")
            + "[control]"
            + (rig_text(PLOVER).partition("[control]")[2])
        )
        found = learn(*self.driven([(0.2, 0), (-0.2, 0), (0.5, 0), (-0.5, 0), (0.8, 0), (-0.8, 0)] * 5, text))
        self.assertEqual(dict(found.refused)["gyro.bias"], "the rig has no gyro")
        self.assertIn("lag", [p.key for p in found.learned])


class LearningDriveTest(unittest.TestCase):
    def test_it_fits_every_robot_of_the_demo_and_ends(self) -> None:
        field = open_folder(DEMO).settings.field
        for path in sorted((DEMO / "rigs").glob("*.toml")):
            rig = read_rig(path)
            self.assertEqual(tuple(check_text(learning_drive(rig, path.stem, field), rig).wrong), (), path.stem)
        rig = read_rig(PLOVER)
        program = check_text(learning_drive(rig, "plover", field), rig).program
        assert program is not None
        made = play(program, rig, field, LASTS_S, 1)
        self.assertEqual(made.ended, "finished")
        layout = Line(rig).layout
        self.assertEqual(made.rows[:, layout.at("truth", "blocked")].max(), 0)

    def test_a_floor_without_room_is_said(self) -> None:
        rig = read_rig(PLOVER)
        field = open_folder(DEMO).settings.field
        small = field.model_copy(update={"length_m": 0.8, "width_m": 0.8, "blocks": (), "rounds": ()})
        self.assertLess(room_ahead(rig, small), 0.3)
        with self.assertRaisesRegex(LearnError, "lay out another floor"):
            learning_drive(rig, "plover", small)


class WindowsTest(TempCase):
    """What is taken of a run before anything is fitted to it."""

    def test_a_tick_is_driven_with_the_voltage_that_is_sensed_after_it(self) -> None:
        count, dt_s = 400, 1 / 60
        volts: NDArray[np.float64] = 12.0 - 0.01 * np.arange(count, dtype=float)
        travel = np.cumsum(np.full((count, 1), 0.5 * dt_s), axis=0)
        one = np.ones(1)
        drive = Drive(
            dt_s, np.full((count, 1), 0.5), travel, None, volts, True, np.zeros(count, bool), np.zeros(1, int), one, None, travel
        )  # fmt: skip
        found = windows_of(drive, 12.0)
        self.assertGreater(len(found.first), 3)
        for first, length, given in zip(found.first, found.length_s, found.own_drive[:, 0], strict=True):
            ticks = np.arange(first, first + round(length / dt_s))
            self.assertAlmostEqual(given, float(np.mean(0.5 * (12.0 - 0.01 * (ticks + 1)) / 12.0)), places=9)

    def test_a_gyro_that_is_mounted_upside_down_counts_as_it_is_mounted(self) -> None:
        line, text, rows = kept_drives()[FIRST]
        run = keep_rows(self.folder / "a", Facts("Plover", "plover", BEGAN, 60.0), line, text, None, rows[:200])
        own = drive_of(run, line).gyro
        gyro = line.rig.gyro
        assert own is not None and gyro is not None
        turned = Line(line.rig.model_copy(update={"gyro": gyro.model_copy(update={"reversed": not gyro.reversed})}))
        other = drive_of(run, turned).gyro
        assert other is not None
        self.assertGreater(float(np.abs(own).max()), 0.0)
        np.testing.assert_array_equal(other, -own)

    def test_what_is_learned_is_written_in_the_units_of_the_file(self) -> None:
        text = PLOVER.read_text("utf-8")
        found = {}
        for unit, size in (("rpm", 9.549297), ("deg/s", 57.29578)):  # for each rad/s
            written = re.sub(r'(\ntop_speed = )"[^"]*"', rf'\1"{200 * size:.0f} {unit}"', text)
            rig = read_text(written, PLOVER, Rig)
            changes = changes_for(
                rig,
                written,
                {"motors.*.top_speed": 1.0, "control.static": 0.05, "lag": 0.1, "control.acceleration": 0.2},
            )
            after = next(c.after for c in changes if c.key == "motors.left.top_speed")
            number, own = str(after).split()
            wheel, motor = next(w for w in rig.chassis.wheels), rig.motors["left"]
            self.assertEqual(own, unit)
            found[unit] = float(number) / size
            self.assertAlmostEqual(found[unit], motor.gear / wheel.radius_m, delta=0.001 * found[unit])


class FitTest(unittest.TestCase):
    def test_outliers_are_left_out_and_what_hangs_together_is_less_sure(self) -> None:
        chance = np.random.default_rng(2)
        x = np.column_stack([np.ones(400), chance.normal(size=400)])
        noise = chance.normal(scale=0.1, size=400)
        y = x @ (1.0, 2.0) + noise
        y[::40] += 30
        found = fit(x, y)
        self.assertEqual(found.windows, 390)
        np.testing.assert_allclose(found.values, (1.0, 2.0), atol=0.03)
        self.assertAlmostEqual(found.sigma[0], 0.1 / np.sqrt(390), delta=0.002)
        slow_noise = np.repeat(chance.normal(scale=0.1, size=100), 4)
        self.assertGreater(fit(x, x @ (1.0, 2.0) + slow_noise).sigma[0], 1.4 * 0.1 / np.sqrt(400))


class ScrubTest(unittest.TestCase):
    def test_a_track_that_acts_wider_turns_the_belief_less(self) -> None:
        """A metre more at the right wheel than at the left, on a track of 160 mm: 1/0.16 rad, and half of it where it acts twice as wide."""
        for scrub, turned in ((1.0, 1 / 0.16), (2.0, 0.5 / 0.16)):
            text = spoiled_text(rig_text(PLOVER), odometry__scrub=scrub, odometry__turn="wheels")
            line = Line(read_text(text, PLOVER, Rig))
            layout, first = line.layout, line.layout.stage("sensed").start
            sensed = np.zeros(len(line.stages["sensed"].columns))
            state, _ = line.step(line.start(), line.rest(), sensed)
            sensed[layout.at("sensed", "right_travel") - first] = 0.01
            _, row = line.step(state, line.rest(), sensed)
            self.assertAlmostEqual(row[layout.at("odometry", "turn")], turned * 0.01)
            self.assertAlmostEqual(row[layout.at("odometry", "forward")], 0.005, delta=1e-4)
