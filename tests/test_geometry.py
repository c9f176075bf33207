"""Kinematics of every chassis, against a rigid body moved by hand and against textbooks."""

import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from pivrex.errors import RigError
from pivrex.line import kinematics
from pivrex.line.equations import equation, point_equation
from pivrex.line.limits import give_way
from pivrex.line.line import Line
from pivrex.line.questions.envelope import Envelope
from pivrex.line.questions.figures import side, travel_for, wheel_figures
from pivrex.line.questions.preview import doing, preview
from pivrex.rig import read_rig
from pivrex.rig.geometry import Contact, Geometry, geometry_of, impossible_motion
from tests.chassis import (
    ALL,
    DEG45,
    FOUR_OMNI,
    MECANUM,
    PLANAR,
    STEERED,
    THREE_OMNI,
    Wheel,
    any_wheels,
    demo_path,
    hub_by_moving,
    rig_of,
    rolled,
    twists,
)


def geometry(wheels: list[Wheel]) -> Geometry:
    return geometry_of(tuple(Contact(*w) for w in wheels))


class RigidBodyTest(unittest.TestCase):
    @given(any_wheels(), twists)
    def test_rows_are_those_of_a_rigid_body_moved_a_little(
        self, wheels: list[Wheel], twist: tuple[float, float, float]
    ) -> None:
        found = geometry(wheels)
        needed = found.rows @ np.array(twist)
        for i, wheel in enumerate(wheels):
            hub = hub_by_moving(wheel[0], wheel[1], twist)
            wanted = hub if wheel[4] else (rolled(wheel, hub),)
            np.testing.assert_allclose(needed[found.of_wheel == i], wanted, atol=1e-4)

    @given(any_wheels(), twists)
    def test_forward_after_inverse_gives_back_what_the_chassis_can_follow(
        self, wheels: list[Wheel], twist: tuple[float, float, float]
    ) -> None:
        found = geometry(wheels)
        if found.weakest < 1e-3:
            return
        once = found.followed(np.array(twist))
        np.testing.assert_allclose(found.followed(once), once, atol=1e-6 * (1 + np.abs(once).max()))
        # with three independent rows, which almost any three wheels have, that is every twist
        # but for what would drag plain wheels that all roll one way
        if np.linalg.matrix_rank(found.rows, tol=1e-6) == 3:
            np.testing.assert_allclose(once, found.clean @ np.array(twist), atol=1e-6)
            if sum(w[3] is None and not w[4] for w in wheels) == 0:
                np.testing.assert_allclose(once, twist, atol=1e-6)

    @given(any_wheels(), twists)
    def test_lying_on_its_back(self, wheels: list[Wheel], twist: tuple[float, float, float]) -> None:
        """Turn the body half round its forward axis, and look at the same wheels from the new top."""
        found = geometry(wheels)
        needed = found.rows_upside_down @ np.array(twist)
        for i, (x, y, drive, slant, steered) in enumerate(wheels):
            # on the ground each wheel stands at -y, points along -drive, and turns the other way round; the roller
            # that touches the ground is the one opposite, whose slant as seen from above is the same as below
            hub = hub_by_moving(x, -y, twist)
            turned = (x, -y, -drive, slant, steered)
            wanted = (-hub[0], hub[1]) if steered else (-rolled(turned, hub),)
            np.testing.assert_allclose(needed[found.of_wheel == i], wanted, atol=1e-4)

    def test_ten_thousand_at_once_are_the_same_bits_as_one_by_one(self) -> None:
        twists_ = np.random.default_rng(1).uniform(-1, 1, (10_000, 3))
        for name in ("bittern", "avocet"):
            maps = kinematics.kinematics_of(read_rig(demo_path(name)).chassis)
            inverse = kinematics.wheel_speeds if maps.hubs is None else kinematics.hub_velocities
            whole = inverse(maps, twists_)
            for i in range(0, 10_000, 997):
                np.testing.assert_array_equal(whole[i], inverse(maps, twists_[i]))
            flat = whole.reshape(10_000, -1)
            np.testing.assert_allclose(kinematics.twist_of(maps, flat), twists_, atol=1e-12)


class TextbookTest(unittest.TestCase):
    def test_four_mecanum_wheels(self) -> None:
        # Lynch & Park, Modern Robotics, eq. 13.10: u = (1/r)·[-l-w 1 -1; l+w 1 1; l+w 1 -1; -l-w 1 1]·(ω, vx, vy)
        # for wheels 1 front left, 2 front right, 3 rear right, 4 rear left
        maps = kinematics.kinematics_of(rig_of(MECANUM, PLANAR).chassis)
        k = 0.2 + 0.15
        np.testing.assert_allclose(maps.inverse, [[1, -1, -k], [1, 1, k], [1, 1, -k], [1, -1, k]], atol=1e-12)

    def test_three_omni_wheels(self) -> None:
        # the same chapter, eq. 13.6 with wheels at 0, 120 and 240 degrees: (1/r)·[-d 1 0; -d -1/2 -sin 60; -d -1/2 sin 60]
        # there the drive directions are clockwise; ours are counter-clockwise, which turns all signs
        maps = kinematics.kinematics_of(rig_of(THREE_OMNI, PLANAR).chassis)
        s = math.sqrt(3) / 2
        np.testing.assert_allclose(maps.inverse, [[0, 1, 0.1], [-s, -0.5, 0.1], [s, -0.5, 0.1]], atol=1e-12)

    def test_four_omni_wheels_at_45_degrees(self) -> None:
        # each drives along the rim; moving ahead at 1 takes 1/√2 of each
        maps = kinematics.kinematics_of(rig_of(FOUR_OMNI, PLANAR).chassis)
        np.testing.assert_allclose(np.abs(maps.inverse[:, :2]), 1 / math.sqrt(2), atol=1e-12)
        np.testing.assert_allclose(maps.inverse[:, 2], 0.2 * math.sqrt(2), atol=1e-12)

    def test_two_plain_wheels_with_an_omni_across(self) -> None:
        wheels: list[Wheel] = [
            (0.0, 0.2, 0.0, None, False),
            (0.0, -0.2, 0.0, None, False),
            (-0.3, 0.0, math.pi / 2, 0.0, False),
        ]
        maps = kinematics.kinematics_of(rig_of(wheels).chassis)
        # turning left at 1 rad/s sweeps the wheel behind to the right at 0.3 m/s
        np.testing.assert_allclose(maps.inverse @ [0, 0, 1], [-0.2, 0.2, -0.3], atol=1e-12)
        motion = kinematics.motion_of(maps, np.array([0.0, 0.0, 0.5]))
        # the omni wheel drives it aside at 0.5 m/s, and both plain wheels slide just as fast
        np.testing.assert_allclose(motion.twist, [0, 0.5, 0], atol=1e-12)
        np.testing.assert_allclose(motion.scrub, [0.5, 0.5], atol=1e-12)

    def test_six_wheels_turning_on_the_spot(self) -> None:
        # three a side at x = 0.2, 0, -0.2 and y = ±0.15: at 2 rad/s the sides run at ∓0.3 m/s; an end wheel slides
        # sideways at 0.2·2 = 0.4 m/s, the middle one not at all
        wheels: list[Wheel] = [(x, y, 0.0, None, False) for x in (0.2, 0.0, -0.2) for y in (0.15, -0.15)]
        maps = kinematics.kinematics_of(rig_of(wheels).chassis)
        motion = kinematics.motion_of(maps, np.array([-0.3, 0.3] * 3))
        np.testing.assert_allclose(motion.twist, [0, 0, 2], atol=1e-12)
        np.testing.assert_allclose(motion.scrub, [0.4, 0.4, 0, 0, -0.4, -0.4], atol=1e-12)
        np.testing.assert_allclose(motion.residual, 0, atol=1e-12)
        # one wheel that turns the other way than its two fellows disagrees with the body by most of its speed
        wrong = kinematics.motion_of(maps, np.array([-0.3, 0.3, -0.3, 0.3, -0.3, -0.3]))
        self.assertGreater(np.abs(wrong.residual).max(), 0.3)

    def test_a_driven_axle_off_the_centre(self) -> None:
        # 0.1 m behind the centre: turning left at 1 rad/s about the axle's middle swings the centre left at 0.1 m/s
        wheels: list[Wheel] = [(-0.1, 0.25, 0.0, None, False), (-0.1, -0.25, 0.0, None, False)]
        rig = rig_of(wheels)
        line = Line(rig)
        shown = preview(line, np.array([0.0, 0.0, 1.0]))
        np.testing.assert_allclose(shown.requested, [-0.25, 0.25], atol=1e-12)
        np.testing.assert_allclose(shown.achieved, [0, 0.1, 1.0], atol=1e-12)
        self.assertAlmostEqual(shown.scrub, 0.0)
        with self.assertRaisesRegex(RigError, "cannot do that"):
            rig_of(wheels, PLANAR)


class RefusedTest(unittest.TestCase):
    def refused(self, wheels: list[Wheel], said: str, extra: str = "") -> None:
        with self.assertRaises(RigError) as caught:
            rig_of(wheels, extra)
        found = "\n".join(caught.exception.lines())
        self.assertIn(said, found)

    def test_wheels_that_are_no_chassis(self) -> None:
        parallel: list[Wheel] = [(x, y, d, -DEG45, s) for x, y, d, _, s in MECANUM]
        self.refused(parallel, "the rollers let it roll that way freely", PLANAR)
        self.refused(parallel, "cannot do")
        # rollers mirrored on a square: their axes meet in the centre, and nothing turns it
        square: list[Wheel] = [(x / 5, y / 5, 0.0, DEG45 * x * y, False) for x in (1, -1) for y in (1, -1)]
        self.refused(square, "cannot do turning, nor keep from it", PLANAR)
        self.refused([(0.1, 0.1, 0.0, None, False)], "has one wheel that cannot do")
        self.refused([], "has no wheel")
        self.refused([(0.1, 0.1, 0.0, None, True)], "has one wheel that cannot do")
        self.refused([*MECANUM[:3], MECANUM[0]], "stands in the same place")
        almost: list[Wheel] = [(0.0, 0.0004, 0.0, None, False), (0.5, -0.0004, 0.0, None, False)]
        self.refused(almost, "is nearly impossible: it needs wheels")
        self.refused([(0.2, 0.1, 0.0, 0.0, True), *STEERED[1:]], "a wheel is steered or has rollers")
        self.refused([(0.2, 0.1, 0.0, 1.5, False), *MECANUM[1:]], "rollers")
        self.refused([(2e9, 0.1, 0.0, None, False), *STEERED[1:]], "at most")

    def test_laws_that_a_chassis_cannot_follow(self) -> None:
        two: list[Wheel] = [(0.0, 0.2, 0.0, None, False), (0.0, -0.2, 0.0, None, False)]
        self.refused(
            two, "moving sideways, but this chassis cannot do that: its wheels only roll straight ahead", PLANAR
        )
        self.refused(MECANUM, "add a table [gyro]", PLANAR.replace("[gyro]\n", "") + '[plane]\nframe = "field"\n')
        self.refused(two, 'only "planar" reads it', '[plane]\nstraight = "off"\n')
        self.refused(STEERED, "is for a wheel which the chassis has not",
                     '[steering.wheels.wx]\ntop_speed = "1 rpm"\ncounts_per_turn = 1\noutput = { kind = "fraction" }\n')  # fmt: skip

    def test_a_button_does_one_thing(self) -> None:
        self.refused(
            MECANUM,
            'is "button_9", which is plane.switch already; choose another',
            PLANAR + '[plane]\nswitch = "button_9"\nforward = "button_9"\n',
        )
        self.refused(MECANUM, "no points to go on to", PLANAR + '[plane]\nnext_point = "button_9"\n')
        self.refused(MECANUM, "which is no button", PLANAR + '[plane]\nswitch = "left_x"\n')

    def test_motions_have_names(self) -> None:
        for twist, name in (
            ((1, 0, 0), "moving forward"),
            ((0, -2, 0), "moving sideways"),
            ((1, 1, 0), "moving at +45 deg from straight ahead"),
            ((0, 0, 3), "turning"),
            ((0.0, -0.2, 1.0), "turning about the point x +200 mm, y +0 mm"),
        ):
            self.assertEqual(impossible_motion(np.array(twist, float)), name)


class EnvelopeTest(unittest.TestCase):
    @settings(max_examples=60)
    @given(st.sampled_from([MECANUM, THREE_OMNI, FOUR_OMNI, STEERED]), st.floats(-1, 1), st.floats(0.3, 2))
    def test_on_the_edge_one_wheel_is_at_its_limit_and_none_beyond(
        self, wheels: list[Wheel], share: float, top: float
    ) -> None:
        envelope = Envelope(rig_of(wheels, PLANAR, top=f"{top * 10!r} rad/s"))
        turn = share * envelope.fastest_turn_rad_s
        points = envelope.outline(turn)
        self.assertGreater(len(points), 50)
        for forward, left in points:
            fullest = 0.0
            for wheel in wheels:
                hub = hub_by_moving(wheel[0], wheel[1], (forward, left, turn))
                fullest = max(fullest, math.hypot(*hub) if wheel[4] else abs(rolled(wheel, hub)))
            self.assertAlmostEqual(fullest / top, 1.0, places=4)

    def test_by_hand(self) -> None:
        # mecanum at 1 m/s: ahead and sideways 1, at 45 degrees two wheels do all of it: 1/√2; on the spot 1/(l + w)
        envelope = Envelope(rig_of(MECANUM, PLANAR))
        found = envelope.speed(np.radians([0.0, 90.0, 45.0, -135.0]))
        np.testing.assert_allclose(found, [1, 1, 1 / math.sqrt(2), 1 / math.sqrt(2)], atol=1e-9)
        self.assertAlmostEqual(envelope.fastest_turn_rad_s, 1 / 0.35)
        # half of the turn leaves half of the way ahead; all of it nothing, more than all of it no motion at all
        np.testing.assert_allclose(envelope.speed(np.array([0.0]), 0.5 / 0.35), [0.5], atol=1e-9)
        self.assertTrue(np.isnan(envelope.speed(np.array([0.0]), 1.01 / 0.35)).all())

    def test_two_sides_trade_speed_for_turning(self) -> None:
        wheels: list[Wheel] = [(0.0, 0.25, 0.0, None, False), (0.0, -0.25, 0.0, None, False)]
        envelope = Envelope(rig_of(wheels))
        self.assertFalse(envelope.planar)
        corners = {(round(v, 9) + 0.0, round(w, 9) + 0.0) for v, w in envelope.speed_and_turn()}
        self.assertEqual(corners, {(1, 0), (-1, 0), (0, 4), (0, -4)})
        np.testing.assert_allclose(envelope.speed(np.radians([0.0, 90.0, 180.0])), [1, 0, 1], atol=1e-9)
        for v, w in envelope.speed_and_turn():  # the faster side runs at its limit of 1 m/s
            self.assertAlmostEqual(abs(v) + abs(w) * 0.25, 1.0)


class LimitsTest(unittest.TestCase):
    parts = st.lists(st.tuples(*[st.floats(-3, 3)] * 4), min_size=1, max_size=6)

    @given(parts)
    def test_what_gives_way_gives_way_as_little_as_it_must(self, rows: list[tuple[float, ...]]) -> None:
        kept, yielding = np.array(rows)[:, :2], np.array(rows)[:, 2:]
        top = np.full(len(rows), 1.0)
        k, share = give_way(kept.ravel().tolist(), yielding.ravel().tolist(), top.tolist(), len(rows), 2)
        self.assertTrue(0 <= k <= 1 and 0 <= share <= 1)
        sizes = np.linalg.norm(k * kept + share * yielding, axis=1)
        self.assertLess(sizes.max(), 1 + 1e-6)
        if np.linalg.norm(kept, axis=1).max() > 1e-6 and k < 1:
            self.assertAlmostEqual(np.linalg.norm(k * kept, axis=1).max(), 1.0, places=6)
        if share < 1 and np.linalg.norm(yielding, axis=1).max() > 1e-3:
            more = np.linalg.norm(k * kept + (share + 1e-3) * yielding, axis=1)
            self.assertGreater(more.max(), 1 - 1e-6)

    def test_a_strafe_keeps_its_speed_and_the_turn_waits(self) -> None:
        # sideways 0.8 m/s takes 0.8 of each wheel; the turn of 2 rad/s would take 0.7 more on some: 0.2/0.7 is left of it
        for first, wanted in (
            ("turning", (0.0, 0.8, 2 * 0.2 / 0.7)),
            ("moving", (0.0, 0.3, 2.0)),
            ("both", (0, 0.8 / 1.5, 2 / 1.5)),
        ):
            line = Line(rig_of(MECANUM, PLANAR + f'[limits]\nfirst = "{first}"\n'))
            shown = preview(line, np.array([0.0, 0.8, 2.0]))
            np.testing.assert_allclose(shown.achieved, wanted, atol=1e-9, err_msg=first)
        steered = Line(rig_of(STEERED, PLANAR + '[limits]\nfirst = "turning"\n'))
        shown = preview(steered, np.array([0.9, 0.0, 3.0]))
        self.assertAlmostEqual(shown.achieved[0], 0.9)
        self.assertAlmostEqual(np.abs(shown.limited).max(), 1.0)
        self.assertLess(shown.achieved[2], 3.0)


class FiguresTest(unittest.TestCase):
    def test_by_hand(self) -> None:
        # wheels of 100 mm radius on a track of 0.5 m: a turn rolls 0.2·π m, which turns the robot by 0.2π/0.25 rad
        wheels: list[Wheel] = [(0.0, 0.25, 0.0, None, False), (0.0, -0.25, 0.0, None, False)]
        rig = rig_of(wheels)
        left = wheel_figures(rig)[0]
        self.assertAlmostEqual(left.metres_per_turn, 0.2 * math.pi)
        self.assertAlmostEqual(left.counts_per_metre, 10 / (0.2 * math.pi))
        self.assertAlmostEqual(left.degrees_per_turn, 144.0)
        np.testing.assert_allclose(travel_for(rig, math.pi), [-0.25 * math.pi, 0.25 * math.pi])
        # about the left wheel only the right one rolls, twice as far
        self.assertEqual(side(rig, left=True), (0.0, 0.25))
        np.testing.assert_allclose(travel_for(rig, math.pi, side(rig, left=True)), [0, 0.5 * math.pi], atol=1e-12)
        steered = travel_for(rig_of(STEERED, PLANAR), 1.0)
        np.testing.assert_allclose(np.abs(steered), 0.2 * math.sqrt(2))

    def test_equations(self) -> None:
        mecanum = rig_of(MECANUM, PLANAR).chassis
        self.assertEqual(equation(mecanum, 0), "forward − left − 0.35·turn")
        self.assertEqual(equation(mecanum, 1), "forward + left + 0.35·turn")
        self.assertEqual(equation(rig_of(STEERED, PLANAR).chassis, 0), "(forward − 0.2·turn, left + 0.2·turn)")
        omni = rig_of(THREE_OMNI, PLANAR).chassis
        self.assertEqual(equation(omni, 0), "left + 0.1·turn")
        self.assertEqual(point_equation(mecanum.geometry.rows[0], 0.3, 0.1, 1.0), "0.30 − 0.10 − 0.35")

    def test_what_wheels_are_doing_is_what_the_tick_says(self) -> None:
        for name in ALL:
            line = Line(read_rig(demo_path(name)))
            row = np.arange(len(line.layout), dtype=float) / 1000
            if line.layout.has("heading", "upside_down"):
                row[line.layout.at("heading", "upside_down")] = 0.0
            found = doing(line, row)
            stage, what = ("steering", "speed") if "steering" in line.stages else ("limits", "limited")
            self.assertEqual(found.limited[0], row[line.layout.at(stage, f"{line.wheels[0].replace(' ', '_')}_{what}")])
            self.assertEqual(found.commanded[2], row[line.layout.at("motion", "turn")])
            self.assertEqual(found.scrub, row[line.layout.at("motion", "scrub")])
            self.assertTrue(np.isfinite(found.achieved).all())


if __name__ == "__main__":
    unittest.main()
