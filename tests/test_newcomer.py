"""What a new user stumbled over, row by row: each test names the row that it holds."""

import itertools
import os
import re
import shutil
import subprocess
import sys
import unittest
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import ClassVar
from unittest import mock

from pivrex.diagnosis.calibration import Calibration
from pivrex.errors import RigError, UnitError
from pivrex.line import Line
from pivrex.line.why import sentence
from pivrex.path.files import read_path
from pivrex.rig import Rig, read_rig, read_text
from pivrex.rig.actions import read_action
from pivrex.rig.base import counted
from pivrex.rig.nudge import setting_at
from pivrex.rig.offered import offered, times_of
from pivrex.rig.workspace import open_folder
from pivrex.routine import check_text
from pivrex.routine.playing import play
from pivrex.runs.facts import Facts
from pivrex.runs.learning.routine import LASTS_S
from pivrex.runs.through import keep_rows
from pivrex.session.messages import ChooseSource, GoOn, KeyDown, Stop
from pivrex.tui.keys import keys_of_buttons
from pivrex.tui.overlays.entry import ValueEntry
from pivrex.tui.overlays.sheet import Sheet
from pivrex.tui.own_editor import editor_words
from pivrex.tui.panels.why_ladder import WhyLadder
from tests.support import DEMO, PLAIN, PLOVER, ROOT, TempCase, slow, wait_for
from tests.test_app import AppCase, in_loop
from tests.test_cli import Ran
from tests.test_driver_view import travel
from tests.test_lost_sources import BoxCase
from tests.test_terminal import TerminalCase

COOT = (DEMO / "rigs" / "coot.toml").read_text("utf-8")


class LettersTest(BoxCase):
    """A1: with a letter that stops, F, S, F and g left a letter that nothing could free."""

    BOX = BoxCase.BOX.replace('S = "brake"', 'S = "stop"')

    def test_a_stop_ends_what_letters_began(self) -> None:
        self.send(b"F")
        self.assertEqual(self.forward(), 0.4)
        self.send(b"S")
        self.assertTrue(self.session.status.held)
        self.send(b"F")  # it comes while the robot is stopped
        self.ask(GoOn())
        self.assertIn("let go first: letter F", self.session.status.note)
        self.send(b"S")  # and a letter frees it again
        self.ask(GoOn())
        self.assertEqual((self.session.status.held, self.forward()), ("", 0.0))
        self.send(b"F")
        self.assertEqual(self.forward(), 0.4)

    def test_so_does_a_stop_by_hand(self) -> None:
        self.send(b"F")
        self.ask(Stop("Esc"))
        self.tick(2)
        self.ask(GoOn())
        self.assertEqual((self.session.status.held, self.forward()), ("", 0.0))

    def test_a_source_that_acts_beside_the_driver_is_no_error(self) -> None:
        """A11: `y` on letters looked like a mistake."""
        self.ask(ChooseSource("box"))
        self.assertIn("need not be chosen", self.session.status.note)
        info = next(s for s in self.session.status.sources if s.name == "box")
        self.assertEqual((info.lacks, info.can.joins), ((), True))


class LatchedTest(AppCase):
    @in_loop
    async def test_what_lets_go_of_latched_keys_is_said(self) -> None:
        """A11: "let go first" where Space lets go."""
        async with self.running():
            await self.press("w", "escape")
            await self.press("w")
            await self.press("g")
            self.assertIn("press Space first: forward reads", self.model.message)
            await self.press("space")
            await self.press("g")
            self.assertEqual(self.model.status.held, "")

    @in_loop
    async def test_which_key_stopped_it(self) -> None:
        """A17: Ctrl+C said Esc."""
        async with self.running():
            await self.press("ctrl+c")
            self.assertEqual(self.model.status.held, "Ctrl+C")


class CalibrationTest(unittest.TestCase):
    """A5: "let go" took a stick that was held, and blamed another axis afterwards."""

    def test_a_stick_that_is_held_is_named(self) -> None:
        one = Calibration(("left_x", "left_y"))
        held = travel(left_x=(-0.01, 0.01, 0.02), left_y=(0.96, 0.98, 0.02))
        self.assertIn("left_y reads +0.97: let go of it", one.problem(held))
        moving = travel(left_x=(-0.2, 0.2, 0.4), left_y=(0.0, 0.01, 0.01))
        self.assertIn("left_x is moving", one.problem(moving))
        one.take(travel(left_x=(-0.01, 0.01, 0.02), left_y=(0.0, 0.02, 0.02)))
        one.take(travel(left_x=(-1.0, 1.0, 0.5), left_y=(-0.4, 0.4, 0.5)))
        # half way up its own small travel is held too
        self.assertIn("left_y reads +0.30", one.problem(travel(left_x=(0.0, 0.01, 0.01), left_y=(0.29, 0.31, 0.02))))
        self.assertEqual(one.problem(travel(left_x=(0.0, 0.01, 0.01), left_y=(0.01, 0.02, 0.01))), "")


class CheckTest(TempCase):
    """A4, A7: all mistakes at once, one way of counting, warnings of their own, on standard output."""

    WRONG: ClassVar[dict[str, tuple[str, str]]] = {
        "chassis.length": ('length = "280 mm"', 'length = "280 parsecs"'),
        "raet": ('rate = "60 Hz"', 'raet = "60 Hz"'),
        "chassis.wheels.1.radius": ('radius = "36 mm"\n\n[[chassis.wheels]]', "\n[[chassis.wheels]]"),
        "chassis.wheels.2.x": ('name = "front right"\nx = "90 mm"', 'name = "front right"\nx = "90 apples"'),
        "motors.rear right.output.forward_pin": ("forward_pin = 8", "forward_pin = 2"),
        "law.kind": ('kind = "tank"', 'kind = "tnak"'),
        "bindings.4.does": ('does = "boom 60 %"', 'does = "bom 60 %"'),
        "bindings.11.when": ('when = "press 2"', 'when = "presss"'),
        "bindings.5.channel": ('channel = "button_13"', 'channel = "button_12"'),
        "bindings.9.channel": ('channel = "button_9"', 'channel = "button_99"'),
        "sources.letter box.letters.F": ('F = "forward 50 %"', 'F = "forwards 50 %"'),
        "sources.letter box.letters.2": ('2 = "level cruise"', '2 = "level crusie"'),
        "sources.letter box.wire.port": ('kind = "tcp", port = 5801', 'kind = "tcp", port = 580100'),
        "sources.bare stick.wire.baud": ("baud = 57600", 'baud = "fast"'),
        "sources.toy remote.fields.3.bit": ("bit = 16", "bit = 99"),
        "attachments.boom.minimum": ('minimum = "-5 deg"', 'minimum = "200 deg"'),
        "attachments.spout.kind": ('kind = "servo"', 'kind = "servoo"'),
        "motors.rear left.output.kind": (
            'kind = "two pins"         # one pulses for each direction, the other rests\nbits = 8\npwm = "500 Hz"\nport = "M3"',
            'kind = "two pinz"\nbits = 8\npwm = "500 Hz"\nport = "M3"',
        ),
        "name": ('name = "Coot"\n', ""),
        "body.mass": ('mass = "1.8 kg"', 'mass = "-1.8 kg"'),
        "correction": ("[gyro]\n", ""),
    }

    def keys(self, *names: str) -> set[str]:
        text = COOT
        for name in names:
            old, new = self.WRONG[name]
            self.assertIn(old, text, name)
            text = text.replace(old, new, 1)
        with self.assertRaises(RigError) as caught:
            read_text(text, Path("coot.toml"), Rig)
        return {m.key for m in caught.exception.mistakes}

    def test_no_mistake_hides_another(self) -> None:
        for name in self.WRONG:
            self.assertIn(name, self.keys(name))
        for pair in itertools.combinations(self.WRONG, 2):
            with self.subTest(pair):
                self.assertLessEqual(set(pair), self.keys(*pair))

    def test_all_of_them_at_once(self) -> None:
        names = [n for n in self.WRONG if n != "bindings.5.channel"]  # it is a second one only next to "boom 60 %"
        found = self.keys(*names)
        self.assertLessEqual(set(names), found)
        self.assertLessEqual(len(found), len(names) + 1)  # and nothing that only follows from them

    def test_a_letter_that_is_a_digit_is_itself_and_lists_count_from_one(self) -> None:
        self.assertEqual(counted("bindings.0.does"), "bindings.1.does")
        self.assertEqual(counted("sources.box.letters.2"), "sources.box.letters.2")
        rig = (
            PLAIN
            + '[[bindings]]\nchannel = "button_0"\ndoes = "stop"\n[[bindings]]\nchannel = "button_0"\ndoes = "record"\n'
        )
        ran = Ran("check", str(self.write("rigs/two.toml", rig)))
        self.assertEqual((ran.code, ran.err), (1, ""))
        self.assertIn(
            'bindings.2.channel: is "button_0", which already does "stop" (bindings.1); choose another', ran.out
        )

    def test_an_attachment_that_nothing_moves_is_a_warning_in_check_and_on_the_screen(self) -> None:
        path = self.write(
            "rigs/idle.toml", PLAIN + '[attachments.arm]\nkind = "motor"\noutput = { kind = "percent" }\n'
        )
        ran = Ran("check", str(path))
        self.assertEqual(ran.code, 0)
        self.assertRegex(ran.out, r"idle.toml:\d+: warning: attachments.arm: has no binding")

    def test_what_was_set_aside_is_no_robot(self) -> None:
        """A9: changes that went next to a broken file counted as another rig."""
        home = self.demo()
        shutil.copy(home / "rigs" / "plover.toml", home / "rigs" / "plover.yours-20261127-101500.toml")
        self.assertNotIn("yours", " ".join(p.name for p in open_folder(home).rigs()))


class TypingTest(AppCase):
    """A6: keys that came quickly after `=` were lost."""

    @in_loop
    async def test_keys_that_come_at_once_are_all_taken_in_order(self) -> None:
        from textual import events

        async with self.running(view="shaping"):
            for text in ("9 %", "13 %", "7 %"):
                for key in ("equals_sign", *["backspace"] * 12, *text, "enter"):
                    char = key if len(key) == 1 else None
                    name = {" ": "space", "%": "percent_sign"}.get(key, key)
                    self.app.post_message(events.Key(name, char))
            await self.pilot.pause()
            for _ in range(40):
                await self.frames(1)
            self.assertEqual(self.model.file.get("shaping.forward.dead_band"), "7 %")
            self.assertEqual(len(self.app.screen_stack), 1)
            self.model.undo()
            self.assertEqual(self.model.file.get("shaping.forward.dead_band"), "13 %")
            self.model.undo()
            self.assertEqual(self.model.file.get("shaping.forward.dead_band"), "9 %")

    @in_loop
    async def test_a_mistake_keeps_what_comes_after_it_in_the_entry(self) -> None:
        from textual import events

        async with self.running(view="shaping"):
            for key, char in (("equals_sign", "="), ("x", "x"), ("enter", None), ("y", "y")):
                self.app.post_message(events.Key(key, char))
            for _ in range(20):
                await self.frames(1)
            self.assertIsInstance(self.app.screen, ValueEntry)
            self.assertEqual(self.app.screen.query_one("Input").value, "xy")  # type: ignore[attr-defined]
            self.assertEqual(self.model.status.source, "keys")  # y was no command

    def test_a_bare_number_below_one_is_asked_about(self) -> None:
        """A17: typed 0.5 was 0.5 %, in the file it is a share."""
        edge = setting_at("shaping.forward.dead_band")
        for text in ("0.5", "1"):
            with self.assertRaisesRegex(UnitError, "in the file that is a share"):
                edge.typed("6 %", text)
        self.assertEqual([edge.typed("6 %", t) for t in ("0.5 %", "7", "50 %", "0")], ["0.5 %", "7 %", "50 %", "0 %"])


class SaidTest(AppCase):
    """A9, A10, A17: what was said is kept whole, all commands are found, and the screen can copy."""

    @in_loop
    async def test_messages_are_kept_with_their_times(self) -> None:
        async with self.running():
            long = "a sentence that is far longer than the foot has room for, " * 6 + "and its end matters most"
            self.model.say(long, alarm=True)
            self.model.say("short")
            self.model.say("short")
            await self.press("exclamation_mark")
            self.assertIsInstance(self.app.screen, Sheet)
            shown = " ".join(self.over().split())
            self.assertIn("and its end matters most", shown)
            self.assertIn("short (2 times)", shown)
            self.assertRegex(shown, r"\d\d:\d\d:\d\d short")
            await self.press("exclamation_mark")
            self.assertEqual(len(self.app.screen_stack), 1)

    @in_loop
    async def test_warnings_stand_above_them(self) -> None:
        shutil.copy(self.rig_file, self.home / "rigs" / "aa.toml")
        text = (self.home / "rigs" / "aa.toml").read_text()
        (self.home / "rigs" / "aa.toml").write_text(
            text.replace('channel = "button_1"\ndoes = "pump on"', 'channel = "button_1"\ndoes = "stop"')
        )
        async with self.running():
            self.assertNotIn("warning", self.text("head"))
            self.model.open_rig(self.home / "rigs" / "aa.toml")
            await self.frames(2)
            self.assertIn("! 1 warning", self.text("head"))
            at = self.text("head").index("! 1 warning")
            await self.pilot.click(offset=(at + 2, 0))  # and can be clicked
            await self.frames(2)
            self.assertIsInstance(self.app.screen, Sheet)
            await self.press("exclamation_mark")
            # what is put right while it is open is a warning no longer
            self.model.edit("the pump by a button", lambda d: d["bindings"][-1].update({"does": "pump on"}))
            self.model._changed = ("", 0.0)
            self.model.look_outside()
            await self.frames(2)
            self.assertNotIn("warning", self.text("head"))
            self.model.undo()
            self.model.look_outside()
            await self.press("exclamation_mark")
            self.assertRegex(
                " ".join(self.over().split()),
                r"warnings of the open rig.*aa.toml:\d+: attachments.pump: has no binding",
            )

    @in_loop
    async def test_a_warning_is_said_whole_at_the_start(self) -> None:
        text = self.rig_file.read_text()
        pump = 'channel = "button_1"\ndoes = "pump on"'
        self.assertIn(pump, text)
        self.rig_file.write_text(text.replace(pump, pump.replace("pump on", "stop")))
        async with self.running():
            said = [m.text for m in self.model.said]
            self.assertTrue(
                any(re.match(rf"warning: {self.rig_file.name}:\d+: attachments.pump: has no binding", t) for t in said),
                said,
            )

    @in_loop
    async def test_copying_nothing_says_so(self) -> None:
        async with self.running():
            with (
                mock.patch.object(type(self.app.view), "copied", return_value=[]),
                mock.patch.object(WhyLadder, "text", return_value=[]),
            ):
                self.app.act_copy()
            self.assertIn("nothing to copy yet", self.model.message)

    @in_loop
    async def test_what_changes_were_saved_as_is_among_them(self) -> None:
        async with self.running(view="shaping"):
            self.rig_file.write_text("nonsense")
            self.model.look_outside()
            await self.press("right")
            aside = next((self.home / "rigs").glob("plover.yours-*.toml"))
            self.assertTrue(any(aside.name in told.text for told in self.model.said))
            await self.press("b")
            self.assertNotIn("yours", self.over())

    @in_loop
    async def test_the_palette_reaches_every_view(self) -> None:
        async with self.running(view="field"):
            found = {c.title: c for c in self.app.get_system_commands(self.app.screen)}
            title = next(t for t in found if t.startswith("calibrate") and "in Driver" in t)
            found[title].callback()
            await self.frames(3)
            self.assertEqual(self.app.view.view_name, "driver")
            self.assertIn("first, with ← →", self.text("foot"))
            names = {c.name for c, _ in self.app.commands.everywhere("field")}
            self.assertEqual(names, {c.name for c in self.app.commands.all})

    @in_loop
    async def test_the_palette_says_that_nothing_matches(self) -> None:
        async with self.running():
            await self.press("ctrl+p", *"qqqzzz")
            for _ in range(40):
                await self.pilot.pause(0.05)
                if "nothing matches" in self.over():
                    break
            self.assertIn("nothing matches", self.over())

    @in_loop
    async def test_a_value_and_the_why_are_copied(self) -> None:
        async with self.running(view="shaping"):
            await self.press("X")
            copied = self.app.clipboard
            self.assertIn("shaping.forward.dead_band = 6 %", copied)
            self.assertIn("why left: forward stick", copied)
            await self.press("enter", "X")
            self.assertGreater(len(self.app.clipboard.splitlines()), 6)  # the ladder, a line a rung

    @in_loop
    async def test_a_setting_that_no_view_has_is_named_with_its_line(self) -> None:
        async with self.running():
            self.app._go_to("rate")
            line = next(i for i, row in enumerate(self.rig_file.read_text().splitlines(), 1) if row.startswith("rate"))
            self.assertIn(f"plover.toml, line {line}; E opens it there", self.model.message)


class EditorTest(AppCase):
    @in_loop
    async def test_the_list_of_robots_edits_the_selected_one(self) -> None:
        with mock.patch.dict(os.environ, {"EDITOR": "vi"}):
            async with self.running():
                await self.press("b", "home")
                await self.press("e")
                # no terminal that could be lent in a test: it says which file it is
                self.assertIn("avocet.toml", self.model.message)
                self.assertEqual((self.model.rig.name, len(self.app.screen_stack)), ("Plover", 1))

    def test_each_editor_is_told_the_line_in_its_own_way(self) -> None:
        path = Path("rigs/a b.toml")
        for asked, words in (
            ("vim", ["vim", "+7", "rigs/a b.toml"]),
            ("/usr/bin/nano -l", ["/usr/bin/nano", "-l", "+7", "rigs/a b.toml"]),
            ("code", ["code", "--wait", "--goto", "rigs/a b.toml:7"]),
            ("hx", ["hx", "rigs/a b.toml:7"]),
        ):
            self.assertEqual(editor_words(path, 7, {"EDITOR": asked}), words)
        self.assertEqual(editor_words(path, 7, {"EDITOR": "vim", "VISUAL": "hx"})[0], "hx")


class ButtonKeysTest(AppCase):
    """A13: no key of the keyboard reached a button."""

    def test_the_used_buttons_have_keys_in_the_order_of_the_layout(self) -> None:
        rig = read_rig(DEMO / "rigs" / "coot.toml")
        keys = keys_of_buttons(rig, {})
        self.assertEqual(list(keys), [f"f{i}" for i in range(1, 13)])
        numbers = [int(b.removeprefix("button_")) for b in keys.values()]
        self.assertEqual(numbers, sorted(numbers))
        self.assertEqual(keys_of_buttons(rig, {"button_4": "f9"})["f9"], "button_4")
        self.assertNotIn("f2", keys_of_buttons(rig, {}, {"f2"}))

    @in_loop
    async def test_a_key_presses_a_button_beside_whatever_drives(self) -> None:
        async with self.running(source="recording watering"):
            key = next(k for k, b in self.model.button_keys.items() if b == "button_1")  # pump on, while it is held
            await self.press(key)
            await self.frames(2)
            self.assertEqual(self.model.value("attachments", "pump_target"), 1.0)
            self.assertEqual(self.model.status.source, "recording watering")
            await self.frames(20)  # a terminal that tells no release: for a short time
            self.assertEqual(self.model.value("attachments", "pump_target"), 0.0)
            self.assertTrue(any(isinstance(r, KeyDown) and r.key == "button_1" for r in self.asked))

    @in_loop
    async def test_it_is_shown_where_the_button_is(self) -> None:
        async with self.running(view="driver"):
            await self.frames(3)
            row = next(r for r in self.text("driver").splitlines() if "pump on" in r)
            self.assertRegex(row, r"pump on.*F\d")


class ChoosingTest(AppCase):
    """A2, A3: what, when and with are chosen from lists; attachments are seen."""

    def test_what_is_offered_is_what_a_rig_can_do(self) -> None:
        for name in ("plover", "coot", "bittern", "avocet", "dunlin"):
            rig = read_rig(DEMO / "rigs" / f"{name}.toml")
            levels = [v.name for v in rig.speed_levels.levels]
            text = (DEMO / "rigs" / f"{name}.toml").read_text()
            for does, _ in offered(rig):
                action = read_action(does, rig.attachments, levels)
                for when, _ in times_of(action):
                    channel = "right_y" if action.verb == "follow" else "right_trigger"
                    said = f'\n[[bindings]]\nchannel = "{channel}"\ndoes = "{does}"\n' + (
                        f'when = "{when}"\n' if when else ""
                    )
                    if f'"{channel}"' not in text:
                        read_text(text.replace("[[bindings]]", said + "\n[[bindings]]", 1) if "[[bindings]]" in text else text + said,
                                  Path("x.toml"), Rig)  # fmt: skip
        planar = [does for does, _ in offered(read_rig(DEMO / "rigs" / "bittern.toml"))]
        self.assertIn("slide left 50 %", planar)
        self.assertNotIn("slide left 50 %", [does for does, _ in offered(read_rig(PLOVER))])

    async def pick(self, text: str) -> None:
        rows = self.over().splitlines()[1:]
        at = next(i for i, row in enumerate(rows) if row.strip().startswith(text))
        await self.press("home", *["down"] * at, "enter")

    @in_loop
    async def test_a_binding_is_changed_by_lists(self) -> None:
        async with self.running(view="driver"):
            await self.frames(3)
            view = self.app.view
            names = [p.function for p in view.patches.patches()]  # type: ignore[attr-defined]
            await self.press(*["down"] * names.index("pump on"), "equals_sign")
            self.assertIn("what: pump on", self.over())
            await self.pick("when")
            await self.pick("toggle")
            self.assertEqual(self.model.rig.bindings[2].when, "toggle")
            await self.press("equals_sign")
            await self.pick("with")
            await self.pick("button_2")
            self.assertEqual(self.model.rig.bindings[2].with_, "button_2")
            await self.press("equals_sign")
            await self.pick("what")
            await self.pick("stop")
            binding = self.model.rig.bindings[2]
            self.assertEqual((binding.does, binding.when, binding.with_), ("stop", "", "button_2"))
            await self.press("u", "u", "u")
            self.assertEqual(self.rig_file.read_text(), PLOVER.read_text())

    @in_loop
    async def test_letters_too(self) -> None:
        async with self.running(view="driver"):
            self.assertTrue(self.model.open_rig(self.home / "rigs" / "coot.toml"))
            await self.frames(4)
            names = [s.name for s in self.app.view._sources.sources()]  # type: ignore[attr-defined]
            now = self.model.status.source
            await self.press(*["right"] * ((names.index("letter box") - names.index(now)) % len(names)))
            self.assertIn("letter box", self.text("driver"))
            await self.press("equals_sign")
            await self.pick("what")
            await self.pick("brake")
            letters = self.model.rig.sources["letter box"].letters  # type: ignore[union-attr]
            self.assertEqual(letters["F"], "brake")
            await self.press("equals_sign")
            await self.pick("letter")
            await self.press(*"x", "enter")
            letters = self.model.rig.sources["letter box"].letters  # type: ignore[union-attr]
            self.assertEqual((letters.get("x"), letters.get("F")), ("brake", None))
            await self.press("plus")
            await self.pick("turn left 50 %")
            await self.frames(3)
            await self.press(*"y", "enter")
            letters = self.model.rig.sources["letter box"].letters  # type: ignore[union-attr]
            self.assertEqual(letters["y"], "turn left 50 %")

    @in_loop
    async def test_a_key_of_the_keyboard_may_be_the_control(self) -> None:
        async with self.running(view="driver"):
            await self.frames(3)
            await self.press("plus")
            await self.pick("slow 40 %")
            await self.press("f9")
            self.assertEqual(self.model.rig.bindings[-1].does, "slow 40 %")
            channel = self.model.rig.bindings[-1].channel
            self.assertIn(channel, self.model.button_keys.values())
            # one that is a button's already is taken for that button, not pressed
            before = len([r for r in self.asked if isinstance(r, KeyDown)])
            key, button = next((k, b) for k, b in self.model.button_keys.items() if b != channel)
            await self.press("v", key)
            self.assertIn(f"({button}) already does", self.model.message)
            self.assertEqual(len([r for r in self.asked if isinstance(r, KeyDown)]), before)

    @in_loop
    async def test_attachments_are_seen_in_driver_and_field(self) -> None:
        async with self.running(view="driver"):
            self.assertTrue(self.model.open_rig(self.home / "rigs" / "coot.toml"))
            await self.frames(4)
            shown = self.text("driver")
            for part in (
                "attachments",
                "boom",
                "110 deg",
                "stopped: held",
                "spout",
                "stopped: to 0 deg",
                "pump",
                "□ off",
            ):
                self.assertIn(part, shown)
            await self.press("5")
            for part in ("boom", "−5 deg", "pump"):
                self.assertIn(part, self.text("field"))


class SmallThingsTest(AppCase):
    def test_the_rig_reference_shows_no_inner_words(self) -> None:
        self.assertNotIn("Undefined", (ROOT / "docs" / "rig-reference.md").read_text("utf-8"))

    def test_a_pin_says_high_or_low(self) -> None:
        """A17: *direction 0* means nothing to a reader."""
        line = Line(read_rig(PLOVER))
        import numpy as np

        from tests.support import nothing_sensed

        _, row = line.step(line.start(), np.nan_to_num(line.rest()), nothing_sensed(line))
        self.assertRegex(sentence(line, row, "left"), r"0/255 rest, pin 4 (high|low)")

    @in_loop
    async def test_recordings_of_other_robots_are_not_listed(self) -> None:
        shutil.copy(self.home / "inputs" / "watering.csv", self.home / "inputs" / "coot-20261127-101010.csv")
        shutil.copy(self.home / "inputs" / "watering.csv", self.home / "inputs" / "plover-20261127-101010.csv")
        async with self.running():
            await self.press("o")
            shown = self.over()
            self.assertIn("plover-20261127-101010", shown)
            for other in ("hauling", "strafing", "coot-20261127"):
                self.assertNotIn(other, shown)

    @in_loop
    async def test_fields_rows_keep_their_places(self) -> None:
        async with self.running(source="recording strafing"):
            self.assertTrue(self.model.open_rig(self.home / "rigs" / "bittern.toml"))
            await self.frames(5)
            places = set()
            for _ in range(60):
                await self.frames(2)
                rows = self.text("field").splitlines()
                places.add(next(i for i, row in enumerate(rows) if "heading" in row and "deg" in row))
            self.assertEqual(len(places), 1)
            self.assertIn("field's forward", self.text("field"))


@slow
class SetUpTest(TempCase):
    def test_setting_up_shows_what_it_does(self) -> None:
        """A17: it showed nothing for a minute. What it prints, with a pip that stands in for the real one."""
        home = self.folder / "copy"
        home.mkdir()
        shutil.copytree(ROOT / "script", home / "script")
        for name in ("pyproject.toml", "constraints.txt"):
            shutil.copy(ROOT / name, home / name)
        python = home / ".venv" / "bin" / "python"
        python.parent.mkdir(parents=True)
        python.write_text(
            '#!/bin/sh\necho "Collecting numpy==2.4"\necho "  Downloading numpy.whl"\necho "Installing collected packages: numpy"\n'
        )
        python.chmod(0o755)
        done = subprocess.run(
            ["bash", "-c", "set -euo pipefail; . script/setup"], cwd=home, capture_output=True, text=True, check=True
        )
        self.assertIn("  numpy\n", done.stderr)
        self.assertIn("installing", done.stderr)
        self.assertNotIn("Downloading", done.stderr)
        python.write_text('#!/bin/sh\necho "ERROR: no network"\nexit 1\n')
        (home / ".venv" / ".pivrex-run").unlink()
        failed = subprocess.run(
            ["bash", "-c", "set -euo pipefail; . script/setup"], cwd=home, capture_output=True, text=True, check=False
        )
        self.assertEqual((failed.returncode, "ERROR: no network" in failed.stderr), (1, True))


@slow
class FirstRobotTest(TerminalCase):
    """A newcomer's first robot, without opening a file: four wheels, an arm and a claw, and all that makes it drive."""

    def test_made_bound_slowed_programmed_and_learned(self) -> None:
        self.home_folder = self.folder / "team"
        self.path = self.home_folder / "rigs" / "digger.toml"
        self.terminal = self.open("new", str(self.home_folder))
        self.make()
        self.bind_and_slow()
        self.program()
        self.learn()

    def typed(self, text: str) -> None:
        self.terminal.keys(*("Space" if c == " " else c for c in text))

    def sets(self, text: str = "") -> None:
        """Type into an entry; nothing takes what is suggested."""
        self.terminal.wait("Enter sets it")
        if text:
            self.typed(text)
            self.terminal.wait(text)
        self.terminal.keys("Enter")

    def rig_has(self, what: Callable[[Rig], object]) -> None:
        wait_for(lambda: what(read_rig(self.path)), 20, self.terminal.screen)

    def make(self) -> None:
        terminal = self.terminal
        for question, keys in (
            ("What is the robot called?", [*"Digger"]), ("or copy a robot", []), ("What does it stand on?", ["Down"]),
            ("How large is it?", ["Space" if c == " " else c for c in "300 mm, 250 mm, 80 mm, 210 mm"]), ("What do the sticks mean?", []),
            ("motor drivers expect", []), ("What else is there?", ["Down", "Down", "Space", "Down", "Down", "Down", "Space"]),
            ("What are the attachments called?", ["Space" if c == " " else c for c in "arm, claw"]), ("Who should drive it", []),
        ):  # fmt: skip
            terminal.wait(question)
            terminal.keys(*keys, "Enter")
        terminal.wait(f"{self.path}, ")
        terminal.keys("Enter")
        terminal.wait("why front left:")
        rig = read_rig(self.path)
        self.assertEqual(
            (len(rig.chassis.wheels), list(rig.attachments), rig.chassis.length_m), (4, ["arm", "claw"], 0.3)
        )

    def bind_and_slow(self) -> None:
        terminal = self.terminal
        terminal.keys("1", "+")
        terminal.wait("a new binding does")
        terminal.keys("Enter")
        self.sets("claw to 45 deg")
        terminal.wait("now its control")
        terminal.keys("F8")
        self.rig_has(lambda rig: any(b.does == "claw to 45 deg" for b in rig.bindings))
        terminal.keys("g", "F8", "2")
        terminal.wait("▸ dead band")
        terminal.keys("v")
        terminal.wait("a new speed level")
        terminal.keys("+")
        self.sets("careful")
        terminal.wait("speed level careful")
        self.sets("20 %, 25 %")
        self.rig_has(lambda rig: [v.name for v in rig.speed_levels.levels] == ["careful", "creep", "cruise", "dash"])

    def program(self) -> None:
        terminal = self.terminal
        terminal.keys("6")
        terminal.wait("Enter makes one")
        terminal.keys("Enter")
        self.sets()
        terminal.wait("no mistakes")
        self.assertTrue((self.home_folder / "routines" / "digger.txt").is_file())
        terminal.keys("5", "P")
        self.sets("there")
        terminal.wait("path there")
        terminal.keys("A")
        terminal.wait("a new slow zone")
        terminal.keys("End", "Enter")
        self.sets("1.10 m, 0.60 m, 0.30 m, 0.2 m/s")
        file = self.home_folder / "paths" / "there.toml"
        wait_for(lambda: [z.speed_m_s for z in read_path(file).slow] == [0.2], 20, terminal.screen)
        wait_for(lambda: "the simulated robot ends" in terminal.screen(), 40, terminal.screen)
        terminal.keys("P")

    def learn(self) -> None:
        """The learning drive begins on the screen; what it comes to in four minutes is played here at full speed."""
        terminal = self.terminal
        terminal.keys("7", "G")
        terminal.wait("the learning drive begins")
        terminal.wait("alone 2")
        terminal.keys("Escape")
        terminal.wait("STOPPED")
        rig, text = read_rig(self.path), (self.home_folder / "routines" / "learning-digger.txt").read_text("utf-8")
        program, field = check_text(text, rig).program, open_folder(self.home_folder).settings.field
        assert program is not None
        made, line = play(program, rig, field, LASTS_S, 5), Line(rig)
        facts = Facts("Digger", "digger", datetime.now().astimezone(), 1 / line.dt_s, note="all of the drive")
        name = f"{datetime.now():%Y%m%d-%H%M%S}-learning"
        keep_rows(self.home_folder / "runs" / name, facts, line, self.path.read_text("utf-8"), field, list(made.rows))
        terminal.wait("all of the drive")
        terminal.keys(*["Up"] * 4, "y")
        terminal.wait("W writes")
        terminal.keys("W")
        terminal.wait("values are in digger.toml now")


@slow
class OwnRobotTest(TerminalCase):
    """A rig of one's own, only on the screen: made, calibrated, bound, driven, shaken down."""

    def test_made_calibrated_bound_driven_and_shaken_down(self) -> None:
        self.terminal = self.open("new", str(self.folder / "team"), config="set -g mouse on")
        self.path = self.folder / "team" / "rigs" / "digger.toml"
        self.make()
        self.plug_in()
        self.calibrate()
        self.bind()
        self.drive()
        self.shake_down()

    def make(self) -> None:
        terminal = self.terminal
        terminal.wait("What is the robot called?")
        terminal.keys(*"Digger", "Enter")
        terminal.wait("or copy a robot")
        terminal.keys("Enter")
        terminal.wait("What does it stand on?")
        terminal.keys("Down", "Enter")  # four wheels, two a side
        terminal.wait("How large is it?")
        terminal.keys("Enter")
        terminal.wait("What do the sticks mean?")
        terminal.keys("Enter")  # tank is the first
        terminal.wait("What do its motor drivers expect")
        terminal.keys("Down", "Down", "Enter")  # two pins
        terminal.wait("What else is there?")
        terminal.keys("Down", "Down", "Space")
        terminal.wait("■ arm")
        terminal.keys("Enter")
        terminal.wait("What are the attachments called?")
        terminal.keys("Enter")
        terminal.wait("Who should drive it")
        terminal.keys("Space")
        terminal.wait("■ stick on a serial line")
        terminal.keys("Enter")
        terminal.wait("On which port")
        terminal.keys(*str(self.folder / "stick"), "Enter")
        terminal.wait("digger.toml, ")
        terminal.keys("Enter")
        terminal.wait("why front left:")
        rig = read_rig(self.path)
        self.assertEqual((rig.law.kind, len(rig.chassis.wheels), list(rig.attachments)), ("tank", 4, ["arm"]))
        self.assertEqual({m.output.kind for m in rig.motors.values()}, {"two pins"})

    def plug_in(self) -> None:
        stick = subprocess.Popen(
            [sys.executable, "-m", "pivrex", "remote", str(self.path), "my stick"], stdin=subprocess.PIPE, text=True,
            env={**os.environ, "PYTHONPATH": str(ROOT / "src")}, stdout=subprocess.DEVNULL,
        )  # fmt: skip
        self.addCleanup(stick.wait)
        self.addCleanup(stick.kill)
        self.stick = stick

    def move(self, *lines: str) -> None:
        """Say to the stick's simulated robot where its axes go."""
        assert self.stick.stdin is not None
        self.stick.stdin.write("".join(f"{line}\n" for line in lines))
        self.stick.stdin.flush()

    def calibrate(self) -> None:
        terminal, move = self.terminal, self.move
        terminal.keys("1")
        terminal.wait("my stick")
        wait_for(lambda: "! lost" not in terminal.screen(), 30, terminal.screen)
        terminal.keys("Left")
        terminal.wait("channels of my stick")
        move("left_y 0.02 right_y -0.03")
        terminal.keys("c")
        terminal.wait("calibrating my stick")
        terminal.wait("Roll each stick")
        for _ in range(3):
            move("left_y -0.9 right_y -0.88", "wait 0.2", "left_y 0.93 right_y 0.9", "wait 0.2")
        terminal.wait("that will do: Enter goes on")
        move("left_y 0.02 right_y -0.03", "wait 0.3")
        terminal.keys("Enter")
        terminal.wait("step 4 of 5")
        move("left_y -0.85")
        terminal.wait("that will do: Enter goes on")
        terminal.keys("Enter")
        terminal.wait("step 5 of 5")
        move("left_y 0.02", "right_y -0.85")
        terminal.wait("that will do: Enter goes on")
        terminal.keys("Enter")
        terminal.wait("before → after")
        terminal.keys("Enter")
        wait_for(lambda: bool(read_rig(self.path).sources["my stick"].axes), 20, terminal.screen)
        self.assertAlmostEqual(read_rig(self.path).sources["my stick"].axes["left_y"].minimum, -0.88, delta=0.05)
        move("right_y -0.03")

    def bind(self) -> None:
        """A slower speed on a key of the keyboard."""
        terminal = self.terminal
        terminal.keys("y", "+")
        terminal.wait("a new binding does")
        terminal.keys("Enter")
        terminal.wait("Enter sets it")
        terminal.keys(*("Space" if c == " " else c for c in "slow 35 %"))
        terminal.wait("slow 35 %")  # a busy computer shows it late
        terminal.keys("Enter")
        terminal.wait("press the control")
        terminal.keys("F9")
        wait_for(lambda: any(b.does == "slow 35 %" for b in read_rig(self.path).bindings), 20, terminal.screen)

    def drive(self) -> None:
        """By the stick, and the arm by its button."""
        terminal, move = self.terminal, self.move
        terminal.keys("g")
        wait_for(lambda: "STOPPED" not in terminal.row(0), 20, terminal.screen)
        arm = re.search(r"moved by button_12 \((F\d+)\)", terminal.screen())
        assert arm is not None
        terminal.keys(arm.group(1))
        terminal.wait("+60 %")
        move("left_y -0.8 right_y -0.8")
        terminal.keys("5")
        wait_for(lambda: re.search(r"\bat +\+[1-9]\.", terminal.screen()), 30, terminal.screen)
        move("left_y 0.02 right_y -0.03")

    def shake_down(self) -> None:
        """All is as it should be."""
        terminal = self.terminal
        terminal.keys("3", "c")
        terminal.wait("Where does the robot stand")
        terminal.keys("Down", "Enter")  # on a block; the sensors look
        asks = (
            "Enter sends it",
            "Enter when it is done",
            "What moved?",
            "What did the numbers do?",
            "nothing is crossed",
        )
        for _ in range(30):
            wait_for(lambda: any(text in terminal.screen() for text in asks), 60, terminal.screen)
            shown = terminal.screen()
            if "nothing is crossed" in shown:
                break
            if "What moved?" in shown or "What did the numbers do?" in shown:
                self.answer(shown)
            else:
                terminal.keys("Enter")
            self.wait_for_another(self.said(shown))
        terminal.wait("nothing is crossed")
        self.assertIn("1 explanation left", terminal.screen())
        self.assertEqual(Ran("check", str(self.path)).code, 0)

    def wait_for_another(self, said: list[str]) -> None:
        wait_for(lambda: self.said(self.terminal.screen()) != said, 60, self.terminal.screen)

    def said(self, screen: str) -> list[str]:
        """The guide's part of a screen."""
        return [row.partition("│")[2] for row in screen.splitlines()[5:40]]

    def answer(self, shown: str) -> None:
        """Say what eyes see: the guide tells it of the simulated robot."""
        rows = shown.splitlines()
        if "What did the numbers do?" in shown:
            said = " ".join(self.said(shown)).partition("counted:")[2]
            counted = re.search(r"front left ([+−])", said)
            turned = re.search(r"heading ([+−])", said)
            assert counted is not None and turned is not None, said
            up, rose = counted[1] == "+", turned[1] == "+"
            # the options begin with: up rose, up fell, up stayed, down rose, down fell
            self.terminal.keys(*["Down"] * (1 + (0 if up else 3) + (0 if rose else 1)), "Enter")
            return
        first = next(i for i, row in enumerate(rows) if "to the eye:" in row)
        seen = rows[first].partition("to the eye:")[2].split(";")[0].strip().replace("rolls", "rolled")
        options = [row for row in rows[first + 1 :] if " rolled " in row]
        at = next(i for i, row in enumerate(options) if seen in row)
        self.terminal.keys(*["Down"] * (at + 1), "Enter")


if __name__ == "__main__":
    unittest.main()
