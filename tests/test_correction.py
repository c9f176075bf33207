"""The heading loop, wheel control and the moves of a line: by hand, and on the simulated robot with a real body over many seeds."""

import math
import unittest
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pivrex.kernels import Form
from pivrex.line import Entry, Line
from pivrex.line.correction import NEVER, Correction, CorrectionState
from pivrex.line.layout import plain
from pivrex.line.pid import LoopSettings, loop
from pivrex.line.why import ladder, sentence
from pivrex.rig import Rig, read_rig
from pivrex.rig.bindings import Binding
from pivrex.rig.correction import Correction as CorrectionTable
from pivrex.rig.correction import RateLoop
from pivrex.rig.wheel_control import WheelControl
from pivrex.routine.fleet import Fleet
from pivrex.routine.means import Means
from pivrex.routine.motion import Motion, straight_of, turn_of
from pivrex.sim import IdealBody, Rollout
from pivrex.sim.body import RealisticBody
from tests.chassis import ALL, SOME, demo_path
from tests.support import plain_rig, slow

Floats = NDArray[np.float64]
TURNS = "[gyro]\n[law]"


def corrected(**keys: object) -> Rig:
    """The plain rig with a gyro, and a loop of P alone by default."""
    table = CorrectionTable().model_copy(
        update={"p_per_s": 4.0, "i": 0.0, "d": 0.0, "hold": "on", "rate_filter_s": 0.0, **keys}
    )
    rig = plain_rig(("[law]", TURNS))
    return rig.model_copy(update={"correction": table})


class Ticks:
    """A line that is told what its gyro says."""

    def __init__(self, rig: Rig) -> None:
        self.rig, self.line = rig, Line(rig)
        self.state = self.line.start()
        self.row = np.zeros(0)
        self.gyro = self.line.layout.at("sensed", "gyro") - self.line.layout.stage("sensed").start

    def tick(
        self,
        heading_deg: float,
        turn: float = 0.0,
        aim_deg: float | None = None,
        forward: float = 0.0,
        stop: float = 0.0,
    ) -> None:
        sensed = np.zeros(len(self.line.stages["sensed"].columns))
        sensed[self.gyro] = math.radians(heading_deg)
        aim = None if aim_deg is None else np.array(math.radians(aim_deg))
        entry = Entry(twist=np.array([forward, 0.0, turn]), aim=aim)
        self.state, self.row = self.line.step(self.state, self.line.rest(), sensed, stop, entry=entry)

    def deg(self, name: str) -> float:
        return math.degrees(self.row[self.line.layout.at("correction", name)])

    def get(self, stage: str, name: str) -> float:
        return float(self.row[self.line.layout.at(stage, name)])


class LoopTest(unittest.TestCase):
    def settings(self, **keys: float) -> Any:
        made = Form(LoopSettings).of(
            **{"p": 2.0, "i": 0.5, "d": 0.1, "clamp": 1.0, "memory": 1.0, "largest": 3.0, **keys}
        )
        return made.plain

    def test_parts_by_hand(self) -> None:
        # e = 0.4, ė = -2 over 0.1 s: 0.8, 0.3 + 0.5·0.4·0.1 = 0.32, -0.2
        p, i, d, given = loop(self.settings(), 0.3, 0.4, -2.0, 0.1)
        self.assertAlmostEqual(p, 0.8)
        self.assertAlmostEqual(i, 0.32)
        self.assertAlmostEqual(d, -0.2)
        self.assertAlmostEqual(given, 0.92)

    def test_the_part_of_i_stops_at_its_clamp(self) -> None:
        added = 0.0
        for _ in range(500):
            _, added, _, _ = loop(self.settings(p=0.0), added, 1.0, 0.0, 0.1)
        self.assertEqual(added, 1.0)

    def test_it_forgets_in_the_time_that_the_rig_says(self) -> None:
        # after its time constant 63 % is gone: exp(-1) is left
        line = Line(corrected(i=1.0, i_leak_time_s=0.5))
        stage = line.stages["correction"]
        assert isinstance(stage, Correction)
        self.assertAlmostEqual(stage.settings.outer.memory ** (0.5 * 60), math.exp(-1), places=9)

    def test_it_does_not_wind_up_at_the_limit(self) -> None:
        s = self.settings(largest=1.0, clamp=5.0)
        added = 0.0
        for _ in range(100):
            _, added, _, given = loop(s, added, 2.0, 0.0, 0.1)
            self.assertEqual(given, 1.0)
        self.assertEqual(added, 0.0)  # P alone is at the limit already
        _, back, _, _ = loop(s, 0.6, -0.1, 0.0, 0.1)
        self.assertAlmostEqual(back, 0.595)  # and it may unwind


class StageTest(unittest.TestCase):
    def test_an_error_of_ten_degrees_by_hand(self) -> None:
        t = Ticks(corrected())
        t.tick(20.0)  # caught here: it stands
        self.assertAlmostEqual(t.deg("target"), 20.0)
        t.tick(10.0)
        self.assertAlmostEqual(t.deg("error"), 10.0)
        self.assertAlmostEqual(t.deg("p"), 40.0)
        self.assertAlmostEqual(t.deg("turn"), 40.0)
        # and the wheels get it: 40 deg/s on a track of 0.5 m
        self.assertAlmostEqual(t.get("wheels", "right_requested"), math.radians(40) * 0.25)

    def test_errors_are_wrapped(self) -> None:
        t = Ticks(corrected())
        t.tick(0.0, aim_deg=350.0)
        self.assertAlmostEqual(t.deg("error"), -10.0)

    def test_touching_the_turn_lets_go_and_the_spin_dies_down_first(self) -> None:
        t = Ticks(corrected(rate_filter_s=0.0, capture_below_rad_s=math.radians(15)))
        t.tick(0.0)
        t.tick(1.0, turn=0.5)
        self.assertTrue(math.isnan(t.deg("target")))
        self.assertAlmostEqual(t.get("correction", "turn"), 0.5)
        t.tick(2.0)  # 60 deg/s still
        self.assertTrue(math.isnan(t.deg("target")))
        t.tick(2.2)  # 12 deg/s: caught
        self.assertAlmostEqual(t.deg("target"), 2.2)

    def test_a_moving_target_is_not_braked(self) -> None:
        t = Ticks(corrected(p_per_s=0.0, d=0.5))
        t.tick(0.0, aim_deg=0.0)
        # turns at 60 deg/s as the target does: D gives nothing
        t.tick(1.0, turn=math.radians(60), aim_deg=1.0)
        self.assertAlmostEqual(t.deg("d"), 0.0, places=6)
        t.tick(1.0, turn=math.radians(60), aim_deg=2.0)
        self.assertAlmostEqual(t.deg("d"), 30.0, places=6)

    def test_no_form_adds_more_than_its_largest(self) -> None:
        """A robot that does not turn, 100 deg from its target, for two seconds; then its target is where it looks."""
        most = 60.0
        for keys in (
            {"i": 20.0},
            {"rate": RateLoop(p=0.5, i=2.0)},
            {"i": 20.0, "d": 0.3, "rate": RateLoop(p=2.0, i=10.0)},
        ):
            t = Ticks(corrected(output_limit_rad_s=math.radians(most), **keys))
            t.tick(0.0, aim_deg=0.0)
            for _ in range(120):
                t.tick(0.0, aim_deg=100.0)
                self.assertLessEqual(abs(t.deg("output")), most + 1e-9, keys)
            self.assertAlmostEqual(t.deg("output"), most)
            self.assertIn("! at its largest", [r.note for r in ladder(t.line, t.row, "left")])
            # nothing has been added up that would push on: turned the other way it lets go within the tick
            parts = [t.deg(n) for n in ("i", "rate_i") if t.line.layout.has("correction", n)]
            self.assertLess(max(parts), 3.0, keys)
            t.tick(0.0, aim_deg=-40.0)
            self.assertLess(t.deg("output"), 0.0, keys)

    def test_the_cascade_by_hand(self) -> None:
        # 10 deg of error ask for 40 deg/s; it turns at 0, so the inner loop adds 0.5·40 and 2·40/60
        t = Ticks(corrected(rate=RateLoop(p=0.5, i=2.0)))
        t.tick(0.0, aim_deg=10.0)
        self.assertAlmostEqual(t.deg("rate_p"), 20.0)
        self.assertAlmostEqual(t.deg("rate_i"), 2.0 * 40 / 60)
        self.assertAlmostEqual(t.deg("output"), 40 + 20 + 80 / 60)

    def test_stopped_it_gives_nothing(self) -> None:
        t = Ticks(corrected())
        t.tick(0.0)
        t.tick(5.0, stop=1.0)
        self.assertEqual(t.get("correction", "output"), 0.0)
        self.assertEqual(t.line.commands(t.row).tolist(), t.line.resting().tolist())

    def test_a_button_switches_it(self) -> None:
        rig = plain_rig(("[law]", '[[bindings]]\nchannel = "button_0"\ndoes = "hold heading"\n' + TURNS))
        line = Line(rig.model_copy(update={"correction": CorrectionTable()}))
        state, raw = line.start(), line.rest()
        sensed = np.zeros(len(line.stages["sensed"].columns))
        seen = []
        for pressed in (0, 0, 1, 1, 0, 1, 0):
            raw[line.channels.index("button_0")] = pressed
            state, row = line.step(state, raw, sensed)
            seen.append(row[line.layout.at("correction", "on")])
        self.assertEqual(seen, [0, 0, 1, 1, 1, 0, 0])

    def test_a_gyro_upside_down_is_noticed_within_half_a_second_and_named(self) -> None:
        rig = read_rig(demo_path("plover"))
        rig = rig.model_copy(update={"gyro": rig.gyro.model_copy(update={"reversed": True})})  # type: ignore[union-attr]
        model, line = RealisticBody(read_rig(demo_path("plover"))), Line(rig)
        rollout = Rollout(line, model)
        aim = rollout.tick(line.rest())[line.layout.at("heading", "heading")]
        for _ in range(120):
            row = rollout.tick(line.rest(), entry=Entry(twist=np.zeros(3), aim=np.array(aim + math.radians(8))))
            if row[line.layout.at("correction", "fault")]:
                break
        self.assertEqual(row[line.layout.at("correction", "fault")], 1.0)
        self.assertLess(row[line.layout.at("clock", "t")], 0.5)
        self.assertEqual(row[line.layout.at("correction", "output")], 0.0)
        rung = next(r for r in ladder(line, row, "left") if r.stage == "correct")
        self.assertEqual(rung.setting, "gyro.reversed")
        self.assertIn("counts the other way", rung.note)

    def test_a_push_is_not_taken_for_a_gyro_upside_down(self) -> None:
        for name in ALL:
            rig = read_rig(demo_path(name))
            line, model = Line(rig), RealisticBody(rig)
            rollout = Rollout(line, model)
            stage = line.stages["correction"]
            assert isinstance(stage, Correction)
            rollout.state = line.changed(
                rollout.state, "correction", stage.hold(line.of(rollout.state, "correction"), True)
            )
            for k in range(120):
                if k == 20:
                    rollout.robot = model.pushed(rollout.robot, np.array([0.0, 0.3, 0.05]))
                row = rollout.tick(line.rest())
                self.assertEqual(row[line.layout.at("correction", "fault")], 0.0, name)

    def test_a_silent_gyro_lets_go(self) -> None:
        t = Ticks(corrected())
        t.tick(0.0)
        t.tick(float("nan"))
        self.assertEqual(
            (t.get("correction", "fault"), t.get("correction", "on"), t.get("correction", "output")), (2, 0, 0)
        )
        self.assertTrue(np.isfinite(t.line.commands(t.row)).all())

    def test_a_gyro_that_jumps_is_caught_anew(self) -> None:
        t = Ticks(corrected())
        t.tick(0.0)
        t.tick(50.0)
        self.assertEqual((t.get("correction", "fault"), t.get("correction", "output")), (3, 0))
        t.tick(50.0)
        self.assertAlmostEqual(t.deg("target"), 50.0)
        self.assertEqual(t.get("correction", "on"), 1.0)

    def test_the_why_tells_what_the_gyro_added(self) -> None:
        t = Ticks(corrected())
        t.tick(20.0)
        t.tick(10.0, forward=0.4)
        self.assertIn("heading 10.0 deg off: 40.0 deg/s left", sentence(t.line, t.row, "left"))
        rung = next(r for r in ladder(t.line, t.row, "left") if r.stage == "correct")
        self.assertEqual(
            rung.text, "target +20.0 deg, error +10.0 deg, rate -600.0 deg/s: p +40.0, i +0.0, d +0.0 → +40.0 deg/s"
        )

    def test_where_nothing_can_ask_for_it_no_sensor_changes_the_motion(self) -> None:
        rig = corrected().model_copy(update={"correction": CorrectionTable().model_copy(update={"hold": NEVER})})
        t = Ticks(rig)
        t.tick(20.0)
        t.tick(30.0, turn=0.3, forward=0.2)
        self.assertEqual((t.get("correction", "forward"), t.get("correction", "turn")), (0.2, 0.3))

    def test_a_changed_gain_keeps_what_is_held(self) -> None:
        t = Ticks(corrected())
        t.tick(20.0)
        other = Line(corrected(p_per_s=9.0))
        state = other.keep(t.line, t.state)
        held: CorrectionState = other.of(state, "correction")
        self.assertAlmostEqual(math.degrees(float(held.target)), 20.0)


class ControlTest(unittest.TestCase):
    def line(self, **keys: object) -> Line:
        table = WheelControl().model_copy(update=keys)
        rig = plain_rig(('lag = "0 s"', 'lag = "100 ms"'), ('wheels = ["left"]', 'wheels = ["left"]\ncounts_per_turn = 12'),
                        ('wheels = ["right"]', 'wheels = ["right"]\ncounts_per_turn = 12\nreversed = true'))  # fmt: skip
        return Line(rig.model_copy(update={"control": table}))

    def ticks(self, line: Line, speeds: list[float], measured: float = 0.0) -> Floats:
        state, sensed = line.start(), np.zeros(len(line.stages["sensed"].columns))
        sensed[2:4] = measured
        for speed in speeds:
            state, row = line.step(state, line.rest(), sensed, entry=Entry(twist=np.array([speed, 0.0, 0.0])))
        return row

    def test_feedforward_by_hand(self) -> None:
        # top 1 m/s: 0.5 of it needs 0.05 for friction, 0.9·0.5, and from 0.4 in a tick 0.1 s · 0.1 · 60
        line = self.line(wheels="feedforward", static=0.05, speed=0.9, acceleration_s=0.1)
        row = self.ticks(line, [0.4, 0.5])
        at = line.layout.at
        self.assertAlmostEqual(row[at("control", "left_static")], 0.05)
        self.assertAlmostEqual(row[at("control", "left_speed")], 0.45)
        self.assertAlmostEqual(row[at("control", "left_acceleration")], 0.6)
        self.assertAlmostEqual(row[at("control", "left_drive")], 1.0)  # 1.1 is more than there is
        # its polarity comes behind it
        steady = self.ticks(line, [0.5, 0.5])
        self.assertAlmostEqual(steady[at("drive", "left")], 0.5)
        self.assertAlmostEqual(steady[at("drive", "right")], -0.5)

    def test_the_loop_by_hand(self) -> None:
        # wanted 0.5, measured 0.3: P 0.6·0.2, I 3·0.2/60 for each of two ticks
        line = self.line(
            wheels="pid", static=0.0, speed=1.0, acceleration_s=0.0, speed_filter_s=0.0, p=0.6, i=3.0, d=0.0
        )
        row = self.ticks(line, [0.5, 0.5], measured=0.3)
        at = line.layout.at
        self.assertAlmostEqual(row[at("control", "left_p")], 0.12)
        self.assertAlmostEqual(row[at("control", "left_i")], 0.02)
        self.assertAlmostEqual(row[at("control", "left_drive")], 0.64)

    def test_rest_is_rest(self) -> None:
        line = self.line(wheels="pid")
        row = self.ticks(line, [0.5, 0.5, 0.0, 0.0, 0.0])
        np.testing.assert_array_equal(line.commands(row), line.resting())

    def test_brake_and_coast_take_the_loop_out(self) -> None:
        """After a full spin the loop would push against the motion for most of a second; nothing may leave while they count."""
        rig = read_rig(demo_path("coot"))
        control = (rig.control or WheelControl()).model_copy(update={"wheels": "pid"})
        letters = ("coast", "brake")
        bound = tuple(Binding(channel=f"button_{k}", does=does) for k, does in enumerate(letters))
        rig = rig.model_copy(update={"control": control, "bindings": bound})
        for k, does in enumerate(letters):
            rollout = Rollout(Line(rig), RealisticBody(rig))
            line, at = rollout.line, rollout.line.layout.at
            spin = Entry(twist=np.array([0.0, 0.0, rig.full_turn_rad_s]))
            for _ in range(90):
                row = rollout.tick(line.rest(), entry=spin)
            raw, motors = line.rest(), [plain(m) for m in rig.motors]
            raw[line.inputs.names.index(f"button_{k}")] = 1.0
            self.assertGreater(abs(row[at("control", f"{motors[0]}_i")]), 0.0)
            for _ in range(40):
                row = rollout.tick(raw)
                self.assertEqual([row[at("drive", m)] for m in motors], [0.0] * len(motors))
                # two pins for each motor: both low, or both high
                np.testing.assert_array_equal(line.commands(row)[:8], line.resting()[:8] + 255.0 * k)
                self.assertEqual(row[at("control", f"{motors[0]}_drive")], 0.0)
                self.assertEqual(row[at("outputs", "robot_coast")], 1.0 - k)
            self.assertIn(f"{does}: no loop, no drive", sentence(line, row, line.wheels[0]))
            self.assertIn(f"! {does}", [r.note for r in ladder(line, row, line.wheels[0])])
            # whoever else drives is not held up by a driver's button
            for _ in range(5):
                row = rollout.tick(raw, entry=spin)
            self.assertGreater(abs(row[at("drive", motors[0])]), 0.1)
            self.assertEqual(row[at("outputs", "robot_coast")], 0.0)
            self.assertNotIn("no drive", sentence(line, row, line.wheels[0]))

    def test_a_battery_that_sags_is_compensated(self) -> None:
        rig = self.line(wheels="feedforward", static=0.0, speed=1.0, acceleration_s=0.0).rig
        rig = rig.model_copy(update={"battery": rig.battery.model_copy(update={"sensed": True, "volts": 8.0})})
        line = Line(rig)
        state, sensed = line.start(), np.zeros(len(line.stages["sensed"].columns))
        for volts, wanted in ((6.4, 0.5 * 8 / 6.4), (0.0, 0.5), (float("nan"), 0.5)):
            sensed[line.layout.at("sensed", "battery") - line.layout.stage("sensed").start] = volts
            _, row = line.step(state, line.rest(), sensed, entry=Entry(twist=np.array([0.5, 0.0, 0.0])))
            self.assertAlmostEqual(row[line.layout.at("control", "left_drive")], wanted)

    def test_measured_follows_commanded_better_from_open_to_feedforward_to_the_loop(self) -> None:
        rig = read_rig(demo_path("coot"))  # its tyres scrub while it turns
        missing = []
        for wheels in ("open", "feedforward", "pid"):
            control = (rig.control or WheelControl()).model_copy(update={"wheels": wheels})
            line = Line(rig.model_copy(update={"control": control}))
            rollout = Rollout(line, RealisticBody(rig))
            for _ in range(90):
                row = rollout.tick(line.rest(), entry=Entry(twist=np.array([0.0, 0.0, 0.25 * rig.full_turn_rad_s])))
            speeds = (
                row[line.speeds] - row[[line.layout.at("sensed", f"{w.replace(' ', '_')}_speed") for w in line.wheels]]
            )
            missing.append(float(np.abs(speeds).mean()))
        self.assertGreater(missing[0], missing[1])
        self.assertGreater(missing[1], 2 * missing[2])


def weak(name: str, strength: float = 0.92) -> Rig:
    rig = read_rig(demo_path(name))
    motors = {n: m.model_copy(update={"strength": strength}) if "left" in n else m for n, m in rig.motors.items()}
    return rig.model_copy(update={"motors": motors})


def carried_out(rig: Rig, motion: Motion, robots: int, longest_s: float = 15.0) -> tuple[Floats, float]:
    """Let robots make a motion; returns where each comes to rest, (N, 3), and the ticks that the last one takes."""
    line, model = Line(rig), RealisticBody(rig)
    seeds = np.arange(robots, dtype=np.uint64)
    fleet = Fleet(Means(line), model, line.start(seeds.shape), model.start(seeds.shape, seeds), np.zeros(3))
    fleet.run(1)
    fleet.begin(motion)
    fleet.run(longest_s * 60)
    return np.array(fleet.robot().pose), float(fleet.ended_at.max())


@slow
class MovesTest(unittest.TestCase):
    def test_a_plover_with_a_weak_side_veers_off_by_itself(self) -> None:
        rig = weak("plover")
        pose, _ = carried_out(rig, straight_of(Line(rig), 3.0, held=False), 5)
        self.assertGreater(float(np.abs(pose[:, 1]).min()), 0.15)

    def test_held_by_the_gyro_every_robot_keeps_its_line(self) -> None:
        for name in SOME:
            rig = weak(name)
            pose, _ = carried_out(rig, straight_of(Line(rig), 3.0), 20)
            self.assertLess(float(np.abs(pose[:, 1]).max()), 0.03, name)
            self.assertLess(math.degrees(float(np.abs(pose[:, 2]).max())), 0.55, name)
            np.testing.assert_allclose(pose[:, 0], 3.0, atol=0.05, err_msg=name)

    def test_a_quarter_turn_ends_within_a_degree(self) -> None:
        for name in ALL:
            rig = read_rig(demo_path(name))
            pose, ticks = carried_out(rig, turn_of(Line(rig), math.pi / 2), 20)
            self.assertLess(math.degrees(float(np.abs(pose[:, 2] - math.pi / 2).max())), 1.0, name)
            self.assertLess(ticks, 8 * 60, name)

    def test_to_the_right_and_several_turns(self) -> None:
        rig = read_rig(demo_path("plover"))
        for angle in (-math.pi / 2, 2.5 * 2 * math.pi):
            pose, _ = carried_out(rig, turn_of(Line(rig), angle), 3)
            self.assertLess(math.degrees(float(np.abs(pose[:, 2] - angle).max())), 2.5)


class ProfileTest(unittest.TestCase):
    def rates(self, motion: Motion, k: int) -> list[float]:
        """What it asks for, tick by tick."""
        rig, most = corrected(), 900
        line, model = Line(rig), IdealBody(rig)
        fleet = Fleet(
            Means(line, most, [line.layout.stage("law").start + k]),
            model,
            line.start((1,)),
            model.start((1,)),
            np.zeros(3),
        )
        fleet.run(1)
        fleet.begin(motion)
        fleet.run(most)
        return [float(v) for v in fleet.table[0, 1 : int(min(fleet.ended_at[0], most)) + 1, 0]]

    def test_a_trapezoid_takes_as_long_as_by_hand(self) -> None:
        # 2 rad at 1 rad/s with 2 rad/s²: 2/1 + 1/2 = 2.5 s
        rates = self.rates(Motion(True, turn=1.0, whole=2.0, most=1.0, rise=2.0), 2)
        self.assertAlmostEqual(max(rates), 1.0)
        moving = np.flatnonzero(np.array(rates) > 1e-9)
        self.assertAlmostEqual((moving[-1] + 1) / 60, 2.5, delta=0.07)
        self.assertAlmostEqual(sum(rates) / 60, 2.0, delta=1e-6)
        # but for the last tick, which takes what is left: less than one and a half of the slowest
        self.assertLessEqual(float(np.abs(np.diff(rates[: moving[-1]])).max()), 2.0 / 60 + 1e-9)
        self.assertLess(rates[moving[-1]], 0.06)

    def test_a_short_way_never_gets_to_full_speed(self) -> None:
        # 0.1 rad with 2 rad/s² both ways: the peak is √(0.1·2)
        rates = self.rates(Motion(True, turn=-1.0, whole=0.1, most=1.0, rise=2.0), 2)
        self.assertAlmostEqual(min(rates), -math.sqrt(0.2), delta=0.04)

    def test_backwards_and_by_time(self) -> None:
        self.assertLess(min(self.rates(Motion(forward=-1.0, whole=0.3, most=0.4), 0)), -0.35)
        rates = self.rates(Motion(forward=1.0, most=0.4, rise=4.0, time_s=1.0), 0)
        self.assertIn(len(rates), (60, 61))
        self.assertEqual(rates[-1], 0.0)

    def test_nothing_to_do_is_done_at_once(self) -> None:
        self.assertLess(len(self.rates(Motion(True, turn=1.0, whole=0.0), 2)), 20)
        self.assertLess(len(self.rates(Motion(forward=1.0, whole=0.0, held=False), 0)), 10)


if __name__ == "__main__":
    unittest.main()
