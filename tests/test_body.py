"""The real body against closed forms: none of the numbers expected here come from the code that is tested."""

import math
import unittest
from unittest.mock import patch

import numpy as np
from hypothesis import HealthCheck, assume, example, given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from pivrex.errors import RigError
from pivrex.line import Entry, Line
from pivrex.line.outputs import encode
from pivrex.rig import Rig, open_folder, read_rig
from pivrex.rig.field import Field
from pivrex.sim import Rollout
from pivrex.sim.body import BodyState, Conditions, RealisticBody
from pivrex.sim.body.feed import sagged
from tests.chassis import ALL, Wheel, any_wheels, bare, demo_path, rig_of
from tests.support import DEMO, often, slow

Floats = NDArray[np.float64]
G = 9.81
FIELD = open_folder(DEMO).settings.field

BODY = """
[body]
mass = "2 kg"
height = "100 mm"
spread = "150 mm"
grip = {grip}
rolling = 0
casters = {casters}
bumper = {bumper}
at_zero = "{at_zero}"
[battery]
volts = "10 V"
charge = 1.0
resistance = "0 ohm"
"""
TWO: list[Wheel] = [(0.0, 0.2, 0.0, None, False), (0.0, -0.2, 0.0, None, False)]
FOUR: list[Wheel] = [(x, y, 0.0, None, False) for x in (0.2, -0.2) for y in (0.2, -0.2)]
EMPTY = Field.model_validate({"length": "20 m", "width": "20 m", "start": {"x": "10 m", "y": "10 m"}})


def body_rig(
    wheels: list[Wheel], stall: str = "1 Nm", friction: str = "0 %",
    extra: str = "", grip: float = 0.8, casters: float = 0.05, bumper: float = 0.3, at_zero: str = "brake",
) -> Rig:  # fmt: skip
    """Wheels of 100 mm with motors of 10 rad/s: 1 m/s."""
    body = BODY.format(grip=grip, casters=casters, bumper=bumper, at_zero=at_zero)
    rig = rig_of(wheels, body + extra)
    motors = {
        n: m.model_copy(
            update={"stall_Nm": float(stall.split(maxsplit=1)[0]), "efficiency": 1.0, "friction": float(friction.split(maxsplit=1)[0]) / 100,
                    "inertia_kg_m2": 0.001, "counts_per_turn": 0.0}
        )
        for n, m in rig.motors.items()
    }  # fmt: skip
    return rig.model_copy(update={"motors": motors})


def told(rig: Rig, *shares: float) -> Floats:
    return np.array(shares, float)


def run(model: RealisticBody, state: BodyState, command: Floats, seconds: float, dt: float = 1 / 60) -> BodyState:
    for _ in range(round(seconds / dt)):
        state = model.step(state, command, dt)
    return state


class MotorTest(unittest.TestCase):
    def test_free_speed_on_a_block(self) -> None:
        # friction takes a tenth, so the ideal free speed is 10/0.9; a full battery gives 1.06 of nominal
        rig = body_rig(TWO, friction="10 %")
        model = RealisticBody(rig)
        state = run(model, model.start()._replace(lifted=np.array(1.0)), told(rig, 1.0, 0.5), 3.0)
        free = 10 / 0.9
        np.testing.assert_allclose(state.spin, [free * (1.06 - 0.1), free * (0.53 - 0.1)], rtol=1e-3)
        np.testing.assert_array_equal(state.velocity, [0.0, 0.0, 0.0])

    def test_speed_falls_linearly_with_load(self) -> None:
        # a caster with friction 0.5 behind carries half of 2 kg: it drags with 4.905 N, on both wheels 0.245 N·m each
        rig = body_rig(TWO, casters=0.5, extra='[chassis.mass_centre]\nx = "-100 mm"\n').model_copy()
        caster = rig.chassis.model_copy(update={"casters": (_caster(-0.2),)})
        rig = rig.model_copy(update={"chassis": caster})
        model = RealisticBody(rig)
        state = run(model, model.start(), told(rig, 1.0, 1.0), 6.0)
        load = 0.5 * 2 * G * 0.5 / 2 * 0.1
        np.testing.assert_allclose(state.spin, 10 * (1.06 - load / 1.0), rtol=2e-3)

    def test_coast_down(self) -> None:
        # on a block only friction brakes: from 10 rad/s by 0.1 N·m on 0.001 kg·m² it takes 0.1 s
        rig = body_rig(TWO, friction="10 %", at_zero="coast")
        model = RealisticBody(rig)
        state = model.start()._replace(lifted=np.array(1.0), spin=np.array([10.0, 10.0]))
        half = run(model, state, told(rig, 0.0, 0.0), 0.05, 1 / 400)
        np.testing.assert_allclose(half.spin, 5.0, rtol=0.04)
        np.testing.assert_allclose(run(model, half, told(rig, 0.0, 0.0), 0.07, 1 / 400).spin, 0.0, atol=0.01)
        braked = RealisticBody(body_rig(TWO, friction="10 %", at_zero="brake"))
        self.assertLess(run(braked, state, told(rig, 0.0, 0.0), 0.05, 1 / 400).spin[0], 1.0)

    def test_a_wheel_sticks_below_its_smallest_drive_and_turns_above(self) -> None:
        rig = body_rig(TWO)
        motors = {n: m.model_copy(update={"smallest": 0.1}) for n, m in rig.motors.items()}
        rig = rig.model_copy(update={"motors": motors})
        model = RealisticBody(rig)
        self.assertLess(abs(run(model, model.start(), told(rig, 0.09, 0.09), 2.0).travel[0]), 0.002)
        self.assertGreater(run(model, model.start(), told(rig, 0.11, 0.11), 2.0).travel[0], 0.05)

    def test_weaker_by_its_strength_in_speed_and_torque(self) -> None:
        rig = body_rig(TWO)
        weak = RealisticBody(rig, under=Conditions(strength={"w0": 0.9}))
        state = run(weak, weak.start()._replace(lifted=np.array(1.0)), told(rig, 1.0, 1.0), 3.0)
        self.assertAlmostEqual(float(state.spin[0] / state.spin[1]), 0.9, places=3)

    def test_all_motors_sag_together(self) -> None:
        # two motors held at full drive draw 1 N·m · 10 rad/s / 10 V = 1 A each at 10 V; from 10.6 V over 2 Ω:
        # V = 10.6 - 2·(0.3 + 2·V/10), so V = 10/1.4
        rig = body_rig(TWO)
        rig = rig.model_copy(update={"battery": rig.battery.model_copy(update={"resistance_ohm": 2.0})})
        volts, amps = sagged(RealisticBody(rig).settings.plain, 1.0, [1.0, 1.0], [0.0, 0.0], [1.0, 1.0])
        self.assertAlmostEqual(volts, 10 / 1.4)
        self.assertAlmostEqual(amps, 0.3 + 2 * volts / 10)

    def test_charge_is_what_was_drawn(self) -> None:
        rig = body_rig(TWO)
        model = RealisticBody(rig)
        state = run(model, model.start(), told(rig, 0.0, 0.0), 60.0)
        self.assertAlmostEqual(float(1 - state.charge), 0.3 * 60 / (1500 * 3.6), places=6)

    def test_electronics_restart_when_the_battery_sags_too_far(self) -> None:
        rig = body_rig(TWO, stall="9 Nm")
        rig = rig.model_copy(update={"battery": rig.battery.model_copy(update={"resistance_ohm": 1.0})})
        model = RealisticBody(rig)
        state = model.step(model.start(), told(rig, 1.0, 1.0), 1 / 60)
        self.assertGreater(float(state.restart), 0.9)
        state = run(model, state, told(rig, 1.0, 1.0), 0.8)
        np.testing.assert_allclose(state.spin, 0.0, atol=0.3)  # outputs rest
        self.assertEqual(float(run(model, state, told(rig, 0.0, 0.0), 0.4).restart), 0.0)


def _caster(x: float) -> object:
    from pivrex.rig.chassis import Caster

    return Caster.model_validate({"x": f"{x} m", "y": "0 m"})


class TyreTest(unittest.TestCase):
    def test_friction_limits_acceleration(self) -> None:
        # all weight on two driven wheels: no more than μ·g, whatever the motors can
        rig = body_rig(TWO, stall="40 Nm", grip=0.5)
        model = RealisticBody(rig)
        state = run(model, model.start(), told(rig, 1.0, 1.0), 0.1)
        before = state.velocity[0]
        state = run(model, state, told(rig, 1.0, 1.0), 0.05)
        self.assertAlmostEqual(float(state.velocity[0] - before) / 0.05, 0.5 * G, delta=0.05 * G * 0.5)
        self.assertGreater(float(state.slip[0]), 0.1)

    def test_stopping_distance_with_blocked_wheels(self) -> None:
        # 1 m/s, μ 0.5: v²/(2·μ·g) = 0.102 m
        rig = body_rig(TWO, stall="40 Nm", grip=0.5)
        model = RealisticBody(rig)
        state = model.start()._replace(velocity=np.array([1.0, 0.0, 0.0]))
        end = run(model, state, told(rig, 0.0, 0.0), 1.0, 1 / 240)
        self.assertAlmostEqual(float(end.pose[0]), 1 / (2 * 0.5 * G), delta=0.006)
        self.assertAlmostEqual(float(end.velocity[0]), 0.0, delta=0.005)

    def test_scrub_of_a_turning_four_wheeler(self) -> None:
        # wheels that roll along with it: only their sideways friction brakes, μ·m·g/4 each on a lever of 0.2 m
        rig = body_rig(FOUR, grip=0.8, at_zero="coast")
        motors = {n: m.model_copy(update={"inertia_kg_m2": 1e-6}) for n, m in rig.motors.items()}
        model = RealisticBody(rig.model_copy(update={"motors": motors}))
        spin = np.array([-5.0 * 0.2 / 0.1, 5.0 * 0.2 / 0.1] * 2)
        state = model.start()._replace(velocity=np.array([0.0, 0.0, 5.0]), spin=spin)
        after = run(model, state, told(rig, 0.0, 0.0, 0.0, 0.0), 0.04, 1 / 400)
        wanted = 0.8 * 2 * G * 0.2 / (2 * 0.15**2)
        self.assertAlmostEqual(float(5.0 - after.velocity[2]) / 0.04, wanted, delta=0.06 * wanted)

    def test_rollers_roll_freely(self) -> None:
        wheels: list[Wheel] = [
            (0.2 * math.cos(a), 0.2 * math.sin(a), a + math.pi / 2, 0.0, False) for a in (0.0, 2.094, 4.189)
        ]
        rig = rig_of(
            wheels,
            BODY.format(grip=0.8, casters=0, bumper=0, at_zero="coast")
            + "rollers = 0\n".replace("rollers", "# rollers"),
        )
        rig = rig.model_copy(update={"body": rig.body.model_copy(update={"rollers": 0.0})})  # type: ignore[union-attr]
        model = RealisticBody(rig)
        # along x the first wheel, which drives along y, rolls on its rollers alone; the others turn with it
        state = model.start()._replace(velocity=np.array([0.5, 0.0, 0.0]))
        after = model.step(state, told(rig, 0.0, 0.0, 0.0), 1 / 60)
        self.assertAlmostEqual(float(after.spin[0]), 0.0, delta=0.05)
        self.assertGreater(abs(float(after.spin[1])), 1.0)

    def test_one_ellipse_for_both_directions(self) -> None:
        """A tyre that already slides along has hardly any hold across: the force keeps its size and turns with the slip."""
        rig = body_rig(TWO, stall="40 Nm", grip=0.5)
        model = RealisticBody(rig)
        state = model.start()._replace(velocity=np.array([1.0, 1.0, 0.0]))
        after = model.step(state, told(rig, 0.0, 0.0), 1 / 400)
        taken = state.velocity[:2] - after.velocity[:2]
        self.assertAlmostEqual(float(np.hypot(*taken)) * 400, 0.5 * G, delta=0.1)
        self.assertAlmostEqual(float(taken[0]), float(taken[1]), delta=0.1 * float(taken[0]))


class LoadTest(unittest.TestCase):
    def test_the_front_lifts_at_g_times_half_the_wheelbase_over_the_height(self) -> None:
        # h = 0.1 m, wheels 0.2 m before and behind: a = g·0.2/0.1 = 19.62 m/s²
        rig = body_rig(FOUR)
        loads = RealisticBody(rig).settings.loads[0]
        a = G * 0.2 / 0.1
        each = 2 * (loads @ np.array([1.0, a, 0.0]))
        np.testing.assert_allclose(each, [0.0, 0.0, G, G], atol=1e-9)
        np.testing.assert_allclose(2 * (loads @ np.array([1.0, 0.0, 0.0])), 2 * G / 4)
        to_left = 2 * (loads @ np.array([1.0, 0.0, a / 2]))  # pushed to the left, the right ones carry three quarters
        np.testing.assert_allclose(to_left, [2 * G / 8, 2 * G * 3 / 8] * 2, rtol=1e-9)

    def test_a_hard_start_of_a_high_robot_lifts_its_front(self) -> None:
        # what tips pushes itself up from the axle that is left, so that carries a little more than the weight
        rig = body_rig(FOUR, stall="40 Nm", grip=2.5)
        high = rig.model_copy(update={"body": rig.body.model_copy(update={"height_m": 0.15})})  # type: ignore[union-attr]
        model = RealisticBody(high)
        state = run(model, model.start(), told(rig, 1.0, 1.0, 1.0, 1.0), 0.05)
        self.assertEqual(state.load[:2].tolist(), [0.0, 0.0])
        self.assertGreater(float(state.lean_rate), -50.0)
        self.assertLess(float(state.lean), 0.0)  # back, about its rear axle
        self.assertGreater(float(state.load.sum()), 2 * G)

    def test_weight_over_the_caster_leaves_the_driven_wheels_spinning(self) -> None:
        def slip(centre: str) -> float:
            rig = body_rig(TWO, stall="3 Nm", casters=0.02)
            chassis = rig.chassis.model_copy(
                update={
                    "casters": (_caster(-0.2),),
                    "mass_centre": rig.chassis.mass_centre.model_copy(update={"x_m": float(centre)}),
                }
            )
            model = RealisticBody(rig.model_copy(update={"chassis": chassis}))
            return float(run(model, model.start(), told(rig, 1.0, 1.0), 0.15).slip[:2].max())

        self.assertGreater(slip("-0.17"), 0.4)
        self.assertLess(slip("-0.02"), 0.25 * slip("-0.17"))


class WallTest(unittest.TestCase):
    def free(self, bumper: float) -> RealisticBody:
        """A puck: no grip, motors that coast."""
        return RealisticBody(body_rig(TWO, grip=0.0, casters=0.0, bumper=bumper, at_zero="coast"), EMPTY)

    def at(
        self, model: RealisticBody, pose: tuple[float, float, float], velocity: tuple[float, float, float]
    ) -> BodyState:
        return model.start()._replace(pose=np.array(pose), velocity=np.array(velocity))

    def test_it_slides_along_a_wall_and_loses_what_it_brought_against_it(self) -> None:
        # its front meets the wall at x = 20 m flush: forward 0.3 m/s ends, along it 0.5 m/s stays, less μ·0.3
        for bumper in (0.0, 0.3):
            model = self.free(bumper)
            state = run(model, self.at(model, (19.7, 10.0, 0.0), (0.3, 0.5, 0.0)), np.zeros(2), 1.2)
            self.assertAlmostEqual(float(state.pose[0]), 19.8, delta=0.003)
            self.assertAlmostEqual(float(state.velocity[0]), 0.0, delta=0.01)
            self.assertAlmostEqual(float(state.velocity[1]), 0.5 - bumper * 0.3, delta=0.02)

    def test_a_bump_is_told_for_as_long_as_it_pushes(self) -> None:
        model = self.free(0.0)
        state, bumps = self.at(model, (19.7, 10.0, 0.0), (0.3, 0.0, 0.0)), 0
        for _ in range(60):
            state = model.step(state, np.zeros(2), 1 / 60)
            bumps += bool(state.blocked)
        self.assertIn(bumps, range(1, 4))

    def test_a_corner_that_hits_turns_it(self) -> None:
        model = self.free(0.0)
        state = run(model, self.at(model, (19.6, 10.0, 0.3), (0.5, 0.0, 0.0)), np.zeros(2), 0.8)
        # its left front corner is the first there at heading 0.3... pushed back it turns left, to lie flush
        self.assertLess(float(state.velocity[0]), 0.5)
        self.assertNotAlmostEqual(float(state.velocity[2]), 0.0, delta=0.05)

    def test_put_into_a_wall_it_is_let_out_without_speed(self) -> None:
        model = self.free(0.3)
        state = run(model, self.at(model, (19.9, 10.0, 0.1), (0.0, 0.0, 0.0)), np.zeros(2), 3.0)
        self.assertLess(float(np.abs(state.velocity).max()), 0.05)
        driven = RealisticBody(body_rig(TWO), EMPTY)
        out = run(driven, self.at(driven, (19.95, 10.0, 0.0), (0.0, 0.0, 0.0)), np.array([-0.5, -0.5]), 1.5)
        self.assertLess(float(out.pose[0]), 19.7)

    @given(st.lists(st.tuples(st.floats(-1, 1), st.floats(-1, 1)), min_size=4, max_size=14), st.floats(-3, 3))
    @settings(max_examples=25, deadline=None)
    def test_it_never_gets_far_into_anything(self, commands: list[tuple[float, float]], heading: float) -> None:
        rig = bare(read_rig(demo_path("plover")))
        model = RealisticBody(rig, FIELD)
        half = np.array([rig.chassis.length_m, rig.chassis.width_m]) / 2
        state = model.start()._replace(pose=np.array([0.4, 0.4, heading]))
        for left, right in commands:
            shares = np.array([abs(left) * 255, left >= 0, abs(right) * 255, right < 0], float)
            for _ in range(12):
                state = model.step(state, shares, 1 / 60)
                deepest = _deepest(state.pose, half)
                self.assertLess(deepest, 0.02)


def _deepest(pose: Floats, half: Floats) -> float:
    """How far a corner of the body is beyond the walls or inside a bench, by the points alone."""
    c, s = math.cos(pose[2]), math.sin(pose[2])
    worst = 0.0
    for i in (-1, 1):
        for j in (-1, 1):
            x = pose[0] + c * i * half[0] - s * j * half[1]
            y = pose[1] + s * i * half[0] + c * j * half[1]
            worst = max(worst, -x, -y, x - 5.0, y - 4.0)
            for thing in FIELD.blocks:
                inside = min(thing.length_m / 2 - abs(x - thing.x_m), thing.width_m / 2 - abs(y - thing.y_m))
                worst = max(worst, inside)
    return float(worst)


class EnergyTest(unittest.TestCase):
    @given(
        st.sampled_from(ALL), st.tuples(st.floats(-2, 2), st.floats(-2, 2), st.floats(-8, 8)), st.floats(-40, 40),
        st.booleans(), st.floats(-3, 3),
    )  # fmt: skip
    @example("plover", (2.0, 0.0, 2.0), 0.0, True, 1.0)  # a bench's corner, where one touch must not pull at another
    @settings(max_examples=60, deadline=None)
    def test_without_drive_it_never_grows(
        self, name: str, velocity: tuple[float, float, float], spin: float, coasts: bool, heading: float
    ) -> None:
        rig = read_rig(demo_path(name))
        assert rig.body is not None
        rig = rig.model_copy(update={"body": rig.body.model_copy(update={"at_zero": "coast" if coasts else "brake"})})
        model = RealisticBody(rig, FIELD)
        rest = Line(rig).resting()
        state = model.start()
        state = state._replace(
            pose=np.array([1.0, 0.5, heading]), velocity=np.array(velocity), spin=np.full_like(state.spin, spin)
        )
        energy = float(model.energy(state))
        for _ in range(40):
            state = model.step(state, rest, 1 / 60)
            after = float(model.energy(state))
            self.assertLessEqual(after, energy * (1 + 1e-9) + 1e-9)
            energy = after

    @given(any_wheels(), st.integers(0, 10_000))
    @settings(max_examples=often(40, 12), deadline=None, suppress_health_check=[HealthCheck.filter_too_much])
    def test_random_commands_on_random_chassis_take_no_more_than_the_battery_gives(
        self, wheels: list[Wheel], seed: int
    ) -> None:
        try:
            rig = rig_of(wheels, BODY.format(grip=0.8, casters=0.05, bumper=0.3, at_zero="brake"))
        except RigError:
            assume(False)
        model, chance = RealisticBody(rig, FIELD), np.random.default_rng(seed)
        state = model.start()
        state = state._replace(pose=np.array([2.6, 2.0, chance.uniform(-3, 3)]))
        sampled = 0.0
        for k in range(60):
            if k % 6 == 0:
                command = chance.uniform(-1, 1, len(Line(rig).resting()))
            before = float(state.charge)
            state = model.step(state, command, 1 / 60)
            sampled += (before - float(state.charge)) * rig.battery.capacity_As * rig.battery.volts * 1.06
            energy = float(model.energy(state))
            self.assertTrue(np.isfinite(state.pose).all() and np.isfinite(energy))
            self.assertLessEqual(energy, sampled + 1e-9)
        rest = Line(rig).resting()
        for _ in range(30):
            state = model.step(state, rest, 1 / 60)
            after = float(model.energy(state))
            self.assertLessEqual(after, energy * (1 + 1e-9) + 1e-9)
            energy = after

    def test_what_it_does_is_less_than_what_the_battery_gave(self) -> None:
        rig = read_rig(demo_path("bittern"))
        model, line = RealisticBody(rig), Line(rig)
        chance = np.random.default_rng(3)
        state, sampled = model.start(), 0.0
        for k in range(300):
            if k % 15 == 0:
                twist = chance.uniform(-1, 1, 3) * [rig.full_forward_m_s, rig.full_left_m_s, rig.full_turn_rad_s]
            _, row = line.step(line.start(), line.rest(), model.sense(state), entry=Entry(twist=twist))
            before = float(state.charge)
            state = model.step(state, line.commands(row), 1 / 60)
            sampled += (before - float(state.charge)) * rig.battery.capacity_As * rig.battery.volts * 1.06
            self.assertLess(float(model.energy(state)), sampled)


class StepTest(unittest.TestCase):
    def drive(self, name: str, longest: float) -> Floats:
        with patch("pivrex.sim.body.robot.LONGEST_STEP_S", longest):
            rig = read_rig(demo_path(name))
            rollout = Rollout(Line(rig), RealisticBody(rig))
            full = np.array(
                [rig.full_forward_m_s, rig.full_left_m_s if rig.law.kind == "planar" else 0, rig.full_turn_rad_s]
            )
            for k in range(600):
                t = k / 60
                twist = full * [0.5 * math.sin(0.9 * t), 0.4 * math.sin(1.3 * t), 0.12 * math.sin(0.7 * t)]
                rollout.tick(rollout.line.rest(), entry=Entry(twist=twist))
            return np.asarray(rollout.robot.pose)

    def test_half_the_step_changes_ten_seconds_by_little(self) -> None:
        for name in ("plover", "avocet", "coot")[: often(3, 2)]:
            coarse, fine = self.drive(name, 1 / 120), self.drive(name, 1 / 240)
            self.assertLess(float(np.hypot(*(coarse - fine)[:2])), 0.02, name)
            self.assertLess(math.degrees(abs(float(coarse[2] - fine[2]))), 1.5, name)

    def thrown_about(self, name: str, longest: float, robots: int) -> Floats:
        """Ten seconds of random duty, which changes by no more than full drive in a third of a second."""
        with patch("pivrex.sim.body.robot.LONGEST_STEP_S", longest):
            rig = read_rig(demo_path(name))
            line, model, chance = Line(rig), RealisticBody(rig), np.random.default_rng(1)
            outputs, motors = line.stages["outputs"].settings, len(rig.motors)
            state = model.start((robots,), np.arange(robots, dtype=np.uint64))
            duty, wish = np.zeros((2, robots, len(rig.motor_names) + len(rig.attachments)))
            for tick in range(600):
                if tick % 40 == 0:
                    wish[:, :motors] = chance.uniform(-1, 1, (robots, motors))
                duty += np.clip(wish - duty, -0.05, 0.05)
                command = np.broadcast_to(line.resting(), (robots, len(line.resting()))).copy()
                values = encode(outputs, duty)
                command[:, : values.shape[1]] = values
                state = model.step(state, command, 1 / 60)
            return np.asarray(state.pose)

    @slow
    def test_half_the_step_with_duty_thrown_about(self) -> None:
        apart = self.thrown_about("plover", 1 / 120, 60) - self.thrown_about("plover", 1 / 240, 60)
        off, turned = np.hypot(*apart[:, :2].T), np.degrees(np.abs(apart[:, 2]))
        for share, max_m, max_deg in ((50, 0.01, 1.0), (90, 0.025, 2.0), (100, 0.05, 4.0)):
            self.assertLess(np.percentile(off, share), max_m, share)
            self.assertLess(np.percentile(turned, share), max_deg, share)

    def test_the_load_follows_the_acceleration_within_20_ms(self) -> None:
        # a start at full drive from rest: the load on Plover's axle falls from m·g·60/85 by m·a·45/85
        rig = read_rig(demo_path("plover")).model_copy(update={"control": None})
        rollout = Rollout(Line(rig), RealisticBody(rig))
        layout = rollout.line.layout
        at = [layout.at("truth", n) for n in ("left_load", "right_load")]
        entry = Entry(twist=np.array([9.0, 0.0, 0.0]))
        for _ in range(3):
            rollout.tick(rollout.line.rest())
        loads = [float(rollout.tick(rollout.line.rest(), entry=entry)[at].sum()) for _ in range(10)]
        rest, last = 1.2 * G * 60 / 85, loads[8]
        self.assertAlmostEqual(loads[0], rest, delta=0.01 * rest)
        self.assertAlmostEqual(last, rest - 1.2 * 3.7 * 45 / 85, delta=0.03 * rest)
        # after a tick of 16.7 ms 1 - exp(-16.7/20) = 57 % of it has come, of a start that is a little harder at first
        self.assertTrue(0.5 < (rest - loads[1]) / (rest - last) < 0.75, loads)

    def test_a_tyre_that_breaks_loose_holds_little_more_than_its_ellipse(self) -> None:
        rig = read_rig(demo_path("avocet"))
        line, model, chance, many = Line(rig), RealisticBody(rig), np.random.default_rng(2), 2000
        state = model.start((many,), np.arange(many, dtype=np.uint64))
        speed, way = chance.uniform(0, 1.2, many), chance.uniform(0, 2 * math.pi, many)
        velocity = np.stack((speed * np.cos(way), speed * np.sin(way), chance.uniform(-4, 4, many)), axis=1)
        state = state._replace(velocity=velocity, spin=chance.uniform(-30, 30, np.asarray(state.spin).shape))
        command = np.broadcast_to(line.resting(), (many, len(line.resting())))
        assert rig.body is not None
        for most in (1.08, 1.03, 1.01):
            after = model.step(state, command, 1 / 120)
            v, w = np.asarray(state.velocity), np.asarray(after.velocity)
            rate = (w - v) * 120  # in the body's directions, which turn
            push = np.hypot(rate[:, 0] - v[:, 2] * v[:, 1], rate[:, 1] + v[:, 2] * v[:, 0])
            self.assertLess(push.max() / (rig.body.grip * G), most)
            state = after


class SensorTest(unittest.TestCase):
    def gyro_rig(self, **faults: object) -> Rig:
        rig = body_rig(TWO, extra="[gyro]\n")
        quiet = {"bias_rad_s": 0.0, "drift_rad_s2": 0.0, "noise_rad_s": 0.0, "scale": 0.0, "delay_s": 0.0}
        assert rig.gyro is not None
        return rig.model_copy(update={"gyro": rig.gyro.model_copy(update={**quiet, **faults})})

    def says(self, model: RealisticBody, state: BodyState) -> float:
        return float(model.sense(state)[4])

    def turning(self, rig: Rig, rate: float, seconds: float = 1.0) -> tuple[float, float]:
        """What the gyro says and what is true after turning on a floor without grip."""
        model = RealisticBody(rig.model_copy(update={"body": rig.body.model_copy(update={"grip": 0.0})}))  # type: ignore[union-attr]
        state = run(model, model.start()._replace(velocity=np.array([0, 0, rate])), np.zeros(2), seconds)
        return self.says(model, state), float(state.pose[2])

    def test_scale_saturation_and_delay_by_hand(self) -> None:
        says, true = self.turning(self.gyro_rig(scale=0.01), 2.0)
        self.assertAlmostEqual(says / true, 1.01, places=6)
        says, true = self.turning(self.gyro_rig(max_rad_s=1.5), 2.0)
        self.assertAlmostEqual(says, 1.5, places=6)
        says, true = self.turning(self.gyro_rig(delay_s=0.025), 2.0)
        self.assertAlmostEqual(true - says, 2.0 * 0.025, places=6)

    def test_bias_is_each_seeds_own_and_within_what_the_rig_says(self) -> None:
        rig = self.gyro_rig(bias_rad_s=0.01)
        model = RealisticBody(rig)
        seeds = np.arange(400, dtype=np.uint64)
        state = model.start((400,), seeds)
        for _ in range(60):
            state = model.step(state, np.zeros((400, 2)), 1 / 60)
        said = model.sense(state)[:, 4]
        self.assertLessEqual(float(np.abs(said).max()), 0.0101)
        # even over ±0.01: a spread of 0.01/√3
        self.assertAlmostEqual(float(said.std()), 0.01 / math.sqrt(3), delta=0.0005)

    def test_noise_adds_up_to_a_random_walk(self) -> None:
        # each of 600 readings has a sigma of 0.1 rad/s over 1/60 s: √600·0.1/60
        rig = self.gyro_rig(noise_rad_s=0.1)
        model = RealisticBody(rig)
        state = model.start((500,), np.arange(500, dtype=np.uint64))
        for _ in range(600):
            state = model.step(state, np.zeros((500, 2)), 1 / 60)
        wanted = math.sqrt(600) * 0.1 / 60
        self.assertAlmostEqual(float(model.sense(state)[:, 4].std()), wanted, delta=0.12 * wanted)

    def test_encoders_count_whole_counts(self) -> None:
        rig = body_rig(TWO)
        motors = {n: m.model_copy(update={"counts_per_turn": 12.0}) for n, m in rig.motors.items()}
        model = RealisticBody(rig.model_copy(update={"motors": motors}))
        state = run(model, model.start(), told(rig, 0.3, 0.4), 0.7)
        counts = model.sense(state)[:2] / (2 * math.pi * 0.1) * 12
        np.testing.assert_allclose(counts, np.round(counts), atol=1e-9)
        np.testing.assert_array_equal(np.round(counts), np.floor(state.travel / (2 * math.pi * 0.1) * 12))

    def test_a_loose_mounting_rattles_when_it_is_shaken(self) -> None:
        def spread(mounting: str) -> float:
            model = RealisticBody(self.gyro_rig(mounting=mounting))
            state = model.start((200,), np.arange(200, dtype=np.uint64))
            for k in range(120):
                state = model.step(state, np.full((200, 2), 1.0 if (k // 20) % 2 else -1.0), 1 / 60)
            return float((model.sense(state)[:, 4] - state.pose[:, 2]).std())

        self.assertGreater(spread("loose"), 1e-3)
        self.assertLess(spread("firm"), 1e-9)


class BatchTest(unittest.TestCase):
    @slow
    def test_many_do_to_the_bit_what_each_does_alone(self) -> None:
        for name in ALL:
            rig = read_rig(demo_path(name))
            line, model = Line(rig), RealisticBody(rig, FIELD)
            chance, robots, ticks = np.random.default_rng(len(name)), 12, 50
            raw = chance.uniform(-1, 1, (ticks, robots, len(line.channels)))
            start = model.start((robots,), np.arange(robots, dtype=np.uint64))
            if rig.upside_down is not None:
                start = start._replace(upside_down=(np.arange(robots) % 3 == 0).astype(float))
            start = start._replace(lifted=(np.arange(robots) % 5 == 4).astype(float))
            many = Rollout(line, model, line.start((robots,)), start)
            rows = [many.tick(r) for r in raw]
            self.assertGreater(float(many.robot.blocked.max()), -1.0)
            for i in range(0, robots, 4):
                alone = Rollout(line, model, line.start(), _one(start, i))
                for k in range(ticks):
                    row = alone.tick(raw[k, i])
                    if row.tobytes() != rows[k][i].tobytes():
                        at = np.flatnonzero(row.view(np.uint64) != rows[k][i].copy().view(np.uint64))
                        self.fail(f"{name} {i} {k}: {[line.layout.titles[j] for j in at]}")

    def test_the_same_seed_is_the_same_run_and_another_is_not(self) -> None:
        rig = read_rig(demo_path("plover"))
        ends = []
        for seed in (1, 1, 2):
            model, line = RealisticBody(rig), Line(rig)
            rollout = Rollout(line, model, None, model.start((), np.array(seed, np.uint64)))
            for _ in range(60):
                row = rollout.tick(line.rest(), entry=Entry(twist=np.array([0.4, 0.0, 0.5])))
            ends.append(row.tobytes())
        self.assertEqual(ends[0], ends[1])
        self.assertNotEqual(ends[0], ends[2])

    def test_conditions_are_each_robots_own(self) -> None:
        rig = bare(read_rig(demo_path("plover")))
        masses = np.array([1.0, 2.0])
        both = RealisticBody(rig, under=Conditions(mass=masses))
        told_ = np.array([255.0, 1.0, 255.0, 0.0])
        many = both.start((2,))
        for _ in range(20):
            many = both.step(many, np.stack([told_, told_]), 1 / 60)
        for i, mass in enumerate(masses):
            alone = RealisticBody(rig, under=Conditions(mass=float(mass)))
            state = run(alone, alone.start(), told_, 20 / 60)
            np.testing.assert_array_equal(state.pose, many.pose[i])
        self.assertGreater(float(many.pose[0, 0]), float(many.pose[1, 0]))


def _one(state: BodyState, i: int) -> BodyState:
    return state.take(i)


class BackTest(unittest.TestCase):
    def test_on_its_back_it_goes_the_way_its_geometry_says(self) -> None:
        rig = read_rig(demo_path("coot"))
        model = RealisticBody(rig)
        line = Line(rig)
        ends = []
        for back in (0.0, 1.0):
            rollout = Rollout(line, model, None, model.start()._replace(upside_down=np.array(back)))
            for _ in range(90):
                rollout.tick(line.rest(), entry=Entry(twist=np.array([0.3, 0.0, 0.4])))
            ends.append(rollout.robot.pose)
        # the line knows its side: as seen from above both go the same way
        self.assertAlmostEqual(float(ends[0][0]), float(ends[1][0]), delta=0.05)
        self.assertGreater(float(ends[1][2]), 0.15)


if __name__ == "__main__":
    unittest.main()
