"""The application in Textual's pilot, with a session in this process."""

import asyncio
import functools
import shutil
import time
import unittest
from collections.abc import Callable, Coroutine, Iterator, Sequence
from contextlib import asynccontextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any, cast
from unittest import mock

from textual import _wait, events
from textual.keys import Keys
from textual.widgets import OptionList

from pivrex.rig import read_rig
from pivrex.session.messages import GoLive, KeyDown, KeyUp, Request, Stop
from pivrex.tui import app as app_module
from pivrex.tui.app import PivrexApp
from pivrex.tui.canvas import Canvas
from pivrex.tui.commands import Commands
from pivrex.tui.overlays.closing import moves
from pivrex.tui.overlays.entry import ValueEntry
from pivrex.tui.releases import FocusReported, KeyReleased, ReleaseParser, ReleasesReported
from pivrex.tui.views.field import FieldView
from pivrex.tui.views.shaping import ShapingView
from pivrex.tui.views.view_row import ViewRow
from pivrex.tui.views.view_table import VIEWS
from tests.local import LocalClient, local_model, previews_at_once, where, work_in_threads
from tests.support import DEMO, TempCase

# Textual's pilot looks fifty times a second whether the program is idle; here it looks oftener, and waits for the same
_wait.SLEEP_GRANULARITY, _wait.SLEEP_IDLE = 0.002, 0.001


def in_loop(test: Callable[[Any], Coroutine[Any, Any, None]]) -> Callable[[Any], None]:
    """Run a test in an event loop of its own, without the loop's slow debug mode."""

    @functools.wraps(test)
    def run(self: Any) -> None:
        asyncio.run(test(self))

    return run


class AppCase(TempCase):
    rows: Sequence[ViewRow] = VIEWS
    """The views that there are."""
    _frames = 0

    def setUp(self) -> None:
        super().setUp()
        self.home = self.demo()
        self.rig_file = self.home / "rigs" / "plover.toml"
        # frames are asked for by the test, not by the clock
        self.addCleanup(setattr, app_module, "FRAMES_PER_S", app_module.FRAMES_PER_S)
        app_module.FRAMES_PER_S = 0.1
        self.enterContext(work_in_threads())
        self.enterContext(previews_at_once())

    @asynccontextmanager
    async def running(self, source: str = "keys", size: tuple[int, int] = (160, 47), view: str = "field") -> Any:
        self.model = local_model(self.home, source)
        self.addCleanup(self.model.client.close)
        self.app = PivrexApp(self.model, view=view, views=self.rows)
        async with self.app.run_test(size=size) as pilot:
            self.pilot = pilot
            await self.frames(2)
            yield pilot

    async def frames(self, count: int = 2) -> None:
        """Go on by so many frames, of which only the last is drawn."""
        for _ in range(count - 1):
            self.app.advance()
            await asyncio.sleep(0)
        await self.pilot.pause()  # what has just been opened has its place
        self.app.frame()
        self._frames += 1
        if self._frames % 3 == 0:
            self.kept_is_fresh()
        await self.pilot.pause()

    def kept_is_fresh(self) -> None:
        """Hold what is kept of panels to what would be drawn."""
        view = self.app.view
        kept = view.draw(*view.size)
        view._kept.clear()
        self.assertEqual(kept.rows(), view.draw(*view.size).rows(), view.view_name)

    async def until(self, true: Callable[[], object], seconds: float = 60.0) -> None:
        """Let frames pass until something is true; in between, background work has the processor."""
        end = time.monotonic() + seconds
        while not true():
            self.assertLess(time.monotonic(), end, self.text())
            await self.frames(2)
            await asyncio.sleep(0.04)

    async def press(self, *keys: str) -> None:
        await self.pilot.press(*keys)
        await self.frames()

    def text(self, name: str = "") -> str:
        canvases: Iterator[Canvas] = iter(self.app.screen_stack[0].query(Canvas))
        return "\n".join("\n".join(c.picture.rows()) for c in canvases if not name or c.id == name)

    def over(self) -> str:
        """What lies over the screen: a list with its title, or help."""
        top = self.app.screen_stack[-1]
        titles = [w.border_title or "" for w in top.query("*") if w.border_title]
        rows = [str(o.prompt) for one in top.query(OptionList) for o in one.options]
        help_rows = [row for one in top.query(Canvas) for row in one.picture.rows()]
        return "\n".join([*map(str, titles), *rows, *help_rows]) if len(self.app.screen_stack) > 1 else ""

    @property
    def asked(self) -> list[Request]:
        client = self.model.client
        assert isinstance(client, LocalClient)
        return client.asked


class DrivingTest(AppCase):
    @in_loop
    async def test_the_demo_drives_by_itself_and_the_why_is_there(self) -> None:
        async with self.running("recording watering"):
            await self.frames(60)
            self.assertIn("recorded driver, watering", self.text("head"))
            self.assertIn("safe", self.text("head"))
            self.assertRegex(
                self.text("why"),
                r"why left: forward stick \d\.\d\d → band .* m/s → \d+ % of top speed: drive \d+ % → \d+/255 forward",
            )
            self.assertGreater(self.model.value("sensed", "left_speed"), 0.2)
            await self.press("n")
            self.assertIn("why right:", self.text("why"))

    @in_loop
    async def test_taking_over_by_key_stopping_and_going_on(self) -> None:
        async with self.running("recording watering"):
            await self.frames(40)
            await self.press("w", "w", "w")
            self.assertEqual(self.model.status.source, "keys")
            await self.frames(20)
            self.assertGreater(self.model.value("limits", "left_limited"), 0.1)
            await self.press("escape")
            self.assertEqual(self.model.value("outputs", "left_duty"), 0)
            self.assertIn("! STOPPED", self.text("head"))
            self.assertIn("stopped: Esc", self.text("foot"))
            await self.press("g")
            self.assertNotIn("STOPPED", self.text("head"))

    @in_loop
    async def test_while_live_any_other_key_stops(self) -> None:
        async with self.running():
            await self.press("ctrl+l")
            self.assertIn("LIVE", self.text("head"))
            await self.press("5")  # a key with a meaning does what it means
            self.assertTrue(self.model.status.live)
            await self.press("comma")
            self.assertIn("the key comma, which means nothing here", self.model.status.held)
            self.assertFalse(self.model.status.live)
            await self.press("comma")  # not live, it is only ignored
            self.assertIn("STOPPED", self.text("head"))

    @in_loop
    async def test_losing_the_focus_stops_what_is_live(self) -> None:
        async with self.running():
            self.app.post_message(events.AppBlur())
            await self.frames()
            self.assertEqual(self.model.status.held, "")
            self.model.ask(GoLive())
            self.app.post_message(events.AppBlur())
            await self.frames()
            self.assertEqual(self.model.status.held, "the window lost the focus")
            self.assertNotIn("this terminal cannot tell when you leave its window", self.text("head"))

    @in_loop
    async def test_escape_closes_what_lies_on_top_where_nothing_moves(self) -> None:
        async with self.running(view="shaping"):
            for opener in ("question_mark", "o", "equals_sign", "ctrl+p", "Q"):
                with self.subTest(opener):
                    await self.press(opener)
                    self.asked.clear()
                    await self.press("escape")
                    self.assertNotIn(Stop("Esc"), self.asked)
                    self.assertEqual(len(self.app.screen_stack), 1)
            await self.press("question_mark", "ctrl+c")
            self.assertIn(Stop("Ctrl+C"), self.asked)
            self.assertFalse(moves(self.model))
            with mock.patch.object(self.model.client, "status", replace(self.model.status, watching=True)):
                self.assertTrue(
                    moves(self.model)
                )  # a board that drives by itself may move, whatever the last tick says

    @in_loop
    async def test_escape_stops_from_anywhere(self) -> None:
        async with self.running(view="shaping"):
            await self.press("escape")
            self.assertIn(Stop("Esc"), self.asked)  # nothing lies over: it stops, also what rests
            await self.press("g")
            for opener in ("question_mark", "o", "equals_sign", "ctrl+p"):
                with self.subTest(opener):
                    await self.press("w")
                    await self.until(lambda: moves(self.model))
                    await self.press(opener)
                    self.asked.clear()
                    await self.press("escape")
                    self.assertIn(Stop("Esc"), self.asked)
                    await self.press("g")
                    self.assertEqual(len(self.app.screen_stack), 1)
                    self.assertIn("curve", self.text("shaping"))

    @in_loop
    async def test_held_keys_where_the_terminal_reports_releases(self) -> None:
        async with self.running():
            self.app.post_message(ReleasesReported())
            await self.frames()
            self.assertEqual(self.model.status.keys_mode, "held")
            await self.press("w")
            self.assertEqual(self.model.value("axes", "forward"), 1.0)
            self.app.post_message(KeyReleased("w"))
            await self.frames()
            self.assertEqual(self.model.value("axes", "forward"), 0.0)
            self.assertTrue({KeyDown("w"), KeyUp("w")} <= set(self.asked))

    @in_loop
    async def test_the_ways_of_keys(self) -> None:
        async with self.running():
            self.assertEqual(self.model.status.keys_mode, "latched")
            await self.press("m")
            self.assertEqual(self.model.status.keys_mode, "timed")
            self.assertIn("keys, timed", self.text("head"))
            await self.press("m", "w", "space")
            self.assertEqual(self.model.value("axes", "forward"), 0.0)

    @in_loop
    async def test_long_names_of_channels_do_not_run_into_their_readings(self) -> None:
        async with self.running(view="field"):
            self.assertTrue(self.model.open_rig(self.home / "rigs" / "stilt.toml"))
            await self.frames(4)
            text = self.text("field")
            for n in range(4):
                self.assertRegex(text, rf"(handsets\.|…[a-z.]*)button_{n} +0\.000")

    @in_loop
    async def test_sticks_are_dragged_and_spring_back(self) -> None:
        async with self.running() as pilot:
            field = self.app.views["field"]
            assert isinstance(field, FieldView)
            at, (left, top) = where(field, field._sticks), field._sticks._places["left"]
            region = field.canvas.region
            place = (region.x + at.x + left + 7, region.y + at.y + top)
            await pilot.mouse_down(offset=place)
            await self.frames(10)
            self.assertEqual(self.model.status.source, "sticks")
            self.assertGreater(self.model.value("axes", "forward"), 0.9)
            await pilot.mouse_up(offset=place)
            await self.frames(10)
            self.assertEqual(self.model.value("axes", "forward"), 0.0)

    @in_loop
    async def test_sources_are_chosen_on_the_screen(self) -> None:
        async with self.running():
            await self.press("o")
            self.assertIn("who drives?", self.over())
            names = [s.name for s in self.model.status.sources if not self.model.is_of_another(s)]
            self.assertEqual([n for n in names if n.startswith("recording")], ["recording watering"])
            await self.press(*["down"] * (names.index("recording watering") - names.index("keys")), "enter")
            self.assertEqual(self.model.status.source, "recording watering")
            self.assertEqual(self.over(), "")

    @in_loop
    async def test_levels_and_start(self) -> None:
        async with self.running():
            await self.press("right_square_bracket")
            self.assertIn("level dash", self.text("head"))
            await self.press("left_square_bracket", "left_square_bracket")
            self.assertIn("level creep", self.text("head"))
            await self.press("right_square_bracket", "right_square_bracket", "w", "w")
            await self.frames(20)
            await self.press("space", "r")
            self.assertLess(self.model.value("truth", "y"), 0.6)
            self.assertGreater(len(self.model.trace.ghost), 3)

    @in_loop
    async def test_a_session_that_is_gone_is_said(self) -> None:
        async with self.running():
            client = self.model.client
            assert isinstance(client, LocalClient)
            client.alive = False
            await self.frames()
            self.assertIn(
                "the session no longer answers; the simulated robot went with it. Ctrl+Q leaves", self.text("foot")
            )


class StartingTest(AppCase):
    @in_loop
    async def test_keys_before_the_first_picture_are_dropped(self) -> None:
        self.model = local_model(self.home, "keys")
        client = cast(LocalClient, self.model.client)
        client.ticks = 0
        self.app = PivrexApp(self.model)
        async with self.app.run_test(size=(160, 47)) as self.pilot:
            await self.frames()
            self.assertIn("starting …", self.text("field"))
            await self.pilot.press("w", "2")
            self.assertFalse([r for r in client.asked if isinstance(r, KeyDown)])
            client.ticks = 3
            await self.until(lambda: "greenhouse" in self.text("field"))
            self.assertEqual(self.app.view.view_name, "field")
            await self.press("w")
            self.assertTrue([r for r in client.asked if isinstance(r, KeyDown)])


class UndoneTest(AppCase):
    @in_loop
    async def test_what_is_there_again_is_named(self) -> None:
        async with self.running(view="driver"):
            self.model.type_in("shaping.forward.dead_band", "9 %")
            self.model.undo()
            self.assertEqual(self.model.message, "undone: forward: dead band is 6 % again")
            self.model.redo()
            self.assertEqual(self.model.message, "done again: forward: dead band is 9 % again")
            self.model.edit("pump on removed", lambda document: document["bindings"].pop(2))
            self.model.undo()
            self.assertEqual(self.model.message, "undone: pump on is there again")


class ShapingTest(AppCase):
    @in_loop
    async def test_nudge_ghost_undo_redo(self) -> None:
        before = self.rig_file.read_text()
        async with self.running(view="shaping"):
            self.assertIn("▸ dead band", self.text("shaping"))
            await self.press("down")
            self.assertIn("▸ curve", self.text("shaping"))
            await self.press("shift+right", "shift+right", "right")
            self.assertEqual(read_rig(self.rig_file).shaping.forward.curve, 0.9)
            self.assertIn("90 %", self.text("shaping"))
            assert self.model.before is not None
            self.assertEqual(self.model.before.rig.shaping.forward.curve, 0.35)  # the ghost: as it was
            await self.press("u", "u", "u")
            self.assertEqual(self.rig_file.read_text(), before)
            await self.press("u")
            await self.press("U")
            self.assertEqual(read_rig(self.rig_file).shaping.forward.curve, 0.6)

    @in_loop
    async def test_the_curve_follows_every_nudge(self) -> None:
        async with self.running(view="shaping"):
            for edge in (7, 8, 9, 10, 11):
                await self.press("right")
                self.assertIn(f"dead band ±{edge} %", self.text("shaping"))

    @in_loop
    async def test_a_changed_dead_band_shows_at_once_in_the_ticks(self) -> None:
        async with self.running(view="shaping"):
            await self.press("w")
            await self.frames(20)
            self.assertGreater(self.model.value("band", "forward"), 0.1)
            for _ in range(6):
                await self.press("shift+right")
            self.assertEqual(read_rig(self.rig_file).shaping.forward.dead_band, 0.36)
            self.assertEqual(self.model.value("band", "forward"), 0.0)

    @in_loop
    async def test_typing_a_value(self) -> None:
        async with self.running(view="shaping"):
            await self.press("equals_sign")
            self.assertIsInstance(self.app.screen, ValueEntry)
            await self.pilot.press(*"w95 %", "enter")  # w is text here, not driving
            await self.pilot.pause()
            self.assertIsInstance(self.app.screen, ValueEntry)  # refused, the typing stays
            self.assertEqual(self.model.status.source, "keys")
            self.assertFalse(any(isinstance(r, KeyDown) for r in self.asked))
            await self.pilot.press(*["backspace"] * 8, *"12", "enter")
            await self.frames()
            self.assertEqual(len(self.app.screen_stack), 1)
            self.assertEqual(read_rig(self.rig_file).shaping.forward.dead_band, 0.12)

    @in_loop
    async def test_dragging_a_slider_is_one_step(self) -> None:
        before = self.rig_file.read_text()
        async with self.running(view="shaping"):
            view = self.app.views["shaping"]
            assert isinstance(view, ShapingView)
            key = "shaping.turn.scale"
            sliders = [(at, s) for panel, at in view._stand for s in getattr(panel, "_sliders", ())]
            at, (_, row, left, width) = next((at, s) for at, s in sliders if s[0] == key)
            row, left = at.y + row, at.x + left
            view.point(left, row, "press")
            for x in range(left, left + width, 3):
                view.point(x, row, "drag")
            view.point(left + width - 1, row, "release")
            await self.frames()
            self.assertEqual(view.settings.chosen, key)
            self.assertNotEqual(self.rig_file.read_text(), before)
            await self.press("u")
            self.assertEqual(self.rig_file.read_text(), before)

    @in_loop
    async def test_every_law_can_be_chosen_and_drawn(self) -> None:
        async with self.running(view="shaping"):
            view = self.app.views["shaping"]
            view.select("law.kind")
            for law in ("split arcade", "triggers", "tank", "arcade"):
                await self.press("right")  # planar, which Plover cannot follow, is passed over
                self.assertEqual(self.model.rig.law.kind, law)
                await self.frames(2)
                self.assertIn(self.model.line.functions[0], self.text("shaping"))
                self.assertIn(law, self.text("head"))

    @in_loop
    async def test_brackets_that_are_typed_are_only_a_mistake(self) -> None:
        async with self.running(view="shaping"):
            self.app.views["shaping"].select("shaping.forward.dead_band")
            await self.press("equals_sign", *"[b=", "enter")
            self.assertGreater(len(self.app.screen_stack), 1)
            await self.press("escape")
            self.assertEqual(self.model.rig.shaping.forward.dead_band, 0.06)

    @in_loop
    async def test_a_rig_edited_outside_is_taken_in(self) -> None:
        async with self.running(view="shaping"):
            self.rig_file.write_text(self.rig_file.read_text().replace('dead_band = "8 %"', 'dead_band = "33 %"'))
            self.model.look_outside()
            await self.frames()
            self.assertIn("33 %", self.text("shaping"))
            self.assertIn("changed by another program", self.text("foot"))
            self.rig_file.write_text("broken = ")
            self.model.look_outside()
            await self.frames()
            self.assertIn("has mistakes", self.text("foot"))
            self.assertIn("33 %", self.text("shaping"))

    @in_loop
    async def test_a_read_only_workspace_says_so_and_goes_on(self) -> None:

        async with self.running(view="shaping"):
            with mock.patch("pivrex.files.os.access", return_value=False):
                await self.press("right")
            self.assertIn("not saved, the file is read-only", self.text("foot"))
            self.assertEqual(self.model.rig.shaping.forward.dead_band, 0.07)


class WholeTest(AppCase):
    @in_loop
    async def test_the_ladder_leads_to_the_setting(self) -> None:
        async with self.running():
            await self.press("enter")
            self.assertIn("why left, stage by stage", self.text("ladder"))
            for _ in range(40):
                if "▸ curve" in self.text("ladder"):
                    break
                await self.press("down")
            await self.press("enter")
            self.assertIn("▸ curve", self.text("shaping"))

    @in_loop
    async def test_help_and_palette_come_from_the_same_rows(self) -> None:
        async with self.running():
            await self.press("question_mark")
            shown = self.over()
            self.assertIn("field: what you see", shown)
            self.assertIn("commanded speed in amber", shown)
            titles = [c.title for c in self.app.get_system_commands(self.app.screen)]
            self.assertTrue(any(t.startswith("simulated gamepad") for t in titles))
            await self.press("question_mark")
            self.assertEqual(self.over(), "")

    @in_loop
    async def test_every_command_has_an_action(self) -> None:
        commands, model = Commands(VIEWS), local_model(self.home)
        for row in VIEWS:
            view = row.view(model, row.name)
            for command in commands.acting(row.name):
                opens = command.name == f"view_{command.name.removeprefix('view_')}"
                does = command.asks or view.act(command.name) or hasattr(PivrexApp, f"act_{command.name}")
                self.assertTrue(opens or does, f"{command.name} of {row.name}")

    @in_loop
    async def test_keys_do_not_overlap(self) -> None:
        from pivrex.devices.keys import DRIVE_KEYS

        commands = Commands(VIEWS)
        for row in VIEWS:
            keys = [k for c in commands.acting(row.name) for k in c.keys]
            self.assertEqual(len(keys), len(set(keys)))
            self.assertFalse(set(keys) & set(DRIVE_KEYS))
        self.assertIsNone(commands.of_key("left", "field"))

    @in_loop
    async def test_themes(self) -> None:
        async with self.running():
            for theme in ("noon", "plain", "dusk"):
                await self.press("t")
                self.assertEqual(self.app.look, theme)

    @in_loop
    async def test_any_size_of_window(self) -> None:
        async with self.running("recording watering") as pilot:
            for size in ((20, 5), (100, 30), (80, 24), (61, 17), (1, 1), (200, 60)):
                for key in ("2", "5", "question_mark", "question_mark", "o", "o", "enter", "enter"):
                    await pilot.resize_terminal(*size)
                    await self.press(key)
                if size == (20, 5):
                    self.assertIn("Esc stops", self.text("small"))

    @in_loop
    async def test_a_window_that_is_small_from_the_start(self) -> None:
        async with self.running(size=(20, 5)):
            await self.frames(4)
            painted = "\n".join(strip.text for strip in self.app.screen._compositor.render_strips())
            self.assertIn("Esc stops", painted)

    @in_loop
    async def test_export_from_the_screen(self) -> None:
        async with self.running("recording watering"):
            await self.frames(40)
            await self.press("x")
            await self.until(lambda: "saved exports/" in self.text("foot"))
            self.assertEqual(sorted(p.suffix for p in (self.home / "exports").iterdir()), [".csv", ".pdf", ".svg"])

    @in_loop
    async def test_ascii_only(self) -> None:
        Canvas.ascii_only = True
        self.addCleanup(setattr, Canvas, "ascii_only", False)
        async with self.running():
            for canvas in self.app.screen_stack[0].query(Canvas):
                for y in range(canvas.size.height):
                    self.assertTrue(canvas.render_line(y).text.isascii(), canvas.id)


class ReleaseParserTest(unittest.TestCase):
    def parse(self, text: str) -> list[Any]:
        return [m for m in ReleaseParser().feed(text) if m is not None]

    def test_presses_repeats_and_releases(self) -> None:
        # CSI 119 is w; the number behind the colon is the event's type
        (press,) = self.parse("\x1b[119;1:1;119u")
        (repeat,) = self.parse("\x1b[119;1:2;119u")
        (release,) = self.parse("\x1b[119;1:3u")
        self.assertEqual((press.key, repeat.key), ("w", "w"))
        self.assertIsInstance(release, KeyReleased)
        self.assertEqual(release.key, "w")
        (arrow,) = self.parse("\x1b[1;1:3A")
        self.assertIsInstance(arrow, KeyReleased)
        self.assertEqual(arrow.key, "up")

    def test_plain_keys_are_as_before(self) -> None:
        self.assertEqual([m.key for m in self.parse("w\x1b[A\x1b[119;5u")], ["w", "up", "ctrl+w"])

    def test_what_the_terminal_says_of_itself(self) -> None:
        self.assertIsInstance(self.parse("\x1b[?27u")[0], ReleasesReported)
        self.assertEqual(self.parse("\x1b[?25u"), [])
        self.assertIsInstance(self.parse("\x1b[?1004;2$y")[0], FocusReported)
        self.assertEqual(self.parse("\x1b[?1004;0$y"), [])
        self.assertIsInstance(self.parse("\x1b[O")[0], events.AppBlur)
        self.assertTrue(Keys.Ignore)


class WorkspaceOpenTest(TempCase):
    def test_a_workspace_without_a_field_opens_on_an_open_floor(self) -> None:
        home = self.folder / "bare"
        (home / "rigs").mkdir(parents=True)
        shutil.copy(DEMO / "rigs" / "plover.toml", home / "rigs")
        model = local_model(home)
        model.pull()
        self.assertEqual(model.folder.settings.field.name, "open floor")
        self.assertEqual(Path(model.file.path).name, "plover.toml")


if __name__ == "__main__":
    unittest.main()
