"""The view Driver in the pilot: sources, channels, patches, messages, calibrating by doing; and on a real terminal."""

import math
import unittest
from collections.abc import Mapping

from pivrex.diagnosis.calibration import Calibration, changes_of
from pivrex.rig import read_rig
from pivrex.rig.offered import offered
from pivrex.session.messages import ChooseSource, MeasureAgain, MoveSticks
from pivrex.session.report import Travel, Watch
from pivrex.tui.overlays.entry import ValueEntry
from pivrex.tui.views.driver import DriverView
from tests.local import LocalClient
from tests.support import PLAIN, TempCase, Terminal, slow, wait_for
from tests.test_app import AppCase, in_loop
from tests.test_lost_sources import Sender, free_port, radio
from tests.test_session import FakePad


def travel(**channels: tuple[float, float, float]) -> Mapping[str, Travel]:
    """Lowest, highest, tremble; the newest reading is the one further from rest."""
    return {
        c: Travel(low, high, (low + high) / 2, noise, 100, high if abs(high) > abs(low) else low)
        for c, (low, high, noise) in channels.items()
    }


class CalibrationTest(unittest.TestCase):
    def stick(self) -> Calibration:
        """A stick that rests at 0.1 with a tremble of 0.02, goes from -0.7 to 0.9, and is the wrong way round."""
        one = Calibration(("left_x", "left_y"))
        still = travel(left_x=(-0.01, 0.01, 0.02), left_y=(0.09, 0.11, 0.02))
        one.take(still)
        self.assertIn("left_x has moved by 0.02 of 2.00", one.problem(still))
        one.take(travel(left_x=(-1.0, 1.0, 0.5), left_y=(-0.7, 0.9, 0.5)))
        one.take(travel(left_x=(-0.03, -0.01, 0.02), left_y=(0.11, 0.13, 0.02)))  # let go again, it rests elsewhere
        return one

    def test_what_a_stick_did_becomes_its_axis(self) -> None:
        one = self.stick()
        self.assertEqual(one.phase.channel if one.phase else "", "left_x")
        wrong = travel(left_x=(-0.02, 0.01, 0.0), left_y=(0.1, 0.9, 0.1))
        self.assertEqual(one.problem(wrong), "left_y moves; move left_x instead")
        one.take(travel(left_x=(-0.02, 0.8, 0.0), left_y=(0.1, 0.12, 0.0)))
        one.take(travel(left_x=(-0.02, 0.0, 0.0), left_y=(0.1, 0.88, 0.0)))  # pushed away it rises: reversed
        across, along = one.proposals()
        self.assertEqual((across.reversed, along.reversed), (False, True))
        # the ends taken in by 1 % of 1.6; the centre over both rests with half the tremble next to it
        self.assertEqual((along.minimum, along.maximum, along.centre), (-0.684, 0.884, (0.08, 0.14)))
        # the shorter half is 0.884 - 0.14 = 0.744; 0.02/0.744 = 2.7 %, three times that is 8.06 %, so 9 %
        self.assertEqual(along.dead_band, 0.09)
        self.assertIn("three times that is 9%", along.reason)

    def test_it_writes_where_the_source_belongs(self) -> None:
        one = self.stick()
        one.take(travel(left_x=(-0.02, 0.8, 0.0), left_y=(0.1, 0.12, 0.0)))
        one.take(travel(left_x=(-0.02, 0.0, 0.0), left_y=(0.1, 0.88, 0.0)))
        from tests.support import DEMO

        plover, coot = (read_rig(DEMO / "rigs" / f"{n}.toml") for n in ("plover", "coot"))
        keys = dict(changes_of(plover, "pad 1", one.proposals()))
        self.assertEqual(keys["axes.left_y.reversed"], True)
        self.assertEqual(keys["shaping.forward.dead_band"], "9 %")
        self.assertEqual(keys["shaping.turn.dead_band"], "7 %")  # 0.02 of 0.95: 2.1 %, three times 6.3 %
        of_its_own = dict(changes_of(coot, "bare stick", one.proposals()))
        self.assertIn("sources.bare stick.axes.left_y.centre", of_its_own)

    def test_triggers_and_too_few_readings(self) -> None:
        one = Calibration(("left_trigger",))
        self.assertEqual([p.kind for p in one.phases], ["press"])
        self.assertEqual(one.problem({}), "not enough readings yet")
        one.take(travel(left_trigger=(0.0, 0.98, 0.1)))
        (trigger,) = one.proposals()
        self.assertEqual((trigger.minimum, trigger.maximum, trigger.centre), (0.0196, 0.9702, None))

    def test_travel_is_followed(self) -> None:
        watch = Watch(FakePad())
        for i in range(100):
            watch.add({"left_x": 0.5 if i < 50 else 0.1 + 0.01 * (i % 2), "left_y": math.nan})
        found = watch.travel()
        self.assertEqual(list(found), ["left_x"])
        self.assertEqual((found["left_x"].low, found["left_x"].high, found["left_x"].readings), (0.1, 0.5, 100))
        self.assertAlmostEqual(found["left_x"].noise, 0.01)


class DriverViewTest(AppCase):
    def setUp(self) -> None:
        super().setUp()
        self.port = free_port()
        (self.home / "rigs" / "plain.toml").write_text(
            PLAIN.replace("dead_band = 0", 'dead_band = "5 %"') + radio(self.port)
        )
        settings = self.home / "workspace.toml"
        settings.write_text(settings.read_text().replace('rig = "plover"', 'rig = "plain"'))

    @property
    def view(self) -> DriverView:
        view = self.app.view
        assert isinstance(view, DriverView)
        return view

    def with_pad(self) -> FakePad:
        client = self.model.client
        assert isinstance(client, LocalClient) and client.session is not None
        pad = FakePad()
        client.session.pads_are({"pad 1": pad})
        self.model.ask(ChooseSource("pad 1"))
        return pad

    @in_loop
    async def test_what_is_to_be_seen(self) -> None:
        async with self.running(view="driver"):
            await self.frames(4)
            shown = self.text("driver")
            for part in ("sources", "keys", "drives", "radio", "! lost", "nothing was heard yet", "channels of keys", "left_y",
                         "forward (law arcade)", "turn (law arcade)", "refused"):  # fmt: skip
                self.assertIn(part, shown)
            await self.press("right", "right")
            self.assertIn("channels of radio", self.text("driver"))
            self.assertIn("left_y of keys", self.text("driver"))
            await self.press("down")
            self.assertEqual(self.view.patches.chosen().function, "turn")
            await self.press("1", "2", "1")
            self.assertEqual(self.app.view.view_name, "driver")

    @in_loop
    async def test_messages_good_and_bad(self) -> None:
        async with self.running(view="driver"):
            sender = Sender(self.port)
            self.addCleanup(sender.socket.close)
            await self.press("right", "right")
            for _ in range(6):
                sender.say(left_y=-0.25)
                await self.frames(1)
            sender.say(sender="blue")
            sender.socket.send(b"$PIVDRV,green,1*00\r\n")
            await self.frames(3)
            shown = self.text("driver")
            for part in ("$PIVDRV,green,", "1 foreign", "1 damaged", "from 'blue', but paired is 'green'", "check 00"):
                self.assertIn(part, shown)

    @in_loop
    async def test_a_function_is_patched_by_moving_the_control(self) -> None:
        async with self.running(view="driver"):
            pad = self.with_pad()
            await self.frames(4)
            await self.press("down", "v")
            self.assertIn("now its control", self.text("driver"))
            self.assertIn("waits for the control of turn", self.model.status.held)
            pad.has = frozenset({"left_x", "left_y", "right_x"})
            await self.frames(3)
            pad.at["right_x"] = 0.8
            await self.frames(4)
            self.assertEqual(self.model.rig.law.turn, "right_x")
            self.assertIn("turn is done by right_x", self.text("foot"))
            # with the other stick it is the law split arcade
            self.assertEqual(self.model.rig.law.kind, "split arcade")
            # a channel that another function reads is exchanged
            pad.at["right_x"] = 0.0
            await self.press("up", "v")
            await self.frames(3)
            pad.at["right_x"] = 0.8
            await self.frames(4)
            self.assertEqual((self.model.rig.law.forward, self.model.rig.law.turn), ("right_x", "left_y"))
            await self.press("u")
            await self.press("u")
            self.assertEqual(self.model.rig.law.turn, "")

    @in_loop
    async def test_a_binding_is_added_changed_and_removed(self) -> None:
        async with self.running(view="driver"):
            pad = self.with_pad()
            pad.has = frozenset({*pad.has, "button_3"})
            pad.at["button_3"] = 0.0
            await self.frames(4)
            await self.press("plus", "enter", *"sloow", "enter")  # the first of the list is to type it
            self.assertIsInstance(self.app.screen, ValueEntry)  # an action that is none stays to be mended
            await self.press("escape", "plus", "enter", *"record", "enter")
            self.assertIn("STOPPED", self.text("head"))
            await self.frames(3)
            pad.at["button_3"] = 1.0
            await self.frames(4)
            (binding,) = self.model.rig.bindings
            self.assertEqual((binding.channel, binding.does, binding.source), ("button_3", "record", "chosen"))
            self.assertEqual(self.view.patches.chosen().function, "record")  # the new one is selected
            await self.press("equals_sign", "enter")
            self.assertIn("slow 40 %", self.over())
            rows = [text for text, _ in offered(self.model.rig)]
            await self.press("home", *["down"] * (1 + rows.index("stop")), "enter")
            self.assertEqual(self.model.rig.bindings[0].does, "stop")
            await self.press("backspace")
            self.assertEqual(self.model.rig.bindings, ())
            await self.press("u")
            self.assertEqual(self.model.rig.bindings[0].does, "stop")

    @in_loop
    async def test_a_patch_may_be_left(self) -> None:
        async with self.running(view="driver"):
            await self.frames(4)
            await self.press("v", "backspace")
            self.assertNotIn("now its control", self.text("driver"))
            self.assertEqual(self.model.rig.law.forward, "")

    @in_loop
    async def test_calibrating_by_doing(self) -> None:
        async with self.running(view="driver"):
            pad = self.with_pad()
            pad.at = {"left_x": 0.0, "left_y": 0.0}
            await self.frames(4)
            await self.press("c")
            self.assertIn("calibrating pad 1", self.text("driver"))
            self.assertTrue(any(isinstance(r, MeasureAgain) for r in self.asked))
            pad.at.update(left_x=0.01, left_y=0.02)
            await self.frames(60)
            self.assertIn("step 2 of 5", self.text("driver"))
            for i in range(40):
                pad.at.update(left_x=0.95 * math.cos(i / 4), left_y=0.9 * math.sin(i / 4))
                await self.frames(1)
            self.assertIn("that will do: Enter goes on", self.text("driver"))
            await self.press("enter")
            pad.at.update(left_x=-0.01, left_y=0.02)
            await self.frames(60)
            for channel, value in (("left_x", 0.9), ("left_y", 0.85)):  # away reads more: it is the wrong way round
                pad.at.update({"left_x": 0.0, "left_y": 0.0, channel: value})
                await self.frames(20)
                await self.press("enter")
            shown = self.text("driver")
            for part in ("before → after", "Enter writes the rig", "reversed"):
                self.assertIn(part, shown)
            await self.press("enter")
            axis = self.model.rig.axes["left_y"]
            self.assertTrue(axis.reversed)
            self.assertAlmostEqual(axis.maximum, 0.88, delta=0.02)
            self.assertNotIn("calibrating pad 1", self.text("driver"))
            await self.press("u")
            self.assertNotIn("left_y", self.model.rig.axes)

    @in_loop
    async def test_calibrating_needs_a_stick(self) -> None:
        async with self.running(view="driver"):
            await self.frames(4)
            await self.press("c")
            self.assertIn("select a gamepad or a remote", self.text("foot"))

    @in_loop
    async def test_a_control_is_waited_for_however_late_the_system_says_that_another_view_was_hidden(self) -> None:
        async with self.running(view="driver"):
            await self.frames(4)
            self.app.show_view("field")
            self.app.show_view("driver")
            self.app.act("patch")
            await self.frames(4)
            self.assertIn("now its control", self.text("driver"))
            await self.press("5", "1")
            self.assertNotIn("now its control", self.text("driver"))

    @in_loop
    async def test_recording_is_started_and_ended_by_a_key(self) -> None:
        async with self.running(view="driver"):
            await self.frames(4)
            await self.press("p")
            self.assertIn("● recording", self.text("head"))
            self.model.ask(MoveSticks({"left_y": -0.4}))
            await self.frames(6)
            self.assertNotIn("● recording", self.text("head"))  # another source drives: what was kept is whole
            self.assertEqual(len(list((self.home / "inputs").glob("keys-*.csv"))), 1)

    @in_loop
    async def test_every_robot_at_every_size(self) -> None:
        for size in ((160, 47), (100, 30), (80, 24)):
            async with self.running(view="driver", size=size):
                for name in ("coot", "bittern", "plain"):
                    self.assertTrue(self.model.open_rig(self.home / "rigs" / f"{name}.toml"))
                    for _ in range(2):
                        await self.press("right", "down")
                    self.assertIn("what they do", self.text("driver"))
                await self.press("question_mark")
                self.assertIn("driver: what you see", self.over())


@slow
class TerminalTest(TempCase):
    def test_on_a_real_terminal(self) -> None:
        terminal = Terminal("demo", str(self.folder / "w"), "--rig", "coot", "--view", "driver", size=(80, 24))
        self.addCleanup(terminal.close)
        terminal.wait("what they do", 30)
        terminal.keys("Right")
        terminal.wait("channels of green radio")
        terminal.keys("1", "5", "1", "v")
        terminal.wait("now its")
        terminal.keys("Escape")
        wait_for(lambda: "now its" not in terminal.screen(), 20, terminal.screen)
        terminal.keys("x")
        terminal.wait("saved exports/coot-patches", 30)
        terminal.keys("C-q")
        terminal.wait("ENDED with 0")
