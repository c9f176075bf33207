"""Following: what the three loops give, how near every demo robot comes, and what becomes of one that is lost."""

import unittest
from dataclasses import replace
from math import cos, degrees, hypot, inf, pi, radians, sin
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from pivrex.kernels import Form
from pivrex.line import Entry, Line
from pivrex.line.beginning import begun, known_at
from pivrex.line.following import AGAIN, BEGINS, COMMANDED, HERE, IN_PLACE, Following, following_step
from pivrex.line.odometry import OdometryColumns
from pivrex.line.why import ladder, sentence
from pivrex.path.files import read_path
from pivrex.path.plan import plan_of
from pivrex.path.points import Path as DrivenPath
from pivrex.rig import Rig, read_rig
from pivrex.rig.following import Loop
from pivrex.routine import check_text, play
from pivrex.routine.drives import Drives
from pivrex.routine.files import program_of, shared_next_to
from pivrex.routine.follows import Plans, PlanState, feel_plan
from pivrex.routine.interpreter import Interpreter
from pivrex.routine.profile import ProfileState
from pivrex.routine.program import MAIN, FollowStep, Program
from pivrex.routine.rehearsal import rehearse
from pivrex.routine.trial import program_following, tried
from pivrex.sim.model import simulator_of
from tests.chassis import SOME, demo_path, ideal
from tests.support import DEMO, slow
from tests.test_path import path

Floats = NDArray[np.float64]
ROUND = read_path(DEMO / "paths" / "round.toml")
BEND = path((0.5, 0.5), (1.1, 0.6), (1.5, 1.1), (2.1, 1.3))
ROBOTS = ("plover", "coot", "bittern", "dunlin", "avocet")


def asked(
    mode: float = IN_PLACE, at: tuple[float, float, float] = (1.0, 1.0, 0.0), angle: float = 0.0,
    motion: tuple[float, float, float] = (0.0, 0.0, 0.0), forward: float = 1.0, back: float = 1.0, waits: float = 0.0,
) -> Floats:  # fmt: skip
    return np.array([mode, forward, back, waits, *at, angle, *motion])


def step(rig: Rig, entry: Floats, estimated: tuple[float, float, float], ticks: int = 1) -> dict[str, float]:
    """One tick of a robot that believes to be somewhere: what its stage `following` says."""
    line = Line(rig)
    state = known_at(line, line.start(), np.array(estimated))
    sensed = np.zeros(len(line.stages["sensed"].columns))
    for _ in range(ticks):
        state, row = line.step(state, line.rest(), sensed, entry=Entry(plan=entry))
    return {c.name: float(row[line.layout.at("following", c.name)]) for c in line.stages["following"].columns}


def gains(rig: Rig, **loops: Loop) -> Rig:
    return rig.model_copy(update={"following": rig.following.model_copy(update=loops)})


class StageTest(unittest.TestCase):
    def test_each_error_has_its_loop_where_the_chassis_moves_any_way(self) -> None:
        rig = gains(ideal("bittern"), along_track=Loop(p=2.0), cross_track=Loop(p=3.0), heading=Loop(p=4.0))
        # a path along the field's y; the robot stands 4 cm behind its plan, 3 cm right of it, turned 6 deg too far right
        looks = radians(90)
        found = step(
            rig, asked(at=(1.0, 1.0, looks), angle=looks, motion=(0.5, 0.0, 0.1)), (1.03, 0.96, looks - radians(6))
        )
        self.assertAlmostEqual(found["along_track"], 0.04)
        self.assertAlmostEqual(found["cross_track"], 0.03)
        self.assertAlmostEqual(found["heading_error"], radians(6))
        self.assertAlmostEqual(found["along_track_p"], 0.08)
        self.assertAlmostEqual(found["cross_track_p"], 0.09)
        self.assertAlmostEqual(found["heading_p"], 4 * radians(6))
        # on the field it goes 0.58 m/s along y and 0.09 m/s against x, whatever way it looks
        angle = looks - radians(6)
        x = found["forward"] * cos(angle) - found["left"] * sin(angle)
        y = found["forward"] * sin(angle) + found["left"] * cos(angle)
        self.assertAlmostEqual(x, -0.09)
        self.assertAlmostEqual(y, 0.58)
        self.assertAlmostEqual(found["turn"], 0.1 + 4 * radians(6))

    def test_i_and_d(self) -> None:
        rig = gains(ideal("bittern"), along_track=Loop(p=0.0, i=2.0), cross_track=Loop(p=0.0), heading=Loop(p=0.0))
        found = step(rig, asked(), (0.9, 1.0, 0.0), ticks=30)
        self.assertAlmostEqual(found["along_track_i"], 2.0 * 0.1 * 30 * rig.dt_s)
        rig = gains(ideal("bittern"), along_track=Loop(p=0.0, d=0.5))
        line = Line(rig)
        state = known_at(line, line.start(), np.array([1.0, 1.0, 0.0]))
        sensed = np.zeros(len(line.stages["sensed"].columns))
        for x in (1.0, 1.02):
            state, row = line.step(state, line.rest(), sensed, entry=Entry(plan=asked(at=(x, 1.0, 0.0))))
        self.assertAlmostEqual(row[line.layout.at("following", "along_track_d")], 0.5 * 0.02 / rig.dt_s)

    def test_a_two_sided_one_corrects_across_by_turning(self) -> None:
        rig = gains(ideal("plover"), along_track=Loop(p=2.0), cross_track=Loop(p=3.0), heading=Loop(p=4.0, i=0.0))
        for speed in (0.5, -0.5):
            # 5 cm right of its plan, 2 cm behind, turned 10 deg left
            found = step(rig, asked(motion=(speed, 0.0, 0.2)), (0.98, 0.95, radians(10)))
            c, s = cos(radians(10)), sin(radians(10))
            nose, aside = c * 0.02 + s * 0.05, c * 0.05 - s * 0.02
            self.assertAlmostEqual(found["forward"], speed * c + 2.0 * nose)
            self.assertAlmostEqual(found["left"], 0.0)
            law = 0.2 + speed * 12.0 * aside + 0.5 * 4.0 * sin(-radians(10))
            self.assertAlmostEqual(found["turn"], law)

    def test_its_errors_do_not_grow(self) -> None:
        """The law's measure, from many beginnings, along a circle: driven exactly, it falls at every step."""
        rig = gains(ideal("plover"), along_track=Loop(p=3.0), cross_track=Loop(p=3.0), heading=Loop(p=4.0, i=0.0))
        rig = rig.model_copy(
            update={"law": rig.law.model_copy(update={"full_turn_rad_s": 50.0, "full_forward_m_s": 10.0})}
        )
        stage = Line(rig).stages["following"]
        assert isinstance(stage, Following)
        # what the robot turns slower than it should counts for nothing here
        still, fresh = (
            stage.settings._replace(heading=stage.settings.heading._replace(i=0.0, d=0.0)).plain,
            stage.start(()).plain,
        )
        chance = np.random.default_rng(3)
        for _ in range(8):
            pose = np.array([*chance.uniform(-0.3, 0.3, 2), chance.uniform(-1.2, 1.2)])
            v, w, dt, before = 0.6 * (-1 if chance.random() < 0.5 else 1), 0.5, 0.002, np.inf
            wanted = np.zeros(3)
            for _ in range(2500):
                mode, *entry = asked(at=(wanted[0], wanted[1], wanted[2]), motion=(v, 0.0, w)).tolist()
                names = [n for n in stage.form.places if n not in ("mode", "plan")][:7]
                out = stage.form.of(mode=mode, plan=entry[7:], **dict(zip(names, entry[:7], strict=True))).plain
                at = Form(OdometryColumns).of(pose=pose).plain
                following_step(still, fresh, stage.start(()).plain, [0.0] * 3, at, out)
                forward, _, turn = out.twist
                dx, dy = wanted[:2] - pose[:2]
                off = (wanted[2] - pose[2] + pi) % (2 * pi) - pi
                measure = (dx * dx + dy * dy) / 2 + (1 - cos(off)) / 12.0
                self.assertLess(measure, before + 1e-6)
                before = measure
                pose += (
                    np.array([forward * cos(pose[2] + turn * dt / 2), forward * sin(pose[2] + turn * dt / 2), turn])
                    * dt
                )
                wanted += np.array([v * cos(wanted[2] + w * dt / 2), v * sin(wanted[2] + w * dt / 2), w]) * dt
            self.assertLess(before, 1e-4)

    def test_each_half_can_be_left_out(self) -> None:
        for name in ("bittern", "plover"):
            estimated = (0.9, 0.95, 0.1)
            both = step(ideal(name), asked(motion=(0.4, 0.0, 0.1)), estimated)
            planned = step(ideal(name), asked(motion=(0.4, 0.0, 0.1), back=0.0), estimated)
            self.assertEqual([planned[f"correction_{n}"] for n in ("forward", "left", "turn")], [0, 0, 0])
            self.assertAlmostEqual(hypot(planned["forward"], planned["left"]), 0.4)
            back = step(ideal(name), asked(motion=(0.4, 0.0, 0.1), forward=0.0), estimated)
            self.assertAlmostEqual(back["turn"], back["correction_turn"])
            self.assertAlmostEqual(back["forward"], back["correction_forward"])
            self.assertAlmostEqual(both["correction_forward"], back["correction_forward"])

    def test_idle_it_lets_all_through_and_a_stop_ends_it(self) -> None:
        rig = ideal("bittern")
        line = Line(rig)
        raw = line.rest().copy()
        raw[0] = -1.0
        sensed = np.zeros(len(line.stages["sensed"].columns))
        state, row = line.step(line.start(), raw, sensed)
        at = line.layout.these("following", ("forward", "left", "turn"))
        np.testing.assert_array_equal(row[at], row[line.layout.these("frame", ("forward", "left", "turn"))])
        _, row = line.step(state, line.rest(), sensed, 1.0, entry=Entry(plan=asked(motion=(0.5, 0.0, 0.0))))
        np.testing.assert_array_equal(row[at], 0.0)

    def test_the_why_tells_it(self) -> None:
        rig = ideal("plover")
        line = Line(rig)
        state = known_at(line, line.start(), np.array([0.9, 0.95, 0.1]))
        sensed = np.zeros(len(line.stages["sensed"].columns))
        _, row = line.step(state, line.rest(), sensed, entry=Entry(plan=asked(motion=(0.4, 0.0, 0.1))))
        found = {
            n: row[line.layout.at("following", n)]
            for n in ("along_track", "cross_track", "heading_error", "correction_forward", "forward", "turn")
        }
        self.assertIn(
            f"{found['along_track'] * 100:.1f} cm behind its plan, {found['cross_track'] * 100:.1f} cm cross-track, "
            f"{abs(degrees(found['heading_error'])):.1f} deg off",
            sentence(line, row, "left"),
        )
        rung = next(r for r in ladder(line, row, "left") if r.stage == "follow")
        self.assertIn(f"→ forward {found['forward']:+.3f} m/s, turn {degrees(found['turn']):+.1f} deg/s", rung.text)
        self.assertIn(f"correction forward {found['correction_forward']:+.3f}", rung.text)
        estimate = next(r for r in ladder(line, row, "left") if r.stage == "estimate")
        self.assertIn("at 0.90 m, 0.95 m, 6 deg by wheels and gyro, ± 0.0 cm", estimate.text)
        _, row = line.step(state, line.rest(), sensed)
        self.assertNotIn("estimate", [r.stage for r in ladder(line, row, "left")])

    def test_many_at_once_are_each_as_one_alone(self) -> None:
        for name in ("plover", "avocet"):
            rig = ideal(name)
            line = Line(rig)
            poses = np.array([(0.9, 0.95, 0.1), (1.0, 1.0, 0.0), (1.1, 0.9, -0.4)])
            entries = np.stack([asked(motion=(0.4, 0.0, 0.1)), asked(0.0), asked(HERE, motion=(0.2, 0.0, 0.3))])
            sensed = np.zeros(len(line.stages["sensed"].columns))
            state = begun(line, poses, (3,))
            _, many = line.step(
                state, line.rest((3,)), np.broadcast_to(sensed, (3, len(sensed))), entry=Entry(plan=entries)
            )
            at = line.layout.stage("following")
            for i in range(3):
                _, one = line.step(begun(line, poses[i]), line.rest(), sensed, entry=Entry(plan=entries[i]))
                np.testing.assert_array_equal(many[i, at], one[at])
        self.assertEqual(len(COMMANDED), entries.shape[1])


def followed(rig: Rig, program: Program, starts: Floats, most: int = 1500) -> tuple[Line, Floats, list[Interpreter]]:
    """Drive robots, each with a seed of its own, from where each truly stands and knows it; (T, N, K) Ticks: what has ended stays as it
    is, for those that have not.
    """
    count = len(starts)
    line, model = Line(rig), simulator_of(rig, None)
    robots = model.placed(model.start((count,), np.arange(count, dtype=np.uint64)), starts)
    drives = Drives(program, line, model, begun(line, starts, (count,)), robots, starts, None, 64, 0.0)
    made: list[list[Floats]] = [[] for _ in starts]

    def keep() -> None:
        for i, own in enumerate(made):
            own.append(drives.kept(i)[0])

    drives.run(most, made=keep)
    each = [np.concatenate(own) for own in made]
    longest = max(map(len, each))
    rows = [np.concatenate((own, np.repeat(own[-1:], longest - len(own), axis=0))) for own in each]
    return line, np.stack(rows, axis=1), [r.interpreter for r in drives.runners]


def off_at_the_end(line: Line, rows: Floats, end: Floats) -> tuple[Floats, Floats]:
    """How far each truly ends from where it should, in m and rad."""
    pose = rows[-1][:, [line.layout.at("truth", n) for n in ("x", "y", "heading")]]
    return np.hypot(*(pose[:, :2] - end[:2]).T), np.abs((pose[:, 2] - end[2] + pi) % (2 * pi) - pi)


@slow
class RobotsTest(unittest.TestCase):
    """The demo's path with real bodies: twenty that begin right, and some that stand 20 cm and 15 degrees off."""

    OFF = ((0.0, 0.2, radians(15)), (0.0, -0.2, radians(-15)), (-0.14, 0.14, radians(15)))

    def check(self, name: str, max_m: float, max_deg: float) -> None:
        rig = read_rig(demo_path(name))
        program = program_of(DEMO / "routines" / "round.txt", rig)
        start = np.array([0.5, 0.5, 0.0])
        starts = np.concatenate((np.tile(start, (20, 1)), start + np.array(self.OFF)))
        line, rows, minds = followed(rig, program, starts)
        self.assertEqual({m.ended for m in minds}, {"finished"})
        end = plan_of(ROUND, rig).poses[-1]
        away, turned = off_at_the_end(line, rows, end)
        self.assertLess(away[:20].max(), max_m)
        self.assertLess(degrees(turned[:20].max()), max_deg)
        self.assertLess(away[20:].max(), max_m + 0.01)  # found back
        along = rows[:, 20:][..., [line.layout.at("following", n) for n in ("along_track", "cross_track")]]
        self.assertGreater(np.hypot(*np.moveaxis(along, -1, 0)).max(), 0.17)  # they really were off

    def test_each_finds_its_end_and_back_to_its_plan(self) -> None:
        for name in SOME:
            with self.subTest(name):
                self.check(name, *((0.05, 3.0) if name in ("plover", "coot") else (0.03, 1.5)))

    def test_clearly_worse_without_corrections(self) -> None:
        for name in ("plover", "avocet"):
            rig = read_rig(demo_path(name))
            with_, without = (tried(BEND, rig, None, (True, back), seed=4) for back in (True, False))
            apart = [float(np.hypot(*t.errors[:, :2].T).max()) for t in (with_, without)]
            self.assertGreater(apart[1], 3 * apart[0], name)
            self.assertEqual(np.abs(without.back).max(), 0.0)


class MotionTest(unittest.TestCase):
    def test_a_perfect_robot_stays_on_its_plan(self) -> None:
        for name in ROBOTS:
            rig = ideal(name)
            found = tried(BEND, rig, None)
            self.assertEqual(found.play.ended, "finished", name)
            np.testing.assert_allclose(found.truth[-1, :2], found.plan.poses[-1, :2], atol=0.006, err_msg=name)
            self.assertLess(np.abs(found.errors[:, 1]).max(), 0.02, name)

    def test_from_here_it_is_the_same_motion_in_the_robots_frame_to_the_bit(self) -> None:
        for name in SOME:
            rig = ideal(name)
            rig = rig.model_copy(update={"odometry": rig.odometry.model_copy(update={"turn": "wheels"})})
            there = program_following(BEND, rig, "bend")
            step_ = there.codes[MAIN][0]
            assert isinstance(step_, FollowStep)
            rows: list[Floats] = []
            for start in ((0.0, 0.0, 0.0), (2.3, -1.7, 2.1)):
                here = replace(there, start=start, codes={MAIN: (replace(step_, here=True),)})
                rows.append(play(here, rig, None, 12.0).rows)
            layout = Line(rig).layout
            at = [
                layout.at("following", n)
                for n in ("forward", "left", "turn", "along_track", "cross_track", "heading_error")
            ]
            self.assertEqual(len(rows[0]), len(rows[1]), name)
            np.testing.assert_array_equal(rows[0][:, at], rows[1][:, at], err_msg=name)
            modes = rows[0][:, layout.at("following", "mode")]
            self.assertEqual((modes == HERE).sum(), 1)
            self.assertGreater((modes == AGAIN).sum(), 100)
            # it ends where the path does, seen from its beginning
            moved = rows[1][-1, layout.these("truth", ("x", "y"))] - (2.3, -1.7)
            plan = plan_of(BEND, rig)
            x, y, _ = plan.poses[-1] - plan.poses[0]
            turn = 2.1 - plan.poses[0][2]
            wanted = (cos(turn) * x - sin(turn) * y, sin(turn) * x + cos(turn) * y)
            np.testing.assert_allclose(moved, wanted, atol=0.01)

    def test_many_robots_are_each_as_one_alone(self) -> None:
        for name in ("coot", "bittern"):
            rig = read_rig(demo_path(name))
            program = program_following(BEND, rig, "bend")
            found = rehearse(program, rig, None, np.arange(1, 4, dtype=np.uint64), 4.0)
            assert found is not None
            alone = play(program, rig, None, 4.0, seed=2)
            np.testing.assert_array_equal(alone.pose[:2], found.poses[1][:2])

    def test_plans_in_a_row_leave_nothing_behind(self) -> None:
        """A batch's robots and one alone forget a plan that is over, with and without a pause before the next one."""
        first = "start at 0.5 m, 0.5 m facing 0 deg\nfollow 0.8 m, 0.55 m then 1.3 m, 1.0 m until x > 0.9 m\n"
        more, third = "follow 0.8 m, 0.9 m\n", "follow 0.5 m, 0.7 m until y < 0.8 m\n"
        for name, text in (("coot", first + "wait 100 ms\n" + more), ("bittern", first + more + more + third)):
            rig = read_rig(demo_path(name))
            program = check_text(text, rig).program
            assert program is not None
            found = rehearse(program, rig, None, np.arange(1, 3, dtype=np.uint64), 9.0)
            assert found is not None
            layout = Line(rig).layout
            for k in (0, 1):
                alone = play(program, rig, None, 9.0, seed=k + 1)
                self.assertEqual(alone.ended, "finished", f"{name} {k}")
                self.assertEqual(alone.pose.tobytes(), found.poses[k].tobytes(), f"{name} {k}")
                mode = alone.rows[:, layout.at("following", "mode")]
                begins = np.flatnonzero(mode == BEGINS)
                self.assertEqual(len(begins), text.count("follow"))
                heading, along = rig.following.heading, rig.following.along_track
                for n in begins.tolist():  # its first tick knows no error before it
                    row = {
                        c.name: v for c, v in zip(layout.columns, alone.rows[n], strict=True) if c.stage == "following"
                    }
                    turned = alone.rows[n, layout.at("odometry", "turn")]
                    grows = (
                        -turned if name == "coot" else row["heading_error"] * rig.dt_s
                    )  # a loop on the rate, or on the error
                    self.assertAlmostEqual(row["heading_i"], heading.i * grows, places=12)
                    self.assertAlmostEqual(row["along_track_i"], along.i * row["along_track"] * rig.dt_s, places=12)
                    self.assertEqual(row["along_track_d"], 0.0)

    def test_a_plan_that_waits_at_its_end_is_not_over_before_its_robot_is_back(self) -> None:
        rig = ideal("bittern")
        waits = rig.model_copy(update={"following": rig.following.model_copy(update={"when_lost": "wait"})})
        plan, plans = plan_of(BEND, waits), Plans(Line(waits))
        state = Form(PlanState).of(**plans.begun(plan, False, inf)).plain
        state.t = plan.time_s + 1.0
        motion = Form(ProfileState).of(active=1, planned=1).plain

        def over(away: float, seconds: float) -> bool:
            ticks = range(round(seconds / rig.dt_s))
            args = plans.settings.plain, plans.table.plain, motion, state, [away, 0.0, 0.0]
            return sum(feel_plan(*args) for _ in ticks) > 0

        self.assertFalse(over(1.1 * rig.following.lost_m, 4.0))
        self.assertFalse(over(0.0, 0.08))
        self.assertTrue(over(0.0, 0.1))

    def test_lost_it_stops_and_says_so_or_waits_and_drives_back(self) -> None:
        for name in ("plover", "bittern"):
            rig = ideal(name)
            program = program_following(BEND, rig, "bend")
            x, y, heading = plan_of(BEND, rig).poses[0]
            away = np.array([[x - 0.5, y + 0.5, heading]])
            _, _, minds = followed(rig, program, away)
            self.assertEqual(minds[0].ended, "stopped")
            self.assertRegex(minds[0].why, r"line 1: is 0\.\d\d m from its path, and lost")
            waits = rig.model_copy(update={"following": rig.following.model_copy(update={"when_lost": "wait"})})
            line, rows, minds = followed(waits, program, away, 2500)
            self.assertEqual(minds[0].ended, "finished", name)
            waited = rows[:, 0, line.layout.at("following", "waits")]
            self.assertGreater(waited.sum(), 10)
            self.assertEqual(waited[-1], 0)
            # it waits until the robot has found back to a quarter of what makes it lost
            errors = rows[:, 0][:, [line.layout.at("following", n) for n in ("along_track", "cross_track")]]
            away = np.hypot(*errors[np.flatnonzero(waited)].T)
            self.assertLessEqual(away[-1], rig.following.lost_m / 4)
            self.assertGreater(away[:-1].min(), rig.following.lost_m / 4)
            off, _ = off_at_the_end(line, rows, plan_of(BEND, rig).poses[-1])
            self.assertLess(off[0], 0.03, name)

    def test_a_wheel_that_slips_all_the_way_is_lost_or_late_but_never_silent(self) -> None:
        rig = read_rig(demo_path("plover"))
        assert rig.body is not None
        body = rig.body.model_copy(update={"grip": 0.03})
        found = tried(BEND, rig.model_copy(update={"body": body}), None)
        self.assertTrue(found.play.why or any("slipped" in s.marks for s in found.play.steps))

    def test_after_it_the_gyro_holds_where_it_ends(self) -> None:
        rig = ideal("bittern")
        program = program_following(BEND, rig, "bend")
        (one,) = program.codes[MAIN]
        checked = check_text("wait 1 s\n", rig)
        assert checked.program is not None
        both = replace(program, codes={MAIN: (one, *checked.program.codes[MAIN])})
        made = play(both, rig, None, 12.0)
        layout = Line(rig).layout
        wanted = plan_of(BEND, rig).poses[-1][2]
        held = made.rows[made.rows[:, layout.at("routine", "line")] > 0][-1]
        self.assertAlmostEqual(held[layout.at("truth", "heading")], wanted, delta=0.005)
        self.assertAlmostEqual(held[layout.at("correction", "target")], held[layout.at("sensed", "gyro")], delta=0.01)


class LanguageTest(unittest.TestCase):
    NEXT_TO = shared_next_to(DEMO / "routines" / "any.txt")

    def said(self, text: str, name: str = "plover") -> str:
        return "\n".join(m.what for m in check_text(text, read_rig(demo_path(name)), shared=self.NEXT_TO).mistakes)

    def test_paths_by_name(self) -> None:
        self.assertEqual(self.said("start at 0.5 m, 0.5 m\nfollow round\n"), "")
        self.assertEqual(self.said("start at 0.5 m, 0.5 m\nfollow round from here at 0.3 m/s\n"), "")
        self.assertIn('there is no path "rownd", nearest is "round"', self.said("follow rownd\n"))
        self.assertIn(
            "known by name only in a workspace", str(check_text("follow round\n", ideal("plover")).wrong[0].what)
        )

    def test_a_path_for_another_floor(self) -> None:
        self.assertIn(
            'is for the floor "greenhouse", and this is "attic"',
            self.said('on floor "attic"\nstart at 0.5 m, 0.5 m\nfollow round\n'),
        )
        self.assertNotIn("is for the floor", self.said("on floor greenhouse\nstart at 0.5 m, 0.5 m\nfollow round\n"))

    def test_what_is_wrong(self) -> None:
        self.assertIn("leave out the gyro", self.said("follow round without gyro\n"))
        self.assertIn("a length", self.said("follow 1 s, 2 m\n"))
        self.assertIn(
            "drives the robot, and so does line",
            self.said("at once until all end\n    follow round\n    drive ahead 1 m\n"),
        )
        self.assertIn("cannot be slowed", self.said("at once ending together\n    follow round\n    wait 2 s\n"))

    def test_through_places_slower_and_until_something_is_true(self) -> None:
        rig = ideal("plover")
        text = "start at 0.5 m, 0.5 m facing 0 deg\nfollow 1.2 m, 0.6 m then 1.6 m, 1.2 m at 0.2 m/s{}\n"
        ends = []
        for more in ("", " at most 0.5 m", " at most 1.5 s"):
            checked = check_text(text.format(more), rig)
            assert checked.program is not None, checked.wrong
            made = play(checked.program, rig, None, 20.0)
            self.assertEqual(made.ended, "finished")
            ends.append(made.pose)
            layout = Line(rig).layout
            self.assertLess(made.rows[:, layout.at("following", "plan_forward")].max(), 0.201)
        np.testing.assert_allclose(ends[0][:2], [1.6, 1.2], atol=0.01)
        self.assertAlmostEqual(hypot(*(ends[1][:2] - (0.5, 0.5))), 0.5, delta=0.04)
        self.assertLess(ends[2][0], 0.8)

    def test_a_path_that_lost_its_sense_is_said_with_its_place(self) -> None:
        class Neighbours:
            def __call__(self, name: str) -> str | None:
                return None

            def path(self, name: str) -> tuple[DrivenPath | None, str]:
                return path((0.5, 0.5), (1.5, 0.5), (0.5, 0.5001)), ""

        found = check_text("start at 0.5 m, 0.5 m\nfollow there\n", ideal("plover"), shared=Neighbours())
        self.assertIn('the path "there" turns on the spot near 1.50 m, 0.50 m', found.wrong[0].what)
        self.assertEqual(found.wrong[0].line, 2)

    def test_files_that_cannot_be_read(self) -> None:
        self.assertIn("no path", shared_next_to(Path("/nowhere/routines/x.txt")).path("../secret")[1])
