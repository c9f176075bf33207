"""The real program in a real terminal: tmux, driven by keys, read as text."""

import functools
import os
import re
import shutil
import signal
import subprocess
import sys
import time
import unittest
from pathlib import Path

from pivrex.devices.simulated_pad import PadRemote, read_port_file
from pivrex.rig import open_folder, read_rig
from tests.support import DEMO, ROOT, TempCase, Terminal, often, slow, wait_for


@unittest.skipUnless(shutil.which("tmux"), "needs tmux")
class TerminalCase(TempCase):
    def open(
        self, *words: str, size: tuple[int, int] = (160, 47), env: dict[str, str] | None = None, config: str = ""
    ) -> Terminal:
        terminal = Terminal(*words, size=size, env=env, config=config)
        self.addCleanup(terminal.close)
        return terminal

    def open_demo(self, *more: str, size: tuple[int, int] = (160, 47), env: dict[str, str] | None = None) -> Terminal:
        self.workspace = self.folder / "demo"
        terminal = self.open("demo", str(self.workspace), *more, size=size, env=env)
        terminal.wait("why left:")
        return terminal

    def edge(self) -> float:
        return read_rig(self.workspace / "rigs" / "plover.toml").shaping.forward.dead_band


class RoutineJourneyTest(TerminalCase):
    def test_type_mend_play_be_cut_off_and_drive_on(self) -> None:
        home = self.folder / "own"
        shutil.copytree(DEMO, home)
        text = home / "routines" / "mine.txt"
        text.write_text("for plover\n")
        workspace = home / "workspace.toml"
        said = workspace.read_text().replace('plover = "greenhouse-plover"', 'plover = "mine"')
        workspace.write_text(
            said.replace('alone = "25 s"', 'alone = "3 s"').replace('between = "3 s"', 'between = "1 s"')
        )
        terminal = self.open("open", str(home), "--rig", "plover", "--view", "routine")
        terminal.wait("has no step yet")
        terminal.wait("why left:")  # the editor shows its text before the first picture, which keys wait for
        terminal.keys("y", "Down")
        terminal.keys(*("Space" if c == " " else c for c in "drive ahed 2 m"))
        terminal.wait('nearest is "ahead"')
        terminal.wait("! 1 mistake")
        terminal.keys("Left", "Left", "Left", "Left", "Left", "a", "Left")  # ahe|d: the letter that is missing
        terminal.wait("no mistakes")
        wait_for(lambda: text.read_text() == "for plover\ndrive ahead 2 m", 20, terminal.screen)
        wait_for(lambda: "cut off by the clock at 3 s" in terminal.screen(), 30, terminal.screen)
        # played, and cut off by the clock
        terminal.keys("Escape")
        wait_for(lambda: "STOPPED" in terminal.row(0), 20, terminal.screen)
        terminal.keys("g", "M")
        terminal.wait("READY  mine · Plover")
        terminal.keys("M")
        terminal.wait("line 2 of the routine commands it")
        terminal.wait("DRIVEN")
        # driven on by hand
        terminal.keys("w", "w", "w")
        wait_for(
            lambda: "forward stick" in terminal.row(-2) and "/255 forward" in terminal.row(-2), 20, terminal.screen
        )
        terminal.keys("Escape")
        wait_for(lambda: "STOPPED" in terminal.row(0), 20, terminal.screen)


class JourneyTest(TerminalCase):
    def test_start_take_over_change_undo_stop_quit(self) -> None:
        terminal = self.open_demo()
        # it drives by itself
        wait_for(lambda: "recorded driver, watering" in terminal.row(0), 20, terminal.screen)
        wait_for(lambda: "/255 forward" in terminal.row(-2), 20, terminal.screen)
        # taken over by key: the wheels change
        terminal.keys("w", "w", "w", "w")
        wait_for(lambda: "keys, latched" in terminal.row(0), 20, terminal.screen)
        wait_for(lambda: "forward stick 1.00" in terminal.row(-2), 20, terminal.screen)
        terminal.keys("a", "a")
        wait_for(lambda: "turn" in terminal.row(-2), 20, terminal.screen)
        # a dead band is changed: the number, the file and the sentence follow
        terminal.keys("2")
        terminal.wait("▸ dead band")
        terminal.keys("S-Right", "S-Right")
        wait_for(lambda: self.edge() == 0.16, 20, terminal.screen)
        terminal.wait("dead band ±16 %")
        terminal.keys("u", "u")
        wait_for(lambda: self.edge() == 0.06, 20, terminal.screen)
        # stopped
        terminal.keys("Escape")
        wait_for(lambda: "STOPPED" in terminal.row(0), 20, terminal.screen)
        wait_for(lambda: "0/255 rest" in terminal.row(-2), 20, terminal.screen)
        terminal.keys("5")
        terminal.wait("greenhouse 5 × 4 m")
        terminal.keys("C-q")
        terminal.wait("ENDED with 0")

    def test_a_virtual_pad_drives_and_is_unplugged_by_the_remote_command_and_here(self) -> None:
        terminal = self.open_demo("--pad")
        file = self.home / "run" / "pad-port"
        wait_for(lambda: file.is_file() and file.read_text(), 20, terminal.screen)
        env = {**os.environ, "PYTHONPATH": str(ROOT / "src"), "PIVREX_HOME": str(self.home)}
        lines = "press button_0\nleft_y -0.8 left_x 0.3\nwhat\nwait 1\nunplug\n"
        done = subprocess.run(
            [sys.executable, "-m", "pivrex", "remote", "--pad"], input=lines, text=True, env=env, capture_output=True, check=False,
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("line 3: 'what' is not understood", done.stderr)
        terminal.wait("was unplugged")
        remote = PadRemote(*read_port_file(self.home / "run"))
        remote.move(button_0=1.0)
        wait_for(lambda: "pad 1" in terminal.row(0), 20, terminal.screen)
        remote.move(button_0=0.0)
        terminal.keys("g")
        wait_for(lambda: "STOPPED" not in terminal.row(0), 20, terminal.screen)
        remote.move(left_y=-1.0)
        wait_for(lambda: "forward stick 1.00" in terminal.row(-2), 20, terminal.screen)
        remote.unplug()
        wait_for(lambda: "STOPPED" in terminal.row(0), 20, terminal.screen)
        terminal.wait("pad 1 was unplugged, and it was driving")
        wait_for(lambda: "0/255 rest" in terminal.row(-2), 20, terminal.screen)

    def test_the_key_that_means_nothing_and_losing_the_focus_while_live(self) -> None:
        terminal = self.open(str(self.demo()))
        terminal.wait("why left:")
        terminal.while_live(
            lambda: terminal.keys("y"), lambda: "the key y, which means nothing here" in terminal.screen()
        )
        wait_for(lambda: "STOPPED" in terminal.row(0), 20, terminal.screen)
        # what a terminal sends when its window loses the focus
        terminal.while_live(
            lambda: terminal._tmux("send-keys", "-t", "main", "-l", "\x1b[O"),
            lambda: "the window lost the focus" in terminal.screen(),
        )

    def test_the_gyro_holds_a_heading(self) -> None:
        terminal = self.open("open", str(self.demo()), "--rig", "plover", "--view", "heading")
        terminal.wait("target jumps 30 deg, realistic physics")
        wait_for(lambda: "deg/s" in terminal.screen() and "now" in terminal.screen(), 40, terminal.screen)
        terminal.wait("none held")
        terminal.keys("Y")
        wait_for(lambda: "none held" not in terminal.screen(), 20, terminal.screen)
        # pushed it is off, and turned back
        terminal.keys("f")
        wait_for(lambda: re.search(r"off\D+([1-9]|0\.[3-9]).* deg (left|right)", terminal.row(2)), 20, terminal.screen)
        wait_for(
            lambda: not re.search(r"off\D+([1-9]|0\.[6-9]).* deg (left|right)", terminal.row(1)), 20, terminal.screen
        )
        terminal.keys("y")
        terminal.wait("P alone")
        wait_for(lambda: terminal.screen().count("P alone") >= 2, 20, terminal.screen)
        terminal.keys("v", "v", "c")
        terminal.wait("turn 90 deg: done after", 40)
        terminal.keys("S")
        wait_for(lambda: "candidates" in terminal.screen(), 30, terminal.screen)
        terminal.keys("Escape")
        terminal.wait("STOPPED")
        wait_for(lambda: "candidates" not in terminal.screen(), 20, terminal.screen)
        terminal.keys("g", "5")
        wait_for(lambda: "V of 7.4 V" in terminal.screen(), 20, terminal.screen)
        terminal.keys("C-q")
        terminal.wait("ENDED with 0")


class PathJourneyTest(TerminalCase):
    def test_a_path_is_drawn_on_tried_driven_and_stopped(self) -> None:
        home = self.demo()
        file = home / "paths" / "round.toml"
        terminal = self.open("open", str(home), "--rig", "plover", "--view", "field")
        terminal.wait("why left:")
        terminal.keys("P")
        terminal.wait("path round")
        wait_for(lambda: "the simulated robot ends" in terminal.screen(), 40, terminal.screen)
        terminal.keys(".", ".", "Up", "y")
        terminal.wait("point 3 =")
        terminal.keys(*("Space" if c == " " else c for c in "2.40 m, 0.90 m"), "Enter")
        wait_for(lambda: 'x = "2.400 m"' in file.read_text(), 20, terminal.screen)
        terminal.wait("x 2.40 m  y 0.90 m")
        terminal.keys("D")
        wait_for(lambda: "off its plan" in terminal.screen(), 30, terminal.screen)
        terminal.keys("Escape")
        terminal.wait("STOPPED")
        terminal.keys("u", "u")
        wait_for(lambda: 'x = "2.450 m"' in file.read_text(), 20, terminal.screen)
        terminal.keys("C-q")
        terminal.wait("ENDED with 0")


@slow
class RoughTest(TerminalCase):
    def test_sizes(self) -> None:
        terminal = self.open("demo", str(self.folder / "demo"), size=(20, 5))
        terminal.wait("Esc stops")
        for width, height in ((100, 30), (80, 24), (20, 5), (160, 47)):
            terminal.resize(width, height)
            terminal.keys("w")
            terminal.wait("Esc stop")
            self.assertNotIn("ENDED", terminal.screen())
            self.assertNotIn("Traceback", terminal.screen())
        terminal.wait("why left:")

    def test_without_colour_and_without_utf_8(self) -> None:
        terminal = self.open_demo(env={"NO_COLOR": "1"})
        self.assertIn("safe", terminal.row(0))
        other = self.open("demo", str(self.folder / "other"), env={"LC_ALL": "POSIX"})
        other.wait("why left:")
        self.assertTrue(other.screen().isascii(), other.screen())
        self.assertIn("+-", other.screen())

    def test_mashed_keys(self) -> None:
        terminal = self.open_demo()
        for _ in range(6):
            terminal.keys(
                *"qwe25asd?o=xu", "Enter", "Up", "Down", "Left", "Right", "Tab", "F1", "Home", "PPage", "C-p", "Escape"
            )
        terminal.keys("Escape", "Escape")  # what may lie over the view, then the robot
        terminal.wait("STOPPED")
        self.assertNotIn("Traceback", terminal.screen())
        terminal.keys("C-q")
        terminal.wait("ENDED with 0")

    def test_two_programs_on_one_workspace(self) -> None:
        one = self.open_demo("--view", "shaping")
        two = self.open(str(self.workspace), "--view", "shaping")
        two.wait("▸ dead band")
        one.keys("Right")
        two.wait("dead band ±7 %")
        two.keys("Down", "Right")
        file = self.workspace / "rigs" / "plover.toml"

        def shaped() -> tuple[float, float]:
            forward = read_rig(file).shaping.forward
            return forward.dead_band, forward.curve

        wait_for(lambda: shaped() == (0.07, 0.4), 20, two.screen)
        one.wait("40 %")
        # and by hand while both are open
        file.write_text(file.read_text().replace('dead_band = "7 %"', 'dead_band = "21 %"'))
        one.wait("dead band ±21 %")
        two.wait("was changed by another program")

    def test_bad_rigs_are_told_before_the_screen(self) -> None:
        home = self.demo()
        (home / "rigs" / "plover.toml").write_text("name = \n")
        terminal = self.open(str(home))
        terminal.wait("plover.toml:1: is not TOML")
        terminal.wait("ENDED with 1")


@slow
class KillTest(TerminalCase):
    def test_killed_at_any_moment_every_file_is_whole_and_the_next_start_works(self) -> None:
        for round_ in range(often(20, 2)):
            terminal = self.open_demo("--view", "shaping")
            terminal.wait("▸ dead band")
            screen, *children = terminal.pids()
            for i in range(8):
                terminal.keys("Right" if i % 3 else "Left")
            time.sleep(0.02 * (round_ % 4))
            os.kill(screen, signal.SIGKILL)
            wait_for(functools.partial(all_gone, children), 20, str(children))
            # every file can be read, and none is left half written
            folder = open_folder(self.workspace)
            for rig in folder.rigs():
                read_rig(rig)
            self.assertEqual([p.name for p in folder.rigs()], sorted(p.name for p in (DEMO / "rigs").glob("*.toml")))
            # the session brought the terminal back: its own screen again, and no mouse reports
            wait_for(lambda: terminal.flags() == "0 0", 20, terminal.flags)  # noqa: B023
            terminal.close()

    def test_what_was_typed_into_a_routine_is_on_the_disk(self) -> None:
        terminal = self.open_demo("--view", "routine")
        terminal.wait("from now on drive")
        terminal.keys("y", "Down")
        terminal.keys(*"# typed just now")
        terminal.wait("# typed just now")
        screen, *children = terminal.pids()
        os.kill(screen, signal.SIGKILL)
        wait_for(functools.partial(all_gone, children), 20, str(children))
        text = (self.workspace / "routines" / "greenhouse-plover.txt").read_text()
        self.assertEqual(text.count("# typed just now"), 1)
        self.assertEqual(
            text.replace("# typed just now", ""), (DEMO / "routines" / "greenhouse-plover.txt").read_text()
        )

    def test_the_simulated_robot_waits_for_a_frozen_screen_and_a_killed_session_is_said(self) -> None:
        terminal = self.open_demo()
        wait_for(lambda: "/255 forward" in terminal.row(-2), 20, terminal.screen)
        screen = terminal.pids()[0]
        threads = Path(f"/proc/{screen}/task")
        before = len(list(threads.iterdir()))
        os.kill(screen, signal.SIGSTOP)
        time.sleep(2.0)
        os.kill(screen, signal.SIGCONT)
        terminal.wait("s: this computer was too busy")
        self.assertNotIn("STOPPED", terminal.row(0))
        wait_for(lambda: "/255 forward" in terminal.row(-2), 20, terminal.screen)
        self.assertEqual(len(list(threads.iterdir())), before)  # one that reads the keys, and one that draws
        for pid in terminal.pids()[1:]:
            if "spawn_main" in Path(f"/proc/{pid}/cmdline").read_text():
                os.kill(pid, signal.SIGKILL)
        terminal.wait("the session no longer answers")
        terminal.keys("C-q")
        terminal.wait("ENDED with 0")


def all_gone(pids: list[int]) -> bool:
    return not any(_runs(pid) for pid in pids)


def _runs(pid: int) -> bool:
    try:
        return ") Z " not in Path(f"/proc/{pid}/stat").read_text()
    except OSError:
        return False


if __name__ == "__main__":
    unittest.main()
