"""The match clock in the session: who may move when, and the routine that drives while the robot is alone."""

import unittest

import numpy as np
from numpy.typing import NDArray

from pivrex.rig import open_folder, read_rig
from pivrex.rig.field import Match as Periods
from pivrex.routine import Program, check_text, play
from pivrex.routine.files import program_of
from pivrex.session import messages as ask
from pivrex.session.core import Session
from pivrex.session.moving import State
from pivrex.session.periods import Period
from tests.chassis import demo_path, ideal
from tests.support import DEMO

Floats = NDArray[np.float64]
FIELD = open_folder(DEMO).settings.field
SHORT = Periods.model_validate({"alone": "2 s", "between": "0.5 s", "driven": "1 s"})
STRAIGHT = "start at 1 m, 0.5 m\nswitch pump on\ndrive ahead 3 m at 0.5 m/s"


class Played(Session):
    """A session that is ticked by the test, at its own rate."""

    now = 0.0

    def ticks(self, count: int) -> Floats:
        rows = []
        for _ in range(count):
            rows.append(self.tick(self.now))
            self.now += self.dt_s
        return np.array(rows)

    def ask(self, *requests: ask.Request) -> None:
        for request in requests:
            self.handle(request, self.now)

    @property
    def period(self) -> Period:
        return self.status.match.period


class MatchTest(unittest.TestCase):
    def setUp(self) -> None:
        self.rig = ideal("plover")
        self.session = self.open(self.rig)
        self.session.ask(ask.ChooseRoutine(self.program(STRAIGHT)))
        self.session.ticks(2)

    def open(self, rig: object, periods: Periods = SHORT) -> Played:
        return Played(ask.SetUp(rig, FIELD, periods=periods))  # type: ignore[arg-type]

    def program(self, text: str) -> Program:
        checked = check_text(text, self.rig)
        assert checked.program is not None, checked.wrong
        return checked.program

    def speed(self, rows: Floats) -> Floats:
        return np.abs(rows[:, self.session.line.speeds]).max(axis=1)

    def x(self) -> float:
        return float(self.session.robots.simulator.state.pose[0])

    def test_ready_shows_what_is_chosen_and_nothing_moves(self) -> None:
        s = self.session
        s.ask(ask.MakeReady(), ask.KeyDown("w"), ask.KeyDown("w"))
        rows = s.ticks(30)
        self.assertEqual(s.period, Period.READY)
        self.assertEqual(
            (s.status.match.routine, s.status.match.start, s.status.match.left_s), ("routine", (1.0, 0.5, 0.0), 2.0)
        )
        np.testing.assert_array_equal(s.robots.simulator.state.pose, (1.0, 0.5, 0.0))
        self.assertEqual(self.speed(rows).max(), 0)
        self.assertTrue((rows[:, s.line.layout.at("clock", "stopped")] == 1).all())
        self.assertGreater(rows[-1, 0], rows[0, 0])  # the clock and sensing go on

    def test_alone_then_at_rest_then_the_driver(self) -> None:
        s = self.session
        s.ask(ask.StartPeriod("alone"))
        rows = s.ticks(120)
        self.assertGreater(self.speed(rows[60:]).min(), 0.4)
        # two seconds are 120 ticks; with the last one the routine is cut off wherever it stands
        self.assertEqual((s.period, "cut off" in s.status.note), (Period.BETWEEN, True))
        s.ask(ask.KeyDown("w"))
        between = s.ticks(30)
        self.assertEqual(self.speed(between).max(), 0)
        self.assertEqual(between[0, s.line.layout.at("attachments", "pump_target")], 0)
        self.assertEqual((s.period, s.status.match.waits), (Period.DRIVEN, "let go of the sticks first"))
        # a stick that was pushed before counts for nothing until it is let go
        self.assertEqual(self.speed(s.ticks(10)).max(), 0)
        s.ask(ask.LetGo())
        s.ticks(2)
        self.assertEqual(s.status.match.waits, "")
        s.ask(ask.KeyDown("w"), ask.KeyDown("w"))
        self.assertGreater(self.speed(s.ticks(20)).max(), 0.05)
        over = s.ticks(60)
        self.assertEqual(s.period, Period.OVER)
        self.assertEqual(self.speed(over[-20:]).max(), 0)
        s.ask(ask.LeaveMatch())
        self.assertEqual((s.period, self.speed(s.ticks(20)).max()), (Period.OFF, 0))  # the key is still held
        s.ask(ask.LetGo())
        s.ticks(2)
        s.ask(ask.KeyDown("w"), ask.KeyDown("w"))
        self.assertGreater(self.speed(s.ticks(20)).max(), 0.05)

    def test_a_period_alone(self) -> None:
        s = self.session
        s.ask(ask.StartPeriod("alone", only=True))
        s.ticks(121)
        self.assertEqual(s.period, Period.OVER)
        s.ask(ask.StartPeriod("driven", only=True))
        s.ticks(61)
        self.assertEqual(s.period, Period.OVER)

    def test_left_and_entered_again_at_will(self) -> None:
        s = self.session
        for _ in range(2):
            s.ask(ask.StartPeriod("alone"))
            s.ticks(60)
            self.assertGreater(self.x(), 1.1)
            s.ask(ask.LeaveMatch())
            self.assertEqual((s.period, self.speed(s.ticks(2)).max()), (Period.OFF, 0))

    def test_a_stop_ends_the_routine_and_go_on_does_not_bring_it_back(self) -> None:
        s = self.session
        s.ask(ask.StartPeriod("alone"))
        s.ticks(40)
        s.ask(ask.Stop("Esc"))
        self.assertEqual((s.status.match.ended, s.status.match.why), ("stopped", "Esc"))
        self.assertEqual(self.speed(s.ticks(5)).max(), 0)
        s.ask(ask.GoOn())
        self.assertEqual(s.status.moving.state, State.SAFE)
        self.assertEqual(self.speed(s.ticks(20)).max(), 0)
        self.assertEqual(s.period, Period.ALONE)  # the clock goes on
        s.ticks(60)
        self.assertEqual(s.period, Period.BETWEEN)

    def test_what_cannot_start(self) -> None:
        s = self.session
        s.ask(ask.Stop("Esc"), ask.StartPeriod("alone"))
        self.assertEqual((s.period, "g lets it move" in s.status.note), (Period.OFF, True))
        s.ask(ask.GoOn(), ask.ChooseRoutine(None), ask.StartPeriod("alone"))
        self.assertEqual((s.period, s.status.note), (Period.OFF, "no routine is chosen"))

    def test_a_rig_that_is_changed_ends_it(self) -> None:
        s = self.session
        s.ask(ask.StartPeriod("alone"))
        s.ticks(30)
        s.ask(ask.UseRig(self.rig.model_copy(update={"lag_s": 0.05}), 1))
        s.ticks(2)
        self.assertIn("rig was changed", s.status.match.why)
        self.assertEqual(self.speed(s.ticks(5)).max(), 0)

    def test_another_routine_ends_it_and_stands_at_its_own_start(self) -> None:
        s = self.session
        s.ask(ask.StartPeriod("alone"))
        s.ticks(30)
        s.ask(ask.ChooseRoutine(self.program("start at 2 m, 0.5 m\nwait 1 s")))
        self.assertEqual((s.period, self.x()), (Period.READY, 2.0))

    def test_it_ends_by_itself_and_the_robot_stands(self) -> None:
        s = self.session
        s.ask(
            ask.ChooseRoutine(self.program("start at 1 m, 0.5 m\nswitch pump on\ndrive ahead 10 cm")),
            ask.StartPeriod("alone"),
        )
        rows = s.ticks(115)
        self.assertEqual((s.status.match.ended, s.period), ("finished", Period.ALONE))
        self.assertEqual(self.speed(rows[-5:]).max(), 0)
        self.assertEqual(rows[-1, s.line.layout.at("attachments", "pump_target")], 0)
        self.assertAlmostEqual(self.x(), 1.1, delta=0.002)

    def test_sticks_stand_aside_while_it_drives(self) -> None:
        s = self.session
        s.ask(ask.StartPeriod("alone"))
        quiet = s.ticks(60)
        s.ask(ask.StartPeriod("alone"), ask.KeyDown("a"), ask.KeyDown("s"))
        loud = s.ticks(60)
        at = s.line.layout.stage("outputs")
        np.testing.assert_array_equal(quiet[:, at], loud[:, at])

    def test_paused_and_step_by_step(self) -> None:
        s = self.session
        s.ask(ask.ChooseRoutine(self.program("start at 1 m, 0.5 m\ndrive ahead 20 cm\nwait 0.1 s\ndrive back 10 cm")))
        s.ask(ask.StartPeriod("alone"))
        s.ticks(20)
        s.ask(ask.PauseRoutine(True))
        left = s.status.match.left_s
        s.ticks(200)
        self.assertEqual((s.status.match.left_s, s.period, s.status.match.paused), (left, Period.ALONE, True))
        self.assertEqual(self.speed(s.ticks(2)).max(), 0)
        s.ask(ask.StepRoutine())
        s.ticks(90)
        self.assertTrue(s.status.match.paused)
        self.assertAlmostEqual(self.x(), 1.2, delta=0.01)
        s.ask(ask.StepRoutine())
        s.ticks(20)
        self.assertTrue(s.status.match.paused)
        self.assertAlmostEqual(self.x(), 1.2, delta=0.01)
        self.assertLess(s.status.match.left_s, left)

    def test_a_recorded_driver_makes_room(self) -> None:
        s = Played(ask.SetUp(self.rig, FIELD, (DEMO / "inputs" / "watering.csv",), "recording watering", periods=SHORT))
        s.ask(ask.ChooseRoutine(self.program(STRAIGHT)), ask.StartPeriod("alone"))
        s.ticks(60)
        self.assertEqual(s.status.source, "keys")
        self.assertGreater(float(s.robots.simulator.state.pose[0]), 1.1)


class SameTicksTest(unittest.TestCase):
    def test_played_in_a_session_or_without_one(self) -> None:
        for name, count in (("plover", 500), ("avocet", 250)):
            rig = read_rig(demo_path(name))
            program = program_of(DEMO / "routines" / f"greenhouse-{name}.txt", rig)
            s = Played(ask.SetUp(rig, FIELD, periods=Periods(), seed=5))
            s.ticks(7)  # whatever was before
            s.ask(ask.ChooseRoutine(program), ask.StartPeriod("alone"))
            mine = s.ticks(count)
            theirs = play(program, rig, FIELD, count / 60, 5).rows[:count]
            for k, column in enumerate(s.line.layout.columns):
                np.testing.assert_array_equal(mine[:, k], theirs[:, k], f"{name} {column.title}")


class RealRobotTest(unittest.TestCase):
    def test_it_does_not_start_before_somebody_goes_live(self) -> None:
        from pivrex.rig.transports import Link

        link = Link.model_validate({"wire": {"kind": "udp", "host": "127.0.0.1", "port": 5999}})
        rig = ideal("plover")
        s = Played(ask.SetUp(rig, FIELD, periods=SHORT, link=link))
        self.addCleanup(s.close, 0.0)
        checked = check_text(STRAIGHT, rig)
        s.ask(ask.ChooseRoutine(checked.program), ask.StartPeriod("alone"))
        self.assertIn("go live first", s.status.note)
        rows = s.ticks(20)
        self.assertFalse(s.robots.drives_a_real_one)
        self.assertEqual(np.abs(rows[:, s.line.speeds]).max(), 0)
