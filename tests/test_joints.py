"""Where two parts meet: what fails if one is swapped, left out, doubled or has its sign turned."""

import math
import unittest
from pathlib import Path
from unittest.mock import patch

import numpy as np
from numpy.typing import NDArray

from pivrex.devices.robot import SimulatedRobot
from pivrex.diagnosis.moves import MotorMove
from pivrex.line import Entry, Line
from pivrex.line.beginning import known_at
from pivrex.line.correction import JUMPED, Correction
from pivrex.line.questions.neutral import not_at_rest
from pivrex.rig import Rig, read_rig, read_text
from pivrex.rig.field import Field
from pivrex.rig.wheel_control import WheelControl
from pivrex.session.messages import MoveSimulated, Probe, SetUp, UseRig
from pivrex.session.moving import Moving, State
from pivrex.sim import IdealBody, Rollout
from pivrex.sim.body import RealisticBody
from pivrex.sim.wiring import faulty
from pivrex.tuning import LOOPS, loops_of
from tests.chassis import MECANUM, PLANAR, STEERED, Wheel, demo_path, rig_of
from tests.support import PLAIN
from tests.test_lost_sources import RemoteCase
from tests.test_put_right import PLAIN_LAW, TWO, Ticks

Floats = NDArray[np.float64]

ARM = (
    '[attachments.boom]\nkind = "position"\ncounts_per_turn = 360\nminimum = "-10 deg"\nmaximum = "100 deg"\n'
    'top_speed = "90 deg/s"\noutput = { kind = "percent" }\n'
)
PUMP = '[attachments.pump]\nkind = "switch"\n'


def bound(channel: str, does: str) -> str:
    return f'[[bindings]]\nchannel = "{channel}"\ndoes = "{does}"\n'


class DriveTest(unittest.TestCase):
    def test_one_motor_turns_two_wheels_by_their_mean(self) -> None:
        # four wheels on two sides, one motor a side: 1 m/s top; 0.5 ahead and 0.25 to the left
        text = PLAIN
        wheels = "".join(
            f'{{ name = "{n}", x = "{x} mm", y = "{y} mm", radius = "100 mm" }}, '
            for n, x, y in (("fl", 150, 250), ("rl", -150, 250), ("fr", 150, -250), ("rr", -150, -250))
        )
        start, end = text.index("wheels = [\n"), text.index("]\n[motors.left]") + 1
        text = text[:start] + f"wheels = [{wheels}]" + text[end:]
        text = text.replace('wheels = ["left"]', 'wheels = ["fl", "rl"]').replace(
            'wheels = ["right"]', 'wheels = ["fr", "rr"]'
        )
        t = Ticks(read_text(text, Path("t.toml"), Rig)).go(left_y=-0.5, left_x=-0.25)
        self.assertAlmostEqual(t.get("outputs", "left_fraction"), 0.25)  # not 0.5, not 0.125
        self.assertAlmostEqual(t.get("outputs", "right_fraction"), 0.75)

    def test_every_wheel_by_its_own_top_speed(self) -> None:
        rig = rig_of(TWO, PLAIN_LAW)
        fast = rig.motors["w1"].model_copy(update={"top_speed_rad_s": 20.0})
        t = Ticks(rig.model_copy(update={"motors": {**rig.motors, "w1": fast}})).go(left_y=-0.5)
        self.assertAlmostEqual(t.get("outputs", "w0_fraction"), 0.5)
        self.assertAlmostEqual(t.get("outputs", "w1_fraction"), 0.25)  # the same speed is half its drive

    def test_a_coast_with_the_stick_pushed(self) -> None:
        t = Ticks(rig_of(TWO, bound("button_0", "coast"))).go(20, left_y=-0.8)
        self.assertGreater(t.get("law", "forward"), 0.5)
        t.go(left_y=-0.8, button_0=1.0)
        self.assertEqual((t.get("law", "forward"), t.get("outputs", "w0_fraction")), (0.0, 0.0))
        self.assertEqual(t.get("outputs", "robot_coast"), 1.0)
        t.go(left_y=-0.8)  # let go it goes on, and the robot is told so
        self.assertGreater(t.get("law", "forward"), 0.5)
        self.assertEqual(t.get("outputs", "robot_coast"), 0.0)

    def test_a_coasting_stand_in_rolls_eight_times_as_far(self) -> None:
        rig = rig_of(TWO, bound("button_0", "coast")).model_copy(update={"lag_s": 0.1})
        ways = []
        for coasts in (0.0, 1.0):
            model = IdealBody(rig)
            robot = model.start()._replace(speed=np.ones(2))
            for _ in range(3000):
                robot = model.step(robot, np.array([0.0, 0.0, coasts]), 0.01)
            ways.append(float(robot.pose[0]))
        # rolling out from 1 m/s with the time constant τ takes τ metres
        np.testing.assert_allclose(ways, [0.1, 0.8], atol=1e-6)

    def test_opposing_buttons_begin_from_zero(self) -> None:
        """With shares that do not cancel by chance: 60 % against 25 %, rises of 2 /s and 3 /s."""

        def way(channel: str, does: str, rise: str, fall: str) -> str:
            return f'{bound(channel, does)}slew_up = "{rise} /s"\nslew_down = "{fall} /s"\n'

        t = Ticks(rig_of(TWO, way("button_0", "forward 60 %", "2", "1") + way("button_1", "back 25 %", "3", "1")))
        t.go(12, button_0=1.0)
        self.assertAlmostEqual(t.get("bindings", "forward"), 0.4)  # 12/60 s at 2 /s
        t.go(button_1=1.0)
        self.assertAlmostEqual(t.get("bindings", "forward"), -0.05)  # 1/60 s at 3 /s, nothing is left of the other
        t.go(2, button_0=1.0, button_1=1.0)
        # both held: each grows towards its share, 2/60 s at 2 /s less 3/60 s at 3 /s
        self.assertAlmostEqual(t.get("bindings", "forward"), 2 * 2 / 60 - 3 * 3 / 60)


class MotionTest(unittest.TestCase):
    def test_scrub_is_the_greatest_side_slip(self) -> None:
        # wheels 0.3 m ahead of and behind the centre, turning at 0.8 rad/s: 0.24 m/s at each
        wheels = [(x, y, 0.0, None, False) for x in (0.3, -0.3) for y in (0.25, -0.25)]
        t = Ticks(rig_of(wheels, PLAIN_LAW + ""))  # type: ignore[arg-type]
        t.go(left_x=-0.2)
        turn = t.get("motion", "turn")
        self.assertAlmostEqual(turn, 0.2 * 1 / 0.25)
        self.assertAlmostEqual(t.get("motion", "scrub"), 0.3 * turn)
        self.assertAlmostEqual(t.go(left_y=-0.5).get("motion", "scrub"), 0.0)

    def test_what_steered_wheels_lose(self) -> None:
        # asked for 1 m/s ahead and 1 m/s to the left, the wheels can 1: √2 - 1 is lost, whichever way they point
        line = Line(rig_of(STEERED, PLANAR))
        for angle in (0.0, math.pi / 4, math.pi):
            sensed = np.zeros(len(line.stages["sensed"].columns))
            for k in range(4):
                sensed[line.layout.at("sensed", f"w{k}_turned") - line.layout.stage("sensed").start] = angle
            first, _ = line.step(line.start(), line.rest(), np.zeros(len(sensed)))
            _, row = line.step(first, line.rest(), sensed, entry=Entry(twist=np.array([1.0, 1.0, 0.0])))
            get = {n: float(row[line.layout.at("limits", f"w0_{n}")]) for n in ("limited", "lost", "forward", "left")}
            self.assertAlmostEqual(get["limited"], 1.0)
            self.assertAlmostEqual(get["lost"], math.sqrt(2) - 1)
            self.assertAlmostEqual(get["forward"], math.sqrt(0.5))
            self.assertAlmostEqual(float(row[line.layout.at("steering", "w0_speed")]), math.cos(angle - math.pi / 4))


class AttachmentTest(unittest.TestCase):
    def test_a_boom_stops_at_its_ends_in_the_line_and_on_the_robot(self) -> None:
        rig = rig_of(TWO, ARM + bound("button_0", "boom 100 %") + bound("button_1", "boom -100 %"))
        rollout = Rollout(Line(rig), IdealBody(rig))
        raw = rollout.line.rest()
        rollout.tick(raw)
        at = rollout.line.layout.at("attachments", "boom_target")
        for button, end in ((0, 100.0), (1, -10.0)):
            raw = rollout.line.rest()
            raw[rollout.line.channels.index(f"button_{button}")] = 1.0
            for _ in range(150):
                row = rollout.tick(raw)
            self.assertAlmostEqual(math.degrees(row[at]), end)
            self.assertAlmostEqual(math.degrees(float(rollout.robot.attached[0])), end, delta=0.5)
        # whatever its motor is told, the robot's arm does not go further
        model, robot = rollout.model, rollout.robot
        for told, end in ((100.0, 100.0), (-100.0, -10.0)):
            for _ in range(200):
                robot = model.step(robot, np.array([0.0, 0.0, told]), 1 / 60)
            self.assertAlmostEqual(math.degrees(float(robot.attached[0])), end)

    def test_requests_come_from_whoever_asks(self) -> None:
        rig = rig_of(TWO, ARM + PUMP + bound("button_0", "boom 100 %") + bound("button_1", "pump on"))
        line = Line(rig)
        sensed = np.zeros(len(line.stages["sensed"].columns))
        state, _ = line.step(line.start(), line.rest(), sensed)
        asked = Entry(requests=np.array([[0.0, math.radians(40), math.radians(-5)], [0.0, np.nan, 1.0]]))
        state, row = line.step(state, line.rest(), sensed, entry=asked)
        self.assertAlmostEqual(math.degrees(row[line.layout.at("attachments", "boom_target")]), 35.0)
        self.assertEqual(row[line.layout.at("outputs", "pump_pin")], 1.0)
        state, row = line.step(state, line.rest(), sensed)  # nothing asked for: all stays
        self.assertAlmostEqual(math.degrees(row[line.layout.at("attachments", "boom_target")]), 35.0)
        self.assertEqual(row[line.layout.at("outputs", "pump_pin")], 1.0)

    def test_a_followed_stick_must_rest_before_going_live(self) -> None:
        line = Line(rig_of(TWO, ARM + bound("right_y", "boom follows")))
        raw = line.rest()
        self.assertEqual(not_at_rest(line, raw), "")
        raw[line.channels.index("right_y")] = -0.5
        self.assertEqual(not_at_rest(line, raw), "let go first: right_y moves boom")
        raw[line.channels.index("right_y")] = -0.08  # within its own dead band of 8 %
        self.assertEqual(not_at_rest(line, raw), "")


class EntryTest(unittest.TestCase):
    def test_a_twist_enters_in_the_laws_place(self) -> None:
        line = Line(rig_of(MECANUM, PLANAR))
        sensed = np.zeros(len(line.stages["sensed"].columns))
        raw = line.rest()
        raw[line.channels.index("left_y")] = -1.0  # whatever the stick says
        state, row = line.step(line.start(), raw, sensed, entry=Entry(twist=np.array([0.2, -0.1, 0.5])))
        np.testing.assert_allclose(
            row[line.layout.these("motion", ("forward", "left", "turn"))], [0.2, -0.1, 0.5], atol=1e-12
        )
        self.assertEqual(row[line.layout.at("law", "entered")], 1.0)
        # a robot that is stopped obeys no one
        _, row = line.step(state, raw, sensed, 1.0, entry=Entry(twist=np.array([0.2, -0.1, 0.5])))
        np.testing.assert_array_equal(line.commands(row), 0.0)

    def test_a_probe_tells_one_motor_and_no_other_also_while_stopped(self) -> None:
        line = Line(rig_of(STEERED, PLANAR))
        sensed = np.zeros(len(line.stages["sensed"].columns))
        for motor in range(8):
            asked = Entry(twist=np.array([0.5, 0.0, 1.0]), probe=np.array([motor + 1.0, -0.3]))
            _, row = line.step(line.start(), line.rest(), sensed, float(motor % 2), entry=asked)
            told = line.commands(row)
            self.assertEqual(told[motor], -0.3)
            self.assertEqual(np.count_nonzero(told), 1)


class GuardTest(RemoteCase):
    RADIO = (
        '[sources.radio]\nkind = "packets"\nsender = "green"\nsilent_after = "100 ms"\nwhen_lost = "ramp"\nramp = "500 ms"\n'
        'wire = {{ kind = "udp", host = "127.0.0.1", port = {port} }}\n'
    )

    def test_a_ramp_lets_go_of_buttons_at_once(self) -> None:
        from tests.test_lost_sources import Sender, free_port

        port = free_port()
        self.begin(self.RADIO.format(port=port), bound("button_0", "turn left 50 %"))
        radio = Sender(port)
        self.addCleanup(radio.socket.close)

        def heard() -> bool:
            radio.say()
            return not self.session.status.lost

        self.until(heard)
        for _ in range(10):
            radio.say(left_y=-0.8, buttons=1)
            row = self.tick()
        self.assertGreater(self.get(row, "bindings", "turn"), 0.4)
        self.assertAlmostEqual(self.get(row, "axes", "forward"), 0.8)
        for _ in range(14):  # silent: past 100 ms, well within the ramp
            row = self.tick()
        self.assertTrue(0.05 < self.get(row, "axes", "forward") < 0.8)
        self.assertEqual(self.get(row, "bindings", "turn"), 0.0)
        self.assertEqual(self.get(row, "raw", "button_0"), 0.0)

    def test_a_number_that_is_not_finite_never_leaves(self) -> None:
        self.begin(source="keys")
        told: list[Floats] = []
        command = SimulatedRobot.command
        poisoned = self.session.line.step

        def step(*words: object, **more: object) -> object:
            state, row = poisoned(*words, **more)  # type: ignore[arg-type]
            row[self.session.line.outputs.commands.start] = np.nan
            return state, row

        def keep(robot: SimulatedRobot, values: Floats, dt_s: float) -> None:
            told.append(values.copy())
            command(robot, values, dt_s)

        with patch.object(self.session.line, "step", step), patch.object(SimulatedRobot, "command", keep):
            self.tick()
        self.assertTrue(np.isfinite(told).all())
        np.testing.assert_array_equal(told[-1], self.session.line.resting())
        self.assertIn("not finite", self.session.status.held)

    def test_a_fault_in_writing_a_tick_is_inside_the_guard(self) -> None:
        """Whatever a tick runs into, the robot is told to rest and the clock goes on."""
        from multiprocessing import Pipe
        from multiprocessing.shared_memory import SharedMemory

        from pivrex.session.process import _Loop
        from pivrex.session.ring_size import RING_BYTES
        from pivrex.session.shared import Ring

        ours, theirs = Pipe()
        ring = Ring(SharedMemory(create=True, size=RING_BYTES))
        self.addCleanup(ring.close, unlink=True)
        loop = _Loop(theirs, ring, SetUp(read_text(PLAIN, Path("t.toml"), Rig), None, gamepads=False))
        with patch.object(ring, "write", side_effect=ValueError("too wide")):
            loop._once(0.0, 0.0)
        self.assertFalse(loop._ended)
        self.assertIn("too wide", loop._session.status.held)
        loop._once(1 / 60, 0.0)
        self.assertEqual(ring.written, 1)
        ours.close()

    def test_losing_the_link_ends_a_probe_and_live(self) -> None:
        class Gone:
            title, drives, state, fault, greeted = "gone", True, 1, "", ""
            reason = ""

            def poll(self, _now: float, _budget: float) -> None: ...
            def problem(self, _now: float) -> str:
                return self.reason

            def alone_for(self, _now: float) -> float:
                return 0.0

            def sense(self) -> Floats:
                return np.zeros(len(session.line.stages["sensed"].columns))

            def truth(self) -> Floats:
                return np.full(4, np.nan)

            def command(self, told: Floats, _dt: float) -> None:
                self.told = told

            def close(self) -> None: ...

        session = self.begin(source="keys")
        robot = Gone()
        session.robots.link = robot  # type: ignore[assignment]
        session.board.set(moving=Moving(State.LIVE))
        self.ask(Probe(7, (MotorMove(0, 0.2, 10),)))
        self.tick(3)
        self.assertEqual((session.status.probing, float(robot.told[0])), (7, 0.2))
        robot.reason = "the robot was not heard for 0.3 s"
        self.tick()
        self.assertEqual((session.status.probing, session.status.live), (0, False))
        self.assertEqual(session.status.held, robot.reason)
        np.testing.assert_array_equal(robot.told, session.line.resting())
        session.robots.link = None


class RigChangeTest(RemoteCase):
    def test_what_lives_on_when_the_rig_changes(self) -> None:
        levels = '[speed_levels]\nstart = "low"\nup = "button_5"\n'
        levels += '[[speed_levels.levels]]\nname = "low"\nmoving = 0.5\n[[speed_levels.levels]]\nname = "all"\n'
        self.begin("[gyro]\n", levels, ARM, bound("button_0", "boom to 30 deg"), source="keys")
        line = self.session.line
        state = line.choose_level(self.session._state, 1)
        kept = line.of(state, "attachments")._replace(goal=np.array([0.3]), command=np.array([0.3]))
        self.session._state = line.changed(state, "attachments", kept)
        self.ask(MoveSimulated("lift"))
        changed = read_text(
            PLAIN.replace("[shaping.turn]\ndead_band = 0", "[shaping.turn]\ndead_band = 0.1") + "[gyro]\n" + levels + ARM
            + bound("button_0", "boom to 30 deg"), Path("t.toml"), Rig,
        )  # fmt: skip
        before = float(self.session._state.tick)
        self.ask(UseRig(changed, 1))
        row = self.tick()
        self.assertEqual(self.get(row, "law", "level"), 1.0)
        self.assertEqual(self.get(row, "clock", "tick"), before)
        self.assertAlmostEqual(self.get(row, "attachments", "boom_target"), 0.3)

    def test_steered_wheels_know_where_they_point_after_a_change(self) -> None:
        """Without absolute sensors the encoders' zero is all there is; a changed curve must not lose it."""
        rig = rig_of(STEERED, PLANAR)
        line, other = (
            Line(rig),
            Line(rig.model_copy(update={"shaping": rig.shaping.model_copy(update={"overall": 0.5})})),
        )
        sensed = np.zeros(len(line.stages["sensed"].columns))
        state, _ = line.step(line.start(), line.rest(), sensed)
        turned = slice(
            *(line.layout.at("sensed", f"w{k}_turned") - line.layout.stage("sensed").start + (k == 3) for k in (0, 3))
        )
        sensed[turned] = 0.7
        state, _ = line.step(state, line.rest(), sensed)
        _, row = other.step(other.keep(line, state), other.rest(), sensed)
        np.testing.assert_allclose(row[other.layout.stage("pointing")], 0.7)


class StandInJointTest(unittest.TestCase):
    def test_walls_hold_robots_of_a_batch_one_by_one(self) -> None:
        field = Field.model_validate(
            {"length": "4 m", "width": "3 m", "start": {"x": "0.5 m", "y": "1.5 m", "heading": "180 deg"}}
        )
        rig = rig_of(TWO, PLAIN_LAW)
        model = IdealBody(rig, field)
        robots = model.start((2,))
        for _ in range(60):
            robots = model.step(robots, np.array([[0.5, 0.5], [0.0, 0.0]]), 1 / 60)
        self.assertEqual(robots.blocked.tolist(), [1.0, 0.0])
        self.assertAlmostEqual(float(robots.pose[0, 0]), 0.2, delta=1e-3)  # its nose, 0.2 m ahead, at the wall
        self.assertEqual(float(robots.pose[1, 0]), 0.5)

    def test_senses_have_their_signs_and_truth_has_none(self) -> None:
        rig = rig_of(TWO, "[gyro]\n" + PLAIN_LAW)
        for words, gyro, first in (("none", 1.0, 1.0), ("gyro", -1.0, 1.0), ("encoder w0", 1.0, -1.0)):
            model = IdealBody(rig, None, faulty(rig, words))
            robot = model.step(model.start(), np.array([0.2, 0.6]), 0.5)
            sensed, truth = model.sense(robot), model.truth(robot)
            # 0.1 m and 0.3 m on a track of 0.5 m: 0.4 rad to the left
            np.testing.assert_allclose(sensed[:2], [first * 0.1, 0.3])
            self.assertAlmostEqual(float(sensed[4]), gyro * 0.4)
            self.assertAlmostEqual(float(truth[2]), 0.4)

    def test_on_its_back_the_gyro_counts_the_other_way(self) -> None:
        rig = rig_of(TWO, "[gyro]\n[upside_down]\n" + PLAIN_LAW)
        model = IdealBody(rig)
        robot = model.step(model.start()._replace(upside_down=np.array(1.0)), np.array([0.2, 0.6]), 0.5)
        sensed = model.sense(robot)
        self.assertAlmostEqual(float(sensed[4]), -float(robot.pose[2]))
        self.assertNotAlmostEqual(float(robot.pose[2]), 0.0)
        self.assertEqual(float(sensed[5]), -1.0)

    def test_a_lifted_robot_rolls_its_wheels_and_stays(self) -> None:
        rig = rig_of(TWO, PLAIN_LAW)
        model = IdealBody(rig)
        robot = model.step(model.start()._replace(lifted=np.array(1.0)), np.array([0.4, 0.6]), 0.5)
        np.testing.assert_allclose(robot.travel, [0.2, 0.3])
        np.testing.assert_array_equal(robot.pose, 0.0)
        self.assertEqual(float(robot.gyro), 0.0)


class BeliefTest(unittest.TestCase):
    """What the odometry goes by, and what it keeps."""

    def test_on_its_back_wheels_say_other_ways(self) -> None:
        rig = rig_of(MECANUM, PLANAR.replace("[gyro]\n", "") + "[upside_down]\n[odometry]\nturn = 'wheels'\n")
        line, model = Line(rig), IdealBody(rig)
        robot, state, raw = model.start()._replace(upside_down=np.array(1.0)), line.start(), line.rest()
        raw[line.channels.index("left_x")], raw[line.channels.index("left_y")] = 0.4, -0.3
        for n in range(80):
            raw[line.channels.index("right_x")] = 0.5 if n > 40 else 0.0
            state, row = line.step(state, raw, model.sense(robot), 0.0, 0.0, model.truth(robot))
            robot = model.step(robot, line.commands(row), line.dt_s)
        names = ("x", "y", "heading")
        truth = row[line.layout.these("truth", names)]
        self.assertGreater(float(np.abs(truth).min()), 0.01)
        np.testing.assert_allclose(row[line.layout.these("odometry", names)], truth, atol=1e-6)

    def turned(self) -> Ticks:
        """Its wheels say that it has turned by 0.4 rad, its gyro nothing."""
        t = Ticks(rig_of(TWO, "[gyro]\n" + PLAIN_LAW))
        t.sense("w0_travel", -0.1)
        t.sense("w1_travel", 0.1)
        t.go()
        self.assertAlmostEqual(t.get("odometry", "turned"), 0.4)
        self.assertAlmostEqual(t.get("odometry", "apart_turning"), 0.4)
        return t

    def test_who_is_put_somewhere_has_not_disagreed_yet(self) -> None:
        t = self.turned()
        t.state = known_at(t.line, t.state, np.array([1.0, 1.0, 0.0]))
        t.go()
        self.assertEqual([t.get("odometry", n) for n in ("apart_still", "apart_turning", "turned")], [0.0, 0.0, 0.0])

    def test_other_wheels_at_the_same_place_are_no_surer(self) -> None:
        t = Ticks(rig_of(TWO, "[gyro]\n" + PLAIN_LAW))
        for way in np.linspace(0.02, 1.0, 50).tolist():
            t.sense("w0_travel", way)
            t.sense("w1_travel", way)
            t.go()
        x, xx = t.get("odometry", "x"), t.get("odometry", "xx")
        self.assertGreater(xx, 1e-6)
        other = Line(rig_of([(0.0, 0.3, 0.0, None, False), (0.0, -0.3, 0.0, None, False)], "[gyro]\n" + PLAIN_LAW))
        t.line, t.state = other, other.keep(t.line, t.state)
        t.go()
        self.assertEqual((t.get("odometry", "x"), t.get("odometry", "xx")), (x, xx))

    def test_one_wheel_without_an_encoder_makes_all_of_it_unsure(self) -> None:
        rig = rig_of(TWO, "[gyro]\n" + PLAIN_LAW)
        blind = rig.motors["w1"].model_copy(update={"counts_per_turn": 0})
        t = Ticks(rig.model_copy(update={"motors": {**rig.motors, "w1": blind}}))
        t.sense("w1_travel", math.nan)
        t.go(100, left_y=-0.5)
        x = t.get("odometry", "x")
        self.assertGreater(x, 0.3)  # by what it was told
        self.assertAlmostEqual(math.sqrt(t.get("odometry", "xx")), 0.15 * x, delta=0.1 * 0.15 * x)


class CorrectionJointTest(unittest.TestCase):
    HOLDS = "[gyro]\n[correction]\nhold = 'on'\np = '4 /s'\n"

    def test_a_changed_start_counts_for_a_robot_that_is_driven(self) -> None:
        t = Ticks(rig_of(TWO, self.HOLDS.replace("'on'", "'off'") + PLAIN_LAW)).go(3)
        self.assertEqual(t.get("correction", "on"), 0.0)
        other = Line(rig_of(TWO, self.HOLDS + PLAIN_LAW))
        t.line, t.state = other, other.keep(t.line, t.state)
        self.assertEqual(t.go(2).get("correction", "on"), 1.0)

    def test_who_begins_to_hold_knows_how_fast_it_turns(self) -> None:
        t = Ticks(rig_of(TWO, self.HOLDS + PLAIN_LAW))
        for n in range(60):
            t.sense("gyro", 1.0 * n * t.line.dt_s)
            t.go()
        before = t.get("correction", "rate")
        self.assertGreater(before, 0.9)
        stage = t.line.stages["correction"]
        assert isinstance(stage, Correction)
        t.state = t.line.changed(t.state, "correction", stage.hold(t.line.of(t.state, "correction"), True))
        t.sense("gyro", 1.0 * 60 * t.line.dt_s)
        self.assertAlmostEqual(t.go().get("correction", "rate"), before, delta=0.02)

    def test_a_jump_of_the_gyro_is_no_turn(self) -> None:
        t = Ticks(rig_of(TWO, self.HOLDS + PLAIN_LAW)).go(10)
        t.sense("gyro", 2.0)
        t.go()
        self.assertEqual((t.get("correction", "rate"), t.get("correction", "fault")), (0.0, JUMPED))

    def test_on_its_back_the_wheels_do_not_accuse_the_gyro(self) -> None:
        # its rollers stand the other way on its back, so that the same wheel speeds turn it the other way
        rig = rig_of(MECANUM, self.HOLDS + "[upside_down]\n" + PLANAR.replace("[gyro]\n", ""))
        line, model = Line(rig), IdealBody(rig)
        robot, state = model.start()._replace(upside_down=np.array(1.0)), line.start()
        for n in range(150):
            entry = Entry(twist=np.zeros(3), aim=np.array(0.0 if n < 5 else 1.2))
            state, row = line.step(state, line.rest(), model.sense(robot), 0.0, 0.0, model.truth(robot), entry)
            robot = model.step(robot, line.commands(row), line.dt_s)
            self.assertEqual(float(row[line.layout.at("correction", "fault")]), 0.0)
        self.assertAlmostEqual(float(row[line.layout.at("heading", "heading")]), 1.2, delta=0.05)


class BodyJointTest(unittest.TestCase):
    """The simulated robot with mass and slip."""

    def rig(self, extra: str, wheels: list[Wheel] = TWO) -> Rig:
        return rig_of(wheels, extra).with_body("realistic")

    def test_on_its_back_the_gyro_counts_the_other_way(self) -> None:
        model = RealisticBody(self.rig("[gyro]\n[upside_down]\n" + PLAIN_LAW))
        line = Line(model.rig)
        for back, sign in ((0.0, 1.0), (1.0, -1.0)):
            robot = model.start()._replace(upside_down=np.array(back))
            told = np.zeros(line.outputs.commands.stop - line.outputs.commands.start)
            told[:2] = -0.6, 0.6
            for _ in range(40):
                robot = model.step(robot, told, line.dt_s)
            gyro = float(model.sense(robot)[line.layout.at("sensed", "gyro") - line.layout.stage("sensed").start])
            turned = float(robot.pose[2])
            self.assertGreater(abs(turned), 0.2)
            self.assertAlmostEqual(gyro, sign * turned, delta=0.1 * abs(turned))

    def test_slip_is_that_of_the_end_of_a_step_also_against_a_wall(self) -> None:
        field = Field.model_validate(
            {"length": "4 m", "width": "3 m", "start": {"x": "0.6 m", "y": "1.5 m", "heading": "180 deg"}}
        )
        model = RealisticBody(self.rig(PLAIN_LAW), field)
        line = Line(model.rig)
        robot, hit = model.start(), 0
        for _ in range(120):
            _, row = line.step(line.start(), line.rest(), model.sense(robot))
            told = line.commands(row).copy()
            told[:2] = 0.6
            robot = model.step(robot, told, line.dt_s)
            hit += int(robot.blocked)
            ahead, aside, turn = robot.velocity.tolist()
            centre = model.rig.chassis.mass_centre
            for k, y in enumerate((0.25, -0.25)):
                # at the wheel: the speed of the mass centre, and what the turn adds
                s1 = float(robot.speed[k]) - (ahead - (y - centre.y_m) * turn)
                s2 = aside + (0.0 - centre.x_m) * turn
                self.assertAlmostEqual(float(robot.slip[k]), math.hypot(s1, s2), delta=1e-9)
        self.assertGreater(hit, 0)

    def test_electronics_that_start_again_steer_nothing(self) -> None:
        model = RealisticBody(self.rig(PLANAR, STEERED))
        line = Line(model.rig)
        robot = model.start()
        state, raw = line.start(), line.rest()
        raw[line.channels.index("left_x")] = 0.8
        ways = []
        for restart in (0.0, 1.0):
            one, there = robot._replace(restart=np.array(restart)), state
            for _ in range(10):
                there, row = line.step(there, raw, model.sense(one), 0.0, 0.0, model.truth(one))
                one = model.step(one, line.commands(row), line.dt_s)
            ways.append(float(np.abs(one.angle - robot.angle).max()))
        self.assertGreater(ways[0], 0.1)
        self.assertEqual(ways[1], 0.0)


class GainsTest(unittest.TestCase):
    def test_the_gains_of_a_rig_are_put_back_where_they_were(self) -> None:
        """Of every loop, with three numbers that are no two alike."""
        rig = read_rig(demo_path("avocet"))
        assert rig.correction is not None and rig.steering is not None
        own = {"p": 3.0, "i": 0.5, "d": 0.25}
        motors = {n: m.model_copy(update={"p_per_s": 9.0, "i": 0.7, "d": 0.3}) for n, m in rig.steering.wheels.items()}
        rig = rig.model_copy(update={
            "correction": rig.correction.model_copy(update={"p_per_s": 6.0, "i": 0.4, "d": 0.2}),
            "control": (rig.control or WheelControl()).model_copy(update={"wheels": "pid", **own}),
            "steering": rig.steering.model_copy(update={"wheels": motors}),
        })  # fmt: skip
        found = {loop.name: tuple(loop.gains(rig)) for loop in loops_of(rig)}
        self.assertEqual(found, {"heading": (6.0, 0.4, 0.2), "wheel": (3.0, 0.5, 0.25), "steering": (9.0, 0.7, 0.3)})
        upright = read_rig(demo_path("stilt"))
        self.assertEqual(
            {loop.name: loop.gains(upright).p for loop in loops_of(upright)},
            {"rate": 0.5, "lean": 10.5, "speed": 19.0, "place": 0.9, "heading": 4.0},
        )
        for loop in LOOPS.values():
            line = Line(rig if loop.of(rig) is not None else upright)
            names = {"heading": "correction", "wheel": "control", "steering": "steering"}
            stage = line.stages[names.get(loop.name, "balance")]
            before = stage.settings.data.tobytes()
            loop.put(line, loop.gains(line.rig))
            self.assertEqual(stage.settings.data.tobytes(), before)


if __name__ == "__main__":
    unittest.main()
