"""Own moves: made of the lines of a routine and proven to do the same; started by a button, cut off by a stick; and what a match says."""

import contextlib
import shutil
import unittest
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np

from pivrex.devices.worries import warnings_in
from pivrex.errors import RigError, UnitError
from pivrex.rig import Rig, open_folder, read_rig, read_text
from pivrex.rig.field import Match as Periods
from pivrex.rig.field import Workspace
from pivrex.routine import Program, check_text, play
from pivrex.routine.files import bound_moves
from pivrex.routine.motion import straight_of
from pivrex.routine.own_move import differs, made_move, suggested
from pivrex.session import messages as ask
from pivrex.session.periods import Period
from pivrex.tui.jobs.routine_made import ToProve
from tests.chassis import demo_path, ideal
from tests.support import DEMO, TempCase, wait_for
from tests.test_app import in_loop
from tests.test_match import Played
from tests.test_routine_view import RoutineCase
from tests.test_terminal import TerminalCase

FIELD = open_folder(DEMO).settings.field

TEXT = """\
for plover
start at 0.5 m, 0.5 m facing 90 deg
drive ahead 0.5 m at 40 %   # first
turn left 90 deg
if front below 30 cm
    drive ahead 30 cm at 40 %
    turn left 45 deg
drive ahead 0.5 m at 50 %
turn left 90 deg
wait 0.2 s
drive ahead 0.2 m at 40 %
turn left 10 deg
"""

NODS = """\
for plover
start at 0.5 m, 0.5 m facing 90 deg
do nod
if front below 30 cm
    do nod with way 30 cm, angle 45 deg
drive ahead 0.5 m at 50 %
turn left 90 deg
wait 0.2 s
do nod with way 0.2 m, angle 10 deg

own move nod with way 0.5 m, angle 90 deg
    drive ahead way at 40 %   # first
    turn left angle
"""


def program(text: str, rig: Rig) -> Program:
    checked = check_text(text, rig)
    assert checked.program is not None, checked.wrong
    return checked.program


class MadeTest(unittest.TestCase):
    def test_every_same_passage_becomes_a_call(self) -> None:
        made = made_move(TEXT, 3, 4, "nod with way 0.5 m, angle 90 deg")
        self.assertEqual((made.text, made.calls), (NODS, 3))
        # with the share a parameter too, the one at 50 % is the same
        made = made_move(TEXT, 3, 4, suggested(TEXT, 3, 4))
        self.assertEqual(suggested(TEXT, 3, 4), "part with way 0.5 m, share 40 %, angle 90 deg")
        self.assertEqual(made.calls, 4)
        self.assertIn("do part with share 50 %\n", made.text)
        # without parameters only the very same lines are
        made = made_move(TEXT + "drive ahead 50 cm at 40 %\nturn left 90 deg\n", 3, 4, "nod")
        self.assertEqual((made.calls, made.text.count("do nod\n")), (2, 2))

    def test_a_block_whole_and_a_line_of_it(self) -> None:
        made = made_move(TEXT, 5, 7, "corner with near 30 cm")
        self.assertIn("do corner\n", made.text)
        self.assertIn(
            "own move corner with near 30 cm\n    if front below near\n        drive ahead 30 cm at 40 %\n", made.text
        )
        made = made_move(TEXT, 7, 7, "left with angle 45 deg")
        self.assertEqual(made.calls, 4)
        self.assertIn("    drive ahead 30 cm at 40 %\n    do left\n", made.text)

    def test_what_cannot_be(self) -> None:
        for first, last, typed, what in (
            (4, 6, "x", "part of a block"),
            (6, 8, "x", "part of a block"),
            (5, 6, "x", "part of a block"),
            (3, 4, "x with way 1 m", "no number of these lines is 1 m"),
            (3, 4, "x with way 0.5 m, way 90 deg", 'two parameters are called "way"'),
            (3, 4, "9x", "is no name"),
            (20, 21, "x", "nothing is done"),
        ):
            with self.assertRaises(UnitError) as caught:
                made_move(TEXT, first, last, typed)
            self.assertIn(what, str(caught.exception))

    def test_the_new_text_makes_the_same_ticks_in_drives_that_differ(self) -> None:
        rig = read_rig(demo_path("plover"))
        before = program(TEXT, rig)
        for typed in ("nod with way 0.5 m, angle 90 deg", suggested(TEXT, 3, 4), "nod"):
            after = program(made_move(TEXT, 3, 4, typed).text, rig)
            self.assertEqual(differs(before, after, rig, FIELD, 25.0), "", typed)
        # that they are the same is found, not said: another number, and a longer routine, are told with their time
        for old, new, what in (
            ("angle 10 deg", "angle 11 deg", "in drive 1 "),
            ("wait 0.2 s", "wait 0.3 s", "in drive 1 it takes"),
        ):
            wrong = program(NODS.replace(old, new), rig)
            self.assertIn(what, differs(before, wrong, rig, FIELD, 25.0))

    def test_the_greenhouse_of_each_robot(self) -> None:
        for name in ("bittern", "avocet"):
            rig = ideal(name)
            arm = "boom" if "boom" in rig.attachments else next(iter(rig.attachments))
            text = (
                f"start at 1 m, 1 m\nrepeat 2 times\n    drive ahead 20 cm\n    move {arm} to 40 deg\n    wait 0.3 s\n"
            )
            text += f"drive ahead 20 cm\nmove {arm} to 10 deg\n"
            made = made_move(text, 3, 4, suggested(text, 3, 4))
            self.assertEqual(made.calls, 2)
            one, other = (play(program(t, rig), rig, None) for t in (text, made.text))
            np.testing.assert_array_equal(one.poses, other.poses)


class ButtonTest(TempCase):
    """A rig whose buttons do own moves of a file next to it."""

    MOVES = 'own move nod with way 30 cm\n    drive ahead way at 60 %\n    move spout to 30 deg and wait\n    say "nodded"\n'

    def setUp(self) -> None:
        super().setUp()
        self.home = self.demo()
        self.file = self.home / "rigs" / "plover.toml"
        text = self.file.read_text().replace('rate = "60 Hz"', 'rate = "60 Hz"\nmoves = "own"', 1)
        for channel, does in (
            ("button_3", "do nod with way 40 cm"),
            ("button_9", "do nothing"),
            ("button_8", "next routine"),
        ):
            text += f'\n[[bindings]]\nchannel = "{channel}"\ndoes = "{does}"\n'
        self.file.write_text(text)
        (self.home / "routines" / "own.txt").write_text(self.MOVES)
        self.rig = read_rig(self.file)
        self.s = Played(ask.SetUp(self.rig, FIELD, periods=Periods.model_validate({"alone": "2 s"})))
        self.s.ask(ask.UseMoves(bound_moves(self.rig, self.file)))
        self.s.ticks(3)

    def press(self, button: str) -> None:
        self.s.ticks(40)  # the one before has been let go
        self.s.ask(ask.KeyDown(button))
        self.s.ticks(2)
        self.s.ask(ask.KeyUp(button))

    def y(self) -> float:
        return float(self.s.robots.simulator.state.pose[1])

    def test_it_is_done_and_says_what_it_says(self) -> None:
        y = self.y()
        self.press("button_3")
        self.assertEqual(self.s.status.note, "nod with way 40 cm begins")
        self.assertEqual(self.s.status.experiment, "nod with way 40 cm")
        self.s.ticks(200)
        self.assertAlmostEqual(self.y() - y, 0.4, delta=0.01)
        self.assertEqual(self.s.status.notes_since(1)[0], "nodded")
        self.assertRegex(self.s.status.note, r"^nod with way 40 cm: finished after \d\.\d s$")
        self.assertEqual(self.s.status.experiment, "")

    def test_a_stick_cuts_it_off_also_one_that_was_pushed_when_it_began(self) -> None:
        self.s.ask(ask.MoveSticks({"left_y": -0.5}))
        self.s.ticks(30)
        self.press("button_3")
        self.s.ask(ask.MoveSticks({"left_y": -0.5}))
        self.s.ticks(20)
        self.assertTrue(self.s.status.experiment)  # held as it was: it goes on
        self.s.ask(ask.MoveSticks({"left_y": -0.75}))
        self.s.ticks(2)
        self.assertEqual(self.s.status.note, "nod with way 40 cm: cut off by the driver")
        row = self.s.ticks(20)[-1]
        self.assertGreater(row[self.s.line.layout.at("law", "forward")], 0.1)  # the driver drives on
        # let go and pushed again, however little
        self.press("button_3")
        self.s.ask(ask.MoveSticks({"left_y": 0.0}))
        self.s.ticks(10)
        self.assertTrue(self.s.status.experiment)
        self.s.ask(ask.MoveSticks({"left_y": -0.4}))
        self.s.ticks(2)
        self.assertEqual(self.s.status.experiment, "")

    def test_a_stick_that_came_back_half_way_and_is_pushed_again_cuts_it_off(self) -> None:
        for push, goes_on in ((0.8, True), (0.55, True), (0.75, False)):
            self.s.ask(ask.MoveSticks({"left_y": -push}))
            if push == 0.8:
                self.s.ticks(60)
                self.press("button_3")
                self.s.ask(ask.MoveSticks({"left_y": -push}))
            self.s.ticks(5)
            self.assertEqual(bool(self.s.status.experiment), goes_on, push)

    def test_it_may_say_where_the_robot_is(self) -> None:
        (self.home / "routines" / "own.txt").write_text(
            "own move nod with way 30 cm\n    here is 2 m, 1 m facing 0 deg\n    wait 0.2 s\n"
        )
        self.s.ask(ask.UseMoves(bound_moves(self.rig, self.file)))
        self.press("button_3")
        row = self.s.ticks(30)[-1]
        at = self.s.line.layout.at
        np.testing.assert_allclose([row[at("odometry", n)] for n in ("x", "y", "heading")], (2, 1, 0), atol=1e-3)

    def test_another_routine_is_chosen_until_the_match_begins_only(self) -> None:
        self.press("button_8")
        self.assertEqual(self.s.status.match.steps, 1)
        self.s.ask(ask.ChooseRoutine(program("drive ahead 3 m", self.rig)), ask.MakeReady())
        self.press("button_8")
        self.assertEqual(self.s.status.match.steps, 2)
        self.s.ask(ask.StartPeriod("alone", only=True))
        self.press("button_8")
        self.assertEqual(self.s.status.match.steps, 2)
        self.assertEqual(self.s.status.note, "the routine can be changed until the match begins")

    def test_another_stick_does_too(self) -> None:
        self.press("button_3")
        self.s.ask(ask.MoveSticks({"left_x": 0.6}))
        self.s.ticks(2)
        self.assertEqual(self.s.status.note, "nod with way 40 cm: cut off by the driver")

    def test_a_motion_of_the_heading_view_takes_its_place(self) -> None:
        self.press("button_3")
        self.s.ask(ask.BeginMotion(straight_of(self.s.line, 0.5), "ahead"))
        self.s.ticks(2)
        self.assertEqual(self.s.status.experiment, "ahead")
        self.assertIn("nod with way 40 cm: ended, ahead begins", self.s.status.notes_since(0))
        self.press("button_3")
        self.assertEqual(self.s.status.note, "nod with way 40 cm: not while ahead goes on")

    def test_another_rig_ends_it(self) -> None:
        self.press("button_3")
        self.s.ask(ask.UseRig(self.rig.model_copy(update={"lag_s": 0.2}), 1))
        self.s.ticks(3)
        self.assertEqual(
            (self.s.status.note, self.s.status.experiment), ("nod with way 40 cm: ended, the rig was changed", "")
        )

    def test_a_button_that_moves_the_robot_cuts_it_off(self) -> None:
        text = self.file.read_text() + '\n[[bindings]]\nchannel = "button_2"\ndoes = "turn left 30 %"\n'
        self.file.write_text(text)
        rig = read_rig(self.file)
        self.s.ask(ask.UseRig(rig, 1), ask.UseMoves(bound_moves(rig, self.file)))
        self.s.ticks(2)
        self.press("button_3")
        self.s.ask(ask.KeyDown("button_2"))
        self.s.ticks(2)
        self.assertEqual(self.s.status.note, "nod with way 40 cm: cut off by the driver")

    def test_a_stop_ends_it_and_nothing_begins_then(self) -> None:
        self.press("button_3")
        self.s.ask(ask.Stop("test"))
        rows = self.s.ticks(60)
        self.assertEqual(self.s.status.experiment, "")
        self.assertEqual(np.abs(rows[5:, self.s.line.speeds]).max(), 0)
        self.press("button_3")
        self.assertEqual(self.s.status.note, "nod with way 40 cm: not while the robot is stopped")

    def test_not_while_a_routine_drives_another_goes_on_or_a_match_is_ready(self) -> None:
        self.press("button_3")
        self.press("button_3")
        self.assertEqual(self.s.status.note, "nod with way 40 cm: not while nod with way 40 cm goes on")
        self.s.ticks(200)
        self.s.ask(ask.ChooseRoutine(program("drive ahead 3 m", self.rig)), ask.StartPeriod("alone", only=True))
        self.s.ticks(5)
        self.press("button_3")
        self.assertEqual(self.s.status.note, "nod with way 40 cm: not while routine drives")
        self.assertTrue(self.s.status.match.period is Period.ALONE and not self.s.status.match.ended)
        self.s.ask(ask.MakeReady())
        self.press("button_3")
        self.assertEqual(self.s.status.note, "nod with way 40 cm: not while the match is ready")
        self.s.ask(ask.MoveSticks({"left_y": -0.5}), ask.StartPeriod("driven", only=True))
        self.press("button_3")
        self.assertEqual(self.s.status.note, "nod with way 40 cm: not while the driver has not let go of the sticks")

    def test_a_period_that_ends_ends_it_and_the_robot_rests(self) -> None:
        self.s = Played(ask.SetUp(self.rig, FIELD, periods=Periods.model_validate({"driven": "2 s"})))
        self.s.ask(ask.UseMoves({"do nod with way 40 cm": program("drive ahead 2 m at 30 %", self.rig)}))
        self.s.ask(ask.StartPeriod("driven", only=True))
        self.press("button_3")
        self.assertTrue(self.s.status.experiment)
        self.s.ticks(90)
        self.assertIs(self.s.status.match.period, Period.OVER)
        self.assertEqual(self.s.status.experiment, "")
        np.testing.assert_array_equal(self.s.ticks(1)[-1][self.s.line.speeds], 0.0)

    def test_a_match_that_is_made_ready_ends_it(self) -> None:
        self.press("button_3")
        self.s.ask(ask.ChooseRoutine(program("drive ahead 3 m", self.rig)), ask.MakeReady())
        self.s.ticks(2)
        self.assertEqual(self.s.status.experiment, "")

    def test_one_that_cannot_be_done_says_why_and_check_warns_with_its_place(self) -> None:
        self.press("button_9")
        self.assertEqual(self.s.status.note, 'nothing: there is no own move "nothing"; own moves are: nod')
        line = self.file.read_text().split("\n").index('does = "do nothing"') + 1
        found = [m for m in warnings_in(self.rig, self.file) if "nothing" in m.what]
        self.assertEqual([m.line for m in found], [line])
        (self.home / "routines" / "own.txt").unlink()
        self.assertEqual(bound_moves(self.rig, self.file)["do nothing"], "there is no routines/own.txt")

    def test_a_rig_that_says_no_file_of_moves(self) -> None:
        text = self.file.read_text().replace('moves = "own"', "")
        with self.assertRaises(RigError) as caught:
            read_text(text, self.file, Rig)
        self.assertIn("the rig says no file of own moves", str(caught.exception.mistakes[0]))


class MatchSaysTest(unittest.TestCase):
    PERIODS = Periods.model_validate(
        {
            "alone": "1 s", "between": "0.5 s", "driven": "2 s",
            "says": [
                {"at": "ready", "text": "batteries?"}, {"at": "alone", "text": "hands off", "bell": True},
                {"at": "driven", "text": "drive"}, {"at": "driven", "left": "1 s", "text": "to the bench", "bell": True},
                {"at": "over", "text": "lift it", "bell": True},
            ],
        }
    )  # fmt: skip

    def test_each_period_says_the_persons_words_and_rings(self) -> None:
        rig = ideal("plover")
        s = Played(ask.SetUp(rig, FIELD, periods=self.PERIODS))
        s.ask(ask.ChooseRoutine(program("wait 5 s", rig)), ask.MakeReady())
        heard = [(s.status.match.period, s.status.match.says, s.status.match.bells)]
        at = [0.0]
        s.ask(ask.StartPeriod("alone"))
        while s.period is not Period.OVER:
            now = (s.status.match.period, s.status.match.says, s.status.match.bells)
            if now != heard[-1]:
                heard.append(now)
                at.append(s.now)
            s.ticks(1)
        heard.append((s.status.match.period, s.status.match.says, s.status.match.bells))
        self.assertEqual(
            heard,
            [
                (Period.READY, "batteries?", 0), (Period.ALONE, "hands off", 1), (Period.BETWEEN, "", 1), (Period.DRIVEN, "drive", 1),
                (Period.DRIVEN, "to the bench", 2), (Period.OVER, "lift it", 3),
            ],
        )  # fmt: skip
        self.assertAlmostEqual(at[4] - at[3], 1.0, delta=0.03)
        self.assertIn("to the bench", s.status.notes_since(0))
        s.ask(ask.LeaveMatch())
        self.assertEqual(s.status.match.says, "")

    def test_mistakes_have_their_place(self) -> None:
        for said, what in (
            ('at = "over"\nleft = "3 s"\ntext = "a"', "match.says.1.left: is for a period that is counted"),
            ('at = "driven"\nleft = "300 s"\ntext = "a"', "match.says.1.left: is 300 s, but driven lasts 110 s"),
            ('at = "later"\ntext = "a"', "match.says.1.at"),
            ('at = "alone"\ntext = ""', "match.says.1.text"),
        ):
            with self.assertRaises(RigError) as caught:
                read_text(f"[[match.says]]\n{said}\n", Path("workspace.toml"), Workspace)
            self.assertTrue(any(what in str(m) for m in caught.exception.mistakes), caught.exception.mistakes)


class ScreenTest(RoutineCase):
    @in_loop
    async def test_lines_become_an_own_move_and_come_back(self) -> None:
        self.file.write_text(TEXT)
        async with self.open() as view:
            view.editor.to_line(3)
            await self.press("y", "home", "shift+down", "shift+down", "escape")
            await self.press("W")
            self.app.screen.query_one("Input").value = "nod with way 0.5 m, angle 90 deg"  # type: ignore[attr-defined]
            await self.press("enter")
            await self.until(lambda: "do nod" in view.editor.text)
            self.assertEqual(view.editor.text, NODS)
            self.assertIn("3 passages are nod now: the same Ticks in 3 drives", self.model.message)
            await self.settle()
            self.assertIn("no mistakes", self.screen())
            await self.press("y", "ctrl+z")
            self.assertEqual(view.editor.text, TEXT)

    @in_loop
    async def test_what_would_do_something_else_is_not_kept(self) -> None:
        self.file.write_text(TEXT)
        async with self.open() as view:
            view.editor.to_line(3)
            helpers = self.helpers
            with mock.patch.object(helpers.made, "ask") as asked_for:
                await self.press("W", "enter")
            asked = asked_for.call_args[0][0]
            self.assertIsInstance(asked, ToProve)
            helpers._keep_move("in drive 2 limits.left_lost is another at 1.00 s", asked)
            self.assertEqual(view.editor.text, TEXT)
            self.assertIn("would do something else: in drive 2", self.model.message)

    @in_loop
    async def test_a_mistake_stays_beside_what_was_typed(self) -> None:
        self.file.write_text(TEXT.replace("wait 0.2 s", "let far be 1 m\ndrive ahead far"))
        async with self.open() as view:
            view.editor.to_line(11)
            await self.press("W", "enter")
            self.assertIn('nothing is called "far"', str(self.app.screen.query_one("#what").render()))

    @in_loop
    async def test_a_button_walks_through_the_routines_until_the_match_begins(self) -> None:
        async with self.open() as view:
            here = view.document.path.stem
            playable = [p.stem for p in view.playable()]
            self.assertIn(here, playable)
            self.assertNotIn("greenhouse-avocet", playable)
            match = replace(self.model.status.match, steps=1, bells=1)
            with mock.patch.object(type(self.model), "status", replace(self.model.status, match=match)):
                self.app.follow_match()
            after = playable[(playable.index(here) + 1) % len(playable)]
            self.assertEqual(view.document.path.stem, after)
            self.assertIn(f"routine: {after}, {playable.index(after) + 1} of {len(playable)}", self.model.message)
            # what a run that is open had chosen is no wish of now
            with (
                mock.patch.object(
                    type(self.model), "status", replace(self.model.status, match=replace(match, steps=5))
                ),
                mock.patch.object(type(self.model), "replay", mock.Mock()),
            ):
                self.app.follow_match()
            with mock.patch.object(type(self.model), "status", replace(self.model.status, match=match)):
                self.app.follow_match()
            self.assertEqual(view.document.path.stem, after)


class JourneyTest(TerminalCase):
    def test_a_button_chooses_before_the_match_and_starts_an_own_move(self) -> None:
        home = self.folder / "own"
        shutil.copytree(DEMO, home)
        rig = home / "rigs" / "plover.toml"
        text = rig.read_text().replace('rate = "60 Hz"', 'rate = "60 Hz"\nmoves = "moves"', 1)
        for channel, does in (("button_3", "do nod"), ("button_8", "next routine")):
            text += f'\n[[bindings]]\nchannel = "{channel}"\ndoes = "{does}"\n'
        rig.write_text(text)
        for name in ("left", "right"):
            (home / "routines" / f"{name}.txt").write_text(f"for plover\nturn {name} 90 deg\n")
        (home / "routines" / "moves.txt").write_text("own move nod\n    drive ahead 30 cm\n")
        workspace = home / "workspace.toml"
        said = workspace.read_text().replace('plover = "greenhouse-plover"', 'plover = "left"')
        said = said.replace(
            "[match]",
            '[match]\nroutines = ["left", "right"]\nsays = [{ at = "alone", text = "hands off!", bell = true }]',
        )
        workspace.write_text(said)
        terminal = self.open("open", str(home), "--rig", "plover", "--view", "driver", config="set -g monitor-bell on")
        terminal.wait("next routine")
        key = next(row.split()[-1] for row in terminal.screen().split("\n") if "next routine" in row)
        nod = next(row.split()[-1] for row in terminal.screen().split("\n") if "do nod" in row)
        terminal.keys(nod)
        terminal.wait("nod: finished after", 15)
        terminal.keys("M")
        terminal.wait("READY  left · Plover")
        terminal.keys(key)
        terminal.wait("READY  right · Plover")
        terminal.keys(nod)
        terminal.wait("nod: not while the match is ready")
        terminal.keys("M")
        wait_for(lambda: "hands off!" in terminal.screen() and "ALONE" in terminal.screen(), 20, terminal.screen)
        for _ in range(6):  # a key's press is short: a machine that stands still for a moment misses it
            terminal.keys(key)
            with contextlib.suppress(AssertionError):
                terminal.wait("the routine can be changed until the match begins", 6)
                break
        else:
            self.fail(terminal.screen())
        self.assertIn("bell", terminal._tmux("display-message", "-p", "-t", "main", "bell#{window_bell_flag}"))
