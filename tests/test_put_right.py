"""What the line and its figures once got wrong, each with the number that is right, worked by hand next to it."""

import json
import math
import unittest
from pathlib import Path
from unittest.mock import patch

import numpy as np
from numpy.typing import NDArray

from pivrex.errors import MotionError, RigError
from pivrex.export.curve import write_curve
from pivrex.export.wiring import wiring_rows
from pivrex.line import Line
from pivrex.line.kinematics import kinematics_of
from pivrex.line.questions.ask import ask_wheels, can_do
from pivrex.line.questions.envelope import Envelope
from pivrex.line.questions.figures import travel_for
from pivrex.line.se2 import move
from pivrex.rig import Rig, read_rig, read_text
from pivrex.rig.plane import TurningPoint
from pivrex.scene import marks
from tests.chassis import DEG45, MECANUM, PLANAR, STEERED, Wheel, demo_path, rig_of
from tests.support import TempCase
from tests.test_cli import Ran

Floats = NDArray[np.float64]
TWO: list[Wheel] = [(0.0, 0.25, 0.0, None, False), (0.0, -0.25, 0.0, None, False)]
PLAIN_LAW = '[shaping]\n[shaping.forward]\ndead_band = 0\n[shaping.turn]\ndead_band = 0\n[law]\nkind = "arcade"\n'


class Ticks:
    """A line, ticked with readings by channel after one tick at rest; sensors say what the test says."""

    def __init__(self, rig: Rig) -> None:
        self.line, self.state = Line(rig), Line(rig).start()
        self.sensed = np.zeros(len(self.line.stages["sensed"].columns))
        if self.line.layout.has("sensed", "up"):
            self.sense("up", 1.0)
        self.go()

    def sense(self, name: str, value: float) -> None:
        self.sensed[self.line.layout.at("sensed", name) - self.line.layout.stage("sensed").start] = value

    def go(self, ticks: int = 1, **held: float) -> "Ticks":
        return self.hold(held, ticks)

    def hold(self, held: dict[str, float], ticks: int = 1) -> "Ticks":
        raw = self.line.rest()
        for channel, value in held.items():
            raw[self.line.channels.index(channel)] = value
        for _ in range(ticks):
            self.state, self.row = self.line.step(self.state, raw, self.sensed)
        return self

    def level(self, index: float) -> "Ticks":
        self.state = self.line.choose_level(self.state, 99 if index > 0 else -99)
        return self

    def get(self, stage: str, name: str) -> float:
        return float(self.row[self.line.layout.at(stage, name)])


def changed(name: str, *changes: tuple[str, str]) -> Rig:
    text = demo_path(name).read_text("utf-8")
    for old, new in changes:
        assert old in text, old
        text = text.replace(old, new)
    return read_text(text, demo_path(name), Rig)


def mistakes(text: list[Wheel], extra: str) -> str:
    try:
        rig_of(text, extra)
    except RigError as problem:
        return "\n".join(str(m) for m in problem.mistakes)
    return ""


class FollowingTest(unittest.TestCase):
    """An attachment that follows a stick is calibrated as the driving axes are."""

    ARM = '[attachments.arm]\nkind = "motor"\noutput = { kind = "fraction" }\n'

    def share(self, channel: str, axis: str, raw: float) -> float:
        bound = f'[[bindings]]\nchannel = "{channel}"\ndoes = "arm follows"\ndead_band = 0\n'
        t = Ticks(rig_of(TWO, f"{self.ARM}{bound}[axes.{channel}]\n{axis}\n"))
        return t.hold({channel: raw}).get("bindings", "arm_share")

    def test_a_trigger(self) -> None:
        # 0.02 at rest, 0.98 pressed: nothing and all; it once gave +1 and -1
        axis = "minimum = 0.02\nmaximum = 0.98"
        self.assertEqual(self.share("right_trigger", axis, 0.02), 0.0)
        self.assertEqual(self.share("right_trigger", axis, 0.98), 1.0)
        self.assertAlmostEqual(self.share("right_trigger", axis, 0.5), 0.5)

    def test_a_stick_of_ten_bits(self) -> None:
        axis = "minimum = 0\ncentre = [490, 535]\nmaximum = 1023"
        self.assertEqual(self.share("right_y", axis, 512), 0.0)  # once 0.457
        self.assertAlmostEqual(self.share("right_y", axis, 245), 0.5)  # away is +, half of 490
        self.assertAlmostEqual(self.share("right_y", axis, 779), -0.5)  # half of 488 beyond 535

    def test_an_uneven_stick_uses_both_halves(self) -> None:
        axis = "minimum = -0.6\ncentre = [0, 0]\nmaximum = 1"
        self.assertAlmostEqual(self.share("right_y", axis, -0.6), 1.0)
        self.assertAlmostEqual(self.share("right_y", axis, 0.5), -0.5)


class TurningPointTest(unittest.TestCase):
    def rig(self, first: str) -> Rig:
        text = demo_path("bittern").read_text("utf-8")
        body = read_text(text, demo_path("bittern"), Rig)
        plane = body.plane.model_copy(
            update={
                "points": (TurningPoint.model_validate({"name": "tip", "x": "320 mm", "y": "0 mm"}),),
                "frame": "robot",
            }
        )
        return body.model_copy(update={"plane": plane, "limits": body.limits.model_copy(update={"first": first})})

    def left_and_turn(self, first: str) -> tuple[float, float]:
        t = Ticks(self.rig(first)).level(1)
        frame = t.line.of(t.state, "frame")
        t.state = t.line.changed(t.state, "frame", frame._replace(point=np.array(1.0), field=np.array(0.0)))
        t.go(120, right_x=-1.0)
        return t.get("motion", "left"), t.get("motion", "turn")

    def test_the_point_stands_whatever_gives_way(self) -> None:
        for first in ("both", "turning", "moving"):
            left, turn = self.left_and_turn(first)
            # the tip 0.32 m ahead stands: the centre goes right at 0.32 m/s for each rad/s
            self.assertAlmostEqual(left + 0.32 * turn, 0.0, places=9, msg=first)
            self.assertAlmostEqual(left, -0.759, places=3, msg=first)  # once -1.257 with turning first
            self.assertAlmostEqual(turn, 2.37, places=2, msg=first)

    def test_on_its_back_the_corner_stands_too(self) -> None:
        plane = '[plane]\n[[plane.points]]\nname = "corner"\nx = "0.2 m"\ny = "0.2 m"\n[upside_down]\n'
        t = Ticks(rig_of(MECANUM, PLANAR + plane))
        t.sense("up", -1.0)
        frame = t.line.of(t.state, "frame")
        t.state = t.line.changed(t.state, "frame", frame._replace(point=np.array(1.0)))
        t.go(right_x=-0.3)
        forward, left, turn = (t.get("frame", n) for n in ("forward", "left", "turn"))
        # seen from above the corner at the body's left is at its right now: x 0.2, y -0.2
        self.assertGreater(turn, 0.1)
        self.assertAlmostEqual(forward - turn * -0.2, 0.0, places=12)  # once 0.4 m/s for each rad/s
        self.assertAlmostEqual(left + turn * 0.2, 0.0, places=12)


class StraightTest(unittest.TestCase):
    """At the limits the path keeps its direction: what is counted in is the turn that is given."""

    def aside_deg(self, name: str, sticks: dict[str, float]) -> float:
        """A body that does at once what the limits leave, driven for a second; how far its path points aside."""
        rig = read_rig(demo_path(name))
        rig = rig.model_copy(update={"plane": rig.plane.model_copy(update={"frame": "field", "lead_s": 0.0})})
        t = Ticks(rig).level(1)
        pose, angle, dt = np.zeros(3), 0.0, rig.dt_s
        given = t.line.layout.these("motion", ("forward", "left", "turn"))
        path = []
        for k in range(150):
            t.sense("gyro", pose[2])
            if name == "avocet":  # its wheels are where they should point
                for wheel in ("front left", "front right", "rear left", "rear right"):
                    at = wheel.replace(" ", "_")
                    target = t.get("steering", f"{at}_target")
                    t.sense(
                        f"{at}_turned",
                        target - float(t.line.of(t.state, "pointing").zero[list(rig.steered).index(wheel)]),
                    )
            t.hold(sticks)
            pose = move(pose, t.row[given] * dt)
            if k >= 90:
                path.append(pose)
        way = path[-1][:2] - path[0][:2]
        asked = t.get("law", "left"), t.get("law", "forward")
        angle = math.degrees(math.atan2(way[1], way[0]) - math.atan2(*asked))
        return abs((angle + 180) % 360 - 180)

    def test_both_sticks_full(self) -> None:
        sticks = {"left_y": -1.0, "right_x": -1.0}
        for name, once in (("bittern", 10.7), ("dunlin", 17.8)):
            lost = self.aside_deg(name, sticks)
            self.assertLess(lost, 0.2, f"{name}, once up to {once} deg")
            self.assertLess(self.aside_deg(name, {"left_x": -0.8, "left_y": -0.8, "right_x": 1.0}), 0.2)


class CalibrationTest(unittest.TestCase):
    def test_a_trigger_begins_at_rest(self) -> None:
        rig = rig_of(TWO, '[axes.right_trigger]\nmaximum = 0.98\n[law]\nkind = "triggers"\n')
        t = Ticks(rig).go(right_trigger=0.0)
        self.assertEqual(t.get("axes", "ahead"), 0.0)  # once 0.505
        self.assertAlmostEqual(t.go(right_trigger=0.49).get("axes", "ahead"), 0.5)

    def test_rest_that_is_not_rest_is_a_mistake(self) -> None:
        said = mistakes(TWO, "[axes.right_trigger]\nminimum = -1\nmaximum = 0.98\n")
        # (0 + 1)/1.98 = 0.505
        self.assertIn("axes.right_trigger.minimum: is -1, but a trigger rests at 0, which would read 0.51", said)
        self.assertEqual(mistakes(TWO, "[axes.right_trigger]\nminimum = 0.02\nmaximum = 0.98\n"), "")

    def test_clipping_leaves_nothing_to_come_first(self) -> None:
        said = mistakes(TWO, '[limits]\nfit = "clip"\nfirst = "turning"\n')
        self.assertIn('limits.first: is "turning", but fit = "clip" cuts each wheel by itself', said)


class BackTest(unittest.TestCase):
    def test_a_plain_wheel_at_45_degrees_scrubs_on_its_back(self) -> None:
        steered = rig_of(STEERED, PLANAR).chassis
        plain = steered.wheels[0].model_copy(
            update={"name": "p", "x_m": 0.0, "y_m": 0.0, "drive_rad": DEG45, "steered": False}
        )
        chassis = steered.model_copy(update={"wheels": (*steered.wheels, plain)})
        twist = np.array([0.1, 0.1, 0.0])
        # pointing front left on its wheels it points front right on its back: going front left at 0.1·√2 drags it whole
        self.assertAlmostEqual(float(np.abs(chassis.geometry.slip @ twist).max()), 0.0)
        upside_down = kinematics_of(chassis, upside_down=True)
        moving = np.linalg.pinv(upside_down.forward) @ twist  # wheels that move the robot so
        self.assertAlmostEqual(float(np.abs(upside_down.slide @ moving).max()), 0.141, places=3)


class FiguresTest(TempCase):
    def test_travel_of_omni_wheels_beside_a_steered_one(self) -> None:
        wheels: list[Wheel] = [
            (0.1 * math.cos(a), 0.1 * math.sin(a), a + math.pi / 2, 0.0, False)
            for a in map(math.radians, (30.0, 210.0, 330.0))
        ]
        rig = rig_of([*wheels, (-0.05, 0.05, 0.0, None, True)], PLANAR)
        # each rolls its own way round the centre: 0.1 m · 90 deg = 157.1 mm, also the one at 210 deg
        np.testing.assert_allclose(travel_for(rig, math.pi / 2)[:3] * 1000, 157.08, atol=0.01)

    def test_wheels_gives_way_as_the_line_does(self) -> None:
        answer = json.loads(
            Ran("wheels", str(demo_path("bittern")), "--forward", "1.1", "--left", "0", "--turn", "300", "--json").out
        )
        self.assertAlmostEqual(answer["twist"]["forward_m_s"], 1.1, places=6)  # once 0.628 m/s and 171 deg/s
        self.assertAlmostEqual(answer["twist"]["turn_deg_s"], 43.0, delta=0.5)
        self.assertTrue(answer["limited"])

    def test_the_curve_of_sideways_ends_at_its_own_full_speed(self) -> None:
        rig = read_rig(demo_path("dunlin"))
        full = rig.full_left_m_s * rig.speed_levels.levels[rig.speed_levels.start_index].moving
        self.assertAlmostEqual(full, 0.592, places=3)  # once 0.684, which is forward's
        sampled: list[Floats] = []
        with patch(
            "pivrex.export.curve.save_pages",
            lambda pages, _: sampled.extend(m.points[:, 1] for m in pages[0].scenes[0][0].marks if getattr(m, "role", "") == "commanded"
                                          and isinstance(m, marks.Line)),
        ):  # fmt: skip
            write_curve(rig, Path("x.svg"), "sideways")
        self.assertAlmostEqual(float(sampled[0][-1]), full)

    def test_the_envelope_of_a_plain_wheel_and_a_steered_one(self) -> None:
        rig = rig_of([(0.0, 0.0, 0.0, None, False), (0.3, 0.0, 0.0, None, True)])
        edge = Envelope(rig).speed_and_turn()
        self.assertGreater(len(edge), 20)
        # the plain wheel allows |v| ≤ 1, the steered one hypot(v, 0.3·ω) ≤ 1, which is less everywhere
        np.testing.assert_allclose(np.hypot(edge[:, 0], 0.3 * edge[:, 1]), 1.0, atol=1e-9)

    def test_a_wiring_has_every_motor_and_attachment(self) -> None:
        motors = {row[0] for row in wiring_rows(read_rig(demo_path("avocet")))}
        self.assertEqual(len(motors), 8 + 3)
        self.assertIn("front left steering", motors)
        rows = {row[0]: row for row in wiring_rows(read_rig(demo_path("coot")))}
        self.assertEqual(rows["boom"][:5], ("boom", "M5", "10", "PWM", "position"))
        self.assertEqual(rows["pump"][2:5], ("12", "high is on", "switch"))
        self.assertEqual(rows["spout"][3], "servo pulse")


class DustTest(unittest.TestCase):
    def test_idle_wheels_are_asked_for_nothing(self) -> None:
        # driving where the field's left lies, at a heading of 90 deg: cos 90° is 6e-17 in a computer
        for wheels in (MECANUM, STEERED):
            t = Ticks(rig_of(wheels, PLANAR + '[plane]\nframe = "field"\n'))
            t.sense("gyro", math.pi / 2)
            t.go(left_x=-0.5)
            for k in range(4):
                asked = t.get("wheels", f"w{k}_requested")
                self.assertTrue(asked == 0 or abs(asked) > 0.01, asked)
        t = Ticks(rig_of(TWO, PLAIN_LAW))
        t.go(left_y=-0.3, left_x=0.3)  # 0.3 ahead less 0.3 to the right: the right wheel rests
        self.assertEqual(t.get("wheels", "w1_requested"), 0.0)
        self.assertEqual(t.get("outputs", "w1_hums"), 0.0)


class LevelTest(unittest.TestCase):
    def test_a_resting_side_of_a_tank_rests(self) -> None:
        t = Ticks(read_rig(demo_path("coot")))  # cruise: moving 65 %, turning 75 %
        t.go(60, left_y=-0.98)
        for wheel in ("front_right", "rear_right"):
            self.assertEqual(t.get("wheels", f"{wheel}_requested"), 0.0)  # once -0.053 m/s
            self.assertEqual(t.get("outputs", f"{wheel}_hums"), 0.0)
        # the side that runs has the share for moving, for the robot does not go opposite ways
        self.assertAlmostEqual(t.get("wheels", "front_left_requested"), 0.65 * t.line.rig.full_forward_m_s)
        t.go(60, left_y=-0.98, right_y=0.98)  # opposite ways: the share for turning
        self.assertAlmostEqual(t.get("wheels", "front_left_requested"), 0.75 * t.line.rig.full_forward_m_s)

    def test_a_pivot_is_one_at_every_level(self) -> None:
        t = Ticks(read_rig(demo_path("coot")))
        t.hold({"letter_box.letter_P": 1.0})  # pivot left 50 %
        self.assertEqual(t.get("wheels", "front_left_requested"), 0.0)
        self.assertAlmostEqual(t.get("wheels", "front_right_requested"), 0.5 * 0.65 * t.line.rig.full_forward_m_s)

    def test_nothing_counts_before_it_was_seen_released(self) -> None:
        line = Line(read_rig(demo_path("avocet")))
        raw, sensed = line.rest(), np.zeros(len(line.stages["sensed"].columns))
        held = {c: line.channels.index(c) for c in ("button_5", "button_9", "button_2", "button_3")}
        raw[list(held.values())] = 1.0
        state, before = line.step(line.start(), raw, sensed)
        for _ in range(3):
            state, row = line.step(state, raw, sensed)
        for stage, name in (("law", "level"), ("frame", "field"), ("frame", "point"), ("bindings", "hold")):
            self.assertEqual(row[line.layout.at(stage, name)], before[line.layout.at(stage, name)], name)
        self.assertEqual(row[line.layout.at("bindings", "hold")], 0.0)
        state, _ = line.step(state, line.rest(), sensed)
        _, row = line.step(state, raw, sensed)
        self.assertEqual(row[line.layout.at("bindings", "hold")], 1.0)
        self.assertEqual(row[line.layout.at("law", "level")], before[line.layout.at("law", "level")] + 1)


class DirectionTest(unittest.TestCase):
    def pushed(self, direction: str, *changes: tuple[str, str]) -> tuple[Ticks, dict[str, float]]:
        """Dunlin in its own frame, with a push of 0.7 at 25 deg to the left of away."""
        rig = changed("dunlin", ("[shaping]\n", f'[shaping]\ndirection = "{direction}"\n'), *changes)
        t = Ticks(rig.model_copy(update={"plane": rig.plane.model_copy(update={"frame": "robot"})}))
        axes, a = t.line.stages["axes"].settings, math.radians(25.0)
        # away and left read less
        parts = enumerate((("left_y", math.cos(a)), ("left_x", math.sin(a))))
        return t, {n: float(axes.rest[0, 1, i] + 0.7 * part / axes.per[0, 1, i]) for i, (n, part) in parts}

    @staticmethod
    def angle(t: Ticks, stage: str, aside: str = "sideways") -> float:
        return math.degrees(math.atan2(t.get(stage, aside), t.get(stage, "forward")))

    def test_a_push_keeps_its_direction_if_that_is_chosen(self) -> None:
        for direction, wanted in (("free", 19.0), ("kept", 25.0)):
            t, raw = self.pushed(direction)
            t.hold(raw, 200)
            self.assertAlmostEqual(self.angle(t, "axes"), 25.0)
            self.assertAlmostEqual(self.angle(t, "law", "left"), wanted, delta=0.5 if direction == "free" else 1e-6)

    def test_it_keeps_it_on_the_way_there_and_with_any_scale(self) -> None:
        other = ('[shaping.sideways]\ndead_band = "7 %"\ncurve = "40 %"\nscale = "100 %"\nslew_up = "3 /s"',
                 '[shaping.sideways]\ndead_band = "7 %"\ncurve = "90 %"\nscale = "50 %"\nslew_up = "1 /s"')  # fmt: skip
        t, raw = self.pushed("kept", other)
        rates = []
        for _ in range(30):
            t.hold(raw)
            rates.append(t.get("rate", "forward"))
            self.assertAlmostEqual(
                self.angle(t, "rate"), 25.0, places=6
            )  # also while it grows, as fast as the slower may
        self.assertGreater(rates[-1], rates[0])
        # sideways at 1 /s is the slower one: 1/60 a tick, and forward keeps to it, 1/60/tan 25°
        self.assertAlmostEqual(rates[0], 1 / 60 / math.tan(math.radians(25.0)))
        t.hold(raw, 200)
        distance = math.hypot(t.get("scale", "forward"), t.get("scale", "sideways"))
        banded = math.hypot(t.get("band", "forward"), t.get("band", "sideways"))
        self.assertAlmostEqual(distance, 0.6 * banded + 0.4 * banded**3)  # forward's curve and scale for both
        t.hold({"right_x": -1.0}, 100)
        self.assertAlmostEqual(t.get("scale", "turn"), 0.45, delta=0.01)  # turning has its own

    def test_it_needs_a_band_that_keeps_it_too(self) -> None:
        one = PLANAR.replace("[shaping]\n", '[shaping]\ndirection = "kept"\n')
        self.assertIn('shaping.direction: is "kept", but measure = "axis" turns a push', mistakes(MECANUM, one))
        self.assertIn('but the law is "arcade"', mistakes(TWO, '[shaping]\ndirection = "kept"\nmeasure = "stick"\n'))


CAR: list[Wheel] = [(0.0, 0.2, 0.0, None, False), (0.0, -0.2, 0.0, None, False), (0.3, 0.0, 0.0, None, True)]


class CarTest(unittest.TestCase):
    def test_it_does_not_say_that_it_moves_any_way(self) -> None:
        rig = rig_of(CAR)
        self.assertIn("it moves the way its plain wheels roll (w0, w1), and turns about the point x +0 mm", can_do(rig))
        with self.assertRaisesRegex(
            MotionError, r"cannot do \+0.3 m/s to the left; .* to the side they would be dragged"
        ):
            ask_wheels(rig, 0.1, 0.3, 0.0)
        self.assertIn("its plain wheels would be dragged sideways", mistakes(CAR, PLANAR))

    def test_it_steers_about_its_axle(self) -> None:
        # 0.5 m/s and 60 deg/s about the axle's middle: the steered wheel 0.3 m ahead goes left at 0.3·π/3
        wheels = ask_wheels(rig_of(CAR), 0.5, None, 60.0)["wheels"]
        self.assertAlmostEqual(wheels[2]["steer_deg"], math.degrees(math.atan2(0.3 * math.pi / 3, 0.5)))
        self.assertAlmostEqual(wheels[0]["speed_m_s"], 0.5 - 0.2 * math.pi / 3)
        # with its axle 0.3 m behind the centre the centre swings left by 0.3 m for each rad, and no tyre is dragged
        behind: list[Wheel] = [(x - 0.3, y, d, r, s) for x, y, d, r, s in CAR]
        t = Ticks(rig_of(behind, PLAIN_LAW)).go(left_y=-0.3, left_x=-0.3)
        turn = t.get("law", "turn")
        self.assertGreater(turn, 0.1)
        self.assertAlmostEqual(t.get("wheels", "w2_left"), 0.3 * turn)


class ResidualTest(unittest.TestCase):
    def test_it_is_a_length(self) -> None:
        t = Ticks(rig_of(STEERED, PLANAR))
        t.sense("w0_turned", DEG45)  # one wheel stands at 45 deg and rolls at 0.5·cos 45° along it
        t.go(left_y=-0.5)
        rolled = [np.array([0.25, 0.25]), *([np.array([0.5, 0.0])] * 3)]
        places = [np.array([0.2 * x, 0.2 * y]) for x in (1, -1) for y in (1, -1)]
        rows = np.concatenate([np.array([[1, 0, -y], [0, 1, x]]) for x, y in places])
        left = np.concatenate(rolled) - rows @ np.linalg.lstsq(rows, np.concatenate(rolled), rcond=None)[0]
        self.assertAlmostEqual(t.get("motion", "residual"), float(np.hypot(left[::2], left[1::2]).max()))


if __name__ == "__main__":
    unittest.main()
