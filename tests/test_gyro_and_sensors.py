"""Zeroing the gyro, and what rangers and lamps see: against hand-worked geometry."""

import math
import unittest

import numpy as np
from numpy.typing import NDArray

from pivrex.line import Entry, Line
from pivrex.line.seeing import Seeing
from pivrex.line.zeroing import DONE, MEASURES, MOVED, WAITS, Zeroing
from pivrex.rig import Rig, read_rig
from pivrex.rig.field import Field
from pivrex.sim import Rollout
from pivrex.sim.body import RealisticBody
from tests.chassis import demo_path
from tests.support import plain_rig

Floats = NDArray[np.float64]
FLOOR = Field.model_validate(
    {
        "length": "4 m",
        "width": "3 m",
        "blocks": [{"name": "b", "x": "3 m", "y": "1 m", "length": "1 m", "width": "1 m"}],
        "rounds": [{"name": "post", "x": "1 m", "y": "2.5 m", "radius": "0.1 m", "shows": 7}],
    }
)


class ZeroingTest(unittest.TestCase):
    def zeroed(self, rig: Rig, pushed_at: int = -1, seeds: int = 40) -> tuple[Line, Rollout, Floats]:
        line, model = Line(rig), RealisticBody(rig)
        batch = (seeds,)
        rollout = Rollout(line, model, line.start(batch), model.start(batch, np.arange(seeds, dtype=np.uint64)))
        raw = line.rest(batch)
        rollout.tick(raw)
        stage = line.stages["zeroing"]
        assert isinstance(stage, Zeroing)
        rollout.state = line.changed(rollout.state, "zeroing", stage.ask(line.of(rollout.state, "zeroing")))
        statuses = []
        for k in range(150):
            if k == pushed_at:
                rollout.robot = model.pushed(rollout.robot, np.broadcast_to([0.0, 0.3, 0.04], (seeds, 3)))
            row = rollout.tick(raw)
            statuses.append(row[:, line.layout.at("zeroing", "status")].copy())
        return line, rollout, np.array(statuses)

    def test_the_bias_is_measured_and_taken_off(self) -> None:
        rig = read_rig(demo_path("plover"))
        assert rig.gyro is not None
        gyro = rig.gyro.model_copy(update={"bias_rad_s": math.radians(2.0), "drift_rad_s2": 0.0, "delay_s": 0.0})
        line, rollout, statuses = self.zeroed(rig.model_copy(update={"gyro": gyro}))
        self.assertTrue((statuses[5] == MEASURES).all())
        self.assertTrue((statuses[-1] == DONE).all())
        true = rollout.robot.bias
        state = line.of(rollout.state, "zeroing")
        # the mean of 120 readings with a noise of 0.08 deg/s each
        spread = math.radians(0.08) / math.sqrt(120)
        self.assertLess(float(np.abs(state.bias - true).max()), 4 * spread)
        self.assertAlmostEqual(float(np.degrees(state.noise).mean()), 0.08, delta=0.01)
        before = rollout.tick(line.rest((40,)))[:, line.layout.at("heading", "heading")]
        for _ in range(600):
            row = rollout.tick(line.rest((40,)))
        drift = np.degrees(row[:, line.layout.at("heading", "heading")] - before)
        self.assertLess(float(np.abs(drift).max()), 0.5)  # without it up to 20 deg in these ten seconds

    def test_it_says_that_the_robot_moved_and_begins_again(self) -> None:
        _, _, statuses = self.zeroed(read_rig(demo_path("plover")), pushed_at=60, seeds=3)
        self.assertTrue((statuses[:60] == MEASURES).all() or (statuses[1:60] == MEASURES).all())
        self.assertIn(float(MOVED), statuses[60:70].ravel().tolist())
        self.assertFalse((statuses == DONE).any())  # 2 s of rest have not passed since

    def test_asked_while_the_gyro_says_nothing_it_waits(self) -> None:
        rig = read_rig(demo_path("plover"))
        line = Line(rig)
        stage = line.stages["zeroing"]
        assert isinstance(stage, Zeroing)
        state = line.changed(line.start(), "zeroing", stage.ask(stage.start(())))
        sensed = np.zeros(len(line.stages["sensed"].columns))
        at = line.layout.at("sensed", "gyro") - line.layout.stage("sensed").start
        seen = []
        for k in range(200):
            sensed[at] = math.nan if k < 30 else 0.001 * k / 60
            state, row = line.step(state, line.rest(), sensed)
            seen.append(int(row[line.layout.at("zeroing", "status")]))
        self.assertEqual(set(seen[:30]), {WAITS})
        self.assertEqual(seen[-1], DONE)
        self.assertAlmostEqual(float(line.of(state, "zeroing").bias), 0.001, places=9)

    def test_a_robot_that_drives_is_not_zeroed(self) -> None:
        rig = read_rig(demo_path("plover"))
        line, model = Line(rig), RealisticBody(rig)
        rollout = Rollout(line, model)
        stage = line.stages["zeroing"]
        assert isinstance(stage, Zeroing)
        for _ in range(20):
            rollout.tick(line.rest(), entry=Entry(twist=np.array([0.3, 0.0, 0.0])))
        rollout.state = line.changed(rollout.state, "zeroing", stage.ask(line.of(rollout.state, "zeroing")))
        for _ in range(150):
            row = rollout.tick(line.rest(), entry=Entry(twist=np.array([0.3, 0.0, 0.0])))
        self.assertEqual(row[line.layout.at("zeroing", "status")], WAITS)


class SeeingTest(unittest.TestCase):
    def seeing(self, text: str) -> Seeing:
        return Seeing(plain_rig(("[law]", text + "\n[law]")), FLOOR)

    def range_at(self, x: float, y: float, heading: float, text: str = 'cone = "0 deg"') -> float:
        seeing = self.seeing(f'[sensors.front]\nkind = "ranger"\nlongest = "5 m"\n{text}')
        return float(seeing.sense(np.array([x, y, heading]))[0])

    def test_ranges_by_hand(self) -> None:
        self.assertAlmostEqual(self.range_at(1.0, 1.0, 0.0), 1.5)  # the block begins at x = 2.5
        self.assertAlmostEqual(self.range_at(1.0, 0.3, 0.0), 3.0)  # past the block to the wall
        self.assertAlmostEqual(self.range_at(1.0, 0.3, math.pi), 1.0)
        self.assertAlmostEqual(
            self.range_at(1.0, 1.0, math.pi / 2), 1.4
        )  # the post: its middle at 1.5, less its radius
        self.assertAlmostEqual(self.range_at(1.0, 1.0, math.radians(-45)), math.sqrt(2))
        self.assertAlmostEqual(self.range_at(1.0, 1.0, 0.0, 'cone = "0 deg"\nx = "200 mm"'), 1.3)
        self.assertAlmostEqual(self.range_at(1.0, 1.0, 0.0, 'cone = "0 deg"\ndirection = "90 deg"'), 1.4)

    def test_a_cone_hears_the_nearest_thing(self) -> None:
        # straight ahead at y = 0.3 nothing but the wall; 20 deg to the left lies the block's corner (2.5, 0.5)
        self.assertAlmostEqual(self.range_at(1.9, 0.3, 0.0), 2.1)
        self.assertLess(self.range_at(1.9, 0.3, 0.0, 'cone = "60 deg"'), 0.75)

    def test_shortest_longest_and_silence(self) -> None:
        self.assertAlmostEqual(self.range_at(2.49, 1.0, 0.0), 0.02)
        self.assertEqual(self.range_at(1.0, 1.0, 0.0, 'cone = "0 deg"\nshortest = "1 cm"').__class__, float)
        seeing = self.seeing('[sensors.front]\nkind = "ranger"\nlongest = "1 m"\ncone = "0 deg"')
        self.assertEqual(float(seeing.sense(np.array([1.0, 1.0, 0.0]))[0]), 0.0)

    def test_noise_and_missed_echoes(self) -> None:
        seeing = self.seeing('[sensors.front]\nkind = "ranger"\nnoise = "10 mm"\nmissed = "20 %"\ncone = "0 deg"')
        chance = np.random.default_rng(1).standard_normal((20000, 2))
        read = seeing.sense(np.tile([1.0, 1.0, 0.0], (20000, 1)), chance)[:, 0]
        heard = read[read > 0]
        self.assertAlmostEqual(1 - len(heard) / len(read), 0.2, delta=0.01)
        self.assertAlmostEqual(float(heard.mean()), 1.5, delta=0.001)
        self.assertAlmostEqual(float(heard.std()), 0.01, delta=0.0005)

    def test_a_lamp_reads_what_is_in_range_and_sight_and_not_hidden(self) -> None:
        seeing = self.seeing('[sensors.post]\nkind = "lamp"\nrange = "1.5 m"\nsight = "90 deg"')

        def number(x: float, y: float, heading_deg: float) -> float:
            return float(seeing.sense(np.array([x, y, math.radians(heading_deg)]))[0])

        self.assertEqual(number(1.0, 1.5, 90), 7.0)
        self.assertEqual(number(1.0, 1.5, 50), 7.0)  # 40 deg off, of 45
        self.assertEqual(number(1.0, 1.5, 40), 0.0)
        self.assertEqual(number(1.0, 0.9, 90), 0.0)  # 1.6 m
        far = self.seeing('[sensors.post]\nkind = "lamp"\nrange = "5 m"\nsight = "360 deg"')
        self.assertEqual(float(far.sense(np.array([3.8, 0.2, 0.0]))[0]), 0.0)  # the block lies between
        self.assertEqual(float(far.sense(np.array([1.8, 0.2, 0.0]))[0]), 7.0)

    def test_the_sensed_columns_have_them(self) -> None:
        rig = read_rig(demo_path("bittern"))
        line, model = Line(rig), RealisticBody(rig, FLOOR)
        rollout = Rollout(line, model, None, model.start()._replace(pose=np.array([1.0, 1.0, 0.0])))
        row = rollout.tick(line.rest())
        self.assertAlmostEqual(float(row[line.layout.at("sensed", "front")]), 1.36, delta=0.03)
        self.assertEqual(row[line.layout.at("sensed", "post")], 7.0 * 0)  # behind its sight


if __name__ == "__main__":
    unittest.main()
