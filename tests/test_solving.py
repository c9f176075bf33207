"""Numbers that are looked for: found where geometry says that they lie, written as they stood, and as sure as is said."""

import json
import os
import unittest
from math import cos, radians, sin, sqrt
from pathlib import Path

from pivrex.errors import PivrexError
from pivrex.rig import Rig, read_rig
from pivrex.routine import check_text, play
from pivrex.routine.goals import GOALS, read_goal
from pivrex.routine.kinds import ANGLE, LENGTH, NUMBER, SPEED, TIME
from pivrex.routine.numbers import numbers_in, replaced
from pivrex.routine.solving import Solved, solve
from tests.chassis import demo_path, ideal
from tests.support import DEMO, TempCase
from tests.test_cli import Ran

START = "start at 0 m, 0 m\n"


def found(text: str, goal: str, rig: Rig, line: int = 2, number: int = 0) -> Solved:
    made = solve(text, numbers_in(text, line)[number], read_goal(goal, tuple(rig.attachments)), rig, None)
    assert made is not None
    return made


class NumbersTest(unittest.TestCase):
    def test_where_they_stand_and_what_they_measure(self) -> None:
        row = "  drive back 0.8 m at 40 % at most 2.5 wheel turns # 7 m"
        each = numbers_in(row, 1)
        self.assertEqual([n.text for n in each], ["0.8 m", "40 %", "2.5 wheel turns"])
        self.assertEqual([(n.value, n.kind) for n in each[:2]], [(0.8, LENGTH), (0.4, NUMBER)])
        self.assertEqual([row[n.begin : n.end] for n in each], [n.text for n in each])
        self.assertEqual(numbers_in(row, 2), [])
        self.assertEqual([n.text for n in numbers_in('do pour3 with a7 2 s, "x 4 m" 1 s', 1)], ["2 s", "1 s"])

    def test_signs(self) -> None:
        for row, texts in (
            ("turn to -90 deg", ["-90 deg"]), ("let a be b - 3 cm", ["3 cm"]), ("let a be 2 m - 3 cm", ["2 m", "3 cm"]),
            ("wheels left 40 %, right -40 %", ["40 %", "-40 %"]), ("let a be (b) - 1", ["1"]), ("let a be 2 * -3 cm", ["2", "-3 cm"]),
            ("run roller at -30 % for 2 s", ["-30 %", "2 s"]),
        ):  # fmt: skip
            self.assertEqual([n.text for n in numbers_in(row, 1)], texts)

    def test_another_value_in_the_same_unit(self) -> None:
        text = "drive ahead 35cm at 40 %\nwait 600 ms\nturn to -90 deg"
        by = {n.text: n for line in (1, 2, 3) for n in numbers_in(text, line)}
        self.assertEqual(replaced(text, by["35cm"], 0.4204), text.replace("35cm", "42cm"))
        self.assertEqual(replaced(text, by["35cm"], 0.4268), text.replace("35cm", "42.7cm"))
        self.assertEqual(replaced(text, by["40 %"], 0.5123), text.replace("40 %", "51.2 %"))
        self.assertEqual(replaced(text, by["600 ms"], 0.75), text.replace("600 ms", "750 ms"))
        self.assertEqual(replaced(text, by["-90 deg"], radians(12.5)), text.replace("-90 deg", "12.5 deg"))


class GoalsTest(unittest.TestCase):
    def test_each_example_is_read_and_said_again(self) -> None:
        for _, _, example in GOALS:
            goal = read_goal(example, ("boom",))
            self.assertEqual(read_goal(goal.said, ("boom",)), goal)
        self.assertEqual([round(v, 9) for v in read_goal("at last at 17 cm,  2 ft", ()).values], [0.17, 0.6096])
        self.assertTrue(read_goal("at last facing -90 deg", ()).last)

    def test_what_says_nothing(self) -> None:
        for text, says in (
            ("", "is no result"), ("at 1 m", "a place is at X, Y"), ("facing 1 m", "1 m stands where an angle"),
            ("at 1 m, 2 s", "2 s stands where a length"), ("arm there", '"arm" is no attachment that arrives anywhere; there are: boom'),
            ("at last", "last stands where a length"), ("turned", "nothing stands where an angle"),
        ):  # fmt: skip
            with self.assertRaises(PivrexError) as caught:
                read_goal(text, ("boom",))
            self.assertIn(says, str(caught.exception))


class SolveTest(unittest.TestCase):
    """On the perfect simulated robot the answers are those of geometry."""

    def setUp(self) -> None:
        self.plover = ideal("plover")

    def test_a_place(self) -> None:
        text = START + "drive ahead 1 m\nturn left 40 deg\ndrive ahead 80 cm"
        made = found(
            text, f"at last at {1 + 0.8 * cos(radians(55)):.4f} m, {0.8 * sin(radians(55)):.4f} m", self.plover, 3
        )
        self.assertTrue(made.found, made.said)
        self.assertAlmostEqual(made.value, radians(55), delta=radians(0.3))
        self.assertEqual(made.number.kind, ANGLE)
        self.assertLess(made.off, 0.005)
        self.assertEqual(made.text, text.replace("40 deg", made.written))

    def test_a_length_behind_a_bend(self) -> None:
        text = START + "bend left 90 deg with radius 0.3 m\ndrive ahead 20 cm"
        made = found(text, "at 0.3 m, 0.75 m", self.plover, 3)
        self.assertAlmostEqual(made.value, 0.45, delta=0.004)

    def test_facing_and_turned(self) -> None:
        self.assertAlmostEqual(
            found(START + "turn right 10 deg", "facing -77 deg", self.plover).value, radians(77), delta=radians(0.2)
        )
        made = found(START + "turn left for 1 s at 90 deg/s", "turned 180 deg", self.plover)
        rise = self.plover.correction.turn_acceleration_rad_s2 if self.plover.correction is not None else 0.0
        # a trapezoid of top w and slope a turns w·(T - w/a)
        w = radians(90)
        self.assertAlmostEqual(made.value, radians(180) / w + w / rise, delta=0.04)
        self.assertEqual(made.number.kind, TIME)

    def test_how_long_for_one_metre(self) -> None:
        made = found(START + "drive ahead for 1 s at 0.5 m/s", "driven 1 m", self.plover)
        rise = self.plover.correction.drive_acceleration_m_s2 if self.plover.correction is not None else 0.0
        self.assertAlmostEqual(made.value, 1 / 0.5 + 0.5 / rise, delta=0.05)

    def test_wheel_shares(self) -> None:
        made = found(START + "wheels left 20 %, right -20 % for 1 s", "turned 90 deg", self.plover, number=2)
        self.assertTrue(made.found)
        # both sides at a fifth of the full rate of turn, less the lag at the beginning
        self.assertAlmostEqual(
            made.value, radians(90) / (0.2 * self.plover.full_turn_rad_s), delta=2.5 * self.plover.lag_s
        )

    def test_an_attachment_in_time(self) -> None:
        coot = ideal("coot")
        made = found(START + "move boom to 80 deg\ndrive ahead 1.5 m at 1.06 m/s", "boom there", coot, 3)
        self.assertTrue(made.found)
        # as short a way as gives the boom the time that it needs: within a tenth of a second
        self.assertLess(-0.1, made.off)
        self.assertLessEqual(made.off, 0)
        self.assertLess(made.value, 1.5)
        with self.assertRaisesRegex(PivrexError, "sent nowhere"):
            found(START + "drive ahead 1 m", "boom there", coot)

    def test_as_fast_as_it_holds_the_floor(self) -> None:
        rig, grip = read_rig(demo_path("plover")), 0.3
        assert rig.body is not None
        slippery = rig.model_copy(update={"body": rig.body.model_copy(update={"grip": grip})})
        text = START + "bend left 180 deg with radius 0.3 m at 0.2 m/s"
        made = found(text, "fastest", slippery, number=2)
        self.assertEqual(made.number.kind, SPEED)
        # v² = mu·g·r holds a bend, at most; where it starts and stops it slides sooner
        self.assertLess(made.value, sqrt(grip * 9.81 * 0.3))
        self.assertGreater(made.value, 0.05)
        for by, slides in ((0.9, False), (1.15, True)):
            program = check_text(replaced(text, made.number, made.value * by), slippery).program
            assert program is not None
            self.assertEqual("slipped" in play(program, slippery, None).steps[0].marks, slides, by)
        with self.assertRaisesRegex(PivrexError, "is no speed"):
            found(START + "drive ahead 1 m", "fastest", slippery)

    def test_what_one_number_cannot_bring(self) -> None:
        made = found(START + "drive ahead 1 m", "at 0.5 m, 0.4 m", self.plover)
        self.assertFalse(made.found)
        self.assertAlmostEqual(made.value, 0.5, delta=0.01)  # as near as a straight line comes
        self.assertAlmostEqual(made.off, 0.4, delta=0.01)
        self.assertIn("still 0.40 m off", made.said)

    def test_a_line_that_is_not_come_to(self) -> None:
        with self.assertRaisesRegex(PivrexError, "does not come to line 3: it has finished before"):
            found(START + "stop\ndrive ahead 1 m", "driven 2 m", self.plover, 3)

    def test_given_up(self) -> None:
        text = START + "drive ahead 1 m"
        self.assertIsNone(
            solve(text, numbers_in(text, 2)[0], read_goal("driven 2 m"), self.plover, None, tell=lambda _: False)
        )

    def test_how_sure_on_a_real_body(self) -> None:
        rig = read_rig(demo_path("plover"))
        sure = found(START + "turn left 170 deg", "turned 180 deg", rig)
        # the gyro turns it; raw wheels turn it as their strength says
        unsure = found(START + "wheels left -40 %, right 40 % for 0.7 s", "turned 180 deg", rig, number=2)
        self.assertGreaterEqual(sure.share, 0.95)
        self.assertLess(unsure.share, 0.7)
        self.assertGreater(unsure.sigma, 0.005)
        self.assertIn("drives are near enough", unsure.said)


class CommandTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.addCleanup(os.chdir, Path.cwd())
        os.chdir(self.demo())

    def test_found_and_written(self) -> None:
        path = self.folder / "r.txt"
        path.write_bytes(b"for plover\r\nstart at 1 m, 2 m\r\nturn left 10 deg\r\n")
        ran = Ran("solve", str(path), "--line", "3", "--for", "facing 45 deg", "--rig", "plover", "--write", "--json")
        self.assertEqual(ran.code, 0, ran.err)
        told = json.loads(ran.out)
        self.assertTrue(told["found"] and told["written"])
        self.assertAlmostEqual(told["value_si"], radians(45), delta=0.01)
        self.assertEqual(
            path.read_bytes(), b"for plover\r\nstart at 1 m, 2 m\r\nturn left %s\r\n" % told["value"].encode()
        )

    def test_what_is_wrong(self) -> None:
        for words, says in (
            (("practice", "--line", "1", "--for", "fastest"), "practice.txt:1: no numbers on this line"),
            (("practice", "--line", "5", "--number", "3", "--for", "fastest"), "practice.txt:5: 1 number on this line"),
            (("practice", "--line", "5", "--for", "up"), "is no result"),
            (("mistakes", "--line", "5", "--for", "fastest"), "routines/mistakes.txt:5: column 7: "),
            (("--for", "fastest"), "say which ROUTINE"),
            (("practice", "--text", "wait 1 s", "--for", "fastest"), "say which ROUTINE"),
        ):  # fmt: skip
            ran = Ran("solve", *words)
            self.assertNotEqual(ran.code, 0)
            self.assertIn(says, ran.err)

    def test_one_line_says_how_long_a_turn_takes(self) -> None:
        told = json.loads(Ran("solve", "--text", "wheels left -30 %, right 30 % for 1 s", "--number", "3", "--for", "turned 180 deg",
                              "--rig", "plover", "--json").out)  # fmt: skip
        self.assertEqual((told["found"], told["number"]), (True, "1 s"))
        self.assertTrue((DEMO / "routines").is_dir())
