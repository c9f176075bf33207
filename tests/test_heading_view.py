"""The view Heading and what the session does for it, in Textual's pilot and in a session of this process."""

import math
import multiprocessing
import unittest
from typing import Any
from unittest.mock import patch

import numpy as np

from pivrex.rig import read_rig
from pivrex.rig.rig import Rig
from pivrex.routine.motion import Motion
from pivrex.scene.marks import ROLES
from pivrex.session.core import Session
from pivrex.session.messages import BeginMotion, ChooseSource, GoOn, Hold, KeyDown, Push, SetUp, Stop, UseRig, ZeroGyro
from pivrex.session.robots import RESTARTS
from pivrex.tui.draw.picture import Picture
from pivrex.tui.jobs.gain_help import ToFind, gain_job, propose
from pivrex.tui.jobs.responses import Question, Responses, response_job
from pivrex.tui.panels.loop_tuning import LoopTuning
from pivrex.tui.panels.step_response import draw_figures, draw_responses
from pivrex.tui.views.heading import HeadingView
from pivrex.tuning import LOOPS, Experiment, Gains
from tests.chassis import demo_path
from tests.local import ALONE, answered
from tests.support import slow, wait_for
from tests.test_app import AppCase, in_loop

HEADING = LOOPS["heading"]


def usual(rig: Rig, kind: str) -> Experiment:
    return HEADING.experiment(rig, kind)


class HeadingCase(AppCase):
    def setUp(self) -> None:
        super().setUp()
        self.enterContext(answered("pivrex-answers"))

    @property
    def view(self) -> HeadingView:
        view = self.app.views["heading"]
        assert isinstance(view, HeadingView)
        return view


class StaleTest(HeadingCase):
    @in_loop
    async def test_figures_of_old_gains_are_greyed_while_new_ones_are_computed(self) -> None:
        async with self.running(view="heading"):
            tuning = self.app.view.panels[0]
            assert isinstance(tuning, LoopTuning)
            await self.until(lambda: tuning.responses is not None and not tuning.stale)
            shown = {}
            for stale in (False, True):
                with patch.object(LoopTuning, "stale", stale):
                    figures, curves = Picture(100, 6), Picture(80, 20)
                    draw_figures(tuning, figures)
                    draw_responses(tuning, curves)
                row = figures.row(3)
                at = row.index("%") if "%" in row else row.rindex("s")
                shown[stale] = ROLES[figures.roles[3, at]], "computing the new ones" in "".join(curves.rows())
            self.assertEqual(shown, {False: ("rest", False), True: ("dim", True)})
            self.model.nudge("correction.p", 1)
            await self.frames(1)
            self.assertTrue(tuning.stale or tuning.responses is not None)
            await self.until(lambda: not tuning.stale)


class HeadingViewTest(HeadingCase):
    @in_loop
    async def test_answers_figures_and_parts_are_there(self) -> None:
        async with self.running(view="heading"):
            await self.frames(3)
            text = self.text("heading")
            for word in ("target jumps 30 deg, realistic physics", "━ now", "rise", "overshoot", "settling", "steady-", "state error", "effort",
                         "terms of the output", "unwrapped", "gyro error"):  # fmt: skip
                self.assertIn(word, text)
            assert self.view.tuning.responses is not None
            rise = self.view.tuning.responses.figures.rise_s[0]
            self.assertIn(f"{rise:.2f} s", text)

    @in_loop
    async def test_three_gain_sets_lie_over_each_other(self) -> None:
        async with self.running(view="heading"):
            await self.press("y")
            self.assertEqual([n for n, _ in self.view.tuning.sets()], ["now", "P alone"])
            await self.press("full_stop")
            self.view.select("correction.p")
            await self.press("shift+right")
            self.assertEqual([n for n, _ in self.view.tuning.sets()], ["now", "before", "P alone", "kept"])
            self.assertEqual(self.view.tuning.names, ("now", "before", "P alone", "kept"))
            now, before, alone, kept = (g for _, g in self.view.tuning.sets())
            self.assertEqual(now, Gains(11.25, 20.0, 0.2))
            self.assertEqual(before, Gains(10.0, 20.0, 0.2))
            self.assertEqual(alone, Gains(11.25, 0.0, 0.0))
            self.assertEqual(kept, before)
            assert self.view.tuning.responses is not None
            self.assertEqual(self.view.tuning.responses.value.shape[0], 4)
            self.assertIn('p = "11.25 /s"', self.rig_file.read_text())
            # a gain that is nudged is told at once, whatever its answer is
            self.model.nudge("correction.p", 1)
            self.app.draw()
            self.assertRegex(self.text("heading"), r"(?m)^ now +11\.5 /s")
            await self.press("u")
            self.assertEqual(HEADING.gains(self.model.rig), Gains(11.25, 20.0, 0.2))
            await self.press("u")
            self.assertEqual(HEADING.gains(self.model.rig), Gains(10.0, 20.0, 0.2))

    @in_loop
    async def test_p_alone_leaves_an_error_behind_and_the_whole_loop_does_not(self) -> None:
        async with self.running(view="heading"):
            await self.press("y")
            assert self.view.tuning.responses is not None
            now, alone = (abs(math.degrees(v)) for v in self.view.tuning.responses.figures.final)
            self.assertLess(now, 1.0)
            text = self.text("heading")
            self.assertIn("P alone", text)
            self.assertGreater(
                float(self.view.tuning.responses.figures.overshoot[0]),
                float(self.view.tuning.responses.figures.overshoot[1]),
            )
            self.assertLess(alone, 3.0)

    @in_loop
    async def test_experiments_are_walked(self) -> None:
        async with self.running(view="heading"):
            for title in ("push", "turn 90 deg", "straight on", "target jumps"):
                await self.press("v")
                self.assertIn(title, self.text("heading"))
                self.assertIsNotNone(self.view.tuning.responses)

    @in_loop
    async def test_one_key_holds_the_heading(self) -> None:
        async with self.running(view="heading"):
            await self.frames(4)
            self.assertIn("none held", self.text("heading"))
            await self.press("Y")
            await self.frames(3)
            self.assertIn(Hold(True), self.asked)
            self.assertTrue(self.model.status.holding)
            self.assertNotIn("none held", self.text("heading"))
            before = self.model.value("truth", "heading")
            await self.press("f")
            self.assertTrue(any(isinstance(r, Push) for r in self.asked))
            turned = abs(self.model.value("truth", "heading") - before)
            self.assertGreater(math.degrees(turned), 0.5)
            await self.frames(30)
            self.assertLess(math.degrees(abs(self.model.value("truth", "heading") - before)), 1.5)
            await self.press("Y")
            self.assertFalse(self.model.status.holding)

    @in_loop
    async def test_carried_out_it_moves_and_says_when_it_is_done(self) -> None:
        async with self.running(view="heading"):
            before = self.model.value("truth", "heading")
            await self.press("v", "v", "c")
            self.assertEqual(self.model.status.experiment, "turn 90 deg")
            await self.frames(90)
            self.assertEqual(self.model.status.experiment, "")
            self.assertAlmostEqual(math.degrees(self.model.value("truth", "heading") - before), 90, delta=1.2)
            self.assertIn("done after", self.model.message)

    @in_loop
    async def test_a_rig_without_a_correction_gets_one_by_the_key(self) -> None:
        text = self.rig_file.read_text()
        start = text.index("[correction]")
        self.rig_file.write_text(text[:start] + text[text.index("[control]") :])
        async with self.running(view="heading"):
            self.assertIn("no table [correction]", self.text("heading"))
            self.assertIn("no correction", self.text("line"))
            await self.press("Y")
            self.assertIn("[correction]", self.rig_file.read_text())
            await self.frames(4)
            self.assertTrue(self.model.status.holding)
            self.assertIn("target jumps", self.text("heading"))

    @in_loop
    async def test_the_body_is_changed_by_a_key_and_the_robot_stays(self) -> None:
        async with self.running(view="field"):
            await self.press("w")
            await self.frames(20)
            await self.press("space")
            await self.frames(20)
            x, y = (self.model.value("truth", n) for n in "xy")
            await self.press("B")
            await self.frames(3)
            self.assertFalse(self.model.rig.has_realistic_physics)
            self.assertIn('kind = "ideal"', self.rig_file.read_text())
            self.assertAlmostEqual(self.model.value("truth", "x"), x, delta=0.01)
            self.assertAlmostEqual(self.model.value("truth", "y"), y, delta=0.01)
            self.assertNotIn("battery", self.text("field"))
            await self.press("B")
            await self.frames(3)
            self.assertIn("7.4 V", self.text("field"))

    @in_loop
    async def test_dragging_the_robot_pushes_it(self) -> None:
        async with self.running(view="field"):
            await self.frames(3)
            field: Any = self.app.views["field"]
            x, y = field._map._placing.cell(self.model.value("truth", "x"), self.model.value("truth", "y"))
            field.point(x, y, "press")
            field.point(x + 20, y, "drag")
            field.point(x + 20, y, "release")
            push = next(r for r in self.asked if isinstance(r, Push))
            # it stands with heading 90 deg: what is right on the field is its right
            self.assertLess(push.left_Ns, -0.1)
            self.assertAlmostEqual(push.forward_Ns, 0.0, delta=0.02)

    @in_loop
    async def test_every_robot_at_every_size(self) -> None:
        for size in ((160, 47), (100, 30), (80, 24), (60, 16)):
            async with self.running(view="heading", size=size):
                for name in ("plover", "avocet"):
                    self.model.open_rig(self.home / "rigs" / f"{name}.toml")
                    await self.frames(3)
                    text = self.text("heading")
                    self.assertIn("now", text)
                    self.assertFalse([r for r in text.split("\n") if len(r) > size[0]])

    @in_loop
    async def test_unstable_gains_are_called_so(self) -> None:
        async with self.running(view="heading"):
            self.model.open_rig(self.home / "rigs" / "avocet.toml")  # its wheels have to turn first
            self.model.edit("wild", lambda d: d["correction"].update({"p": "100 /s", "i": 0, "d": 0}))
            await self.frames(3)
            self.assertIn("unstable", self.text("heading"))


class WorkTest(unittest.TestCase):
    @slow
    def test_the_process_beside_answers_the_last_question(self) -> None:
        rig = read_rig(demo_path("plover"))
        work = response_job()
        self.addCleanup(work.close)
        for p in (4.0, 5.0, 6.0):
            work.ask(Question(rig, "heading", usual(rig, "step"), (Gains(p, 0.0, 0.0),)))
        found: list[Any] = []

        def last() -> bool:
            found.extend(work.poll())
            return bool(found) and found[-1][0].sets[0].p == 6.0

        wait_for(last, 40)
        self.assertLessEqual(len(found), 2)  # 5 was overtaken
        here = Responses()(found[-1][0], ALONE)
        assert here is not None
        np.testing.assert_array_equal(here.value, found[-1][1].value)

    @slow
    def test_a_helper_beside_says_what_one_here_says_and_can_be_lost_or_given_up(self) -> None:
        asked = ToFind("relay", read_rig(demo_path("plover")), "heading", "calm")
        helper = gain_job()
        self.addCleanup(helper.stop)
        helper.ask(asked)
        said: list[Any] = []
        wait_for(lambda: said.extend(helper.poll()) or said, 40)  # type: ignore[func-returns-value]
        self.assertEqual(said, [(asked, propose(asked, ALONE))])
        self.assertIsNotNone(said[0][1].gains)
        helper.ask(asked._replace(kind="search", candidates=5000))
        (process,) = [p for p in multiprocessing.active_children() if p.name == "pivrex-helper"]
        wait_for(lambda: helper.poll() or helper.said, 40)
        self.assertIn("candidates", helper.said)
        self.assertEqual(helper.answer, said[0][1])  # the last one stays meanwhile
        process.kill()
        wait_for(lambda: helper.poll() or helper.problem, 40)
        self.assertIn("without an answer", helper.problem)
        self.assertFalse(helper.goes_on)
        helper.ask(asked)
        helper.stop()
        self.assertEqual([p for p in multiprocessing.active_children() if p.name == "pivrex-helper"], [])
        self.assertEqual(helper.poll(), [])


class SessionTest(unittest.TestCase):
    def session(self, rig: Rig) -> Session:
        self.now = 0.0
        session = Session(SetUp(rig, None))
        self.ticks(session, 3)
        return session

    def ticks(self, session: Session, count: int) -> np.ndarray:
        for _ in range(count):
            self.now += session.dt_s
            row = session.tick(self.now)
        return row

    def test_a_move_ends_when_the_driver_takes_over_and_at_a_stop(self) -> None:
        rig = read_rig(demo_path("plover"))
        session = self.session(rig)
        move = HEADING.move(session.line, usual(rig, "straight"))
        session.handle(BeginMotion(move, "straight on"), self.now)
        self.ticks(session, 20)
        self.assertEqual(session.status.experiment, "straight on")
        session.handle(KeyDown("a"), self.now)
        self.ticks(session, 3)
        self.assertEqual(session.status.experiment, "")
        self.assertIn("the driver took over", session.status.note)
        session.handle(KeyDown("space"), self.now)
        session.inputs.rest_hands()
        self.ticks(session, 30)
        session.handle(BeginMotion(Motion(forward=1.0, most=0.3), "on"), self.now)
        self.ticks(session, 10)
        session.handle(Stop("Esc"), self.now)
        row = self.ticks(session, 2)
        self.assertEqual(session.status.experiment, "")
        np.testing.assert_array_equal(session.line.commands(row), session.line.resting())
        session.handle(BeginMotion(Motion(forward=1.0, most=0.3), "on"), self.now)
        self.assertEqual(session.status.experiment, "")  # not while it is stopped
        session.handle(GoOn(), self.now)
        self.ticks(session, 2)
        self.assertEqual(session.status.experiment, "")

    def test_a_motion_goes_on_with_other_gains_and_ends_with_another_robot(self) -> None:
        rig = read_rig(demo_path("plover"))
        session = self.session(rig)
        session.handle(BeginMotion(HEADING.move(session.line, usual(rig, "straight")), "straight on"), self.now)
        self.ticks(session, 20)
        correction = rig.correction
        assert correction is not None
        other = rig.model_copy(update={"correction": correction.model_copy(update={"p_per_s": 3.0})})
        session.handle(UseRig(other, 1), self.now)
        self.until_serial(session, 1)
        row = self.ticks(session, 10)
        self.assertEqual(session.status.experiment, "straight on")
        self.assertGreater(row[session.line.layout.at("law", "forward")], 0.1)
        session.handle(UseRig(read_rig(demo_path("avocet")), 2), self.now)
        self.until_serial(session, 2)
        self.ticks(session, 2)
        self.assertEqual(session.status.experiment, "")

    def until_serial(self, session: Session, serial: int) -> None:
        wait_for(lambda: self.ticks(session, 1) is not None and session.status.serial == serial, 20)

    def test_a_gyro_upside_down_stops_and_names_the_key(self) -> None:
        rig = read_rig(demo_path("plover"))
        session = Session(SetUp(rig, None, fault="gyro"))
        self.now = 0.0
        self.ticks(session, 3)
        session.handle(BeginMotion(HEADING.move(session.line, usual(rig, "step")), "step"), self.now)
        self.ticks(session, 40)
        self.assertIn("gyro.reversed", session.status.held)

    def test_a_battery_that_sags_too_far_stops_and_says_so(self) -> None:
        rig = read_rig(demo_path("plover"))
        rig = rig.model_copy(update={"battery": rig.battery.model_copy(update={"resistance_ohm": 4.0, "charge": 0.02})})
        session = self.session(rig)
        session.handle(KeyDown("w"), self.now)
        session.handle(KeyDown("w"), self.now)
        self.ticks(session, 40)
        self.assertEqual(session.status.held, RESTARTS)

    def test_with_an_empty_battery_every_number_stays_finite(self) -> None:
        rig = read_rig(demo_path("plover"))
        rig = rig.model_copy(update={"battery": rig.battery.model_copy(update={"charge": 0.0, "min_V": 0.0})})
        session = self.session(rig)
        session.handle(KeyDown("w"), self.now)
        row = self.ticks(session, 60)
        self.assertTrue(np.isfinite(row[session.line.layout.stage("truth")]).all())

    def test_pushes_reach_only_a_real_stand_in(self) -> None:
        rig = read_rig(demo_path("plover"))
        session = self.session(rig)
        session.handle(Push(0.0, 0.2, 0.0), self.now)
        self.assertGreater(float(np.hypot(*session.robots.simulator.state.velocity[:2])), 0.1)
        session.handle(UseRig(rig.with_body("ideal"), 1), self.now)
        self.ticks(session, 2)
        session.handle(Push(0.0, 0.2, 0.0), self.now)
        self.assertIn("cannot be pushed", session.status.note)

    def test_zeroing_is_said(self) -> None:
        session = self.session(read_rig(demo_path("plover")))
        session.handle(ZeroGyro(), self.now)
        self.ticks(session, 140)
        self.assertIn("are subtracted", session.status.note)

    def test_a_change_of_body_keeps_where_it_is(self) -> None:
        rig = read_rig(demo_path("plover"))
        session = self.session(rig)
        session.handle(ChooseSource("keys"), self.now)
        session.handle(KeyDown("w"), self.now)
        before = self.ticks(session, 60)
        session.inputs.rest_hands()
        session.handle(UseRig(rig.with_body("ideal"), 1), self.now)
        after = self.ticks(session, 2)
        x = session.line.layout.at("truth", "x")
        self.assertAlmostEqual(float(before[x]), float(after[x]), delta=0.05)
        self.assertGreater(float(after[x]), 0.05)


if __name__ == "__main__":
    unittest.main()
