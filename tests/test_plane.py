"""Steered wheels, frames, turning points and lying on its back: stages by themselves, and whole drives on the simulated robot."""

import math
import unittest
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from pivrex.devices.robot import SimulatedRobot
from pivrex.kernels import Call, Form
from pivrex.line import frame, heading, pointing, steering
from pivrex.line.line import Line
from pivrex.line.pid import pid
from pivrex.line.se2 import shift
from pivrex.rig import Rig, read_rig, read_text
from pivrex.sim.ideal import IdealBody
from pivrex.sim.wiring import faulty, wiring_of
from pivrex.tuning.setting_trials import compare_cosine, compare_lead, compare_straight
from tests.chassis import MECANUM, PLANAR, STEERED, bare, demo_path, rig_of

Floats = NDArray[np.float64]

angles = st.floats(-7, 7)
speeds = st.floats(-2, 2)


class Aim(NamedTuple):
    """What four wheels must do."""

    target: Floats
    way: Floats
    share: Floats
    speed: Floats


def aim(settings: steering.SteerSettings, angle: float, wanted: list[float], hold: bool = False) -> Aim:
    out, own = Form(steering.SteeringColumns, pointing=4, steered=4).start().plain, settings.plain
    for k in range(4):
        steering.aim_wheel(own, k, angle, angle, wanted[0], wanted[1], math.hypot(*wanted), hold, out)
    return Aim(*(np.array(getattr(out, n)) for n in Aim._fields))


class SteeringTest(unittest.TestCase):
    settings: steering.SteerSettings = Line(rig_of(STEERED, PLANAR)).of_rig["steering"]

    @given(angles, speeds, speeds)
    def test_the_short_way_and_what_is_left_of_the_speed(self, angle: float, forward: float, left: float) -> None:
        found = aim(self.settings, angle, [forward, left])
        size = math.hypot(forward, left)
        if size <= 0.01:  # the threshold
            np.testing.assert_array_equal(found.target, angle)
            np.testing.assert_array_equal(found.speed, 0)
            return
        turned = found.target[0] - angle
        self.assertLessEqual(abs(turned), math.pi / 2 + 1e-6)
        # reversed or not, a wheel at its target rolls the wanted way
        way = found.way[0] * size * np.array([math.cos(found.target[0]), math.sin(found.target[0])])
        np.testing.assert_allclose(way, [forward, left], atol=1e-6)
        self.assertAlmostEqual(found.share[0], math.cos(turned), places=6)
        self.assertAlmostEqual(found.speed[0], found.way[0] * size * math.cos(turned), places=6)

    def test_a_quarter_turn_is_not_reversed_and_more_is(self) -> None:
        for degrees, way, target in ((90, 1, 90), (-90, 1, -90), (91, -1, -89), (180, -1, 0), (135, -1, -45)):
            a = math.radians(degrees)
            found = aim(self.settings, 0.0, [math.cos(a), math.sin(a)])
            self.assertEqual(found.way[0], way, degrees)
            self.assertAlmostEqual(math.degrees(found.target[0]), target, places=6)

    def test_without_the_cosine_a_wheel_drives_at_once(self) -> None:
        off = self.settings._replace(cosine=False)
        np.testing.assert_allclose(aim(off, 0.0, [math.cos(1), math.sin(1)]).speed, 1.0)

    def test_inward_on_demand(self) -> None:
        found = aim(self.settings, 0.0, [0.7, 0.7], hold=True)
        np.testing.assert_array_equal(found.speed, 0)
        # wheels at (±0.2, ±0.2) point along the diagonals, by the short way from straight ahead
        np.testing.assert_allclose(np.degrees(found.target), [45, -45, -45, 45])

    def test_the_loop_by_hand(self) -> None:
        # p = 12/s, 0.1 rad missing: 1.2 rad/s of the 20 that the motor can
        loop, per_top = self.settings.loop, self.settings.per_top[0]
        given_, _ = pid(loop.plain, 0, 0.0, 0.1, 0.0, 0.01)
        self.assertAlmostEqual(given_ * per_top, 1.2 / 20)
        given_, _ = pid(loop.plain, 0, 0.0, 3.0, 0.0, 0.01)
        self.assertAlmostEqual(given_ * per_top, 1.0)
        # a brake of 0.5 takes half of the present rate, 0.02 rad in 0.01 s, off; an integral adds up, but not at the limit
        given_, _ = pid(loop._replace(d=0.5).plain, 0, 0.0, 0.1, 2.0, 0.01)
        self.assertAlmostEqual(given_, 1.2 - 0.5 * 2.0)
        summed = loop._replace(i=10.0).plain
        given_, missed = pid(summed, 0, 0.0, 0.1, 0.0, 0.01)
        self.assertAlmostEqual(given_, 1.2 + 10 * 0.001)
        self.assertAlmostEqual(missed, 0.001)
        _, missed = pid(summed, 0, 0.0, 3.0, 0.0, 0.01)
        self.assertEqual(missed, 0.0)

    def measured(
        self, line: Line, before: pointing.PointingState, turned: Floats, absolute: Floats
    ) -> pointing.PointingState:
        """What pointing remembers after a tick."""
        sensed, after = line.stages["sensed"].form.of(turned=turned, absolute=absolute), before.form.start()
        step = Call(pointing.pointing_step, ("after", "out"))
        step((), line.of_rig["pointing"], before, after, sensed, line.stages["pointing"].form.start())
        found: pointing.PointingState = after
        return found

    def test_start_up_takes_the_true_angles_from_the_sensors(self) -> None:
        rig = read_rig(demo_path("avocet"))
        line = Line(rig)
        stage = line.stages["pointing"]
        # a quarter of 4096 counts is 90 degrees; less the offset is where the wheel points
        absolute = np.full(4, 1024.0)
        seen = self.measured(line, stage.start(()), np.full(4, 5.0), absolute)
        wanted = [90 - 37.5, 90 + 112.0 - 360, 90 - 81.5, 90 - 164.0]
        np.testing.assert_allclose(np.degrees(seen.angle), wanted, atol=1e-9)
        # from then on the encoders' changes count, whatever the sensors say, and nothing jumps at half a turn
        seen = self.measured(line, seen, np.full(4, 5.0 + 4.0), np.zeros(4))
        np.testing.assert_allclose(np.degrees(seen.angle), np.array(wanted) + math.degrees(4.0), atol=1e-9)
        # whole: the simulated robot is switched on with its wheels anyhow, and the line knows where they point
        robot = IdealBody(rig)
        _, row = line.step(line.start(), line.rest(), robot.sense(robot.start()))
        found = [row[line.layout.at("pointing", f"{w.replace(' ', '_')}_angle")] for w in line.wheels]
        np.testing.assert_allclose(found, robot.start().angle, atol=2 * math.pi / 4096)

    def test_a_wheel_without_encoder_follows_its_sensor(self) -> None:
        text = demo_path("avocet").read_text().replace("counts_per_turn = 12\n", "counts_per_turn = 0\n")
        line = Line(read_text(text, Path("a.toml"), Rig))
        self.assertTrue(line.of_rig["pointing"].by_sensor.all())
        seen = self.measured(line, line.stages["pointing"].start(()), np.zeros(4), np.full(4, 4000.0))
        further = self.measured(line, seen, np.zeros(4), np.full(4, 100.0))  # 196 counts on, past the sensor's zero
        np.testing.assert_allclose(further.angle - seen.angle, 196 / 4096 * 2 * math.pi, atol=1e-9)


class FrameTest(unittest.TestCase):
    @given(st.floats(-4, 4), st.floats(-2, 2), st.floats(-2, 2), st.floats(-12, 12), st.floats(0.005, 0.05))
    def test_a_tick_ends_where_the_straight_path_would(
        self, heading: float, vx: float, vy: float, turn: float, dt: float
    ) -> None:
        """The constant body twist, integrated in a thousand small steps, moves along the field's own direction."""
        body = frame.to_robot(vx, vy, heading, turn, dt, 0.0)
        x = y = 0.0
        steps = 1000
        for i in range(steps):
            h = heading + turn * dt * (i + 0.5) / steps
            x += (body[0] * math.cos(h) - body[1] * math.sin(h)) * dt / steps
            y += (body[0] * math.sin(h) + body[1] * math.cos(h)) * dt / steps
        np.testing.assert_allclose([x, y], [vx * dt, vy * dt], atol=1e-6)

    def test_what_it_removes(self) -> None:
        for name in ("bittern", "dunlin", "avocet"):
            rig = read_rig(demo_path(name))
            ideal = compare_straight(rig)
            assert ideal is not None
            self.assertLess(ideal.on_m, 1e-9)
            # without it each tick leaves by half its turn: v·sin(ω·dt/2) aside of the way that v·t would be
            v, w, dt = 0.5 * rig.full_forward_m_s, 0.5 * rig.full_turn_rad_s, rig.dt_s
            self.assertAlmostEqual(
                ideal.off_m, 2.0 * v * math.sin(w * dt / 2) * math.sin(w * dt / 2) / (w * dt / 2), delta=0.002
            )
            lead = compare_lead(rig)
            assert lead is not None
            self.assertLess(lead.on_m, 0.035)  # what the demo's own lead leaves
            if name == "avocet":  # whose wheels have to turn first, whatever their loops
                self.assertLess(lead.on_m, 0.1 * lead.off_m)
        self.assertIsNone(compare_straight(read_rig(demo_path("plover"))))
        cosine = compare_cosine(read_rig(demo_path("avocet")))
        assert cosine is not None
        self.assertLess(cosine.on_m, cosine.off_m)

    def test_turning_about_the_tip_of_the_boom(self) -> None:
        # the tip 0.5 m ahead stays where it is: turning left the centre goes right at 0.5 m/s for each rad/s
        np.testing.assert_allclose(shift(np.array([0, 0, 1.0]), 0.5, 0.0), [0, -0.5, 1])
        np.testing.assert_allclose(shift(np.array([0.1, 0, 2.0]), 0.0, 0.2), [0.5, 0, 2])


class Drive:
    """A rig on the simulated robot, driven by sticks and buttons."""

    def __init__(self, rig: Rig, words: str = "none") -> None:
        self.rig, self.line = rig, Line(rig)
        self.robot = SimulatedRobot(IdealBody(rig, None, wiring=faulty(rig, words)))
        self.state = self.line.start()
        self.row = np.zeros(0)

    def go(self, seconds: float, **readings: float) -> None:
        raw = self.line.rest()
        for channel, value in readings.items():
            raw[self.line.channels.index(channel)] = value
        for _ in range(round(seconds / self.line.dt_s)):
            self.state, self.row = self.line.step(self.state, raw, self.robot.sense())
            self.robot.command(self.line.commands(self.row), self.line.dt_s)

    def at(self, stage: str, name: str) -> float:
        return float(self.row[self.line.layout.at(stage, name)])


class WholeDriveTest(unittest.TestCase):
    def test_away_on_the_stick_is_away_however_the_robot_stands(self) -> None:
        for name in ("bittern", "dunlin", "avocet"):
            drive = Drive(read_rig(demo_path(name)))
            drive.go(0.2)
            drive.go(1.0, right_x=-0.8)
            drive.go(1.0)
            x, y, turned = drive.robot.state.pose
            self.assertGreater(abs(turned), 0.5, name)
            drive.go(1.5, left_y=-1.0)
            drive.go(0.5)
            ahead, aside = drive.robot.state.pose[0] - x, drive.robot.state.pose[1] - y
            self.assertGreater(ahead, 0.5, name)
            self.assertLess(abs(aside), 0.12 * ahead, name)

    def test_the_buttons_of_the_plane(self) -> None:
        drive = Drive(read_rig(demo_path("avocet")))
        drive.go(0.1)
        self.assertEqual(drive.at("frame", "field"), 1)
        drive.go(0.1, button_9=1.0)
        self.assertEqual(drive.at("frame", "field"), 0)
        drive.go(0.1)
        drive.go(0.1, button_9=1.0)
        self.assertEqual(drive.at("frame", "field"), 1)
        drive.go(0.8, right_x=-0.8)
        drive.go(0.6)
        self.assertGreater(drive.at("frame", "heading"), 0.4)
        drive.go(0.05, button_8=1.0)
        self.assertAlmostEqual(drive.at("frame", "heading"), 0.0, places=3)
        for wanted in (1, 2, 0):
            drive.go(0.05, button_3=1.0)
            self.assertEqual(drive.at("frame", "point"), wanted)
            drive.go(0.05)
        drive.go(0.05, button_3=1.0)
        drive.go(0.3)
        tip = self.tip(drive)
        drive.go(1.2, right_x=-0.7)
        drive.go(0.4)
        moved = math.dist(tip, self.tip(drive))
        self.assertLess(moved, 0.12)
        self.assertGreater(math.dist(drive.robot.state.pose[:2], (0, 0)), 0.12)
        drive.go(0.8, button_2=1.0)
        inward = [abs(math.degrees(a)) % 180 for a in drive.robot.state.angle]
        for angle in inward:
            self.assertAlmostEqual(min(angle, 180 - angle), 45, delta=3)

    def tip(self, drive: Drive) -> tuple[float, float]:
        x, y, h = drive.robot.state.pose
        return x + 0.32 * math.cos(h), y + 0.32 * math.sin(h)

    def test_a_gyro_upside_down_is_put_right_by_the_rig(self) -> None:
        rig = rig_of(MECANUM, PLANAR.replace("[gyro]\n", "[gyro]\nreversed = true\n") + '[plane]\nframe = "field"\n')
        right = Drive(rig, "none")
        right.go(0.7, right_x=-1.0)
        self.assertGreater(right.at("frame", "heading"), 0.5)
        wrong = Drive(rig, "gyro")
        wrong.go(0.7, right_x=-1.0)
        self.assertLess(wrong.at("frame", "heading"), -0.5)

    def test_on_its_back_away_is_still_away_and_left_is_left(self) -> None:
        extra = PLANAR + '[plane]\nframe = "field"\n[upside_down]\nthreshold = 0.4\n'
        for wheels in (MECANUM, STEERED):
            drive = Drive(rig_of(wheels, extra))
            drive.go(0.1)
            self.assertEqual(drive.at("heading", "upside_down"), 0)
            drive.robot.turn_over()
            drive.go(0.1)
            self.assertEqual(drive.at("heading", "upside_down"), 1)
            drive.go(0.6, right_x=-0.5)
            drive.go(0.5)
            x, y, turned = drive.robot.state.pose
            self.assertGreater(turned, 0.2)  # pushed left it turned left, as seen from above
            self.assertAlmostEqual(drive.at("frame", "heading"), turned, places=3)
            drive.go(1.0, left_y=-1.0, left_x=-1.0)
            dx, dy = drive.robot.state.pose[0] - x, drive.robot.state.pose[1] - y
            self.assertGreater(min(dx, dy), 0.2)
            self.assertAlmostEqual(dx, dy, delta=0.12 * dx)

    def test_the_side_has_hysteresis_and_a_sense(self) -> None:
        stage = Line(rig_of(MECANUM, PLANAR + "[upside_down]\nthreshold = 0.4\n")).stages["heading"]
        now, out = stage.start(()).plain, stage.form.start().plain
        for up, upside_down in ((1.0, 0), (-0.3, 0), (-0.5, 1), (0.3, 1), (-0.1, 1), (0.45, 0), (0.0, 0)):
            heading.heading_step(stage.settings.plain, now, now, 0.0, up, out)
            self.assertEqual(float(now.upside_down), upside_down, up)
        wrong = Drive(rig_of(MECANUM, PLANAR + "[upside_down]\n"), "up")
        wrong.go(0.1)
        self.assertEqual(wrong.at("heading", "upside_down"), 1)  # a sensor mounted the wrong way shows at once

    def test_a_two_sided_robot_may_lie_on_its_back_too(self) -> None:
        rig = rig_of([(0.0, 0.2, 0.0, None, False), (0.0, -0.2, 0.0, None, False)], "[gyro]\n[upside_down]\n")
        drive = Drive(rig)
        drive.robot.turn_over()
        drive.go(1.0, left_y=-0.8)
        self.assertGreater(drive.robot.state.pose[0], 0.3)
        before = drive.robot.state.pose[2]
        drive.go(0.5, left_x=-0.5)
        self.assertGreater(drive.robot.state.pose[2], before + 0.1)

    def test_stopped_steering_rests_too(self) -> None:
        line = Line(bare(read_rig(demo_path("avocet"))))
        robot = IdealBody(line.rig)
        _, row = line.step(line.start(), line.rest() + 0.6, robot.sense(robot.start()), 1.0)
        np.testing.assert_array_equal(line.commands(row), 0)

    def test_a_wheel_that_points_wrong_by_its_offset_pushes_the_robot_aside(self) -> None:
        rig = read_rig(demo_path("avocet"))
        truth = wiring_of(rig)
        wrong = replace(truth, offsets={**truth.offsets, "front left": truth.offsets["front left"] + 1.0})
        drive = Drive(rig)
        drive.robot = SimulatedRobot(IdealBody(rig, None, wiring=wrong))
        drive.go(0.5, left_y=-0.4)
        self.assertAlmostEqual(drive.robot.state.angle[0] - drive.robot.state.angle[1], -1.0, delta=0.15)


if __name__ == "__main__":
    unittest.main()
