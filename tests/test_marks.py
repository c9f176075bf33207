"""Known by a mark: a wall that is touched, a ranger that looks at one; as much is believed as the two variances say."""

import unittest
from math import pi, radians

import numpy as np

from pivrex.kernels import Form
from pivrex.line import Line
from pivrex.line.beginning import begun
from pivrex.line.covariance import Covariance
from pivrex.line.landmarks import NoMarkError, nearest_mark, range_mark, take, touched, wall_mark
from pivrex.line.odometry import Odometry, OdometryState
from pivrex.rig import read_rig
from pivrex.rig.field import Block, Field
from pivrex.routine import check_text, play
from pivrex.routine.rehearsal import rehearse
from pivrex.routine.thread import UNKNOWN
from pivrex.session import messages as ask
from tests.chassis import demo_path, ideal
from tests.test_match import SHORT, Played

FIELD = Field.model_validate({"length": "4 m", "width": "3 m"})
PLOVER = read_rig(demo_path("plover"))
HALF = PLOVER.chassis.length_m / 2
RANGER = next(n for n, s in PLOVER.sensors.items() if s.kind == "ranger")


def block(x: float, y: float, length: float, width: float) -> Block:
    sizes = {"x": x, "y": y, "length": length, "width": width}
    return Block.model_validate({"name": "bench"} | {k: f"{v} m" for k, v in sizes.items()})


def believing(pose: tuple[float, float, float], sigmas: tuple[float, float, float]) -> tuple[Odometry, OdometryState]:
    stage = Line(PLOVER).stages["odometry"]
    assert isinstance(stage, Odometry)
    return stage, stage.put(stage.start(()), np.array(pose), np.array(sigmas))


class GainTest(unittest.TestCase):
    def test_one_number_against_the_closed_form(self) -> None:
        stage, own = believing((1.0, 1.0, 0.0), (0.04, 0.02, 0.1))
        after, gain, expected = stage.updated(own, np.array([1.0, 0.0, 0.0]), 0.10, 0.03**2)
        # a prior of 4 cm and a measurement of 3 cm: 16/25 of the difference
        self.assertAlmostEqual(gain[0], 0.64)
        self.assertAlmostEqual(float(expected), 0.05**2)
        np.testing.assert_allclose(after.pose, [1.064, 1.0, 0.0])
        self.assertAlmostEqual(float(after.covariance.xx), (0.04 * 0.03 / 0.05) ** 2)
        self.assertAlmostEqual(float(after.covariance.yy), 0.02**2)

    def test_it_is_the_matrices_product_with_errors_that_are_considered(self) -> None:
        """Against P' = (I - K H) P (I - K H)' + K R K' of the seven, with a gain that leaves the last four alone."""
        chance = np.random.default_rng(4)
        root = chance.normal(size=(7, 7))
        p = root @ root.T
        names = ("x", "y", "h", "k", "m", "d", "l")
        stage, own = believing((0.0, 0.0, 0.0), (0.0, 0.0, 0.0))
        entries = [(names.index(n[0]), names.index(n[1])) for n in Covariance.fields]
        own = own._replace(covariance=Covariance(Form(Covariance), np.array([p[i, j] for i, j in entries])))
        h = np.concatenate((chance.normal(size=3), np.zeros(4)))
        after, gain, _ = stage.updated(own, h[:3], 0.3, 0.7)
        k = p @ h / (h @ p @ h + 0.7)
        k[3:] = 0.0
        left = np.eye(7) - np.outer(k, h)
        wanted = left @ p @ left.T + 0.7 * np.outer(k, k)
        np.testing.assert_allclose(gain, k[:3])
        np.testing.assert_allclose(after.covariance.data, [wanted[i, j] for i, j in entries], atol=1e-12)

    def test_many_are_each_as_one_alone(self) -> None:
        stage, one = believing((1.0, 1.0, 0.2), (0.04, 0.02, 0.1))
        many = type(one)(one.form, np.stack([one.data, one.data]))
        h = np.array([0.6, 0.8, 0.1])
        alone, both = stage.updated(one, h, 0.05, 1e-4)[0], stage.updated(many, h, 0.05, 1e-4)[0]
        np.testing.assert_array_equal(both.pose[1], alone.pose)
        np.testing.assert_array_equal(both.covariance.data[1], alone.covariance.data)


class WallTest(unittest.TestCase):
    def test_each_side_of_the_robot_and_of_the_room(self) -> None:
        for heading, side, column, value in (
            (0.0, "ahead", 0, 4.0 - HALF),
            (pi, "ahead", 0, HALF),
            (pi / 2, "ahead", 1, 3.0 - HALF),
            (0.0, "behind", 0, HALF),
            (0.0, "left", 1, 3.0 - PLOVER.chassis.width_m / 2),
            (0.0, "right", 1, PLOVER.chassis.width_m / 2),
        ):
            near = np.array([2.0, 1.5, heading])
            near[column] = value + 0.05
            mark = wall_mark(PLOVER, FIELD, near, side)
            self.assertAlmostEqual(mark.measured[0], value, msg=f"{heading} {side}")
            self.assertAlmostEqual(mark.estimated[0], value + 0.05)
            self.assertEqual(mark.across[0].tolist(), [float(column == 0), float(column == 1), 0.0])

    def test_a_block_is_a_wall_too_and_its_heading_keeps_whole_turns(self) -> None:
        there = FIELD.model_copy(update={"blocks": (block(3.0, 1.5, 0.4, 1.0),)})
        mark = wall_mark(PLOVER, there, np.array([2.8 - HALF - 0.03, 1.5, 4 * pi + radians(5)]), "ahead")
        self.assertAlmostEqual(mark.measured[0], 2.8 - HALF)
        self.assertAlmostEqual(mark.measured[1], 4 * pi)

    def test_what_says_nothing(self) -> None:
        for field, pose, why in (
            (None, (1.0, 1.0, 0.0), "no field"),
            (FIELD, (3.9, 1.0, radians(40)), "off square"),
            (FIELD, (2.0, 1.0, 0.0), "not the one that is touched"),
            (FIELD.model_copy(update={"walls": False}), (3.9, 1.0, 0.0), "nowhere"),
        ):
            with self.assertRaisesRegex(NoMarkError, why):
                wall_mark(PLOVER, field, np.array(pose), "ahead")

    def test_a_robot_that_was_carried_away_is_not_pulled_back(self) -> None:
        stage, own = believing((4.0 - HALF - 0.4, 1.0, 0.0), (0.02, 0.02, 0.02))
        with self.assertRaisesRegex(NoMarkError, r"does not fit: x \d"):
            take(stage, own, wall_mark(PLOVER, FIELD, own.pose, "ahead"))


class RangeTest(unittest.TestCase):
    def test_a_range_tells_the_way_along_its_ray(self) -> None:
        sensor = PLOVER.sensors[RANGER]
        ahead = np.array([2.0, 1.5, 0.0])
        reach = 4.0 - 2.0 - sensor.x_m
        mark = range_mark(PLOVER, FIELD, ahead, RANGER, reach - 0.02)
        self.assertAlmostEqual(mark.estimated[0], reach, places=6)
        np.testing.assert_allclose(mark.across[0, :2], [-1.0, 0.0], atol=1e-6)
        stage, own = believing((2.0, 1.5, 0.0), (0.03, 0.03, 0.0))
        after, said = take(stage, own, mark)
        # two centimetres nearer than believed: it is that much further on, nearly, for 3 cm against some millimetres
        self.assertAlmostEqual(after.pose[0], 2.02, delta=0.002)
        self.assertRegex(said, r"gain 0\.9\d")

    def test_what_says_nothing(self) -> None:
        with self.assertRaisesRegex(NoMarkError, "hears no echo"):
            range_mark(PLOVER, FIELD, np.array([2.0, 1.5, 0.0]), RANGER, 0.0)
        with self.assertRaisesRegex(NoMarkError, "would hear nothing"):
            range_mark(PLOVER, FIELD.model_copy(update={"walls": False}), np.array([2.0, 1.5, 0.0]), RANGER, 1.0)
        lamp = next(n for n, s in PLOVER.sensors.items() if s.kind == "lamp")
        with self.assertRaisesRegex(NoMarkError, "no ranger"):
            range_mark(PLOVER, FIELD, np.array([2.0, 1.5, 0.0]), lamp, 1.0)
        # the corner of a block: half the cone passes it
        edge = FIELD.model_copy(update={"blocks": (block(3.0, 0.5, 0.2, 2.0),)})
        with self.assertRaisesRegex(NoMarkError, "edge"):
            self._along_the_edge(edge)

    def _along_the_edge(self, field: Field) -> None:
        for y in np.arange(1.5, 2.2, 0.002):
            range_mark(PLOVER, field, np.array([2.0, y, 0.0]), RANGER, 0.8)

    def test_what_is_at_hand(self) -> None:
        at_wall = np.array([4.0 - HALF - 0.02, 1.5, 0.05])
        self.assertEqual(touched(PLOVER, FIELD, at_wall, 0.1), "ahead")
        self.assertEqual(nearest_mark(PLOVER, FIELD, at_wall, {RANGER: 0.02}).by, "the wall ahead")
        self.assertEqual(nearest_mark(PLOVER, FIELD, np.array([2.0, 1.5, 0.0]), {RANGER: 1.9}).by, RANGER)
        with self.assertRaisesRegex(NoMarkError, "no wall is within reach of the estimated pose"):
            nearest_mark(PLOVER, FIELD, np.array([2.0, 1.5, 0.0]), {})


class RoutineTest(unittest.TestCase):
    TEXT = "for plover\nstart at 3.0 m, 1.5 m facing 10 deg\nturn to 0 deg\ndrive ahead 1.5 m at 80 % at most 1.8 s\n{mark}\nwait 0.2 s\n"

    def test_a_wall_puts_the_belief_right(self) -> None:
        """Against the wall the wheels spin: what they count is no way."""
        off = {}
        for mark in ("mark by wall ahead", "wait 0.05 s"):
            checked = check_text(self.TEXT.format(mark=mark), PLOVER)
            assert checked.program is not None, checked.wrong
            made = play(checked.program, PLOVER, FIELD, seed=3)
            line = Line(PLOVER)
            estimated, true = (made.rows[-1, line.layout.at(s, "x")] for s in ("odometry", "truth"))
            off[mark] = abs(estimated - true)
        self.assertLess(off["mark by wall ahead"], 0.04)
        self.assertGreater(off["wait 0.05 s"], 2 * off["mark by wall ahead"])

    def test_where_there_is_none_it_goes_on_and_says_so(self) -> None:
        checked = check_text(
            "for plover\nstart at 1.0 m, 1.0 m facing 0 deg\nmark by wall ahead\ndrive ahead 20 cm\n", PLOVER
        )
        assert checked.program is not None, checked.wrong
        made = play(checked.program, PLOVER, FIELD)
        self.assertEqual(made.steps[0].marks, [UNKNOWN])
        self.assertEqual(made.ended, "finished")

    def test_many_robots_are_each_known_as_one_alone(self) -> None:
        text = f"for plover\nstart at 1.0 m, 1.0 m facing 0 deg\ndrive ahead 50 cm\nmark by {RANGER}\ndrive to 2.5 m, 1.0 m\n"
        checked = check_text(text, PLOVER)
        assert checked.program is not None, checked.wrong
        found = rehearse(checked.program, PLOVER, FIELD, np.arange(1, 5, dtype=np.uint64), 8.0)
        assert found is not None
        for seed, pose in zip((1, 4), (found.poses[0], found.poses[3]), strict=True):
            alone = play(checked.program, PLOVER, FIELD, 8.0, seed=seed)
            layout = Line(PLOVER).layout
            np.testing.assert_array_equal(alone.rows[-1, layout.these("truth", ("x", "y"))], pose[:2])

    def test_what_is_no_ranger_is_said(self) -> None:
        checked = check_text(f"for plover\nmark by {RANGER[:-1]}\n", PLOVER)
        self.assertIsNone(checked.program)
        self.assertIn(f'nearest is "{RANGER}"', str(checked.wrong[0]))
        checked = check_text("for plover\nmark by wall up\n", PLOVER)
        self.assertIn('"ahead", "behind", "left" or "right"', str(checked.wrong[0]))


class SessionTest(unittest.TestCase):
    def test_a_key_knows_it_by_what_is_at_hand(self) -> None:
        rig = ideal("plover")
        s = Played(ask.SetUp(rig, FIELD, periods=SHORT))
        stage = s.line.stages["odometry"]
        assert isinstance(stage, Odometry)
        core = s
        own = stage.put(
            core._line.of(core._state, "odometry"), np.array([4.0 - HALF - 0.05, 1.0, 0.02]), np.full(3, 0.05)
        )
        core._state = core._line.changed(core._state, "odometry", own)
        s.ask(ask.TakeMark())
        row = s.ticks(2)[-1]
        self.assertAlmostEqual(row[s.line.layout.at("odometry", "x")], 4.0 - HALF, delta=0.002)
        self.assertRegex(core.status.note, r"known by the wall ahead: x \d\.\d{3} m, estimated .*gain 0\.9\d; heading")
        core._state = begun(core._line, np.array([2.0, 1.5, radians(30)]))
        s.ask(ask.TakeMark())
        s.ticks(2)
        self.assertRegex(core.status.note, "does not fit|no wall|no echo|would hear|edge|known by")
