"""Help for the driver while a button is held: headings, places, lines and poses; the stick always wins."""

import unittest
from math import cos, degrees, hypot, pi, radians, sin

import numpy as np
from numpy.typing import NDArray

from pivrex.errors import UnitError
from pivrex.line import Line, LineState
from pivrex.line.beginning import begun, known_at
from pivrex.line.why import ladder, sentence
from pivrex.rig import Rig
from pivrex.rig.actions import FACE, LINE, POSE, SNAP, read_action
from pivrex.rig.bindings import Binding
from pivrex.sim.model import simulator_of
from tests.chassis import ideal

Floats = NDArray[np.float64]
BUTTON = "button_9"


def helping(name: str, does: str) -> Rig:
    rig = ideal(name)
    bindings = tuple(b for b in rig.bindings if b.channel != BUTTON)
    return rig.model_copy(update={"bindings": (*bindings, Binding.model_validate({"channel": BUTTON, "does": does}))})


class Driven:
    """A robot on an open floor whose driver holds the button, and sticks."""

    def __init__(self, rig: Rig, start: tuple[float, float, float]) -> None:
        self.line, self.model = Line(rig), simulator_of(rig, None)
        self.robot = self.model.placed(self.model.start(), np.array(start))
        self.state: LineState = begun(self.line, np.array(start))
        self.row: Floats = np.zeros(len(self.line.layout))
        self.go(0.05, held=False)

    def go(self, seconds: float, held: bool = True, **sticks: float) -> Floats:
        """Drive on; gives the Ticks."""
        raw = self.line.rest().copy()
        if held:
            raw[self.line.channels.index(BUTTON)] = 1.0
        for function, value in sticks.items():
            raw[self.line.functions.index(function)] = value
        rows = []
        for _ in range(round(seconds / self.line.dt_s)):
            self.state, self.row = self.line.step(
                self.state, raw, self.model.sense(self.robot), 0.0, 0.0, self.model.truth(self.robot)
            )
            rows.append(self.row)
            self.robot = self.model.step(self.robot, self.line.commands(self.row), self.line.dt_s)
        return np.array(rows)

    def get(self, stage: str, name: str) -> float:
        return float(self.row[self.line.layout.at(stage, name)])

    @property
    def pose(self) -> tuple[float, float, float]:
        return self.get("truth", "x"), self.get("truth", "y"), self.get("truth", "heading")

    def carried(self, x: float, y: float, heading: float) -> None:
        """Stand somewhere else, and know it."""
        pose = np.array([x, y, heading])
        self.robot = self.model.placed(self.robot, pose)
        self.state = known_at(self.line, self.state, pose)


def wrapped(angle: float) -> float:
    return (angle + pi) % (2 * pi) - pi


class WordsTest(unittest.TestCase):
    def test_what_can_be_said(self) -> None:
        for text, kind, numbers in (
            ("snap every 45 deg", SNAP, (radians(45),)),
            ("snap to 0 deg, 120 deg", SNAP, (0.0, 0.0, radians(120))),
            ("face 2.65 m, 1.98 m", FACE, (2.65, 1.98)),
            ("keep the line", LINE, ()),
            ("drive to 1.2 m, 80 cm", POSE, (1.2, 0.8)),
            ("drive to 1.2 m, 80 cm facing 90 deg", POSE, (1.2, 0.8, radians(90))),
        ):
            action = read_action(text, (), ("all",))
            self.assertEqual((action.verb, action.target), ("help", kind))
            np.testing.assert_allclose(action.numbers, numbers)
            self.assertTrue(action.lasts)

    def test_what_cannot(self) -> None:
        for text, why in (
            ("snap every 0 deg", "must lie above 0 deg"),
            ("snap every 3 m", "not one of deg, rad"),
            ("face 2.65 m", "such as face"),
            ("face 1 m, 2 m facing 3 deg", "such as face"),
            ("keep the line 3", "nothing may stand behind"),
            ("drive to 1 m, 2 m, 3 m", "such as drive to"),
            ("drive too 1 m, 2 m", "did you mean"),
        ):
            with self.assertRaisesRegex(UnitError, why):
                read_action(text, (), ("all",))


class SnapTest(unittest.TestCase):
    def test_to_the_nearest_of_many_and_of_some(self) -> None:
        for does, start, ends in (
            ("snap every 45 deg", 30, 45),
            ("snap every 45 deg", 20, 0),
            ("snap every 90 deg", -100, -90),
            ("snap to 0 deg, 120 deg", 70, 120),
            ("snap to 0 deg, 120 deg", -110, 0),
        ):
            for name in ("plover", "bittern", "avocet"):
                d = Driven(helping(name, does), (0.0, 0.0, radians(start)))
                d.go(3.0)
                self.assertAlmostEqual(
                    degrees(wrapped(d.pose[2] - radians(ends))), 0.0, delta=1.0, msg=f"{does} {name}"
                )
                self.assertLess(hypot(*d.pose[:2]), 0.02)

    def test_it_keeps_it_while_driving_and_the_stick_wins(self) -> None:
        d = Driven(helping("plover", "snap every 90 deg"), (0.0, 0.0, radians(20)))
        d.go(3.0, forward=-0.5)
        self.assertAlmostEqual(degrees(d.pose[2]), 0.0, delta=0.6)
        self.assertGreater(abs(d.pose[0]), 0.5)
        before = d.pose[2]
        free = Driven(helping("plover", "snap every 90 deg"), (0.0, 0.0, before))
        rows = d.go(0.5, turn=0.8)
        others = free.go(0.5, held=False, turn=0.8)
        at = d.line.layout.at("helping", "turn")
        np.testing.assert_allclose(rows[5:, at], others[5:, at], atol=1e-9)

    def test_let_go_nothing_is_left_of_it(self) -> None:
        d = Driven(helping("plover", "snap every 90 deg"), (0.0, 0.0, radians(30)))
        d.go(0.2)
        rows = d.go(0.5, held=False)
        self.assertEqual(np.abs(rows[:, d.line.layout.at("helping", "turn")]).max(), 0.0)


class FaceTest(unittest.TestCase):
    def test_it_looks_at_the_place_while_it_crosses_the_floor(self) -> None:
        for name in ("bittern", "avocet"):
            rig = helping(name, "face 1 m, 1.5 m")
            d = Driven(rig, (0.0, 0.0, 0.5))
            d.go(2.0)
            rows = d.go(3.0, forward=-0.35)
            layout = d.line.layout
            x, y, heading = (rows[30:, layout.at("truth", n)] for n in ("x", "y", "heading"))
            off = np.degrees(np.abs((np.arctan2(1.5 - y, 1.0 - x) - heading + pi) % (2 * pi) - pi))
            near = np.hypot(1.5 - y, 1.0 - x) > 0.4
            self.assertLess(off[near].max(), 6.0, name)

    def test_a_two_sided_one_turns_to_it(self) -> None:
        d = Driven(helping("plover", "face 1 m, -1 m"), (0.0, 0.0, 0.5))
        d.go(2.0)
        self.assertAlmostEqual(degrees(d.pose[2]), -45.0, delta=0.6)


class LineTest(unittest.TestCase):
    def test_pushed_aside_it_comes_back_onto_its_line(self) -> None:
        for name in ("plover", "bittern", "avocet"):
            way = 0.4 if name == "plover" else 0.0  # theirs is the field's forward
            rig = helping(name, "keep the line")
            # a gyro would feel that it is carried
            by_wheels = rig.odometry.model_copy(update={"turn": "wheels"})
            d = Driven(rig.model_copy(update={"odometry": by_wheels}), (0.0, 0.0, way))
            d.go(0.6, forward=-0.5)
            x, y, _ = d.pose
            d.carried(x - 0.1 * sin(way), y + 0.1 * cos(way), way + radians(8))
            d.go(4.0, forward=-0.5)
            x, y, heading = d.pose
            self.assertLess(abs(-sin(way) * x + cos(way) * y), 0.02, name)
            self.assertAlmostEqual(degrees(wrapped(heading - way)), 0.0, delta=6.0, msg=name)
            self.assertGreater(abs(cos(way) * x + sin(way) * y), 0.8, name)

    def test_what_the_driver_asks_for_across_it_is_done(self) -> None:
        d = Driven(helping("bittern", "keep the line"), (0.0, 0.0, 0.0))
        d.go(0.3)
        d.go(1.0, sideways=-0.5)
        self.assertGreater(abs(d.pose[1]), 0.15)


class PoseTest(unittest.TestCase):
    def test_driven_to_while_it_is_held(self) -> None:
        for name in ("plover", "coot", "bittern", "dunlin", "avocet"):
            d = Driven(helping(name, "drive to 1.2 m, 0.8 m facing 90 deg"), (0.0, 0.0, 0.0))
            d.go(9.0)
            x, y, heading = d.pose
            self.assertLess(hypot(x - 1.2, y - 0.8), 0.035, name)
            self.assertAlmostEqual(degrees(heading), 90.0, delta=1.0, msg=name)

    def test_let_go_or_steered_otherwise_it_does_not(self) -> None:
        d = Driven(helping("bittern", "drive to 1.2 m, 0.8 m"), (0.0, 0.0, 0.0))
        d.go(0.5)
        self.assertGreater(d.get("helping", "forward"), 0.1)
        rows = d.go(0.3, forward=0.5)
        at = d.line.layout.these("helping", ("forward", "left", "turn"))
        before = d.line.layout.these("frame", ("forward", "left", "turn"))
        np.testing.assert_array_equal(rows[5:, at], rows[5:, before])


class WhyTest(unittest.TestCase):
    def test_it_is_told_with_its_numbers(self) -> None:
        d = Driven(helping("bittern", "drive to 1.2 m, 0.8 m"), (0.0, 0.0, 0.0))
        d.go(0.5)
        away = d.get("helping", "distance")
        self.assertIn(f"drives to 1.20 m, 0.80 m, {away:.2f} m away: forward {d.get('helping', 'forward'):+.2f}",
                      sentence(d.line, d.row, "front left"))  # fmt: skip
        rung = next(r for r in ladder(d.line, d.row, "front left") if r.stage == "help")
        self.assertIn(f"{away:.2f} m away →", rung.text)
        self.assertAlmostEqual(away, hypot(1.2 - d.get("odometry", "x"), 0.8 - d.get("odometry", "y")), places=2)
        for does, said in (("snap every 90 deg", "snaps to 0 deg"), ("face 1 m, 1 m", "faces 1.00 m, 1.00 m")):
            d = Driven(helping("plover", does), (0.0, 0.0, 0.3))
            d.go(0.1)
            self.assertIn(said, sentence(d.line, d.row, "left"))

    def test_a_rig_without_it_has_no_such_stage(self) -> None:
        self.assertNotIn("helping", Line(ideal("plover")).stages)

    def test_many_at_once_are_each_as_one_alone(self) -> None:
        for does in ("snap every 45 deg", "face 1 m, 1 m", "keep the line", "drive to 1 m, 1 m facing 0 deg"):
            for name in ("plover", "avocet"):
                rig = helping(name, does)
                line, model = Line(rig), simulator_of(rig, None)
                poses = np.array([(0.0, 0.0, 0.3), (0.5, 0.2, -1.0)])
                raws = np.stack([line.rest(), line.rest()])
                raws[:, line.channels.index(BUTTON)] = (1.0, 0.0)
                robots = model.placed(model.start((2,), np.arange(2, dtype=np.uint64)), poses)
                state = begun(line, poses, (2,))
                one, alone = begun(line, poses[0]), model.placed(model.start((), np.array(0, np.uint64)), poses[0])
                for n in range(40):
                    pressed = raws * (n > 2) + line.rest() * (n <= 2)
                    state, rows = line.step(state, pressed, model.sense(robots), 0.0, 0.0, model.truth(robots))
                    one, row = line.step(one, pressed[0], model.sense(alone), 0.0, 0.0, model.truth(alone))
                    robots, alone = (
                        model.step(robots, line.commands(rows), line.dt_s),
                        model.step(alone, line.commands(row), line.dt_s),
                    )
                np.testing.assert_array_equal(rows[0], row)
                self.assertEqual(rows[1, line.layout.at("helping", "which")], 0)
                self.assertGreater(rows[0, line.layout.at("helping", "which")], 0)
                self.assertTrue(np.isfinite(rows[:, line.layout.these("helping", ("forward", "left", "turn"))]).all())
