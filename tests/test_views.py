"""Views: drawing that never acts, clicks wherever arrows lead, keys of one's own."""

from __future__ import annotations

from typing import Any
from unittest import mock

import numpy as np

from pivrex.errors import SettingsError
from pivrex.rig import read_rig
from pivrex.rig.edit import RigFile
from pivrex.scene.marks import role
from pivrex.session.messages import GoLive, MoveSticks, Stop, WatchSources
from pivrex.session.shared import Row
from pivrex.tui.app import STILL_FRAMES, PivrexApp
from pivrex.tui.commands import Commands
from pivrex.tui.draw import cells
from pivrex.tui.draw.picture import Picture
from pivrex.tui.jobs.job import Job
from pivrex.tui.jobs.setting_worth import Worth, compare
from pivrex.tui.keys import key_name, read_keys
from pivrex.tui.model import ScreenModel
from pivrex.tui.themes import TEXTURES
from pivrex.tui.tick_history import History
from pivrex.tui.views.view_table import VIEWS
from pivrex.tuning.setting_trials import Compared
from tests.chassis import SOME, demo_path
from tests.local import local_model
from tests.support import DEMO, TempCase, Terminal, slow, wait_for
from tests.test_app import AppCase, in_loop
from tests.test_scene import shares


class DrawingTest(AppCase):
    """Whatever is open: drawing asks nothing of the session, changes nothing of the rig, and gives the same again."""

    async def check(self, what: str) -> None:
        view = self.app.view
        forbidden = [
            mock.patch.object(ScreenModel, name, side_effect=AssertionError(f"{what}: drawing calls {name}"))
            for name in ("ask", "edit", "choose", "nudge", "drag", "type_in", "undo", "redo", "probe", "say", "pull")
        ]
        forbidden += [mock.patch.object(RigFile, name, side_effect=AssertionError(what)) for name in ("put", "edit")]
        guide = getattr(view, "guide", None) or getattr(view, "_guide", None)
        before = dict(vars(guide)) if guide is not None else {}
        with mock.patch.object(Job, "ask", side_effect=AssertionError(what)):
            for one in forbidden:
                one.start()
            try:
                pictures = [view.draw(view.size.width, view.size.height) for _ in range(2)]
                view._kept.clear()
                pictures.append(view.draw(view.size.width, view.size.height))
                self.app.draw()
            finally:
                mock.patch.stopall()
        for other in pictures[1:]:  # what is kept of panels is what would be drawn
            self.assertEqual(pictures[0].rows(), other.rows(), what)
            np.testing.assert_array_equal(pictures[0].roles, other.roles, what)
        if guide is not None:
            self.assertEqual(vars(guide), before, what)

    @in_loop
    async def test_drawing_never_acts(self) -> None:
        async with self.running(view="driver"):
            for path in map(demo_path, SOME):
                self.model.open_rig(self.home / "rigs" / path.name)
                for row in VIEWS:
                    await self.press(row.digit)
                    await self.check(f"{row.name} of {path.stem}")
            self.model.open_rig(self.rig_file)
            await self.press("1", "v")
            await self.check("driver, while it waits for a control")
            await self.press("escape", "3", "c")
            await self.check("the shakedown, before it begins")
            await self.press("enter")
            await self.check("the shakedown, a step")
            await self.press("enter")
            for _ in range(20):
                await self.frames(3)
                await self.check("the shakedown, while it probes")


class ClickTest(AppCase):
    """What arrows select can be clicked."""

    async def click(self, text: str, part: str, below: str = "") -> None:
        """Click on the middle of a text in a part of the screen."""
        rows = self.text(part).splitlines()
        first = next((i for i, row in enumerate(rows) if below in row), 0) if below else 0
        y = next(i for i, row in enumerate(rows) if i >= first and text in row)
        await self.pilot.click(f"#{part}", offset=(rows[y].index(text) + len(text) // 2, y))
        await self.frames()

    @in_loop
    async def test_keys_of_the_foot(self) -> None:
        async with self.running():
            await self.frames(3)
            wheel = self.model.wheel_name
            await self.click("n next wheel", "foot")
            self.assertNotEqual(self.model.wheel_name, wheel)
            await self.click("Esc stop", "foot")
            self.assertEqual(self.model.status.held, "Esc")
            await self.click("g go on", "foot")
            self.assertEqual(self.model.status.held, "")

    @in_loop
    async def test_a_click_on_what_was_shown_a_frame_ago(self) -> None:
        async with self.running(view="chassis"):
            await self.frames(2)
            row = self.text("foot")
            self.app.show_view("field")  # the foot still shows a command of the view before
            await self.pilot.click("#foot", offset=(row.index("c shakedown") + 3, 0))
            self.assertIsNone(self.app.views["chassis"].guide)  # type: ignore[attr-defined]
            self.assertEqual(self.app.view.view_name, "field")

    @in_loop
    async def test_settings_and_choices(self) -> None:
        async with self.running(view="shaping"):
            await self.click("scale ", "shaping", below="▸ dead band")
            self.assertEqual(self.app.views["shaping"].settings.chosen, "shaping.forward.scale")  # type: ignore[attr-defined]
            await self.click(" clip ", "shaping")
            self.assertEqual(read_rig(self.rig_file).limits.fit, "clip")
            await self.press("u")
            self.assertEqual(read_rig(self.rig_file).limits.fit, "scale")

    @in_loop
    async def test_wheels_and_their_settings(self) -> None:
        async with self.running(view="chassis"):
            view: Any = self.app.views["chassis"]
            await self.click("right ", "chassis", below="turn in rad/s")
            self.assertEqual(self.model.wheel_name, "right")
            await self.click("radius", "chassis")
            self.assertEqual(view.settings.chosen, "chassis.wheels.1.radius")
            await self.press("5")
            await self.click("left ", "field", below="commanded")
            self.assertEqual(self.model.wheel_name, "left")

    @in_loop
    async def test_a_window_on_the_field_before_the_first_tick(self) -> None:
        async with self.running(view="field"):
            await self.press("z")
            self.model.trace.history = History(
                len(self.model.line.layout)
            )  # as between the rig that was chosen and its first tick
            self.app.draw()
            self.assertIn("pump", self.text("field"))

    @in_loop
    async def test_rungs_of_the_ladder(self) -> None:
        async with self.running():
            await self.frames(3)
            await self.click("why left", "why")
            self.assertIn("stage by stage", self.text("ladder"))
            await self.click("shaping.forward.dead_band", "ladder")
            self.assertIn("▸ band", self.text("ladder"))
            await self.click("shaping.forward.dead_band", "ladder")
            self.assertEqual(self.app.view.view_name, "shaping")

    @in_loop
    async def test_lists_over_the_view(self) -> None:
        async with self.running():
            await self.press("o")
            await self.pilot.click("OptionList", offset=(10, 2))
            await self.frames()
            self.assertEqual((self.model.status.source, self.over()), ("sticks", ""))
            await self.press("b")
            await self.pilot.click(offset=(120, 40))  # next to it
            await self.frames()
            self.assertEqual((self.model.rig.name, self.over()), ("Plover", ""))

    @in_loop
    async def test_a_robot_that_goes_while_the_list_is_open(self) -> None:
        async with self.running():
            await self.press("b")
            (self.home / "rigs" / "stray.toml").write_text("x = 1\n")
            await self.press("escape", "escape")  # the list, then the robot
            await self.until(lambda: self.model.held_before)  # "stopped: Esc" is said, and does not come between later
            await self.press("b")
            self.assertIn("stray", self.over())
            await self.pilot.press("end", "up")  # the last is a robot of one's own
            (self.home / "rigs" / "stray.toml").unlink()
            await self.pilot.press("enter")  # before the list is looked at again
            await self.frames()
            self.assertEqual(self.model.rig.name, "Plover")
            self.assertIn("stray.toml cannot be read: no such file", self.model.message)

    @in_loop
    async def test_esc_stops_and_closes_whatever_lies_over(self) -> None:
        for opener in ("o", "b", "question_mark"):
            async with self.running("recording watering"):
                await self.press(opener)
                self.assertTrue(self.over())
                await self.press("escape")
                self.assertEqual((self.over(), self.model.status.held), ("", "Esc"))

    @in_loop
    async def test_sources_and_patches_and_a_guides_answers(self) -> None:
        async with self.running(view="driver"):
            await self.press("1")
            self.model.ask(WatchSources(True))
            await self.frames(8)
            await self.click("sticks", "driver")
            view: Any = self.app.views["driver"]
            self.assertEqual(view.source().name, "sticks")
            await self.click("turn (law", "driver")
            self.assertEqual(view.patches.chosen().function, "turn")
            await self.press("3", "c")
            guide: Any = self.app.views["chassis"]
            await self.click("on the floor; I say", "chassis")
            self.assertEqual(guide.guide.at, 2)
            await self.click("on the floor; I say", "chassis")
            self.assertEqual(guide.guide.down.by, "person")

    @in_loop
    async def test_a_key_without_meaning_stops_live_also_over_a_list_or_help(self) -> None:
        for opener in ("o", "question_mark"):
            async with self.running():
                await self.frames(4)
                self.model.ask(GoLive())
                await self.press(opener)
                self.assertTrue(self.model.status.live)
                await self.press("Y")
                self.assertFalse(self.model.status.live)
                self.assertIn("Y, which means nothing here", self.model.status.held)


@slow
class ZoomTest(AppCase):
    @in_loop
    async def test_z_walks_between_the_floor_and_windows_that_follow(self) -> None:
        async with self.running(source="recording watering"):
            await self.frames(30)

            def size() -> float:
                picture = self.app.view.canvas.picture
                return float(shares(picture, "hull")[:, :95].sum() + shares(picture, "tyre")[:, :95].sum())

            whole = size()
            self.assertIn("bench D", self.text("field"))
            await self.press("z")
            nearer = size()
            await self.press("z")
            self.assertGreater(nearer, 2 * whole)
            self.assertGreater(size(), 2 * nearer)
            self.assertIn("a window of 1 m", self.text("foot"))
            for _ in range(40):
                await self.frames(3)
                self.assertGreater(size(), whole)  # wherever it drives
            await self.press("z", "z")
            self.assertIn("bench D", self.text("field"))

    @in_loop
    async def test_a_robot_that_would_be_tiny_is_shown_in_its_surroundings_with_the_whole_floor_in_a_corner(
        self,
    ) -> None:
        workspace = self.home / "workspace.toml"
        workspace.write_text(
            workspace.read_text()
            .replace('length = "5.0 m"', 'length = "90 m"')
            .replace('width = "4.0 m"', 'width = "60 m"')
        )
        async with self.running(source="recording watering"):
            await self.frames(5)
            picture = self.app.view.canvas.picture
            self.assertGreater(shares(picture, "hull")[:, :72].sum(), 15)
            corner = picture.grounds[4:9, 74:93]
            self.assertTrue((corner == role("floor")).mean() > 0.5)
            await self.press("z", "z", "z")
            self.assertIn("the whole floor", self.text("foot"))
            self.assertLess(shares(self.app.view.canvas.picture, "hull")[:, :95].sum(), 6)

    @in_loop
    async def test_without_colours_areas_are_textures(self) -> None:
        async with self.running():
            await self.press("t", "t", "z", "z")
            self.assertEqual(self.app.look, "plain")
            view = self.app.view
            lines = ["".join(s.text for s in view.canvas.render_line(y)) for y in range(view.size.height)]
            shown = "\n".join(lines)
            self.assertIn(TEXTURES["hull"] * 4, shown)
            self.assertIn(TEXTURES["nose"], shown)


class DotsTest(AppCase):
    @in_loop
    async def test_without_the_library_that_draws_all_views_show_and_it_is_said_once(self) -> None:
        with mock.patch.object(cells, "Image", None):
            async with self.running(source="recording watering"):
                for row in VIEWS:
                    await self.press(row.digit)
                    await self.frames(2)
                told = [one for one in self.model.said if "drawings are dots" in one.text]
                self.assertEqual([one.times for one in told], [1])


class MouseTest(TempCase):
    """In a real terminal, tmux with the mouse on: the reports that it passes on to a program."""

    def test_foot_list_rung_and_setting(self) -> None:
        terminal = Terminal("demo", str(self.folder / "w"), "--view", "shaping", config="set -g mouse on")
        self.addCleanup(terminal.close)
        terminal.wait("Esc stop")
        wait_for(lambda: terminal.flags().endswith("1"), 20, terminal.flags)
        terminal.click("Esc stop")
        terminal.wait("STOPPED")
        terminal.click("g go on")
        wait_for(lambda: "STOPPED" not in terminal.screen(), 20, terminal.screen)
        terminal.click("curve")
        wait_for(lambda: "▸ curve" in terminal.screen(), 20, terminal.screen)
        terminal.click("o source")
        terminal.wait("who drives?")
        terminal.click("keys, latched")
        wait_for(
            lambda: "who drives?" not in terminal.screen() and "now driving: keys" in terminal.screen(),
            20,
            terminal.screen,
        )
        terminal.click("why left")
        terminal.wait("stage by stage")
        terminal.keys("C-q")
        terminal.wait("ENDED with 0")


class WorthTest(TempCase):
    def test_it_is_asked_once_a_rig_stands_and_for_planar_laws_only(self) -> None:
        rig, plover = read_rig(DEMO / "rigs" / "dunlin.toml"), read_rig(DEMO / "rigs" / "plover.toml")
        begun: list[str] = []

        looks = 0

        def ask(job: Job[Any, Any], asked: Any) -> None:
            nonlocal looks
            job.question, looks = asked, 0
            begun.append(asked.name)

        def poll(job: Job[Any, Any]) -> list[tuple[Any, Any]]:
            nonlocal looks
            looks += 1
            return [(job.question, {"straight": Compared(0.001, 0.1)})] if looks == 4 and job.question else []

        def stop(job: Job[Any, Any]) -> None:
            if job.question is not None and looks < 4:
                begun.append("stopped")
            job.question = None

        with mock.patch.multiple(Job, ask=ask, poll=poll, stop=stop):
            worth = Worth()
            for serial in range(9):
                worth.update(rig, serial)
            self.assertEqual(begun, [])  # it is being changed
            for _ in range(30):
                worth.update(rig, 8)
            self.assertEqual((begun, worth.of_rig), (["Dunlin"], {"straight": Compared(0.001, 0.1)}))
            worth.update(plover, 9)
            self.assertEqual(worth.of_rig, {})
            for _ in range(30):
                worth.update(plover, 9)
            for _ in range(16):
                worth.update(rig, 10)
            worth.close()
            self.assertEqual(begun, ["Dunlin", "Dunlin", "stopped"])

    def test_the_process_beside_says_what_it_would_say_here(self) -> None:
        rig = read_rig(DEMO / "rigs" / "dunlin.toml")
        worth = Worth()
        self.addCleanup(worth.close)
        wait_for(lambda: worth.update(rig, 1) or worth.of_rig)  # type: ignore[func-returns-value]
        self.assertEqual(worth.of_rig, compare(rig))


class KeyFileTest(AppCase):
    def test_how_keys_are_written(self) -> None:
        for key, shown in (
            ("ctrl+l", "Ctrl+L"),
            ("escape", "Esc"),
            ("shift+left", "⇧←"),
            ("g", "g"),
            ("U", "U"),
            ("f5", "F5"),
        ):
            self.assertEqual(key_name(key), shown)

    def test_a_file_of_keys(self) -> None:
        commands = Commands(VIEWS)
        self.assertEqual(read_keys(self.folder / "none.toml", commands.all), {})
        path = self.write("settings.toml", '[keys]\ngo_live = "Ctrl+G"\nundo = ["semicolon", "ctrl+z"]\nstop = "f1"\n')
        keys = read_keys(path, commands.all)
        self.assertEqual(keys, {"go_live": ("ctrl+g",), "undo": ("semicolon", "ctrl+z"), "stop": ("escape", "f1")})
        changed = Commands(VIEWS, keys)
        for key, name in (("ctrl+g", "go_live"), ("semicolon", "undo"), ("f1", "stop"), ("escape", "stop")):
            found = changed.of_key(key, "field")
            self.assertEqual(found.name if found else "", name)
        self.assertIsNone(changed.of_key("ctrl+l", "field"))

    def test_every_mistake_in_it_is_said_with_its_line(self) -> None:
        path = self.write(
            "settings.toml",
            '[keys]\ngo_lives = "x"\nundo = "w"\nredo = 7\nrecord = "escape"\nrigs = "o"\nshakedown = "n"\n',
        )
        with self.assertRaises(SettingsError) as caught:
            read_keys(path, Commands(VIEWS).all)
        said = caught.exception.lines()
        for line, what in (
            (2, "go_lives: is no command"), (3, "undo: is w, which drives"), (4, "redo: should be a key in quotes"),
            (5, "record: is Esc, which always stops"), (6, "rigs: is o, which sources has already"),
            (7, "shakedown: is n, which next_wheel has already"),
        ):  # fmt: skip
            self.assertTrue(any(f":{line}: keys.{what}" in s for s in said), (what, said))

    def test_two_views_may_use_one_key_and_what_is_free_can_be_taken(self) -> None:
        path = self.write("settings.toml", '[keys]\nrigs = "o"\nsources = "b"\npatch = "f"\n')
        self.assertEqual(read_keys(path, Commands(VIEWS).all)["patch"], ("f",))
        path = self.write("settings.toml", '[keys]\ntake_away = "f9"\n')  # its id was another one before
        self.assertEqual(read_keys(path, Commands(VIEWS).all), {"delete_run": ("f9",)})

    @in_loop
    async def test_help_and_foot_show_ones_own_key(self) -> None:
        self.model = local_model(self.home)
        self.addCleanup(self.model.client.close)
        self.app = PivrexApp(self.model, keys={"sources": ("f2",)})
        async with self.app.run_test(size=(160, 47)) as pilot:
            self.pilot = pilot
            await self.frames(3)
            self.assertIn("F2 source", self.text("foot"))
            await self.press("f2")
            self.assertIn("F2 closes", self.over())
            await self.press("f2", "question_mark")
            self.assertRegex(self.over(), r"F2 +source: Lists")

    def test_a_view_that_is_not_there_is_wrong_use(self) -> None:
        terminal = Terminal("demo", str(self.folder / "w"), "--view", "nothing")
        self.addCleanup(terminal.close)
        terminal.wait("--view is nothing, but the views are driver, shaping, chassis, heading, field", 30)
        terminal.wait("ENDED with 2", 30)

    def test_a_wrong_file_is_said_before_the_screen_opens(self) -> None:
        path = self.home.parent / "home" / "config" / "settings.toml"
        path.parent.mkdir(parents=True)
        path.write_text('[keys]\ngo_lives = "x"\n')
        terminal = Terminal("demo", str(self.folder / "w"))
        self.addCleanup(terminal.close)
        terminal.wait("keys.go_lives: is no command", 30)
        terminal.wait("ENDED with 1", 30)


class StaleTest(AppCase):
    """While a changed rig is still being built, Ticks of the one before come: they will do where the layout is the same."""

    def test_ticks_of_the_rig_before(self) -> None:
        model = local_model(self.home)
        self.addCleanup(model.client.close)
        model.pull()
        width, before = len(model.line.layout), len(model.history)
        model.nudge("shaping.forward.dead_band", 1)
        stale = Row(model.serial - 1, 0, 0.0, 0.0, np.zeros(width))
        with mock.patch.object(model.client, "rows", return_value=[stale]):
            model.pull()
            self.assertEqual(len(model.history), before + 1)
            model.open_rig(self.home / "rigs" / "avocet.toml")
            model.pull()
        self.assertEqual(len(model.history), 0)  # another robot's Ticks mean other things


class PaceTest(AppCase):
    """While nothing moves, the screen draws less often; what moves is drawn in every frame."""

    def drawn(self, frames: int, pause: float = 0.0) -> int:
        """Return how many of so many frames are drawn, with a pause after each as on a quick or a slow computer."""
        with (
            mock.patch.object(self.app, "draw", wraps=self.app.draw) as draw,
            mock.patch("pivrex.tui.app.PAUSE", pause),
        ):
            for _ in range(frames):
                self.app.frame(paced=True)
        return draw.call_count

    @in_loop
    async def test_a_robot_at_rest_and_one_that_drives(self) -> None:
        async with self.running():
            await self.frames(30)
            self.assertTrue(self.model.trace.is_still(self.model.line))
            self.assertEqual(self.drawn(20), 20 // STILL_FRAMES)
            self.model.ask(MoveSticks({"left_y": -0.5}))
            self.assertGreater(self.drawn(20), 18)  # the first may come before the stick moves
            self.assertEqual(self.drawn(20), 20)  # at a steady speed no command changes, but the pose does
            self.assertEqual(self.drawn(21, 1e9), 1 + 20 // STILL_FRAMES)
            self.model.ask(Stop("Esc"))
            await self.frames(60)
            self.assertTrue(self.model.trace.is_still(self.model.line))

    @in_loop
    async def test_a_tick_of_another_rig_is_no_rest(self) -> None:
        async with self.running():
            await self.frames(30)
            self.model.open_rig(self.home / "rigs" / "avocet.toml")
            self.app.frame(paced=True)  # before its first Tick
            self.assertFalse(self.model.trace.is_still(self.model.line))
            await self.frames(1)
            self.assertFalse(self.model.trace.is_still(self.model.line))
            await self.frames(30)
            self.assertTrue(self.model.trace.is_still(self.model.line))


class SpotTest(TempCase):
    def test_spots_move_with_the_picture_that_is_placed_and_the_last_lies_on_top(self) -> None:
        small, large = Picture(4, 2), Picture(20, 5)
        small.spot(1, 1, 2, "row", "a")
        large.spot(0, 0, 20, "all", height=5)
        large.place(small, 10, 2)
        self.assertEqual([large.spot_at(x, 3).value for x in (10, 11, 12, 13)], ["", "a", "a", ""])  # type: ignore[union-attr]
        self.assertIsNone(large.spot_at(20, 0))
