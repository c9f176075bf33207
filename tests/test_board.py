"""The program of a robot's board: the line that is printed, what pins can do, the chip in the emulator."""

import ast
import json
import os
import re
import signal
import subprocess
import time
import unittest
from functools import partial
from pathlib import Path
from shutil import which
from typing import Any
from unittest.mock import patch

import numpy as np
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from pivrex.board.chips import CHIPS
from pivrex.board.emulated import EmulatedRobot, built_program
from pivrex.board.flat_program import FlatFunction, FlatProgram, Global
from pivrex.board.folder import board_files, write_board
from pivrex.board.line_parts import LineParts, line_parts
from pivrex.board.needed import needed
from pivrex.board.on_chip import SEALED_STACK, STACK, run_on_chip, sizes_of
from pivrex.board.proving import own_ticks, prove, ticks_of
from pivrex.board.report import BoardReport, Fit, reported
from pivrex.devices.robot_sentences import Out, out_sentences, read_sensed, wire_hash
from pivrex.devices.seal import Seal, sealed
from pivrex.devices.sentence import frame, unframe
from pivrex.errors import PivrexError, RigError, SaveError
from pivrex.line.line import Line
from pivrex.rig import Field, Rig, open_folder, read_rig, read_text
from pivrex.tui.model import ScreenModel
from pivrex.tui.overlays import board_sheet
from pivrex.tui.overlays.board_sheet import draw_board
from tests.chassis import ALL, PLANAR, Wheel, any_wheels, demo_path, rig_of
from tests.support import PLAIN, TempCase, often, slow
from tests.test_app import AppCase, in_loop
from tests.test_cli import Ran
from tests.test_robot_link import WITHIN_S, WholeProgramCase

WITH_CHIP = unittest.skipUnless(
    which("avr-gcc") and Path("/usr/include/simavr/sim_avr.h").exists(), "needs avr-gcc and simavr"
)


EXTRAS = ("", '[gyro]\n[correction]\nhold = "on"\n', PLANAR, '[limits]\nfit = "clip"\n')


def plover() -> Rig:
    return read_rig(demo_path("plover"))


def changed(text: str, *pairs: tuple[str, str]) -> str:
    for old, new in pairs:
        assert old in text, old
        text = text.replace(old, new, 1)
    return text


GYRO_PIN = 'pin = "A5"                # an analogue one\n'
"""In the demo's Plover."""


def plover_with(*pairs: tuple[str, str]) -> Rig:
    return read_text(changed(demo_path("plover").read_text("utf-8"), *pairs), demo_path("plover"), Rig)


class PrintedLineTest(unittest.TestCase):
    """The line as it is printed for a board, compiled for this computer."""

    @slow
    def test_every_shipped_rig(self) -> None:
        for name in ALL:
            line = Line(read_rig(demo_path(name)))
            proof, _ = prove(line, own_ticks(line, often(1500, 250)))
            self.assertEqual(proof.differ, 0, name)
            self.assertLessEqual(proof.steps, 1.0, name)
            self.assertLessEqual(proof.flips, 3, name)
            self.assertGreater(proof.comparisons, 2000, name)
            self.assertLess(
                max(s.worst for s in proof.stages if s.stage not in ("outputs", "control", "drive")), 1e-4, name
            )

    @given(
        any_wheels(),
        st.integers(0, 10_000),
        st.sampled_from(["", '[gyro]\n[correction]\nhold = "on"\n', PLANAR, '[limits]\nfit = "clip"\n']),
    )
    @settings(max_examples=often(100, 2), deadline=None, suppress_health_check=list(HealthCheck))
    def test_any_rig(self, wheels: list[Wheel], seed: int, extra: str) -> None:
        try:
            rig = rig_of(wheels, extra)
        except RigError:
            assume(False)
        line = Line(rig.with_body("realistic" if seed % 2 else "ideal"))
        proof, _ = prove(line, own_ticks(line, 120, seed))
        self.assertEqual(proof.differ, 0)
        self.assertLessEqual(proof.steps, 1.0)

    def test_a_line_that_is_printed_wrongly_is_found(self) -> None:
        """Each of these changes of the printed text must show."""
        line = Line(plover())
        ticks = own_ticks(line, 150)
        source = LineParts.source
        for old, new in (
            ("if (row.clock.stopped)", "if (!row.clock.stopped)"),
            ("was.rate = kept.rate;", ""),
            ("m_clamp(share, R(0.0), R(1.0))", "m_clamp(share, R(0.0), R(0.99))"),
        ):

            def wrong(parts: LineParts, traced: bool = False, old: str = old, new: str = new) -> str:
                return source(parts, traced).replace(old, new)

            self.assertIn(old, source(line_parts(line)))
            with patch.object(LineParts, "source", wrong):
                self.assertGreater(prove(line, ticks)[0].differ, 0, old)

    def test_only_what_outputs_hang_on_is_kept(self) -> None:
        parts = line_parts(Line(plover()))
        self.assertIs(line_parts(Line(plover())).program, parts.program)  # of the same rig it is made once
        other = plover().model_copy(update={"name": "Other", "rate_hz": 50.0})
        self.assertIsNot(line_parts(Line(other)).program, parts.program)
        text = parts.header("float")
        for left_out in ("covariance", "odometry", "truth", "probe", "residual", "scrub"):
            self.assertNotIn(left_out, text)
        for kept in ("struct heading_state", "real reading[", "real value[6]"):
            self.assertIn(kept, text)

    def test_a_setting_that_is_1e_minus_300_is_the_smallest_float(self) -> None:
        text = line_parts(Line(read_rig(demo_path("bittern")))).source()
        self.assertIn("SMALL(1e-300)", text)

    def test_what_a_drive_kept_is_made_again(self) -> None:
        """The rows of a drive on the simulated robot come out of the inputs alone: what is proven is that drive."""
        line = Line(plover())
        ticks = own_ticks(line, 200)
        again = ticks_of(line, ticks.rows)
        np.testing.assert_array_equal(np.nan_to_num(again.rows), np.nan_to_num(ticks.rows))
        self.assertGreater(np.abs(ticks.rows[:, line.outputs.commands]).max(), 100)


class NeededTest(unittest.TestCase):
    """What is left out of a flat program, by hand: names with __ for dots."""

    def left(self, *outputs: str, **functions: str) -> str:
        made, places = {}, set[str]()
        for name, text in functions.items():
            body = ast.parse(text).body
            for node in ast.walk(ast.Module(body, [])):
                if isinstance(node, ast.Name) and "__" in node.id:
                    node.id = node.id.replace("__", ".")
                    places.add(node.id)
            made[name] = FlatFunction(name, None, {}, "", body)  # type: ignore[arg-type]
        found = needed(FlatProgram(made, {n: Global(n, "f") for n in places}, ("ask",)), outputs)
        return "; ".join(ast.unparse(ast.Module(f.body, [])).replace("\n", "; ") for f in found.functions.values())

    def test_what_decides_an_early_return_is_needed(self) -> None:
        first = "if row__a__x > 0.0:\n    return\nrow__out__x = 1.0"
        ask = "row__a__x = row__b__x * 2.0\nrow__c__x = row__b__x\nfirst()"
        left = self.left("row.out.x", first=first, ask=ask)
        self.assertIn("row.a.x = row.b.x * 2.0", left)
        self.assertNotIn("row.c.x", left)

    def test_what_is_remembered_for_an_output_is_needed_in_the_tick_before(self) -> None:
        ask = "remember('s')\nrow__out__x = was__s__x\nkept__s__x = row__in__x\nkept__s__y = row__in__x"
        left = self.left("row.out.x", ask=ask)
        self.assertIn("kept.s.x = row.in.x", left)
        self.assertIn("remember('s')", left)
        self.assertNotIn("kept.s.y", left)


class WrittenTest(TempCase):
    def test_the_folder_and_ones_own_code(self) -> None:
        folder = self.folder / "board"
        first = write_board(plover(), folder, "c")
        self.assertFalse(first.kept)
        (folder / "mine.c").write_text("/* mine */\n")
        (folder / "rig.h").write_text("/* old */\n")
        second = write_board(plover(), folder, "c")
        self.assertTrue(second.kept)
        self.assertEqual((folder / "mine.c").read_text(), "/* mine */\n")
        self.assertIn("84EE77AC", (folder / "rig.h").read_text())
        self.assertEqual(wire_hash(Line(plover())), "84EE77AC")

    def test_a_folder_with_something_else_is_left_alone(self) -> None:
        (self.folder / "thesis.txt").write_text("mine")
        with self.assertRaisesRegex(SaveError, "holds thesis.txt, and no program of Pivrex"):
            write_board(plover(), self.folder, "c")
        self.assertEqual([p.name for p in self.folder.iterdir()], ["thesis.txt"])

    def test_a_rig_without_pins_says_which_are_missing(self) -> None:
        rig = read_text(PLAIN, self.folder / "plain.toml", Rig)
        found, wiring = board_files(rig, "c")
        self.assertEqual(len(wiring.missing), 2, wiring.missing)
        self.assertIn("left fraction has no pin: mine_give in mine.c gets it", wiring.missing)
        self.assertIn("mine_give(0, value[0]); /* left fraction: it has no pin in the rig */", found["rig.c"])

    def test_counts_are_told_as_they_are_counted(self) -> None:
        link = '[link]\nencoders = "counts"\nwire = { kind = "serial", port = "/dev/ttyUSB0" }\n[gyro]'
        text = board_files(plover_with(("[gyro]", link)), "c")[0]["rig.c"]
        self.assertIn("case 0: put_whole(board_count(COUNT_LEFT)); break; /* sensed.left_travel_counts */", text)
        self.assertIn("case 1: put_whole(board_count(COUNT_RIGHT)); break;", text)
        self.assertNotIn("per_second", text)

    def test_an_encoder_without_pins_is_named_and_a_wheel_without_one_is_not(self) -> None:
        missing = board_files(plover_with(("encoder_pins = [2, 3]     # A and B\n", "")), "c")[1].missing
        self.assertIn(
            "left has counts_per_turn but no encoder_pins: mine_sense in mine.c may return left travel (m)", missing
        )
        without = ("counts_per_turn = 12      # of the shaft\n", ""), ("encoder_pins = [2, 3]     # A and B\n", "")
        found, wiring = board_files(plover_with(*without), "c")
        self.assertFalse([m for m in wiring.missing if "left" in m])
        self.assertNotIn("case 0:", found["rig.c"])  # an empty field

    def test_names_that_are_words_of_c(self) -> None:
        text = PLAIN.replace("[motors.left]", "[motors.while]").replace("[motors.right]", "[motors.int]")
        write_board(read_text(text, self.folder / "plain.toml", Rig), self.folder / "board", "c")
        subprocess.run(["make", "-s", "-C", self.folder / "board"], check=True)

    def test_each_value_reaches_its_pin_and_its_sign_stays(self) -> None:
        """What leaves, on a rig with every kind of output that has pins: by the tables of docs/wire.md."""
        text = changed(
            demo_path("plover").read_text("utf-8"),
            ('kind = "magnitude"        # 0 to 255, and a pin that says which way', 'kind = "three pins"'),
            ("pin = 5\ndirection_pin = 4", "enable_pin = 5\nforward_pin = 4\nbackward_pin = 17"),
            ('kind = "magnitude"\n', 'kind = "two pins"\n'),
            ("pin = 6\ndirection_pin = 7", "forward_pin = 6\nbackward_pin = 7"),
        )
        found = board_files(read_text(text, demo_path("plover"), Rig), "c")[0]["rig.c"]
        lines = re.findall(r"board_(\w+)\((\w+), \D*(\d)", found.replace("REST_VALUES", ""))
        self.assertEqual(
            lines[:7],
            [
                ("pwm", "PWM_LEFT_DUTY", "0"), ("level", "LEVEL_LEFT_FORWARD", "1"), ("level", "LEVEL_LEFT_BACKWARD", "2"),
                ("pwm", "PWM_RIGHT_FORWARD_DUTY", "3"), ("pwm", "PWM_RIGHT_BACKWARD_DUTY", "4"), ("pulse", "PULSE_SPOUT_PULSE", "5"),
                ("level", "LEVEL_PUMP_PIN", "6"),
            ],
        )  # fmt: skip

    def test_what_a_count_is_and_which_way_it_counts(self) -> None:
        """A turn of the wheel, 2 pi times 32 mm, is 30 times 12 counts."""
        each = 2 * np.pi * 0.032 / 360
        for more, sign in (("", ""), ("encoder_reversed = true\n", "-")):
            rig = plover_with(("encoder_pins = [2, 3]", f"{more}encoder_pins = [2, 3]"))
            found = board_files(rig, "c")[0]["rig.c"]
            (share,) = re.findall(r"board_count\(COUNT_LEFT\) \* (-?)R\(([\d.]+)\)", found)
            self.assertEqual(share[0], sign)
            self.assertAlmostEqual(float(share[1]), each, delta=1e-12)


class RefusedTest(unittest.TestCase):
    """What a chip cannot do is said, with the key in the rig."""

    def refused(self, *pairs: tuple[str, str]) -> str:
        with self.assertRaises(RigError) as refused:
            board_files(plover_with(*pairs), "avr")
        return str(refused.exception)

    def test_pins(self) -> None:
        for old, new, said in (
            (
                "encoder_pins = [8, 9]",
                'encoder_pins = [8, "A6"]',
                "pin A6 of the atmega328p measures a voltage, and can do nothing else",
            ),
            (
                "pin = 5\n",
                "pin = 4\n",
                "motors.left.output.pin: pin 4 of the atmega328p makes no PWM; 3, 5, 6, 9 to 11 do",
            ),
            ("pin = 5\n", "pin = 99\n", 'is "99", which the atmega328p does not have'),
            ("pin = 11", "pin = 0", "attachments.pump.output.pin: pin 0 is the serial line's"),
            ("pin = 11", 'pin = "PD5"', "is PD5, which motors.left.output.pin uses already"),
            ('pwm = "1 kHz"', 'pwm = "20 kHz"', "sits on timer 0, which keeps the time: it makes 977 Hz with 8 bits"),
            ("bits = 8", "bits = 10", "not 1000 Hz and 1023 steps"),
            (GYRO_PIN, "pin = 11\n", "pin 11 of the atmega328p measures no voltage"),
        ):
            with self.subTest(new):
                swapped = [("direction_pin = 4", "direction_pin = 16")] if new == "pin = 4\n" else []
                pump = [("output = { pin = 11 }", "output = { pin = 19 }")] if old == GYRO_PIN else []
                self.assertIn(said, self.refused((old, new), *swapped, *pump))

    def test_two_that_want_one_timer(self) -> None:
        pairs = (("pin = 5\n", "pin = 9\n"), ("encoder_pins = [8, 9]", "encoder_pins = [8, 16]"))
        self.assertIn(
            "servo pulses need a timer of 16 bits for themselves, and motors.left.output.pin has", self.refused(*pairs)
        )
        both = (("pin = 5\n", "pin = 3\n"), ("encoder_pins = [2, 3]", "encoder_pins = [2, 16]"), ("pin = 11", "pin = 19"),
                ("pin = 6\n", "pin = 11\n"), ('pwm = "1 kHz"', 'pwm = "500 Hz"'))  # fmt: skip
        self.assertIn(
            "sits on timer 2 as motors.left.output.pin does, which wants 500 Hz and 255 steps, not 1000 Hz",
            self.refused(*both),
        )

    def test_an_encoder_on_the_large_chip(self) -> None:
        pairs = ("encoder_pins = [2, 3]", "encoder_pins = [30, 31]"), ('chip = "atmega328p"', 'chip = "atmega2560"')
        self.assertIn(
            "pin 30 of the atmega2560 does not notice when it changes; 0, 2, 3, 10 to 15, 18 to 21, 50 to 53, A8 to A15 do",
            self.refused(*pairs),
        )

    def test_a_link_that_the_chip_does_not_have(self) -> None:
        udp = '[link]\nwire = { kind = "udp", host = "127.0.0.1", port = 5810 }\n[gyro]'
        self.assertIn(
            'link.wire.kind: is "udp", but the atmega328p has a serial line only', self.refused(("[gyro]", udp))
        )
        fast = udp.replace(
            'kind = "udp", host = "127.0.0.1", port = 5810', 'kind = "serial", port = "x", baud = 921600'
        )
        self.assertIn("link.wire.baud: is 921600", self.refused(("[gyro]", fast)))

    def test_pins_twice_and_half_an_encoder(self) -> None:
        for old, new, said in (
            ("encoder_pins = [8, 9]", "encoder_pins = [8, 2]", "is pin 2, which motors.left.encoder_pins uses already"),
            ("encoder_pins = [8, 9]", "encoder_pins = [8]", "has 1 pins; an encoder has two, A and B"),
        ):
            with self.assertRaisesRegex(RigError, said):
                plover_with((old, new))

    def test_the_pins_of_the_chips(self) -> None:
        """Against the tables of the data sheets: which pins of the board make PWM, and which notice a change."""
        small, large = CHIPS["atmega328p"].pins, CHIPS["atmega2560"].pins
        self.assertEqual([k for k in range(20) if small[str(k)].pwm], [3, 5, 6, 9, 10, 11])
        self.assertEqual([k for k in range(54) if large[str(k)].pwm], [*range(2, 14), 44, 45, 46])
        self.assertEqual([k for k in range(54) if large[str(k)].edge.startswith("INT")], [2, 3, 18, 19, 20, 21])
        self.assertEqual((small["A5"].name, large["A15"].name, large["53"].name), ("PC5", "PK7", "PB0"))
        self.assertEqual((small["A7"].name, small["A7"].analogue), ("ADC7", 7))
        self.assertEqual(CHIPS["atmega2560"].timer_addresses(large["46"]), (0x120, 7, 0x128))


class CommandTest(TempCase):
    def test_it_is_written_and_told(self) -> None:
        ran = Ran("board", str(demo_path("plover")), "--for", "c", "-o", str(self.folder / "out"), "--json")
        said = json.loads(ran.out)
        self.assertEqual((said["hash"], said["for"], said["fits"]), ("84EE77AC", "c", None))
        self.assertIn("here.c", said["files"])
        self.assertIn("post has no pin: mine_sense in mine.c may return it", said["missing"])

    def test_a_mistake_has_its_line(self) -> None:
        text = changed(demo_path("plover").read_text("utf-8"), ("output = { pin = 11 }", "output = { pin = 0 }"))
        rig = self.write("rigs/bad.toml", text)
        line = text[: text.index("output = { pin = 0 }")].count("\n") + 1
        ran = Ran("board", str(rig), "-o", str(self.folder / "out"))
        self.assertIn(f"bad.toml:{line}: attachments.pump.output.pin: pin 0 is the serial line's", ran.err)
        self.assertFalse((self.folder / "out").exists())

    def test_without_a_compiler_for_the_chip(self) -> None:
        with (
            patch.dict("os.environ", {"PATH": str(self.folder)}),
            self.assertRaisesRegex(PivrexError, "apt-get install gcc-avr"),
        ):
            built_program(self.folder)

    @slow
    def test_the_proof_with_a_recording(self) -> None:
        recording = demo_path("plover").parents[1] / "inputs" / "watering.csv"
        ran = Ran("board", str(demo_path("plover")), str(recording), "--prove", "--json")
        said = json.loads(ran.out)
        self.assertTrue(said["holds"])
        self.assertEqual((said["differ"], said["ticks"]), (0, 2516))
        if which("avr-gcc"):
            self.assertEqual(said["chip"]["differ"], 0)
            self.assertLess(said["chip"]["us_most"], 1e6 / 60)


@WITH_CHIP
class ChipTest(TempCase):
    """The program in an emulated chip."""

    @slow
    def test_the_line_on_the_chip_is_the_line_in_float(self) -> None:
        for name in ("plover", "avocet")[: often(2, 1)]:
            line = Line(read_rig(demo_path(name)))
            ticks = own_ticks(line, 300)
            found = run_on_chip(line, ticks, prove(line, ticks)[1])
            self.assertEqual(found.differ, 0, name)
            self.assertLess(found.us_mean, 1e6 / 60, name)
            self.assertLess(found.ram + found.stack, CHIPS[found.chip].ram)

    def test_a_tick_that_is_wrong_on_the_chip_is_found(self) -> None:
        line = Line(plover())
        ticks = own_ticks(line, 60)
        floats = prove(line, ticks)[1].copy()
        floats[30, line.outputs.commands.start] += 1.0
        self.assertEqual(run_on_chip(line, ticks, floats).differ, 1)

    def test_plover_fits_into_the_smaller_chip_and_eight_wheels_into_the_larger(self) -> None:
        write_board(plover(), self.folder / "small", "avr")
        flash, ram = sizes_of(built_program(self.folder / "small"))
        self.assertLess(flash, CHIPS["atmega328p"].flash / 3)
        self.assertLess(ram + STACK, CHIPS["atmega328p"].ram / 2)

    def test_a_relative_folder(self) -> None:
        self.addCleanup(os.chdir, Path.cwd())
        os.chdir(self.folder)
        fit = reported(plover(), Path("mine"), "avr").fit
        assert fit is not None
        self.assertGreater(fit.flash, 5000, fit.said)

    def test_a_line_that_does_not_fit_says_so_with_its_number(self) -> None:
        motors = "".join(f'[attachments.m{k}]\nkind = "motor"\noutput = {{ kind = "fraction" }}\n' for k in range(58))
        line = Line(read_text(PLAIN + motors, self.folder / "long.toml", Rig))
        with self.assertRaisesRegex(PivrexError, r"needs [\d,]+ bytes of memory, more than its chip has"):
            run_on_chip(line, own_ticks(line, 2), np.zeros((2, len(line.layout))))


class EmulatedCase(unittest.TestCase):
    """A rig's program in the chip, with its body at the pins, by a clock of the test's own."""

    FIELD: Field | None = None

    def make_rig(self) -> Rig:
        return plover()

    def setUp(self) -> None:
        self.rig = self.make_rig()
        self.hash = wire_hash(Line(self.rig))
        self.robot = EmulatedRobot(self.rig, self.FIELD, 0.0)
        self.addCleanup(self.robot.close)
        self.now, self.seq, self.stamp, self.buffer = 0.0, 0, 0, b""
        self.sensed: list[Any] = []
        self.heard: list[str] = []

    def pass_time(self, seconds: float) -> None:
        self.now += seconds
        for data in self.robot.step(self.now):
            self.buffer += data
        *lines, self.buffer = self.buffer.split(b"\r\n")
        for line in lines:
            body = unframe(line)
            self.heard.append(body)
            if body.startswith("PIVSEN"):
                back, values = read_sensed(body.split(","), len(body.split(",")) - 4)
                self.stamp = back.stamp
                self.sensed.append((back, values))

    def say(self, drive: bool, *values: float, **other: Any) -> None:
        self.seq = other.get("seq", self.seq + 1)
        out = Out(self.seq, other.get("echo", self.stamp), drive)
        self.robot.take(b"".join(out_sentences(out, other.get("rig", self.hash), np.array(values))), "", self.now)
        self.pass_time(0.02)

    def drive(self, seconds: float, *values: float) -> None:
        for _ in range(round(seconds / 0.02)):
            self.say(True, *values)

    REST: tuple[float, ...] = (0.0, 1.0, 0.0, 1.0, 1000.0, 0.0)
    DRIVEN: tuple[float, ...] = (200.0, 1.0, 150.0, 0.0, 1750.0, 1.0)

    def reach_driving(self) -> None:
        self.pass_time(0.1)
        self.say(False, *self.REST)
        self.say(False, *self.REST)
        self.drive(0.2, *self.DRIVEN)

    def assert_told(self, values: tuple[float, ...]) -> None:
        for got, wanted in zip(self.robot.commands, values, strict=True):
            self.assertAlmostEqual(got, wanted, delta=3.0 if wanted in (1000.0, 1750.0) else 0.0)

    def assert_counted(self, min_m: float) -> None:
        """Let it come to rest: then what it says of its wheels must be what they rolled, to a count."""
        for _ in range(60):
            self.say(False, *self.REST)
        for k in (0, 1):  # both forward: the right motor is mounted the other way round
            self.assertGreater(self.robot._sensed[k], min_m)
            self.assertAlmostEqual(self.sensed[-1][1][k], self.robot._sensed[k], delta=0.001)


@WITH_CHIP
class EmulatedTest(EmulatedCase):
    """Plover's."""

    def test_pins_get_what_was_said_and_encoders_say_what_was_driven(self) -> None:
        self.reach_driving()
        self.assert_told(self.DRIVEN)
        self.drive(1.0, *self.DRIVEN)
        back, values = self.sensed[-1]
        self.assertEqual(back.state, 1)
        for k in (0, 1):
            self.assertAlmostEqual(values[2 + k], self.robot._sensed[2 + k], delta=0.05)  # m/s
        self.assert_counted(0.3)
        self.assertAlmostEqual(self.heard.index(f"PIVHEY,Plover,{self.hash}"), 0)

    def test_a_hundred_sentences_a_second_are_all_answered(self) -> None:
        self.reach_driving()
        before = len(self.sensed)
        for _ in range(100):
            self.seq += 1
            out = out_sentences(Out(self.seq, self.stamp, True), self.hash, np.array(self.DRIVEN))
            self.robot.take(b"".join(out), "", self.now)
            self.pass_time(0.01)
        self.assertGreaterEqual(len(self.sensed) - before, 99)
        self.assertGreaterEqual(self.sensed[-1][0].ack, self.seq - 2)

    def test_a_duty_beyond_what_its_pin_takes_is_the_most_of_it(self) -> None:
        self.reach_driving()
        self.drive(0.1, 1e20, 1.0, -5.0, 0.0, 99999.0, 1.0)
        self.assertEqual((self.robot.commands[0], self.robot.commands[2]), (255.0, 0.0))
        self.assertAlmostEqual(self.robot.commands[4], 2500, delta=3)

    def test_rest_is_at_once_and_the_watchdog_within_0_3_s(self) -> None:
        self.reach_driving()
        self.say(False, *self.REST)
        self.assertTrue(self.robot.commands[0] == self.robot.commands[2] == 0.0)
        self.drive(0.2, *self.DRIVEN)
        self.assert_told(self.DRIVEN)
        self.pass_time(0.1)
        self.assertEqual(self.robot.commands[0], 200.0)
        self.pass_time(0.1)
        self.assert_told(self.REST)
        self.drive(0.3, *self.DRIVEN)  # a robot that was left alone does not start again by itself
        self.assertEqual(self.robot.commands[0], 0.0)
        self.assertEqual(self.sensed[-1][0].state, 2)
        _, ram = sizes_of(self.robot.program)
        used = CHIPS["atmega328p"].ram - ram - self.robot.never_used
        self.assertTrue(50 < used < STACK, used)

    def test_sixty_sentences_that_move_nothing(self) -> None:
        self.reach_driving()
        for k in range(20):
            seq = self.seq
            self.say(True, 90.0, 0.0, 90.0, 0.0, 1000.0, 0.0, seq=seq - k)  # repeated and late
            self.seq = seq
            self.say(True, 90.0, 0.0, 90.0, 0.0, 1000.0, 0.0, rig="00000000")  # of another rig
            body = f"PIVOUT,{self.seq + 1},{self.stamp},1,{self.hash},90,0,90,0,1000,0"
            self.robot.take(frame(body).replace(b"90,0,1", b"91,0,1"), "", self.now)  # forged: its check is wrong
            self.pass_time(0.005)
            self.assertEqual(self.robot.commands[0], 200.0)
            self.say(True, *self.DRIVEN)
        old = (self.stamp - 400) % 65536
        self.say(True, 90.0, 0.0, 90.0, 0.0, 1000.0, 0.0, echo=old)
        self.assertEqual(self.robot.commands[0], 200.0)

    def test_counts_at_top_speed_with_a_full_serial_line(self) -> None:
        self.reach_driving()
        self.drive(2.0, 255.0, 1.0, 255.0, 0.0, 1000.0, 0.0)
        self.assert_counted(1.5)


@WITH_CHIP
class SensorsTest(EmulatedCase):
    """Voltages at the pins of the converter: the battery behind its divider, and a gyro that says its rate."""

    def make_rig(self) -> Rig:
        battery = '[battery]\nsensed = true\npin = "A3"\nr1 = "20 kohm"\nr2 = "10 kohm"\n[gyro]\npin = "A2"\n'
        return plover_with(("[gyro]\n" + GYRO_PIN, battery), ('"A2"\nbutton_0 = "A3"', '"A5"'))

    def test_the_battery_and_a_turn(self) -> None:
        columns = [c.name for c in Line(self.rig).stages["sensed"].columns]
        gyro, battery = columns.index("gyro"), columns.index("battery")
        for _ in range(60):  # the gyro's voltage at rest is measured in the first second
            self.pass_time(0.02)
        self.reach_driving()
        self.assertAlmostEqual(self.sensed[-1][1][battery], self.robot._sensed[battery], delta=0.1)
        before = self.robot._sensed[gyro]
        self.drive(1.0, 90.0, 0.0, 90.0, 0.0, 1000.0, 0.0)  # left back, right ahead
        for _ in range(40):
            self.say(False, *self.REST)
        turned = self.robot._sensed[gyro] - before
        self.assertGreater(abs(turned), 1.0)
        self.assertAlmostEqual(self.sensed[-1][1][gyro], self.robot._sensed[gyro], delta=0.05 * abs(turned) + 0.05)


@WITH_CHIP
class RangerTest(EmulatedCase):
    """A ranger's trigger and echo, in the greenhouse of the demo."""

    FIELD = open_folder(demo_path("plover").parents[1]).settings.field

    def test_it_says_how_far_the_wall_is(self) -> None:
        at = [c.name for c in Line(self.rig).stages["sensed"].columns].index("front")
        self.robot.body = self.robot.body._replace(pose=np.array([4.0, 0.6, 0.0]))  # the wall stands at 5 m
        self.pass_time(0.1)
        for _ in range(50):
            self.say(False, *self.REST)
        true = float(self.robot._sensed[at])
        self.assertAlmostEqual(true, 1.0 - 0.11, delta=0.03)  # it sits 110 mm ahead
        found = [values[at] for _, values in self.sensed[20:]]
        heard = [value for value in found if value]  # now and then a sound does not come back
        self.assertGreater(len(heard), 0.8 * len(found))
        self.assertLess(np.ptp(heard), 0.05)
        self.assertAlmostEqual(float(np.median(heard)), true, delta=0.02)


class FitTest(TempCase):
    def test_whether_there_is_room_for_the_stack(self) -> None:
        for key, ram, refused in (
            (b"", 1848, False),
            (b"", 1849, True),
            (bytes(16), 1648, False),
            (bytes(16), 1649, True),
        ):
            with (
                patch("pivrex.board.report.built_program"),
                patch("pivrex.board.report.sizes_of", return_value=(9000, ram)),
            ):
                report = reported(plover().with_secret(key), self.folder / "board", "avr")
            self.assertEqual(report.refused, refused, report.fit)
            assert report.fit is not None
            self.assertEqual("the atmega2560 has more" in report.fit.said, refused)


@WITH_CHIP
class TenBitsTest(EmulatedCase):
    """Duties of ten bits, on a timer of sixteen."""

    def make_rig(self) -> Rig:
        output = 'output = { kind = "fraction" }'
        each = 'output = {{ kind = "magnitude", bits = 10, pwm = "2 kHz", pin = {}, direction_pin = {} }}'
        text = changed(PLAIN, (output, each.format(9, 4)), (output, each.format(10, 7)))
        return read_text(text, Path("ten.toml"), Rig)

    def test_each_reaches_its_pin(self) -> None:
        self.REST, self.DRIVEN = (0.0, 1.0, 0.0, 1.0), (512.0, 1.0, 1023.0, 0.0)
        self.reach_driving()
        self.assert_told(self.DRIVEN)
        self.drive(0.1, 1.0, 0.0, 511.0, 1.0)
        self.assert_told((1.0, 0.0, 511.0, 1.0))


@WITH_CHIP
class SealedTest(EmulatedCase):
    """A rig with a key."""

    KEY = bytes(range(16))

    def make_rig(self) -> Rig:
        return plover().with_secret(self.KEY)

    def test_it_obeys_what_is_sealed_for_this_start_and_nothing_else(self) -> None:
        session = stamp = 0
        said = b""
        for k in range(60):
            said += b"".join(self.robot.step(0.04 * k))
            *lines, said = said.split(b"\r\n")
            for line in lines:
                body, session = Seal(self.KEY).open(unframe(line))
                stamp = int(body.split(",")[1]) if body.startswith("PIVSEN") else stamp
            reported = self.DRIVEN if k > 20 else self.REST
            sign = partial(sealed, self.KEY if k < 50 else bytes(16), session=session)
            sentences = out_sentences(Out(k + 1, stamp, k > 20), self.hash, np.array(reported), sign)
            self.robot.take(b"".join(sentences), "", 0.04 * k)
            if k == 48:
                self.assert_told(self.DRIVEN)
        self.assert_told(self.REST)  # what another key has sealed feeds no watchdog

        _, ram = sizes_of(self.robot.program)
        used = CHIPS["atmega328p"].ram - ram - self.robot.never_used
        self.assertGreater(used, STACK)  # the seal is what needs it
        self.assertLess(used, SEALED_STACK)


@WITH_CHIP
@slow
class LiveTest(WholeProgramCase):
    """The program in the chip is driven from the real screen, over a pseudo-terminal; what docs/safety.md promises holds for it."""

    def test_driven_by_keys_killed_and_frozen(self) -> None:
        for how in (signal.SIGKILL, signal.SIGSTOP):
            self.open(self.demo() / "rigs" / "plover.toml", on_board=True)
            self.drive()
            for pid in self.terminal.pids():
                os.kill(pid, how)
            cut = time.monotonic()
            time.sleep(1.0)
            moved_s, stalled_s = self.robot.moved_on(cut)
            self.assertLessEqual(moved_s, WITHIN_S + stalled_s)
            self.assertFalse(self.robot.drives)
            self.doCleanups()
            self.setUp()


class SheetTest(unittest.TestCase):
    """What the screen shows of a board's program."""

    REPORT = BoardReport(
        "Plover", Path("boards/plover"), "atmega328p", "84EE77AC", ["main.c", "rig.h"],
        ["post has no pin: mine_sense in mine.c may return it"],
        True, [], Fit("fits", False, 7764, 32256, 564, 2048),
        [(str(k), f"pin {k}" if k != 6 else "") for k in range(14)] + [(f"A{k}", "") for k in range(6)],
    )  # fmt: skip

    def shown(self, report: BoardReport | None, width: int) -> list[str]:
        return draw_board(report, "", width).rows()

    def test_what_fits_and_what_sits_where(self) -> None:
        for width in (76, 150):
            rows = self.shown(self.REPORT, width)
            said = "\n".join(rows)
            for word in (
                "7,764 of 32,256 bytes",
                "564 of 2,048 bytes",
                "mine.c stays",
                "make -C boards/plover load",
                "post has no pin",
            ):
                self.assertIn(word, said)
            pins = [r for r in rows if "┤" in r]
            self.assertEqual(len(pins), 10)
            self.assertRegex(pins[0], r"pin 0  ┤0 +10├  pin 10")
            self.assertRegex(pins[6], r"^ +┤6 +A2├ *$")
            bars = [r.count("█") for r in rows if "█" in r]
            self.assertEqual(bars, [6, 7])  # 24 % and 28 % of 24

    def test_in_a_narrow_window_pins_stand_below_each_other(self) -> None:
        rows = self.shown(self.REPORT, 50)
        self.assertIn("  6  free", "\n".join(rows))
        self.assertLessEqual(max(len(r.rstrip()) for r in rows), 50)

    def test_what_the_chip_cannot_is_said_and_nothing_else(self) -> None:
        said = "\n".join(
            self.shown(
                BoardReport("P", Path("b"), "atmega328p", wrong=["motors.left.output.pin: pin 4 makes no PWM"]), 80
            )
        )
        self.assertIn("! motors.left.output.pin: pin 4 makes no PWM", said)
        self.assertNotIn("onto the board", said)

    def test_while_it_is_written(self) -> None:
        self.assertIn("writing and building", "\n".join(self.shown(None, 80)))


WRITING = board_sheet.BoardWriting


class OnScreenTest(AppCase):
    def writing(self, model: ScreenModel) -> board_sheet.BoardWriting:
        self.made = WRITING(model)
        return self.made

    @in_loop
    async def test_a_key_writes_it_into_the_workspace(self) -> None:
        async with self.running(view="driver"):
            with patch.object(board_sheet, "BoardWriting", self.writing):
                await self.press("@")
            await self.until(lambda: self.made.drawn(100) and self.made.report is not None)
            report = self.made.report
            assert report is not None
            self.assertEqual(report.hash, "84EE77AC")
            pins = dict(report.pins)
            self.assertEqual(
                [pins[n] for n in ("0", "3", "4", "5", "10", "13", "A0")],
                ["link in", "left encoder B", "left direction", "left PWM", "spout", "front echo", ""],
            )
            self.assertTrue((self.home / "boards" / "plover" / "rig.h").exists())
            await self.press("escape")


if __name__ == "__main__":
    unittest.main()
