import math
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from pivrex.line import se2
from pivrex.line.seeing import scenery_of
from pivrex.rig.field import Field
from pivrex.sim import IdealBody
from pivrex.sim.bumps import touches
from tests.support import plain_rig

Pose = tuple[float, float, float]
poses = st.tuples(st.floats(-5, 5), st.floats(-5, 5), st.floats(-10, 10))
steps = st.tuples(st.floats(-1, 1), st.floats(-1, 1), st.floats(-3, 3))

WALLED = Field.model_validate(
    {
        "length": "4 m",
        "width": "3 m",
        "start": {"x": "1 m", "y": "1 m"},
        "blocks": [{"name": "b", "x": "3 m", "y": "1 m", "length": "1 m", "width": "1 m"}],
        "rounds": [{"name": "r", "x": "1 m", "y": "2.5 m", "radius": "0.3 m"}],
    }
)


def move(pose: Pose, *step: float) -> Pose:
    x, y, heading = se2.move(np.array(pose, float), np.array(step, float)).tolist()
    return x, y, heading


class MotionTest(unittest.TestCase):
    def test_a_quarter_circle_by_hand(self) -> None:
        # an arc of radius 1 through 90 deg from the origin ends at (1, 1)
        x, y, heading = move((0, 0, 0), math.pi / 2, 0, math.pi / 2)
        self.assertAlmostEqual(x, 1)
        self.assertAlmostEqual(y, 1)
        self.assertAlmostEqual(heading, math.pi / 2)

    @given(poses, steps)
    def test_many_straight_steps_come_to_the_same(
        self, pose: tuple[float, float, float], step: tuple[float, float, float]
    ) -> None:
        """The exact motion against ten thousand tiny Euler steps at the middle heading."""
        x, y, heading = pose
        n = 2000
        for i in range(n):
            middle = heading + step[2] * (i + 0.5) / n
            x += (math.cos(middle) * step[0] - math.sin(middle) * step[1]) / n
            y += (math.sin(middle) * step[0] + math.cos(middle) * step[1]) / n
        found = move(pose, *step)
        self.assertAlmostEqual(found[0], x, places=5)
        self.assertAlmostEqual(found[1], y, places=5)

    @given(poses, steps)
    def test_there_and_back(self, pose: tuple[float, float, float], step: tuple[float, float, float]) -> None:
        back = move(move(pose, *step), *(-s for s in step))
        for a, b in zip(back, pose, strict=True):
            self.assertAlmostEqual(a, b, places=9)

    def test_no_seam_at_small_turns(self) -> None:
        a, b = move((0, 0, 0), 1, 0.5, 0.99e-6), move((0, 0, 0), 1, 0.5, 1.01e-6)
        self.assertAlmostEqual(a[0], b[0], places=7)
        self.assertAlmostEqual(a[1], b[1], places=7)


class BumpTest(unittest.TestCase):
    def setUp(self) -> None:
        self.scenery = scenery_of(WALLED).plain

    def test_by_hand(self) -> None:
        for pose, wanted in (
            ((1, 1, 0), False),
            ((0.19, 1, 0), True),  # its back is 0.2 behind the centre
            ((0.19, 1, math.pi / 2), False),  # its side only 0.1
            ((2.29, 1, 0), False),  # nose at 2.49, the block begins at 2.5
            ((2.31, 1, 0), True),
            ((2.39, 0.39, math.pi / 4), True),  # a corner at 45 deg: 0.3/√2 = 0.212 reaches past (2.5, 0.5)
            ((2.25, 0.25, math.pi / 4), False),
            ((1, 2.05, math.pi / 2), True),  # nose at 2.25, the round begins at 2.2
            ((1, 1.99, math.pi / 2), False),
            ((3.9, 2.5, 0), True),
        ):
            self.assertEqual(touches(self.scenery, 0.2, 0.1, *map(float, pose)), wanted, pose)

    @given(st.floats(0, 4), st.floats(0, 3), st.floats(-4, 4))
    def test_points_of_the_body_agree(self, x: float, y: float, heading: float) -> None:
        """Sampled points of the body inside something prove a touch; the other way needs no proof by samples."""
        inside = False
        for i in range(9):
            for j in range(9):
                a, b = (i / 8 - 0.5) * 0.4, (j / 8 - 0.5) * 0.2
                ax = x + math.cos(heading) * a - math.sin(heading) * b
                ay = y + math.sin(heading) * a + math.cos(heading) * b
                inside |= not (-1e-9 <= ax <= 4 + 1e-9 and -1e-9 <= ay <= 3 + 1e-9)
                inside |= 2.5 < ax < 3.5 and 0.5 < ay < 1.5
                inside |= math.hypot(ax - 1, ay - 2.5) < 0.3
        if inside:
            self.assertTrue(touches(self.scenery, 0.2, 0.1, x, y, heading))

    def test_an_open_floor_stops_nothing(self) -> None:
        self.assertFalse(touches(scenery_of(None).plain, 0.5, 0.5, 1e6, 0.0, 0.0))


class StandInTest(unittest.TestCase):
    def test_the_lag_by_hand(self) -> None:
        # tau 0.1 s, target 1 m/s: after 0.1 s the speed is 1 - 1/e and the way 0.1/e
        model = IdealBody(plain_rig(('lag = "0 s"', 'lag = "100 ms"')))
        state = model.start()
        for _ in range(10):
            state = model.step(state, np.array([1.0, 1.0]), 0.01)
        self.assertAlmostEqual(state.speed[0], 1 - math.exp(-1))
        self.assertAlmostEqual(state.travel[0], 0.1 * math.exp(-1))
        self.assertAlmostEqual(state.pose[0], 0.1 * math.exp(-1))

    def test_the_step_does_not_matter(self) -> None:
        model = IdealBody(plain_rig(('lag = "0 s"', 'lag = "100 ms"')))
        fine, coarse = model.start(), model.step(model.start(), np.array([1.0, 1.0]), 0.2)
        for _ in range(200):
            fine = model.step(fine, np.array([1.0, 1.0]), 0.001)
        self.assertAlmostEqual(fine.pose[0], coarse.pose[0])

    def test_it_is_wired_as_the_rig_says(self) -> None:
        # a reversed motor rolls forward on a negative command
        model = IdealBody(plain_rig(('wheels = ["left"]', 'wheels = ["left"]\nreversed = true')))
        state = model.step(model.start(), np.array([-0.5, 0.5]), 1.0)
        self.assertAlmostEqual(state.pose[0], 0.5)
        self.assertAlmostEqual(state.pose[2], 0.0)

    def test_below_the_smallest_drive_nothing_turns(self) -> None:
        model = IdealBody(plain_rig(('wheels = ["left"]', 'wheels = ["left"]\nsmallest = "10 %"')))
        state = model.step(model.start(), np.array([0.09, 0.0]), 1.0)
        self.assertEqual(state.travel.tolist(), [0.0, 0.0])
        self.assertGreater(model.step(model.start(), np.array([0.10, 0.0]), 1.0).travel[0], 0.09)

    def test_a_wall_stops_it_and_its_wheels(self) -> None:
        model = IdealBody(plain_rig(('width = "400 mm"', 'width = "600 mm"')), WALLED)
        state = model.start()
        for _ in range(200):
            state = model.step(state, np.array([-1.0, -1.0]), 0.02)
        self.assertTrue(state.blocked)
        self.assertAlmostEqual(state.pose[0], 0.2, delta=0.001)  # its back, 0.2 m behind the centre, at the wall
        self.assertAlmostEqual(state.speed[0], 0.0, delta=0.01)
        away = model.step(state, np.array([1.0, 1.0]), 0.02)
        self.assertFalse(away.blocked)
        self.assertGreater(away.pose[0], 0.21)

    @given(st.lists(st.tuples(st.floats(-1, 1), st.floats(-1, 1)), min_size=1, max_size=60))
    def test_it_never_gets_into_anything(self, commands: list[tuple[float, float]]) -> None:
        model = IdealBody(plain_rig(), WALLED)
        scenery = scenery_of(WALLED).plain
        state = model.start()
        for left, right in commands:
            state = model.step(state, np.array([left, right]), 0.1)
            self.assertFalse(touches(scenery, 0.2, 0.2, *state.pose.tolist()))

    def test_the_same_commands_give_the_same_bits(self) -> None:
        model = IdealBody(plain_rig(), WALLED)
        ends = []
        for _ in range(2):
            state = model.start()
            for i in range(300):
                state = model.step(state, np.array([math.sin(i / 9), math.cos(i / 7)]), 1 / 60)
            ends.append(state)
        self.assertEqual(ends[0].data.tobytes(), ends[1].data.tobytes())
