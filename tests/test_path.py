"""Paths: the curve, the headings, the time law against closed forms and by brute force, clearance, files and commands."""

import json
import os
import unittest
from itertools import pairwise
from math import cos, hypot, inf, pi, radians, sin, sqrt
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from pivrex.errors import RigError
from pivrex.path.bounds import Bounds
from pivrex.path.clearance import clearance
from pivrex.path.curve import curve_of, spline_through
from pivrex.path.files import find_path, path_text, read_path, save_path
from pivrex.path.looking import looking
from pivrex.path.plan import Plan, plan_of, troubles
from pivrex.path.points import Path as DrivenPath
from pivrex.path.points import path_through
from pivrex.path.timing import time_law
from pivrex.rig import Rig, open_folder, read_rig
from pivrex.rig.field import Field
from tests.chassis import demo_path, ideal
from tests.support import DEMO, TempCase, often
from tests.test_cli import Ran

Floats = NDArray[np.float64]
ROUND = DEMO / "paths" / "round.toml"


def path(*points: tuple[float, float], **settings_: object) -> DrivenPath:
    rows = [{"x": f"{x} m", "y": f"{y} m"} for x, y in points]
    return DrivenPath.model_validate({"points": rows} | settings_)


def with_following(rig: Rig, **changes: float) -> Rig:
    return rig.model_copy(update={"following": rig.following.model_copy(update=changes)})


WIGGLE = path((0.5, 0.5), (1.2, 0.6), (1.8, 1.3), (2.6, 1.2), (3.1, 2.0), (2.2, 2.6))


class CurveTest(unittest.TestCase):
    def test_it_runs_through_its_points_and_its_curvature_is_continuous(self) -> None:
        chance = np.random.default_rng(2)
        points = np.cumsum(chance.uniform(-0.6, 1.0, (9, 2)), axis=0)
        directions = np.where(np.arange(9) == 4, radians(30), np.nan)
        spans = np.hypot(*np.diff(points, axis=0).T)
        for angles in (None, directions):
            spline = spline_through(points, spans, angles)
            every = np.arange(len(spans))
            for order in range(3):
                ends, begins = spline.at(every, spans, order), spline.at(every, 0 * spans, order)
                np.testing.assert_allclose(ends[:-1], begins[1:], atol=1e-9)
            np.testing.assert_allclose(spline.at(every, 0 * spans), points[:-1], atol=1e-12)
        slope = spline.at(np.array([4]), np.zeros(1), 1)[0]
        np.testing.assert_allclose(slope, [cos(radians(30)), sin(radians(30))], atol=1e-9)

    def test_it_bends_least(self) -> None:
        """No other slopes and bends at its points cost less: moving any of them makes the integral larger."""
        chance = np.random.default_rng(5)
        points = chance.uniform(0, 2, (6, 1))
        spans = chance.uniform(0.5, 1.5, 5)
        spline = spline_through(points, spans)

        def cost(parts: Floats) -> float:
            whole = 0.0
            for k, h in enumerate(spans):
                u = np.linspace(0, h, 4001)
                powers = np.arange(6)
                two = sum(parts[k, p, 0] * p * (p - 1) * u ** (p - 2) for p in powers[2:])
                three = sum(parts[k, p, 0] * p * (p - 1) * (p - 2) * u ** (p - 3) for p in powers[3:])
                whole += float(np.trapezoid(two**2 + h * h / 16 * three**2, u))
            return whole

        least = cost(spline.parts)
        for node in range(1, 5):
            for sign in (-1, 1):
                # a bump that leaves all places, and all else at the other nodes, as they are
                parts = spline.parts.copy()
                for k, u0 in ((node - 1, "end"), (node, "begin")):
                    h = spans[k]
                    # quintics with slope 1 at one end and nothing else: the Hermite basis
                    basis = (
                        [0, 0, 0, -4 / h**2, 7 / h**3, -3 / h**4]
                        if u0 == "end"
                        else [0, 1, 0, -6 / h**2, 8 / h**3, -3 / h**4]
                    )
                    parts[k, :, 0] += sign * 0.05 * np.array(basis)
                self.assertGreater(cost(parts), least)

    def test_length_and_bend_of_a_circle(self) -> None:
        angle = np.linspace(0, 2 * pi, 33)
        curve = curve_of(np.stack((2 * np.cos(angle), 2 * np.sin(angle)), axis=1))
        self.assertAlmostEqual(curve.length_m, 4 * pi, delta=0.003)
        inner = (curve.s > 2) & (curve.s < 4 * pi - 2)
        np.testing.assert_allclose(curve.bend[inner], 0.5, atol=0.01)
        self.assertAlmostEqual(float(curve.angle[-1] - curve.angle[0]), 2 * pi, delta=0.1)

    def test_what_it_says_of_itself_is_what_its_places_say(self) -> None:
        """Direction, bend and its change by differences of the places alone."""
        curve = curve_of(np.array([(p.x_m, p.y_m) for p in WIGGLE.points]), step_m=0.001)
        angle = np.unwrap(np.arctan2(np.gradient(curve.y, curve.s), np.gradient(curve.x, curve.s)))
        np.testing.assert_allclose(angle[5:-5], curve.angle[5:-5], atol=1e-3)
        np.testing.assert_allclose(np.gradient(curve.angle, curve.s)[5:-5], curve.bend[5:-5], atol=0.02)
        away = (
            np.min(np.abs(np.arange(len(curve.s))[:, None] - curve.of), axis=1) > 8
        )  # where pieces meet it has a kink
        away[:8] = away[-8:] = False
        np.testing.assert_allclose(np.gradient(curve.bend, curve.s)[away], curve.bends[away], atol=0.3)

    def test_ten_thousand_points(self) -> None:
        chance = np.random.default_rng(1)
        curve = curve_of(np.cumsum(chance.normal(size=(10_000, 2)), axis=0))
        self.assertTrue(np.isfinite(curve.bend).all())


class LookingTest(unittest.TestCase):
    def test_each_way_to_look(self) -> None:
        bittern = ideal("bittern")
        curve = plan_of(WIGGLE, bittern).curve
        along = looking(WIGGLE, curve)
        np.testing.assert_array_equal(along.heading, curve.angle)
        back = looking(WIGGLE.model_copy(update={"backwards": True}), curve)
        np.testing.assert_allclose(back.heading - curve.angle, pi)
        fixed = looking(WIGGLE.model_copy(update={"heading": "fixed", "looks_rad": 0.7}), curve)
        self.assertEqual((set(fixed.heading.tolist()), np.abs(fixed.turns).max()), ({0.7}, 0.0))
        to = looking(WIGGLE.model_copy(update={"heading": "towards", "towards_x_m": 2.0, "towards_y_m": 3.5}), curve)
        for k in (0, 100, -1):
            self.assertAlmostEqual(float(np.tan(to.heading[k])), (3.5 - curve.y[k]) / (2.0 - curve.x[k]), places=6)
        np.testing.assert_allclose(np.gradient(to.heading, curve.s)[3:-3], to.turns[3:-3], atol=0.01)

    def test_evenly_and_by_points_the_shorter_way(self) -> None:
        def headed(heading: str, *angles: float | None) -> DrivenPath:
            points = tuple(
                p.model_copy(update={"heading_rad": None if a is None else radians(a)})
                for p, a in zip(WIGGLE.points, angles, strict=True)
            )
            return WIGGLE.model_copy(update={"heading": heading, "points": points})

        curve = plan_of(WIGGLE, ideal("bittern")).curve
        even = looking(headed("evenly", 170, None, None, None, None, -170), curve)
        np.testing.assert_allclose(np.degrees(even.heading), 170 + 20 * curve.s / curve.length_m, atol=1e-9)
        by_points = looking(headed("points", 0, None, 90, None, None, 45), curve)
        np.testing.assert_allclose(np.degrees(by_points.heading[curve.of[[0, 2, 5]]]), [0, 90, 45], atol=1e-9)
        np.testing.assert_allclose(np.gradient(by_points.heading, curve.s)[3:-3], by_points.turns[3:-3], atol=0.02)


def passed(plan: Plan, rig: Rig) -> dict[str, Floats]:
    """By how much each limit is used along a plan, found by driving its table in time: nothing here knows the bounds."""
    f = rig.following
    t = np.arange(0, plan.time_s, 0.002)
    at = plan.at(t)
    twist = np.stack((at.forward, at.left, at.turn), axis=1)
    used: dict[str, Floats] = {}
    wheels = rig.chassis.wheels
    for wheel in wheels:
        hub = np.stack((twist[:, 0] - twist[:, 2] * wheel.y_m, twist[:, 1] + twist[:, 2] * wheel.x_m), axis=1)
        if wheel.steered:
            speed = np.hypot(*hub.T)
        else:
            drive = wheel.drive_rad
            along = hub @ np.array([cos(drive), sin(drive)])
            roller = wheel.rollers_rad
            speed = along if roller is None else along + (hub @ np.array([-sin(drive), cos(drive)])) * np.tan(roller)
        used[f"speed {wheel.name}"] = np.abs(speed) / (rig.wheel_top_m_s(wheel.name) * (1 - f.reserve))
        used[f"rise {wheel.name}"] = np.abs(np.gradient(speed, t)) / f.wheel_acceleration_m_s2
    used["speed"] = at.speed / (f.speed_m_s or 0.8 * rig.full_forward_m_s)
    used["turn"] = np.abs(at.turn) / (f.turn_rad_s or 0.8 * rig.full_turn_rad_s)
    used["acceleration"] = np.abs(np.gradient(at.speed, t)) / f.acceleration_m_s2
    direction = np.unwrap(np.arctan2(np.gradient(at.y, t), np.gradient(at.x, t)))
    wide = 25  # ticks: its places lie on short chords
    change = np.zeros_like(t)
    change[wide:-wide] = (direction[2 * wide :] - direction[: -2 * wide]) / (t[2 * wide :] - t[: -2 * wide])
    outwards = np.abs(at.speed * change) / f.sideways_m_s2
    used["sideways"] = np.where(at.speed > 0.05, outwards, 0.0)  # of places that hardly differ there is no direction
    used["turn acceleration"] = np.abs(np.gradient(at.turn, t)) / f.turn_acceleration_rad_s2
    return {name: values[3:-3] for name, values in used.items()}


class TimeLawTest(unittest.TestCase):
    def test_a_trapezoid_on_a_straight(self) -> None:
        rig = with_following(ideal("plover"), speed_m_s=0.6, acceleration_m_s2=0.8, wheel_acceleration_m_s2=50.0)
        plan = plan_of(path((0.0, 0.0), (1.0, 0.0), (3.0, 0.0)), rig)
        # 0.75 s and 22.5 cm up, the same down, the rest at 0.6 m/s
        self.assertAlmostEqual(plan.time_s, 2 * 0.75 + (3.0 - 0.45) / 0.6, places=3)
        at = plan.at(np.array([0.375, 3.0, plan.time_s - 0.375, plan.time_s + 1, -1.0]))
        np.testing.assert_allclose(at.x, [0.05625, 0.225 + 0.6 * 2.25, 3 - 0.05625, 3.0, 0.0], atol=1e-3)
        np.testing.assert_allclose(at.forward, [0.3, 0.6, 0.3, 0.0, 0.0], atol=0.006)
        short = plan_of(path((0.0, 0.0), (0.2, 0.0)), rig)
        self.assertAlmostEqual(short.time_s, 2 * sqrt(0.2 / 0.8), places=2)  # it never gets so fast

    def test_constant_sideways_acceleration_on_a_circle(self) -> None:
        rig = with_following(
            ideal("bittern"), speed_m_s=50.0, acceleration_m_s2=50.0, turn_rad_s=50.0, turn_acceleration_rad_s2=1e4,
            wheel_acceleration_m_s2=900.0,
            sideways_m_s2=0.3, reserve=0.0,
        )  # fmt: skip
        angle = np.linspace(0, 1.5 * pi, 25)
        plan = plan_of(path(*zip(2 * np.cos(angle), 2 * np.sin(angle), strict=True)), rig)
        inner = (plan.curve.s > 2) & (plan.curve.s < plan.length_m - 2)
        np.testing.assert_allclose(plan.law.speed[inner], sqrt(0.3 * 2), rtol=0.01)
        names = plan.names()
        self.assertEqual({names[k] for k in plan.law.by[inner]}, {"the bend"})

    def test_no_limit_is_passed_and_nearly_everywhere_one_is_at_its_bound(self) -> None:
        for name in ("plover", "coot", "bittern", "dunlin", "avocet"):
            rig = read_rig(demo_path(name))
            plan = plan_of(WIGGLE, rig)
            used = passed(plan, rig)
            most = np.max(list(used.values()), axis=0)
            worst = max(used, key=lambda n: used[n].max())
            self.assertLess(most.max(), 1.06 if worst == "sideways" else 1.01, f"{name}: {worst}")
            self.assertGreater((most > 0.95).mean(), 0.9, name)

    def test_no_limit_is_passed_in_tight_bends_either(self) -> None:
        """A tight bend right at the start, where the turn's rise was passed by a third; and random paths."""
        tight = DrivenPath.model_validate({
            "points": [
                {"x": "0.3 m", "y": "0.3 m", "direction": "-40.2 deg"},
                *({"x": f"{x} m", "y": f"{y} m"} for x, y in ((0.6584, 0.8268), (1.1293, 1.0298), (1.4826, 1.8640), (0.9383, 2.4292))),
            ]
        })  # fmt: skip
        chance = np.random.default_rng(7)
        paths = [
            tight,
            *(
                path(*np.cumsum(chance.uniform(-0.5, 0.9, (5, 2)), axis=0).round(3).tolist())
                for _ in range(often(40, 6))
            ),
        ]
        for name in ("coot", "bittern", "avocet"):
            rig = read_rig(demo_path(name))
            for k, one in enumerate(paths):
                plan = plan_of(one, rig)
                if (plan.curve.pace < 0.05).any() or (np.abs(plan.curve.bend) > 50).any():
                    continue  # a cusp, which is told
                used = {n: float(v.max()) for n, v in passed(plan, rig).items()}
                worst = max(used, key=lambda n: used[n])
                self.assertLess(used[worst], 1.1 if worst == "sideways" else 1.02, f"{name} {k}: {worst}")

    def test_a_slow_zone_is_slow_from_its_edge_on(self) -> None:
        for middle, radius in ((1.5, 0.2), (1.5037, 0.2), (1.4971, 0.1234)):
            zone = {"x": f"{middle} m", "y": "0.5 m", "radius": f"{radius} m", "speed": "0.2 m/s"}
            plan = plan_of(
                DrivenPath.model_validate(
                    {"points": [{"x": "0.5 m", "y": "0.5 m"}, {"x": "2.5 m", "y": "0.5 m"}], "slow": [zone]}
                ),
                ideal("plover"),
            )
            at = plan.at(np.linspace(0, plan.time_s, 20_000))
            within = np.abs(at.x - middle) < radius
            self.assertLess(at.speed[within].max(), 0.2 * 1.001)
            self.assertGreater(at.speed[~within].max(), 0.3)

    @given(st.integers(0, 10_000))
    @settings(max_examples=15, deadline=None)
    def test_it_is_no_slower_than_any_constant_speed_and_than_any_slower_law(self, seed: int) -> None:
        chance = np.random.default_rng(seed)
        points = np.cumsum(chance.uniform(-0.5, 0.9, (5, 2)), axis=0)
        rig = ideal(("plover", "bittern", "avocet")[seed % 3])
        plan = plan_of(path(*points.round(3).tolist()), rig)
        bounds = plan.bounds
        steady = sqrt(min(bounds.caps[:, 2:-2].min(axis=0).min(), 1e6))
        for rise, square, most in zip(bounds.by_rise, bounds.by_square, bounds.most, strict=True):
            bends = np.abs(square).max()
            steady = min(
                steady, sqrt(most / bends) if bends > 0 else inf, sqrt(most * 0.02 / max(np.abs(rise).max(), 1e-9))
            )
        # a drive at one speed jumps to it and to rest: what those two cost is left out on both sides
        law = plan.law
        inner = law.t[-3] - law.t[2]
        self.assertLessEqual(inner, (plan.curve.s[-3] - plan.curve.s[2]) / steady * 1.02 + 0.2)
        slower = law.speed * 0.97
        self.assertGreater(float((2 * np.diff(plan.curve.s) / (slower[1:] + slower[:-1] + 1e-12)).sum()), plan.time_s)

    def test_against_the_best_of_a_thousand_laws(self) -> None:
        """Ten places, and one bound on acceleration and speed that changes with the place: no law of a fine grid is quicker."""
        s = np.linspace(0, 1, 11)
        caps = np.array([[0, 0.5, 0.9, 0.3, 0.2, 0.6, 1.0, 0.4, 0.8, 0.5, 0.0]])
        bounds = Bounds(caps, ("cap",), np.ones((1, 11)), np.zeros((1, 11)), np.array([1.5]), ("rise",))
        law = time_law(s, bounds)
        grid = np.linspace(0, 1.0, 401)
        best = np.zeros(len(grid))
        best[1:] = inf
        for k in range(1, 11):  # dynamic programming over squares of speeds
            fine = np.abs(grid[:, None] - grid[None, :]) <= 2 * 0.1 * 1.5 + 1e-12
            cost = np.where(fine, 0.2 / np.maximum(np.sqrt(grid)[:, None] + np.sqrt(grid)[None, :], 1e-9), inf)
            best = (best[:, None] + cost).min(axis=0)
            best[grid > caps[0, k] + 1e-12] = inf
        self.assertLessEqual(law.time_s, best[0] + 1e-9)
        self.assertGreater(law.time_s, best[0] * 0.98)  # a coarse grid loses a little

    def test_stops_slow_zones_and_bounds_of_the_path(self) -> None:
        rig = ideal("plover")
        points = [{"x": "0 m", "y": "0 m"}, {"x": "1 m", "y": "0 m", "stop": True}, {"x": "2 m", "y": "0 m"}]
        slow = [{"x": "1.5 m", "y": "0 m", "radius": "0.1 m", "speed": "0.1 m/s"}]
        plan = plan_of(DrivenPath.model_validate({"points": points, "slow": slow, "speed": "0.5 m/s"}), rig)
        self.assertEqual(plan.law.speed[plan.curve.of[1]], 0.0)
        self.assertAlmostEqual(float(plan.law.speed.max()), 0.5)
        zone = np.abs(plan.curve.x - 1.5) < 0.1
        self.assertLessEqual(float(plan.law.speed[zone].max()), 0.1 + 1e-9)
        held = {stretch.what for stretch in plan.held_by()}
        self.assertLessEqual({"a slow zone", "a stop", "your speed", "your acceleration"}, held)
        self.assertTrue(np.isfinite(plan.time_s))


class ClearanceTest(unittest.TestCase):
    FIELD = Field.model_validate({
        "length": "4 m", "width": "3 m",
        "blocks": [{"name": "bench", "x": "2 m", "y": "1.5 m", "length": "1 m", "width": "0.4 m"}],
        "rounds": [{"name": "butt", "x": "0.5 m", "y": "2.5 m", "radius": "0.2 m"}],
    })  # fmt: skip

    @given(st.floats(0.3, 3.7), st.floats(0.3, 2.7), st.floats(-pi, pi))
    @settings(max_examples=150, deadline=None)
    def test_it_is_the_least_way_between_two_edges(self, x: float, y: float, heading: float) -> None:
        """Against many points on the outline, measured to each thing by itself."""
        length, width = 0.3, 0.22
        found = clearance(self.FIELD, length, width, np.array([[x, y, heading]]))
        u = np.linspace(-0.5, 0.5, 81)
        edge = np.concatenate(
            [np.stack((u * length, 0 * u + e * width / 2), axis=1) for e in (-1, 1)]
            + [np.stack((0 * u + e * length / 2, u * width), axis=1) for e in (-1, 1)]
        )
        c, s = cos(heading), sin(heading)
        ex, ey = x + c * edge[:, 0] - s * edge[:, 1], y + s * edge[:, 0] + c * edge[:, 1]
        wall = np.minimum(np.minimum(ex, 4 - ex), np.minimum(ey, 3 - ey)).min()
        block = np.hypot(np.maximum(np.abs(ex - 2) - 0.5, 0), np.maximum(np.abs(ey - 1.5) - 0.2, 0)).min()
        butt = (np.hypot(ex - 0.5, ey - 2.5) - 0.2).min()
        # the block's own corners may be the nearest to the middle of an outline's edge
        least = min(wall, block, butt)
        if least > 0.01 and found.away[0] > 0:
            self.assertAlmostEqual(float(found.away[0]), least, delta=0.004)
        elif wall > 0 and butt > 0 and found.away[0] > 0.01:
            self.assertGreater(block, 0)
        if least == wall and wall < 0:
            self.assertAlmostEqual(float(found.away[0]), wall, delta=0.004)

    def test_overlapping_is_below_nothing_though_no_corner_lies_inside(self) -> None:
        cross = clearance(self.FIELD, 1.4, 0.1, np.array([[2.0, 1.5, pi / 2]]))
        self.assertLess(float(cross.away[0]), 0)
        self.assertEqual(cross.names[cross.what[0]], "bench")

    def test_without_a_field_nothing_is_near(self) -> None:
        self.assertGreater(float(clearance(None, 0.3, 0.2, np.zeros((1, 3))).away[0]), 100)


class TroubleTest(unittest.TestCase):
    FIELD = ClearanceTest.FIELD

    def said(self, one: DrivenPath, rig: Rig, floor: str = "") -> str:
        return "\n".join(what for _, what in troubles(plan_of(one, rig), rig, self.FIELD, floor))

    def test_each(self) -> None:
        plover, bittern = ideal("plover"), ideal("bittern")
        self.assertEqual(self.said(path((0.5, 0.5), (3.0, 0.5)), plover), "")
        self.assertIn("touches the wall", self.said(path((0.5, 0.05), (3.0, 0.5)), plover))
        self.assertRegex(
            self.said(path((0.5, 1.5), (3.5, 1.5)), plover), r"touches bench from 0\.\d+ m to 2\.\d+ m .*by 30 cm"
        )
        self.assertIn("cannot move sideways", self.said(path((0.5, 0.5), (3.0, 0.5), heading="fixed"), plover))
        self.assertEqual(self.said(path((0.5, 0.5), (3.0, 0.5), heading="fixed"), bittern), "")
        cusp = path((0.5, 0.5), (1.5, 0.5), (0.5, 0.5001))
        self.assertIn("a cusp", self.said(cusp, plover))
        self.assertIn(
            'is for the floor "attic"', self.said(path((0.5, 0.5), (3.0, 0.5), floor="attic"), plover, "cellar")
        )

    def test_the_demos_path_keeps_clear_with_every_robot(self) -> None:
        field = open_folder(DEMO).settings.field
        for name in ("plover", "coot", "bittern", "dunlin", "avocet"):
            rig = read_rig(demo_path(name))
            plan = plan_of(read_path(ROUND), rig)
            self.assertEqual(troubles(plan, rig, field, field.name), [], name)
            self.assertGreater(float(plan.clearance(rig, field).away.min()), 0.05, name)


class FileTest(TempCase):
    def wrong(self, text: str) -> str:
        with self.assertRaises(RigError) as caught:
            read_path(self.write("p.toml", text))
        return str(caught.exception)

    def test_mistakes_have_their_place(self) -> None:
        two = '[[points]]\nx = "0 m"\ny = "0 m"\n'
        self.assertIn("has 1 entries, but should have 2", self.wrong(two))
        self.assertRegex(self.wrong(two + two), r"p\.toml:4: .*is the same place as point 1")
        self.assertRegex(self.wrong(two + '[[points]]\nx = "nan m"\ny = "0 m"\n'), r"p\.toml:5: points\.2\.x")
        self.assertIn("heading", self.wrong('heading = "evenly"\n' + two + '[[points]]\nx = "1 m"\ny = "0 m"\n'))
        self.assertIn("is 3 without a unit", self.wrong(two + '[[points]]\nx = 3\ny = "0 m"\n'))
        self.assertIn(
            "backwards",
            self.wrong('heading = "fixed"\nbackwards = true\n' + two + '[[points]]\nx = "1 m"\ny = "0 m"\n'),
        )
        self.assertIn("points", self.wrong(""))

    def test_a_save_keeps_comments_and_what_it_does_not_know_of(self) -> None:
        file = self.write("round.toml", ROUND.read_text())
        one = read_path(file)
        moved = one.model_copy(
            update={"points": (*one.points[:2], one.points[2].model_copy(update={"x_m": 2.5}), *one.points[3:])}
        )
        save_path(moved, file)
        text = file.read_text()
        self.assertEqual(read_path(file), moved)
        self.assertIn("# Round the benches, once", text)
        self.assertIn("# the post is easily pushed over", text)
        self.assertEqual(len(text.splitlines()), len(ROUND.read_text().splitlines()))
        turned = moved.model_copy(update={"points": tuple(reversed(moved.points)), "backwards": True})
        save_path(turned, file)
        self.assertEqual(read_path(file), turned)

    def test_which_way_it_looks_is_saved(self) -> None:
        file = self.write("round.toml", ROUND.read_text())
        one = read_path(file)
        for changes in (
            {"heading": "fixed", "looks_rad": radians(30)},
            {"heading": "towards", "towards_x_m": 1.25, "towards_y_m": 2.5},
            {"heading": "along"},
        ):
            save_path(one.model_copy(update=changes), file)
            again = read_path(file)
            for name, value in changes.items():
                wanted = getattr(again, name)
                self.assertTrue(wanted == value or abs(wanted - value) < 1e-6, name)

    @given(st.integers(0, 10_000))
    @settings(max_examples=25, deadline=None)
    def test_what_is_saved_is_read_again(self, seed: int) -> None:
        chance = np.random.default_rng(seed)
        points = np.cumsum(chance.uniform(0.1, 1, (int(chance.integers(2, 8)), 2)), axis=0).round(3)
        one = path(*points.tolist())
        rows = tuple(
            p.model_copy(
                update={
                    "stop": bool(chance.random() < 0.3),
                    "direction_rad": radians(round(float(chance.uniform(-90, 90)), 2)),
                }
            )
            for p in one.points
        )
        one = one.model_copy(update={"points": rows})
        file = self.folder / "any.toml"
        file.write_text(path_text(one))
        again = read_path(file)
        for a, b in zip(one.points, again.points, strict=True):
            self.assertEqual((a.x_m, a.y_m, a.stop), (b.x_m, b.y_m, b.stop))
            self.assertAlmostEqual(a.direction_rad or 0, b.direction_rad or 0, places=6)

    def test_found_by_name(self) -> None:
        folder = open_folder(DEMO)
        self.assertEqual(find_path("Round", folder), ROUND)
        with self.assertRaisesRegex(RigError, r'no path of this workspace \(paths/ holds "round"\)'):
            find_path("rownd", folder)

    def test_through_places(self) -> None:
        one = path_through(1.0, 1.0, radians(90), False, [(1.0, 1.0), (2.0, 1.0)])
        self.assertEqual([(p.x_m, p.direction_rad) for p in one.points], [(1.0, radians(90)), (2.0, None)])
        keeps = path_through(1.0, 1.0, radians(90), True, [(2.0, 1.0)])
        self.assertEqual((keeps.heading, keeps.looks_rad), ("fixed", radians(90)))
        self.assertLess(plan_of(path_through(1.0, 1.0, 0.0, False, [(1.0, 1.0)]), ideal("plover")).length_m, 0.01)


class CommandTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.addCleanup(os.chdir, Path.cwd())
        os.chdir(self.demo())

    def test_check(self) -> None:
        told = json.loads(Ran("path", "check", "round", "--rig", "avocet", "--json").out)
        self.assertEqual((told["can"], told["clear"], told["points"]), (True, True, 14))
        self.assertAlmostEqual(told["length_m"], 11.09, delta=0.05)
        at = told["clearance_at"]
        self.assertLess(hypot(at["x_m"] - 2.88, at["y_m"] - 1.54), 0.3)  # by the corner of bench B
        file = Path("paths/bad.toml")
        file.write_text('[[points]]\nx = "0.5 m"\ny = "1.2 m"\n[[points]]\nx = "3 m"\ny = "1.2 m"\n')
        ran = Ran("path", "check", "bad")
        self.assertEqual(ran.code, 1)
        self.assertIn("! touches bench A", ran.out)
        self.assertRegex(Ran("path", "check", "nowhere").err, "no path of this workspace")

    def test_time(self) -> None:
        told = json.loads(Ran("path", "time", "round", "--rig", "plover", "--json").out)
        plan = plan_of(read_path(ROUND), read_rig(demo_path("plover")))
        self.assertAlmostEqual(told["time_s"], plan.time_s, places=4)
        limits = told["limits"]
        self.assertEqual(
            (limits[0]["from_m"], limits[-1]["to_m"]), (0.0, told["length_m"] if False else limits[-1]["to_m"])
        )
        for a, b in pairwise(limits):
            self.assertEqual(a["to_m"], b["from_m"])
        words = Ran("path", "time", "round", "--rig", "plover").out
        self.assertRegex(words, r"11\.09 m in 1\d\.\d\d s for Plover")
        self.assertIn("a slow zone", words)

    def test_thousands_of_points_end(self) -> None:
        """Following is drawn of what can be simulated in a while; a path of kilometres is refused, and said why."""
        count = often(10_000, 2_000)
        for step_m, radius, code in ((15.0 / count, 0.8, 0), (1.0, 500.0, 1)):
            angle = np.arange(count) * step_m / radius
            places = zip(2.5 + radius * np.cos(angle), 2.0 + radius * np.sin(angle), strict=True)
            rows = (f'[[points]]\nx = "{x:.9f} m"\ny = "{y:.9f} m"\n' for x, y in places)
            Path("paths").mkdir(exist_ok=True)
            Path("paths/long.toml").write_text("".join(rows))
            ran = Ran("export", "following", "long", "--rig", "bittern", "-o", "long.svg")
            self.assertEqual(ran.code, code, ran.err)
        self.assertTrue(Path("long.svg").is_file())
        self.assertRegex(ran.err, r"the path long takes \d+ s to drive; following is drawn for at most 180 s")

    def test_on_paper(self) -> None:
        ran = Ran("export", "plan", "round", "--rig", "dunlin", "-o", "plan.svg", "-o", "plan.pdf")
        self.assertEqual(ran.code, 0, ran.err)
        text = Path("plan.svg").read_text()
        for said in (
            "your acceleration",
            "a slow zone",
            "10 m",
            "speed in m/s",
            "round, for Dunlin, on the greenhouse",
        ):
            self.assertIn(said, text)
        self.assertTrue(Path("plan.pdf").read_bytes().startswith(b"%PDF"))
