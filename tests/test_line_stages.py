"""The stages as laws: symmetry, monotony, inverse, limits; and numbers worked by hand."""

import math
import unittest
from collections.abc import Callable
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from pivrex.errors import RigError
from pivrex.kernels import Call, Form, Record
from pivrex.line import axes, band, curve, kinematics, limits, outputs, rate
from pivrex.line.frame import to_robot
from pivrex.line.laws import LAWS, arcade, one_at_a_time, tank, triggers
from pivrex.line.line import Line
from pivrex.line.questions.response import respond
from pivrex.line.stage import Fractions
from pivrex.line.why import ladder
from pivrex.rig import Rig, read_text
from pivrex.rig.geometry import wheel_matrix
from pivrex.sim import IdealBody
from pivrex.sim.fitted import decode
from tests.support import PLAIN, nothing_sensed, plain_rig

Floats = NDArray[np.float64]

fractions = st.floats(-1, 1)
pairs = st.tuples(fractions, fractions)


def with_axis(text: str, law: str = "") -> Rig:
    return plain_rig(("[law]", f"{text}\n[law]"), *((('kind = "arcade"', law),) if law else ()))


def shaped(forward: str = "", turn: str = "", both: str = "") -> Rig:
    return plain_rig(
        ("[shaping.forward]\ndead_band = 0", f"[shaping]\n{both}\n[shaping.forward]\n{forward or 'dead_band = 0'}"),
        ("[shaping.turn]\ndead_band = 0", f"[shaping.turn]\n{turn or 'dead_band = 0'}"),
    )


def calibrated(rig: Rig, names: list[str]) -> axes.AxesSettings:
    return axes.calibration([[(rig.channel(name), rig.axis(name)) for name in names]])


def read_as(settings_: axes.AxesSettings, raw: float) -> float:
    return axes.fraction_of(settings_.plain, 0, 0, raw)


def stepped(step: Callable[..., None], settings_: Record, fractions_: Floats) -> Floats:
    """What a stage of shaping makes of fractions, B + (C,)."""
    form = Form(Fractions, functions=fractions_.shape[-1])
    out: Fractions = form.start(fractions_.shape[:-1])
    Call(step, ("out",))(fractions_.shape[:-1], settings_, Fractions(form, np.ascontiguousarray(fractions_)), out)
    return out.data


def banded(rig: Rig, fractions_: Floats) -> Floats:
    return stepped(band.band_step, band.settings_of(rig), fractions_)


def curved(rig: Rig, fractions_: Floats) -> Floats:
    return stepped(curve.curve_step, curve.settings_of(rig), fractions_)


class AxesTest(unittest.TestCase):
    def one(self, text: str, raw: float) -> float:
        settings_ = calibrated(with_axis(text), ["left_y"])
        return read_as(settings_, raw)

    def test_by_hand(self) -> None:
        # a 10-bit stick that rests between 500 and 530: the away half is 500 wide, the near half 493
        text = "[axes.left_y]\nminimum = 0\ncentre = [500, 530]\nmaximum = 1023"
        for raw, wanted in (
            (500, 0),
            (515, 0),
            (530, 0),
            (0, 1),
            (250, 0.5),
            (1023, -1),
            (776.5, -0.5),
            (-90, 1),
            (4000, -1),
        ):
            self.assertAlmostEqual(self.one(text, raw), wanted, places=12, msg=str(raw))

    def test_away_is_forward_as_on_a_gamepad(self) -> None:
        self.assertEqual(self.one("", -1.0), 1.0)
        self.assertEqual(self.one("[axes.left_y]\nreversed = true", -1.0), -1.0)

    def test_triggers_are_one_sided(self) -> None:
        for text, raw, wanted in (
            ("", 0.0, 0.0),
            ("", 0.25, 0.25),
            ("[axes.right_trigger]\nminimum = 0.1\nmaximum = 0.9", 0.5, 0.5),
            ("[axes.right_trigger]\nminimum = 0\nmaximum = 200\nreversed = true", 200, 0.0),
            ("[axes.right_trigger]\nminimum = 0\nmaximum = 200\nreversed = true", 50, 0.75),
        ):
            settings_ = calibrated(with_axis(text), ["right_trigger"])
            self.assertAlmostEqual(read_as(settings_, raw), wanted)

    @given(
        st.floats(-1000, 1000),
        st.floats(0.01, 500),
        st.floats(0, 50),
        st.floats(0.01, 500),
        st.lists(st.floats(-5000, 5000), min_size=2, max_size=20),
        st.booleans(),
    )
    def test_never_outside_and_never_the_wrong_way(
        self, low: float, below: float, centre: float, above: float, raws: list[float], reverse: bool
    ) -> None:
        c0, c1 = low + below, low + below + centre
        text = (
            f"[axes.left_y]\nminimum = {low!r}\ncentre = [{c0!r}, {c1!r}]\nmaximum = {c1 + above!r}\n"
            f"reversed = {str(reverse).lower()}"
        )
        settings_ = calibrated(with_axis(text), ["left_y"])
        raw = np.sort(np.array(raws))
        found = np.array([read_as(settings_, r) for r in raw.tolist()])
        self.assertTrue((np.abs(found) <= 1).all())
        steps = np.diff(found)
        self.assertTrue((steps >= 0).all() if reverse else (steps <= 0).all())
        self.assertTrue((found[(raw >= c0) & (raw <= c1)] == 0).all())

    def test_no_reading_is_rest(self) -> None:
        self.assertEqual(self.one("", math.nan), 0.0)


class DeadBandTest(unittest.TestCase):
    def test_by_hand(self) -> None:
        # dead band 0.2, from zero: (0.6 - 0.2)/(1 - 0.2) = 0.5; with a jump: 0.6 as it is
        for after, wanted in (("from zero", 0.5), ("with a jump", 0.6)):
            found = banded(
                shaped("dead_band = 0.2", "dead_band = 0.1", f'after_dead_band = "{after}"'), np.array([0.6, -0.1])
            )
            self.assertAlmostEqual(float(found[0]), wanted)
            self.assertEqual(float(found[1]), 0.0)

    def test_the_stick_measure_by_hand(self) -> None:
        # (0.3, 0.4) is 0.5 from the centre; a dead band of 0.2 leaves (0.5 - 0.2)/(1 - 0.2) = 0.375 of it, along the same ray
        settings_ = shaped("dead_band = 0.2", "dead_band = 0.2", 'measure = "stick"')
        np.testing.assert_allclose(banded(settings_, np.array([0.3, 0.4])), [0.225, 0.3])
        # each by itself inside the band, together outside
        self.assertTrue((banded(settings_, np.array([0.15, 0.15])) != 0).all())

    def test_the_sum_measure_by_hand(self) -> None:
        # |0.3| + |0.2| = 0.5, so a dead band of 0.2 leaves 0.375 in sum, shared 3 to 2
        settings_ = shaped("dead_band = 0.2", "dead_band = 0.2", 'measure = "sum"')
        np.testing.assert_allclose(banded(settings_, np.array([0.3, -0.2])), [0.225, -0.15])
        self.assertTrue((banded(settings_, np.array([0.1, 0.09])) == 0).all())

    def test_dead_bands_of_different_width_make_an_ellipse(self) -> None:
        settings_ = shaped("dead_band = 0.4", "dead_band = 0.1", 'measure = "stick"')
        self.assertTrue((banded(settings_, np.array([0.39, 0.0])) == 0).all())
        self.assertTrue((banded(settings_, np.array([0.0, 0.11])) != 0).any())

    @given(
        pairs,
        st.sampled_from(["axis", "stick", "sum"]),
        st.sampled_from(["from zero", "with a jump"]),
        st.floats(0, 0.9),
        st.floats(0, 0.9),
    )
    def test_laws(self, stick: tuple[float, float], measure: str, after: str, e1: float, e2: float) -> None:
        settings_ = shaped(
            f"dead_band = {e1!r}", f"dead_band = {e2!r}", f'measure = "{measure}"\nafter_dead_band = "{after}"'
        )
        f = np.array(stick)
        out = banded(settings_, f)
        np.testing.assert_array_equal(banded(settings_, -f), -out)  # symmetry
        self.assertTrue((np.abs(out) <= 1).all())
        self.assertTrue((out * f >= 0).all())  # never the other way
        self.assertTrue(np.isfinite(out).all())

    @given(st.floats(0, 0.9), st.sampled_from(["axis", "stick", "sum"]))
    def test_full_stick_stays_full_and_motion_begins_from_zero(self, band: float, measure: str) -> None:
        settings_ = shaped(f"dead_band = {band!r}", f"dead_band = {band!r}", f'measure = "{measure}"')
        self.assertAlmostEqual(float(banded(settings_, np.array([1.0, 0.0]))[0]), 1.0)
        just = banded(settings_, np.array([band + 1e-9, 0.0]))[0]
        self.assertLess(abs(float(just)), 1e-6)


class CurveTest(unittest.TestCase):
    def test_by_hand(self) -> None:
        # k = 0.5 at x = 0.5: 0.5·0.5 + 0.5·0.125 = 0.3125; a table (0,0) (0.5,0.2) (1,1) at 0.75: 0.6
        self.assertAlmostEqual(float(curved(shaped("curve = 0.5"), np.array([0.5, 0.0]))[0]), 0.3125)
        table = shaped("points = [[0, 0], [0.5, 0.2], [1, 1]]")
        np.testing.assert_allclose(curved(table, np.array([0.75, 0.3])), [0.6, 0.3])
        np.testing.assert_allclose(curved(table, np.array([-0.75, 0.3])), [-0.6, 0.3])

    @given(st.floats(0, 1), fractions, fractions)
    def test_laws(self, k: float, a: float, b: float) -> None:
        settings_ = shaped(f"curve = {k!r}")
        ya, yb = (float(curved(settings_, np.array([v, 0.0]))[0]) for v in (a, b))
        if a <= b:
            self.assertLessEqual(ya, yb + 1e-15)  # more stick never gives less
        self.assertEqual(float(curved(settings_, np.array([-a, 0.0]))[0]), -ya)
        self.assertLessEqual(abs(ya), abs(a) + 1e-15)  # gentler, never stronger

    def test_everything_slower_is_not_only_turning_slower(self) -> None:
        stick = np.array([1.0, 1.0])
        np.testing.assert_allclose(respond(Line(shaped(both="overall = 0.5")), stick), [0.5, 0.5])
        np.testing.assert_allclose(respond(Line(shaped(turn="dead_band = 0\nscale = 0.5")), stick), [1.0, 0.5])
        both = shaped(turn="dead_band = 0\nscale = 0.5", both="overall = 0.5")
        np.testing.assert_allclose(respond(Line(both), stick), [0.5, 0.25])


class RateTest(unittest.TestCase):
    def run_ticks(self, rig: Rig, start: float, wanted: float, ticks: int) -> list[float]:
        settings_ = Line(rig).of_rig["rate"].plain
        value, found = start, []
        for _ in range(ticks):
            value = rate.rate_limited(settings_.up[0], settings_.down[0], value, wanted)
            found.append(value)
        return found

    def test_by_hand(self) -> None:
        # at 60 Hz, 3 /s is 0.05 a tick away from zero, 6 /s is 0.10 a tick towards it
        settings_ = shaped('dead_band = 0\nslew_up = "3 /s"\nslew_down = "6 /s"')
        np.testing.assert_allclose(self.run_ticks(settings_, 0, 0.12, 4), [0.05, 0.10, 0.12, 0.12])
        np.testing.assert_allclose(self.run_ticks(settings_, 0.25, 0, 4), [0.15, 0.05, 0, 0], atol=1e-12)
        # from +0.05 to -1: half the tick reaches zero, the other half goes on at half of 0.05
        np.testing.assert_allclose(self.run_ticks(settings_, 0.05, -1, 2), [-0.025, -0.075])

    @given(fractions, fractions, st.floats(0.1, 50), st.floats(0.1, 50))
    def test_laws(self, before: float, wanted: float, up: float, down: float) -> None:
        settings_ = shaped(f'dead_band = 0\nslew_up = "{up} /s"\nslew_down = "{down} /s"')
        new = self.run_ticks(settings_, before, wanted, 1)[0]
        low, high = sorted((before, wanted))
        self.assertTrue(low - 1e-12 <= new <= high + 1e-12)  # between where it was and where it should be
        self.assertLessEqual(abs(new - before), max(up, down) / 60 + 1e-12)
        mirrored = self.run_ticks(settings_, -before, -wanted, 1)[0]
        self.assertAlmostEqual(mirrored, -new, places=12)

    def test_without_rates_it_is_there_at_once(self) -> None:
        self.assertEqual(self.run_ticks(shaped(), -1, 1, 1), [1.0])
        only_up = shaped('dead_band = 0\nslew_up = "3 /s"')
        np.testing.assert_allclose(self.run_ticks(only_up, 0.5, 0, 1), [0.0], atol=1e-9)
        only_down = shaped('dead_band = 0\nslew_down = "6 /s"')
        np.testing.assert_allclose(self.run_ticks(only_down, 0.0, 1, 1), [1.0])


class LawTest(unittest.TestCase):
    def test_arcade_of_the_notebook(self) -> None:
        # forward 0.40 with right 0.30 gives left 0.70 and right 0.10 of full speed
        line = Line(plain_rig())
        raw = np.array([-0.40, 0.30])
        _, row = line.step(line.start(), raw, nothing_sensed(line))
        self.assertAlmostEqual(row[line.layout.at("outputs", "left_fraction")], 0.70)
        self.assertAlmostEqual(row[line.layout.at("outputs", "right_fraction")], 0.10)

    @given(fractions, fractions)
    def test_tank_runs_each_side_at_its_own_stick(self, left: float, right: float) -> None:
        rig = plain_rig(('kind = "arcade"', 'kind = "tank"'))
        line = Line(rig)
        _, row = line.step(line.start(), np.array([-left, -right]), nothing_sensed(line))
        self.assertAlmostEqual(
            row[line.layout.at("limits", "left_limited")], left, delta=2e-9
        )  # less than 1e-9 is nothing
        self.assertAlmostEqual(row[line.layout.at("limits", "right_limited")], right, delta=2e-9)

    def test_tank_blends_full_forward_and_full_turn(self) -> None:
        """As the reference says: 1 m/s ahead, and 2 rad/s on the spot, which is 0.5 m/s at a side 25 cm from the middle."""
        line = Line(plain_rig(('kind = "arcade"', 'kind = "tank"\nfull_turn = "2 rad/s"')))
        for left, right, side in (
            (1, 1, 1.0),
            (1, 0, 1.0),
            (0, -0.5, 1.0),
            (1, -1, 0.5),
            (-0.4, 0.4, 0.5),
            (1, -0.5, 2 / 3),
        ):
            _, row = line.step(line.start(), np.array([-left, -right], float), nothing_sensed(line))
            for name, stick in (("left", left), ("right", right)):
                self.assertAlmostEqual(
                    row[line.layout.at("limits", f"{name}_limited")], stick * side, msg=f"{left} {right}"
                )
            if left == -right:
                self.assertAlmostEqual(row[line.layout.at("law", "turn")], -2.0 * left)

    @given(pairs)
    def test_tank_and_arcade_are_one_motion(self, sticks: tuple[float, float]) -> None:
        left, right = sticks
        asked = arcade((left + right) / 2, (right - left) / 2)
        np.testing.assert_allclose(tank(left, right), asked)

    def test_both_triggers_cancel(self) -> None:
        np.testing.assert_array_equal(triggers(0.7, 0.7, 0.2), [0, 0, 0.2])
        np.testing.assert_allclose(triggers(0.7, 0.2, 0.0), [0.5, 0, 0])

    def test_a_turn_to_the_left_is_positive(self) -> None:
        line = Line(plain_rig())
        _, row = line.step(line.start(), np.array([0.0, -1.0]), nothing_sensed(line))
        self.assertGreater(row[line.layout.at("law", "turn")], 0)
        self.assertLess(row[line.layout.at("limits", "left_limited")], 0)


class LevelTest(unittest.TestCase):
    def test_moving_and_turning_have_shares_of_their_own(self) -> None:
        text = (
            '[speed_levels]\nstart = "slow"\nup = "button_5"\n[[speed_levels.levels]]\nname = "slow"\nmoving = 0.25\n'
            'turning = 0.5\n[[speed_levels.levels]]\nname = "fast"\n[law]'
        )
        line = Line(plain_rig(("[law]", text)))
        state, _ = line.step(line.start(), np.array([0.0, 0.0, 0.0]), nothing_sensed(line))
        state, row = line.step(state, np.array([-1.0, -1.0, 0.0]), nothing_sensed(line))
        # full turn is 2 V / track = 4 rad/s
        self.assertAlmostEqual(row[line.layout.at("law", "forward")], 0.25)
        self.assertAlmostEqual(row[line.layout.at("law", "turn")], 2.0)
        _, row = line.step(state, np.array([-1.0, -1.0, 1.0]), nothing_sensed(line))
        self.assertAlmostEqual(row[line.layout.at("law", "forward")], 1.0)
        self.assertAlmostEqual(row[line.layout.at("law", "turn")], 4.0)


places = st.lists(st.tuples(st.floats(-1, 1), st.floats(-1, 1), st.floats(-math.pi, math.pi)), min_size=2, max_size=6)


class KinematicsTest(unittest.TestCase):
    def test_a_two_wheeled_robot_by_hand(self) -> None:
        # track 0.5 m: v = 1 m/s and 2 rad/s give 1 - 2·0.25 = 0.5 left and 1.5 right
        maps = kinematics.kinematics_of(plain_rig().chassis)
        np.testing.assert_allclose(kinematics.wheel_speeds(maps, np.array([1.0, 0.0, 2.0])), [0.5, 1.5])
        np.testing.assert_allclose(kinematics.twist_of(maps, np.array([0.5, 1.5])), [1.0, 0.0, 2.0])

    @given(places, st.tuples(st.floats(-2, 2), st.floats(-2, 2), st.floats(-3, 3)))
    def test_wheel_speeds_are_those_of_a_rigid_body_moved_a_little(
        self, wheels: list[tuple[float, float, float]], twist: tuple[float, float, float]
    ) -> None:
        """By finite differences of positions on the floor: nothing here knows the matrix."""
        drive = np.array([(math.cos(a), math.sin(a)) for *_, a in wheels])
        matrix = wheel_matrix(np.array([(x, y) for x, y, _ in wheels]), drive)
        found = matrix @ np.array(twist)
        h = 1e-6

        def where(x: float, y: float, t: float) -> tuple[float, float]:
            turned = twist[2] * t
            return (
                twist[0] * t + math.cos(turned) * x - math.sin(turned) * y,
                twist[1] * t + math.sin(turned) * x + math.cos(turned) * y,
            )

        for i, (x, y, angle) in enumerate(wheels):
            (ax, ay), (bx, by) = where(x, y, -h), where(x, y, h)
            rolled = ((bx - ax) * math.cos(angle) + (by - ay) * math.sin(angle)) / (2 * h)
            self.assertAlmostEqual(found[i], rolled, places=6)

    def test_an_axle_off_the_centre(self) -> None:
        # both wheels 0.1 m behind the centre: turning on the axle's middle swings the centre sideways, v_y = ω·0.1
        rig = plain_rig(
            ('x = "0 mm", y = "250 mm"', 'x = "-100 mm", y = "250 mm"'),
            ('x = "0 mm", y = "-250 mm"', 'x = "-100 mm", y = "-250 mm"'),
        )
        maps = kinematics.kinematics_of(rig.chassis)
        np.testing.assert_allclose(kinematics.twist_of(maps, np.array([-0.25, 0.25])), [0, 0.1, 1.0], atol=1e-12)

    def test_four_wheels_on_two_sides(self) -> None:
        wheels = "".join(
            f'{{ name = "{n}", x = "{x} mm", y = "{y} mm", radius = "100 mm" }}, '
            for n, x, y in (("fl", 150, 250), ("rl", -150, 250), ("fr", 150, -250), ("rr", -150, -250))
        )
        old = plain_rig()  # for its two plain wheels
        text_from = PLAIN[PLAIN.index("wheels = [\n") : PLAIN.index("]\n[motors.left]") + 1]
        rig = plain_rig(
            (text_from, f"wheels = [{wheels}]"),
            ('wheels = ["left"]', 'wheels = ["fl", "rl"]'),
            ('wheels = ["right"]', 'wheels = ["fr", "rr"]'),
        )
        four, two = kinematics.kinematics_of(rig.chassis), kinematics.kinematics_of(old.chassis)
        # the same motion from the same side speeds; it turns about its centre, where scrub is least
        for left, right in ((1.0, 1.0), (-0.25, 0.25), (0.2, 0.7)):
            np.testing.assert_allclose(
                kinematics.twist_of(four, np.array([left, left, right, right])),
                kinematics.twist_of(two, np.array([left, right])),
                atol=1e-12,
            )

    @given(st.floats(-1, 1), st.floats(-3, 3))
    def test_forward_undoes_inverse(self, v: float, w: float) -> None:
        maps = kinematics.kinematics_of(plain_rig().chassis)
        twist = np.array([v, 0.0, w])
        np.testing.assert_allclose(kinematics.twist_of(maps, kinematics.wheel_speeds(maps, twist)), twist, atol=1e-9)


class LimitTest(unittest.TestCase):
    def limited(self, speeds: list[float], top: float, clip: bool) -> Floats:
        many = len(speeds)
        needs = Form(kinematics.Needs, parts=many, wheels=many)
        settings_ = Form(limits.LimitSettings, points=1, needs=needs).of(needs=needs.of(top=top), clip=clip).plain
        given_ = [0.0] * many
        limits.fit_speeds(settings_, None, 0, 0, [0.0] * 3, speeds, given_)  # type: ignore[arg-type] # no motion is split
        return np.array(given_)

    def test_by_hand(self) -> None:
        np.testing.assert_allclose(self.limited([3.0, 1.0], 1.5, clip=False), [1.5, 0.5])
        np.testing.assert_allclose(self.limited([3.0, 1.0], 1.5, clip=True), [1.5, 1.0])

    @given(st.lists(st.floats(-10, 10), min_size=2, max_size=6), st.floats(0.1, 5))
    def test_laws(self, speeds: list[float], top: float) -> None:
        asked = np.array(speeds)
        scaled = self.limited(speeds, top, clip=False)
        self.assertTrue((np.abs(scaled) <= top * (1 + 1e-12)).all())
        self.assertTrue((np.abs(self.limited(speeds, top, clip=True)) <= top).all())
        # the direction of motion stays: all by one factor
        np.testing.assert_allclose(scaled * np.abs(asked).max(), asked * np.abs(scaled).max(), atol=1e-9)
        inside = asked * (top / (10 + top))
        np.testing.assert_array_equal(self.limited(inside.tolist(), top, clip=False), inside)


OUTPUTS = (
    'kind = "fraction"',
    'kind = "percent"',
    'kind = "speed"\nunit = "mm/s"',
    'kind = "duty"\nbits = 10',
    'kind = "magnitude"',
    'kind = "two pins"\nbits = 12',
    'kind = "three pins"\nbits = 8',
    'kind = "servo"',
    'kind = "servo"\nforward = "900 us"\nbackward = "2100 us"',
)


def output_rig(output: str, more: str = "") -> Rig:
    return plain_rig(
        (
            'top_speed = "10 rad/s"\noutput = { kind = "fraction" }\n[motors.right]',
            f'top_speed = "10 rad/s"\n{more}\n[motors.left.output]\n{output}\n[motors.right]',
        )
    )


class OutputTest(unittest.TestCase):
    def told(self, output: str, drive: float) -> list[float]:
        rig = output_rig(output)
        values = outputs.encode(outputs.settings_of(rig), np.array([drive, 0.0]))
        return [float(v) for v, name in zip(values, outputs.command_values(rig), strict=True) if name.motor == "left"]

    def test_by_hand(self) -> None:
        for output, share, wanted in (
            ('kind = "fraction"', -0.25, [-0.25]),
            ('kind = "percent"', -0.25, [-25.0]),
            ('kind = "speed"', -0.25, [-0.25]),
            ('kind = "speed"\nunit = "mm/s"', 0.5, [500.0]),
            ('kind = "duty"\nbits = 8', -0.5, [-128.0]),
            ('kind = "magnitude"\nbits = 8', -0.2, [51.0, 0.0]),
            ('kind = "magnitude"\nbits = 8', 0.2, [51.0, 1.0]),
            ('kind = "two pins"\nbits = 10', -1.0, [0.0, 1023.0]),
            ('kind = "two pins"\nbits = 10', 0.5, [512.0, 0.0]),
            ('kind = "three pins"\nbits = 10', -1.0, [1023.0, 0.0, 1.0]),
            ('kind = "three pins"\nbits = 10', 0.5, [512.0, 1.0, 0.0]),
            ('kind = "three pins"', 0.0, [0.0, 0.0, 0.0]),
            ('kind = "servo"', 0.5, [1750.0]),
            ('kind = "servo"', -1.0, [1000.0]),
            ('kind = "servo"\nforward = "900 us"\nbackward = "2100 us"', 1.0, [900.0]),
        ):
            with self.subTest(output, drive=share):
                self.assertEqual(self.told(output, share), wanted)

    def test_rest_is_rest(self) -> None:
        for output in OUTPUTS:
            with self.subTest(output):
                values = self.told(output, 0.0)
                self.assertEqual(values[0], 1500.0 if "servo" in output else 0.0)

    @given(st.sampled_from(OUTPUTS), st.floats(-1, 1))
    def test_decoding_undoes_encoding(self, output: str, drive: float) -> None:
        rig = output_rig(output)
        values = outputs.encode(outputs.settings_of(rig), np.array([drive, 0.3]))
        again = [0.0, 0.0]
        decode(IdealBody(rig).fitted.plain, values.tolist(), again, 2)
        self.assertAlmostEqual(again[0], drive, delta=0.0021)  # half a step of the coarsest, 1/255, or 1 us of 500
        self.assertAlmostEqual(again[1], 0.3)

    def test_polarity(self) -> None:
        rig = output_rig('kind = "percent"', "reversed = true")
        found = Line(rig).of_rig["drive"].share @ np.array([0.5, 0.5])
        np.testing.assert_allclose(outputs.encode(outputs.settings_of(rig), found), [-50.0, 0.5])

    def test_too_little_only_hums(self) -> None:
        line = Line(output_rig('kind = "percent"', 'smallest = "8 %"'))
        at = line.layout.at("outputs", "left_hums")
        for given_, wanted in ((0.0, False), (0.05, True), (-0.05, True), (0.0801, False), (-0.5, False)):
            raw = line.rest()
            raw[line.channels.index("left_y")] = -given_
            _, row = line.step(line.start(), raw, nothing_sensed(line))
            self.assertEqual(bool(row[at]), wanted, given_)


class FrameTest(unittest.TestCase):
    def test_by_hand(self) -> None:
        # heading 90 deg: what the field calls +x lies to the robot's right
        np.testing.assert_allclose(to_robot(1.0, 0.0, math.pi / 2, 0.5, 0.0, 0.0), [0, -1], atol=1e-12)


class BatchTest(unittest.TestCase):
    """One robot and many run the same code and give the same bits."""

    @settings(max_examples=20)
    @given(
        st.integers(0, 2**32 - 1),
        st.sampled_from(["axis", "stick", "sum"]),
        st.sampled_from(["arcade", "tank", "triggers"]),
    )
    def test_a_batch_equals_a_loop(self, seed: int, measure: str, law: str) -> None:
        chance = np.random.default_rng(seed)
        text = (
            '[shaping]\nmeasure = "'
            + measure
            + '"\n[shaping.forward]\ndead_band = 0.07\ncurve = 0.4\nslew_up = "2 /s"\nslew_down = "5 /s"'
        )
        rig = plain_rig(("[shaping.forward]\ndead_band = 0", text), ('kind = "arcade"', f'kind = "{law}"'))
        line = Line(rig)
        count = 64
        raw = chance.uniform(-1.2, 1.2, (3, count, len(line.channels)))
        sensed = chance.normal(size=(count, len(nothing_sensed(line))))
        state, many = line.start((count,)), []
        for tick in raw:
            state, rows = line.step(state, tick, sensed)
            many.append(rows)
        for i in range(count):
            one = line.start()
            for k, tick in enumerate(raw):
                one, row = line.step(one, tick[i], sensed[i])
                self.assertEqual(row.tobytes(), many[k][i].tobytes())


class OneAtATimeTest(unittest.TestCase):
    """Of moving and turning the weaker rests: by hand, for each law."""

    def test_by_law(self) -> None:
        for law, channels, wanted in (
            ("arcade", [0.6, 0.5], [0.6, 0.0]),
            ("split arcade", [-0.4, 0.5], [0.0, 0.5]),
            ("arcade", [0.5, -0.5], [0.5, 0.0]),
            ("triggers", [0.9, 0.2, -0.6], [0.9, 0.2, 0.0]),
            ("triggers", [0.9, 0.5, -0.6], [0.0, 0.0, -0.6]),
            ("planar", [0.3, 0.4, 0.45], [0.3, 0.4, 0.0]),  # a push of 0.5
            ("planar", [0.3, 0.4, -0.55], [0.0, 0.0, -0.55]),
            ("tank", [0.8, 0.6], [0.7, 0.7]),  # 0.7 ahead, 0.1 to the right
            ("tank", [0.8, -0.2], [0.5, -0.5]),  # 0.3 ahead, 0.5 to the right
            ("tank", [-0.1, 0.7], [-0.4, 0.4]),
        ):
            found = np.array(channels)
            one_at_a_time(LAWS[law], found)
            np.testing.assert_allclose(found, wanted, atol=1e-15, err_msg=f"{law} {channels}")

    def test_on_the_line_before_the_slew(self) -> None:
        rig = plain_rig(
            ('kind = "arcade"', 'kind = "arcade"\nmove_and_turn = "either"'),
            ("[shaping.forward]\ndead_band = 0", '[shaping.forward]\ndead_band = 0\nslew_down = "6 /s"'),
        )
        line = Line(rig)
        state, row = line.step(line.start(), np.array([-0.8, 0.7]), nothing_sensed(line), 0.0)
        at = line.layout.at
        np.testing.assert_allclose(row[[at("scale", "forward"), at("scale", "turn")]], (0.8, 0.0), atol=1e-9)
        self.assertEqual(row[at("law", "turn")], 0)
        rungs = [r for r in ladder(line, row, "left") if r.stage == "scale"]
        self.assertEqual([r.note for r in rungs], ["", "rests: either moves or turns"])
        # the stick goes on to turning: moving comes down as its slew rate says, 6/60 a tick
        _, row = line.step(state, np.array([-0.8, 0.9]), nothing_sensed(line), 0.0)
        np.testing.assert_allclose(row[[at("scale", "forward"), at("scale", "turn")]], (0.0, -0.9), atol=1e-9)
        self.assertAlmostEqual(row[at("rate", "forward")], 0.7)
        both = Line(plain_rig())
        _, row = both.step(both.start(), np.array([-0.8, 0.7]), nothing_sensed(both), 0.0)
        np.testing.assert_allclose(row[[at("scale", "forward"), at("scale", "turn")]], (0.8, -0.7), atol=1e-9)

    def test_a_bench_neither_moves_nor_turns(self) -> None:
        text = 'name = "B"\n[motors.a]\ntop_speed = "1 rad/s"\noutput = { kind = "fraction" }\n[law]\nmove_and_turn = "either"\n'
        with self.assertRaises(RigError) as caught:
            read_text(text, Path("b.toml"), Rig)
        self.assertIn("neither move nor turn", str(caught.exception.mistakes[0]))
