"""A routine begun before one of its lines: the same memory, the same pose, and from there the same way."""

import unittest
from math import degrees, radians

import numpy as np

from pivrex.line import Line
from pivrex.rig import Rig
from pivrex.routine import Program, Runner, check_text, play
from pivrex.routine.midway import Midway, before_line, line_after
from pivrex.session import messages as ask
from pivrex.session.periods import Period
from tests.chassis import ideal
from tests.support import often
from tests.test_match import FIELD, SHORT, Played

TEXT = """\
for plover
start at 0.5 m, 0.5 m facing 90 deg
let way be 30 cm
# what comes next is asked for three times
repeat 3 times
    drive ahead way at 0.5 m/s
    let way be way + 10 cm
    turn right 20 deg
at once until all end
    wait 0.2 s
    switch pump on
own move retreat with length 10 cm
    drive back length
do retreat with length way
"""


def read(text: str, rig: Rig) -> Program:
    checked = check_text(text, rig)
    assert checked.program is not None, checked.wrong
    return checked.program


class MidwayTest(unittest.TestCase):
    def setUp(self) -> None:
        self.rig = ideal("plover")
        self.program = read(TEXT, self.rig)

    def before(self, line: int, limit_s: float = 20.0) -> Midway:
        found, why = before_line(self.program, self.rig, FIELD, line, limit_s)
        assert found is not None, why
        return found

    def test_pose_and_memory_before_a_line(self) -> None:
        found = self.before(6)  # at its first time
        np.testing.assert_allclose(found.pose, (0.5, 0.5, radians(90)), atol=1e-9)
        self.assertEqual(found.memory.interpreter.threads[0].frames[0].names, {"way": 0.3})
        found = self.before(8)
        np.testing.assert_allclose(found.pose[:2], (0.5, 0.8), atol=2e-3)
        self.assertAlmostEqual(found.memory.interpreter.threads[0].frames[0].names["way"], 0.4)
        found = self.before(13)  # within the own move: after 30 + 40 + 50 cm and 60 degrees
        self.assertAlmostEqual(degrees(found.pose[2]), 30, delta=0.3)
        self.assertAlmostEqual(found.memory.interpreter.threads[0].frames[0].names["way"], 0.6)
        self.assertEqual([f.code for f in found.memory.interpreter.threads[0].frames][-1], "retreat")

    def test_the_robot_stands_where_the_whole_has_it_before_that_tick(self) -> None:
        whole = play(self.program, self.rig, FIELD, 20.0)
        for line in (8, 9, 13):
            found = self.before(line)
            np.testing.assert_array_equal(found.pose, whole.poses[found.n])
        self.assertGreater(np.hypot(*np.diff(whole.poses[found.n - 2 : found.n + 2, :2], axis=0).T).max(), 0.0)

    def test_what_is_switched_off_stays_so(self) -> None:
        made = read("start at 1 m, 1 m\nswitch front off\nwait 0.2 s\nwait 1 s\n", self.rig)
        found, why = before_line(made, self.rig, FIELD, 4)
        assert found is not None, why
        line = Line(self.rig)
        runner = Runner.resumed(made, line, found.memory, simulated=True)
        row = np.zeros(line.form.size)
        row[line.layout.at("sensed", "front")] = 1.0
        runner.feel(row)
        self.assertTrue(runner.is_in("front", "silent"))

    def test_what_cannot_be_begun_at(self) -> None:
        for line, limit, says in (
            (10, 20, "done at once with others"), (13, 1, "not come to within 1 s"),
        ):  # fmt: skip
            found, why = before_line(self.program, self.rig, FIELD, line, limit)
            self.assertIsNone(found)
            self.assertIn(says, why)
        program = read("wait 0.1 s\nif 1 above 2\n    wait 1 s\nwait 0.2 s", self.rig)
        found, why = before_line(program, self.rig, FIELD, 3)
        self.assertEqual((found, why), (None, "line 3 is not come to: the routine has finished before"))

    def test_the_next_line_on_which_something_is_done(self) -> None:
        self.assertEqual([line_after(self.program, n) for n in (1, 3, 4, 6, 14, 15)], [3, 3, 5, 6, 14, 0])


class SessionTest(unittest.TestCase):
    def setUp(self) -> None:
        self.rig = ideal("plover")
        self.session = Played(ask.SetUp(self.rig, FIELD, periods=SHORT.model_copy(update={"alone_s": 12.0})))
        self.program = read(TEXT, self.rig)
        self.session.ask(ask.ChooseRoutine(self.program))
        self.whole = play(self.program, self.rig, FIELD, 12.0)

    def midway(self, line: int) -> Midway:
        found, why = before_line(self.program, self.rig, FIELD, line)
        assert found is not None, why
        return found

    def test_from_each_line_it_ends_where_the_whole_does(self) -> None:
        s = self.session
        for line in (3, 8, 14, 6, 9, 13)[: often(6, 3)]:
            midway = self.midway(line)
            s.ask(ask.MakeReady(midway))
            s.ticks(3)
            match = s.status.match
            self.assertEqual((match.period, match.from_line, match.start), (Period.READY, line, midway.pose))
            np.testing.assert_allclose(s.robots.simulator.state.pose, midway.pose, atol=1e-12)
            s.ask(ask.StartPeriod("alone", only=True))
            s.ticks(2)
            # what has been is gone from the clock
            self.assertAlmostEqual(s.status.match.left_s, 12.0 - midway.n / 60)
            self.assertAlmostEqual(s.status.match.from_s, midway.n / 60)
            s.ticks(720)
            self.assertEqual((s.status.match.ended, s.period), ("finished", Period.OVER), line)
            pose = s.robots.simulator.state.pose
            np.testing.assert_allclose(pose[:2], self.whole.pose[:2], atol=0.004, err_msg=f"line {line}")
            self.assertAlmostEqual(float(pose[2]), float(self.whole.pose[2]), delta=radians(0.4))

    def test_the_clock_cuts_it_off_when_it_would_have_cut_off_the_whole(self) -> None:
        s = self.session
        midway = self.midway(13)
        s.ask(ask.MakeReady(midway), ask.StartPeriod("alone", only=True))
        left = (12 * 60) - midway.n
        s.ticks(left - 1)
        self.assertEqual(s.period, Period.ALONE)
        s.ticks(1)
        self.assertEqual(s.period, Period.OVER)

    def test_a_text_that_was_changed_meanwhile(self) -> None:
        s = self.session
        midway = self.midway(8)
        s.ask(ask.ChooseRoutine(read(TEXT + "wait 1 s\n", self.rig)), ask.MakeReady(midway))
        self.assertEqual((s.period, "changed meanwhile" in s.status.note), (Period.OFF, True))

    def test_what_was_said_before_that_line_is_not_said_again(self) -> None:
        program = read('say "before"\nwait 0.1 s\nshow 1 m\nwait 0.2 s\nsay "after"\n', self.rig)
        found, why = before_line(program, self.rig, FIELD, 4)
        assert found is not None, why
        self.session.ask(ask.ChooseRoutine(program), ask.MakeReady(found), ask.StartPeriod("alone", only=True))
        self.session.ticks(30)
        notes = self.session.status.notes_since(0)
        self.assertIn("after", notes)
        self.assertNotIn("before", notes)
        self.assertEqual(self.session.status.shown, ())

    def test_ready_again_is_the_whole_routine(self) -> None:
        s = self.session
        s.ask(ask.MakeReady(self.midway(8)), ask.MakeReady(), ask.StartPeriod("alone", only=True))
        s.ticks(2)
        self.assertEqual((s.status.match.from_line, s.status.match.from_s), (0, 0.0))
        self.assertAlmostEqual(float(s.robots.simulator.state.pose[1]), 0.5, delta=1e-3)


class AttachmentsTest(unittest.TestCase):
    def test_they_are_where_they_would_be_and_stay_there(self) -> None:
        coot = ideal("coot")
        text = "start at 1 m, 1 m\nmove boom to 60 deg and wait\nswitch pump on\nwait 0.5 s\nwait 1 s"
        s = Played(ask.SetUp(coot, FIELD, periods=SHORT))
        self.addCleanup(s.close, 0.0)
        program = read(text, coot)
        s.ask(ask.ChooseRoutine(program))
        midway, why = before_line(program, coot, FIELD, 5)
        assert midway is not None, why
        s.ask(ask.MakeReady(midway), ask.StartPeriod("alone", only=True))
        rows = s.ticks(25)
        layout = s.line.layout
        at = np.degrees(rows[5:, layout.at("attachments", "boom_angle")])
        self.assertLess(np.abs(at - 60).max(), 2.5)
        self.assertEqual(set(rows[2:, layout.at("attachments", "pump_target")].tolist()), {1.0})

    def test_one_that_was_homed_is_still_called_so(self) -> None:
        coot = ideal("coot")
        boom = coot.attachments["boom"].model_copy(update={"begins_rad": radians(50)})
        left = coot.model_copy(update={"attachments": {**coot.attachments, "boom": boom}})
        program = read(
            "start at 1 m, 1 m\nhome boom at -50 % as -5 deg\nwait 0.5 s\nmove boom to 60 deg and wait", left
        )
        midway, why = before_line(program, left, FIELD, 3)
        assert midway is not None, why
        s = Played(ask.SetUp(left, FIELD, periods=SHORT.model_copy(update={"alone_s": 9.0})))
        self.addCleanup(s.close, 0.0)
        s.ask(ask.ChooseRoutine(program), ask.MakeReady(midway), ask.StartPeriod("alone", only=True))
        rows = s.ticks(25)
        self.assertAlmostEqual(np.degrees(rows[-1, s.line.layout.at("attachments", "boom_angle")]), -5, delta=0.5)
        s.ticks(100)
        self.assertAlmostEqual(degrees(float(s.robots.simulator.state.attached[0])), 60, delta=2.5)
