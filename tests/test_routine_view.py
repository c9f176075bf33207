"""The Routine view in Textual's pilot: text, path and timeline share one cursor; what is typed is checked, played and kept."""

import threading
import time
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from textual.widgets import Label

from pivrex.rig import read_rig
from pivrex.routine import check_text
from pivrex.scene.marks import role
from pivrex.scene.timeline import Bar, Timeline, timeline_scene
from pivrex.session.messages import ChooseRoutine, StartPeriod
from pivrex.session.periods import Period
from pivrex.tui.documents.routine_document import RoutineDocument
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.jobs import rehearsals, routine_made
from pivrex.tui.jobs.previews import ToPlay, preview_job
from pivrex.tui.views.routine import RoutineView
from tests.chassis import demo_path
from tests.support import TempCase, wait_for
from tests.test_app import AppCase, in_loop

TEXT = "for plover\nstart at 0.5 m, 0.5 m facing 90 deg\ndrive ahead 40 cm\nturn right 90 deg\nwait 0.5 s\ndrive ahead 20 cm\n"


class RoutineCase(AppCase):
    def setUp(self) -> None:
        super().setUp()
        self.file = self.home / "routines" / "practice.txt"
        self.file.write_text(TEXT)
        workspace = self.home / "workspace.toml"
        workspace.write_text(workspace.read_text().replace('plover = "greenhouse-plover"', 'plover = "practice"'))

    @asynccontextmanager
    async def open(self, size: tuple[int, int] = (160, 47)) -> Any:
        async with self.running("keys", size, "routine"):
            view = self.app.views["routine"]
            assert isinstance(view, RoutineView)
            self.view, self.helpers = view.routine, view.helpers
            await self.settle()
            yield view.routine

    async def settle(self) -> None:
        """Until what was typed has been played."""
        self.view._due = min(self.view._due, time.monotonic()) if self.view._due else 0.0
        await self.frames(2)

    async def typed(self, *keys: str) -> None:
        await self.press("y", *keys)
        await self.settle()

    def screen(self) -> str:
        return self.text("routine")


class TypingTest(RoutineCase):
    @in_loop
    async def test_the_rigs_own_routine_is_open_and_played(self) -> None:
        async with self.open() as view:
            self.assertEqual((view.document.path, view.editor.text), (self.file, TEXT))
            self.assertIn("practice", self.screen())
            self.assertIn("no mistakes", self.screen())
            assert view.preview is not None
            # 40 cm up from the start, then 20 cm to the right
            np.testing.assert_allclose(view.preview.poses[-1][:2], (0.7, 0.9), atol=0.02)
            self.assertIn("ends at 0.", self.screen())

    @in_loop
    async def test_a_mistake_stands_below_its_line_until_it_is_mended(self) -> None:
        async with self.open() as view:
            view.editor.to_line(3)
            await self.typed("end", "x")
            self.assertIn("! 1 mistake", self.screen())
            rows = [str(strip.text) for strip in view.editor.render_lines(view.editor.size.region)]
            at = next(i for i, row in enumerate(rows) if "40 cmx" in row)
            self.assertIn("^", rows[at + 1])
            self.assertIn('"cmx" is no unit, nearest is "cm"', " ".join(rows[at + 1 : at + 5]))
            self.assertEqual(view.preview.time_s > 0, True)  # what was played before stays
            await self.press("backspace")
            await self.settle()
            self.assertIn("no mistakes", self.screen())
            self.assertEqual(view.seen.serial, view.document.serial)

    @in_loop
    async def test_keys_of_the_rest_of_the_screen_are_out_of_the_way_and_esc_stops(self) -> None:
        async with self.open() as view:
            await self.typed("w", "5", "g", "M")
            self.assertEqual(
                (view.editor.text[:4], self.app._open, self.model.status.match.period), ("w5gM", "routine", Period.OFF)
            )
            self.assertFalse(any(type(r).__name__ == "KeyDown" for r in self.asked))
            await self.press("escape")
            self.assertEqual((self.model.status.held, view.view.typing, self.app.focused), ("Esc", False, None))
            await self.press("5")
            self.assertEqual(self.app._open, "field")

    @in_loop
    async def test_undo_find_and_completion(self) -> None:
        async with self.open() as view:
            view.editor.to_line(6)
            await self.typed("end", "enter", "s", "w", "i", "tab", "space", "p", "u", "tab")
            self.assertIn("switch pump", view.editor.text)
            await self.press("ctrl+z", "ctrl+z", "ctrl+z", "ctrl+z", "ctrl+z", "ctrl+z")
            self.assertEqual(view.editor.text, TEXT)
            await self.press("ctrl+f")
            await self.press("2", "0", "space", "c", "m", "enter")
            self.assertEqual((view.editor.selected_text, view.line), ("20 cm", 6))
            await self.press("escape")
            await self.press("u")  # outside the text the same key as everywhere
            self.assertTrue(view.document.text)

    @in_loop
    async def test_what_is_typed_is_on_the_disk(self) -> None:
        async with self.open() as view:
            view.editor.to_line(3)
            await self.typed("end", "0")
            view.document.close()
            self.assertIn("40 cm0", self.file.read_text())

    @in_loop
    async def test_a_line_is_left_out_on_one_key(self) -> None:
        async with self.open() as view:
            whole = view.preview.time_s
            view.editor.to_line(4)
            await self.press("full_stop")
            await self.settle()
            self.assertIn("\nskip turn right 90 deg\n", view.editor.text)
            self.assertLess(view.preview.time_s, whole - 1)
            await self.press("full_stop")
            self.assertEqual(view.editor.text, TEXT)


class CursorTest(RoutineCase):
    @in_loop
    async def test_line_time_and_place_are_one(self) -> None:
        async with self.open() as view:
            await self.press("down", "down", "down")
            self.assertEqual(view.line, 4)
            turn = view.steps_of(4)[0]
            self.assertAlmostEqual(view.t, turn.begin * view.preview.dt_s)
            # the robot stands there, 40 cm on, when the turn begins
            np.testing.assert_allclose(view.preview.poses[view.preview.tick(view.t)][:2], (0.5, 0.9), atol=0.02)
            view.go_to(view.preview.time_s)
            self.assertEqual(view.line, 6)
            await self.press("shift+left", "left", "right")
            self.assertAlmostEqual(view.t, view.preview.time_s - 1.0)
            # the map goes with the time alone, within one line
            view.t = view.steps_of(4)[0].begin * view.preview.dt_s + 0.05
            self.app.draw()
            before = self.screen().split("\n")[:30]
            view.t += 0.4
            self.app.draw()
            self.assertNotEqual(self.screen().split("\n")[:30], before)
            # dragged along the timeline
            bottom = view.view.size.height - 2
            view.view.point(0, bottom, "press")
            self.assertEqual((view.t, view.line), (0.0, 3))
            view.view.point(view.view.size.width - 3, bottom, "drag")
            self.assertEqual(view.line, 6)

    @in_loop
    async def test_typing_moves_the_time_too(self) -> None:
        async with self.open() as view:
            await self.typed("down", "down", "down", "down")
            self.assertEqual(view.line, 5)
            self.assertAlmostEqual(view.t, view.steps_of(5)[0].begin * view.preview.dt_s)

    @in_loop
    async def test_each_value_of_the_post_side_by_side(self) -> None:
        self.file.write_text(
            "for plover\nstart at 1.5 m, 2 m\nlet n be post else 1\nchoose by n\n    when 2\n        drive ahead 20 cm\n"
            "    when 4\n        turn left 90 deg\n    otherwise\n        drive back 20 cm\n"
        )
        async with self.open() as view:
            await self.press("v")
            await self.settle()
            ends = {value: preview.poses[-1] for value, preview in view.seen.values}
            self.assertEqual(set(ends), {2.0, 4.0, 0.0})
            self.assertAlmostEqual(ends[2.0][0], 1.7, delta=0.02)
            self.assertAlmostEqual(ends[4.0][2], np.pi / 2, delta=0.03)
            self.assertAlmostEqual(ends[0.0][0], 1.3, delta=0.02)
            for said in ("post shows 2", "post shows 4", "post is silent"):
                self.assertIn(said, self.screen())
            await self.press("v")
            await self.settle()
            self.assertNotIn("post is silent", self.screen())


def looks_for_ever(_question: object, _progress: object) -> None:
    """Stand for a search that takes long."""
    threading.Event().wait()


class SolvingTest(RoutineCase):
    def over(self) -> str:
        return "\n".join(str(label.render()) for label in self.app.screen.query(Label))

    async def until_found(self) -> None:
        await self.until(lambda: not self.helpers.solving.goes_on, 180)  # in plain Python it takes long
        await self.frames(2)

    @in_loop
    async def test_a_number_is_found_and_written_on_a_key(self) -> None:
        async with self.open() as view:
            view.editor.to_line(4)
            await self.press("N")
            self.assertIn("which result should 90 deg give?", self.over())
            await self.press("ctrl+u", *"turned 1 m", "enter")
            self.assertIn("stands where an angle such as 90 deg should", self.over())
            await self.press("ctrl+u", *"turned 45 deg", "enter")
            await self.until_found()
            said = self.screen().replace("\n", " ")
            self.assertRegex(said, r"line 4: 4\d(\.\d)? deg: turned 45 deg, .* deg off")
            self.assertIn("K writes it", said)
            await self.press("K")
            self.assertRegex(view.editor.text.split("\n")[3], r"^turn right 4[45](\.\d)? deg$")
            await self.press("u")
            self.assertEqual(view.editor.text, TEXT)

    @in_loop
    async def test_given_up_and_changed_meanwhile(self) -> None:
        async with self.open() as view:
            view.editor.to_line(3)
            with mock.patch.object(self.helpers.solving, "_work", looks_for_ever):
                await self.press("N", *"\x15", "enter")
                self.assertTrue(self.helpers.solving.goes_on)
                self.assertIn("looking for line 3's 40 cm", self.screen())
                await self.press("N")
                self.assertFalse(self.helpers.solving.goes_on)
            await self.press("K")
            self.assertIn("no number was found yet", self.model.message)
            await self.press("N", "enter")
            await self.until_found()
            await self.typed("end", "0")
            await self.press("escape", "K")
            self.assertIn("40 cm0", view.editor.text)
            await self.press("N")
            self.assertIn("fix the mistakes first", self.model.message)
            await self.press("u")
            await self.settle()
            view.editor.to_line(1)
            await self.press("N")
            self.assertIn("no number stands on this line", self.model.message)


class MadeOfItTest(RoutineCase):
    def setUp(self) -> None:
        super().setUp()
        self.enterContext(mock.patch.object(routine_made, "TIMES", 4))
        self.enterContext(mock.patch.object(rehearsals, "TIMES", 6))

    async def until_made(self) -> None:
        await self.until(lambda: not self.helpers.made.goes_on)
        await self.settle()

    @in_loop
    async def test_a_rehearsal_from_near_and_in_words(self) -> None:
        async with self.open() as view:
            await self.press("R")
            await self.until(lambda: not self.helpers.rehearsal.goes_on)
            await self.frames(2)
            said = self.screen()
            for words in ("rehearsed 6 times", "bench A 0 %", "correlates with start", "largest error: seed ", " cm"):
                self.assertIn(words, said)
            self.assertRegex(said, r"± \d\.\d cm, ± \d\.\d deg")
            self.assertNotIn("of the text before", said)
            view.editor.to_line(6)
            await self.typed("end", "backspace", "backspace", "backspace", "0", "space", "c", "m")
            self.assertIn("rehearsed 6 times (of the text before)", self.screen())

    @in_loop
    async def test_the_way_back(self) -> None:
        async with self.open() as view:
            await self.press("T")
            await self.until_made()
            self.assertEqual(view.document.path.name, "practice-back.txt")
            self.assertRegex(self.model.message, r"^practice-back: there and back takes \d+\.\d s and ends \d\.\d cm")
            self.assertRegex(view.editor.text, "(?s)for plover\n.*drive back .*turn left .*drive back ")
            # made again it takes the same file, but not someone's own
            for text, name in ((None, "practice-back.txt"), ("# my own\n", "practice-back-2.txt")):
                if text is not None:
                    (self.file.parent / "practice-back.txt").write_text(text)
                view.open(self.file)
                await self.press("T")
                await self.until_made()
                self.assertEqual(view.document.path.name, name)

    @in_loop
    async def test_another_version_beside_it(self) -> None:
        async with self.open() as view:
            view.editor.to_line(6)
            await self.typed("end", *["backspace"] * 5, *"35 cm")
            await self.press("escape", "g")
            await self.press("A")
            self.assertIn("against which?", self.over())
            self.assertIn("as it was opened", self.over())
            await self.press("enter")
            await self.until_made()
            said = " ".join(self.screen().split())
            self.assertRegex(
                said, r"they differ from \d\.\d\d s on, at line 6 of practice and line 6 of practice as opened"
            )
            self.assertRegex(said, r"they end 1[45] cm and 0 deg apart")
            self.assertIn("practice as opened is faster", said)
            await self.press("A")
            self.assertNotIn("they differ", self.screen())


class PlayingTest(RoutineCase):
    @in_loop
    async def test_ready_start_and_leave(self) -> None:
        async with self.open():
            await self.press("M")
            for said in ("READY", "practice", "Plover", "starts at 0.50 m, 0.50 m, 90 deg", "alone 25 s"):
                self.assertIn(said, self.screen().replace("\n", " "))
            self.assertIn("ready", self.text("head"))
            await self.press("M")
            await self.frames(30)
            self.assertIn("ALONE", self.screen())
            self.assertRegex(self.text("head"), r"alone 2\d\.\d s")
            self.assertRegex(self.text("why"), "line 3 of the routine commands it")
            self.assertEqual((self.view.editor.driven_line, self.view.line), (3, 3))
            await self.press("L")
            await self.frames(2)
            self.assertIn("no match yet", self.screen())

    @in_loop
    async def test_from_another_view_what_is_chosen_is_shown_first(self) -> None:
        async with self.running("keys", view="field"):
            await self.press("M")
            self.assertEqual((self.app._open, self.model.status.match.period), ("routine", Period.READY))

    @in_loop
    async def test_played_alone_paused_and_step_by_step(self) -> None:
        async with self.open():
            await self.press("G")
            self.assertIn(StartPeriod(Period.ALONE, only=True), self.asked)
            await self.frames(5)
            await self.press("P")
            await self.frames(2)
            self.assertIn("paused", self.screen())
            await self.press("S")
            await self.frames(3)
            self.assertNotIn("paused", self.screen())

    @in_loop
    async def test_from_a_line_on(self) -> None:
        async with self.open() as view:
            view.editor.to_line(5)
            await self.press("H")
            await self.settle()
            # after 40 cm up and a quarter turn to the right
            for said in ("READY", "from line 5", "starts at 0.50 m, 0.89 m, 0 deg"):
                self.assertIn(said, self.screen().replace("\n", " "))
            await self.press("G")
            await self.frames(10)
            self.assertEqual((self.model.status.match.period, view.editor.driven_line in (5, 6)), (Period.ALONE, True))
            self.assertGreater(view.t, 1.0)
            await self.press("L")
            view.editor.to_line(7)
            await self.press("H")
            await self.settle()
            self.assertIn("nothing is done on this line or below it", self.model.message)

    @in_loop
    async def test_the_session_has_the_newest_text(self) -> None:
        async with self.open() as view:
            view.editor.to_line(3)
            await self.typed("end", "backspace", "backspace", "m", "m")
            sent = [r for r in self.asked if isinstance(r, ChooseRoutine)][-1]
            assert sent.program is not None
            self.assertEqual(sent.program.text, view.editor.text)
            await self.press("x")
            await self.settle()
            self.assertIsNone([r for r in self.asked if isinstance(r, ChooseRoutine)][-1].program)

    @in_loop
    async def test_another_routine_and_another_robot(self) -> None:
        async with self.open() as view:
            await self.press("c")
            self.assertIn("which routine?", self.over())
            self.assertIn("greenhouse-plover", self.over())
            await self.press("escape")
            self.model.open_rig(self.home / "rigs" / "avocet.toml")
            await self.frames(3)
            self.assertEqual(view.document.path.stem, "greenhouse-avocet")

    @in_loop
    async def test_small_windows(self) -> None:
        for size in ((100, 30), (80, 24), (62, 18)):
            async with self.open(size):
                self.assertIn("practice", self.screen())
                self.assertIn("motion", self.screen())

    @in_loop
    async def test_rows_that_are_broken_elsewhere_once_a_scroll_bar_comes_are_drawn_anew(self) -> None:
        long = [f"wait {n} s    # {'word ' * 30}" for n in range(1, 9)]
        async with self.open((100, 47)) as view:
            editor = view.editor
            rows = {}
            for text in ("\n".join(long[:1]), "\n".join(long), "\n".join(long * 4)):
                editor.load_text(text)
                await self.frames(3)
                rows[editor.wrap_width] = shown = [editor._render_line(y).text for y in range(6)]
                editor._drawn.clear()
                self.assertEqual(shown, [editor._render_line(y).text for y in range(6)])
                words = " ".join(" ".join(row[editor.gutter_width :].split()) for row in shown[:3])
                self.assertTrue(("wait 1 s # " + "word " * 30).startswith(words), (shown, editor.wrap_width))
            self.assertGreater(len(rows), 1)  # with a scroll bar there is less room


class OutsideTest(RoutineCase):
    @in_loop
    async def test_a_file_that_is_changed_outside_is_read_again(self) -> None:
        async with self.open() as view:
            self.file.write_text(TEXT.replace("40 cm", "45 cm"))
            view._looked = 0.0
            await self.frames(2)
            self.assertIn("45 cm", view.editor.text)
            view.editor.undo()
            self.assertIn("40 cm", view.editor.text)

    @in_loop
    async def test_a_save_that_is_still_on_its_way_is_nobody_elses(self) -> None:
        """The disk says what was typed before, the saver is at what was typed since: read just then, it looked like a stranger's."""
        async with self.open() as view:
            view.editor.to_line(5)
            await self.typed("end", "space", "#")
            view.document.close()
            first = self.file.read_text()
            await self.typed("x", "y")
            view.document.close()
            self.file.write_text(first)  # as it is read in the moment before the next is renamed into its place
            self.assertEqual(view.document.outside(), "same")
            self.file.write_text(first + "z")
            self.assertNotEqual(view.document.outside(), "same")

    @in_loop
    async def test_changed_here_and_outside_neither_is_lost(self) -> None:
        for choice, kept, other in (("enter", "0.6 s", "-theirs"), ("down enter", "45 cm", "-mine")):
            self.file.write_text(TEXT)
            async with self.open() as view:
                self.file.write_text(TEXT.replace("40 cm", "45 cm"))
                view.editor.to_line(5)
                await self.typed("end", "backspace", "backspace", "backspace", "6", "space", "s")
                view.document.close()
                view._looked = 0.0
                await self.frames(2)
                self.assertIn("which counts?", self.over())
                await self.press(*choice.split())
                self.assertIn(kept, view.editor.text)
                view.document.close()
                self.assertIn(kept, self.file.read_text())
                copy = next(self.file.parent.glob(f"practice{other}*.txt")).read_text()
                self.assertIn("45 cm" if other == "-theirs" else "0.6 s", copy)


class DeskTest(TempCase):
    RIG = read_rig(demo_path("plover"))

    def test_windows_line_ends_and_the_mark_at_the_top_stay(self) -> None:
        path = self.folder / "a.txt"
        path.write_bytes(b"\xef\xbb\xbfwait 1 s\r\nwait 2 s\r\n")
        document = RoutineDocument()
        document.lay(path, self.RIG)
        self.assertEqual(document.text, "wait 1 s\nwait 2 s\n")
        document.typed("wait 1 s\nwait 3 s\n")
        document.close()
        self.assertEqual(path.read_bytes(), b"\xef\xbb\xbfwait 1 s\r\nwait 3 s\r\n")

    def test_a_folder_that_cannot_be_written_is_said(self) -> None:
        path = self.folder / "a.txt"
        path.write_text("wait 1 s")
        document = RoutineDocument()
        document.lay(path, self.RIG)
        with mock.patch("pivrex.tui.documents.routine_document.write_atomically", side_effect=_full):
            document.typed("wait 2 s")
            document.close()
        self.assertIn("no space", document.saver.problem)
        self.assertEqual(path.read_text(), "wait 1 s")


def _full(path: Path, data: str) -> None:
    from pivrex.errors import SaveError

    raise SaveError(path, "no space left")


class PreviewTest(TempCase):
    def test_beside_the_screen_and_again_after_it_died(self) -> None:
        rig = read_rig(demo_path("plover"))
        program = check_text("start at 1 m, 0.5 m\ndrive ahead 10 cm", rig).program
        assert program is not None
        previews = preview_job()
        self.addCleanup(previews.close)
        for serial in (1, 2):
            found: list[Any] = []
            previews.ask(ToPlay(serial, rig, None, program, 5.0, 0))
            wait_for(lambda found=found: found.extend(previews.poll()) or found, 30)  # type: ignore[misc]
            self.assertEqual(found[-1][1].serial, serial)
            self.assertAlmostEqual(found[-1][1].preview.poses[-1][0], 1.1, delta=0.01)
            previews.close()

    def test_the_timeline(self) -> None:
        bars = (Bar("motion", 0, 5, 3, "a"), Bar("boom", 5, 10, 4, "b", ("limit",)))
        picture = print_scene(timeline_scene(Timeline(("motion", "boom"), bars, 20.0, 10.0, 5.0, 3), 50), 50, 3)
        rows = picture.rows()
        # 40 cells for 20 s: five seconds are ten cells, behind nine for the names
        self.assertEqual((rows[1][:8].strip(), rows[1][9:19].strip(), rows[2][20:29].strip()), ("motion", "3", "4!"))
        for row, begin, named in ((1, 9, "title"), (2, 19, "alarm")):  # the chosen one, and one to look at
            self.assertTrue((picture.grounds[row, begin + 1 : begin + 9] == role(named)).all())
        self.assertEqual(rows[0][19], "▼")
