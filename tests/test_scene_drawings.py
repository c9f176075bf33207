"""Drawings of robots, fields and charts, looked at in cells: what stands where, which way it looks, how far two things are apart."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from pivrex.rig import open_folder, read_rig
from pivrex.rig.field import Field, Zone
from pivrex.scene.chart import Series, chart, span_of, ticks
from pivrex.scene.envelope import EnvelopeData, compass_scene, envelope_scene, motion_scene
from pivrex.scene.floor import EstimatedPose, add_estimate, add_trail, ellipse, field_scene, whole
from pivrex.scene.marks import role
from pivrex.scene.response import CurveData, GateData, curve_ground, curve_scene, gate_scene
from pivrex.scene.robot import RobotMotion, add_motion, add_robot, chassis_box, reach_of
from pivrex.scene.route import cloud_scene
from pivrex.scene.scene import Box, Scene
from pivrex.tui.draw.attachment_bar import Standing
from pivrex.tui.draw.cells import placing_of, print_scene
from pivrex.tui.draw.picture import Picture
from tests.chassis import demo_path
from tests.support import DEMO, PLOVER
from tests.test_scene import middle, shares

COOT = DEMO / "rigs" / "coot.toml"
UP = (0.0, 0.0, math.pi / 2)


class RobotTest(unittest.TestCase):
    def test_its_front_is_at_the_front_at_any_angle_and_size(self) -> None:
        rig = read_rig(COOT)
        for high_m in (0.6, 2.0, 4.0, 9.0):
            for degrees in range(0, 360, 15):
                heading = math.radians(degrees)
                scene = Scene(Box(0.0, 0.0, high_m, high_m))
                add_robot(scene, rig, (high_m / 2, high_m / 2, heading))
                picture = print_scene(scene, 72, 36)
                (hx, hy), (nx, ny) = middle(picture, "hull"), middle(picture, "nose")
                way = math.atan2(-2 * (ny - hy), nx - hx)  # a cell is twice as high as wide
                off = (way - heading + math.pi) % (2 * math.pi) - math.pi
                self.assertLess(abs(off), math.radians(30), (high_m, degrees))

    def test_it_is_to_scale_and_stands_where_it_is(self) -> None:
        field, rig = Field(), read_rig(PLOVER)
        scene = field_scene(field, whole(field))
        add_robot(scene, rig, (3.5, 1.25, 0.7))
        picture, placing = print_scene(scene, 220, 93), placing_of(scene, 220, 93)
        body = shares(picture, "hull") + shares(picture, "nose") + shares(picture, "tyre")
        y, x = np.argwhere(body > 0.4).mean(axis=0)
        self.assertLess(math.dist(placing.units(round(x), round(y)), (3.5, 1.25)), 0.04)
        square_m = 8 * 16 / placing.across**2
        # body 0.22 x 0.20 m and its front, a triangle 0.12 wide that goes on for a fifth of its half length
        self.assertAlmostEqual(float(body.sum()) * square_m, 0.22 * 0.20 + 0.5 * 0.12 * 0.024, delta=0.006)

    def test_arrows_are_as_long_as_what_is_told_and_done(self) -> None:
        rig = read_rig(COOT)
        nothing = np.zeros(4)
        for asked, real in ((1.0, 0.5), (0.4, 0.8), (-1.0, -0.5)):
            scene = Scene(chassis_box(rig))
            add_motion(scene, rig, UP, RobotMotion(nothing, nothing, nothing + asked, nothing + real))
            picture = print_scene(scene, 90, 46)
            told, does = (shares(picture, n).sum() for n in ("commanded", "measured"))
            # the longer arrow covers more; heads are alike, so the ratio is nearer to 1 than that of the lengths
            self.assertGreater((told - does) * (abs(asked) - abs(real)), 0)
            way = middle(picture, "commanded")[1] - 23.0
            self.assertLess(way * asked, 0)  # ahead is up, where rows are less

    def test_told_lies_outside_and_done_inside(self) -> None:
        rig = read_rig(COOT)
        one = np.array([1.0, math.nan, math.nan, math.nan])
        for sign in (1.0, -1.0):
            scene = Scene(chassis_box(rig))
            add_motion(scene, rig, UP, RobotMotion(np.zeros(4), np.zeros(4), sign * one, sign * one))
            picture = print_scene(scene, 90, 46)
            self.assertGreater(rig.chassis.wheels[0].y_m, 0)  # at the left
            self.assertLess(middle(picture, "commanded")[0] + 0.5, middle(picture, "measured")[0])

    def test_the_turn_is_an_arc_to_its_side(self) -> None:
        rig = read_rig(COOT)
        nothing = np.zeros(4)
        for turn in (0.3, -0.3):
            scene = Scene(chassis_box(rig))
            add_motion(scene, rig, UP, RobotMotion(nothing, nothing, None, None, (), np.array([0.0, 0.0, turn])))
            x, y = middle(print_scene(scene, 90, 46), "commanded")
            self.assertGreater((45.0 - x) * turn, 0)  # left is at the left
            self.assertLess(y, 23.0)

    def test_a_limited_wheel_a_slide_and_a_bump_are_coral(self) -> None:
        rig = read_rig(COOT)
        ones = np.ones(4)
        scene = Scene(chassis_box(rig))
        add_motion(scene, rig, UP, RobotMotion(0 * ones, 0 * ones, ones, None, (True, False, False, False)))
        self.assertGreater(shares(print_scene(scene, 90, 46), "alarm").sum(), 3)
        for hull, sliding in (("limit", ()), ("hull", (True, False, False, False))):
            scene = Scene(chassis_box(rig))
            add_robot(scene, rig, UP, hull=hull, sliding=sliding, detail=True)
            self.assertGreater(shares(print_scene(scene, 90, 46), "limit").sum(), 3)

    def test_an_attachment_that_has_a_place_turns_on_the_robot(self) -> None:
        rig = read_rig(COOT)

        def sampled(angle: float) -> tuple[float, float]:
            boom = Standing("boom", "position", "", "", "", "", 0.5, 0.5, "", "", angle, True)
            scene = Scene(chassis_box(rig))
            add_robot(scene, rig, UP, attachments=(boom,), detail=True)
            return middle(print_scene(scene, 70, 36), "commanded")

        right, ahead = sampled(0.0), sampled(math.pi / 2)  # points -90 deg at 0
        self.assertGreater(right[0], ahead[0])
        self.assertGreater(right[1], ahead[1])

    @settings(max_examples=25, deadline=None)
    @given(
        st.integers(0, 130),
        st.integers(0, 50),
        st.floats(allow_nan=True, allow_infinity=True),
        st.sampled_from(["plover", "bittern", "avocet", "coot"]),
    )
    def test_any_size_and_any_number(self, width: int, height: int, value: float, name: str) -> None:
        rig = read_rig(demo_path(name))
        many = np.full(len(rig.chassis.wheels), value)
        scene = Scene(chassis_box(rig))
        add_robot(scene, rig, UP, np.nan_to_num(many, posinf=0, neginf=0), detail=True)
        add_robot(scene, rig, (value, 0.0, 0.0))
        add_motion(
            scene,
            rig,
            UP,
            RobotMotion(0 * np.ones(len(many)), 0 * np.ones(len(many)), many, -many, (), np.full(3, value), None),
        )
        print_scene(scene, width, height)


class FloorTest(unittest.TestCase):
    def test_the_field_with_its_names(self) -> None:
        field = open_folder(DEMO).settings.field
        scene = field_scene(field, whole(field))
        picture = print_scene(scene, 102, 46)
        text = "\n".join(picture.rows())
        for name in ("bench A", "bench D", "water butt", "moisture post", "0 m", "4"):
            self.assertIn(name, text)
        placing = placing_of(scene, 102, 46)
        for bench in field.blocks:
            column, row = placing.cell(bench.x_m - bench.length_m / 2 + 0.06, bench.y_m)
            self.assertEqual(int(picture.grounds[row, column]), role("bench"), bench.name)
            column, row = placing.cell(bench.x_m - bench.length_m / 2 - 0.12, bench.y_m)
            self.assertEqual(int(picture.grounds[row, column]), role("floor"), bench.name)

    def test_a_trail_is_fainter_where_it_is_older(self) -> None:
        scene = Scene(Box(0.0, 0.0, 30.0, 3.0), equal=False)
        add_trail(scene, np.stack((np.linspace(0, 30, 90), np.full(90, 1.5)), axis=1))
        row = print_scene(scene, 30, 3).roles[1]
        self.assertEqual([int(row[k]) for k in (2, 15, 28)], [role(n) for n in ("old trail", "trail", "measured")])

    def test_a_belief_is_drawn_where_it_differs_and_how_unsure_it_is(self) -> None:
        rig = read_rig(PLOVER)

        def sampled(off_m: float, sigma_m: float) -> Picture:
            scene = Scene(Box(0.0, 0.0, 4.0, 2.0))
            add_estimate(
                scene, rig, EstimatedPose((1.0 + off_m, 1.0, 0.0), np.eye(2) * sigma_m**2), (1.0, 1.0, 0.0), 0.03
            )
            return print_scene(scene, 80, 20)

        self.assertFalse((sampled(0.01, 0.02).roles != 0).any())
        self.assertTrue((sampled(0.5, 0.02).roles == role("measured")).any())
        wide = np.argwhere(shares(sampled(0.0, 0.4), "target") > 0.1)
        self.assertAlmostEqual(
            (np.ptp(wide[:, 1]) + 1) / 20, 1.6, delta=0.1
        )  # two sigma to both sides, 20 cells to the metre
        nobody_knows = Scene(Box(0.0, 0.0, 4.0, 2.0))
        add_estimate(nobody_knows, rig, EstimatedPose((1.0, 1.0, 0.0), np.eye(2) * 1e-6), (math.nan,) * 3, 0.03)
        self.assertTrue(nobody_knows.marks)

    def test_an_ellipse_holds_what_two_sigma_hold(self) -> None:
        covariance = np.array([[0.04, 0.01], [0.01, 0.02]])
        points = ellipse(covariance)
        distance = np.einsum("ni,ij,nj->n", points, np.linalg.inv(covariance), points)
        np.testing.assert_allclose(distance, 4.0)

    def test_the_ends_of_many_drives(self) -> None:
        zone = Zone.model_validate({"name": "bench A", "x": "1.7 m", "y": "1.7 m", "radius": "12 cm"})
        chance = np.random.default_rng(2).normal(size=(300, 3))
        poses = np.array([1.7, 1.7, 0.0]) + chance * np.array([0.04, 0.01, 0.02])
        scene = cloud_scene(poses, zone)
        picture, placing = print_scene(scene, 40, 14), placing_of(scene, 40, 14)
        rows, columns = np.argwhere(shares(picture, "target") > 0.05).T
        # a cell is twice as high as wide: 16 cm of four sigma against 4 cm
        self.assertGreater(np.ptp(columns) / 2, 1.5 * np.ptp(rows))
        self.assertIn("bench A", picture.row(0))
        self.assertIn("5 cm", picture.row(13))
        bar = int((picture.roles[12] == role("dim")).sum())
        self.assertAlmostEqual(bar, 0.05 * placing.across / 8, delta=1.5)
        print_scene(cloud_scene(np.zeros((1, 3)), None), 40, 12)


class ChartTest(unittest.TestCase):
    t = np.linspace(0, 8, 480)

    def sampled(self, asked: np.ndarray, real: np.ndarray, width: int = 61, height: int = 13) -> Picture:
        series = [Series("measured", real, "measured"), Series("commanded", asked, "commanded")]
        scene = chart("left", self.t, series, (-1.0, 1.0), ("m/s", "s"), (width, height), ("commanded", "measured"))
        return print_scene(scene, width, height)

    def test_the_gap_lies_between_what_was_told_and_what_came(self) -> None:
        picture = self.sampled(np.where(self.t > 4, 0.8, 0.0), np.where(self.t > 5, 0.8, 0.0))
        gap = np.argwhere(shares(picture, "gap") > 0.9)[:, 1]
        left, wide = 8, 52
        self.assertAlmostEqual(gap.min(), left + wide * 4 / 8, delta=2)
        self.assertAlmostEqual(gap.max(), left + wide * 5 / 8, delta=2)
        same = self.sampled(np.where(self.t > 4, 0.8, 0.0), np.where(self.t > 4, 0.8, 0.0))
        self.assertFalse((shares(same, "gap") > 0.3).any())

    def test_a_line_stands_at_its_value_and_its_legend_above(self) -> None:
        for value in (-0.6, 0.0, 0.4, 0.8):
            picture = self.sampled(np.full(480, value), np.full(480, np.nan))
            self.assertAlmostEqual(
                middle(picture, "commanded")[1] - 1 if value else 0, (1 - value) / 2 * 11 if value else 0, delta=0.6
            )
            self.assertIn("left  ━ commanded  ━ measured", picture.row(0))
            self.assertTrue(picture.row(0).rstrip().endswith("m/s"))

    def test_unknown_values_leave_a_gap(self) -> None:
        values = np.where(self.t < 4, np.nan, 0.5)
        picture = self.sampled(values, np.full(480, np.nan))
        self.assertGreater(np.argwhere(picture.roles[1:12] == role("commanded"))[:, 1].min(), 8 + 24)

    @given(st.floats(-200, 200), st.floats(0.01, 300), st.integers(4, 40))
    def test_there_are_two_round_numbers_at_least_and_each_stands_at_its_value(
        self, low: float, span: float, height: int
    ) -> None:
        t = np.linspace(0, 1, 40)
        scene = chart(
            "x", t, [Series("one", low + span * t, "rest")], (low, low + span), ("m/s", "s"), (60, height + 2)
        )
        written = [row[:8].strip().replace("−", "-") for row in print_scene(scene, 60, height + 2).rows()[1:-1]]
        values = [float(text) for text in written if text]
        self.assertGreaterEqual(len(values), 2)
        self.assertEqual(values, sorted(values, reverse=True))
        for row, text in enumerate(written):
            if text:
                self.assertAlmostEqual(row + 0.5, (low + span - float(text)) / span * height, delta=1.01)

    @given(st.floats(-1e3, 1e3), st.floats(1e-3, 1e4), st.integers(2, 12))
    def test_ticks_are_round_and_inside(self, low: float, span: float, most: int) -> None:
        marks = ticks(low, low + span, most)
        steps = np.diff(marks)
        np.testing.assert_allclose(steps, steps[0], rtol=1e-6)
        mantissa = float(steps[0]) / 10 ** math.floor(math.log10(float(steps[0])) + 1e-9)
        self.assertTrue(any(math.isclose(mantissa, m, rel_tol=1e-6) for m in (1, 2, 5, 10)), mantissa)
        self.assertGreaterEqual(min(marks), low - 1e-6 * span)
        self.assertLessEqual(max(marks), low + span * (1 + 1e-6))

    def test_the_newest_is_at_the_right(self) -> None:
        scene = chart(
            "x",
            self.t - 8,
            [Series("", np.where(self.t > 6, 0.9, -0.9), "commanded")],
            (-1, 1),
            ("", "s"),
            (61, 9),
            reach=(-8, 0),
        )
        picture = print_scene(scene, 61, 9)
        high = np.argwhere(picture.roles[1:3] == role("commanded"))[:, 1]
        self.assertAlmostEqual(high.min(), 8 + 52 * 6 / 8, delta=1.5)
        self.assertEqual(high.max(), 59)
        self.assertIn("0 s", picture.row(8))

    def test_spans_hold_everything_and_zero(self) -> None:
        low, high = span_of([Series("", np.array([3.0, np.nan, 8.0]), "")], 1.0)
        self.assertLess(low, 1e-9)
        self.assertGreater(high, 8.0)


class StickTest(unittest.TestCase):
    def data(self, **changes: object) -> CurveData:
        x = np.linspace(-1, 1, 101)
        values = {
            "title": "forward",
            "x": x,
            "y": x,
            "ghost": None,
            "dead_band": 0.1,
            "live": (0.5, 0.5, 0.5),
            "full": "1.00 m/s",
        }
        return CurveData(**{**values, **changes})  # type: ignore[arg-type]

    def sampled(self, width: int = 60, height: int = 24, **changes: object) -> Picture:
        data = self.data(**changes)
        return print_scene(curve_scene(data, curve_ground(data)), width, height)

    def test_the_live_point_rides_on_the_curve(self) -> None:
        rows = self.sampled(live=(1.0, 1.0, 0.0)).rows()
        self.assertIn("○", rows[1])
        where = rows[1].index("○")
        below = next(r for r in rows[1:] if "●" in r)
        self.assertEqual(below.index("●"), where)
        self.assertIn("1.00 m/s", rows[0])
        self.assertIn("dead band ±10 %", rows[22])

    def test_a_turn_is_drawn_as_the_stick_moves(self) -> None:
        rows = self.sampled(mirrored=True, live=(0.9, 0.0, 0.0)).rows()[1:]
        self.assertLess(next(r.index("●") for r in rows if "●" in r), 15)  # left is +, and is drawn at the left

    def test_the_ghost_is_there_after_a_change_only(self) -> None:
        x = np.linspace(-1, 1, 101)
        for ghost, wanted in ((None, False), (x, False), (x**3, True)):
            picture = self.sampled(ghost=ghost)
            self.assertEqual(bool((picture.roles == role("ghost")).any()), wanted)
            self.assertEqual(bool((shares(picture, "gap") > 0.5).any()), wanted)

    def test_the_dead_band_is_an_area_as_wide_as_it_is(self) -> None:
        for dead_band in (0.1, 0.3):
            row = shares(self.sampled(90, 30, dead_band=dead_band, live=None), "band")[5]
            self.assertAlmostEqual(row.sum() / 80, dead_band, delta=0.02)
        for measure, square in (
            ("stick", math.pi * 0.3 * 0.2),
            ("sum", 2 * 0.3 * 0.2),
            ("axis", 4 * 0.3 + 4 * 0.2 - 4 * 0.3 * 0.2),
        ):
            scene = gate_scene(GateData(np.zeros((0, 2)), np.zeros((0, 2)), 0.3, 0.2, measure))
            assert scene.below is not None
            scene.marks = [m for m in scene.below.marks if getattr(m, "role", "") == "band"]
            scene.below = None
            # 2.08 across in 64 columns
            self.assertAlmostEqual(
                shares(print_scene(scene, 64, 32), "band").sum() / square, (64 / 2.08) ** 2 / 2, delta=12
            )

    def test_the_stick_and_where_shaping_puts_it(self) -> None:
        raw = np.array([[0.0, 0.0], [1.0, 1.0]])
        rows = print_scene(gate_scene(GateData(raw, raw * 0.5, 0.1, 0.1, "stick")), 60, 30).rows()
        top = next(i for i, r in enumerate(rows) if "○" in r)
        self.assertLess(top, 2)
        self.assertGreater(rows[top].index("○"), next(r.index("●") for r in rows if "●" in r))

    def test_one_sided_and_unknown(self) -> None:
        x = np.linspace(0, 1, 51)
        for size in ((60, 24), (16, 7), (3, 2), (0, 0)):
            self.sampled(*size, x=x, y=x, one_sided=True, live=(math.nan,) * 3)


class DialTest(unittest.TestCase):
    def test_what_can_be_reached_is_an_area(self) -> None:
        corners = np.array([(1.0, 0.0), (0.0, 1.0), (-1.0, 0.0), (0.0, -1.0)])
        nothing = np.zeros((0, 2))
        data = EnvelopeData(
            corners, nothing, None, np.array([0.5, 0.5]), None, np.ones(2), ("m/s", "m/s"), ("a", "b", "c"), "said"
        )
        picture = print_scene(envelope_scene(data), 50, 25)
        # a square on its corner fills half of the box of 44 x 22 cells, but for its edge and its axes
        reached = shares(picture, "floor").sum() + shares(picture, "rest").sum() + shares(picture, "frame").sum() / 2
        self.assertAlmostEqual(reached / (44 * 22), 0.5, delta=0.06)
        y, x = np.argwhere(picture.chars == "●")[0]
        self.assertLess((x, y), (25, 12))  # ahead and left
        self.assertIn("said", picture.row(24))

    def test_left_is_left_on_the_compass(self) -> None:
        nan = math.nan
        x, y = middle(print_scene(compass_scene(math.pi / 2, nan, nan), 24, 12), "measured")
        self.assertLess(x, 11)
        self.assertAlmostEqual(y, 6.0, delta=0.7)
        self.assertLess(middle(print_scene(compass_scene(nan, 0.0, nan), 24, 12), "target")[1], 5)
        self.assertGreater(middle(print_scene(compass_scene(nan, nan, math.pi), 24, 12), "rest")[1], 9)

    def test_the_motion_that_is_told_and_done(self) -> None:
        nothing = np.full(3, math.nan)
        for motion, (right, down) in (
            ((1, 0, 0), (0, -1)),
            ((-1, 0, 0), (0, 1)),
            ((0, 1, 0), (-1, 0)),
            ((0, -1, 0), (1, 0)),
        ):
            picture = print_scene(motion_scene(np.array(motion, float), nothing), 32, 16)
            x, y = middle(picture, "commanded")
            self.assertGreater((x - 16) * right / 2 + (y - 8) * down, 1.5 if right or down else 0, motion)
        left = middle(print_scene(motion_scene(nothing, np.array([0.0, 0.0, 0.5])), 32, 16), "measured")
        self.assertLess(left[0], 14)
        both = print_scene(motion_scene(np.array([1.0, 0, 0]), np.array([1.0, 0, 0])), 32, 16)
        self.assertLess(middle(both, "commanded")[0] + 0.7, middle(both, "measured")[0])

    def test_reach(self) -> None:
        chassis = read_rig(PLOVER).chassis
        ahead, aside = reach_of(chassis)
        self.assertGreaterEqual(ahead, chassis.length_m / 2)
        self.assertGreaterEqual(aside, chassis.width_m / 2)


if __name__ == "__main__":
    unittest.main()
