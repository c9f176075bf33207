"""Routines on a board: a table of steps, and what goes on with it. What comes of them is held to what the desktop's play makes."""

from __future__ import annotations

import json
import time
import unittest
from dataclasses import replace
from itertools import groupby
from math import degrees
from unittest import mock

import numpy as np

from pivrex.board import proving
from pivrex.board.alone import Alone
from pivrex.board.proving import Ticks, played_ticks, prove, ran_in_double, ticks_of_routine
from pivrex.board.steps import Task
from pivrex.board.watching import BY_ROUTINE, DRIVES, LOST, NOT_AT_REST, STOPPED, Rebuilder
from pivrex.errors import RigError, RoutineError
from pivrex.line.line import Line
from pivrex.rig import Field, Rig, open_folder, read_rig
from pivrex.routine.files import program_of
from pivrex.routine.playing import play
from pivrex.session import messages as ask
from pivrex.session.moving import Moving
from pivrex.session.periods import Period
from pivrex.tui.model import ScreenModel
from tests.chassis import demo_path
from tests.local import local_model
from tests.support import DEMO, TempCase, wait_for
from tests.test_alone import RADIO, STICK, AloneCase, HereCase, WatchingSessionCase, alone
from tests.test_board import GYRO_PIN, WITH_CHIP, changed, plover_with
from tests.test_cli import Ran
from tests.test_routine_running import POST, program

FIELD = open_folder(DEMO).settings.field

DRIVING = """
start at 0.50 m, 0.75 m facing 30 deg
from now on drive at 0.5 m/s
from now on turn at 120 deg/s
drive ahead 30 cm at 60 %
drive back for 0.4 s without gyro
drive ahead 400 counts at 0.3 m/s
drive ahead 0.5 wheel turns
turn left 60 deg at 90 deg/s
turn right for 0.3 s
turn left 6 cm
turn to 180 deg
turn toward 1.5 m, 1.5 m
pivot left 45 deg about the left side
bend back right 30 deg with radius 0.25 m
wheels left -40 %, right 50 % for 8 cm
wheels left 20 %, right 30 % for 0.3 s
let much be 3
wheels left much * 50 %, right 90 % for 0.2 s
drive to 0.9 m, 0.9 m facing 45 deg
drive to 0.9 m, 0.9 m
here is 0.2 m, 0.1 m facing 10 deg
turn to 0 deg
settle at most 1 s
from now on without gyro
drive ahead 20 cm at most 12 cm
"""

DECIDING = """
start at 0.50 m, 0.75 m facing 0 deg
own move nudge with far 6 cm, again 2
    repeat again times
        drive ahead far
        if far above 4 cm and not (x above 1 m or heading > 90 deg)
            give far / 2
own move deep with much 3 cm
    let half be result of nudge with far much * 2, again 1
    give half
let gap be front else 50 cm
let found be result of deep
let most_of_all be result of nudge with far least(found, 5 cm, gap), again 1
let n be 0
repeat until n is 2 at most 5 times
    let n be n + 1
    turn left 15 deg at most 0.2 s, else go on
repeat 2 times
    drive ahead 20 cm until time > 1000 s or x >= 0.72 m
"""

CHOOSING = """
start at 0.50 m, 0 m facing 0 deg
wait until post is heard at most 0.2 s
let bench be post else 1
choose by bench
    when 2
        turn left 20 deg
    when 3
        turn left size(0 deg - 40 deg)
    otherwise
        turn left 60 deg
if post is 3
    drive ahead root(4) * 5 cm
else
    stop
switch post off
let bench be post else 7
if bench is 7 and post is silent
    drive back 5 cm
else
    drive ahead 50 cm
wait until post is heard at most 0.3 s, else do finish
drive ahead 3 cm

own move finish
    turn right 10 deg
"""

AT_ONCE = """
start at 1 m, 1 m facing 0 deg
at once until all end
    drive left 20 cm
    do lift
    at once until one ends
        wait 0.9 s
        wait until time > 1000 s
at once until one ends
    drive along 45 deg for 50 cm
    wait 0.5 s
at once until one ends
    home boom at -30 % at most 3 s
    wait 0.3 s
move boom by -10 deg over 0.4 s
switch pump on
wait for boom at most 1 s
if boom is there and pump is on
    zero boom
    switch pump off
zero counts
home boom at -30 % as 5 deg at most 1 s
move spout to 40 deg and wait at most 0.6 s, else do lift
drive to 1.2 m, 1.1 m facing 90 deg
zero gyro
drive to 1.2 m, 1.1 m facing 30 deg

own move lift with up 30 deg
    move boom to up and wait at most 1.5 s
"""

FAULTY = {
    "let a be 0\ndrive ahead 10 cm\ndrive ahead 10 cm / a": ("stopped", "line 3: divides by 0"),
    "drive ahead 5 cm\nlet a be root(0 - 1)": ("stopped", "line 2: takes the root of something below 0"),
    "drive ahead front": ("stopped", "line 1: a value is missing"),
    "drive ahead 5 cm\nwait until front below 1 cm at most 0.2 s, else stop": (
        "stopped",
        "line 2: a step reached its limit",
    ),
    "drive ahead 5 cm\nstop\ndrive back 1 m": ("finished", ""),
}


def on_board(text: str, rig: Rig, field: Field | None = None, limit_s: float = 60.0) -> Ticks:
    """Play a routine; return its ticks."""
    return played_ticks(Line(rig), Task(program(text, rig), limit_s), field)


class PlayedTest(unittest.TestCase):
    """In double a board has the very bits of the desktop's interpreter."""

    def same(self, rig: Rig, ticks: Ticks, least: int) -> str:
        """Hold what a board's program gives, and which line it says, to the desktop's ticks; return how its routine ends."""
        line, routine = Line(rig), ticks.routine
        assert routine is not None
        # one tick more, so that what it thinks last is remembered
        more = replace(
            ticks,
            rows=np.vstack((ticks.rows, ticks.rows[-1:])),
            memories=np.vstack((ticks.memories, ticks.memories[-1:])),
        )
        rows, memories = ran_in_double(line, more)
        reported = line.outputs.commands
        self.assertEqual(rows[:-1, reported].tolist(), (ticks.rows[:, reported] + 0.0).tolist())
        self.assertGreater(len(ticks.rows), least)
        lines = [routine.line_in(m) for m in memories[1:-1]]
        asked = ticks.rows[1:, line.layout.at("routine", "line")].tolist()
        # where nothing is waited for the desktop says the line that was begun last
        self.assertEqual([(a, b) for a, b in zip(lines, asked, strict=True) if a and a != b], [])
        return routine.ended_in(memories[-1])

    def finishes(self, text: str, rig: Rig, least: int, field: Field | None = None) -> None:
        self.assertEqual(self.same(rig, on_board(text, rig, field), least), "the routine has finished")

    def test_all_ways_to_drive(self) -> None:
        self.finishes(DRIVING, plover_with(), 700)

    def test_deciding_repeating_and_own_moves(self) -> None:
        self.finishes(DECIDING, plover_with(), 150)

    def test_what_is_sensed(self) -> None:
        self.finishes(CHOOSING, plover_with(), 150, POST)
        self.finishes(CHOOSING, plover_with(), 20)

    def test_several_at_once_and_attachments(self) -> None:
        self.finishes(AT_ONCE, read_rig(demo_path("bittern")), 300)

    def test_the_demos_routines(self) -> None:
        for name in ("plover", "bittern", "avocet"):
            rig = read_rig(demo_path(name))
            task = Task(program_of(DEMO / "routines" / f"greenhouse-{name}.txt", rig), 40.0)
            self.assertEqual(
                self.same(rig, played_ticks(Line(rig), task, FIELD), 900), "the routine has finished", name
            )

    def test_what_ends_it_too_early_is_said_with_its_line(self) -> None:
        rig = plover_with()
        for text, (ended, why) in FAULTY.items():
            made = play(program(text, rig), rig, None)
            self.assertEqual(made.ended, ended, text)
            self.assertIn(why or "the routine has finished", self.same(rig, on_board(text, rig), 0), text)

    def test_in_float_outputs_are_within_a_step(self) -> None:
        rig = plover_with()
        line, task = Line(rig), Task(program(DECIDING, rig), 25.0)
        proof, _ = prove(line, ticks_of_routine(line, task, None))
        self.assertEqual(proof.differ, 0)
        self.assertLessEqual(proof.steps, 1.0)
        self.assertLessEqual(proof.flips * 2000, proof.comparisons)

    def test_numbers_that_are_wrong_are_found(self) -> None:
        rig = plover_with()
        ticks = on_board("drive ahead 20 cm\nturn left 30 deg", rig)
        ticks.rows[60:, Line(rig).outputs.commands] += 1.0
        with self.assertRaises(AssertionError):
            self.same(rig, ticks, 60)


class SanitizedTest(HereCase):
    """Under the sanitizers for addresses and undefined behaviour, and with every warning."""

    def test_all_steps(self) -> None:
        checks = ("-g", "-fsanitize=address,undefined", "-fno-sanitize-recover=all")
        text = AT_ONCE.replace(
            "zero counts\n", "zero counts\npivot left 20 deg about the left side\nbend left 20 deg with radius 0.3 m\n"
        )
        text = text.replace("zero counts\n", "zero counts\nwheels left 30 %, right 30 % for 5 cm\nturn left 5 cm\n")
        rig = read_rig(demo_path("bittern"))
        with mock.patch.object(proving, "FLAGS", (*proving.FLAGS, *checks)):
            rows, _ = ran_in_double(Line(rig), on_board(text, rig))
        self.assertGreater(len(rows), 300)

    def test_the_whole_program_is_watched_here(self) -> None:
        rig = alone(STICK, ("low = 100", "low = 0"), ("high = 923", "high = 1023"))
        text = "repeat 2 times\n    drive ahead for 0.2 s\n    turn left for 0.1 s\ndo lift\n\n"
        text += "own move lift with up 30 deg\n    move spout to up\n    wait 0.1 s"
        self.begin(rig, Task(program(text, rig), 5.0))
        self.sense(b"sensor 0 512\nsensor 1 512\nsensor 2 512\n")
        wait_for(self.watch, 10, lambda: self.board.why(time.perf_counter()))
        time.sleep(1.0)  # its gyro measures what it says at rest
        self.watch()
        self.assertEqual(self.board.ask("run"), "")
        wait_for(lambda: self.watch() and "the routine has finished" in self.board.notes, 10)
        self.assertEqual(list(self.board.notes), ["the board drives its routine routine", "the routine has finished"])
        at = self.line.layout.at("routine", "line")
        self.assertEqual({float(row[at]) for row in self.rows} - {0.0}, {2.0, 3.0, 8.0})


class RefusedTest(unittest.TestCase):
    """What a board cannot do is said with its line, when it is written."""

    def refused(self, text: str, rig: Rig) -> list[str]:
        with self.assertRaises(RoutineError) as refused:
            Alone.of(Line(rig), None, Task(program(text, rig)))
        return refused.exception.lines()

    def test_steps_that_no_board_does(self) -> None:
        text = """
drive ahead 10 cm
follow 1 m, 0 m
mark by wall ahead
do round

own move round
    do round
"""
        self.assertEqual(
            self.refused(text, alone()),
            [
                "routine:3: a path is followed: a board has no room for its plan",
                "routine:4: a mark needs the walls of the field, which a board does not know",
                'routine:8: "round" does itself: a board has no room for that',
            ],
        )
        text = "at once ending together\n    drive ahead 10 cm\n    wait 2 s"
        self.assertIn("routine:1: a board cannot slow steps down", self.refused(text, alone())[0])

    def test_one_that_would_be_endless_and_one_that_is_too_long(self) -> None:
        moves = [f"own move m{k}\n    do m{k + 1}\n    do m{k + 1}\n" for k in range(16)]
        text = "do m0\n\n" + "\n".join(moves) + "\nown move m16\n    wait 1 s\n"
        made = Alone.of(Line(alone()), None, Task(program(text, alone())))  # 2 to the 16th calls of 16 moves
        assert made.routine is not None
        self.assertLess(len(made.routine.steps.settings.code), 1000)
        long = "\n".join(["drive ahead 10 cm"] * 2000)
        self.assertRegex(self.refused(long, alone())[0], r"routine: is too long for a board: \d+ words, of 32000")

    def test_places_need_encoders(self) -> None:
        rig = alone(STICK, ("counts_per_turn = 12      # of the shaft\n", ""))
        for text in (
            "drive to 1 m, 1 m",
            "turn toward 1 m, 1 m",
            "here is 1 m, 1 m",
            "drive ahead 1 m until x above 1 m",
        ):
            self.assertIn("a place on the field needs the way of each wheel", self.refused(text, rig)[0], text)

    def test_it_begins_where_it_says(self) -> None:
        line = Line(alone())
        at = line.memory.places["odometry"].start
        for text, pose in (
            ("start at 1.5 m, 0.5 m facing 90 deg\nwait 1 s", [1.5, 0.5, np.pi / 2]),
            ("wait 1 s", [0.25, 0.5, 0.0]),
        ):
            made = Alone.of(line, np.array([0.25, 0.5, 0.0]), Task(program(text, alone())))
            self.assertEqual(made.parts.start[at : at + 3].tolist(), pose)

    def test_its_button_is_no_attachment_that_is_called_board(self) -> None:
        board = '[attachments.board]\nkind = "switch"\noutput = { pin = "A4" }\n\n[gyro]'
        rig = alone(
            STICK,
            PIN,
            ("[gyro]\n" + GYRO_PIN, board + "\n"),
            ('chip = "atmega328p"', 'chip = "atmega328p"\nstart_pin = "A5"'),
        )
        for one, pins in ((rig, ["A5"]), (rig.model_copy(update={"board": alone().board}), [])):
            buttons = Alone.of(Line(one)).wiring.places["button"]
            self.assertEqual([p.use.pin for p in buttons if p.channel == "start"], pins)

    def test_something_must_begin_it(self) -> None:
        task = Task(program("drive ahead 10 cm", alone(RADIO)))
        with self.assertRaisesRegex(RigError, "only a button can begin the routine"):
            Alone.of(Line(alone(RADIO)), None, task)
        rig = alone(RADIO, PIN, MORE_PINS)
        self.assertIsNotNone(Alone.of(Line(rig), None, task).routine)


PIN = ('button_1 = "A4"\n', "")
MORE_PINS = ('chip = "atmega328p"', 'chip = "atmega328p"\nstart_pin = "A4"')
LONG = "drive ahead 20 cm\nturn right 45 deg\ndrive ahead 2 m\n"


@WITH_CHIP
class OnChipTest(AloneCase):
    """On the small chip, begun by a button or a laptop."""

    TEXT = LONG
    PAIRS = (PIN, MORE_PINS)
    PERIOD_S = 4.0

    def press(self, seconds: float = 0.1) -> None:
        self.robot.sticks["start"] = 1.0
        self.go(seconds)
        self.robot.sticks["start"] = 0.0

    @property
    def lines(self) -> list[float]:
        at = self.line.layout.at("routine", "line")
        return [line for line in dict.fromkeys(float(t.row[at]) for t in self.ticks) if line]

    def test_a_button_begins_it_its_period_ends_it_and_every_tick_is_computed_here_too(self) -> None:
        self.go(1.1)
        self.press()
        self.go(4.6)
        whys = [why for why, _ in groupby(t.why for t in self.ticks)]
        self.assertEqual(whys[-3:], [BY_ROUTINE, NOT_AT_REST, DRIVES])
        self.assertEqual(sum(t.why == BY_ROUTINE for t in self.ticks), round(self.PERIOD_S / self.line.dt_s))
        self.assertEqual([t.number for t in self.ticks if not t.same], [])
        self.assertEqual(self.lines, [1.0, 2.0, 3.0])
        self.assertEqual(
            [t.routine for t in self.ticks if t.routine],
            ["the board drives its routine routine", "the routine was cut off"],
        )
        self.assert_rests(0.5)
        # it stands, and is not told to begin again
        self.go(0.5)
        self.assertEqual(self.ticks[-1].why, DRIVES)

    def test_a_watch_that_begins_in_the_middle(self) -> None:
        self.go(1.1)
        self.press()
        self.go(0.3)
        self.drops = 3
        self.go(1.6)
        self.assertEqual(self.rebuilder.missed, 3)
        after = [t for t in self.ticks if t.number > self.ticks[0].number + 100]
        self.assertGreater(len(after), 30)
        self.assertTrue(all(t.same for t in after))

    def test_sticks_stand_aside_and_a_lost_one_does_not_matter(self) -> None:
        self.go(1.1)
        self.press()
        self.go(0.5, left_y=0.9)
        self.assertEqual(self.ticks[-1].why, BY_ROUTINE)
        self.assertEqual(self.ticks[-1].row[self.line.layout.stage("raw")][0], np.float32(self.line.rest()[0]))
        self.go(0.3, left_y=-1.4)
        self.assertEqual(self.ticks[-1].why, BY_ROUTINE)
        self.go(4.0)
        self.assertEqual(self.ticks[-1].why, LOST)

    def test_what_stops_it(self) -> None:
        self.go(1.1)
        self.press()
        self.go(0.6)
        self.assertTrue(self.moves)
        self.bid("stop")
        self.assert_rests(0.5)
        self.assertEqual(self.ticks[-1].why, STOPPED)
        self.press()
        self.go(0.3)
        self.assertEqual(self.ticks[-1].why, STOPPED)  # first a laptop lets it go
        self.bid("go")
        self.go(0.2)
        self.assertEqual(self.ticks[-1].why, DRIVES)
        self.bid("run", seen=max(0, self.ticks[-1].number - 60))
        self.go(0.2)
        self.assertEqual(self.ticks[-1].why, DRIVES)  # what it saw is too old
        self.bid("run")
        self.go(0.2)
        self.assertEqual(self.ticks[-1].why, BY_ROUTINE)
        self.bid("go")
        self.go(0.2)
        self.assertEqual(self.ticks[-1].why, BY_ROUTINE)  # it goes already
        self.go(0.5)
        self.assertEqual(
            [t.number for t in self.ticks if not t.same], []
        )  # both times it began with what it knew at the start

    def test_it_does_not_begin_while_its_gyro_measures(self) -> None:
        self.go(0.4)
        self.press()
        self.go(0.2)
        self.assertEqual(self.ticks[-1].why, DRIVES)

    def test_a_button_that_is_pressed_from_the_start_does_nothing(self) -> None:
        self.press(1.5)
        self.go(0.2)
        self.assertEqual(self.ticks[-1].why, DRIVES)
        self.press()
        self.assertEqual(self.ticks[-1].why, BY_ROUTINE)


@WITH_CHIP
class EndsTest(AloneCase):
    """On the perfect body a board's routine ends where the desktop's play ends."""

    TEXT = "drive ahead 40 cm\nturn right 45 deg\ndrive ahead 20 cm at 40 %\nbend left 60 deg with radius 30 cm"
    PAIRS = (('kind = "realistic"', 'kind = "ideal"'),)
    PERIOD_S = 12.0

    def test_it_ends_there_within_the_motion_of_a_tick(self) -> None:
        assert self.task is not None
        self.go(1.1)
        self.bid("run")
        self.go(9.0)
        self.assertEqual([t.routine for t in self.ticks if t.routine][-1], "the routine has finished")
        made = play(self.task.program, self.rig, None, 25.0)
        x, y, heading = made.pose
        at = self.robot.body.pose
        a_tick_m, a_tick_deg = (
            self.rig.full_forward_m_s / 2 * self.line.dt_s,
            degrees(self.rig.full_turn_rad_s / 2 * self.line.dt_s),
        )
        self.assertLess(np.hypot(at[0] - x, at[1] - y), a_tick_m)
        self.assertLess(abs(degrees(at[2] - heading)), a_tick_deg)
        steps = sum(t.why == BY_ROUTINE for t in self.ticks)
        self.assertLess(abs(steps * self.line.dt_s - made.time_s), 1.0)


@WITH_CHIP
class GyroTest(AloneCase):
    """A gyro without a pin says nothing until the student's own code does."""

    TEXT = LONG
    PAIRS = ((GYRO_PIN, ""), PIN, MORE_PINS)

    def test_a_routine_does_not_begin_without_it(self) -> None:
        self.go(1.2)
        self.robot.sticks["start"] = 1.0
        self.go(0.2)
        self.assertEqual(self.ticks[-1].why, DRIVES)
        self.assertFalse(self.moves)


class CommandTest(TempCase):
    """`pivrex board RIG --routine NAME`."""

    def setUp(self) -> None:
        super().setUp()
        self.rig = self.demo() / "rigs" / "plover.toml"

    def board(self, *words: str) -> Ran:
        return Ran("board", str(self.rig), *words)

    @WITH_CHIP
    def test_it_fits_into_the_small_chip(self) -> None:
        ran = self.board("--mode", "alone", "--routine", "practice", "-o", str(self.folder / "out"), "--json")
        fits = json.loads(ran.out)["fits"]
        self.assertEqual((ran.code, fits["refused"]), (0, False), ran.out)
        self.assertLess(fits["busy"], 0.7)
        self.assertIn("#define ROUTINE 1500UL", (self.folder / "out" / "rig.h").read_text())  # the workspace's 25 s

    @WITH_CHIP
    def test_what_does_not_fit_is_refused(self) -> None:
        ran = self.board("--mode", "alone", "--routine", "greenhouse-plover", "-o", str(self.folder / "out"))
        self.assertEqual(ran.code, 1)
        self.assertIn("it does not fit: the program is ", ran.out)
        self.assertIn("bytes larger than the flash of its chip; the atmega2560 has more", ran.out)

    def test_what_cannot_be_is_said_with_its_line(self) -> None:
        ran = self.board("--mode", "alone", "--routine", "round", "-o", str(self.folder / "out"))
        self.assertEqual(ran.code, 1)
        self.assertIn("round:5: a path is followed: a board has no room for its plan", ran.err)
        ran = self.board("--routine", "practice", "-o", str(self.folder / "out"))
        self.assertIn("--routine is for a board that drives by itself", ran.err)
        ran = self.board("--mode", "alone", "--routine", "nothing", "-o", str(self.folder / "out"))
        self.assertIn("is no file, and no routine of this workspace", ran.err)

    def test_the_proof(self) -> None:
        ran = self.board("--prove", "--routine", "practice", "--json")
        said = json.loads(ran.out)
        self.assertEqual((said["differ"], said["ticks"] > 500), (0, True))
        ran = self.board("x.csv", "--prove", "--routine", "practice")
        self.assertIn("--prove takes a recording or a routine, not both", ran.err)


class RunTest(WatchingSessionCase):
    """A laptop that watches lets the routine begin."""

    TEXT = "drive ahead 10 cm"

    def begin(self, period: Period = Period.ALONE) -> str:
        self.session.handle(ask.StartPeriod(period, only=True), 0.0)
        return str(self.session.board.status.note)

    def test_it_is_told_to_begin_until_it_has(self) -> None:
        self.tell(self.tick(5, DRIVES))
        self.begin()
        self.assertEqual(self.asked(), "run")
        self.tell(self.tick(6, BY_ROUTINE))
        self.assertEqual(self.session.board.status.moving, Moving())
        self.assertEqual(self.asked(), "")
        self.tell(self.tick(7, STOPPED))
        self.assertIn("the board is stopped: g lets it move again", self.begin())
        self.assertEqual(self.begin(Period.DRIVEN), "the board drives by itself, and this computer only watches")

    def test_a_changed_rig_brings_its_routine(self) -> None:
        self.tell(self.tick(5, DRIVES))
        task = Task(program("turn left 20 deg", self.rig))
        self.session.handle(ask.UseRig(self.rig.model_copy(update={"name": "Other"}), 1, task=task), 0.0)
        self.tell()
        link, other = self.session.robots.link, Rebuilder(Line(self.rig), None, task)
        assert link is not None
        self.assertEqual(link.hash, other.hash)
        self.assertNotEqual(link.hash, self.alone.hash)

    def test_one_that_no_board_drives_is_said_with_its_line(self) -> None:
        task = Task(program("wait 1 s\nfollow 1 m, 0 m", self.rig))
        self.session.handle(ask.UseRig(self.rig, 1, task=task), 0.0)
        self.tell()
        said = " ".join(self.session.board.status.notes_since(0))
        self.assertIn("not watched: the board's routine routine:2: a path is followed", said)
        self.assertFalse(self.session.board.status.watching)

    def test_one_that_does_not_begin_is_said(self) -> None:
        self.tell(self.tick(5, DRIVES))
        self.begin()
        link = self.session.robots.link
        assert link is not None
        link._first_asked_s = 0.0  # type: ignore[attr-defined]
        self.tell(self.tick(6, DRIVES))
        self.assertIn("the board does not begin its routine", " ".join(self.session.board.status.notes_since(0)))


class WithoutRoutineTest(WatchingSessionCase):
    def test_it_is_said(self) -> None:
        self.tell(self.tick(5, DRIVES))
        self.session.handle(ask.StartPeriod(Period.ALONE, only=True), 0.0)
        self.assertIn("the board has no routine: name one", self.session.board.status.note)


class TaskTest(TempCase):
    """The routine of a board, as the screen knows it."""

    def model(self, routine: str) -> ScreenModel:
        home = self.demo()
        rig = home / "rigs" / "plover.toml"
        rig.write_text(
            changed(rig.read_text("utf-8"), ("[board] ", f'[board]\nmode = "alone"\nroutine = "{routine}"\n#'))
        )
        model = local_model(home)
        self.addCleanup(model.client.close)
        model.open_rig(rig)
        return model

    def test_it_is_read_with_the_rig(self) -> None:
        model = self.model("practice")
        task = model.documents.task(model.rig, model.say)
        assert task is not None
        self.assertEqual((task.program.name, task.period_s), ("practice", 25.0))

    def test_one_that_is_not_there_is_said(self) -> None:
        model = self.model("nothing")
        self.assertIsNone(model.documents.task(model.rig, model.say))
        self.assertIn("the board's routine: nothing: is no file", model.message)
