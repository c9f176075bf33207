"""A board that drives by itself: in the emulator, on this computer, and watched."""

import base64
import json
import math
import os
import re
import select
import signal
import socket
import subprocess
import time
import unittest
from collections.abc import Callable
from shutil import which
from typing import Any

import numpy as np

from pivrex.board.emulated import EmulatedRobot
from pivrex.board.folder import board_files, write_board
from pivrex.board.hand import Hand, busy_alone
from pivrex.board.line_parts import line_parts
from pivrex.board.proving import own_ticks, prove
from pivrex.board.report import reported
from pivrex.board.single_line import SingleLine
from pivrex.board.steps import Task
from pivrex.board.transmitter import transmitter_files
from pivrex.board.watched import WatchedBoard
from pivrex.board.watching import (
    BY_BUTTON,
    BY_LAPTOP,
    DRIVES,
    LAPTOP_NOT_AT_REST,
    LOST,
    NOT_AT_REST,
    RAMPS,
    STOPPED,
    BoardTick,
    Rebuilder,
)
from pivrex.devices.decode.readers import reader_of
from pivrex.devices.remote import remotes_of
from pivrex.devices.seal import Seal, sealed
from pivrex.devices.seal_book import SealBook
from pivrex.devices.sentence import frame, unframe
from pivrex.devices.worries import warnings_in
from pivrex.errors import RigError
from pivrex.export.wiring import wiring_rows
from pivrex.line.axes import Axes, fraction_of
from pivrex.line.beginning import start_of
from pivrex.line.line import Line
from pivrex.line.why import sentence
from pivrex.rig import Field, Rig, open_folder, read_rig, read_text
from pivrex.rig.sources import NumbersSource, PacketsSource
from pivrex.rig.transports import Link
from pivrex.runs.run import Run
from pivrex.runs.shelf import Shelf
from pivrex.session import messages as ask
from pivrex.session.core import Session
from pivrex.session.messages import SetUp
from pivrex.session.moving import Moving, State
from pivrex.session.on_board import advance
from tests.chassis import ALL, demo_path
from tests.support import TempCase, Terminal, often, slow, wait_for
from tests.test_board import WITH_CHIP, changed
from tests.test_cli import Ran
from tests.test_lost_sources import free_port
from tests.test_robot_link import Robot
from tests.test_routine_running import program

RADIO = """
[sources.radio]
kind = "packets"
sender = "green"
columns = ["left_x", "left_y"]
silent_after = "200 ms"
wire = { kind = "serial", port = "/tmp/none", baud = 57600 }

[link]
wire = { kind = "serial", port = "/tmp/none", baud = 57600 }
"""
NUMBERS = """
[sources.bare]
kind = "numbers"
columns = ["left_y", "left_x", "-", "button_0"]
silent_after = "200 ms"
wire = { kind = "serial", port = "/tmp/none", baud = 115200 }
"""
KEY = bytes(range(16))


STICK = ""
"""The demo's rig has a stick."""


def alone(more: str = STICK, *pairs: tuple[str, str], key: bytes = b"") -> Rig:
    """Return Plover with a board that drives by itself; ``more`` is another source than its stick."""
    path, found = demo_path("plover"), re.search(r"\[sources.(\w+)\]", more)
    text = path.read_text("utf-8").replace(
        'source = "stick"  ', f'mode = "alone"\nsource = "{found[1] if found else "stick"}"\n'
    )
    return read_text(changed(text + more, *pairs), path, Rig).with_secret(key)


class SingleTest(unittest.TestCase):
    """What a board computes in single precision, here."""

    def test_functions_against_the_library_of_this_computer(self) -> None:
        line = SingleLine(line_parts(Line(read_rig(demo_path("plover")))))
        chance = np.random.default_rng(5)
        x = chance.uniform(-40, 40, 4000).astype(np.float32)
        y = chance.uniform(-40, 40, 4000).astype(np.float32)
        y[:40] *= np.float32(1e-6)
        for name, reference in (("sin", np.sin), ("cos", np.cos)):
            found = np.array([line.function(name)(v) for v in x])
            self.assertEqual(found.dtype, np.float32)
            self.assertLess(float(np.abs(found - reference(x.astype(float))).max()), 2e-7, name)
        found = np.array([line.function("atan2")(b, a) for a, b in zip(x, y, strict=True)])
        self.assertLess(float(np.abs(found - np.arctan2(y.astype(float), x.astype(float))).max()), 4e-7)
        found = np.array([line.function("exp")(v) for v in x])
        self.assertLess(float(np.abs(found / np.exp(x.astype(float)) - 1).max()), 3e-7)
        exp, atan2 = line.function("exp"), line.function("atan2")
        self.assertEqual((exp(np.float32(90)), exp(np.float32(-90))), (math.inf, 0.0))
        self.assertTrue(math.isnan(atan2(np.float32(np.nan), np.float32(1))))
        self.assertEqual(atan2(np.float32(0), np.float32(0)), 0.0)

    @unittest.skipUnless(which("gcc"), "needs gcc")
    def test_a_tick_has_the_bits_of_float_c(self) -> None:
        for name in ALL:
            line = Line(read_rig(demo_path(name)))
            ticks = own_ticks(line, often(400, 60), seed=3)
            _, floats = prove(line, ticks)
            single = SingleLine(line_parts(line))
            for row, memory, wanted in zip(ticks.rows, ticks.memories, floats, strict=True):
                found, _ = single.tick(row, memory)
                np.testing.assert_array_equal(found.astype(np.float32), wanted.astype(np.float32), name)


class AloneRigTest(unittest.TestCase):
    """What a rig says of it."""

    def refused(self, more: str, said: str, *pairs: tuple[str, str]) -> None:
        with self.assertRaisesRegex(RigError, said):
            alone(more, *pairs)

    def test_what_cannot_be(self) -> None:
        self.refused(STICK, r'mode = "alone" needs one of \[sources\]', ('source = "stick"\n', ""))
        self.refused(STICK, r'is "wheel", but the sources are stick', ('source = "stick"\n', 'source = "wheel"\n'))
        with self.assertRaisesRegex(RigError, "has no left_y; the law arcade reads that"):
            board_files(alone(STICK, ('left_y = "A0"\n', "")), "c")
        self.refused(STICK, r"pins.knob: is no channel", ('left_y = "A0"\n', 'left_y = "A0"\nknob = "A6"\n'))
        self.refused(STICK, r"low: is 950 and high 923", ("low = 100", "low = 950"))
        udp = (
            'wire = { kind = "serial", port = "/tmp/none", baud = 57600 }\n\n',
            'wire = { kind = "udp", port = 5 }\n',
        )
        self.refused(RADIO, r"must be serial: the board reads this source", udp)
        letters = '[sources.box]\nkind = "letters"\nletters = { F = "brake" }\nwire = { kind = "tcp", port = 5 }\n'
        self.refused(letters, r"of the kind letters; a board reads pins, packets, and numbers with columns")

    def test_this_computer_leaves_the_boards_radio_alone(self) -> None:
        self.assertEqual(remotes_of(alone(RADIO), {}, SealBook(None)), {})
        obeys = remotes_of(alone(RADIO, ('mode = "alone"', 'mode = "obeys"')), {}, SealBook(None))
        self.addCleanup(obeys["radio"].close)
        self.assertEqual(list(obeys), ["radio"])

    def test_a_link_that_is_only_watched_carries_no_outputs(self) -> None:
        def warned(rig: Rig) -> bool:
            return any("the line carries" in m.what for m in warnings_in(rig, demo_path("plover")))

        self.assertTrue(warned(alone(RADIO, ('mode = "alone"', 'mode = "obeys"'))))
        self.assertFalse(warned(alone(RADIO)))

    def test_a_pin_twice(self) -> None:
        self.refused(STICK, r"sources.stick.pins.button_0: is pin 5, which motors.left.output.pin uses", ('"A3"', "5"))

    def test_a_stick_on_a_pin_that_measures_nothing(self) -> None:
        with self.assertRaisesRegex(RigError, "sources.stick.pins.left_y: pin PD0 .* measures no voltage"):
            board_files(alone(STICK, ('left_y = "A0"', 'left_y = "PD0"')), "avr")

    def test_the_radio_and_a_laptop_on_one_line_have_one_speed(self) -> None:
        head, _, link = RADIO.rpartition("57600")
        with self.assertRaisesRegex(
            RigError, "link.wire.baud: is 115200, but the radio has the atmega328p's serial line"
        ):
            board_files(alone(f"{head}115200{link}"), "avr")

    def test_a_line_that_is_too_slow_to_watch_over_is_named(self) -> None:
        slow_radio = RADIO.replace("57600", "9600")
        missing = board_files(alone(slow_radio), "avr")[1].missing
        self.assertIn(
            "shows nothing of its ticks: 9600 baud are too slow for what a tick tells, which needs", " ".join(missing)
        )


class AloneCase(unittest.TestCase):
    """A board in the emulator that drives by itself, and a laptop that watches it."""

    MORE = STICK
    PAIRS: tuple[tuple[str, str], ...] = ()
    KEY = b""
    FIELD: Field | None = None
    TEXT = ""
    """Of the routine that the board has; empty for none."""
    PERIOD_S = 3.0

    def rig_of(self) -> Rig:
        """Return the rig that is driven."""
        return alone(self.MORE, *self.PAIRS, key=self.KEY)

    def setUp(self) -> None:
        self.rig = self.rig_of()
        self.line = Line(self.rig)
        self.task = Task(program(self.TEXT, self.rig), self.PERIOD_S) if self.TEXT else None
        self.robot = EmulatedRobot(self.rig, self.FIELD, 0.0, task=self.task)
        self.addCleanup(self.robot.close)
        self.hand = Hand(self.rig, self.robot)
        self.rebuilder = Rebuilder(self.line, start_of(self.FIELD), self.task)
        self.ticks: list[BoardTick] = []
        self.heard: list[str] = []
        self.buffer, self.seq, self.drops = b"", 100, 0

    def go(self, seconds: float, **readings: float) -> None:
        """Move controls, and let time pass."""
        self.hand.readings |= readings
        self.take(self.hand.pass_time(seconds))

    def take(self, said: bytes) -> None:
        *lines, self.buffer = (self.buffer + said).split(b"\r\n")
        for line in lines:
            body = unframe(line)
            self.heard.append(body)
            words = body.split(",")
            if words[0] == "PIVTIC" and self.drops:
                self.drops -= 1
            elif words[0] == "PIVTIC":
                self.rebuilder.take_tick(words)
            elif words[0] == "PIVALL":
                self.rebuilder.take_state(words)
            self.ticks += self.rebuilder.make()

    def bid(self, what: str, **other: Any) -> None:
        """Say what a laptop says."""
        self.seq += 1
        newest = self.ticks[-1].number if self.ticks else 0
        body = f"PIVBID,{other.get('seq', self.seq)},{other.get('seen', newest)},{other.get('rig', self.rebuilder.hash)},{what}"
        if self.KEY:
            body = sealed(other.get("key", self.KEY), body, self.session())
        self.robot.take(frame(body), "", 0.0)

    def stick(self, seconds: float, **readings: float) -> None:
        """Be its stick for a while, as a laptop is."""
        values = ",".join(f"{1000 * readings.get(c, 0.0):.0f}" for c in self.rebuilder.alone.channels)
        for _ in range(round(seconds / 0.02)):
            self.bid(f"stick,{values}")
            self.go(0.02)

    def session(self) -> int:
        greeting = next(h for h in reversed(self.heard) if h.startswith("PIVHEY"))
        return Seal(self.KEY).open(greeting)[1]

    @property
    def moves(self) -> bool:
        return bool(self.robot.commands[0] or self.robot.commands[2])

    def reach_driving(self) -> None:
        self.go(0.5)
        self.go(0.5, left_y=-0.7)
        self.assertTrue(self.moves, self.heard[-3:])

    def assert_rests(self, within_s: float = 0.3) -> None:
        self.go(within_s)
        self.assertFalse(self.moves)


@WITH_CHIP
class AloneTest(AloneCase):
    """With a stick on its pins."""

    def test_every_tick_here_has_the_bits_that_the_board_has(self) -> None:
        self.reach_driving()
        self.go(0.8, left_x=0.5)
        self.go(0.2, button_5=1.0)
        self.go(0.5, button_5=0.0, button_0=1.0, button_1=1.0)
        self.go(1.0, left_y=0.0, left_x=0.0, button_0=0.0, button_1=0.0)
        self.assertGreater(len(self.ticks), 150)
        self.assertEqual([t.number for t in self.ticks], list(range(self.ticks[0].number, self.ticks[-1].number + 1)))
        self.assertEqual([t.number for t in self.ticks if not t.same], [])
        self.assertEqual(self.rebuilder.missed, 0)
        self.assertTrue(any(self.line.commands(t.row)[5] for t in self.ticks))  # the pump was on
        levels = {float(t.row[self.line.layout.at("law", "level")]) for t in self.ticks}
        self.assertEqual(levels, {1.0, 2.0})

    def test_pins_get_what_the_tick_says_and_the_why_tells_it(self) -> None:
        self.reach_driving()
        self.go(0.6)
        row = self.ticks[-1].row
        np.testing.assert_allclose(
            self.robot.commands, self.line.commands(row), atol=25.0
        )  # pulses are measured: other interrupts come first
        self.assertEqual(self.robot.commands[:4], self.line.commands(row)[:4].tolist())
        # the same tick, computed here from the readings that the board told
        state = self.line.start()
        rows = []
        for tick in self.ticks:
            raw, sensed = (tick.row[self.line.layout.stage(n)] for n in ("raw", "sensed"))
            state, own = self.line.step(state, raw, sensed, float(tick.why != DRIVES))
            rows.append(own)
        for wheel in self.line.wheels:
            self.assertEqual(sentence(self.line, self.ticks[-1].row, wheel), sentence(self.line, rows[-1], wheel))
        self.assertAlmostEqual(
            float(row[self.line.layout.at("odometry", "x")]), float(rows[-1][self.line.layout.at("odometry", "x")]), 3
        )

    def test_a_laptop_stands_in_for_its_stick_and_forgets_nothing(self) -> None:
        self.go(1.3)
        self.stick(0.3, left_y=-0.7)
        self.assertFalse(self.moves)
        self.assertEqual(self.ticks[-1].why, LAPTOP_NOT_AT_REST)
        self.stick(0.1)
        self.go(0.0, left_y=0.7)  # its own stick says nothing meanwhile
        self.stick(0.5, left_y=-0.7, left_x=0.2)
        self.assertTrue(self.moves)
        self.assertEqual(self.ticks[-1].why, BY_LAPTOP)
        raw = self.ticks[-1].row[self.line.layout.stage("raw")]
        self.assertAlmostEqual(float(raw[0]), -0.7, 6)
        self.assert_rests()  # silence; and its own stick is not at rest
        self.assertEqual(self.ticks[-1].why, NOT_AT_REST)
        self.go(0.2, left_y=0.0)
        self.go(0.4, left_y=-0.7)
        self.assertTrue(self.moves)
        self.assertEqual([t.number for t in self.ticks if not t.same], [])
        self.assertEqual(self.rebuilder.missed, 0)

    def test_what_is_no_stick_of_a_laptop(self) -> None:
        self.go(1.3)
        many = len(self.rebuilder.alone.channels)
        zeros = ",0" * many
        for what in (
            "stick",
            f"stick{zeros[2:]}",
            f"stick{zeros},0",
            f"stick{zeros[:-1]}x",
            f"stick,1001{zeros[2:]}",
            f"stick,-{zeros[2:]}",
        ):
            self.bid(what)
            self.go(0.1)
            self.assertEqual(self.ticks[-1].why, DRIVES, what)
        self.bid(f"stick{zeros}", seen=max(0, self.ticks[-1].number - 60))  # a second old
        self.go(0.1)
        self.assertEqual(self.ticks[-1].why, DRIVES)
        self.stick(0.2)
        self.bid("stop")
        self.stick(0.4)
        self.assertEqual(self.ticks[-1].why, STOPPED)  # g alone ends that
        self.stick(0.2, left_y=-0.7)
        self.assertFalse(self.moves)

    def test_it_does_not_start_before_its_controls_are_at_rest(self) -> None:
        self.go(1.0, left_y=-0.7)
        self.assertFalse(self.moves)
        self.assertEqual(self.ticks[-1].why, NOT_AT_REST)
        self.go(0.2, left_y=0.0)
        self.go(0.3, left_y=-0.7)
        self.assertTrue(self.moves)
        self.assertEqual(self.ticks[-1].why, DRIVES)

    def test_a_stick_that_is_broken_off(self) -> None:
        self.reach_driving()
        self.go(0.05, left_y=-1.3)  # more than it can read: its wire is off
        self.assert_rests(0.05)
        self.assertEqual(self.ticks[-1].why, LOST)
        self.go(0.5, left_y=-0.7)
        self.assertFalse(self.moves)
        self.assertEqual(self.ticks[-1].why, NOT_AT_REST)
        self.go(0.2, left_y=0.0)
        self.reach_driving()

    def test_a_laptop_stops_it_and_lets_it_go_on(self) -> None:
        self.reach_driving()
        self.bid("stop")
        self.assert_rests()
        self.assertEqual(self.ticks[-1].why, STOPPED)
        self.bid("go", seen=self.ticks[-1].number - 60)  # on its way for a second
        self.go(0.2)
        self.assertEqual(self.ticks[-1].why, STOPPED)
        self.bid("go")
        self.go(0.3)
        self.assertEqual(self.ticks[-1].why, NOT_AT_REST)
        self.assertFalse(self.moves)
        self.go(0.2, left_y=0.0)
        self.reach_driving()

    def test_sixty_bids_that_do_nothing(self) -> None:
        self.reach_driving()
        self.bid("stop")
        self.go(0.2, left_y=0.0)
        seq = self.seq
        for k in range(15):
            self.bid("go", seq=seq - k)  # repeated and late
            self.bid("go", rig="00000000")
            self.bid("gone")
            self.robot.take(
                frame(f"PIVBID,{seq + 90 + k},{self.ticks[-1].number},{self.rebuilder.hash},go").replace(
                    b",go*", b",gO*"
                ),
                "",
                0.0,
            )
            self.go(0.03)
            self.assertEqual(self.ticks[-1].why, STOPPED)
        self.bid("go", seq=seq + 500)
        self.go(0.2)
        self.assertEqual(self.ticks[-1].why, DRIVES)
        self.bid("stop", seq=3)  # whatever its number is
        self.go(0.2)
        self.assertEqual(self.ticks[-1].why, STOPPED)
        self.bid("go", seq=seq + 501)
        self.go(0.3)
        self.assertEqual(self.ticks[-1].why, DRIVES)

    def test_after_a_loss_it_goes_on_from_the_next_state(self) -> None:
        self.reach_driving()
        self.drops = 3
        self.go(0.1)
        self.assertEqual(self.rebuilder.missed, 3)
        self.assertFalse(self.rebuilder.synced)
        made = len(self.ticks)
        self.bid("all")
        self.go(0.4)
        self.assertTrue(self.rebuilder.synced)
        self.assertGreater(len(self.ticks), made + 10)
        self.assertTrue(all(t.same for t in self.ticks))

    def test_a_board_that_is_switched_on_again(self) -> None:
        self.reach_driving()
        before = self.ticks[-1].number
        heard, self.heard = self.heard, []
        for body in heard:  # it says the same again, from its first tick on
            self.take(frame(body))
        self.assertEqual(self.ticks[-1].number, before)
        again = self.ticks[-before:]
        self.assertEqual([t.number for t in again[:3]], [1, 2, 3])
        self.assertTrue(all(t.same for t in again))
        self.assertEqual(self.rebuilder.missed, 0)

    def test_a_checksum_that_differs_is_found(self) -> None:
        self.reach_driving()
        other = Rebuilder(Line(alone(STICK, ('curve = "35 %"', 'curve = "34 %"'))))
        self.assertNotEqual(other.hash, self.rebuilder.hash)
        made = []
        for body in self.heard:
            words = body.split(",")
            if words[0] in ("PIVTIC", "PIVALL"):
                (other.take_tick if words[0] == "PIVTIC" else other.take_state)(words)
                made += other.make()
        pushed = [t for t in made if t.row[self.line.layout.at("raw", "left_y")] < -0.5]
        self.assertGreater(len(pushed), 20)
        self.assertFalse(any(t.same for t in pushed))

    def test_at_top_speed_no_count_and_no_tick_is_lost(self) -> None:
        self.reach_driving()
        self.go(1.5, left_y=-1.0, button_5=1.0)
        self.go(1.0, left_y=0.0)
        travel = self.line.layout.stage("sensed").start
        for k in (0, 1):
            self.assertAlmostEqual(float(self.ticks[-1].row[travel + k]), float(self.robot._sensed[k]), delta=0.001)
            self.assertGreater(float(self.robot._sensed[k]), 0.5)
        self.assertGreater(self.robot.never_used, 200)


@WITH_CHIP
class CalibratedTest(AloneCase):
    """With a stick that has a calibration of its own, and a box that has another."""

    MORE = (
        "[sources.stick.axes.left_y]\nminimum = -0.5\nmaximum = 0.5\n"
        '[sources.box]\nkind = "numbers"\ncolumns = ["left_y", "left_x"]\nwire = { kind = "udp", port = 1 }\nsilent_after = "1 s"\n'
        "[sources.box.axes.left_y]\nminimum = -0.8\ncentre = [0.1, 0.2]\nmaximum = 0.9\nreversed = true\n"
    )

    def rig_of(self) -> Rig:
        path = demo_path("plover")
        text = path.read_text("utf-8").replace('source = "stick"  ', 'mode = "alone"\nsource = "stick"\n')
        return read_text(text + self.MORE, path, Rig)

    def forward(self) -> float:
        return float(self.ticks[-1].row[self.line.layout.at("axes", "forward")])

    def test_the_boards_calibration_is_for_its_own_stick(self) -> None:
        self.go(1.3)
        self.go(0.2, left_y=-0.25)
        self.assertAlmostEqual(self.forward(), 0.5, delta=0.01)
        self.go(0.2, left_y=0.0)
        self.stick(0.2)
        self.stick(0.2, left_y=-0.25)
        self.assertAlmostEqual(self.forward(), (0.25 - 0.02) / (0.98 - 0.02), 5)  # the plain calibration of left_y
        self.assertTrue(all(t.same for t in self.ticks))

    def test_what_another_source_reads_is_said_without_its_calibration(self) -> None:
        axes = self.line.stages["axes"]
        assert isinstance(axes, Axes)
        plain = axes.settings.plain
        for raw, forward in ((-0.8, -1.0), (-0.35, -0.5), (0.15, 0.0), (0.55, 0.5), (0.9, 1.0), (2.0, 1.0)):
            said = axes.uncalibrated(0, int(self.line.source_number("box")), raw)
            self.assertAlmostEqual(fraction_of(plain, 0, 0, said), forward, 9)


@WITH_CHIP
class ButtonsTest(AloneCase):
    """With buttons that stop it, zero its gyro, and ask for what it cannot."""

    MORE = "".join(
        f'[[bindings]]\nchannel = "{channel}"\nwith = "{other}"\ndoes = "{does}"\n'
        for channel, other, does in (
            ("button_0", "button_1", "stop"),
            ("button_0", "button_5", "zero the gyro"),
            ("button_1", "button_5", "record"),
        )
    )

    def test_its_own_buttons_count_while_a_laptop_stands_in_for_its_stick(self) -> None:
        self.go(1.3)
        self.stick(0.2)
        self.stick(0.3, left_y=-0.7)
        self.assertTrue(self.moves)
        self.go(0.0, button_0=1.0)
        self.stick(0.2, left_y=-0.7, button_1=1.0)  # one button of each
        self.assertFalse(self.moves)
        self.assertEqual(self.ticks[-1].why, BY_BUTTON)

    def test_a_button_stops_it_until_a_laptop_lets_it_go_on(self) -> None:
        self.reach_driving()
        self.go(0.1, button_0=1.0, button_1=1.0)
        self.go(0.1, button_0=0.0, button_1=0.0)
        self.assertFalse(self.moves)
        self.assertEqual(self.ticks[-1].why, BY_BUTTON)
        self.go(0.2, left_y=0.0)
        self.go(0.3, left_y=-0.7)
        self.assertFalse(self.moves)
        self.bid("go")
        self.go(0.2, left_y=0.0)
        self.reach_driving()
        self.assertTrue(all(t.same for t in self.ticks))

    def test_the_gyro_is_zeroed(self) -> None:
        self.go(1.2)
        status = self.line.layout.at("zeroing", "status")
        self.assertEqual(self.ticks[-1].row[status], 0.0)  # never asked
        self.go(0.1, button_0=1.0, button_5=1.0)
        self.go(0.5, button_0=0.0, button_5=0.0)
        self.assertNotEqual(self.ticks[-1].row[status], 0.0)
        self.assertTrue(all(t.same for t in self.ticks))

    def test_what_it_cannot_is_named(self) -> None:
        missing = board_files(self.rig, "c")[1].missing
        self.assertIn('button_1 does "record", which a board that is alone cannot', missing)


@WITH_CHIP
class GyroTest(AloneCase):
    """With a gyro that says its rate as a voltage, and a heading that is held."""

    PAIRS = (('hold = "off"', 'hold = "on"'),)

    def test_it_corrects_by_what_the_gyro_measures(self) -> None:
        self.go(1.2)  # what its voltage is at rest
        self.reach_driving()
        self.go(1.0, left_x=0.6)
        self.go(1.0, left_x=0.0)
        gyro = self.line.layout.stage("sensed").start + [c.name for c in self.line.stages["sensed"].columns].index(
            "gyro"
        )
        turned = float(self.ticks[-1].row[gyro])
        self.assertGreater(abs(turned), 0.5)
        true = self.robot._sensed[gyro - self.line.layout.stage("sensed").start]
        self.assertAlmostEqual(turned, float(true), delta=0.1 * abs(turned))
        output = self.line.layout.at("correction", "output")
        self.assertTrue(any(abs(float(t.row[output])) > 0.01 for t in self.ticks))
        self.assertTrue(all(t.same for t in self.ticks))


@WITH_CHIP
class LampTest(AloneCase):
    """With lamps that show whether it is ready, and whether its source is heard."""

    MORE = "".join(f'[attachments.{w}]\nkind = "switch"\nshows = "{w}"\noutput = {{ }}\n' for w in ("linked", "ready"))

    def test_they_are_lit_as_its_source_says(self) -> None:
        self.reach_driving()
        self.go(0.3, left_y=-1.3)
        linked, ready = (
            self.line.inputs.at("session", w) + self.line.layout.stage("raw").start for w in ("linked", "ready")
        )
        shown = {t.why: (t.row[linked], t.row[ready]) for t in self.ticks}
        self.assertEqual(shown, {DRIVES: (1.0, 1.0), LOST: (0.0, 0.0)})
        self.assertTrue(all(t.same for t in self.ticks))


@WITH_CHIP
class HelpedTest(AloneCase):
    """With a button that helps, for which the board follows where it is."""

    MORE = '[[bindings]]\nchannel = "button_0"\nwith = "button_1"\ndoes = "snap every 45 deg"\n'
    FIELD = open_folder(demo_path("plover").parents[1]).settings.field

    def test_ways_are_counted_from_tick_to_tick(self) -> None:
        self.assertTrue(self.rebuilder.alone.rebased)
        self.reach_driving()
        self.go(1.5, left_y=-1.0)
        self.go(0.8, left_y=0.0)
        begun, end = (self.ticks[k].row[self.line.layout.stage("odometry")] for k in (0, -1))
        np.testing.assert_allclose(begun[:3], start_of(self.FIELD), atol=0.01)
        rolled = self.robot._sensed[0]
        self.assertGreater(rolled, 0.5)
        self.assertAlmostEqual(math.dist(end[:2], begun[:2]), rolled, delta=0.02)
        self.go(0.8, button_0=1.0, button_1=1.0)
        self.assertEqual([t.number for t in self.ticks if not t.same], [])
        self.drops = 2
        self.go(1.5)  # after a loss the ways begin where they were
        self.assertTrue(self.rebuilder.synced)
        self.assertTrue(all(t.same for t in self.ticks))


@WITH_CHIP
class RadioTest(AloneCase):
    """With a radio that has its one serial line."""

    MORE = RADIO

    def test_a_lost_radio_rests_it_within_0_3_s(self) -> None:
        self.reach_driving()
        self.hand.silent = True
        self.go(0.1)
        self.assertTrue(self.moves)
        self.assert_rests(0.2)
        self.assertEqual(self.ticks[-1].why, LOST)
        self.hand.silent = False
        self.hand._due_s = self.hand.now_s
        self.go(0.3)
        self.assertFalse(self.moves)  # its stick is still pushed
        self.go(0.1, left_y=0.0)
        self.reach_driving()
        self.assertTrue(all(t.same for t in self.ticks))

    def test_packets_that_move_nothing(self) -> None:
        self.reach_driving()
        self.go(0.2, left_y=0.0)
        pushed = {"left_y": -1.0}
        seq = self.hand._seq
        packets = [
            frame("PIVDRV,blue,900,0,-1,0"),
            frame(f"PIVDRV,green,{seq},0,-1,0"),  # repeated
            frame(f"PIVDRV,green,{seq - 10},0,-1,0"),
            frame(f"PIVDRV,green,{seq + 9000},0,-1,0"),
            frame(f"PIVDRV,green,{seq + 1},0,-1"),
            frame(f"PIVDRV,green,{seq + 1},0,-1,0,0"),
            frame(f"PIVDRV,green,{seq + 1},0,-7,0"),
            frame(f"PIVDRV,green,{seq + 1},0,-1,XYZ"),
            frame(f"PIVDRV,green,{seq + 1},0,-1,0").replace(b"-1", b"-2"),
            frame("PIVDRV,green,,0,-1,0"),
            b"$" * 300 + b"\r\n",
        ]
        self.hand.silent = True
        for packet in packets * 6:
            self.robot.take_radio(packet)
            self.go(0.01)
            self.assertFalse(self.moves, packet)
        self.hand.silent, self.hand._due_s = False, self.hand.now_s
        self.go(0.2)
        self.go(0.2, **pushed)
        self.assertTrue(self.moves)

    def test_a_laptop_only_listens(self) -> None:
        link = Link.model_validate({"wire": {"kind": "serial", "port": "/tmp/none-here"}})
        board = WatchedBoard(self.line, link)
        self.addCleanup(board.close)
        self.assertIn("this computer only listens", board.ask("stop"))
        self.reach_driving()
        self.bid("stop")
        self.go(0.3)
        self.assertTrue(self.moves)


@WITH_CHIP
class RampTest(AloneCase):
    """With a radio whose loss lets it roll out."""

    MORE = RADIO.replace('silent_after = "200 ms"', 'silent_after = "200 ms"\nwhen_lost = "ramp"\nramp = "400 ms"')

    def test_it_rolls_out(self) -> None:
        self.reach_driving()
        self.hand.silent = True
        self.go(0.9)
        whys = [t.why for t in self.ticks]
        self.assertEqual(list(dict.fromkeys(whys[whys.index(DRIVES) :])), [DRIVES, RAMPS, LOST])
        rolls = [t.row for t in self.ticks if t.why == RAMPS]
        self.assertAlmostEqual(len(rolls) * self.line.dt_s, 0.4, delta=0.05)
        asked = [float(r[self.line.layout.stage("raw").start]) for r in rolls]
        self.assertEqual(asked, sorted(asked))  # from -0.7 to 0
        self.assertFalse(self.moves)
        self.assertTrue(all(t.same for t in self.ticks))


@WITH_CHIP
class SealedRadioTest(AloneCase):
    """With a key."""

    MORE, KEY = RADIO, KEY

    def test_only_sealed_packets_of_a_newer_session_count(self) -> None:
        self.reach_driving()
        self.go(0.1, left_y=0.0)
        self.hand.silent = True
        for seq, session, key in ((900, 1, bytes(16)), (5, 1, KEY), (900, 0, KEY)):
            self.robot.take_radio(frame(sealed(key, f"PIVDRV,green,{seq},0,-1,0", session)))
            self.go(0.1)
            self.assertFalse(self.moves, (seq, session))
        self.robot.take_radio(frame("PIVDRV,green,901,0,-1,0"))
        self.go(0.1)
        self.assertFalse(self.moves)
        self.go(0.3)
        for k in range(20):  # the radio is switched on again
            self.robot.take_radio(frame(sealed(KEY, f"PIVDRV,green,{k},0,{-0.7 if k > 5 else 0},0", 2)))
            self.go(0.04)
        self.assertTrue(self.moves)
        self.assertTrue(all(t.same for t in self.ticks))

    def test_the_small_chip_holds_50_hz_with_the_seal_at_top_speed(self) -> None:
        rig = alone(RADIO, ('rate = "60 Hz"', 'rate = "50 Hz"'), key=KEY)
        busy = busy_alone(rig, 1.0)
        self.assertTrue(0.2 < busy.share < 0.9, busy)
        self.assertGreater(busy.never_used, 30)


@WITH_CHIP
class NumbersTest(AloneCase):
    """With a bare stick on a serial line of its own, on the large chip."""

    MORE = NUMBERS
    PAIRS = (
        ('chip = "atmega328p"', 'chip = "atmega2560"'),
        ("encoder_pins = [8, 9]", "encoder_pins = [50, 51]"),
        ("echo_pin = 13", "echo_pin = 52"),
    )

    def test_it_drives_and_a_laptop_on_the_other_line_stops_it(self) -> None:
        self.reach_driving()
        for line in (b"12 400\r\n", b"0 512 1 0 1\r\n", b"0 x512 1 0\r\n", b"9999 0 0 0\r\n", b"\xff\xfe\r\n"):
            self.robot.take_radio(line)
            self.go(0.02)
        self.assertTrue(self.moves)
        self.bid("stop")
        self.assert_rests()
        self.assertEqual(self.ticks[-1].why, STOPPED)
        self.bid("go")
        self.go(0.3, left_y=0.0)
        self.reach_driving()
        self.hand.silent = True
        self.assert_rests()
        self.assertTrue(all(t.same for t in self.ticks))


@WITH_CHIP
class SealedStickTest(AloneCase):
    """With a key, and a laptop that may stop it."""

    KEY = KEY

    def test_only_sealed_bids_count(self) -> None:
        self.reach_driving()
        self.robot.take(frame(f"PIVBID,990,{self.ticks[-1].number},{self.rebuilder.hash},stop"), "", 0.0)
        self.bid("stop", key=bytes(16), seq=991)
        self.go(0.3)
        self.assertTrue(self.moves)
        self.bid("stop")
        self.assert_rests()
        self.bid("go")
        self.go(0.3, left_y=0.0)
        self.stick(0.2)
        self.stick(0.4, left_y=-0.7)  # unsealed it would not count, and sealed it is not too long
        self.assertTrue(self.moves)
        self.assertEqual(self.ticks[-1].why, BY_LAPTOP)


class HereCase(TempCase):
    """The program on this computer, whose memory has gaps between numbers, over UDP."""

    def begin(self, rig: Rig, task: Task | None = None, **more: str) -> None:
        """Build and start its program, and watch it."""
        write_board(rig, self.folder / "here", "c", task=task)
        flags = "CFLAGS=-std=c99 -O1 -g -Wall -Wextra -Werror -fsanitize=address,undefined -fno-sanitize-recover=all"
        subprocess.run(["make", "-s", "-C", self.folder / "here", flags], check=True)
        port, program = free_port(), self.folder / "here" / "robot"
        self.program = subprocess.Popen(
            [program], stdin=subprocess.PIPE, stdout=subprocess.PIPE, env={"ROBOT_PORT": str(port), **more}
        )
        assert self.program.stdin is not None and self.program.stdout is not None
        for end in (self.program.wait, self.program.kill, self.program.stdin.close, self.program.stdout.close):
            self.addCleanup(end)
        self.assertEqual(self.program.stdout.readline(), b"ready\n")
        link = Link.model_validate({"wire": {"kind": "udp", "host": "127.0.0.1", "port": port}})
        self.line = Line(rig)
        self.board = WatchedBoard(self.line, link, None, task)
        self.addCleanup(self.board.close)
        self.rows: list[Any] = []

    def watch(self) -> bool:
        """Take what it says; return whether it drives."""
        self.board.poll(time.perf_counter())
        self.board.command(np.zeros(6), 0.0)
        self.rows += self.board.take()
        return bool(self.rows) and not self.board.why(time.perf_counter())

    def sense(self, said: bytes) -> None:
        assert self.program.stdin is not None
        self.program.stdin.write(said)
        self.program.stdin.flush()

    def reads(self, channel: str) -> float:
        return float(self.rows[-1][self.line.layout.at("raw", channel)])


@unittest.skipUnless(which("gcc"), "needs gcc")
class HereTest(HereCase):
    def test_a_stick_on_its_pins(self) -> None:
        self.begin(alone(STICK, ("low = 100", "low = 0"), ("high = 923", "high = 1023")))
        self.sense(b"sensor 0 512\nsensor 1 512\nsensor 2 512\n")  # the gyro is the first
        wait_for(self.watch, 10, lambda: self.board.why(time.perf_counter()))
        self.sense(b"sensor 1 100\n")
        wait_for(lambda: self.watch() and self.reads("left_y") < -0.7, 10)
        self.assertFalse(self.board.notes)
        self.sense(b"sensor 1 512\n")
        wait_for(self.watch, 10)

        def simulator(left_y: float) -> bool:
            self.board.simulator([left_y if c == "left_y" else 0.0 for c in self.board.channels])
            time.sleep(0.01)
            return self.watch() and self.board.obeys

        wait_for(lambda: simulator(0.0), 10)
        wait_for(lambda: simulator(-0.6) and abs(self.reads("left_y") + 0.6) < 1e-6, 10)
        wait_for(lambda: self.watch() and not self.board.obeys, 10)  # silence: its own stick drives again
        self.assertFalse(self.board.notes)
        self.assertEqual(self.board.ask("stop"), "")
        wait_for(lambda: self.watch() or self.board.is_stopped, 10)

    def test_a_radio_on_another_port(self) -> None:
        port = free_port()
        rig = alone(RADIO, ('chip = "atmega328p"', 'chip = "atmega2560"'))
        self.begin(rig, ROBOT_RADIO=str(port))
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as radio:
            radio.connect(("127.0.0.1", port))
            said = iter(range(1, 1 << 16))

            def pushed(y: float) -> bool:
                radio.send(frame(f"PIVDRV,green,{next(said)},0,{y},0"))
                time.sleep(0.01)
                return self.watch()

            wait_for(lambda: pushed(0.0), 10, lambda: self.board.why(time.perf_counter()))
            wait_for(lambda: pushed(-0.75) and self.reads("left_y") == -0.75, 10)
        wait_for(lambda: self.watch() or "radio is lost" in self.board.why(time.perf_counter()), 10)
        self.assertFalse(self.board.notes)


RESTARTED = """\
#include <stdio.h>
#include <string.h>
#include "robot.h"
static char line[300];
static int at, size;
int board_radio(void) { return at < size ? (unsigned char)line[at++] : -1; }
uint32_t board_saved(int place) { return place ? ~512u : ~5u; }
void board_save(int place, uint32_t value) { printf("save %d %u ", place, (unsigned)~value); }
uint32_t board_ms(void) { return 1; }
int32_t board_sensor(int sensor) { return sensor; }
void board_write(const char *text, int many) { (void)text, (void)many; }
int main(void) {
    seal_begin();
    source_begin();
    for (uint32_t now = 1000; fgets(line, sizeof line, stdin); now += 1000) {
        at = 0, size = (int)strlen(line);
        source_hear();
        printf("%s\\n", source_take(now) ? "lost" : "heard");
    }
    return 0;
}
"""


@unittest.skipUnless(which("gcc"), "needs gcc")
class RestartedTest(TempCase):
    """A board with a key that was switched on again: what its EEPROM says, here in session 5, counted up to number 512."""

    def test_what_was_heard_before_moves_nothing(self) -> None:
        for name, text in board_files(alone(RADIO, key=KEY), "c")[0].items():
            (self.folder / name).write_text(text)
        (self.folder / "test.c").write_text(RESTARTED)
        words = [
            "gcc",
            "-std=c99",
            "-Wall",
            "-Wextra",
            "-Werror",
            "-o",
            "test",
            "test.c",
            "radio.c",
            "sentence.c",
            "seal.c",
        ]
        subprocess.run(words, check=True, cwd=self.folder)
        said = [(5, 511), (4, 9000), (5, 513), (5, 513), (5, 514), (5, 1025), (6, 1), (5, 2000)]
        packets = b"".join(frame(sealed(KEY, f"PIVDRV,green,{seq},0,0,0", session)) for session, seq in said)
        ran = subprocess.run([self.folder / "test"], input=packets, capture_output=True, check=True).stdout.decode()
        rows = ran.splitlines()
        self.assertEqual(
            [row.split()[-1] for row in rows], ["lost", "lost", "heard", "lost", "heard", "heard", "heard", "lost"]
        )
        self.assertEqual(rows[2], "save 1 1025 heard")  # so much is kept ahead
        self.assertEqual(rows[5], "save 1 1537 heard")
        self.assertEqual(rows[6], "save 0 6 save 1 513 heard")


@WITH_CHIP
class TransmitterTest(AloneCase):
    """A radio of one's own, in a chip of its own, that drives a robot that is alone."""

    MORE = RADIO.replace("sender = ", 'pins = { left_x = "A0", left_y = "A1", button_0 = 2 }\nsender = ')

    def send(self, rig: Rig, name: str, seconds: float = 0.3, **sticks: float) -> bytes:
        """Return what a transmitter says while its sticks are moved."""
        robot = EmulatedRobot(rig, None, 0.0, sender=name)
        self.addCleanup(robot.close)
        robot.sticks.update(sticks)
        self.assertGreater(robot.never_used, -1)
        return b"".join(b"".join(robot.step(0.005 * k)) for k in range(1, round(seconds / 0.005)))

    def test_it_drives_a_robot(self) -> None:
        sends = EmulatedRobot(self.rig, None, 0.0, sender="radio")
        self.addCleanup(sends.close)
        self.hand.silent = True

        def both(seconds: float, **sticks: float) -> None:
            sends.sticks.update(sticks)
            for _ in range(round(seconds / 0.005)):
                self.robot.take_radio(b"".join(sends.step(self.hand.now_s + 0.005)))
                self.go(0.005)

        both(0.5)
        self.assertFalse(self.moves)
        both(0.5, left_y=-0.7)
        self.assertTrue(self.moves)
        left_y, button = (self.line.layout.at("raw", c) for c in ("left_y", "button_0"))
        self.assertAlmostEqual(float(self.ticks[-1].row[left_y]), -0.7, delta=0.003)
        both(0.1, button_0=1.0)
        self.assertEqual(self.ticks[-1].row[button], 1.0)
        sends.close()
        self.assert_rests()

    def test_what_it_sends_is_understood_here(self) -> None:
        other = NUMBERS.replace("columns", 'pins = { left_y = "A0", left_x = "A1", button_0 = 2 }\ncolumns')
        for more, name, key in ((self.MORE, "radio", b""), (self.MORE, "radio", KEY), (other, "bare", b"")):
            rig = alone(more, key=key)
            said = self.send(rig, name, left_x=0.25, left_y=-0.5, button_0=1.0)
            spec = rig.sources[name]
            assert isinstance(spec, PacketsSource | NumbersSource)
            messages = list(reader_of(spec, {}, Seal(key) if key else None).feed(said, 1.0))
            self.assertGreater(len(messages), 8)
            self.assertEqual({m.fault for m in messages[:-1]}, {""}, messages[0])
            readings = messages[-2].readings or {}
            self.assertAlmostEqual(readings["left_x"], 0.25, delta=0.003)
            self.assertAlmostEqual(readings["left_y"], -0.5, delta=0.003)
            self.assertEqual(readings["button_0"], 1.0)


class TransmitterRigTest(TempCase):
    """What a rig says of it."""

    def test_what_cannot_be(self) -> None:
        with self.assertRaisesRegex(RigError, "sources.radio.pins: names no pin for left_x, left_y"):
            transmitter_files(alone(RADIO), "radio", "avr")
        with self.assertRaisesRegex(
            RigError, "sources.stick: is not packets, nor numbers with columns; those of this rig are none"
        ):
            transmitter_files(alone(), "stick", "avr")
        pins = RADIO.replace("sender = ", 'pins = { left_x = "PD3", left_y = "A1" }\nsender = ')
        with self.assertRaisesRegex(
            RigError, "sources.radio.pins.left_x: pin PD3 of the atmega328p measures no voltage"
        ):
            transmitter_files(alone(pins), "radio", "avr")
        with self.assertRaisesRegex(RigError, "pins.left_z: is no channel of this source"):
            alone(RADIO.replace("sender = ", 'pins = { left_z = "A1" }\nsender = '))

    def test_its_pins_are_in_the_wiring_and_are_no_pins_of_the_robot(self) -> None:
        pins = RADIO.replace("sender = ", 'pins = { left_x = "A0", left_y = 5 }\nsender = ')
        rows = [row[:5] for row in wiring_rows(alone(pins))]  # the robot has a stick on A0 and a motor on 5
        self.assertIn(("radio", "", "A0", "left_x", "on its transmitter"), rows)
        self.assertIn(("radio", "", "5", "left_y", "on its transmitter"), rows)

    @WITH_CHIP
    def test_the_command(self) -> None:
        text = demo_path("plover").read_text("utf-8") + TransmitterTest.MORE
        rig = self.write("plover.toml", text)
        ran = Ran("board", str(rig), "--source", "radio", "-o", str(self.folder / "radio"))
        self.assertEqual(ran.code, 0, ran.err)
        self.assertIn("it sends what its controls read", ran.out)
        self.assertIn("flash ", ran.out)
        self.assertTrue((self.folder / "radio" / "transmitter.c").exists())
        self.assertEqual(Ran("board", str(rig), "--source", "wheel").code, 1)
        said = Ran("board", str(rig), "--source", "radio", "--for", "c", "-o", str(self.folder / "any")).out
        self.assertNotIn("make", said)
        self.assertIn("your own board.c", said)
        words = "gcc -std=c99 -Wall -Wextra -Werror -fsyntax-only main.c transmitter.c sentence.c seal.c rig.c mine.c"
        subprocess.run(words.split(), check=True, cwd=self.folder / "any")


class WireTest(TempCase):
    """What `pivrex wire` says of such a board."""

    def test_what_a_tick_tells(self) -> None:
        rig = self.write(
            "alone.toml",
            demo_path("plover").read_text("utf-8").replace('source = "stick"  ', 'mode = "alone"\nsource = "stick"  '),
        )
        said = json.loads(Ran("wire", str(rig), "--json").out)
        self.assertEqual(said["hash"], Rebuilder(Line(alone())).hash)
        names = ["left_y", "left_x", "button_5", "button_0", "button_1"]
        names += ["left_travel", "right_travel", "left_speed", "right_speed", "gyro", "front", "post"]
        self.assertEqual([one["name"] for one in said["values"]], names)
        self.assertEqual(
            [one["as"] for one in said["values"]], ["number"] * 2 + ["bit"] * 3 + ["count"] * 2 + ["number"] * 5
        )
        self.assertEqual(said["bytes"], 2 * 4 + 1 + 7 * 4)
        self.assertIn("value 6: left_travel, a count", Ran("wire", str(rig)).out)


class WatchedTest(unittest.TestCase):
    """A board that is watched, as its sentences come."""

    def setUp(self) -> None:
        self.line = Line(alone(STICK))
        self.there = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.there.bind(("127.0.0.1", 0))
        self.there.settimeout(2)
        self.addCleanup(self.there.close)
        wire = {"kind": "udp", "host": "127.0.0.1", "port": self.there.getsockname()[1]}
        self.board = WatchedBoard(self.line, Link.model_validate({"wire": wire}))
        self.addCleanup(self.board.close)
        self.now = 100.0
        self.board.poll(self.now)
        self.board.command(np.zeros(6), 0.0)
        body = unframe(self.there.recvfrom(400)[0].strip())
        self.assertTrue(body.endswith(f",{self.board.hash},all"), body)  # its state is not known yet
        self.there.connect(("127.0.0.1", self._port()))

    def _port(self) -> int:
        self.board._asked_s = float("-inf")
        self.board.command(np.zeros(6), 0.0)
        return int(self.there.recvfrom(400)[1][1])

    def say(self, *bodies: str) -> str:
        """Let the board say sentences; return what is wrong then."""
        heard = len(self.board.tally.said)
        for body in bodies:
            self.there.send(frame(body))
        wait_for(lambda: self._polled() or len(self.board.tally.said) > heard, 3)
        time.sleep(0.01)
        self._polled()
        return self.board.problem(self.now)

    def _polled(self) -> bool:
        self.board.poll(self.now)
        return False

    def test_what_may_be_wrong(self) -> None:
        self.assertEqual(self.board.problem(self.now), "no board is heard")
        self.assertIn("obeys a laptop, but the rig says", self.say(f"PIVHEY,Plover,{self.board.hash}"))
        said = self.say("PIVHEY,Plover,DEADBEEF,alone", "PIVTIC,1,0,0000,AAAA")
        self.assertEqual(
            said, f"the board has an older rig (DEADBEEF, here {self.board.hash}): write its program again"
        )
        self.assertEqual(self.say(f"PIVHEY,Plover,{self.board.hash},alone"), "")

    def test_a_board_with_an_older_rig_is_stopped_too_and_let_go_on(self) -> None:
        self.say("PIVHEY,Plover,DEADBEEF,alone", "PIVTIC,41,0,0000,AAAA")

        def asked(what: str) -> str:
            self.assertEqual(self.board.ask(what), "")
            self.board.command(np.zeros(6), 0.0)
            while True:
                body = unframe(self.there.recv(400).strip())
                if not body.endswith(",all"):
                    return body.partition(",")[2].partition(",")[2]

        self.assertEqual(asked("stop"), "41,DEADBEEF,stop")
        self.say("PIVTIC,42,3,0000,AAAA")
        self.assertTrue(self.board.is_stopped)
        self.assertEqual(asked("go"), "42,DEADBEEF,go")
        self.assertEqual(self.board.take(), [])

    def test_a_checksum_that_differs_is_said_at_once_and_once(self) -> None:
        self.say(f"PIVHEY,Plover,{self.board.hash},alone")
        alone_ = self.board._rebuilder.alone
        data = base64.b64encode(bytes(alone_.telemetry.size)).decode().rstrip("=")
        state = SingleLine(alone_.parts).kept.packed(alone_.parts.start)
        parts = [(at, base64.b64encode(state[at : at + 90]).decode().rstrip("=")) for at in range(0, len(state), 90)]
        self.say(f"PIVTIC,7,0,0000,{data}", *(f"PIVALL,7,{at},{part}" for at, part in parts))
        said = self.say(f"PIVTIC,8,0,0000,{data}", f"PIVTIC,9,0,0000,{data}")
        self.assertEqual(said, "the board's results differ from this computer's")
        self.assertEqual(len(self.board.take()), 2)
        self.assertEqual(len(self.board.notes), 1)
        self.assertIn("at 0.13 s the board's result differs", self.board.notes[0])

    def test_sentences_that_are_damaged_are_counted_and_explained(self) -> None:
        self.say(f"PIVHEY,Plover,{self.board.hash},alone")
        for body in (
            "PIVTIC,1,0,0000,AAAA",
            "PIVTIC,x,0,0000,AAAA",
            "PIVTIC,1,0,0000,%%",
            "PIVTIC,1",
            "PIVALL,1,0,A",
            "PIVALL,1",
        ):
            self.say(body)
        self.assertEqual({m.fault for m in self.board.tally.bad}, {"damaged"})
        self.assertEqual(self.board.take(), [])


class WatchingSessionCase(unittest.TestCase):
    """A session whose robot drives by itself."""

    TEXT = ""
    """Of the routine that the board has; empty for none."""

    def setUp(self) -> None:
        self.there = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.there.bind(("127.0.0.1", 0))
        self.there.settimeout(2)
        self.addCleanup(self.there.close)
        self.wire = {"kind": "udp", "host": "127.0.0.1", "port": self.there.getsockname()[1]}
        self.rig = alone()
        # the board of these tests is silent only where a test says so, however busy the machine
        link = Link.model_validate({"wire": self.wire, "quiet_after": "4 s"})
        task = Task(program(self.TEXT, self.rig)) if self.TEXT else None
        self.session = Session(SetUp(self.rig, None, link=link, task=task))
        self.addCleanup(self.session.close, 0.0)
        self.alone = Rebuilder(Line(self.rig), None, task).alone
        advance(self.session, 0.0)

    def tell(self, *bodies: str) -> list[Any]:
        """Let the board say sentences, and the session go on; return its Ticks."""
        rows = [row for _ in range(3) for row in advance(self.session, time.perf_counter())]
        while (peer := self.heard()) is not None:  # another rig has another link
            self.peer = peer
        for body in (f"PIVHEY,Plover,{self.alone.hash},alone", *bodies):
            self.there.sendto(frame(body), self.peer)
        for _ in range(20):
            time.sleep(0.002)
            rows += advance(self.session, time.perf_counter())
        return rows

    def heard(self) -> Any:
        """Return who has said something that was not read yet; None if there is nothing."""
        return self.there.recvfrom(400)[1] if select.select([self.there], [], [], 0)[0] else None

    def tick(self, number: int, why: int) -> str:
        return f"PIVTIC,{number},{why},0000,{base64.b64encode(bytes(self.alone.telemetry.size)).decode().rstrip('=')}"

    def asked(self) -> str:
        """Return what the board is asked next, but for its state."""
        for _ in range(20):
            self.session.robots.link._asked_s = float("-inf")  # type: ignore[union-attr]
            advance(self.session, time.perf_counter())
            what = unframe(self.there.recvfrom(400)[0].strip()).split(",")[4]
            if what not in ("all", "stick"):
                return what
        return ""


class WatchingSessionTest(WatchingSessionCase):
    """As its sentences come."""

    def test_what_it_says_is_shown_and_what_is_asked_is_said(self) -> None:
        status = self.session.board
        self.assertTrue(status.status.watching)
        self.assertEqual(status.status.source, "stick")
        self.tell(self.tick(5, DRIVES))
        self.assertEqual(status.status.moving, Moving())
        self.assertEqual(status.status.linked, "heard")
        self.session.handle(ask.Stop("Esc"), 0.0)
        self.assertEqual(self.asked(), "stop")
        self.tell(self.tick(6, STOPPED))
        self.assertEqual(status.status.moving.state, State.STOPPED)
        self.session.handle(ask.GoOn(), 0.0)
        self.assertEqual(self.asked(), "go")
        self.tell(self.tick(7, NOT_AT_REST))
        self.assertEqual(status.status.lost, "let go of its sticks and buttons first")
        self.session.handle(ask.PutBack(), 0.0)
        self.assertEqual(status.status.note, "the board drives by itself, and this computer only watches")

    def said(self) -> list[float]:
        """Return the newest stick that the board was told; empty if none was since this was asked last."""
        newest: list[float] = []
        for _ in range(3):
            time.sleep(0.02)
            advance(self.session, time.perf_counter())
        while select.select([self.there], [], [], 0)[0]:
            words = unframe(self.there.recvfrom(400)[0].strip()).split(",")
            newest = [float(w) / 1000 for w in words[5:]] if words[4] == "stick" else newest
        return newest

    def test_live_it_is_the_boards_stick(self) -> None:
        status, channels = self.session.board, list(self.alone.channels)
        self.session.handle(ask.GoLive(), 0.0)
        self.assertEqual(status.status.note, "not live: no board is heard")
        self.tell(self.tick(5, STOPPED))
        self.session.handle(ask.GoLive(), 0.0)
        self.assertEqual(status.status.note, "not live: the board is stopped: g lets it move again")
        self.tell(self.tick(6, DRIVES))
        self.assertEqual(self.said(), [])
        self.session.handle(ask.KeyDown("w"), time.perf_counter())
        self.assertEqual(status.status.note, "the board drives by itself, and this computer only watches")
        self.session.handle(ask.GoLive(), 0.0)
        self.assertEqual(self.said(), [0.0] * len(channels))
        self.assertEqual((status.status.moving.state, status.status.source), (State.LIVE_LOST, "keys"))
        self.assertIn("has not taken over", status.status.lost)
        self.tell(self.tick(7, LAPTOP_NOT_AT_REST))
        self.assertEqual(status.status.lost, "let go of the sticks and buttons here first")
        self.tell(self.tick(8, BY_LAPTOP))
        self.assertEqual(status.status.moving, Moving(State.LIVE))
        self.session.handle(ask.SetKeysMode("latched"), 0.0)
        self.session.handle(ask.KeyDown("w"), time.perf_counter())
        self.assertLess(self.said()[channels.index("left_y")], 0.0)
        self.session.handle(ask.Stop("Esc"), 0.0)
        self.assertEqual(self.said(), [])
        self.tell(self.tick(9, STOPPED))
        self.assertEqual((status.status.moving.state, status.status.source), (State.STOPPED, "stick"))

    def go_live(self) -> None:
        self.tell(self.tick(5, DRIVES))
        self.session.handle(ask.GoLive(), 0.0)
        self.tell(self.tick(6, BY_LAPTOP))
        self.assertTrue(self.session.status.live)
        self.assertTrue(self.session.robots.drives_a_real_one)

    def test_what_ends_it(self) -> None:
        self.go_live()
        self.tell(self.tick(7, BY_BUTTON))  # a button of its own
        self.assertFalse(self.session.status.live)
        self.tell(self.tick(8, DRIVES))
        self.assertFalse(self.session.status.live)  # and not by itself again
        self.go_live()
        self.session.handle(ask.MoveSticks({"left_y": -0.5}), 0.0)  # keys drive
        self.assertFalse(self.session.robots.drives_a_real_one)
        self.assertEqual(self.asked(), "stop")
        self.tell(self.tick(9, STOPPED))
        self.tell(self.tick(10, DRIVES))
        self.go_live()
        self.session.fail(RuntimeError("a bug"))
        self.said()  # what was on its way
        self.assertEqual(self.said(), [])
        self.go_live()
        advance(self.session, time.perf_counter() + 5.0)  # the link is silent
        self.assertFalse(self.session.status.live)
        self.assertIn("goes on by itself: the board is silent", self.session.status.note)
        self.assertEqual(self.session.status.source, "stick")

    def test_another_source_is_its_stick(self) -> None:
        self.tell(self.tick(5, DRIVES))
        self.session.handle(ask.ChooseSource("sticks"), 0.0)
        self.assertEqual(self.session.status.note, "sticks is the board's stick once it is live: Ctrl+L")
        self.assertEqual(self.session.status.source, "stick")
        self.session.handle(ask.GoLive(), 0.0)
        self.session.handle(ask.MoveSticks({"left_y": -0.5}), 0.0)
        self.assertEqual(self.said()[self.alone.channels.index("left_y")], -0.5)
        self.assertEqual(self.session.status.source, "sticks")

    def test_a_changed_rig(self) -> None:
        self.tell(self.tick(5, DRIVES))
        self.session.handle(ask.UseRig(alone(STICK, ('curve = "35 %"', 'curve = "34 %"')), 1), 0.0)
        self.tell(self.tick(6, DRIVES))
        status = self.session.board.status
        self.assertTrue(status.watching)
        self.assertEqual(status.source, "stick")
        self.assertIn("the board has an older rig", status.lost)
        self.assertEqual(status.watches, "unheard")
        self.session.handle(ask.UseRig(alone(STICK, ('mode = "alone"', 'mode = "obeys"')), 2), 0.0)
        self.tell()
        status = self.session.board.status
        self.assertFalse(status.watching)
        self.assertEqual((status.source, status.held), ("keys", "no longer watching the board"))

    def test_a_rig_whose_board_cannot_be_watched_says_why(self) -> None:
        self.session.handle(ask.UseRig(alone(STICK, ('left_x = "A1"\n', "")), 1), 0.0)
        self.tell()
        self.assertIn(
            'board.source: is "stick", which has no left_x', " ".join(self.session.board.status.notes_since(0))
        )
        self.assertFalse(self.session.board.status.watching)


@WITH_CHIP
@slow
class WatchedProgramTest(TempCase):
    """The whole program, watching a board in the emulator over a pseudo-terminal."""

    def freeze(self, robot: Robot, terminal: Terminal) -> None:
        """Let the robot be silent for a moment: it may drive all the same."""
        os.kill(robot.process.pid, signal.SIGSTOP)
        terminal.wait("BOARD UNHEARD")
        terminal.wait("what the board does is not known: the board is silent")
        os.kill(robot.process.pid, signal.SIGCONT)
        wait_for(lambda: "UNHEARD" not in terminal.row(0), 20, terminal.screen)

    def drive_by_keys(self, robot: Robot, terminal: Terminal) -> None:
        """Be the board's stick, from the first try on or a later one: a computer that is too busy stops it at once."""

        def drives() -> bool:
            if "BOARD RESTS" in terminal.row(0):
                terminal.keys("g")
                terminal.wait("BOARD DRIVES")
            if "BOARD DRIVES" in terminal.row(0):
                terminal.keys("C-l")
                wait_for(lambda: "BOARD DRIVES" not in terminal.row(0), 10, terminal.screen)
            terminal.keys("w")
            time.sleep(0.3)
            return robot.drives and "LIVE" in terminal.row(0)

        wait_for(drives, 60, terminal.screen)
        terminal.wait("keys, latched")

    def drive_a_routine(self, robot: Robot, terminal: Terminal) -> None:
        """Let the board begin its routine, which the view shows with the line that is done, and stop it."""
        terminal.keys("6")
        terminal.wait("drive ahead 1.2 m")
        terminal.keys("G")
        terminal.wait("the board drives its routine practice")
        terminal.wait("▸▸▸")
        terminal.wait("line 5 of the routine commands it")
        wait_for(lambda: robot.drives, 10, terminal.screen)
        terminal.keys("Escape")
        terminal.wait("BOARD RESTS")
        wait_for(lambda: not robot.drives, 5, terminal.screen)
        terminal.keys("g")
        terminal.wait("BOARD DRIVES")
        terminal.keys("1")

    def test_it_is_watched_stopped_and_let_go_on(self) -> None:
        home = self.demo()
        rig = home / "rigs" / "plover.toml"
        port = f'[link]\nwire = {{ kind = "serial", port = "{self.folder / "robot"}", baud = 115200 }}\n'
        says = 'mode = "alone"\nroutine = "practice"\nsource = "stick"  '
        rig.write_text(rig.read_text("utf-8").replace('source = "stick"  ', says) + port, "utf-8")
        robot = Robot(rig, self.folder / "log.csv", "--board", "--serial", str(self.folder / "robot"))
        self.addCleanup(robot.close)
        words = ["pivrex", "remote", str(rig), "stick"]
        remote = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        assert remote.stdin is not None

        def type_in(*lines: str) -> None:
            remote.stdin.write("".join(f"{line}\n" for line in lines).encode())  # type: ignore[union-attr]
            remote.stdin.flush()  # type: ignore[union-attr]

        self.addCleanup(remote.wait)
        self.addCleanup(remote.kill)
        self.addCleanup(remote.stdin.close)
        terminal = Terminal(
            "open", str(home), "--rig", "plover", "--view", "driver", "--link", f"serial:{self.folder / 'robot'}:115200"
        )
        self.addCleanup(terminal.close)
        self.watch(robot, terminal, type_in)
        terminal.close()
        kept = [r for r in Shelf(home / "runs").runs() if r.facts is not None and r.facts.kept == "live"]
        lowest = 0.0
        for run in (Run(one.folder) for one in kept):
            at = run.line(run.first).layout.at("raw", "left_y")
            lowest = min(lowest, *(float(row[at]) for row in run.rows(run.first, run.end)))
        self.assertLess(lowest, -0.45)

    def watch(self, robot: Robot, terminal: Terminal, type_in: Callable[..., None]) -> None:
        terminal.wait("BOARD DRIVES")
        type_in("left_y -0.6")
        wait_for(lambda: robot.drives, 10, terminal.screen)
        terminal.wait("left_y")
        wait_for(lambda: "-0.60" in terminal.screen().replace("−", "-"), 10, terminal.screen)
        terminal.wait("why left: forward stick")
        terminal.keys("Escape")
        terminal.wait("BOARD RESTS")
        wait_for(lambda: not robot.drives, 5, terminal.screen)
        terminal.wait("the board rests: this computer stopped it (Esc)")
        terminal.keys("C-l")
        terminal.wait("the board is stopped: g lets it move again")
        terminal.keys("g")
        terminal.wait("let go of its sticks")
        type_in("rest")
        terminal.wait("BOARD DRIVES")
        self.drive_by_keys(robot, terminal)
        terminal.keys("Escape")
        terminal.wait("BOARD RESTS")
        wait_for(lambda: not robot.drives, 5, terminal.screen)
        terminal.keys("g")
        terminal.wait("BOARD DRIVES")
        self.drive_a_routine(robot, terminal)
        type_in("left_y -0.5")
        wait_for(lambda: robot.drives, 10, terminal.screen)
        time.sleep(1.0)
        self.freeze(robot, terminal)
        terminal.keys("h")
        terminal.wait("no longer watching")
        self.assertNotIn("BOARD", terminal.row(0))
        self.assertIn("keys", terminal.row(0))
        self.assertTrue(robot.drives)  # it needs no laptop
        type_in("rest")
        terminal.keys("h")
        terminal.wait("BOARD DRIVES")
        self.drive_by_keys(robot, terminal)
        for pid in terminal.pids():
            os.kill(pid, signal.SIGKILL)
        wait_for(lambda: not robot.drives, 5)


class RefusedAloneTest(TempCase):
    """What a chip cannot do."""

    @WITH_CHIP
    def test_a_chip_that_is_too_slow_is_refused_with_its_number(self) -> None:
        clock = ('mode = "alone"', 'mode = "alone"\nclock = "8000 kHz"')
        slower = ('pwm = "1 kHz"', 'pwm = "500 Hz"')
        fit = reported(
            alone(RADIO, clock, ('rate = "60 Hz"', 'rate = "200 Hz"'), slower, slower, key=KEY),
            self.folder / "fast",
            "avr",
        ).fit
        assert fit is not None
        self.assertTrue(fit.refused)
        self.assertRegex(
            fit.said,
            r'it is too slow: driving at full speed it needs \d+\.\d of the 5\.0 ms of a tick; rate = "\d+ Hz" may do',
        )

    def test_a_rig_without_a_source(self) -> None:
        with self.assertRaisesRegex(RigError, "board.source: is missing; a board that is alone needs one of"):
            board_files(read_rig(demo_path("dunlin")), "c", "alone")
