"""Where the parts of a routine meet each other, the line and the session: what fails if something is kept, shared or forgotten."""

import math
import unittest
from collections.abc import Callable
from dataclasses import replace
from math import radians

import numpy as np

from pivrex.kernels import Form
from pivrex.line import Line
from pivrex.line.following import HERE
from pivrex.line.zeroing import DONE, MEASURES
from pivrex.rig import Rig, read_rig
from pivrex.routine import Program, Runner, play
from pivrex.routine.kinds import NUMBER
from pivrex.routine.midway import before_line
from pivrex.routine.motion import end, turn_of
from pivrex.routine.playing import Player
from pivrex.routine.profile import ProfileState
from pivrex.routine.program import MAIN, FollowStep
from pivrex.routine.rehearsal import rehearse
from pivrex.routine.tick_requests import Mover
from pivrex.routine.trial import program_following
from pivrex.session import messages as ask
from pivrex.session.periods import Period
from tests.chassis import demo_path, ideal
from tests.support import ROOT
from tests.test_match import FIELD, SHORT, Played
from tests.test_path import path
from tests.test_routine_running import played, program

HERON = ROOT / "tests" / "rigs" / "heron.toml"


class PlayedOnTest(unittest.TestCase):
    """What is played on from a step is as from the start, whatever has gone on since: nothing is shared with the one before."""

    def goes_on(
        self,
        rig: Rig,
        text: str,
        changes: list[tuple[str, str]],
        also: Callable[[Program], Program] = lambda p: p,
        limit_s: float = 5.0,
    ) -> None:
        player = Player(rig, FIELD)
        player.play(also(program(text, rig)), limit_s)
        for old, new in changes:
            self.assertIn(old, text)
            made = also(program(text.replace(old, new), rig))
            went_on, fresh = player.play(made, limit_s), play(made, rig, FIELD, limit_s)
            assert went_on is not None
            self.assertEqual(went_on.rows.tobytes(), fresh.rows.tobytes(), new)

    def test_attachments_that_are_moved_over_a_time(self) -> None:
        text = (
            "start at 1 m, 1 m\nmove boom to 60 deg over 2 s\nwait 0.3 s\nswitch pump on\nwait 0.3 s\nmove boom to 10 deg\n"
            "wait 0.4 s\nswitch pump off\nhome boom at -30 % as 5 deg at most 1 s\nwait 0.2 s\n"
        )
        self.goes_on(
            ideal("coot"), text,
            [("wait 0.2 s", "wait 0.3 s"), ("wait 0.4 s", "wait 0.5 s"), ("start at", "# more\nstart at"), ("to 10 deg", "to 20 deg"),
             ("wait 0.3 s\nswitch pump on", "wait 0.5 s\nswitch pump on")],
        )  # fmt: skip

    def test_places_that_are_said_and_marks(self) -> None:
        text = (
            "start at 0.5 m, 1 m facing 180 deg\nwait 0.2 s\nat once until all end\n    drive ahead 10 cm\n    do say\nwait 0.2 s\n"
            "own move say\n    here is 0.6 m, 1.1 m\n    wait 0.1 s\n    here is 0.7 m, 0.9 m\n    mark by wall behind\n    wait 0.1 s\n"
        )
        self.goes_on(
            ideal("plover"), text,
            [("0.1 s\n    here", "0.2 s\n    here"), ("0.7 m, 0.9 m", "0.7 m, 0.8 m"), ("0.6 m, 1.1 m", "0.6 m, 1.2 m"),
             ("end\n    drive ahead 10 cm", "end\n    drive ahead 12 cm")],
        )  # fmt: skip

    def test_paths_one_of_which_waits(self) -> None:
        rig = read_rig(demo_path("coot"))
        following = rig.following.model_copy(update={"lost_m": 0.012, "when_lost": "wait"})
        rig = rig.model_copy(update={"following": following})
        text = (
            "start at 0.5 m, 0.5 m facing 0 deg\nat once until all end\n"
            "    follow 1.0 m, 0.6 m then 1.4 m, 1.0 m until time > 1.5 s\n    do arms\n"
            "follow 1.2 m, 1.3 m\nwait 0.2 s\nown move arms\n"
            + "".join(f"    wait 0.2{i} s\n    move boom to {i + 10} deg\n" for i in range(7))
        )

        def second_without(made: Program) -> Program:
            """The second path is followed by its plan alone."""
            codes = {}
            for name, code in made.codes.items():
                codes[name] = tuple(
                    replace(s, feeds=(True, False)) if isinstance(s, FollowStep) and s.where.line == 5 else s
                    for s in code
                )
            return replace(made, codes=codes)

        made = play(second_without(program(text, rig)), rig, FIELD, 2.0)
        waits = made.rows[:, Line(rig).layout.at("following", "waits")]
        self.assertTrue(waits.any() and not waits.all())
        self.goes_on(rig, text, [(f"wait 0.2{i} s", f"wait 0.2{i}5 s") for i in (4, 2)], second_without, 3.5)


class ForgottenTest(unittest.TestCase):
    def test_what_goes_on_at_once_is_stopped_with_the_first_that_ends(self) -> None:
        """An attachment that runs for a time stops with its block; one that was begun before it runs on."""
        rig = read_rig(HERON)
        made = played(
            "run right_roller at 30 %\nat once until one ends\n    run left_roller at 50 % for 5 s\n    wait 0.5 s\nwait 0.5 s\n",
            rig,
        )
        layout = Line(rig).layout
        left, right = (made.rows[:, layout.at("attachments", f"{n}_roller_target")] for n in ("left", "right"))
        n = round(0.5 / made.dt_s)
        self.assertAlmostEqual(float(left[n - 3]), 0.5)
        self.assertEqual(set(left[n + 3 : 2 * n - 3].tolist()), {0.0})
        self.assertAlmostEqual(float(right[2 * n - 4]), 0.3)

    def test_a_path_from_here_ends_at_no_heading_of_the_field(self) -> None:
        """It lies along x in its file; driven from here by a robot that looks along y it ends along y, and goes on so."""
        rig = ideal("plover")
        made = program_following(path((0.0, 0.0), (0.6, 0.0)), rig, "ahead", start=(1.0, 1.0, radians(90)))
        (follow,) = made.codes[MAIN]
        assert isinstance(follow, FollowStep)
        rest = program("wait 1 s\ndrive ahead 20 cm", rig).codes[MAIN]
        made = replace(made, codes={MAIN: (replace(follow, here=True), *rest)})
        done = play(made, rig, None, 20.0)
        self.assertEqual(done.ended, "finished")
        np.testing.assert_allclose(done.pose, (1.0, 1.8, radians(90)), atol=0.02)
        self.assertIn(HERE, done.rows[:, Line(rig).layout.at("following", "mode")])

    def test_a_turn_that_is_cut_off_keeps_the_heading_at_which_it_was_cut(self) -> None:
        rig = read_rig(demo_path("plover"))
        made = played("turn left 170 deg at 150 deg/s until time > 0.8 s\nwait 1 s\n", rig)
        layout = Line(rig).layout
        aim = made.rows[:, layout.at("aim", "heading")]
        gyro = made.rows[:, layout.at("heading", "heading")]
        n = next(s.end for s in made.steps)
        self.assertAlmostEqual(float(aim[n + 1]), float(gyro[n]), places=9)

    def test_a_gyro_is_zeroed_once(self) -> None:
        rig = read_rig(demo_path("plover"))
        for made in (play(program(ZERO, rig), rig, FIELD, 9.0),):
            status = made.rows[:, Line(rig).layout.at("zeroing", "status")]
            begun = np.flatnonzero((status[1:] == MEASURES) & (status[:-1] != MEASURES))
            self.assertEqual((made.ended, len(begun), float(status[-1])), ("finished", 1, DONE))
            self.assertLess(int((status == MEASURES).sum()) * made.dt_s, 2.5)
        found = rehearse(program(ZERO, rig), rig, FIELD, np.arange(1, 4, dtype=np.uint64), 9.0)
        assert found is not None
        alone = play(program(ZERO, rig), rig, FIELD, 9.0, seed=2)
        self.assertEqual(alone.pose.tobytes(), found.poses[1].tobytes())

    def test_who_says_where_it_is_is_sure_of_it(self) -> None:
        rig = read_rig(demo_path("plover"))
        made = played("start at 0.5 m, 1 m\ndrive ahead 80 cm\nhere is 2 m, 1 m facing 10 deg\nwait 0.2 s\n", rig)
        xx = made.rows[:, Line(rig).layout.at("odometry", "xx")]
        n = made.steps[0].end
        self.assertGreater(float(xx[n - 1]), 1e-6)
        self.assertLess(float(xx[n + 1]), 1e-7)  # all but what that tick itself adds


class MotionJointTest(unittest.TestCase):
    def test_who_says_how_it_looks_drives_by_that_at_once(self) -> None:
        made = played(
            "start at 1 m, 1 m\nhere is 1 m, 1 m facing 90 deg\ndrive along 0 deg for 30 cm\n", ideal("bittern")
        )
        layout = Line(ideal("bittern")).layout
        twist = made.rows[:, [layout.at("law", n) for n in ("forward", "left")]]
        first = twist[np.flatnonzero(np.hypot(*twist.T) > 0)[0]]
        self.assertLess(first[1], 0.0)  # the field's x is on its right
        self.assertAlmostEqual(float(first[0]), 0.0, places=9)

    def test_a_plan_takes_nothing_over_from_a_turn_that_was_cut_off(self) -> None:
        text = "start at 0.5 m, 0.5 m\nturn left 90 deg until heading > 10 deg\nfollow 0.8 m, 0.6 m then 1.3 m, 1.0 m\n"
        made = played(text, ideal("bittern"))
        layout = Line(ideal("bittern")).layout
        follows = made.rows[:, layout.at("following", "mode")] > 0
        self.assertGreater(follows.sum(), 60)
        self.assertEqual(np.abs(made.rows[follows, layout.at("aim", "rate")]).max(), 0.0)

    def test_a_plan_that_came_to_its_end_holds_the_heading_that_it_planned(self) -> None:
        for whole, course in ((True, 0.7), (False, math.nan)):
            motion = Form(ProfileState).of(active=1, planned=1, course=0.1)
            end(motion, 0.2, True, whole, 0.7)
            np.testing.assert_array_equal(motion.get("course"), course)
            self.assertEqual([motion.get(n) for n in ("active", "planned", "keep")], [0, 0, 1])

    def test_driving_without_the_gyro_a_robot_rests_however_it_looks(self) -> None:
        rig = ideal("plover")
        runner = Runner(program("wait 1 s", rig), Line(rig), np.zeros(3))
        for on in (False, True):
            runner.set_default("gyro", 0.0, NUMBER, on)
            self.assertEqual(runner.state.get("gyro"), float(on))

    def test_a_motion_alone_leaves_attachments_and_buttons_what_they_are(self) -> None:
        line = Line(ideal("plover"))
        entry = Mover(line, turn_of(line, 1.0)).tick(np.zeros(line.form.size))
        self.assertEqual((entry.requests, entry.routine, entry.plan), (None, None, None))
        self.assertIsNotNone(entry.twist)


ZERO = "start at 1 m, 1 m\nzero gyro\nwait 1 s\ndrive ahead 30 cm\n"


class SessionTest(unittest.TestCase):
    def opened(self, name: str, text: str, alone_s: float = 12.0) -> Played:
        self.rig = read_rig(demo_path(name))
        session = Played(ask.SetUp(self.rig, FIELD, periods=SHORT.model_copy(update={"alone_s": alone_s})))
        self.addCleanup(session.close, 0.0)
        self.program = program(text, self.rig)
        session.ask(ask.ChooseRoutine(self.program))
        return session

    def test_it_goes_on_with_what_it_would_believe_and_stands_where_it_would_stand(self) -> None:
        s = self.opened("coot", "start at 0.5 m, 0.5 m facing 20 deg\ndrive ahead 1.2 m\nturn left 90 deg\nwait 1 s\n")
        midway, why = before_line(self.program, self.rig, FIELD, 4)
        assert midway is not None, why
        self.assertGreater(np.hypot(*np.subtract(midway.pose, midway.memory.estimated)[:2]), 0.003)  # a real body
        s.ask(ask.MakeReady(midway))
        row = s.ticks(2)[-1]
        layout = s.line.layout
        np.testing.assert_allclose(
            row[layout.these("odometry", ("x", "y", "heading"))], midway.memory.estimated, atol=1e-6
        )
        np.testing.assert_allclose(row[layout.these("truth", ("x", "y", "heading"))], midway.pose, atol=1e-6)

    def test_a_step_that_is_paused_meanwhile_pauses_no_more_by_itself(self) -> None:
        s = self.opened("plover", "wait 0.4 s\nwait 0.4 s\nwait 0.4 s\nwait 5 s\n")
        s.ask(ask.StartPeriod("alone"))
        s.ticks(5)
        s.ask(ask.StepRoutine())
        s.ticks(3)
        s.ask(ask.PauseRoutine(True))
        s.ticks(3)
        self.assertTrue(s.status.match.paused)
        s.ask(ask.PauseRoutine(False))
        s.ticks(60)
        self.assertFalse(s.status.match.paused)
        self.assertEqual(s.period, Period.ALONE)

    def test_another_routine_begins_as_a_whole(self) -> None:
        """However the one before was begun: midway, left and started again."""
        text = "start at 0.5 m, 0.5 m\ndrive ahead 50 cm\nwait 2 s\n"
        s = self.opened("plover", text)
        midway, why = before_line(self.program, self.rig, FIELD, 3)
        assert midway is not None, why
        for between in ((), (ask.LeaveMatch(),)):
            s.ask(ask.ChooseRoutine(self.program), ask.MakeReady(midway), *between)
            s.ask(
                ask.ChooseRoutine(program(text.replace("50 cm", "40 cm"), self.rig)),
                ask.StartPeriod("alone", only=True),
            )
            s.ticks(60)
            self.assertEqual((s.status.match.from_line, s.status.match.from_s), (0, 0.0))
            self.assertAlmostEqual(s.status.match.left_s, 12.0, delta=0.1)
            self.assertGreater(float(s.robots.simulator.state.pose[0]), 0.55)
            s.ask(ask.LeaveMatch())

    def test_a_rig_that_is_changed_while_a_routine_drives_ends_it_for_good(self) -> None:
        s = self.opened("plover", "start at 0.5 m, 0.5 m\ndrive ahead 2 m\n")
        s.ask(ask.StartPeriod("alone"))
        s.ticks(40)
        s.ask(ask.UseRig(self.rig.model_copy(update={"rate_hz": 50.0}), 1, "plover", ""))
        rows = s.ticks(120)
        self.assertEqual((s.period, s.status.match.ended), (Period.ALONE, "stopped"))
        self.assertIn("the rig was changed", s.status.match.why)
        self.assertTrue((rows[5:, s.line.speeds] == 0).all())


if __name__ == "__main__":
    unittest.main()
