"""Routines on the line: each kind of step against geometry worked by hand, decisions, limits, and the same bits every way."""

import unittest
from math import cos, degrees, pi, radians, sin
from unittest.mock import patch

import numpy as np
from numpy.typing import NDArray

from pivrex.line import Line
from pivrex.line.why import ladder, sentence
from pivrex.rig import Field, Rig, open_folder, read_rig
from pivrex.routine import Play, Player, Program, Runner, check_text, play
from pivrex.routine.backwards import backwards, there_and_back
from pivrex.routine.commanded_path import commanded_path
from pivrex.routine.drives import Drives
from pivrex.routine.playing import OUT_OF_TIME
from pivrex.sim.model import simulator_of
from tests.chassis import demo_path, ideal
from tests.support import DEMO, often, slow

Floats = NDArray[np.float64]
FIELD = open_folder(DEMO).settings.field
POST = Field.model_validate(
    {"walls": False, "rounds": [{"name": "post", "x": "1 m", "y": "0 m", "radius": "1 cm", "shows": 3}]}
)
WALL = Field.model_validate(
    {"walls": False, "blocks": [{"name": "wall", "x": "2 m", "y": "0 m", "length": "20 cm", "width": "4 m"}]}
)


def program(text: str, rig: Rig) -> Program:
    checked = check_text(text, rig)
    assert checked.program is not None, checked.wrong
    return checked.program


def played(text: str, rig: Rig, field: Field | None = None, limit_s: float = 25.0) -> Play:
    return play(program(text, rig), rig, field, limit_s)


def stage_width(line: Line, stage: str) -> int:
    """How many columns a stage has."""
    found = line.layout.stage(stage)
    return found.stop - found.start


class GeometryTest(unittest.TestCase):
    """On the perfect simulated robot, from the origin looking along x: to 1 mm and 0.1 degrees."""

    def ends(
        self, name: str, text: str, x: float, y: float, heading: float, estimated: tuple[float, float] | None = None
    ) -> Play:
        made = played(f"start at 0 m, 0 m\n{text}\nwait 0.6 s", ideal(name))
        self.assertEqual(made.ended, "finished", f"{name}: {text}")
        px, py, ph = made.pose
        self.assertLess(np.hypot(px - x, py - y), 0.001, f"{name}: {text}: {made.pose}")
        self.assertLess(abs(degrees(ph) - heading), 0.1, f"{name}: {text}: {made.pose}")
        np.testing.assert_allclose(made.estimated[-1][:2], estimated or (px, py), atol=0.001)
        return made

    def test_straight(self) -> None:
        self.ends("plover", "drive ahead 0.8 m", 0.8, 0, 0)
        self.ends("coot", "drive back 35 cm at 0.3 m/s", -0.35, 0, 0)
        self.ends("dunlin", "drive right 0.4 m", 0, -0.4, 0)
        self.ends("bittern", "drive left 0.4 m at 30 %", 0, 0.4, 0)
        # 30 turns of the motor's shaft with 12 counts each for one of the wheel, which is 2·π·32 mm
        self.ends("plover", "drive ahead 600 counts", 600 / 360 * 2 * pi * 0.032, 0, 0)
        self.ends("plover", "drive back 2.5 wheel turns", -2.5 * 2 * pi * 0.032, 0, 0)

    def test_turns(self) -> None:
        self.ends("plover", "turn left 90 deg", 0, 0, 90)
        self.ends("coot", "turn right 45 deg without gyro", 0, 0, -45)
        self.ends("plover", "turn left 400 deg at 180 deg/s", 0, 0, 400)
        self.ends("dunlin", "turn to 180 deg\nturn to -90 deg", 0, 0, 270)  # the shorter way each time
        self.ends("plover", "turn toward -1 m, 1 m", 0, 0, 135)
        # each wheel rolls 2·π·32 mm twice, on a circle of 80 mm
        self.ends("plover", "turn left 2 wheel turns", 0, 0, degrees(2 * 2 * pi * 0.032 / 0.08))

    def test_pivots_and_bends(self) -> None:
        self.ends("plover", "pivot left 90 deg about the left side", 0.08, 0.08, 90)
        self.ends("plover", "pivot right 180 deg about the right side", 0, -0.16, -180)
        self.ends("plover", "pivot back left 90 deg about the right side", -0.08, -0.08, 90)
        self.ends("plover", "bend left 90 deg with radius 0.4 m", 0.4, 0.4, 90)
        self.ends("coot", "bend right 60 deg with radius 50 cm", 0.5 * sin(pi / 3), -0.5 * (1 - cos(pi / 3)), -60)
        self.ends("plover", "bend back left 90 deg with radius 0.3 m", -0.3, 0.3, -90)

    def test_to_places_and_along_the_field(self) -> None:
        self.ends("plover", "drive to 0.6 m, 0.8 m facing 0 deg", 0.6, 0.8, 0)
        self.ends("bittern", "turn left 90 deg\ndrive along 45 deg for 60 cm", 0.6 * sin(pi / 4), 0.6 * sin(pi / 4), 90)
        self.ends("dunlin", "drive to -0.5 m, 0.7 m facing 180 deg", -0.5, 0.7, 180)
        self.ends(
            "bittern", "here is 1 m, 1 m facing 90 deg\ndrive to 1 m, 2 m", 1, 0, 0, (1, 2)
        )  # it believes to look along y

    def test_times(self) -> None:
        # trapezoids: the way is top·(time - top/rise), with the rig's own rise of 1 m/s²
        made = self.ends("plover", "drive ahead for 1.5 s at 0.3 m/s", 0.3 * (1.5 - 0.3), 0, 0)
        self.assertAlmostEqual(made.steps[0].end * made.dt_s, 1.5)
        rise = degrees(ideal("plover").correction.turn_acceleration_rad_s2)  # type: ignore[union-attr]
        made = played("turn left 1.2 s at 60 deg/s\nwait 1 s", ideal("plover"))
        self.assertAlmostEqual(degrees(made.pose[2]), 60 * (1.2 - 60 / rise), delta=0.6)

    def test_raw_wheels(self) -> None:
        # 40 % of 300 rpm on wheels of 32 mm for a second, and what the lag keeps back at first comes at last
        top = 300 / 60 * 2 * pi * 0.032
        made = played("wheels left 40 %, right 40 % for 1 s\nwait 1 s", ideal("plover"))
        self.assertAlmostEqual(made.pose[0], 0.4 * top, delta=0.012)
        made = played('wheels "left" 20 %, "right" 40 % for 1 s\nwait 1 s', ideal("plover"))
        self.assertAlmostEqual(made.pose[2], 0.2 * top / 0.16, delta=0.08)

        # so long even where no wheel turns, or none can
        for text in ("wheels left 0 %, right 0 % for 1.5 s", "wheels left 0 %, right 100 % for 1.5 s"):
            for start in ("start at 0 m, 0 m\n", "start at 1.93 m, 0 m\n"):
                step = played(start + text, ideal("plover"), WALL).steps[-1]
                self.assertAlmostEqual((step.end - step.begin) / 60, 1.5, delta=0.04, msg=start + text)

    @slow
    def test_wheels_by_how_far_they_roll(self) -> None:
        # Plover's wheels stand 80 mm from its middle: 15 cm there and back turn it by 0.15/0.08 rad
        turn = degrees(0.15 / 0.08)
        for text in ("wheels left -100 %, right 100 % for 15 cm", "turn left 15 cm", "turn left 15 cm at 20 %"):
            self.ends("plover", text, 0, 0, turn)
        self.ends("plover", "turn right 15 cm", 0, 0, -turn)
        # each side ends by itself, whatever its share: straight, then round the right one
        made = played("wheels left 50 %, right 20 % for 1 wheel turn\nwait 0.6 s", ideal("plover"))
        travel = made.rows[-1][Line(ideal("plover")).layout.these("sensed", ("left_travel", "right_travel"))]
        np.testing.assert_allclose(travel, 2 * pi * 0.032, atol=5e-4)
        # one that has no share stands, and 500 counts are 500/1790 m
        made = played("wheels left 40 %, right 0 % for 500 counts\nwait 0.6 s", ideal("plover"))
        travel = made.rows[-1][Line(ideal("plover")).layout.these("sensed", ("left_travel", "right_travel"))]
        np.testing.assert_allclose(travel, (500 / (360 / (2 * pi * 0.032)), 0), atol=5e-4)
        # sides of four wheels; a limit in length ends it too
        made = played("wheels left 40 %, right 40 % until x above 1 m at most 25 cm\nwait 0.6 s", ideal("coot"))
        self.assertEqual(made.steps[0].marks, ["limit"])
        np.testing.assert_allclose(made.pose[:2], (0.25, 0), atol=1e-3)

    def test_each_side_rolls_as_far_on_bodies_that_slip_and_drag(self) -> None:
        for name in ("plover", "coot", "bittern", "dunlin"):
            rig = read_rig(demo_path(name))
            made = played("turn left 15 cm at 40 %\nwait 0.5 s", rig)
            count = len(rig.chassis.wheels)
            travel = made.rows[-1][Line(rig).layout.stage("sensed")][:count]
            np.testing.assert_allclose(np.abs(travel), 0.15, atol=0.004, err_msg=name)
            self.assertLess(made.steps[0].end * made.dt_s, 3, name)
            made = played("wheels left -100 %, right 100 % for 15 cm\nwait 0.5 s", rig)
            travel = np.abs(made.rows[-1][Line(rig).layout.stage("sensed")][:count])
            np.testing.assert_allclose(travel[travel > 0.01], 0.15, atol=0.004, err_msg=name)

    def test_a_wheel_that_cannot_roll_so_far_waits_for_nothing(self) -> None:
        made = played('start at 1.5 m, 0 m\nwheels left 40 %, right 40 % for 3 m\nsay "on"', ideal("plover"), WALL)
        self.assertEqual((made.ended, made.messages[0].words), ("finished", "on"))
        self.assertLess(made.time_s, 5)

    def test_wheels_and_turns_by_length_back(self) -> None:
        rig = ideal("plover")
        for text in ("turn left 12 cm", "wheels left -30 %, right 30 % for 12 cm"):
            first = program(f"start at 1 m, 1 m\n{text}\nwait 0.5 s", rig)
            back = backwards(first, rig, play(first, rig, None))
            self.assertIn("0.12 m", back)
            made = play(program(there_and_back(first, rig, play(first, rig, None)) + "wait 0.5 s\n", rig), rig, None)
            np.testing.assert_allclose(made.pose[:2], (1, 1), atol=3e-3, err_msg=text)
            self.assertLess(abs(degrees(made.pose[2])), 0.5, text)

    def test_what_cannot_be_rolled_so(self) -> None:
        for name, text, what in (
            ("avocet", "turn left 15 cm", "the wheels of this rig are steered"),
            ("avocet", "wheels left 40 %, right 40 % for 15 cm", "the wheels of this rig are steered"),
            ("plover", "turn left 15 cm with gyro", "the gyro corrects nothing of it"),
            ("plover", "turn left 15 cm at most 90 deg", "at most is a time, but this is an angle"),
            ("plover", "turn left -15 cm", "must be more than 0"),
            ("plover", "pivot left 15 cm about the left side", "how far it turns is"),
        ):
            found = check_text(text, read_rig(demo_path(name))).wrong
            self.assertTrue(any(what in m.what for m in found), (text, found))

    def test_the_steered_one_too(self) -> None:
        for text, x, y, heading in (
            ("drive to 0.6 m, 0.8 m facing 90 deg", 0.6, 0.8, 90), ("drive along 90 deg for 0.5 m", 0, 0.5, 0), ("turn left 90 deg", 0, 0, 90),
        ):  # fmt: skip
            made = played(f"start at 0 m, 0 m\n{text}\nwait 1 s", ideal("avocet"))
            self.assertLess(np.hypot(made.pose[0] - x, made.pose[1] - y), 0.002, text)
            self.assertLess(abs(degrees(made.pose[2]) - heading), 0.15, text)


class RealTest(unittest.TestCase):
    @slow
    def test_a_square_on_each_real_like_robot(self) -> None:
        for name in ("plover", "bittern", "avocet", "dunlin")[: often(4, 3)]:
            rig = read_rig(demo_path(name))
            text = "start at 0 m, 0 m\nrepeat 4 times\n    drive ahead 60 cm\n    turn left 90 deg\nsettle at most 1 s"
            made = played(text, rig)
            self.assertEqual(made.ended, "finished", name)
            self.assertLess(np.hypot(*made.pose[:2]), 0.05, f"{name}: {made.pose}")
            self.assertLess(abs(degrees(made.pose[2]) - 360), 1.5, f"{name}: {made.pose}")

    def test_the_gyro_keeps_a_weak_motor_straight(self) -> None:
        rig = read_rig(demo_path("plover"))
        weak = rig.motors["left"].model_copy(update={"strength": 0.92})
        rig = rig.model_copy(update={"motors": {**rig.motors, "left": weak}, "control": None})
        aside = [
            abs(played(f"start at 0 m, 0 m\ndrive ahead 1.5 m {how} gyro", rig).pose[1]) for how in ("with", "without")
        ]
        self.assertLess(aside[0], 0.03)
        self.assertGreater(aside[1], 5 * aside[0])


class FlowTest(unittest.TestCase):
    def kept(self, text: str, rig: Rig | None = None, field: Field | None = None) -> dict[str, float]:
        made = played("start at 0 m, 0 m\n" + text, rig or ideal("plover"), field)
        self.assertEqual((made.ended, made.why), ("finished", ""))
        return made.names

    def test_decisions_and_loops(self) -> None:
        self.assertEqual(
            self.kept("let n be 0\nrepeat 3 times\n    let n be n + 2\n    repeat 2 times\n        let n be n * 10")[
                "n"
            ],
            2020200,
        )
        self.assertEqual(self.kept("let n be 1\nrepeat until n > 20\n    let n be n * 3")["n"], 27)
        self.assertEqual(self.kept("let n be 1\nrepeat until n > 20 at most 2 times\n    let n be n * 3")["n"], 9)
        for x, expected in ((1, 10), (2, 20), (3, 30), (4, 40)):
            text = f"let p be {x}\n"
            text += "if p is 1\n    let q be 10\nelse if p is 2\n    let q be 20\nelse if p < 4\n    let q be 30\nelse\n    let q be 40"
            self.assertEqual(self.kept(text)["q"], expected)
            text = f"choose by {x}\n    when 1\n        let q be 10\n    when 3\n        let q be 30\n    otherwise\n        let q be {expected}"
            self.assertEqual(self.kept(text)["q"], expected)

    def test_conditions(self) -> None:
        for said, true in (
            ("1 < 2", 1), ("2 below 1", 0), ("1 is 1", 1), ("1 is not 1", 0), ("not 1 is 2", 1), ("1 < 2 and 2 < 1", 0),
            ("1 < 2 or 2 < 1", 1), ("2 < 1 or 1 < 2 and 3 < 2", 0), ("(2 < 1 or 1 < 2) and 2 < 3", 1), ("1 >= 1", 1), ("1 <= 0", 0),
            ("pump is off", 1), ("pump is on", 0), ("spout is there", 1), ("post is heard", 0), ("post is silent", 1), ("post < 9", 0),
            ("not post < 9", 1), ("post is not 3", 0),
        ):  # fmt: skip
            self.assertEqual(self.kept(f"let q be 0\nif {said}\n    let q be 1")["q"], true, said)

    def test_own_moves(self) -> None:
        twice = "own move twice with part 2 m, count 2\n    let far be part * count\n    give far\n"
        self.assertEqual(
            self.kept(twice + "let a be result of twice\nlet b be result of twice with count 3, part 1 m"),
            {"a": 4.0, "b": 3.0},
        )
        inner = "own move a with p 1\n    let q be result of b with p p + 1\n    give q * 10\nown move b with p 1\n    give p + 0.5\n"
        self.assertEqual(self.kept(inner + "let n be result of a with p 3")["n"], 45)
        # what a move keeps is its own
        self.assertEqual(self.kept("let n be 1\ndo a\nown move a\n    let n be 7")["n"], 1)

    def test_sensed_or_not(self) -> None:
        plover = ideal("plover")
        self.assertEqual(self.kept("let n be post else 1", plover, POST)["n"], 3)
        self.assertEqual(self.kept("let n be post else 1", plover)["n"], 1)
        self.assertEqual(
            self.kept("switch post off\nlet n be post else 1\nswitch post on\nlet k be post else 1", plover, POST),
            {"n": 1, "k": 3},
        )
        names = self.kept("own move hear\n    give post else 2\nlet n be result of hear", plover)
        self.assertEqual(names["n"], 2)
        # the wall's face is at 1.9 m, the ranger sits 11 cm before the robot's middle
        made = played("start at 0 m, 0 m\ndrive ahead at most 3 m until front below 50 cm", plover, WALL)
        self.assertAlmostEqual(made.pose[0], 1.9 - 0.11 - 0.5, delta=0.06)
        self.assertEqual(made.steps[0].marks, [])

    def test_limits_and_what_happens_then(self) -> None:
        plover = ideal("plover")
        made = played("wait until post is heard at most 0.5 s, else stop\nwait 1 s", plover)
        self.assertEqual(
            (made.ended, "reached its limit" in made.why, made.steps[0].marks), ("stopped", True, ["limit"])
        )
        self.assertAlmostEqual(made.time_s, 0.5, delta=0.05)
        made = played(
            "start at 0 m, 0 m\ndrive ahead until post is heard at most 30 cm, else do retreat\nown move retreat\n    drive back 10 cm",
            plover,
        )
        self.assertAlmostEqual(made.pose[0], 0.2, delta=0.002)
        self.assertEqual([s.marks for s in made.steps], [["limit"], []])
        made = played("start at 0 m, 0 m\nturn left until post is heard at most 90 deg, else go on\nwait 0.5 s", plover)
        self.assertAlmostEqual(degrees(made.pose[2]), 90, delta=0.2)

    def test_attachments(self) -> None:
        coot = ideal("coot")
        made = played("move boom to 60 deg and wait\nlet a be boom\nmove boom by -15 deg and wait\nlet b be boom\n"
                      "move boom to 200 counts and wait\nlet c be boom\nswitch pump on\nlet d be 0\n"
                      "if pump is on\n    let d be 1", coot)  # fmt: skip
        for name, deg in (("a", 60), ("b", 45), ("c", 200 / 1440 * 360)):
            self.assertAlmostEqual(degrees(made.names[name]), deg, delta=2.1)
        self.assertEqual(made.names["d"], 1)
        # 60 degrees at 90 deg/s
        self.assertGreater(made.steps[0].end * made.dt_s, 60 / 90)
        made = played(
            "move boom to 60 deg over 3 s and wait\nzero boom\nlet a be boom\nmove boom to 20 deg and wait\nlet b be boom",
            coot,
        )
        self.assertAlmostEqual(made.steps[0].end * made.dt_s, 3.0, delta=0.3)
        self.assertAlmostEqual(degrees(made.names["b"] - made.names["a"]), 20, delta=2.1)

    def test_a_move_over_a_time_goes_in_even_steps_from_its_first_tick_to_its_last(self) -> None:
        coot = ideal("coot")
        made = played("move spout to 60 deg over 0.5 s and wait", coot)
        layout, ticks = Line(coot).layout, round(0.5 / made.dt_s)
        asked = made.rows[: made.steps[0].end + 1, layout.at("bindings", "spout_to")]
        begin = int(np.flatnonzero(~np.isnan(asked))[0])
        self.assertEqual(begin, made.steps[0].begin + 1)  # the routine's tick 0 is the line's second
        even = np.radians(60.0) * np.arange(1, ticks + 1) / ticks
        np.testing.assert_allclose(asked[begin : begin + ticks], even, atol=1e-12)
        self.assertTrue(np.isnan(asked[begin + ticks :]).all())

    def test_home_finds_the_stop_wherever_it_was_left(self) -> None:
        # the boom stands 50 degrees up when it is switched on, and its encoder calls that 0
        coot = ideal("coot")
        boom = coot.attachments["boom"].model_copy(update={"begins_rad": radians(50)})
        left = coot.model_copy(update={"attachments": {**coot.attachments, "boom": boom}})
        text = "home boom at -40 % as -5 deg at most 3 s\nlet a be boom\nmove boom to 60 deg and wait\nlet b be boom"
        made = played(text, left)
        self.assertEqual(made.steps[0].marks, [])
        self.assertAlmostEqual(degrees(made.names["a"]), -5, delta=0.1)
        self.assertAlmostEqual(degrees(made.names["b"]), 60, delta=2.1)
        layout = Line(left).layout
        encoder, angle = (
            np.degrees(made.rows[-1, layout.at(*c)]) for c in (("sensed", "boom_at"), ("attachments", "boom_angle"))
        )
        self.assertAlmostEqual(angle, 60, delta=2.1)
        self.assertAlmostEqual(encoder, angle - 50, delta=0.1)  # its true angle less where it began
        # 55 degrees at 40 % of 90 deg/s, and a quarter of a second until it surely goes no farther
        self.assertAlmostEqual(made.steps[0].end * made.dt_s, 55 / 36 + 16 / 60, delta=0.06)
        # without homing its limits are wrong: asked for 0 degrees it stays where it was switched on
        lost = played("move boom to 0 deg and wait\nwait 0.1 s", left)
        self.assertAlmostEqual(np.degrees(lost.rows[-1, layout.at("sensed", "boom_at")]), 0, delta=0.1)

    def test_home_that_finds_no_stop_in_time_calls_nothing_otherwise(self) -> None:
        coot = ideal("coot")
        boom = coot.attachments["boom"].model_copy(update={"begins_rad": radians(50)})
        left = coot.model_copy(update={"attachments": {**coot.attachments, "boom": boom}})
        made = played("home boom at -40 % as 90 deg at most 0.5 s\nlet a be boom\nwait 2 s", left)
        self.assertEqual(made.steps[0].marks, ["limit"])
        self.assertAlmostEqual(degrees(made.names["a"]), -36 * 0.5, delta=2)
        # by what it is called as before it is beyond its limit, to which it goes back
        at = Line(left).layout.at("sensed", "boom_at")
        self.assertAlmostEqual(np.degrees(made.rows[-40, at]), -5, delta=0.6)
        made = played("home boom at -40 % as 90 deg at most 0.5 s, else stop\nwait 3 s", left)
        self.assertEqual(made.ended, "stopped")

    def test_home_drives_no_attachment_while_the_robot_is_stopped(self) -> None:
        from pivrex.line import Entry

        coot = ideal("coot")
        line = Line(coot)
        asked = np.zeros(stage_width(line, "routine"))
        asked[[c.name for c in line.layout.columns if c.stage == "routine"].index("boom_push")] = -0.4
        for stop, drive in ((0.0, -0.4), (1.0, 0.0)):
            _, row = line.step(
                line.start(), line.rest(), np.zeros(stage_width(line, "sensed")), stop, entry=Entry(routine=asked)
            )
            self.assertAlmostEqual(float(row[line.layout.at("attachments", "boom_drive")]), drive)

    def test_at_once(self) -> None:
        coot = ideal("coot")
        three = "    drive ahead 40 cm\n    move boom to 90 deg and wait\n    wait 0.5 s\n"
        alone = [played(line.strip(), coot).time_s for line in three.splitlines()]
        whole = {
            mode: played(f"at once {mode}\n{three}", coot)
            for mode in ("until all end", "until one ends", "ending together")
        }
        self.assertAlmostEqual(whole["until all end"].time_s, max(alone), delta=0.05)
        self.assertAlmostEqual(whole["until one ends"].time_s, min(alone), delta=0.05)
        ends = [
            s.end * s_dt for s, s_dt in ((s, whole["ending together"].dt_s) for s in whole["ending together"].steps)
        ]
        self.assertLess(max(ends) - min(ends), 0.5)
        self.assertLess(whole["until one ends"].pose[0], 0.2)  # the drive was ended too
        over = played("at once until all end\n    wait 0.1 s\n    move boom to 40 deg over 2 s and wait", coot)
        self.assertAlmostEqual(over.time_s, 2.0, delta=0.3)  # as it takes alone

    def test_everything_is_off_at_the_end(self) -> None:
        coot = ideal("coot")
        line = Line(coot)
        for text in (
            "switch pump on\ndrive ahead 1 m",
            "switch pump on\nwait 9 s",
            "switch pump on\nlet a be 1 / (1 - 1)",
            "switch pump on\nstop",
        ):
            made = play(program(text, coot), coot, None, 1.0)
            self.assertEqual(made.rows[-1, line.layout.at("attachments", "pump_target")], 0, text)
            self.assertTrue((made.rows[-1, line.speeds] == 0).all(), text)

    def test_what_only_shows_while_it_runs(self) -> None:
        for text, said in (
            ("let a be 3\nlet b be 1 / (a - 3)", "line 2: divides by 0"),
            ("let far be front\ndrive ahead far", "line 2: how far has no value: nothing was sensed"),
            ("let a be root(3 - 4)", "line 1: takes the root"),
            ("do a\nown move a\n    do a", "line 3: own moves do each other more than"),
        ):
            made = played(text, ideal("plover"))
            self.assertEqual((made.ended, made.why.startswith(said)), ("stopped", True), made.why)

    def test_the_clock_ends_what_never_ends(self) -> None:
        for text in (
            "repeat until 2 < 1\n    let a be 1",
            "wait until post is heard",
            "drive ahead 3 m at 1 %",
            "repeat until 2 < 1\n    wait 0 s",
        ):
            made = played(text, ideal("plover"), None, 1.0)
            self.assertEqual((made.ended, made.time_s), (OUT_OF_TIME, 1.0), text)
        self.assertEqual(played("drive ahead 3 m", ideal("plover"), None, 1.0).steps[-1].marks, ["cut off"])

    def test_steps_are_told_and_marked(self) -> None:
        rig = read_rig(demo_path("plover"))
        made = played("# a\nstart at 1.6 m, 0 m\ndrive ahead 50 cm\nturn left 10 deg", rig, WALL)
        self.assertEqual(
            [(s.line, s.text, s.lane) for s in made.steps],
            [(3, "drive ahead 50 cm", "motion"), (4, "turn left 10 deg", "motion")],
        )
        self.assertIn("bumped", made.steps[0].marks)


class WhyTest(unittest.TestCase):
    def test_it_says_which_line_asked(self) -> None:
        rig = read_rig(demo_path("plover"))
        line = Line(rig)
        made = played("wait 0.2 s\n\ndrive ahead 1 m", rig)
        row = made.rows[60]
        self.assertEqual(row[line.layout.at("routine", "line")], 3)
        self.assertIn("line 3 of the routine commands it", sentence(line, row, "left"))
        self.assertTrue(any("line 3 of the routine" in r.text for r in ladder(line, row, "left")))

    def test_where_it_was_asked_to_be(self) -> None:
        rig = ideal("bittern")
        made = played(
            "start at 1 m, 1 m facing 90 deg\ndrive along 0 deg for 0.5 m\ndrive ahead 0.3 m\nturn left 90 deg\nwait 0.5 s",
            rig,
        )
        asked = commanded_path(Line(rig), made.rows, np.array([1.0, 1.0, pi / 2]))
        np.testing.assert_allclose(asked[-1], (1.5, 1.3, pi), atol=0.002)


class SameBitsTest(unittest.TestCase):
    CUT = """start at 0 m, 0 m
do hop with far 40 cm
turn left 60 deg
do hop
own move hop with far 20 cm
    drive ahead far at 50 %
    do little
own move little
    wait 0.2 s
    turn right 20 deg
"""
    WHOLE = """start at 0 m, 0 m
drive ahead 40 cm at 50 %
wait 0.2 s
turn right 20 deg
turn left 60 deg
drive ahead 20 cm at 50 %
wait 0.2 s
turn right 20 deg
"""

    def test_cut_into_own_moves_or_not(self) -> None:
        rig = read_rig(demo_path("plover"))
        line = Line(rig)
        cut, whole = played(self.CUT, rig), played(self.WHOLE, rig)
        others = [i for i, c in enumerate(line.layout.columns) if (c.stage, c.name) != ("routine", "line")]
        self.assertEqual(cut.rows[:, others].tobytes(), whole.rows[:, others].tobytes())

    def test_many_robots_are_each_like_one_alone(self) -> None:
        text = (
            self.CUT
            + "wait until front below 1 m at most 0.3 s\nif post is heard\n    turn left 30 deg\nelse\n    drive back 10 cm\n"
        )
        for name, ticks in (("plover", 330), ("avocet", 90)):
            rig = read_rig(demo_path(name))
            starts = np.array([[0.5, 0.5, 0.3], [1.2, 2.0, -0.4], [2.2, 1.9, 1.0], [0.9, 2.1, 2.9]])
            seeds = np.array([0, 7, 8, 9], np.uint64)
            line, model = Line(rig), simulator_of(rig, FIELD)
            robots = model.placed(model.start((4,), seeds), starts)
            drives = Drives(program(text, rig), line, model, line.start((4,)), robots, starts, FIELD)
            many = []
            for tick in range(1, ticks + 1):
                drives.run(tick)
                many.append(drives.robot().pose.copy())
            for k in range(len(starts)):
                alone = self.run_it(program(text, rig), rig, starts[k], seeds[k], ticks)
                self.assertEqual(np.array(many)[:, k].tobytes(), alone.tobytes(), f"{name} {k}")

    def run_it(self, made: Program, rig: Rig, start: Floats, seed: int, ticks: int) -> Floats:
        """The poses of one robot tick by tick, as a session makes them: its line apart from its simulated robot."""
        line, model = Line(rig), simulator_of(rig, FIELD)
        runner, robot, state = Runner(made, line, start), model.placed(model.start((), seed), start), line.start()
        raw, row, poses = line.rest(), None, []
        for _ in range(ticks):
            entry = None if runner.interpreter.ended else runner.tick(row)
            entry = None if runner.interpreter.ended else entry
            stop, state = float(bool(runner.interpreter.ended)), runner.before(state)
            state, row = line.step(state, raw, model.sense(robot), stop, 0.0, model.truth(robot), entry)
            robot = model.step(robot, line.commands(row), line.dt_s)
            poses.append(robot.pose)
        return np.array(poses)

    def test_what_is_played_on_from_a_change_is_as_if_from_the_start(self) -> None:
        rig = read_rig(demo_path("plover"))
        player = Player(rig, None)
        texts = [
            self.CUT,
            self.CUT.replace("turn left 60 deg", "turn left 75 deg"),
            "# a line more\n" + self.CUT.replace("far 20 cm", "far 25 cm"),
            self.CUT.replace("wait 0.2 s", "wait 0.3 s"),
            self.CUT.replace("do hop\n", "do hop\nwait 0.5 s\n", 1),
            self.CUT.replace("start at 0 m, 0 m", "start at 1 m, 0.5 m"),
            self.CUT + "wait 1 s\n",
        ]
        for text in texts:
            went_on, fresh = player.play(program(text, rig)), play(program(text, rig), rig, None)
            assert went_on is not None
            self.assertEqual(went_on.rows.tobytes(), fresh.rows.tobytes(), text)
            self.assertEqual([(s.line, s.text, s.begin, s.end, s.marks) for s in went_on.steps],
                             [(s.line, s.text, s.begin, s.end, s.marks) for s in fresh.steps])  # fmt: skip

    def test_a_late_change_is_played_from_late_on(self) -> None:
        rig = ideal("plover")
        player, steps, kept = Player(rig, None), 0, Drives.kept

        def counted(drives: Drives, i: int) -> tuple[Floats, Floats]:
            nonlocal steps
            rows, estimated = kept(drives, i)
            steps += len(rows)
            return rows, estimated

        text = "start at 0 m, 0 m\nrepeat 4 times\n    drive ahead 30 cm\n    turn left 90 deg\n"
        with patch.object(Drives, "kept", counted):
            player.play(program(text + "wait 1 s", rig))
            whole, steps = steps, 0
            player.play(program(text + "wait 2 s", rig))
        self.assertLess(steps, whole / 3)

    def test_the_clock_and_giving_up(self) -> None:
        rig = ideal("plover")
        player = Player(rig, None)
        self.assertIsNone(player.play(program("wait 20 s", rig), given_up=lambda: True))
        made = player.play(program("wait 20 s", rig))
        assert made is not None
        self.assertEqual(made.ended, "finished")
        self.assertLess(abs(made.time_s - 20), 0.05)
