"""A robot that balances: its body against Newton's equations, its filter, its loops, what takes its drive off, and what is found for it."""

import io
import json
import math
import os
import pty
import shutil
import tempfile
import tty
import unittest
from collections.abc import Callable
from contextlib import redirect_stdout
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from pivrex.board.emulated import EmulatedRobot
from pivrex.board.hand import Hand
from pivrex.board.on_chip import run_on_chip
from pivrex.board.proving import own_ticks, played_ticks, prove, ran_in_double
from pivrex.board.steps import Task
from pivrex.board.watching import BY_LAPTOP, BY_ROUTINE, DRIVES, NOT_AT_REST
from pivrex.cli.main import run
from pivrex.devices.encode import frame_of
from pivrex.devices.sentence import frame, unframe
from pivrex.diagnosis.moves import MotorMove
from pivrex.diagnosis.practice import practise
from pivrex.diagnosis.shakedown import Shakedown
from pivrex.errors import RigError
from pivrex.formats.recording import Recording
from pivrex.line import Line
from pivrex.line.balance import EMPTY, FALLEN, STANDS, UNTRUSTED, WAITS
from pivrex.line.beginning import begun
from pivrex.line.tilt import DISAGREES, FROZEN, SILENT
from pivrex.rig import Rig, open_folder, read_rig, read_text
from pivrex.rig.balance import MIN_HZ
from pivrex.rig.changes import Change
from pivrex.rig.sources import FramesSource
from pivrex.rig.transports import Link
from pivrex.routine import play
from pivrex.routine.files import program_of
from pivrex.routine.fleet import Fleet
from pivrex.routine.means import Means
from pivrex.runs.ticks import play_through
from pivrex.session.core import Session
from pivrex.session.messages import GoLive, GoOn, KeyDown, MoveSimulated, MoveSticks, Probe, Push, PutBack, SetUp, Stop
from pivrex.session.status import Status
from pivrex.sim.body import BodyState, Conditions, RealisticBody
from pivrex.sim.wiring import faulty
from pivrex.tui.draw.bar import state_word
from pivrex.tui.editing import Editing
from pivrex.tui.guides.shakedown_guide import ShakedownGuide
from pivrex.tuning import LOOPS, Gains
from pivrex.tuning.balancing import balance_worries, biggest_push, falls_after_s, lqr_of, plant_of
from pivrex.tuning.relay import gains_by, relay_on
from pivrex.tuning.search import search
from tests.support import DEMO, often, slow, wait_for
from tests.test_alone import AloneCase
from tests.test_board import WITH_CHIP
from tests.test_routine_running import program
from tests.test_terminal import TerminalCase

Floats = NDArray[np.float64]
STILT = DEMO / "rigs" / "stilt.toml"
G = 9.81


def stilt() -> Rig:
    return read_rig(STILT)


def changed(*pairs: tuple[str, str]) -> Rig:
    """Return Stilt with parts of its file replaced."""
    text = STILT.read_text(encoding="utf-8")
    for old, new in pairs:
        assert text.count(old) >= 1, old
        text = text.replace(old, new)
    return read_text(text, STILT, Rig)


def smooth(rig: Rig, grip: float = 3.0) -> Rig:
    """Return a rig without friction in it, whose battery does not sag and has its nominal voltage."""
    motors = {n: m.model_copy(update={"smallest": 0.0, "friction": 0.0}) for n, m in rig.motors.items()}
    # 95 % of nominal at a tenth, 106 % when full, straight in between: nominal at this
    charge = 0.1 + 0.9 * (1.0 - 0.95) / (1.06 - 0.95)
    battery = rig.battery.model_copy(update={"resistance_ohm": 0.0, "charge": charge})
    assert rig.body is not None
    body = rig.body.model_copy(update={"rolling": 0.0, "grip": grip})
    return rig.model_copy(update={"motors": motors, "battery": battery, "body": body})


class Pendulum:
    """The two bodies by Newton and Euler with the forces between them, as the test has them: nothing is taken from the simulation but
    the numbers of the rig. The state is axle speed, lean and its rate; wheels roll.
    """

    def __init__(self, rig: Rig) -> None:
        body, chassis, motor = rig.body, rig.chassis, rig.motors["left"]
        assert body is not None and body.lean_spread_m is not None and motor.stall_Nm is not None
        self.mass, self.radius = body.weighs_kg(chassis), chassis.wheels[0].radius_m
        self.high = body.high_m(chassis) - self.radius
        self.inertia = self.mass * body.lean_spread_m**2
        self.free = motor.top_speed_rad_s / motor.gear
        self.stall = 2 * motor.stall_Nm * motor.gear * motor.efficiency
        # what turns counts as a sixth of the mass on each wheel, if the rig does not say
        self.turned = 2 * (self.mass / 2) * self.radius**2 / 6

    def acceleration(self, speed: float, lean: float, rate: float, drive: float = 0.0) -> Floats:
        """Return how speed and rate change, for seven unknowns: both accelerations, that of the wheel, the force at the hinge forward
        and up, the torque on the wheel, and the friction of the floor.
        """
        m, h0, r, s, c = self.mass, self.high, self.radius, math.sin(lean), math.cos(lean)
        wheel = speed / r
        torque = self.stall * (drive - (wheel - rate) / self.free)
        a, b = np.zeros((7, 7)), np.zeros(7)
        ax, alpha, beta, h, v, t, f = range(7)
        # the body: forward, up, about its mass centre
        a[0, ax], a[0, alpha], a[0, h], b[0] = m, m * h0 * c, -1.0, m * h0 * s * rate**2
        a[1, alpha], a[1, v], b[1] = -m * h0 * s, -1.0, m * h0 * c * rate**2 - m * G
        a[2, alpha], a[2, v], a[2, h], a[2, t] = self.inertia, -h0 * s, h0 * c, 1.0
        # what the motors turn is sped up against the body
        a[3, t], a[3, beta], a[3, alpha], b[3] = 1.0, self.turned, -self.turned, torque
        # the wheel has no mass of its own: about its axle, and forward
        a[4, t], a[4, f] = 1.0, -r
        a[5, f], a[5, h] = 1.0, -1.0
        a[6, ax], a[6, beta] = 1.0, -r  # it rolls
        found: Floats = np.asarray(np.linalg.solve(a, b)[[ax, alpha]], np.float64)
        return found

    def fall(self, lean: float, seconds: float, steps: int = 4000) -> Floats:
        """Return time, way, speed, lean and rate of a fall without drive, (N, 5), by Runge and Kutta."""

        def slope(x: Floats) -> Floats:
            speed, rate = self.acceleration(x[1], x[2], x[3])
            return np.array([x[1], speed, x[3], rate])

        x, dt = np.array([0.0, 0.0, lean, 0.0]), seconds / steps
        rows = [np.array([0.0, *x])]
        for k in range(steps):
            one = slope(x)
            two = slope(x + one * dt / 2)
            three = slope(x + two * dt / 2)
            four = slope(x + three * dt)
            x = x + (one + 2 * two + 2 * three + four) * dt / 6
            rows.append(np.array([(k + 1) * dt, *x]))
        return np.array(rows)


def let_go(model: RealisticBody, lean: float = 0.0, speed: float = 0.0, rate: float = 0.0) -> BodyState:
    """Return a robot that no one holds, whose wheels roll."""
    s = model.settings
    high, radius = float(s.mass_z - s.axle_z[0]), float(s.axle_z[0])
    velocity = np.array([speed + rate * high * math.cos(lean), 0.0, 0.0])
    spin = np.full(2, speed / radius - rate)
    return model.start()._replace(held=0.0, lean=lean, lean_rate=rate, velocity=velocity, spin=spin)


class BodyTest(unittest.TestCase):
    def test_small_leans_are_those_of_the_linear_theory(self) -> None:
        rig = smooth(stilt(), grip=0.8)
        pendulum, model, line = Pendulum(rig), RealisticBody(rig), Line(rig)
        e = 1e-6
        jacobian = np.zeros((3, 3))
        jacobian[1, 2] = 1.0
        for k, state in enumerate(np.eye(3) * e):
            jacobian[[0, 2], k] = pendulum.acceleration(*state) / e
        rest, seconds = line.resting(), 0.1
        columns = []
        for speed, lean, rate in np.eye(3) * 1e-3:
            robot = let_go(model, lean, speed, rate)
            for _ in range(round(seconds / line.dt_s)):
                robot = model.step(robot, rest, line.dt_s)
            high = pendulum.high * float(robot.lean_rate)
            columns.append([float(robot.velocity[0]) - high, float(robot.lean), float(robot.lean_rate)])
        poles = np.log(np.linalg.eigvals(np.array(columns).T / 1e-3).astype(complex)) / seconds
        expected = np.sort(np.linalg.eigvals(jacobian).real)
        self.assertGreater(expected[2], 5.0)  # it falls
        for found, known in zip(np.sort(poles.real), expected, strict=True):
            self.assertAlmostEqual(found / known, 1.0, delta=0.01)
        # the same from what LQR goes by
        theory = np.sort(np.linalg.eigvals(plant_of(rig).a).real)
        np.testing.assert_allclose([v for v in theory if abs(v) > 1e-9], expected, rtol=1e-6)

    def test_large_falls_are_those_of_newtons_equations(self) -> None:
        rig = smooth(stilt())
        model, line, pendulum = RealisticBody(rig), Line(rig), Pendulum(rig)
        rest = line.resting()
        for lean in (0.05, -0.1, 0.4):
            with self.subTest(lean=lean):
                known = pendulum.fall(lean, 0.7)
                known = known[np.abs(known[:, 3]) < 1.0]  # before it lies
                robot, t = let_go(model, lean), 0.0
                while t + line.dt_s < known[-1, 0]:
                    robot = model.step(robot, rest, line.dt_s)
                    t += line.dt_s
                way, _, leans, rate = (float(np.interp(t, known[:, 0], known[:, k])) for k in range(1, 5))
                self.assertGreater(abs(leans), 0.8)
                self.assertAlmostEqual(float(robot.lean), leans, delta=0.015 * abs(leans))
                self.assertAlmostEqual(float(robot.lean_rate), rate, delta=0.02 * abs(rate))
                self.assertAlmostEqual(float(robot.pose[0]), way, delta=0.002 + 0.03 * abs(way))

    def test_it_takes_energy_only(self) -> None:
        model = RealisticBody(stilt())
        line = Line(stilt())
        chance = np.random.default_rng(3)
        for _ in range(5):
            robot = let_go(model, *(chance.uniform(-1, 1, 3) * (0.5, 1.0, 3.0)).tolist())
            energy = float(model.energy(robot))
            for _ in range(200):
                robot = model.step(robot, line.resting(), line.dt_s)
                after = float(model.energy(robot))
                self.assertLessEqual(after, energy + 2e-3)
                energy = after

    def test_one_that_fell_lies_on_its_frame_and_is_picked_up(self) -> None:
        model, line = RealisticBody(stilt()), Line(stilt())
        for way in (1.0, -1.0):
            robot = let_go(model, 0.05 * way)
            for _ in range(600):
                robot = model.step(robot, line.resting(), line.dt_s)
            self.assertAlmostEqual(math.degrees(float(robot.lean)), 65.0 * way, delta=0.5)
            self.assertAlmostEqual(float(robot.lean_rate), 0.0, places=3)
            self.assertLess(float(robot.load.sum()), 0.6 * 1.1 * G)  # the frame carries the rest
            robot = robot._replace(held=1.0, hand=0.0)
            for _ in range(400):
                robot = model.step(robot, line.resting(), line.dt_s)
            self.assertAlmostEqual(float(robot.lean), 0.0, places=6)

    def test_motors_react_on_the_body(self) -> None:
        model, line = RealisticBody(stilt()), Line(stilt())
        told = line.resting().copy()
        for k, (value, sign) in enumerate(zip(line.outputs.values, (1, 0, 1, 0), strict=True)):
            told[k] = 60.0 if sign else (1.0 if value.motor == "left" else 0.0)  # right is reversed
        robot = let_go(model)
        for _ in range(10):
            robot = model.step(robot, told, line.dt_s)
        self.assertGreater(float(robot.spin.min()), 0.5)
        self.assertLess(float(robot.lean), -0.005)  # wheels forward, body back

    def test_a_wall_stops_its_wheels_and_the_body_goes_on(self) -> None:
        from pivrex.rig.field import Field

        field = Field.model_validate(
            {"length": "2 m", "width": "2 m", "start": {"x": "1.9 m", "y": "1 m", "heading": "0 deg"}}
        )
        model = RealisticBody(stilt(), field)
        line = Line(stilt())
        robot = let_go(model, 0.0, 0.6)
        for _ in range(80):
            robot = model.step(robot, line.resting(), line.dt_s)
        self.assertLess(float(robot.pose[0]), 1.95)
        self.assertGreater(float(robot.lean), 0.1)


TALL = """\
name = "Tall"
lag = "50 ms"
rate = "100 Hz"
[chassis]
kind = "two-sided"
length = "300 mm"
width = "300 mm"
wheels = [
    { name = "front left", x = "120 mm", y = "120 mm", radius = "40 mm" },
    { name = "front right", x = "120 mm", y = "-120 mm", radius = "40 mm" },
    { name = "rear left", x = "-120 mm", y = "120 mm", radius = "40 mm" },
    { name = "rear right", x = "-120 mm", y = "-120 mm", radius = "40 mm" },
]
[body]
mass = "4 kg"
height = "HIGH mm"
grip = 1.0
[motors.left]
wheels = ["front left", "rear left"]
top_speed = "50 rad/s"
stall = "8 Nm"
output = { kind = "fraction" }
[motors.right]
wheels = ["front right", "rear right"]
top_speed = "50 rad/s"
stall = "8 Nm"
output = { kind = "fraction" }
[law]
kind = "arcade"
"""


class TippingTest(unittest.TestCase):
    def drive(self, high: int, seconds: float = 2.0, way: float = 1.0) -> tuple[float, BodyState]:
        """Brake hard from 1.5 m/s; returns the largest lean and how it ends."""
        model = RealisticBody(read_text(TALL.replace("HIGH", str(high)), Path("tall.toml"), Rig))
        robot = model.start()._replace(velocity=np.array([1.5 * way, 0.0, 0.0]), spin=np.full(2, 37.5 * way))
        most = 0.0
        for _ in range(round(seconds * 100)):
            back = -way if abs(float(robot.velocity[0])) > 0.1 and float(robot.velocity[0]) * way > 0 else 0.0
            robot = model.step(robot, np.array([back, back]), 0.01)
            most = max(most, abs(float(robot.lean)))
        return most, robot

    def test_tyres_that_hold_less_than_its_weight_turn_nothing(self) -> None:
        # it tips if braking, at most grip · g, moves more moment than its weight: high > 120 mm / grip
        most, _ = self.drive(100)
        self.assertEqual(most, 0.0)

    def test_a_high_one_lifts_its_rear_and_comes_down_again(self) -> None:
        most, end = self.drive(170)
        self.assertGreater(most, 0.01)
        self.assertLess(most, 0.5)
        self.assertEqual(float(end.lean), 0.0)
        self.assertAlmostEqual(float(end.load.sum()), 4 * G, delta=0.5)

    def test_a_higher_one_falls_over_forward_and_back(self) -> None:
        # its weight is lifted by √(120² + 410²) - 410 = 17 mm; of 1.5 m/s about the axle enough is left
        for way in (1.0, -1.0):
            most, end = self.drive(450, way=way)
            self.assertAlmostEqual(float(end.lean), way * math.pi / 2, delta=0.02)
            self.assertGreater(most, 1.5)

    def test_who_tips_is_an_event_of_a_run(self) -> None:
        from pivrex.runs.events import Watcher

        rig = read_text(TALL.replace("HIGH", "450"), Path("tall.toml"), Rig)
        line = Line(rig)
        rows = np.zeros((20, len(line.layout)))
        rows[:, line.layout.at("clock", "t")] = np.arange(20) / 100
        rows[5:, line.layout.at("truth", "lean")] = np.linspace(0.0, 1.5, 15)
        found = [e for e in Watcher(line).add(rows, 0) if e.kind == "fall"]
        self.assertEqual([(e.row, e.text) for e in found], [(9, "it falls forward")])


class TiltTest(unittest.TestCase):
    """The filter by itself, fed with readings that are known."""

    def filtered(self, rig: Rig, readings: Floats) -> tuple[Line, Floats]:
        line = Line(rig)
        state, rows = line.start(), []
        first = line.layout.at("sensed", "lean_rate") - line.layout.stage("sensed").start
        for reading in readings:
            sensed = np.zeros(len(line.stages["sensed"].columns))
            sensed[first : first + 3] = reading
            state, row = line.step(state, line.rest(), sensed)
            rows.append(row)
        return line, np.array(rows)

    @staticmethod
    def still(lean: float, ticks: int, noise: float = 1e-6) -> Floats:
        """Return the readings of a sensor that stands still at a lean, with the little noise that it always has."""
        shaken = np.random.default_rng(0).standard_normal((ticks, 3)) * noise
        return shaken + np.array([0.0, -math.sin(lean), math.cos(lean)])

    def test_a_step_of_the_accelerometers_comes_through_with_the_time_constant(self) -> None:
        rig = changed(('bias_time = "10 s"', 'bias_time = "0 s"'), ('mounting_error = "0.5 deg"', ""))
        line, rows = self.filtered(rig, np.concatenate((self.still(0.0, 400), self.still(0.1, 400))))
        lean = rows[:, line.layout.at("tilt", "lean")]
        for seconds in (0.5, 1.0, 1.9):
            self.assertAlmostEqual(lean[400 + round(seconds * 200)], 0.1 * (1 - math.exp(-seconds)), delta=0.0006)

    def test_at_first_it_takes_the_mean_of_the_accelerometers(self) -> None:
        line, rows = self.filtered(stilt(), self.still(0.05, 100, noise=0.03))
        lean = rows[:, line.layout.at("tilt", "lean")]
        by_weight = rows[:, line.layout.at("tilt", "by_weight")]
        self.assertAlmostEqual(lean[-1], float(by_weight.mean()), delta=0.003)
        self.assertAlmostEqual(lean[-1], 0.05, delta=0.009)  # 0.03 g of noise over √100, three times

    def test_the_gyro_alone_counts_at_once(self) -> None:
        t = np.arange(200) / 200
        true = 0.2 * np.sin(2 * np.pi * 1.0 * t)
        rate = 0.2 * 2 * np.pi * np.cos(2 * np.pi * 1.0 * t)
        # accelerometers that say nothing of it
        readings = np.stack((rate, np.zeros(200), np.ones(200)), axis=-1)
        line, rows = self.filtered(stilt(), np.concatenate((self.still(0.0, 400), readings)))
        lean = rows[400:, line.layout.at("tilt", "lean")]
        self.assertLess(np.abs(lean[:50] - true[:50]).max(), 0.04)

    def test_a_bias_is_learned(self) -> None:
        readings = self.still(0.0, 24000)
        readings[:, 0] += 0.02
        line, rows = self.filtered(stilt(), readings)
        # without learning the lean would stay off by bias · blend = 0.02 rad
        self.assertAlmostEqual(rows[600, line.layout.at("tilt", "lean")], 0.02, delta=0.006)
        self.assertAlmostEqual(rows[-1, line.layout.at("tilt", "lean")], 0.0, delta=5e-4)
        self.assertAlmostEqual(rows[-1, line.layout.at("tilt", "bias")], 0.02, delta=5e-4)

    def test_a_sensor_that_lies(self) -> None:
        dead = self.still(0.0, 300)
        dead[100:] = math.nan
        frozen = self.still(0.0, 300)
        frozen[100:] = frozen[100]
        turned = self.still(0.0, 600)
        turned[100:] = self.still(1.2, 500)  # the gyro says that nothing moved
        for readings, fault, after_s in ((dead, SILENT, 0.05), (frozen, FROZEN, 0.2), (turned, DISAGREES, 0.4)):
            with self.subTest(fault=fault):
                line, rows = self.filtered(stilt(), readings)
                faults = rows[:, line.layout.at("tilt", "fault")]
                self.assertEqual(faults[:100].max(), 0.0)
                self.assertIn(fault, faults[100 : 100 + round(after_s * 200)])

    def test_one_that_is_mounted_the_other_way(self) -> None:
        rig = changed(("[tilt] ", "[tilt]\nreversed = true\n#"))
        readings = self.still(0.1, 100)
        readings[:, 1] *= -1.0
        line, rows = self.filtered(rig, readings)
        self.assertAlmostEqual(rows[-1, line.layout.at("tilt", "lean")], 0.1, delta=1e-3)


class Ride:
    """Robots that balance, by themselves or driven."""

    def __init__(self, rig: Rig, count: int = 1, seconds: float = 10.0, under: Conditions | None = None) -> None:
        self.rig, self.line = rig, Line(rig)
        self.model = RealisticBody(rig, under=under)
        names = (("balance", "state"), ("truth", "x"), ("truth", "y"), ("truth", "lean"), ("balance", "speed_measured"))
        places = [self.line.layout.at(*n) for n in names]
        self._ticks = round(seconds / self.line.dt_s)
        seeds = np.arange(count, dtype=np.uint64)
        begin = begun(self.line, np.zeros(3), (count,))
        start = self.model.start((count,), seeds)
        self.fleet = Fleet(Means(self.line, self._ticks + 1, places), self.model, begin, start, np.zeros(3))

    def until(self, seconds: float) -> None:
        self.fleet.run(round(seconds / self.line.dt_s))

    def push(self, newton_seconds: float) -> None:
        push = np.zeros((len(self.fleet.ended_at), 3))
        push[:, 0] = newton_seconds
        self.fleet.push(push)

    @property
    def seen(self) -> Floats:
        """What each did, (robots, ticks, 5)."""
        return self.fleet.table[:, : int(self.fleet.ticks.min())]


class StandsTest(unittest.TestCase):
    @slow
    def test_twenty_seeds_stand_for_ten_minutes_while_the_battery_sags_and_somebody_pushes(self) -> None:
        rig = changed(("sensed = true", 'sensed = true\ncapacity = "60 mAh"\ncharge = "95 %"'))
        ride = Ride(rig, 20, 600.0, Conditions(noise=np.full(20, 2.0)))
        for minute in range(10):
            ride.until(60.0 * (minute + 1))
            ride.push(0.6 * (-1.0) ** minute)
        self.assertEqual(set(ride.seen[:, 1:, 0].ravel()), {STANDS})
        self.assertLess(np.abs(ride.seen[..., 1]).max(), 0.5)  # no one goes away
        volts = ride.fleet.rows[:, ride.line.layout.at("truth", "battery")]
        self.assertLess(volts.max(), 0.97 * rig.battery.volts)  # it did sag

    @slow
    def test_floor_load_and_battery_change_while_it_stands(self) -> None:
        ride, robots = Ride(stilt(), 6, 60.0), 6
        for k in range(6):
            ride.until(10.0 * (k + 1))
            share = (k + 1) / 6
            # from rubber on wood to dust, a fifth more load, a battery that goes empty
            under = Conditions(grip=np.full(robots, 1.0 - 0.5 * share), mass=np.full(robots, 1.0 + 0.2 * share),
                               resistance=np.full(robots, 1.0 + 3.0 * share))  # fmt: skip
            ride.fleet.model = RealisticBody(stilt(), under=under)
            ride.push(0.3 * (-1.0) ** k)
        self.assertEqual(set(ride.seen[:, 1:, 0].ravel()), {STANDS})
        self.assertLess(np.abs(ride.seen[..., 1]).max(), 0.4)

    def test_it_gives_way_to_a_push_and_comes_back(self) -> None:
        ride = Ride(stilt(), 4, 14.0)
        ride.until(6.0)
        stood = ride.seen[:, -1, 1]
        ride.push(0.5)
        ride.until(14.0)
        away = ride.seen[:, 1200:, 1] - stood[:, None]
        self.assertGreater(away.max(axis=1).min(), 0.05)
        self.assertLess(np.abs(away[:, -100:]).max(), 0.06)

    def test_a_push_that_is_found_to_be_survived_is(self) -> None:
        rig = stilt()
        found = float(biggest_push(rig)[0])
        self.assertGreater(found, 0.6)
        for share, falls in ((0.95, False), (1.25, True)):
            ride = Ride(rig, 1, 6.0)
            ride.until(0.5)
            ride.push(found * share)
            ride.until(6.0)
            self.assertEqual(bool((ride.seen[0, 1:, 0] == FALLEN).any()), falls, share)

    def driven(self, forward: float, stop_at: float, stop: bool) -> Floats:
        """Drive one robot with a stick for 3 s, then let go or stop; returns its Ticks."""
        rig = stilt()
        line, model = Line(rig), RealisticBody(rig)
        state, robot, rows = begun(line, np.zeros(3)), model.start(), []
        for k in range(1600):
            raw = line.rest().copy()
            driving = 1.0 < k * line.dt_s < stop_at
            raw[line.inputs.names.index("left_y")] = -forward if driving or (stop and k * line.dt_s >= 1.0) else 0.0
            stopped = float(stop and k * line.dt_s >= stop_at)
            state, row = line.step(state, raw, model.sense(robot), stopped, truth=model.truth(robot))
            robot = model.step(robot, line.commands(row), line.dt_s)
            rows.append(row)
        return np.array(rows)

    def test_released_or_stopped_it_comes_to_rest_and_holds_its_place(self) -> None:
        layout = Line(stilt()).layout
        for stop in (False, True):  # a stop counts although the stick is still pushed
            rows = self.driven(0.8, 4.0, stop)
            x, state = rows[:, layout.at("truth", "x")], rows[:, layout.at("balance", "state")]
            self.assertEqual(set(state[1:]), {STANDS})
            self.assertGreater(x[800] - x[200], 0.6)
            self.assertLess(np.ptp(x[-200:]), 0.1)
            self.assertLess(abs(x[-1] - x[800]), 0.4)
            self.assertEqual(rows[-1, layout.at("law", "forward")], 0.0)

    def test_the_why_tells_lean_and_its_parts(self) -> None:
        from pivrex.line.why import ladder, sentence

        line = Line(stilt())
        rows = self.driven(0.5, 3.0, False)
        said = sentence(line, rows[500], "left").replace("−", "-")
        lean = math.degrees(rows[500, line.layout.at("balance", "lean_measured")])
        self.assertIn(f"lean {lean:+.1f} deg, target", said)
        rungs = {r.stage: r.text for r in ladder(line, rows[500], "left")}
        self.assertLessEqual({"tilt", "place", "speed", "lean", "rate", "balance"}, set(rungs))
        self.assertIn(f"→ lean {math.degrees(rows[500, line.layout.at('tilt', 'lean')]):+.1f} deg", rungs["tilt"])


class RoutineTest(unittest.TestCase):
    def test_three_metres_straight_and_back(self) -> None:
        text = (
            "start at 0.6 m, 0.55 m facing 0 deg\ndrive ahead 3 m at 80 %\nwait 1 s\ndrive back 3 m at 80 %\nwait 2 s\n"
        )
        rig = stilt()
        field = open_folder(DEMO).settings.field
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "there.txt"
            path.write_text(text, encoding="utf-8")
            program = program_of(path, rig)
        for seed in range(4):
            end = play(program, rig, field, 40.0, seed).poses[-1]
            self.assertLess(math.hypot(end[0] - 0.6, end[1] - 0.55), 0.05, seed)

    def test_what_ships(self) -> None:
        """Its routine ends where it should, its path within a wheel of its end, and its recorded driver bumps into nothing."""
        rig, home = stilt(), open_folder(DEMO)
        field = home.settings.field
        program = program_of(DEMO / "routines" / "greenhouse-stilt.txt", rig)
        played = play(program, rig, field, 25.0, 0)
        self.assertEqual(played.ended, "finished")
        self.assertLess(math.hypot(played.poses[-1][0] - 0.5, played.poses[-1][1] - 0.55), 0.05)
        played = play(program_of(DEMO / "routines" / "round.txt", rig), rig, field, 25.0, 0)
        self.assertEqual(played.ended, "finished")
        self.assertLess(math.hypot(played.poses[-1][0] - 1.70, played.poses[-1][1] - 2.05), 0.15)
        line = Line(rig)
        rows = np.array(list(play_through(rig, Recording(DEMO / "inputs" / "balancing.csv"), field, every_tick=True)))
        self.assertEqual(set(rows[1:, line.layout.at("balance", "state")]), {STANDS})
        self.assertEqual(rows[:, line.layout.at("truth", "blocked")].max(), 0.0)
        self.assertGreater(np.abs(np.diff(rows[:, line.layout.at("truth", "x")])).sum(), 5.0)


class DriveOffTest(unittest.TestCase):
    """Only a fall, a sensor that lies and an empty battery take the drive off; and it stays off until the robot is held still."""

    def setUp(self) -> None:
        self.line, self.model = Line(stilt()), RealisticBody(stilt())
        self.state, self.robot = self.line.start(), self.model.start()

    def run_for(self, seconds: float, **sensed: float) -> Floats:
        rows, columns = [], [c.name for c in self.line.stages["sensed"].columns]
        for _ in range(round(seconds / self.line.dt_s)):
            seen = self.model.sense(self.robot).copy()
            for name, value in sensed.items():
                seen[columns.index(name)] = value
            self.state, row = self.line.step(self.state, self.line.rest(), seen, truth=self.model.truth(self.robot))
            self.robot = self.model.step(self.robot, self.line.commands(row), self.line.dt_s)
            rows.append(row)
        return np.array(rows)

    def states(self, rows: Floats) -> list[float]:
        found: list[float] = rows[:, self.line.layout.at("balance", "state")].tolist()
        return found

    def drives(self, rows: Floats) -> Floats:
        return np.abs(rows[:, self.line.layout.stage("drive")]).max(axis=1)

    def test_it_begins_once_it_has_been_held_still(self) -> None:
        rows = self.run_for(2.0)
        states = self.states(rows)
        self.assertEqual(states[0], WAITS)
        self.assertEqual(states[-1], STANDS)
        self.assertAlmostEqual(states.index(STANDS) / 200, 1.0, delta=0.05)
        self.assertEqual(self.drives(rows[:190]).max(), 0.0)

    def test_lying_at_the_start_it_waits(self) -> None:
        self.robot = self.robot._replace(held=0.0, lean=self.model.settings.lies[0], hand=0.0)
        rows = self.run_for(2.0)
        self.assertEqual(set(self.states(rows)), {FALLEN})
        self.assertEqual(self.drives(rows).max(), 0.0)

    def test_who_fell_stays_off_until_set_up(self) -> None:
        self.run_for(3.0)
        self.robot = self.model.pushed(self.robot, np.array([3.0, 0.0, 0.0]))
        rows = self.run_for(4.0)
        self.assertEqual(self.states(rows)[-1], FALLEN)
        self.assertEqual(self.drives(rows[-400:]).max(), 0.0)
        self.robot = self.robot._replace(held=1.0, hand=0.0)
        rows = self.run_for(4.0)
        self.assertEqual(self.states(rows)[-1], STANDS)
        self.assertLess(abs(float(self.robot.lean)), 0.1)

    def test_a_sensor_that_falls_silent(self) -> None:
        self.run_for(3.0)
        rows = self.run_for(0.5, lean_rate=math.nan, accel_forward=math.nan, accel_up=math.nan)
        self.assertEqual(self.states(rows)[-1], UNTRUSTED)
        self.assertEqual(self.drives(rows[-10:]).max(), 0.0)

    def test_an_encoder_that_falls_silent_topples_nothing(self) -> None:
        self.run_for(3.0)
        rows = self.run_for(3.0, left_travel=math.nan, left_speed=math.nan)
        self.assertEqual(set(self.states(rows)), {STANDS})
        self.assertTrue(np.isfinite(rows[:, self.line.layout.stage("outputs")]).all())
        rows = self.run_for(3.0)
        self.assertEqual(set(self.states(rows)), {STANDS})

    def test_a_battery_that_is_empty(self) -> None:
        self.run_for(3.0)
        least = self.line.rig.battery.restarts_below_V
        rows = self.run_for(0.3, battery=least - 0.1)
        self.assertEqual(self.states(rows)[-1], STANDS)  # a dip is none
        rows = self.run_for(1.0, battery=least - 0.1)
        self.assertIn(EMPTY, self.states(rows))


class SessionTest(unittest.TestCase):
    """A session with the simulated robot, without its process: every stop and loss ends in standing upright."""

    def setUp(self) -> None:
        self.now = 0.0
        self.session = Session(SetUp(stilt(), None, source="sticks", gamepads=False))
        self.addCleanup(lambda: self.session.close(self.now))

    def pass_s(self, seconds: float, forward: float = 0.0) -> Floats:
        rows = []
        for _ in range(round(seconds * 200)):
            if forward:
                self.session.handle(MoveSticks({"left_y": -forward, "left_x": 0.0}), self.now)
            rows.append(self.session.tick(self.now))
            self.now += 0.005
        return np.array(rows)

    def of(self, rows: Floats, stage: str, name: str) -> Floats:
        found: Floats = rows[:, self.session.line.layout.at(stage, name)]
        return found

    def test_it_stands_and_a_stop_leaves_it_upright(self) -> None:
        self.pass_s(2.0)
        self.assertTrue(self.session.status.upright)
        self.pass_s(2.0, forward=0.8)
        self.session.handle(Stop("Esc"), self.now)
        rows = self.pass_s(4.0, forward=0.8)
        self.assertEqual(self.session.status.held, "Esc")
        self.assertEqual(self.session.status.stopped, "it stands upright and holds its place")
        self.assertEqual(set(self.of(rows, "balance", "state")), {STANDS})
        self.assertLess(np.ptp(self.of(rows, "truth", "x")[-200:]), 0.1)
        self.assertEqual(state_word(False, "Esc", "", True)[0].strip(), "! STANDS STILL")

    def test_an_exception_in_a_tick_does_not_topple_it(self) -> None:
        self.pass_s(2.0)
        self.session.fail(RuntimeError("a bug"))
        rows = self.pass_s(3.0)
        self.assertEqual(set(self.of(rows, "balance", "state")), {STANDS})

    def test_a_fall_stops_it_until_it_is_set_up(self) -> None:
        self.pass_s(2.0)
        self.session.handle(Push(forward_Ns=4.0), self.now)
        self.pass_s(3.0)
        self.assertIn("fell", self.session.status.held)
        self.assertFalse(self.session.status.upright)
        self.session.handle(MoveSimulated("set up"), self.now)
        self.pass_s(4.0)
        self.assertTrue(self.session.status.upright)
        self.assertIn("fell", self.session.status.held)  # upright, and still stopped
        self.session.handle(GoOn(), self.now)
        rows = self.pass_s(3.0, forward=0.8)
        self.assertGreater(float(self.of(rows, "truth", "x")[-1] - self.of(rows, "truth", "x")[0]), 0.2)

    def test_lying_down_and_back_at_the_start(self) -> None:
        self.session.handle(MoveSimulated("lay down"), self.now)
        rows = self.pass_s(1.0)
        self.assertEqual(self.of(rows, "balance", "state")[-1], FALLEN)
        self.session.handle(PutBack(), self.now)
        rows = self.pass_s(2.0)
        self.assertEqual(set(self.of(rows, "balance", "state")[5:]), {STANDS})

    def test_a_throttle_that_goes_one_way_flags_of_two_handsets_and_silence(self) -> None:
        self.session.close(self.now)
        far, near = pty.openpty()
        tty.setraw(near)
        self.addCleanup(os.close, far)
        rig = changed(('"/tmp/pivrex-handsets"', f'"{os.ttyname(near)}"'))
        os.close(near)
        spec = rig.sources["handsets"]
        assert isinstance(spec, FramesSource)
        self.assertEqual(frame_of(spec, {"left_y": -1.0, "button_0": 1.0, "button_3": 1.0})[2:5].hex(), "ff8084")
        self.session = Session(SetUp(rig, None, source="handsets", gamepads=False))
        wire = self.session.inputs.remotes["handsets"].wire
        wait_for(lambda: len(self.pass_s(0.02)) and wire.is_open)  # a port is opened next to the ticks

        def drive(seconds: float, **readings: float) -> Floats:
            rows = []
            for _ in range(round(seconds * 20)):
                os.write(far, frame_of(spec, readings))
                rows.append(self.pass_s(0.05))
            return np.concatenate(rows)

        self.assertIn("nothing was heard", self.session.status.lost)
        drive(2.0)
        self.assertEqual(self.session.status.lost, "")

        def speed(seconds: float, **readings: float) -> float:
            """Drive, and give the mean speed of the last half second, in m/s."""
            x = self.of(drive(seconds, **readings), "truth", "x")
            return float(x[-1] - x[-101]) / 0.5

        full = speed(2.5, left_y=-0.8)
        self.assertGreater(full, 0.2)
        self.assertLess(speed(4.0, left_y=-0.8, button_0=1), -0.2)
        self.assertGreater(speed(4.0, left_y=-0.8), 0.2)
        self.assertAlmostEqual(speed(4.0, left_y=-0.8, button_2=1), 0.4 * full, delta=0.1 * full)  # the other handset
        drive(2.0, left_y=-0.8)
        rows = self.pass_s(4.0)  # not a word more
        self.assertEqual(self.session.status.lost, "handsets: silent for 300 ms")
        self.assertEqual(set(self.of(rows, "balance", "state")), {STANDS})
        self.assertLess(np.ptp(self.of(rows, "truth", "x")[-200:]), 0.1)
        drive(1.0)
        drive(0.2, button_3=1)
        self.assertNotEqual(self.session.status.held, "")
        self.assertTrue(self.session.status.upright)

    def test_single_motors_only_in_the_hand(self) -> None:
        moves = (MotorMove(port=0, duty=0.2, seconds=0.5),)
        self.session.handle(Probe(1, moves), self.now)
        self.assertIn("lift it first", self.session.status.note)
        self.session.handle(MoveSimulated("lift"), self.now)
        rows = self.pass_s(2.0)
        self.assertEqual(
            np.abs(rows[1:, self.session.line.layout.stage("drive")]).max(), 0.0
        )  # its wheels turn in no one's hand
        self.session.handle(Probe(2, moves), self.now)
        self.assertEqual(self.session.status.probing, 2)

    def test_it_is_not_driven_over_a_link(self) -> None:
        wire = {"kind": "udp", "port": 9, "host": "127.0.0.1"}
        rig = changed(('mode = "alone"', 'mode = "obeys"'))
        session = Session(SetUp(rig, None, source="sticks", gamepads=False, link=Link.model_validate({"wire": wire})))
        self.addCleanup(lambda: session.close(0.0))
        session.tick(0.0)
        session.handle(GoLive(), 0.0)
        self.assertIn("cannot wait for a laptop", session.status.note)
        self.assertFalse(session.status.live)

    def test_gains_that_make_it_fall_are_said_before_they_are_taken(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "stilt.toml"
            path.write_bytes(STILT.read_bytes())
            open_rig = Editing(path)
            open_rig.type_in("balance.rate.p", "0.01")
            self.assertIn("falls after", open_rig.message)
            self.assertEqual(open_rig.rig, stilt())
            self.assertEqual(path.read_bytes(), STILT.read_bytes())
            open_rig.type_in("balance.rate.p", "0.01")  # who insists
            assert open_rig.rig.balance is not None
            self.assertEqual(open_rig.rig.balance.rate.p, 0.01)

    def test_a_button_is_obeyed_once_though_its_column_is_repeated(self) -> None:
        rig = changed(("[law]", '[[bindings]]\nchannel = "button_0"\ndoes = "record"\n\n[law]'))
        with tempfile.TemporaryDirectory() as folder:
            session = Session(SetUp(rig, None, source="keys", gamepads=False, inputs=Path(folder)))
            now = 0.0
            for k in range(200):
                if k == 103:  # between two ticks in which it is asked what the driver wants
                    session.handle(KeyDown("button_0"), now)
                session.tick(now)
                now += 0.005
            self.assertTrue(session.status.recording)  # four times would have ended it again
            session.close(now)

    def test_both_rates_are_in_the_tick(self) -> None:
        rows = self.pass_s(1.0, forward=0.5)
        asks = self.of(rows, "clock", "asks")
        self.assertEqual(asks.sum(), 50.0)
        speed = self.of(rows, "law", "forward")
        changes = np.flatnonzero(np.diff(speed)) + 1
        self.assertEqual(set(asks[changes]), {1.0})
        self.assertGreater(len(set(self.of(rows, "tilt", "lean"))), 190)


class ShakedownTest(unittest.TestCase):
    def test_crossed_wires_and_sensors_that_sit_the_other_way_are_found_in_the_hand(self) -> None:
        text = STILT.read_text(encoding="utf-8")
        for seed in range(6):
            wiring = faulty(stilt(), "random", seed)
            report = practise(stilt(), text, STILT, wiring, "up", "sensors")
            self.assertTrue(report.correct, (seed, report.steps))
            self.assertLessEqual(report.human_answers, 2)  # which way each wheel rolls, in the air no sensor tells
        said = " ".join(practise(stilt(), text, STILT, faulty(stilt(), "tilt"), "up", "sensors").steps)
        self.assertIn("tipped forward, the tilt sensor says back: it is mounted the other way", said)

    def test_a_sensor_that_feels_nothing_is_asked_again(self) -> None:
        down = Shakedown(stilt(), "up")
        self.assertEqual(down.next().kind, "tip")  # before anything drives
        flat = np.zeros(len(Line(stilt()).stages["sensed"].columns))
        self.assertIn("is it plugged in", down.tip(flat))
        self.assertEqual(down.next().kind, "tip")

    def test_on_the_screen_it_is_done_in_the_hand(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "stilt.toml"
            path.write_bytes(STILT.read_bytes())
            self.assertEqual([c.key for c in self.shaken(path)], ["tilt.reversed"])

    def shaken(self, path: Path) -> list[Change]:
        """Do a shakedown with the guide of the screen, whose session has a tilt sensor that is mounted the other way."""
        session = Session(SetUp(read_rig(path), None, source="sticks", gamepads=False, fault="tilt"))
        model = GuideModel(path, session)
        guide = ShakedownGuide(model)  # type: ignore[arg-type]
        self.assertEqual(len(guide.choices()), 2)  # nothing on the floor
        for _ in range(4000):
            model.tick()
            guide.update()
            if not guide.number and not guide._wait:
                if guide.changes:
                    break
                # what eyes see of the simulated robot is the right answer
                probed = session.status.probed
                seen = probed.eyes.replace("rolls", "rolled") if probed is not None else ""
                right = [k for k, c in enumerate(guide.choices()) if guide.runs and c in seen]
                guide.at = right[0] if right else guide.at
                guide.take_key("enter")
        session.close(0.0)
        return guide.changes


class GuideModel(Editing):
    """What the guide needs of the screen's model, with a session of this process."""

    replay = practice = None

    def __init__(self, path: Path, session: Session) -> None:
        super().__init__(path)
        self.session, self.now, self._number = session, 0.0, 0
        self.row: Floats | None = None

    def tick(self) -> None:
        for _ in range(7):
            self.row = self.session.tick(self.now)
            self.now += 0.005

    @property
    def status(self) -> Status:
        return self.session.status

    def ask(self, request: object) -> None:
        self.session.handle(request, self.now)  # type: ignore[arg-type]

    def probe(self, moves: tuple[MotorMove, ...]) -> int:
        self._number += 1
        self.ask(Probe(self._number, moves))
        return self._number


RADIO = """
[sources.radio]
kind = "packets"
sender = "green"
columns = ["left_x", "left_y"]
silent_after = "100 ms"
wire = { kind = "serial", port = "/tmp/none", baud = 57600 }

# --- motors ---"""


START = (('chip = "atmega328p"', 'chip = "atmega328p"\nstart_pin = 12'),)
"""A button that begins a routine."""


@WITH_CHIP
class WatchedTest(AloneCase):
    """A laptop makes the ticks of a board that balances again, to the bit. Its serial line has only the time that ticks leave."""

    TEXT = "drive ahead 0.3 m\n"

    def rig_of(self) -> Rig:
        link = '[link]\nwire = { kind = "serial", port = "/tmp/none", baud = 250000 }\n\n# --- motors'
        return changed(*START, ('rate = "200 Hz"', 'rate = "100 Hz"'), ("# --- motors", link))

    def test_a_laptop_is_its_stick(self) -> None:
        self.go(2.5)
        self.stick(0.3)
        at = float(self.robot.body.pose[0])
        self.stick(1.5, left_y=-0.6)
        self.assertGreater(float(self.robot.body.pose[0]) - at, 0.2)
        self.assertEqual(self.ticks[-1].why, BY_LAPTOP)
        self.assertTrue(all(t.same for t in self.ticks))
        at = float(self.robot.body.pose[0])
        self.go(2.5)  # it falls silent
        self.assertLess(abs(float(self.robot.body.pose[0]) - at), 0.3)
        self.assertLess(abs(float(self.robot.body.lean)), 0.08)
        self.assertEqual(self.ticks[-1].why, DRIVES)

    def test_it_stands_drives_its_routine_and_obeys_its_stick(self) -> None:
        self.go(3.0)
        self.robot.sticks["start"] = 1.0
        self.go(0.1)
        self.robot.sticks["start"] = 0.0
        self.go(2.5)
        self.go(1.0, left_y=-0.6)
        self.assertTrue(all(t.same for t in self.ticks))
        self.assertEqual(list(dict.fromkeys(t.why for t in self.ticks))[-3:], [DRIVES, BY_ROUTINE, NOT_AT_REST])
        rows = np.array([t.row for t in self.ticks])
        layout = self.line.layout
        self.assertEqual(set(rows[150:, layout.at("balance", "state")]), {STANDS})
        self.assertLess(abs(float(self.robot.body.lean)), 0.35)
        place = rows[:, layout.at("balance", "place_measured")]
        rolled = rows[:, layout.at("sensed", "left_travel")] + 0.04 * rows[:, layout.at("tilt", "lean")]
        np.testing.assert_allclose(np.diff(place)[1:], np.diff(rolled)[1:], atol=3e-3)


class Laptop:
    """A laptop on the link that is the stick of a board in the emulator, fifty times a second.

    Attributes
    ----------
    newest : int
        The board's newest tick.
    said : list of bytes
        What it has told.
    """

    def __init__(self, robot: EmulatedRobot, hand: Hand) -> None:
        self.robot, self.hand, self.newest, self.rig = robot, hand, 0, ""
        self.said: list[bytes] = []
        self.heard = b""
        self.hear(1.2)  # a board greets once a second

    def hear(self, seconds: float) -> None:
        *lines, self.heard = (self.heard + self.hand.pass_time(seconds)).split(b"\r\n")
        for words in (line.decode("ascii", "replace").split(",") for line in lines):
            if words[0] == "$PIVTIC":
                self.newest = int(words[1])
            elif words[0] == "$PIVHEY":
                self.rig = words[2]

    def drive(
        self, seconds: float, left_y: float, left_x: float, spoiled: Callable[[bytes], bytes] | None = None
    ) -> None:
        for _ in range(round(seconds / 0.02)):
            body = f"PIVBID,{len(self.said) + 1},{self.newest},{self.rig},stick,{1000 * left_y:.0f},{1000 * left_x:.0f}"
            said = frame(body)
            self.said.append(said)
            self.robot.take(spoiled(said) if spoiled is not None else said, "", self.hand.now_s)
            self.hear(0.02)


@WITH_CHIP
class BoardTest(unittest.TestCase):
    """Its own program, in the emulated chip with the body at its pins."""

    def test_both_rates_are_proved(self) -> None:
        line = Line(stilt())
        ticks = own_ticks(line, often(1500, 500), seed=2)
        self.assertEqual(float(ticks.rows[:, line.layout.at("clock", "asks")].mean()), 0.25)
        self.assertIn(STANDS, ticks.rows[:, line.layout.at("balance", "state")])
        proof, floats = prove(line, ticks)
        self.assertTrue(proof.holds, proof)
        chip = run_on_chip(line, ticks, floats)
        self.assertEqual(chip.differ, 0)
        self.assertLess(chip.us_most, 1e6 / 200)

    def stand(self, rig: Rig, task: Task | None = None) -> tuple[EmulatedRobot, Hand]:
        robot = EmulatedRobot(rig, None, 0.0, task=task)
        self.addCleanup(robot.close)
        hand = Hand(rig, robot)
        hand.pass_time(0.9)
        self.assertEqual(float(robot.body.held), 1.0)  # it waits until it has been held still
        hand.pass_time(1.1)
        self.assertEqual(float(robot.body.held), 0.0)
        return robot, hand

    def upright_after(self, robot: EmulatedRobot, hand: Hand, lose: Callable[[], None]) -> None:
        """Drive, lose what drives, and hold the robot to standing where it was."""
        hand.readings = {"left_y": -0.6, "left_x": 0.2}
        hand.pass_time(1.2)
        lose()
        at = robot.body.pose[:2].copy()
        for _ in range(5):
            hand.pass_time(0.5)
            self.assertLess(abs(float(robot.body.lean)), 0.35)
        self.assertLess(abs(float(robot.body.lean)), 0.08)
        self.assertLess(float(np.hypot(*(robot.body.pose[:2] - at))), 0.3)
        self.assertFalse(robot.resting)  # it does not lie, and is not let go

    def test_a_routine_begins_while_it_stands(self) -> None:
        rig = changed(*START)
        robot, hand = self.stand(rig, Task(program("drive ahead 0.5 m\n", rig), 8.0))
        hand.pass_time(1.0)
        at = float(robot.body.pose[0])
        hand.begin_routine()
        leans = []
        for _ in range(40):
            hand.pass_time(0.125)
            leans.append(abs(float(robot.body.lean)))
        self.assertLess(max(leans), 0.35)
        self.assertLess(leans[-1], 0.08)
        self.assertAlmostEqual(float(robot.body.pose[0]) - at, 0.5, delta=0.1)
        self.assertGreater(self.driven(robot, hand), 0.05)  # then the stick drives again

    def test_its_routine_is_proved(self) -> None:
        rig = changed(*START)
        line = Line(rig)
        ticks = played_ticks(line, Task(program("drive ahead 0.3 m\n", rig), 4.0), None)
        self.assertEqual(set(ticks.rows[:, line.layout.at("balance", "state")]), {STANDS})
        proof, _ = prove(line, replace(ticks, memories=ran_in_double(line, ticks)[1]))
        self.assertTrue(proof.holds, proof)

    def test_a_stick_that_breaks_off(self) -> None:
        robot, hand = self.stand(stilt())
        for k in range(often(10, 2)):
            self.upright_after(robot, hand, partial(self.breaks_off, hand, 3.0 if k % 2 else -3.0))
            hand.readings = {"left_y": 0.0, "left_x": 0.0}
            hand.pass_time(0.3)
            self.assertGreater(self.driven(robot, hand), 0.05)  # it drives again, from rest

    @staticmethod
    def breaks_off(hand: Hand, reads: float) -> None:
        """Let a stick read what no stick does."""
        hand.readings["left_y"] = reads

    def driven(self, robot: EmulatedRobot, hand: Hand) -> float:
        hand.readings = {"left_y": -0.6, "left_x": 0.0}
        at = robot.body.pose[:2].copy()
        hand.pass_time(1.2)
        way = float(np.hypot(*(robot.body.pose[:2] - at)))
        hand.readings = {"left_y": 0.0, "left_x": 0.0}
        hand.pass_time(1.5)
        return way

    def test_a_laptop_that_stops_it_dies_in_a_sentence_or_floods_its_line(self) -> None:
        robot, hand = self.stand(stilt())
        greeting = next(
            h for h in hand.pass_time(1.2).decode("ascii", "replace").split("\r\n") if h.startswith("$PIVHEY,")
        )
        rig_hash = greeting.split(",")[2]

        def says(data: bytes) -> Callable[[], None]:
            return lambda: robot.take(data, "", hand.now_s)

        stop = frame(f"PIVBID,1,0,{rig_hash},stop")
        self.upright_after(robot, hand, says(stop))
        self.assertLess(self.driven(robot, hand), 0.1)  # the stick does nothing until a laptop lets it go on
        says(stop[:20])()
        hand.pass_time(0.3)
        says(bytes(range(256)) * 20)()
        hand.pass_time(1.0)
        self.assertLess(abs(float(robot.body.lean)), 0.1)

    def test_a_radio_that_dies_freezes_or_says_nonsense(self) -> None:
        robot, hand = self.stand(changed(('source = "stick"', 'source = "radio"'), ("# --- motors ---", RADIO)))
        packet = hand.packet

        def frozen() -> None:
            same = packet()
            hand.packet = lambda: same  # type: ignore[method-assign]

        def damaged() -> None:
            hand.packet = lambda: packet().replace(b"PIVDRV", b"PIVDRW")  # type: ignore[method-assign]

        def cut_off() -> None:
            hand.packet = lambda: packet()[:9]  # type: ignore[method-assign]

        def dies() -> None:
            hand.silent = True

        for k in range(often(20, 4)):
            self.upright_after(robot, hand, (dies, frozen, damaged, cut_off)[k % 4])
            hand.silent, hand.packet = False, packet  # type: ignore[method-assign]
            hand.readings = {"left_y": 0.0, "left_x": 0.0}
            hand.pass_time(0.5)

    def test_a_laptop_that_drives_it_is_killed_or_freezes_or_its_link_is_cut(self) -> None:
        robot, hand = self.stand(stilt())
        laptop = Laptop(robot, hand)
        losses: dict[str, Callable[[bytes], bytes]] = {
            "killed": lambda _: b"",
            "cut": lambda said: said[:20],
            "damaged": lambda said: said.replace(b"stick", b"stock"),  # its check is wrong then
            "frozen": lambda _: laptop.said[0],
            "too late": lambda said: frame(unframe(said).replace(f",{laptop.newest},", f",{laptop.newest - 60},")),
            "floods": lambda _: bytes(range(256)),
        }
        for k in range(often(70, 6)):
            name, spoiled = list(losses.items())[k % 6]
            with self.subTest(k=k, name=name):
                laptop.drive(0.3, 0.0, 0.0)
                at = robot.body.pose[:2].copy()
                laptop.drive(1.2, -0.6, 0.2)
                self.assertGreater(float(np.hypot(*(robot.body.pose[:2] - at))), 0.05)
                at = robot.body.pose[:2].copy()
                for _ in range(5):
                    laptop.drive(0.5, -0.6, 0.2, spoiled)
                    self.assertLess(abs(float(robot.body.lean)), 0.35)
                self.assertLess(abs(float(robot.body.lean)), 0.08)
                self.assertLess(float(np.hypot(*(robot.body.pose[:2] - at))), 0.3)
                self.assertFalse(robot.resting)

    def test_a_fall_takes_its_drive_off_until_it_is_set_up(self) -> None:
        robot, hand = self.stand(stilt())
        robot.body = robot.body._replace(velocity=np.array([3.0, 0.0, 0.0]))
        hand.pass_time(2.0)
        self.assertAlmostEqual(abs(math.degrees(float(robot.body.lean))), 65.0, delta=1.0)
        self.assertTrue(robot.resting)
        robot.body = robot.body._replace(held=1.0, hand=0.0)
        hand.pass_time(3.5)
        self.assertFalse(robot.resting)
        self.assertLess(abs(float(robot.body.lean)), 0.1)


@slow
class WholeTest(TerminalCase):
    def test_stand_be_pushed_fall_and_be_set_up(self) -> None:
        home = self.folder / "demo"
        shutil.copytree(DEMO, home)
        terminal = self.open("open", str(home), "--rig", "stilt", "--view", "heading")
        terminal.wait("from the side")
        terminal.wait("a push of 0.44 N·s forward")
        terminal.keys("%")
        terminal.wait("LQR from the linear theory")
        terminal.keys("Right")  # P of the lean
        wait_for(lambda: "before" in terminal.screen(), 20, terminal.screen)
        terminal.keys("Escape")
        terminal.wait("! STANDS STILL")
        terminal.wait("it stands upright and holds its place: Esc")
        terminal.keys("5")
        terminal.wait("from the side")

        def fell() -> bool:
            terminal.keys("F")
            return "it fell" in terminal.screen()

        wait_for(fell, 30, terminal.screen)
        terminal.wait("! it fell: drive off; I sets it up")
        terminal.keys("I")
        terminal.wait("! STANDS STILL", 20)
        terminal.keys("g")
        terminal.wait(" safe ")
        terminal.keys("Enter")
        terminal.wait("accelerometers")
        terminal.resize(80, 24)
        terminal.wait("Stilt")
        terminal.keys("C-q")


class FoundTest(unittest.TestCase):
    def test_lqr_solves_riccatis_equation(self) -> None:
        rig = stilt()
        plant, found = plant_of(rig), lqr_of(rig)

        # what is best is worth no less than anything near it: the cost from a lean, integrated step by step
        def cost(feedback: Floats) -> float:
            x, total, dt = np.array([0.0, 0.0, 0.1, 0.0]), 0.0, 0.0005
            for _ in range(12000):
                u = -float(feedback @ x)
                total += dt * float(((x / np.array([0.2, 0.5, 0.1, 1.5])) ** 2).sum() + (u / 0.35) ** 2)
                x = x + dt * (plant.a @ x + plant.b * u)
            return total

        best = cost(found.feedback)
        for k in range(4):
            for share in (0.93, 1.07):
                other = found.feedback.copy()
                other[k] *= share
                self.assertGreater(cost(other), best)
        self.assertLess(found.poles.real.max(), -1.0)

    def test_lqr_stands(self) -> None:
        rig = stilt()
        assert rig.balance is not None
        table = rig.balance
        for key, value in lqr_of(rig).changes.items():
            _, name, _ = key.split(".")
            table = table.model_copy(update={name: getattr(table, name).model_copy(update={"p": value})})
        self.assertEqual(falls_after_s(rig.model_copy(update={"balance": table})), math.inf)

    def test_relay_of_each_loop(self) -> None:
        rig = stilt()
        for name in ("rate", "lean", "speed", "place"):
            with self.subTest(name=name):
                loop = LOOPS[name]
                found = relay_on(rig, loop)
                assert found is not None
                p = gains_by(found, "calm", loop, rig).p
                own = float(loop.gains(rig).p)
                self.assertGreater(float(p), 0.3 * own)
                self.assertLess(float(p), 3.0 * own)

    @slow
    def test_search_tells_the_biggest_push(self) -> None:
        rig = changed(("[balance.lean]\np = 10.5", "[balance.lean]\np = 4"))
        loop = LOOPS["lean"]
        found = search(rig, loop, "robust", 32)
        assert found is not None and found.push_Ns is not None
        better = loop.with_gains(rig, found.gains)  # type: ignore[attr-defined]
        self.assertGreaterEqual(float(biggest_push(better)[0]), float(biggest_push(rig)[0]))
        self.assertLessEqual(found.push_Ns[1], found.push_Ns[0])

    def test_commands(self) -> None:
        for by, keys in (
            ("lqr", {"gains", "poles_per_s", "biggest_push_Ns"}),
            ("relay", {"gains", "ultimate_period_s"}),
        ):
            out = io.StringIO()
            with redirect_stdout(out):
                self.assertEqual(run(["tune", str(STILT), "--loop", "lean", "--by", by, "--json"]), 0)
            self.assertLessEqual(keys, set(json.loads(out.getvalue())))


class BadRigTest(unittest.TestCase):
    def refused(self, key: str, *pairs: tuple[str, str]) -> str:
        with self.assertRaises(RigError) as caught:
            changed(*pairs)
        said = [str(m) for m in caught.exception.mistakes if m.key == key]
        self.assertEqual(len(said), 1, [str(m) for m in caught.exception.mistakes])
        return said[0]

    def test_what_cannot_balance_is_refused_with_its_key(self) -> None:
        casters = (
            '[[chassis.wheels]]\nname = "left"',
            '[[chassis.casters]]\nx = "-60 mm"\ny = "0 mm"\n\n[[chassis.wheels]]\nname = "left"',
        )
        self.assertIn("one axle", self.refused("chassis.casters", casters))
        self.assertIn(
            "keeps it upright by itself", self.refused("body.height", ('height = "125 mm"', 'height = "30 mm"'))
        )
        self.assertIn("realistic", self.refused("body.kind", ('kind = "realistic"', 'kind = "ideal"')))
        self.assertIn("encoders", self.refused("balance", ("counts_per_turn = 48", "counts_per_turn = 0")))
        self.assertIn("lies", self.refused("balance.falls_at", ('falls_at = "40 deg"', 'falls_at = "70 deg"')))
        brake = ("[law]", '[[bindings]]\nchannel = "button_0"\ndoes = "brake"\n\n[law]')
        self.assertIn("falls", self.refused("bindings.1.does", brake))
        self.assertIn(
            "drive of each wheel", self.refused("control.wheels", ("[law]", '[control]\nwheels = "pid"\n\n[law]'))
        )
        link = ("[law]", '[link]\nwire = { kind = "udp", port = 7000 }\n\n[law]')
        self.assertIn("late", self.refused("board.mode", link, ('mode = "alone"', 'mode = "obeys"')))

    def test_no_sensor(self) -> None:
        text = STILT.read_text(encoding="utf-8")
        begin, end = text.index("[tilt]"), text.index("[gyro]")
        with self.assertRaises(RigError) as caught:
            read_text(text[:begin] + text[end:], STILT, Rig)
        self.assertIn("add a table [tilt]", str(caught.exception))

    def test_worries(self) -> None:
        self.assertEqual(balance_worries(stilt()), [])
        slow_one = changed(('rate = "200 Hz"', 'rate = "50 Hz"'))
        self.assertTrue(any(w.startswith("rate: 50 Hz") and f"{MIN_HZ:g} Hz" in w for w in balance_worries(slow_one)))
        weak = changed(('stall = "15 mNm"', 'stall = "0.6 mNm"'))
        self.assertTrue(any(w.startswith("motors: are too weak") for w in balance_worries(weak)))
        loose = changed(("[balance.rate]\np = 0.5", "[balance.rate]\np = 0.02"))
        self.assertTrue(any("falls by itself after" in w for w in balance_worries(loose)))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "loose.toml"
            path.write_text(
                STILT.read_text(encoding="utf-8").replace("[balance.rate]\np = 0.5", "[balance.rate]\np = 0.02")
            )
            out = io.StringIO()
            with redirect_stdout(out):
                run(["check", str(path)])
            self.assertRegex(
                out.getvalue(), r"loose.toml:\d+: warning: balance: with these gains it falls by itself after \d"
            )

    def test_its_body_stays_real(self) -> None:
        self.assertTrue(stilt().with_body("ideal").has_realistic_physics)

    def test_gains_do_what_they_are_asked(self) -> None:
        line = Line(stilt())
        LOOPS["speed"].put(line, Gains(10.0, 2.0, 0.0))
        own = line.settings.part("balance").part("speed")
        self.assertAlmostEqual(float(own.p), math.radians(10.0))
        self.assertAlmostEqual(float(own.i), math.radians(2.0))


if __name__ == "__main__":
    unittest.main()
