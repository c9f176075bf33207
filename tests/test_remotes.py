"""What remotes say, read: every kind of message, good and bad, and random bytes of all kinds."""

import math
import random
import unittest
import zlib
from collections.abc import Mapping

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import TypeAdapter

from pivrex.devices.decode.frames import crc8
from pivrex.devices.decode.message import FAULTS, Message, Reader
from pivrex.devices.decode.readers import reader_of
from pivrex.devices.encode import frame_of, line_of, packet_of
from pivrex.devices.health import Tally
from pivrex.devices.robot_sentences import (
    Back,
    Out,
    Parts,
    back_columns,
    out_sentences,
    read_out,
    read_sensed,
    sensed_sentences,
    wire_hash,
)
from pivrex.devices.sentence import frame, unframe
from pivrex.line import Line
from pivrex.rig import Rig, read_rig
from pivrex.rig.sources import FramesSource, LettersSource, NumbersSource, PacketsSource, RigSource
from tests.chassis import ALL, PLANAR, Wheel, bare, demo_path, rig_of
from tests.support import DEMO, often, slow

UDP = {"kind": "udp", "port": 5800}
NUMBERS = {"kind": "numbers", "wire": UDP, "columns": ["left_x", "left_y", "button_0"], "silent_after": "0.2 s"}
LABELLED = {"kind": "numbers", "wire": UDP, "labels": {"x": "left_x", "Y": "left_y"}, "silent_after": "0.2 s"}
LETTERS = {"kind": "letters", "wire": UDP, "letters": {"F": "forward 50 %", "f": "brake", "S": "brake", "u": "record",
           "t": "turn left 40 % for 300 ms"}}  # fmt: skip
PACKETS = {"kind": "packets", "wire": UDP, "sender": "green", "columns": ["left_x", "left_y"], "silent_after": "0.2 s"}
FRAMES = {
    "kind": "frames", "wire": UDP, "mark": [0xAA, 0x55], "length": 3, "check": "sum", "silent_after": "0.2 s",
    "fields": [
        {"channel": "left_y", "bit": 0, "width": 8, "offset": -128, "scale": 0.0078125},
        {"channel": "right_y", "bit": 8, "width": 10, "offset": -512, "scale": 0.001953125},
        {"channel": "button_0", "bit": 23},
    ],
}  # fmt: skip
GROUPS = {"F": "motion", "f": "motion", "S": "motion", "t": "motion", "u": ""}


def source(table: Mapping[str, object]) -> RigSource:
    return TypeAdapter(RigSource).validate_python(table)


def reader(table: Mapping[str, object]) -> Reader:
    return reader_of(source(table), GROUPS)  # type: ignore[arg-type]


def feed(one: Reader, data: bytes, at_s: float = 0.0) -> list[Message]:
    return list(one.feed(data, at_s))


class NumbersTest(unittest.TestCase):
    def test_any_separator_will_do(self) -> None:
        for text in ("0 1023 1", "0,1023,1", "0;1023;1", " 0\t1023 | 1 ", "[0/1023/1]"):
            (message,) = feed(reader(NUMBERS), text.encode() + b"\r\n")
            self.assertEqual(message.readings, {"left_x": -1.0, "left_y": 1.0, "button_0": 1.0}, text)

    def test_half_way_is_rest_whatever_the_bits(self) -> None:
        for bits in (8, 10, 12, 16):
            top = 2**bits - 1
            (message,) = feed(reader({**NUMBERS, "high": top}), f"{top / 2} {top} 0\n".encode())
            assert message.readings is not None
            self.assertEqual((message.readings["left_x"], message.readings["left_y"]), (0.0, 1.0))

    def test_labels_in_any_order_with_others_between(self) -> None:
        one = reader(LABELLED)
        (message,) = feed(one, b"y=1023, battery: 7.4 X:0\n")
        self.assertEqual(message.readings, {"left_y": 1.0, "left_x": -1.0})
        (half,) = feed(one, b"x:1023\n")
        self.assertEqual(half.readings, {"left_x": 1.0})
        self.assertEqual(one.current(0), {"left_y": 1.0, "left_x": 1.0})

    def test_lines_come_in_pieces(self) -> None:
        one = reader(NUMBERS)
        self.assertEqual(feed(one, b"0 10"), [])
        (message,) = feed(one, b"23 0\n5")
        self.assertEqual(message.text, "0 1023 0")

    def test_what_cannot_be_read_says_why(self) -> None:
        for line, why in (
            (b"512 512", "2 numbers, but the rig says 3"),
            (b"512 5x2 0", "something else than numbers"),
            (b"512 9999 0", "left_y is 9999, outside 0 to 1023"),
            (b"\xff\xfe12 0 0", "not ASCII; a wrong rate looks like this"),
            (b"1" * 300, "longer than 240 bytes"),
            (b"512 nan 0", "something else than numbers"),
            (b"1e999 0 0", "'1e999' is no number"),
            (b"0" * 30 + b" 0 0", "a number of 30 characters"),
        ):
            (message,) = feed(reader(NUMBERS), line + b"\n")
            self.assertEqual((message.readings, message.fault), (None, "damaged"))
            self.assertIn(why, message.reason)

    def test_a_stick_says_what_is_read_back(self) -> None:
        spec = source(NUMBERS)
        assert isinstance(spec, NumbersSource)
        (message,) = feed(reader(NUMBERS), line_of(spec, {"left_x": -0.5, "left_y": 0.25, "button_0": 1}))
        assert message.readings is not None
        self.assertAlmostEqual(message.readings["left_x"], -0.5, delta=1 / 1023)
        self.assertAlmostEqual(message.readings["left_y"], 0.25, delta=1 / 1023)


class LettersTest(unittest.TestCase):
    def test_a_motion_lasts_until_the_next_motion(self) -> None:
        one = reader(LETTERS)
        feed(one, b"F\r\n", 0.0)
        self.assertTrue(one.current(0.5)["letter F"])
        feed(one, b"u", 0.5)  # what is done once does not end it
        self.assertTrue(one.current(0.55)["letter F"] and one.current(0.55)["letter u"])
        self.assertFalse(one.current(0.9)["letter u"])
        feed(one, b"f", 0.9)
        self.assertEqual((one.current(0.9)["letter F"], bool(one.current(0.9)["letter f"])), (0.0, True))

    def test_a_motion_that_nobody_says_again_ends(self) -> None:
        for more, after_s in (({}, 1.0), ({"lasting": "300 ms"}, 0.3)):
            one = reader({**LETTERS, **more})
            feed(one, b"F", 5.0)
            feed(one, b"F", 5.2)
            self.assertTrue(one.current(5.2 + after_s - 0.01)["letter F"])
            self.assertFalse(one.current(5.2 + after_s)["letter F"])

    def test_what_was_dropped_unread_may_have_said_stop(self) -> None:
        one = reader(LETTERS)
        feed(one, b"F", 0.0)
        one.left_out(1)
        self.assertFalse(one.current(0.1)["letter F"])

    def test_one_for_a_set_time_ends_by_itself(self) -> None:
        one = reader(LETTERS)
        feed(one, b"t", 1.0)
        self.assertTrue(one.current(1.29)["letter t"])
        self.assertFalse(one.current(1.31)["letter t"])

    def test_the_same_letter_again_reads_otherwise(self) -> None:
        one = reader(LETTERS)
        feed(one, b"u", 0.0)
        first = one.current(0.0)["letter u"]
        feed(one, b"uu", 0.01)
        self.assertNotEqual(one.current(0.01)["letter u"], first)

    def test_upper_and_lower_case(self) -> None:
        (message,) = feed(reader(LETTERS), b"s")
        self.assertEqual((message.fault, message.reason), ("unknown", "no letter of this rig"))
        letters = {"F": "forward", "S": "brake"}
        (message,) = feed(reader({**LETTERS, "letters": letters, "either_case": True}), b"s")
        self.assertIn("letter S", message.readings or {})


class PacketsTest(unittest.TestCase):
    def setUp(self) -> None:
        self.spec = source(PACKETS)
        assert isinstance(self.spec, PacketsSource)
        self.one = reader(PACKETS)

    def send(self, seq: int, **readings: float) -> Message:
        assert isinstance(self.spec, PacketsSource)
        (message,) = feed(self.one, packet_of(self.spec, readings, seq))
        return message

    def test_a_packet_written_by_hand(self) -> None:
        # the check worked out by hand: the exclusive-or of all bytes between $ and *
        body = b"PIVDRV,green,7,0.5,-1,21"
        check = 0
        for byte in body:
            check ^= byte
        (message,) = feed(self.one, b"$" + body + f"*{check:02x}\n".encode())
        assert message.readings is not None
        self.assertEqual((message.readings["left_x"], message.readings["left_y"]), (0.5, -1.0))
        pressed = [c for c, v in message.readings.items() if c.startswith("button_") and v]
        self.assertEqual(pressed, ["button_0", "button_5"])  # 0x21

    def test_order_is_told_apart(self) -> None:
        self.send(100)
        self.assertEqual(self.send(105).missed, 4)
        late = self.send(103)
        self.assertEqual(
            (late.fault, late.missed, late.reason), ("out of order", -1, "number 103 is 2 behind the newest")
        )
        self.assertEqual(self.send(103).fault, "repeated")
        self.assertEqual(self.send(105).fault, "repeated")
        self.assertEqual(self.send(60).fault, "old")
        self.assertEqual(self.send(106).fault, "")

    def test_numbers_go_round(self) -> None:
        self.send(65534)
        self.assertEqual([self.send(n).fault for n in (65535, 0, 1)], ["", "", ""])
        self.assertEqual(self.send(65535).fault, "repeated")

    def test_refused_ones_move_nothing(self) -> None:
        self.send(10, left_x=0.25)
        for data, fault in (
            (frame("PIVDRV,blue,11,1,1,0"), "foreign"),
            (frame("PIVDRV,green,9,1,1,0"), "out of order"),
            (frame("PIVDRV,green,12,1e9,1,0"), "damaged"),
            (frame("PIVDRV,green,12,nan,1,0"), "damaged"),
            (frame("PIVDRV,green,12,1,1"), "damaged"),
            (frame("PIVDRV,green,70000,1,1,0"), "damaged"),
            (frame("PIVDRV,green,12,1,1,FFFFFFFFFF"), "damaged"),
            (frame("GPGGA,1"), "unknown"),
            (b"$PIVDRV,green,12,1,1,0*00\r\n", "damaged"),
        ):
            (message,) = feed(self.one, data)
            self.assertEqual((message.fault, message.readings), (fault, None), data)
        self.assertEqual(self.one.current(0)["left_x"], 0.25)

    def test_another_scale(self) -> None:
        one = reader({**PACKETS, "full": 512, "zero": 512})
        (message,) = feed(one, frame("PIVDRV,green,1,0,768,0"))
        assert message.readings is not None
        self.assertEqual((message.readings["left_x"], message.readings["left_y"]), (-1.0, 0.5))

    def test_damaged_ones_are_all_counted(self) -> None:
        chance = random.Random(4)
        tally = Tally()
        assert isinstance(self.spec, PacketsSource)
        damaged = 0
        for seq in range(2000):
            data = bytearray(packet_of(self.spec, {"left_x": chance.uniform(-1, 1)}, seq))
            if chance.random() < 0.2:
                at = chance.randrange(len(data) - 2)
                data[at] ^= 1 << chance.randrange(7) or 1
                if data[at] in b"\r\n":
                    data[at] = 0x7F
                damaged += 1
            for message in feed(self.one, bytes(data)):
                tally.add(message, seq * 0.02)
        self.assertEqual(tally.faults, {"damaged": damaged})
        self.assertEqual(tally.good, 2000 - damaged)
        self.assertLessEqual(abs(tally.missed - damaged), 5)  # those damaged at the very end are missed by no one


class FramesTest(unittest.TestCase):
    def test_the_check_of_the_standard(self) -> None:
        # the check value that catalogues of CRCs give for "123456789" with 0x07 and 0: F4
        self.assertEqual(crc8(b"123456789"), 0xF4)

    def test_bits_written_by_hand(self) -> None:
        # left_y 0x40 -> (64 - 128)/128 = -0.5; right_y 10 bits 11_0000_0000 -> (768 - 512)/512 = 0.5; last bit set
        body = bytes([0x40, 0b11000000, 0b00000001])
        data = bytes([0xAA, 0x55]) + body + bytes([sum(body) & 0xFF])
        (message,) = feed(reader(FRAMES), data)
        self.assertEqual(message.readings, {"left_y": -0.5, "right_y": 0.5, "button_0": 1.0})

    def test_it_finds_the_mark_in_noise(self) -> None:
        spec = source(FRAMES)
        assert isinstance(spec, FramesSource)
        good = frame_of(spec, {"left_y": 0.25})
        messages = feed(reader(FRAMES), b"\x00\x01\xaa" + good + b"\xff" + good)
        self.assertEqual([m.fault for m in messages], ["damaged", "", "damaged", ""])
        self.assertIn("3 bytes without the mark AA 55", messages[0].reason)

    def test_every_check_is_written_and_read(self) -> None:
        for check in ("none", "sum", "xor", "complement", "crc8"):
            spec = source({**FRAMES, "check": check})
            assert isinstance(spec, FramesSource)
            data = frame_of(spec, {"left_y": -0.25, "right_y": 0.5, "button_0": 1})
            (message,) = feed(reader({**FRAMES, "check": check}), data)
            self.assertEqual(message.readings, {"left_y": -0.25, "right_y": 0.5, "button_0": 1.0})
            if check != "none":
                data = data[:-2] + bytes([data[-2] ^ 4]) + data[-1:]
                (message,) = feed(reader({**FRAMES, "check": check}), data)
                self.assertEqual(message.fault, "damaged")

    def test_low_byte_first(self) -> None:
        fields = [{"channel": "left_x", "bit": 0, "width": 16, "low_first": True, "offset": -256, "scale": 0.00390625}]
        table = {**FRAMES, "length": 2, "check": "none", "fields": fields}
        (message,) = feed(reader(table), bytes([0xAA, 0x55, 0x80, 0x00]))  # 0x0080 = 128
        self.assertEqual(message.readings, {"left_x": -0.5})


@slow
class AnyBytesTest(unittest.TestCase):
    """Whatever comes, readers go on, keep little, and never read beyond -1 to 1."""

    def go(self, table: Mapping[str, object], pieces: list[bytes]) -> None:
        one = reader(table)
        for i, piece in enumerate(pieces):
            for message in one.feed(piece, i * 0.01):
                self.assertTrue((message.readings is None) == bool(message.fault))
                self.assertIn(message.fault, ("", *FAULTS))
                self.assertTrue(message.text.isprintable() or not message.text)
                self.assertLess(len(message.text), 600)
        for channel, value in one.current(len(pieces) * 0.01).items():
            self.assertTrue(math.isfinite(value), channel)
            self.assertTrue(channel.startswith("letter ") or abs(value) <= 1.0)
        held = getattr(one, "_rest", b"") or getattr(getattr(one, "_lines", None), "_rest", b"")
        self.assertLessEqual(len(held), 240)

    @settings(max_examples=often(150, 60), deadline=None, derandomize=True)
    @given(
        st.sampled_from([NUMBERS, LABELLED, LETTERS, PACKETS, FRAMES]), st.lists(st.binary(max_size=80), max_size=20)
    )
    def test_random_bytes(self, table: Mapping[str, object], pieces: list[bytes]) -> None:
        self.go(table, pieces)

    @settings(max_examples=often(150, 60), deadline=None, derandomize=True)
    @given(st.lists(st.text("PIVDRV$*,.green0123456789ABCDEF-+enaif\r\n", max_size=60), max_size=12))
    def test_nearly_packets(self, pieces: list[str]) -> None:
        for table in (PACKETS, NUMBERS, LABELLED):
            self.go(table, [p.encode() for p in pieces])

    @settings(max_examples=100, deadline=None, derandomize=True)
    @given(st.lists(st.floats(), min_size=2, max_size=2), st.integers(-10, 10**9), st.integers(0, 2**40))
    def test_whole_frames_with_absurd_numbers(self, axes: list[float], seq: int, buttons: int) -> None:
        self.go(PACKETS, [frame(f"PIVDRV,green,{seq},{axes[0]!r},{axes[1]!r},{buttons:X}")])

    def test_a_million_bytes_keep_nothing(self) -> None:
        data = random.Random(1).randbytes(1_000_000)
        for table in (NUMBERS, LETTERS, PACKETS, FRAMES):
            one, tally = reader(table), Tally()
            for i in range(0, len(data), 4096):
                for message in one.feed(data[i : i + 4096], i * 1e-6):
                    tally.add(message, i * 1e-6)
            self.assertLessEqual(len(tally.said) + len(tally.bad), 48)
            self.assertGreater(tally.faults["damaged"], 200)

    @settings(max_examples=often(150, 60), deadline=None, derandomize=True)
    @given(st.binary(max_size=120) | st.text("PIVOUT,.0123456789ABCDEF-naif", max_size=80).map(frame))
    def test_the_robots_end_reads_anything(self, data: bytes) -> None:
        with self.assertRaises(ValueError):
            read_out(Parts().whole(unframe(data).split(",")) or [""], "00000000", 4)

    def test_absurd_sensed_values_are_refused(self) -> None:
        for value in ("inf", "nan", "1e30", "x"):
            with self.assertRaises(ValueError):
                read_sensed(["PIVSEN", "1", "1", "0", value], 1)
        self.assertTrue(math.isnan(read_sensed(["PIVSEN", "1", "1", "0", ""], 1)[1][0]))


class LinkSentencesTest(unittest.TestCase):
    def test_outputs_are_read_back_and_the_hash_is_a_crc(self) -> None:
        line = Line(bare(read_rig(DEMO / "rigs" / "plover.toml")))
        names = ["left duty ", "left direction ", "right duty ", "right direction "]
        names += [t for t in line.layout.titles if t.startswith("sensed.")]
        names += [
            "truth.x_m",
            "truth.y_m",
            "truth.heading_rad",
            "truth.blocked",
        ]  # of a real body's nothing more is said
        self.assertEqual(wire_hash(line), f"{zlib.crc32(''.join(n + chr(10) for n in names).encode()):08X}")
        told = line.resting() + 7
        said, values = read_out(words_of(out_sentences(Out(9, 77, True), "ABCD1234", told)), "ABCD1234", 4)
        self.assertEqual((said, values), (Out(9, 77, True), told.tolist()))
        with self.assertRaisesRegex(ValueError, "for the rig 00000001, but this robot has ABCD1234"):
            read_out(words_of(out_sentences(Out(9, None, True), "00000001", told)), "ABCD1234", 4)


def words_of(sentences: list[bytes]) -> list[str]:
    """Join what was cut, as a robot's end does."""
    parts = Parts()
    *before, whole = (parts.whole(unframe(s).split(",")) for s in sentences)
    assert before == [None] * len(before) and whole is not None
    return whole


EIGHT: list[Wheel] = [
    (0.2 * math.cos(k * math.pi / 4), 0.2 * math.sin(k * math.pi / 4), 0.0, None, True) for k in range(8)
]
"""Eight steered wheels in a ring."""


class LongSentencesTest(unittest.TestCase):
    """What is longer than a line is cut, whole again at the other end, and never half obeyed."""

    def rigs(self) -> list[Rig]:
        return [*(read_rig(demo_path(n)) for n in ALL), rig_of(EIGHT, PLANAR)]

    def test_every_robot_and_eight_steered_wheels(self) -> None:
        cut = []
        for rig in self.rigs():
            line = Line(rig)
            chance = np.random.default_rng(7)
            told = np.round(chance.normal(0, 50, len(line.outputs.values)), 3)
            back = np.round(chance.normal(0, 50, len(back_columns(line))), 3)
            out = out_sentences(Out(65535, 65535, True), wire_hash(line), told)
            sensed = sensed_sentences(Back(65535, 65535, 1), back)
            for sentence in (*out, *sensed):
                self.assertLessEqual(len(sentence.rstrip()), 240)
            self.assertEqual(
                read_out(words_of(out), wire_hash(line), len(told)), (Out(65535, 65535, True), told.tolist())
            )
            self.assertEqual(read_sensed(words_of(sensed), len(back)), (Back(65535, 65535, 1), back.tolist()))
            cut.append((rig.name, len(out), len(sensed)))
        # all but the smallest answer in parts; eight steered wheels are told in parts too
        self.assertEqual([c for c in cut if c[0] in ("Plover", "Test")], [("Plover", 1, 1), ("Test", 1, 2)])

    @given(st.integers(0, 400), st.integers(0, 65535))
    def test_any_number_of_values(self, count: int, seq: int) -> None:
        values = np.linspace(-9999.99, 1e6, count)
        sentences = sensed_sentences(Back(seq, seq, 2), values)
        self.assertTrue(all(len(s.rstrip()) <= 240 for s in sentences))
        words = words_of(sentences)
        self.assertEqual(words[:4], ["PIVSEN", str(seq), str(seq), "2"])
        np.testing.assert_allclose([float(w) for w in words[4:] if w], values, rtol=1e-5)

    def test_a_part_that_is_missing_or_of_another_sentence_spoils_only_its_own(self) -> None:
        first, second = (sensed_sentences(Back(n, 1, 1), np.full(80, 1.234567)) for n in (1, 2))
        words = [[unframe(s).split(",") for s in sentences] for sentences in (first, second)]
        self.assertGreater(len(words[0]), 2)
        parts = Parts()
        parts.whole(words[0][0])
        with self.assertRaisesRegex(ValueError, "part 3 of 3 without those before it"):
            parts.whole(words[0][2])
        with self.assertRaisesRegex(ValueError, "part 2 of 3 without"):
            parts.whole(words[0][1])
        parts.whole(words[0][0])
        with self.assertRaisesRegex(ValueError, "part 2 of 3 without"):
            parts.whole(words[1][1])
        found = [parts.whole(w) for w in words[1]]
        self.assertEqual((found[:-1], len(found[-1] or [])), ([None] * 2, 84))
        for wrong in ("1/0/2", "1/3/2", "1/2", "1//", "1/1/100"):
            with self.assertRaises(ValueError):
                parts.whole(["PIVSEN", wrong, "1", "1", "0"])


class HealthTest(unittest.TestCase):
    def test_rate_loss_jitter_and_age(self) -> None:
        tally = Tally()
        for i in range(100):
            tally.add(Message(b"x", {}, missed=1 if i % 10 == 0 else 0), i * 0.02 + (0.004 if i % 2 else 0.0))
        health = tally.health(2.0)
        self.assertAlmostEqual(health.rate_hz, 50, delta=3)
        self.assertAlmostEqual(health.loss, 10 / 110, delta=0.02)
        # the gaps go 24, 16, 24, 16 ms: each differs from the one before by 8 ms, which is what J goes to
        self.assertAlmostEqual(health.jitter_s, 0.008, delta=0.001)
        self.assertAlmostEqual(health.age_s, 2.0 - 1.984, delta=1e-6)

    def test_letters_spec_needs_no_time_over_a_connection(self) -> None:
        spec = source({**LETTERS, "wire": {"kind": "tcp", "port": 1}})
        assert isinstance(spec, LettersSource)
        self.assertEqual(spec.problems(), [])
        over_udp = source(LETTERS)
        assert isinstance(over_udp, LettersSource)
        self.assertEqual([key for key, _ in over_udp.problems()], ["silent_after"])
