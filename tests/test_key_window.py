"""The window for keys: what it says of presses and releases, what the screen makes of that, and both on a real display."""

import os
import random
import shutil
import signal
import subprocess
import threading
import unittest
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st
from textual import events

from pivrex.devices.key_window import KeysDown, has_display, key_named
from pivrex.session.messages import GoLive, KeyDown, KeyUp, LetGo, SetKeysMode, Stop
from pivrex.tui.window_keys import KeyWindow, WindowSaid
from tests.support import TempCase, slow, wait_for
from tests.test_app import AppCase, in_loop
from tests.test_terminal import TerminalCase


class KeysTest(unittest.TestCase):
    @given(st.lists(st.tuples(st.sampled_from(["press", "release", "lose", "get"]), st.integers(0, 4))))
    def test_every_press_comes_up_once_and_nothing_is_held_without_the_focus(self, done: list[tuple[str, int]]) -> None:
        keys = KeysDown()
        down: set[str] = set()
        for what, code in done:
            lines = (
                keys.press(code, f"k{code}") if what == "press"
                else keys.release(code) if what == "release"
                else keys.focus(what == "get")
            )  # fmt: skip
            for line in lines:
                word, _, name = line.partition(" ")
                if word == "down":
                    self.assertNotIn(name, down)
                    down.add(name)
                elif word == "up":
                    down.remove(name)
            self.assertEqual(set(keys), down)
            if what == "lose":
                self.assertEqual((down, lines[-1]), (set(), "focus 0"))

    def test_names(self) -> None:
        for sdl, shift, ctrl, name in (
            ("W", False, False, "w"), ("W", True, False, "W"), ("L", False, True, "ctrl+l"), ("Escape", False, False, "escape"),
            ("Return", False, False, "enter"), ("F12", False, False, "f12"), ("Left Shift", False, False, ""), ("[", False, False, "["),
            ("", False, False, ""),
        ):  # fmt: skip
            self.assertEqual(key_named(sdl, shift, ctrl), name)

    def test_where_there_is_a_display(self) -> None:
        with mock.patch("sys.platform", "linux"):
            self.assertFalse(has_display({}))
            self.assertTrue(has_display({"DISPLAY": ":0"}) and has_display({"WAYLAND_DISPLAY": "wayland-0"}))
        with mock.patch("sys.platform", "darwin"):
            self.assertTrue(has_display({}))


class IdealBody:
    """A window that is not there."""

    def __init__(self) -> None:
        self.is_open, self.has_focus, self.is_silent, self.problem = True, False, False, ""
        self.shown: dict[str, str] = {}

    def show(self, shown: dict[str, str]) -> None:
        self.shown = shown

    def close(self, at_once: bool = False) -> None:
        self.is_open = self.has_focus = False


class ScreenTest(AppCase):
    async def say(self, *lines: str) -> None:
        for line in lines:
            if line.startswith("focus"):
                self.window.has_focus = line == "focus 1"
            self.app.post_message(WindowSaid(line))
            await self.pilot.pause()
        await self.frames()

    @contextmanager
    def window_in(self) -> Iterator[None]:
        self.window = IdealBody()
        with (
            mock.patch("pivrex.tui.window_keys.KeyWindow", lambda _heard: self.window),
            mock.patch.dict(os.environ, {"DISPLAY": ":77"}),
        ):
            self.app.act_key_window()
            yield

    def new(self, kind: type | tuple[type, ...] = (KeyDown, KeyUp, Stop, LetGo, SetKeysMode)) -> list[Any]:
        """What was asked of the session since the last time."""
        fresh, self._seen = self.asked[self._seen :], len(self.asked)
        return [r for r in fresh if isinstance(r, kind)]

    _seen = 0

    @in_loop
    async def test_keys_drive_while_they_are_held(self) -> None:
        async with self.running():
            with self.window_in():
                self.new()
                await self.say("focus 1", "focus 1", "down w", "down d", "up w", "up d")
                wanted = [SetKeysMode("held"), KeyDown("w"), KeyDown("d"), KeyUp("w"), KeyUp("d")]
                self.assertEqual(self.new(), wanted)
                self.assertIn("keys, held", self.text("head"))
                self.assertEqual(self.window.shown["rig"], "Plover")
                self.assertEqual(self.window.shown["state"], "safe")
                # keys that do not drive mean what they mean here
                await self.say("down 2", "up 2")
                self.assertEqual(self.app._open, "shaping")
                await self.say("down escape", "up escape")
                self.assertIn(Stop("Esc"), self.new())
                # a list lies over: what drives is not kept for later, when its release has passed
                await self.say("down o", "up o", "down w", "up w", "down escape")
                self.assertNotIn(KeyDown("w"), self.new())
                await self.say("focus 0")
                self.assertEqual(self.new(), [SetKeysMode("latched"), LetGo()])

    @in_loop
    async def test_who_has_the_keyboard_of_a_live_robot(self) -> None:
        async with self.running():
            with self.window_in():
                self.model.ask(GoLive())
                await self.frames(4)
                self.assertTrue(self.model.status.live)
                self.new()
                # from the terminal to the window: no loss, in either order
                self.app.app_focus = False
                self.app.post_message(events.AppBlur())
                await self.pilot.pause()
                await self.say("focus 1")
                await self.pilot.pause(0.5)
                self.assertEqual(self.new(), [LetGo(), SetKeysMode("held")])
                self.app.post_message(events.AppBlur())
                await self.pilot.pause(0.5)
                self.assertEqual(self.new(), [])
                # from the window to somewhere else
                await self.say("focus 0")
                self.assertEqual(self.new()[-1], Stop("the window for keys lost the focus"))
                self.assertFalse(self.model.status.live)

    @in_loop
    async def test_from_the_terminal_to_somewhere_else(self) -> None:
        async with self.running():
            with self.window_in():
                self.model.ask(GoLive())
                await self.frames(4)
                self.new()
                self.app.app_focus = False
                self.app.post_message(events.AppBlur())
                await self.pilot.pause(0.5)
                self.assertEqual(self.new(), [LetGo(), Stop("the window lost the focus")])

    @in_loop
    async def test_a_window_that_goes_or_hangs_while_live(self) -> None:
        for how, why in (("closed", "was closed"), ("hangs", "does not answer")):
            async with self.running():
                with self.window_in():
                    self._seen = 0
                    await self.say("focus 1")
                    self.model.ask(GoLive())
                    await self.frames(4)
                    await self.say("down w")
                    self.assertTrue(self.model.status.live)
                    self.new()
                    if how == "closed":
                        self.window.close()
                        await self.say("closed")
                    else:
                        self.window.is_silent = True
                        await self.frames(2)
                    self.assertEqual(self.new()[-1], Stop(f"the window for keys {why}"))
                    # one that answers again drives again, from rest
                    self.window.is_silent = False
                    await self.frames(3)
                    self.assertEqual(self.new(), [SetKeysMode("held")] if how == "hangs" else [])

    @in_loop
    async def test_without_a_display_it_says_so(self) -> None:
        async with self.running():
            with mock.patch("pivrex.tui.window_keys.has_display", return_value=False):
                self.app.act_key_window()
                await self.frames()
                self.assertIn("there is no display here", self.model.message)


@contextmanager
def display() -> Iterator[str]:
    """A display that no one sees."""
    if not (shutil.which("Xvfb") and shutil.which("xdotool")):
        raise unittest.SkipTest("needs Xvfb and xdotool")
    read, write = os.pipe()
    server = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "800x600x24"], pass_fds=[write], stderr=subprocess.DEVNULL
    )
    os.close(write)
    try:
        with os.fdopen(read) as said:
            name = f":{said.readline().strip()}"
        with mock.patch.dict(os.environ, {"DISPLAY": name}):
            os.environ.pop("WAYLAND_DISPLAY", None)
            yield name
    finally:
        server.kill()
        server.wait()


def xdo(*words: str) -> None:
    subprocess.run(["xdotool", *words], check=True, capture_output=True)


def has_keyboard() -> bool:
    """Whether a window has the keyboard."""
    run = subprocess.run(["xdotool", "getwindowfocus"], check=False, capture_output=True, text=True)
    return run.returncode == 0 and run.stdout.strip() not in ("", "0", "1")


def window_on(name: str) -> int:
    """The process of the window that stands on a display."""
    for process in Path("/proc").iterdir():
        with suppress(OSError):
            words, env = (process / "cmdline").read_bytes(), (process / "environ").read_bytes()
            if b"pivrex.devices.key_window" in words and f"DISPLAY={name}\0".encode() in env:
                return int(process.name)
    raise AssertionError("no window")


@slow
class DisplayTest(TempCase):
    def setUp(self) -> None:
        super().setUp()
        self.enterContext(display())
        self.said: list[str] = []
        self.more = threading.Condition()

    def open(self, name: str) -> KeyWindow:
        window = KeyWindow(self.heard if name == "one" else lambda _line: None)
        self.addCleanup(window.close)
        wait_for(lambda: window.has_focus, 30, lambda: window.problem)
        window.show({"state": "LIVE", "rig": name, "drives": "keys, held", "why": ""})
        return window

    def heard(self, line: str) -> None:
        with self.more:
            self.said.append(line)
            self.more.notify_all()

    def until(self, true: Any) -> None:
        with self.more:
            self.assertTrue(self.more.wait_for(true, 20), self.said[-10:])

    def test_two_hundred_presses_and_releases(self) -> None:
        self.open("one")

        def without_z() -> list[str]:
            return [line for line in self.said if not line.endswith(" z")]

        def is_there() -> bool:
            xdo("key", "z")
            return "up z" in self.said

        wait_for(is_there, 20)
        self.said.clear()
        chance = random.Random(29)
        down: set[str] = set()
        wanted: list[str] = []
        while len(wanted) < 200:
            key = chance.choice("wasdijklqe")
            word = "up" if key in down else "down"
            (down.remove if word == "up" else down.add)(key)
            wanted.append(f"{word} {key}")
        words = [part for line in wanted for part in (f"key{line.split()[0]}", line.split()[1])]
        for at in range(0, len(words), 40):
            xdo(*words[at : at + 40])
        self.until(lambda: len(without_z()) >= len(wanted))
        self.assertEqual(without_z(), wanted)
        # the focus goes elsewhere: all that is down comes up, and what comes up there is not missed later
        self.said.clear()
        other = self.open("two")
        self.until(lambda: "focus 0" in self.said)
        self.assertEqual(set(without_z()[: without_z().index("focus 0")]), {f"up {key}" for key in down})
        other.close()

    def test_it_is_killed_with_a_key_down(self) -> None:
        window = self.open("one")
        xdo("keydown", "w")
        self.until(lambda: "down w" in self.said)
        os.kill(window.process_id, signal.SIGKILL)
        self.until(lambda: self.said[-1] == "closed")
        self.assertFalse(window.is_open or window.has_focus)

    def test_it_freezes(self) -> None:
        window = self.open("one")
        os.kill(window.process_id, signal.SIGSTOP)
        wait_for(lambda: window.is_silent, 20)
        window.close(at_once=True)
        self.until(lambda: self.said[-1] == "closed")

    def test_it_ends_with_the_screen(self) -> None:
        window = self.open("one")
        window.close()
        self.until(lambda: self.said[-1] == "closed")


@slow
class WholeTest(TerminalCase):
    def test_held_in_a_terminal_that_reports_no_releases(self) -> None:
        self.enterContext(display())
        terminal = self.open_demo("--view", "driver", env={"DISPLAY": os.environ["DISPLAY"]})
        terminal.keys("o")
        terminal.click("a window for held keys")
        wait_for(has_keyboard, 30, terminal.screen)

        def is_driven() -> bool:
            xdo("keyup", "w", "keydown", "w")  # a window that has just opened misses the first
            return "keys, held" in terminal.row(0) and "forward stick 1.00" in terminal.row(-2)

        wait_for(is_driven, 30, terminal.screen)
        xdo("keyup", "w")
        wait_for(lambda: "forward stick 0.00" in terminal.row(-2), 20, terminal.screen)
        xdo("keydown", "w")
        wait_for(lambda: "forward stick 1.00" in terminal.row(-2), 20, terminal.screen)
        os.kill(window_on(os.environ["DISPLAY"]), signal.SIGKILL)
        wait_for(lambda: "forward stick 0.00" in terminal.row(-2), 20, terminal.screen)
        terminal.wait("keys, latched")

    def test_without_a_display_each_press_drives_for_a_short_time(self) -> None:
        terminal = self.open_demo(env={"DISPLAY": "", "WAYLAND_DISPLAY": ""})
        terminal.keys("w")
        wait_for(lambda: "keys, timed" in terminal.row(0), 20, terminal.screen)
        wait_for(lambda: "forward stick 0.00" in terminal.row(-2), 20, terminal.screen)
        terminal.keys("o")
        terminal.wait("who drives?")
        self.assertNotIn("a window for held keys", terminal.screen())
