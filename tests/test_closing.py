"""What once ended the program: views opened at once, keys pressed twice, outputs that are no files."""

import asyncio
import os
import stat
import subprocess
import sys
import threading

from textual.widgets import Input

from pivrex.files import write_atomically
from pivrex.session.messages import KeyDown
from pivrex.tui import app as app_module
from pivrex.tui.app import PivrexApp
from pivrex.tui.overlays.entry import ValueEntry
from pivrex.tui.overlays.palette import Palette
from tests.chassis import ALL, demo_path
from tests.local import local_model
from tests.support import WATERING, TempCase, slow
from tests.test_app import AppCase, in_loop

SIZES = ((160, 47), (100, 30), (80, 24))


@slow
class EveryViewTest(TempCase):
    @in_loop
    async def test_every_view_opens_by_key_while_each_robot_drives(self) -> None:
        """Right after the start, at three sizes: no view may draw before it has a place."""
        self.addCleanup(setattr, app_module, "FRAMES_PER_S", app_module.FRAMES_PER_S)
        app_module.FRAMES_PER_S = 0.1
        home = self.demo()
        for i, name in enumerate(ALL):
            model = local_model(home)
            self.assertTrue(model.open_rig(home / "rigs" / f"{name}.toml"))
            app = PivrexApp(model, view="field")
            async with app.run_test(size=SIZES[i % 3]) as pilot:
                for key in "wweeddqq":  # more than the wheels can, so that there is something to remark
                    model.ask(KeyDown(key))
                for digit in "12353231":
                    await pilot.press(digit)
                    app.frame()
                for size in SIZES:
                    await pilot.resize_terminal(*size)
                    for digit in "1235":
                        await pilot.press(digit)
                        app.frame()
                self.assertEqual(app.return_code or 0, 0)
            model.client.close()


class PressedTwiceTest(AppCase):
    @in_loop
    async def test_enter_twice_and_escape_after_enter_close_the_entry_once(self) -> None:
        async with self.running(view="shaping"):
            for last in ("enter", "escape"):
                self.app.act_type_value()
                entry = self.app.screen
                assert isinstance(entry, ValueEntry)
                await self.pilot.pause()
                typed = entry.query_one(Input)
                typed.post_message(Input.Submitted(typed, "40 %"))
                if last == "escape":
                    self.app.action_stop_first()  # between the Enter and what it sets off
                else:
                    typed.post_message(Input.Submitted(typed, "40 %"))
                await self.pilot.pause()
                await self.pilot.pause()
                self.assertEqual(len(self.app.screen_stack), 1)
                self.assertTrue(self.app.is_running)

    @in_loop
    async def test_a_palette_closed_while_it_opens(self) -> None:
        async with self.running():
            for turns in range(24):
                self.app.act_palette()
                palette = self.app.screen
                assert isinstance(palette, Palette)
                for _ in range(turns):
                    await asyncio.sleep(0)
                self.app.action_stop_first()
                palette._gather_commands("")  # as its own start-up does when it comes too late
            await self.pilot.pause()
            self.assertEqual(len(self.app.screen_stack), 1)
            self.assertTrue(self.app.is_running)


class OutputTest(TempCase):
    def test_a_device_and_a_pipe_stay_what_they_are(self) -> None:
        pipe = self.folder / "pipe"
        os.mkfifo(pipe)
        read: list[bytes] = []
        reader = threading.Thread(target=lambda: read.append(pipe.read_bytes()))
        reader.start()
        write_atomically(pipe, "through")
        reader.join()
        self.assertEqual(read, [b"through"])
        self.assertTrue(stat.S_ISFIFO(pipe.stat().st_mode))
        link = self.folder / "null"
        link.symlink_to("/dev/null")
        write_atomically(link, "nothing")
        self.assertTrue(stat.S_ISCHR(link.stat().st_mode))
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), ["null", "pipe"])

    def test_a_line_for_standard_output(self) -> None:
        for words in (["map", str(demo_path("plover")), str(WATERING)], ["export", "wiring", str(demo_path("plover"))]):
            ran = subprocess.run(
                [sys.executable, "-m", "pivrex", *words, "-o", "-"],
                capture_output=True,
                text=True,
                cwd=self.folder,
                check=False,
            )
            self.assertEqual(ran.returncode, 0, ran.stderr)
            self.assertGreater(ran.stdout.count("\n"), 2)
            self.assertFalse((self.folder / "-").exists())
