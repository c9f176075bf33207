"""What a routine says and shows, and what is pinned: in `play`, in the session, in a kept run, on the screen."""

import contextlib
import json
import re
import shutil
import socket
import subprocess
import sys
import time
import unittest
from math import degrees, nan

import numpy as np
from textual.widgets import Input, Label

from pivrex.errors import UnitError
from pivrex.line import Line
from pivrex.rig import open_folder, read_rig
from pivrex.routine import check_text, play
from pivrex.routine.kinds import LENGTH, NUMBER, TIME, Kind, shown, unit_of
from pivrex.routine.pins import named_pin, read_pin
from pivrex.runs.run import Run
from pivrex.session import messages as ask
from pivrex.session.journal import rebuilt
from pivrex.session.status import Status
from tests.chassis import ideal
from tests.support import DEMO, wait_for
from tests.test_app import in_loop
from tests.test_cli import Ran
from tests.test_keeping import KeepCase
from tests.test_lost_sources import free_port
from tests.test_match import Played
from tests.test_routine_view import RoutineCase
from tests.test_terminal import TerminalCase

TEXT = """\
for plover
start at 1 m, 0.5 m facing 90 deg
say "off: # is no comment"
repeat 2 times
    drive ahead 20 cm
    show y - 50 cm
    show heading
show post * time
say "done"
"""


class LanguageTest(unittest.TestCase):
    def test_a_value_is_shown_as_it_is_then(self) -> None:
        rig = ideal("plover")
        program = check_text(TEXT, rig).program
        assert program is not None
        made = play(program, rig, open_folder(DEMO).settings.field)
        self.assertEqual([t.words for t in made.messages if not t.label], ["off: # is no comment", "done"])
        self.assertEqual((made.messages[0].n, made.messages[0].line), (0, 3))
        along = [t for t in made.messages if t.label == "y - 50 cm"]
        # it begins at y = 0.5 m and drives 20 cm along y, twice
        np.testing.assert_allclose([t.value for t in along], (0.2, 0.4), atol=2e-3)
        ends = [s.end for s in made.steps if s.lane == "motion"]
        self.assertEqual([t.n for t in along], ends)
        self.assertEqual([t.line for t in made.messages if t.label], [6, 7, 6, 7, 8])
        np.testing.assert_allclose([t.shown for t in made.messages if t.label == "heading"], (90, 90), atol=0.2)
        self.assertEqual(made.messages[-2].text, "post * time: nothing")  # the ranger looks at no wall

    def test_units(self) -> None:
        self.assertEqual(shown(0.25, LENGTH), "0.25 m")
        self.assertEqual(shown(nan, LENGTH), "nothing")
        self.assertEqual(shown(3.0, NUMBER), "3")
        self.assertEqual(unit_of(Kind(metre=2, second=-1)), "m^2/s")
        self.assertEqual(unit_of(Kind(second=-2)), "1/s^2")
        self.assertEqual(unit_of(TIME), "s")

    def test_mistakes(self) -> None:
        rig = read_rig(DEMO / "rigs" / "plover.toml")
        for text, column, what in (
            ('say ""', 5, "says nothing"),
            ("say hello", 5, 'has "hello" where'),
            ("show frontt", 6, 'nothing is called "frontt", nearest is "front"'),
            ("show 1 m + 1 s", 10, "no one can add these"),
            ("show 1 m / 0", 12, "divides by 0"),
        ):
            found = check_text(text, rig).wrong
            self.assertEqual([(m.line, m.column) for m in found], [(1, column)], (text, found))
            self.assertIn(what, found[0].what)

    def test_routines_that_use_these_words_as_names_go_on(self) -> None:
        rig = ideal("plover")
        program = check_text("let say be 2 m\nlet show be say + 1 m\nshow show", rig).program
        assert program is not None
        self.assertEqual(play(program, rig, None).messages[0].text, "show: 3 m")

    def test_a_division_by_zero_that_only_shows_while_it_runs_stops_it_at_its_line(self) -> None:
        rig = ideal("plover")
        program = check_text("let gap be x - x\nshow 1 m / gap\ndrive ahead 1 m", rig).program
        assert program is not None
        made = play(program, rig, None)
        self.assertEqual((made.ended, made.why), ("stopped", "line 2: divides by 0"))

    def test_lines_of_what_was_told_follow_a_text_that_grows(self) -> None:
        from pivrex.routine import Player

        rig = ideal("plover")
        player = Player(rig, None)
        for more in ("", "\n\n"):
            program = check_text(f"{more}drive ahead 20 cm\nshow x\nwait 0.2 s", rig).program
            assert program is not None
            made = player.play(program)
            assert made is not None
            self.assertEqual([t.line for t in made.messages], [2 + len(more)])

    def test_what_a_play_before_told_is_not_told_again(self) -> None:
        from pivrex.routine import Player

        rig = ideal("plover")
        player = Player(rig, None)
        for words in (("a", "b"), ("a", "c"), ("d", "c"), ("a", "b")):
            text = f'say "{words[0]}"\ndrive ahead 10 cm\nsay "{words[1]}"\nwait 0.2 s'
            program = check_text(text, rig).program
            assert program is not None
            made = player.play(program)
            assert made is not None
            self.assertEqual([(t.words, t.line) for t in made.messages], [(words[0], 1), (words[1], 3)])


class PinTest(unittest.TestCase):
    """Columns are found by their titles, as they stand in files; the sums are done here."""

    def setUp(self) -> None:
        rig = ideal("plover")
        self.line = Line(rig)
        program = check_text("start at 2.5 m, 0.5 m facing 170 deg\ndrive back 50 cm\nturn left 90 deg", rig).program
        assert program is not None
        self.rows = play(program, rig, open_folder(DEMO).settings.field).rows

    def column(self, title: str) -> np.ndarray:
        column: np.ndarray = self.rows[:, self.line.layout.titles.index(title)]
        return column

    def values(self, text: str) -> np.ndarray:
        return read_pin(text, text, self.line).values(self.rows)[0]

    def test_readings_columns_and_sums(self) -> None:
        x, turned, lost = (self.column(t) for t in ("odometry.x_m", "odometry.heading_rad", "limits.left_lost_m_s"))
        np.testing.assert_array_equal(self.values("x"), x)
        np.testing.assert_array_equal(self.values("limits.left_lost"), lost)
        np.testing.assert_array_equal(self.values("limits.left_lost_m_s"), lost)  # as `pivrex map` titles it
        np.testing.assert_allclose(self.values("2 * (x - 30 cm)"), 2 * (x - 0.3), rtol=1e-14)
        np.testing.assert_allclose(self.values("size(x - y) * -1"), -abs(x - self.column("odometry.y_m")), rtol=1e-14)
        heading = self.values("heading")  # in degrees, and never more than half a turn
        np.testing.assert_allclose(heading, np.degrees((turned + np.pi) % (2 * np.pi) - np.pi), atol=1e-9)
        self.assertLess(heading[-1], 0)  # 170 and 90 degrees are over half a turn
        np.testing.assert_allclose(self.values("odometry.heading"), np.degrees(turned), rtol=1e-12)
        np.testing.assert_array_equal(self.values("spout"), np.degrees(self.column("attachments.spout_target_rad")))
        np.testing.assert_array_equal(self.values("time"), self.column("clock.t_s"))
        self.assertEqual([read_pin(t, t, self.line).unit for t in ("x", "heading", "limits.left_lost", "x * y", "x / y", "post")],
                         ["m", "deg", "m/s", "m^2", "", ""])  # fmt: skip

    def test_nothing_sensed_is_nothing(self) -> None:
        front = self.column("sensed.front_m")
        self.assertTrue((front <= 0).any() and (front > 0).any())
        np.testing.assert_array_equal(self.values("front"), np.where(front > 0, front, nan))

    def test_a_sum_that_divides_by_zero_says_where(self) -> None:
        pin = read_pin("ratio", "1 m / wheels.left_requested", self.line)
        values, divides = pin.values(self.rows)
        still = self.column("wheels.left_requested_m_s") == 0
        self.assertTrue(still.any() and not still.all())
        np.testing.assert_array_equal(divides, still)
        np.testing.assert_array_equal(np.isnan(values), still)

    def test_mistakes_have_their_column(self) -> None:
        for text, what in (
            ("x + limits.left_lots", 'column 5: nothing is called "limits.left_lots", nearest is "limits.left_lost"'),
            ("x +", "column 4: ends too soon where a name or a number should stand"),
            ("x + heading", "column 3: a length and an angle: no one can add these"),
            ("x / 0", "column 5: divides by 0"),
            ("pump", 'column 1: "pump" is a switch, it has no value'),
            ("zzz", 'column 1: nothing is called "zzz"; readings are heading,'),
        ):
            with self.assertRaises(UnitError) as caught:
                read_pin("p", text, self.line)
            self.assertIn(what, str(caught.exception), text)

    def test_what_is_typed(self) -> None:
        self.assertEqual(named_pin("gap =  front - 30 cm"), ("gap", "front - 30 cm"))
        self.assertEqual(named_pin(" front "), ("front", "front"))

    def test_columns_are_none_of_a_routine(self) -> None:
        found = check_text("show limits.left_lost", ideal("plover")).wrong
        self.assertIn('nothing is called "limits.left_lost"', found[0].what)


class CommandTest(RoutineCase):
    def play(self, *more: str) -> str:
        with contextlib.chdir(self.home):
            ran = Ran("play", "practice", "--rig", "plover", "--body", "ideal", *more)
        self.assertEqual(ran.code, 0, ran.err)
        return ran.out

    def test_check_holds_pins_against_their_rigs(self) -> None:
        file = self.home / "workspace.toml"
        text = file.read_text()
        lines = text.count("\n")
        file.write_text(f'{text}[pins.plover]\nfar = "front"\nbad = "frontt"\n[pins.heron]\na = "x"\n')
        found = Ran("check", str(file))
        self.assertEqual(found.code, 1)
        said = [row.removeprefix(f"{file}:") for row in found.out.splitlines()]
        self.assertEqual(len(said), 2)
        self.assertTrue(said[0].startswith(f'{lines + 3}: pins.plover.bad: column 1: nothing is called "frontt"'), said)
        self.assertEqual(said[1], f"{lines + 4}: pins.heron: rigs/ holds no heron.toml")
        file.write_text(f'{text}[pins.plover]\nfar = "front"\n')
        self.assertEqual(Ran("check", str(file)).code, 0)

    def test_play_of_wheels_that_end_by_their_encoders(self) -> None:
        (self.home / "routines" / "practice.txt").write_text(
            "for plover\nstart at 1 m, 1 m\nturn left 15 cm\nwheels left 40 %, right -40 % for 15 cm\n"
        )
        found = json.loads(self.play("--json"))
        self.assertEqual((found["ended"], len(found["steps"])), ("finished", 2))
        self.assertAlmostEqual(found["pose"]["heading_deg"], 0, delta=2)  # there and back
        (self.home / "routines" / "practice.txt").write_text("for plover\nturn left 15 cm\nwait 0.5 s\n")
        found = json.loads(self.play("--json"))
        start = open_folder(DEMO).settings.field.start.heading_rad
        self.assertAlmostEqual(
            found["pose"]["heading_deg"], (degrees(start + 0.15 / 0.08) + 180) % 360 - 180, delta=1.2
        )

    def test_play_tells_it_in_its_place(self) -> None:
        (self.home / "routines" / "practice.txt").write_text(TEXT)
        said = [" ".join(row.split()) for row in self.play().splitlines()]
        self.assertEqual(said[0], "0.00 s line 3 off: # is no comment")
        self.assertTrue(said[1].endswith("line 5 drive ahead 20 cm"))
        self.assertRegex(said[2], r"^\d\.\d\d s line 6 y - 50 cm: 0\.(2\d*|19\d+) m$")
        found = json.loads(self.play("--json"))
        self.assertEqual([t["line"] for t in found["messages"]], [3, 6, 7, 6, 7, 8, 9])
        self.assertEqual(found["messages"][-2] | {"t_s": 0},
                         {"t_s": 0, "line": 8, "text": "post * time: nothing", "shows": "post * time", "value": None,
                          "unit": "s"})  # fmt: skip
        self.assertAlmostEqual(found["messages"][3]["value"], 0.4, delta=0.006)


class SessionTest(unittest.TestCase):
    def test_all_that_is_said_in_one_tick_is_heard(self) -> None:
        rig = ideal("plover")
        program = check_text('say "one"\nsay "two"\nshow 3 m\nshow heading\nsay "three"', rig).program
        session = Played(ask.SetUp(rig, None))
        session.ask(ask.ChooseRoutine(program))
        session.ticks(2)
        before = session.status.notes
        session.ask(ask.StartPeriod("alone", only=True))
        session.ticks(3)
        notes = session.status.notes_since(before)
        self.assertEqual(notes[:3], ["one", "two", "three"])
        self.assertIn("the routine has finished", notes[-1])
        self.assertEqual([(s.line, s.text) for s in session.status.shown], [(3, "3 m: 3 m"), (4, "heading: 0 deg")])
        session.ask(ask.StartPeriod("alone", only=True))
        self.assertEqual(session.status.shown, ())
        before = session.status.notes
        session.ticks(3)  # again, and all is said again
        self.assertEqual(session.status.notes_since(before)[:3], ["one", "two", "three"])

    def test_notes_are_counted_whatever_came_before(self) -> None:
        status = Status(note="d", notes=9, notes_before=("a", "b", "c"))
        self.assertEqual([status.notes_since(n) for n in (9, 8, 7, 0)], [[], ["d"], ["c", "d"], ["a", "b", "c", "d"]])


class KeptTest(KeepCase):
    def test_what_is_shown_is_kept_with_its_time(self) -> None:
        self.begin("keys")
        program = check_text(TEXT, read_rig(self.place / "rigs" / "plover.toml")).program
        self.ask(ask.ChooseRoutine(program), ask.StartPeriod("alone", only=True))
        self.tick(400)
        self.keeping.close()
        (folder,) = [f for f in self.runs.iterdir() if Run(f).facts.kept != "the last minutes"]
        events = [e for e in Run(folder).events if e.kind in ("said", "shown")]
        self.assertEqual(events[0].text, "off: # is no comment")
        shown_ = [e for e in events if e.kind == "shown"]
        self.assertEqual([e.text.split(":")[0] for e in shown_],
                         ["y - 50 cm", "heading", "y - 50 cm", "heading", "post * time"])  # fmt: skip
        # and what the screen was told of it comes back with the run
        status = Status()
        for _, changed in Run(folder).status_rows:
            status = rebuilt(status, changed)
        self.assertEqual([s.line for s in status.shown], [6, 7])
        self.assertRegex(status.shown[0].text, r"^y - 50 cm: 0\.\d+ m$")
        line = next(e for e in Run(folder).events if e.kind == "step")
        self.assertGreater(shown_[0].row, line.row)


class ScreenTest(RoutineCase):
    @in_loop
    async def test_values_stand_beside_their_lines_at_the_cursor_and_as_curves(self) -> None:
        self.file.write_text(TEXT)
        async with self.open() as view:
            view.go_to(0.0)
            await self.frames(2)
            self.assertEqual(view.editor.values, {})
            first = view.preview.steps[0].end * view.preview.dt_s
            view.go_to(first + 0.1)
            await self.frames(2)
            self.assertEqual(sorted(view.editor.values), [6, 7])
            self.assertRegex(view.editor.values[6], r"^0\.(2\d*|19\d+) m$")
            view.go_to(view.preview.time_s)
            await self.frames(2)
            self.assertRegex(view.editor.values[6], r"^0\.(4\d*|39\d+) m$")
            self.assertEqual(view.editor.values[8], "nothing")
            row = next(
                str(s.text) for s in view.editor.render_lines(view.editor.size.region) if "show y" in str(s.text)
            )
            self.assertTrue(row.rstrip().endswith(view.editor.values[6]), row)
            rows = self.screen().split("\n")
            at = next(i for i, r in enumerate(rows) if r.startswith("y - 50 c"))
            self.assertRegex(rows[at + 1], r"^ *0\.(4|4\d+|39\d+) m")

    @in_loop
    async def test_a_value_that_has_no_room_beside_its_line_is_left_out(self) -> None:
        self.file.write_text(f"for plover\nshow 1 m{' + 1 m' * 8}\nwait 1 s\n")
        async with self.open((80, 24)) as view:
            view.go_to(1.0)
            await self.frames(2)
            self.assertEqual(view.editor.values, {2: "9 m"})
            rows = [str(s.text) for s in view.editor.render_lines(view.editor.size.region)]
            self.assertIn("+ 1 m", rows[2] + rows[1])
            self.assertFalse(any(r.rstrip().endswith(" 9 m") for r in rows), rows)


class PinnedTest(RoutineCase):
    def strip(self) -> str:
        return "\n".join(
            str(s.text) for s in self.app._parts["pins"].render_lines(self.app._parts["pins"].region.reset_offset)
        )

    async def type_pin(self, text: str) -> None:
        self.app.screen.query_one(Input).value = text
        await self.press("enter")
        await self.frames(2)

    @in_loop
    async def test_pinned_changed_and_taken_away(self) -> None:
        async with self.open():
            file = self.home / "workspace.toml"
            before = file.read_text()
            self.assertFalse(self.app._parts["pins"].display)
            await self.press("ampersand")
            await self.type_pin("gap = x + frontt")
            self.assertIn("column 5", str(self.app.screen.query_one("#what", Label).render()))
            await self.type_pin("gap = x + 1 m")
            self.assertIn("gap", self.strip())
            self.assertIn(f"{self.model.value('odometry', 'x') + 1:.3g} m", self.strip())
            self.assertEqual(file.read_text(), before + '\n[pins.plover]\ngap = "x + 1 m"\n')
            await self.press("ampersand")
            await self.press("down", "enter")  # another
            await self.type_pin("1 m / (x - x)")
            self.assertIn("! divides by 0", self.strip())
            await self.press("ampersand")
            await self.press("enter")
            self.assertEqual(self.app.screen.query_one(Input).value, "gap = x + 1 m")
            await self.type_pin("")
            self.assertEqual(list(self.model.documents.pins(self.model.rig_name)), ["1 m / (x - x)"])
            await self.press("ampersand")
            await self.press("enter")
            await self.type_pin("")
            self.assertFalse(self.app._parts["pins"].display)

    @in_loop
    async def test_what_another_program_writes_counts_and_what_is_wrong_is_said(self) -> None:
        async with self.open((80, 24)):
            file = self.home / "workspace.toml"
            file.write_text(file.read_text() + '[pins.plover]\nfar = "frontt"\n[pins.coot]\nother = "x"\n')
            self.model.look_outside()
            await self.frames(2)
            self.assertIn('far ! column 1: nothing is called "frontt"', self.strip())
            self.assertEqual(self.app._parts["pins"].size.height, 1)
            self.assertNotIn("other", self.strip())


class JourneyTest(TerminalCase):
    def test_a_letter_is_answered_and_stands_in_the_log_with_what_it_did(self) -> None:
        home = self.folder / "own"
        shutil.copytree(DEMO, home)
        rig = home / "rigs" / "coot.toml"
        rig.write_text(rig.read_text().replace("port = 5801", f"port = {free_port(socket.SOCK_STREAM)}"))
        terminal = self.open("open", str(home), "--rig", "coot", "--view", "driver")
        terminal.wait("letter box")
        words = [sys.executable, "-m", "pivrex", "remote", "coot", "letter box"]
        script = "wait 0.6\nsend u\nwait 0.3\nsend F\nwait 1\n"
        said = subprocess.run(
            words, input=script, capture_output=True, text=True, cwd=home, check=True, timeout=60
        ).stdout
        self.assertEqual(said.splitlines(), ["> u boom to 80 deg", "> F forward 50 %"])
        wait_for(
            lambda: re.search(r"← u  boom to 80 deg.*\n.*← F  forward 50 %", terminal.screen()), 20, terminal.screen
        )

    def test_pinned_on_the_real_screen_in_replay_and_of_two_runs(self) -> None:
        terminal = self.open_demo("--rig", "plover")
        terminal.keys("&")
        terminal.wait("pin =")
        for word in ("gap", "Space", "=", "Space", "1", "Space", "m", "Space", "-", "Space", "x", "Enter"):
            terminal.keys(word)
        terminal.wait("gap is pinned")
        wait_for(lambda: re.search(r"^ gap\b.*\n 0\.\d+ m", terminal.screen(), re.MULTILINE), 20, terminal.screen)
        for count in (1, 2):
            time.sleep(3)  # there must be something to keep
            terminal.keys("*")
            wait_for(
                lambda count=count: (
                    sum('"by key"' in f.read_text() for f in self.workspace.glob("runs/*/run.toml")) == count
                ),  # type: ignore[misc]
                30,
                terminal.screen,
            )
            terminal.keys("r")
        terminal.keys("7")
        terminal.wait("kept: by key")
        wait_for(lambda: terminal.screen().count(" gap ") == 2, 30, terminal.screen)  # the strip, and the run's chart
        terminal.keys("+", "Down")
        wait_for(
            lambda: "what was changed" in terminal.screen() and terminal.screen().count(" gap ") == 2,
            60,
            terminal.screen,
        )
        terminal.keys("+", "c")
        terminal.wait("a run of ")
        wait_for(lambda: re.search(r"^ gap\b.*\n 0\.\d+ m", terminal.screen(), re.MULTILINE), 20, terminal.screen)

    def test_typed_played_and_found_in_the_run(self) -> None:
        home = self.folder / "own"
        shutil.copytree(DEMO, home)
        text = home / "routines" / "mine.txt"
        text.write_text("for plover\nstart at 1 m, 0.5 m facing 90 deg\ndrive ahead 20 cm\n")
        workspace = home / "workspace.toml"
        workspace.write_text(workspace.read_text().replace('plover = "greenhouse-plover"', 'plover = "mine"'))
        terminal = self.open("open", str(home), "--rig", "plover", "--view", "routine")
        terminal.wait("ends at")
        terminal.keys("y", "Down", "Down", "Down")
        for word in ("show", "Space", "heading", "Enter", "say", "Space", '"well', "Space", 'done"'):
            terminal.keys(word)
        terminal.wait('say "well done"')
        terminal.wait("no mistakes")
        terminal.keys("Escape")
        wait_for(lambda: "STOPPED" in terminal.row(0), 20, terminal.screen)
        terminal.keys("g", "G")
        terminal.wait("the routine has finished")
        wait_for(lambda: re.search(r"show heading +[\d.]+ deg", terminal.screen()), 20, terminal.screen)
        terminal.keys("!")
        terminal.wait("well done")
        wait_for(
            lambda: any("heading: " in r and " deg" in r for r in terminal.screen().split("\n")), 20, terminal.screen
        )
        terminal.keys("!")
        wait_for(lambda: "well done" not in terminal.row(10) + terminal.row(-1), 20, terminal.screen)
        terminal.wait("motion")
        terminal.keys("L", "7")
        wait_for(lambda: "= heading:" in terminal.screen() and "· well done" in terminal.screen(), 60, terminal.screen)
