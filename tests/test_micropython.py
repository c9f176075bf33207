"""The board's program in MicroPython, run in MicroPython itself: under node, with a simulated robot for the module machine."""

from __future__ import annotations

import json
import re
import shutil
import sys
import unittest
from collections.abc import Iterable
from pathlib import Path
from types import SimpleNamespace
from typing import Any
from unittest import mock

import numpy as np

from pivrex.board.folder import board_files, write_board
from pivrex.board.line_micropython import maths_module
from pivrex.board.on_micropython import PACKAGE, compiled, prove_in_micropython, ran_in_micropython
from pivrex.board.parts import part
from pivrex.board.proving import Ticks, own_ticks, ticks_of_routine
from pivrex.board.steps import Task
from pivrex.devices.encode import packet_of
from pivrex.devices.robot_sentences import Out, out_sentences, read_sensed, wire_hash
from pivrex.devices.seal import Seal, sealed
from pivrex.devices.sentence import frame, unframe
from pivrex.errors import PivrexError, RigError
from pivrex.line.line import Line
from pivrex.rig import Rig, read_rig
from pivrex.rig.sources import PacketsSource
from tests.chassis import ALL, demo_path
from tests.support import TempCase, often, slow
from tests.test_alone import NUMBERS, RADIO, STICK, alone
from tests.test_board import GYRO_PIN, plover_with
from tests.test_cli import Ran
from tests.test_routine_running import program

KEY = bytes(range(16))
WITH_MICROPYTHON = unittest.skipUnless(
    shutil.which("node") and (Path(sys.prefix) / "node" / "node_modules" / PACKAGE).is_dir(),
    "needs node and MicroPython for it",
)

HARNESS = """
import json
import machine
import board
board.ms = lambda: machine.now_us // 1000
board.us = lambda: machine.now_us
board.time.sleep_us = lambda us: None
{prelude}
EVENTS = json.loads(open("/events.json").read())
import mine, robot
import {driver} as driver
board.begin()
driver.begin()
mine.begin()
found, last, at = [], None, 0
for ms in range({until}):
    machine.now_us = ms * 1000
    while at < len(EVENTS) and EVENTS[at][0] <= ms:
        _, what, name, value = EVENTS[at]
        at += 1
        if what == "link":
            machine.UART.made[0].inward += bytes(value)
        elif what == "radio":
            machine.UART.made[1].inward += bytes(value)
        elif what == "volts":
            machine.volts[name] = value
        elif what == "mine":
            exec(value)
        else:
            machine.Pin.made[name].put(value)
    driver.loop()
    robot.sense_loop()
    mine.loop()
    now = [[p.duty for p in board.pwms], [p.level for p in board.levels], [p.duty for p in board.pulses]]
    said = list(machine.UART.made[0].outward) if 0 in machine.UART.made else []
    if said:
        machine.UART.made[0].outward = b""
    if now != last or said:
        found.append([ms, now, said])
        last = now
print(json.dumps(found))
"""

Event = tuple[int, str, Any, Any]


class Heard:
    """What a program did: its outputs over time, and what it said."""

    def __init__(self, text: str) -> None:
        rows = json.loads(text.strip().splitlines()[-1])
        self.outputs = [(ms, given) for ms, given, _ in rows]
        self.said = [(ms, unframe(line)) for ms, _, data in rows for line in bytes(data).split(b"\n") if line.strip()]

    def at(self, ms: int) -> list[list[int]]:
        """What was given to the pins then: duties and levels, and a servo's."""
        found: list[list[int]] = next(given for when, given in reversed(self.outputs) if when <= ms)
        return found

    def duties(self, ms: int) -> list[int]:
        """What the two motors were given then, of 255."""
        return [round(duty / 65535 * 255) for duty in self.at(ms)[0]]

    def answers(self) -> list[tuple[int, list[str]]]:
        return [(ms, body.split(",")) for ms, body in self.said if body.startswith("PIVSEN")]


class MicroPythonCase(TempCase):
    """A program and what happens to it; ``prelude`` is done before it begins."""

    prelude = ""

    def heard(
        self, rig: Rig, events: Iterable[Event], until_ms: int, mode: str = "obeys", task: Task | None = None
    ) -> Heard:
        files, _ = board_files(rig, "micropython", mode, None, task)
        folder = self.folder / f"robot-{len(list(self.folder.iterdir()))}"
        folder.mkdir()
        for name, text in files.items():
            (folder / name).write_text(text)
        (folder / "machine.py").write_text(part("micropython/machine.upy"))
        ordered = sorted(events, key=lambda e: e[0])
        (folder / "events.json").write_text(
            json.dumps([(ms, what, name, list(v) if isinstance(v, bytes) else v) for ms, what, name, v in ordered])
        )
        driver = "alone" if mode == "alone" else "link"
        (folder / "run.py").write_text(HARNESS.format(driver=driver, until=until_ms, prelude=self.prelude))
        return Heard(ran_in_micropython(folder, "run.py"))


@WITH_MICROPYTHON
class ProofTest(unittest.TestCase):
    """The line itself, to 1e-12 a tick from the same state."""

    @slow
    def test_every_shipped_rig(self) -> None:
        for name in ALL:
            line = Line(read_rig(demo_path(name)))
            found = prove_in_micropython(line, own_ticks(line, often(600, 150)))
            self.assertTrue(found.holds and found.compiled, f"{name}: {found}")

    def test_a_routine(self) -> None:
        rig = read_rig(demo_path("bittern"))
        line = Line(rig)
        text = (
            "start at 1 m, 1 m facing 0 deg\ndrive left 20 cm\nmove boom to 30 deg\ndrive to 1.4 m, 1.2 m facing 90 deg"
        )
        found = prove_in_micropython(line, ticks_of_routine(line, Task(program(text, rig), 4.0), None))
        self.assertTrue(found.holds, found)

    def test_a_number_that_is_wrong_is_found(self) -> None:
        line = Line(plover_with())
        ticks = own_ticks(line, 60)
        rows = ticks.rows.copy()
        rows[40, line.layout.stage("drive").start] += 1e-6
        found = prove_in_micropython(line, Ticks(rows, ticks.memories))
        self.assertFalse(found.holds)
        self.assertEqual(found.column, "drive.left")

    def test_what_it_cannot_read_is_said(self) -> None:
        with self.assertRaisesRegex(PivrexError, "mpy-cross refuses bad.py"):
            compiled({"bad.py": "def x(:\n"})

    def test_every_file_compiles(self) -> None:
        rigs = [(plover_with(), "obeys"), (plover_with().with_secret(KEY), "obeys"), (alone(), "alone"), (alone(RADIO, key=KEY), "alone"),
                (alone(NUMBERS), "alone")]  # fmt: skip
        for rig, mode in rigs:
            self.assertTrue(compiled(board_files(rig, "micropython", mode)[0]))


@WITH_MICROPYTHON
class ObeysTest(MicroPythonCase):
    """The rules of docs/wire.md."""

    VALUES = (128.0, 1.0, 64.0, 0.0, 1500.0, 1.0)
    REST = ([0, 0], [1, 1, 0])

    def setUp(self) -> None:
        super().setUp()
        self.rig = plover_with()
        self.hash = wire_hash(Line(self.rig))

    def out(self, ms: int, seq: int, drive: bool = True, echo: int | None = None, **other: Any) -> Event:
        stamp = ms if echo is None else echo
        said = out_sentences(
            Out(seq, stamp if stamp >= 0 else None, drive),
            other.get("rig", self.hash),
            np.array(other.get("values", self.VALUES)),
        )
        return ms, "link", "", b"".join(said)

    def drives(self, first: int, last: int, seq: int) -> list[Event]:
        return [self.out(ms, seq + k) for k, ms in enumerate(range(first, last, 20))]

    def test_it_drives_answers_and_rests_when_it_is_left_alone(self) -> None:
        heard = self.heard(self.rig, [self.out(10, 1, drive=False), *self.drives(30, 300, 2)], 700)
        self.assertEqual(heard.duties(15), [0, 0])
        self.assertEqual(heard.duties(100), [128, 64])
        self.assertEqual(heard.at(100)[1], [1, 0, 1])
        self.assertAlmostEqual(heard.at(100)[2][0], 65535 * 1500e-6 * 50, delta=2)
        self.assertEqual(heard.duties(445), [0, 0])  # the last came at 290, and counts for 150 ms
        self.assertEqual(heard.duties(435), [128, 64])
        self.assertEqual(heard.said[0], (0, f"PIVHEY,Plover,{self.hash}"))
        answers = heard.answers()
        self.assertGreaterEqual(len(answers), 14)
        ms, words = answers[-1]
        back, values = read_sensed(words, 11)
        self.assertEqual((words[1], words[2], words[3]), (str(ms & 0xFFFF), "15", "1"))
        self.assertEqual((back.ack, len(values)), (15, 11))

    def test_what_moves_nothing(self) -> None:
        for name, event in {
            "before a rest": self.out(30, 1),
            "too old": self.out(600, 2, echo=100),
            "without an echo": self.out(600, 2, echo=-1),
            "another rig": self.out(600, 2, rig="00000000"),
            "one value too few": self.out(600, 2, values=self.VALUES[:5]),
            "damaged": (600, "link", "", b"$" + self.out(600, 2)[3][2:]),
            "no number": (600, "link", "", frame(f"PIVOUT,2,600,1,{self.hash},1,1,1,nan,1,1")),
            "too long": (600, "link", "", b"$" + b"1" * 500 + b"\r\n"),
        }.items():
            events = [event] if name == "before a rest" else [self.out(590, 1, drive=False), event]
            heard = self.heard(self.rig, events, 650)
            self.assertEqual([given[:2] for _, given in heard.outputs if given[:2] != [[0, 0], [1, 1, 0]]], [], name)

    def test_what_is_repeated_or_older_moves_nothing(self) -> None:
        other = (10.0, 1.0, 10.0, 1.0, 1500.0, 0.0)
        events = [
            self.out(10, 1, drive=False),
            self.out(30, 5),
            self.out(50, 5, values=other),
            self.out(60, 4, values=other),
        ]
        self.assertEqual(self.heard(self.rig, events, 100).duties(90), [128, 64])
        self.assertEqual(self.heard(self.rig, [*events, self.out(70, 6, values=other)], 100).duties(90), [10, 10])

    def test_encoders_a_voltage_and_an_echo_come_back(self) -> None:
        edges: list[Event] = []
        for k in range(40):  # A leads: up
            edges.append((200 + 5 * k, "pin", (2, 3)[k % 2], 1 - k // 2 % 2))
        edges += [
            (100, "pin", 13, 1),
            (105, "pin", 13, 0),
            (300, "pin", 13, 1),
            (330, "pin", 13, 0),
            (1200, "volts", "A5", 0.6),
        ]
        asks = [self.out(ms, 1 + k, drive=False) for k, ms in enumerate(range(10, 2000, 50))]
        heard = self.heard(self.rig, [*edges, *asks], 2000)
        columns = [c.name for c in Line(self.rig).stages["sensed"].columns]
        told = {ms: dict(zip(columns, words[4:], strict=False)) for ms, words in heard.answers()}
        share = self.rig.chassis.wheels[0].radius_m * 2 * np.pi / self.rig.motors["left"].counts_per_wheel_turn
        first, last = min(told), max(told)
        self.assertAlmostEqual(abs(float(told[last]["left_travel"])), 38 * share, delta=2 * share)
        self.assertEqual(float(told[first]["left_travel"]), 0.0)
        self.assertAlmostEqual(
            float(told[110 + 1 if 111 in told else min(t for t in told if t > 105)]["front"]),
            5000 * 343 / 2e6,
            delta=0.02,
        )
        self.assertEqual(float(told[min(t for t in told if t > 335)]["front"]), 0.0)  # too long for an echo
        # 0.8 s at 0.6 of the supply, from 0: by what a volt is
        volts = 0.6 * self.rig.board.supply_V
        assert self.rig.gyro is not None
        turned = volts * self.rig.gyro.per_V_rad_s * (last - 1200) / 1e3
        self.assertAlmostEqual(float(told[last]["gyro"]), turned, delta=0.05 * turned)

    def test_with_a_key_only_what_is_sealed_for_this_start_counts(self) -> None:
        rig = self.rig.with_secret(KEY)
        greeting = self.heard(rig, [], 20).said[0][1]
        body, _ = Seal(KEY).open(greeting)
        self.assertEqual(body, f"PIVHEY,Plover,{self.hash}")
        self.assertRegex(greeting, r",\d+,[0-9A-F]{16}$")
        rest, drive = f"PIVOUT,1,10,0,{self.hash}", f"PIVOUT,2,30,1,{self.hash},128,1,64,0,1500,1"
        seal = "import seal; seal.session = 77"  # what it would be for this start

        def moved(key: bytes, of: int) -> bool:
            events: list[Event] = [
                (0, "mine", "", seal),
                (10, "link", "", frame(sealed(key, rest, of))),
                (30, "link", "", frame(sealed(key, drive, of))),
            ]
            return self.heard(rig, events, 60).duties(50) != [0, 0]

        self.assertTrue(moved(KEY, 77))
        self.assertFalse(moved(KEY, 78))
        self.assertFalse(moved(bytes(16), 77))
        plain: list[Event] = [(0, "mine", "", seal), (10, "link", "", frame(rest)), (30, "link", "", frame(drive))]
        self.assertEqual(self.heard(rig, plain, 60).duties(50), [0, 0])

    def test_an_error_in_ones_own_code_leaves_the_motors_at_rest(self) -> None:
        files, _ = board_files(self.rig, "micropython")
        self.assertRegex(files["main.py"], r"(?s)try:\n        run\(\)\n    finally:\n        robot.rest\(\)")
        folder = self.folder / "robot"
        folder.mkdir()
        files["mine.py"] = files["mine.py"].replace(
            'looked at in between."""\n', 'looked at in between."""\n    robot_is_wrong()\n'
        )
        for name, text in {**files, "machine.py": part("micropython/machine.upy")}.items():
            (folder / name).write_text(text)
        script = """
import machine, board, robot
begun = board.begin
def begin():
    begun()
    robot.give([128.0, 0.0, 64.0, 0.0, 1500.0, 1.0])
board.begin = begin
import link
link.begin = lambda: board.open_port("link", 9600) or setattr(link, "link", link.Link())
code = open("/main.py").read()
try:
    exec(code, {"__name__": "__main__"})
except NameError:
    print([p.duty for p in board.pwms])
"""
        (folder / "run.py").write_text(script)
        self.assertEqual(ran_in_micropython(folder, "run.py").split("\n")[-2], "[0, 0]")


@WITH_MICROPYTHON
class AloneTest(MicroPythonCase):
    """It drives itself, by a stick or a radio."""

    def volts(self, ms: int, pin: str, value: float) -> Event:
        spec = alone().sources["stick"]
        low, high = spec.low, spec.high  # type: ignore[union-attr]
        return ms, "volts", pin, (low + (value + 1) / 2 * (high - low)) / 1023

    def stick(self, ms: int, y: float, x: float = 0.0) -> list[Event]:
        return [self.volts(ms, "A0", y), self.volts(ms, "A1", x)]

    def test_a_stick_drives_as_the_line_says(self) -> None:
        rig = alone()
        heard = self.heard(rig, [*self.stick(0, 0.0), *self.stick(300, -0.7, 0.3)], 1500, "alone")
        self.assertEqual(heard.duties(290), [0, 0])
        line = Line(rig)
        state, raw = line.start(), line.rest()
        for k in range(80):
            if k > 1:
                raw[:2] = -0.7, 0.3
            state, row = line.step(state, raw, np.zeros(len(line.stages["sensed"].columns)))
        told = line.commands(row)
        self.assertGreater(told[0], 20)
        self.assertLessEqual(np.abs(np.array(heard.duties(1490)) - told[[0, 2]]).max(), 1)
        self.assertEqual(heard.at(1490)[1], [int(told[1]), int(told[3]), 0])

    def test_it_begins_from_rest_only_and_rests_when_a_stick_is_broken_off(self) -> None:
        events = [
            *self.stick(0, -0.7),
            *self.stick(500, 0.0),
            *self.stick(700, -0.7),
            (1000, "volts", "A0", 0.0),
            *self.stick(1300, -0.7),
        ]
        heard = self.heard(alone(), events, 1600, "alone")
        self.assertEqual(heard.duties(490), [0, 0])
        self.assertGreater(heard.duties(990)[0], 20)
        self.assertEqual(heard.duties(1040), [0, 0])
        self.assertEqual(heard.duties(1590), [0, 0])

    def test_a_button_does_what_its_binding_says(self) -> None:
        events = [*self.stick(0, 0.0), (400, "pin", "A4", 0), (600, "pin", "A4", 1)]
        heard = self.heard(alone(), events, 800, "alone")
        self.assertEqual([heard.at(ms)[1][2] for ms in (390, 590, 790)], [0, 1, 0])  # the pump while it is held

    def test_a_board_that_is_too_slow_refuses_to_drive(self) -> None:
        self.prelude = "clock = [0]\ndef us():\n    clock[0] += 300000\n    return clock[0]\nboard.us = us"
        # ten ticks in 0.3 s are 30 ms each, so 0.9 of 33 Hz, and a tenth less
        with self.assertRaisesRegex(
            PivrexError, 'RuntimeError: too slow for the rig: rate = "27 Hz" in the rig may do'
        ):
            self.heard(alone(), [], 10, "alone")

    def packets(self, rig: Rig, first: int, last: int, y: float, seq: int, **other: Any) -> list[Event]:
        spec = rig.sources["radio"]
        assert isinstance(spec, PacketsSource)
        key, session = other.get("key", b""), other.get("session", 1)
        sign = (lambda body: sealed(key, body, session)) if key else None
        return [
            (ms, "radio", "", packet_of(spec, {"left_y": y}, seq + k, sign))
            for k, ms in enumerate(range(first, last, 20))
        ]

    def test_a_radio_drives_and_what_is_lost_rests(self) -> None:
        rig = alone(RADIO)
        events = [*self.packets(rig, 20, 300, 0.0, 1), *self.packets(rig, 300, 800, -0.8, 15)]
        heard = self.heard(rig, events, 1400, "alone")
        self.assertEqual(heard.duties(290), [0, 0])
        self.assertGreater(heard.duties(790)[0], 20)
        self.assertEqual(heard.duties(1050), [0, 0])  # 200 ms after the last, and a tick

    def test_a_lost_radio_lets_it_roll_out_and_one_that_is_heard_again_ends_that(self) -> None:
        rig = alone(RADIO, ('silent_after = "200 ms"', 'silent_after = "200 ms"\nwhen_lost = "ramp"\nramp = "400 ms"'))
        events = [*self.packets(rig, 20, 300, 0.0, 1), *self.packets(rig, 300, 800, -0.8, 15)]
        heard = self.heard(rig, events, 1600, "alone")
        full, half, rolled = (heard.duties(ms)[0] for ms in (970, 1200, 1450))
        self.assertGreater(full, half)
        self.assertGreater(half, 0)
        self.assertEqual(rolled, 0)
        again = self.heard(rig, [*events, *self.packets(rig, 1100, 1600, -0.8, 45)], 1600, "alone")
        self.assertEqual([again.duties(ms)[0] for ms in (1200, 1590)], [0, 0])  # it must let go first

    def test_packets_that_move_nothing(self) -> None:
        rig = alone(RADIO)
        begins = self.packets(rig, 20, 300, 0.0, 1)
        for name, events in {
            "the same number again": [
                (ms, w, n, self.packets(rig, ms, ms + 1, -0.8, 14)[0][3])
                for ms, w, n, _ in self.packets(rig, 300, 480, -0.8, 1)
            ],
            "far ahead of what could have come": self.packets(rig, 300, 480, -0.8, 2000),
            "another sender": [
                (ms, w, n, re.sub(rb"green", b"xgree", d)) for ms, w, n, d in self.packets(rig, 300, 480, -0.8, 15)
            ],
            "damaged": [
                (ms, w, n, d.replace(b"-0.8", b"-0.9")) for ms, w, n, d in self.packets(rig, 300, 480, -0.8, 15)
            ],
        }.items():
            self.assertEqual(self.heard(rig, [*begins, *events], 500, "alone").duties(470), [0, 0], name)

    def test_a_sealed_radio(self) -> None:
        rig = alone(RADIO, key=KEY)

        def moved(seq: int = 20, **other: Any) -> bool:
            events = [
                *self.packets(rig, 20, 300, 0.0, 1, key=KEY, session=9),
                *self.packets(rig, 300, 480, -0.8, seq, **other),
            ]
            return self.heard(rig, events, 500, "alone").duties(470) != [0, 0]

        self.assertTrue(moved(key=KEY, session=9))
        self.assertFalse(moved(key=KEY, session=8))
        self.assertFalse(moved(seq=2, key=KEY, session=9))
        self.assertFalse(moved(key=bytes(16), session=9))
        self.assertFalse(moved())

    def test_lines_of_numbers(self) -> None:
        rig = alone(NUMBERS)
        says = [(ms, "radio", "", f"{512 if ms < 300 else 90}, 512 7 0\r\n".encode()) for ms in range(20, 700, 20)]
        heard = self.heard(rig, says, 1000, "alone")
        self.assertGreater(heard.duties(690)[0], 20)
        self.assertEqual(heard.duties(950), [0, 0])
        damaged = [(ms, w, n, d.replace(b"90", b"90x")) for ms, w, n, d in says]
        self.assertEqual(self.heard(rig, damaged, 480, "alone").duties(470), [0, 0])

    def test_a_routine_that_a_button_begins(self) -> None:
        rig = alone(
            STICK,
            ('button_1 = "A4"\n', ""),
            ('chip = "atmega328p"', 'chip = "atmega328p"\nstart_pin = "A4"'),
            (GYRO_PIN, ""),
        )
        task = Task(program("drive ahead for 0.8 s without gyro\nwait 5 s", rig), 2.0)
        known = (0, "mine", "", "mine.sense = lambda n: 0.0")
        events = [*self.stick(0, 0.0), known, (1200, "pin", "A4", 0), (1300, "pin", "A4", 1)]
        heard = self.heard(rig, events, 3600, "alone", task)
        self.assertEqual(heard.duties(1190), [0, 0])
        self.assertGreater(heard.duties(1700)[0], 20)
        self.assertEqual(heard.duties(2400), [0, 0])
        early = [*self.stick(0, 0.0), known, (300, "pin", "A4", 0), (400, "pin", "A4", 1)]
        self.assertEqual(self.heard(rig, early, 900, "alone", task).duties(800), [0, 0])  # its gyro may still measure
        silent = [e for e in events if e[1] != "mine"]
        self.assertEqual(self.heard(rig, silent, 1800, "alone", task).duties(1700), [0, 0])
        with self.assertRaisesRegex(RigError, "only a button can begin the routine"):
            board_files(alone(), "micropython", "alone", None, Task(program("wait 1 s", alone())))


class FolderTest(TempCase):
    """`--for micropython`."""

    def test_it_is_written_and_ones_own_file_stays(self) -> None:
        folder = self.folder / "robot"
        written = write_board(plover_with((GYRO_PIN, "")), folder, "micropython")
        self.assertEqual(
            written.files, ["board.py", "link.py", "main.py", "mine.py", "rig.py", "robot.py", "sentence.py"]
        )
        self.assertIn("gyro (rad) has no pin: sense in mine.py may return it", written.missing)
        (folder / "mine.py").write_text("# mine\n")
        self.assertTrue(write_board(plover_with(), folder, "micropython").kept)
        self.assertEqual((folder / "mine.py").read_text(), "# mine\n")

    def test_the_command(self) -> None:
        ran = Ran("board", str(demo_path("plover")), "--for", "micropython", "-o", str(self.folder / "out"))
        self.assertEqual(ran.code, 0, ran.err)
        self.assertIn("mpremote cp", ran.out)
        self.assertIn("puts it onto the board", ran.out)
        ran = Ran(
            "board",
            str(demo_path("plover")),
            "--for",
            "micropython",
            "--mode",
            "alone",
            "-o",
            str(self.folder / "alone"),
            "--json",
        )
        said = json.loads(ran.out)
        self.assertEqual((said["for"], said["mode"], said["fits"]["refused"]), ("micropython", "alone", False))
        self.assertRegex(said["fits"]["said"], r"a tick takes \d+\.\d of 16.7 ms in MicroPython|was not tried")
        ran = Ran("board", str(demo_path("plover")), "--for", "micropython", "--source", "stick")
        self.assertIn("should be avr or c", ran.err)

    def test_the_line_is_readable(self) -> None:
        text = board_files(alone(), "micropython", "alone")[0]["line.py"]
        order = [
            text.index(f"\ndef {stage}_step(")
            for stage in ("heading", "band", "rate", "law", "correction", "wheels", "limits", "outputs")
        ]
        self.assertEqual(order, sorted(order))
        self.assertIn("# s\n", text)
        self.assertIn("def tick():", text)
        maths: dict[str, Any] = {}
        exec(maths_module(), maths)
        with mock.patch.dict(sys.modules, maths=SimpleNamespace(**maths)):
            line: dict[str, Any] = {}
            exec(text, line)
        self.assertEqual((line["SINGLE"], line["DUST_M_S"]), (1.0, 1e-9))

    @WITH_MICROPYTHON
    def test_the_proof(self) -> None:
        ran = Ran("board", str(demo_path("plover")), "--prove", "--for", "micropython", "--json")
        said = json.loads(ran.out)
        self.assertEqual((ran.code, said["chip"], said["micropython"]["holds"]), (0, None, True), ran.out)
        self.assertGreater(said["micropython"]["us"], 0)
