"""Whoever attacks the wires: takes over, falls silent, floods, forges. Over real sockets and pseudo-terminals, by many in turn."""

import contextlib
import itertools
import os
import pty
import socket
import struct
import time
import tty
from functools import partial
from typing import Any
from unittest import mock

import numpy as np

from pivrex.devices.link import RobotLink
from pivrex.devices.link_speed import link_speed
from pivrex.devices.pace import Pace
from pivrex.devices.robot_end import ALONE, DRIVING, RESTING, RobotEnd
from pivrex.devices.robot_sentences import Back, Out, out_sentences, sensed_sentences, stamp_of, wire_hash
from pivrex.devices.seal import Seal, sealed, tag
from pivrex.devices.sentence import frame, unframe
from pivrex.devices.simulated_pad import MAX_SENTENCES, PadRemote, read_pad_sentence
from pivrex.line import Line
from pivrex.rig import read_text
from pivrex.rig.field import Match
from pivrex.rig.rig import Rig
from pivrex.rig.transports import Link
from pivrex.session.core import Session
from pivrex.session.messages import GoLive, GoOn, SetUp, UseRig
from pivrex.session.periods import Period
from tests.support import PLAIN, TempCase, plain_rig, slow, wait_for
from tests.test_lost_sources import RemoteCase, Sender, free_port, radio

KEY, OTHER_KEY = bytes(range(16)), bytes(range(40, 56))
DROP_ALL = struct.pack("HBBI", 0x06, 0, 0, 0)
"""A filter for a socket that takes nothing in: "return 0", as the kernel's packet filter writes it."""

SO_ATTACH_FILTER = 26


def letters(port: int, more: str = "", kind: str = "tcp") -> str:
    return (
        f'[sources.box]\nkind = "letters"\nwire = {{ kind = "{kind}", port = {port} }}\n{more}'
        '[sources.box.letters]\nF = "forward 40 %"\nS = "brake"\nG = "back 40 %"\n'
    )


class TakeoverTest(RemoteCase):
    """Nobody else drives: the place of a radio is free only once it has been declared lost, and is taken from rest."""

    def setUp(self) -> None:
        super().setUp()
        self.port = free_port()
        self.one = self.sender()

    def sender(self) -> Sender:
        found = Sender(self.port)
        self.addCleanup(found.socket.close)
        return found

    def rest(self, ticks: int = 3) -> None:
        for _ in range(ticks):
            self.one.say()
            self.tick()

    def test_another_address_with_its_stick_pushed(self) -> None:
        for packets_a_tick, silence in itertools.product((1, 8), ("lost", "no change", "neutral")):
            self.port = free_port()
            self.one = self.sender()
            self.begin(radio(self.port, f'silence = "{silence}"\n'))
            self.rest()
            self.ask(GoLive())
            other = self.sender()
            other.seq = self.one.seq
            for _ in range(120):  # two seconds
                for _ in range(packets_a_tick):
                    other.say(left_y=-1.0)
                self.assertEqual(self.forward(), 0.0)
            self.assertIn("let go first: forward", self.session.status.lost)
            other.say()
            self.tick()
            other.say(left_y=-0.5)
            self.assertEqual(self.forward(), 0.5)
            self.session.close(self.now)

    def test_junk_does_not_delay_the_one_that_comes_back(self) -> None:
        self.begin(radio(self.port))
        self.rest()
        strangers = [self.sender() for _ in range(8)]
        for i in range(60):
            for stranger in strangers:
                stranger.socket.send(
                    (b"$PIVDRV,green,1*00\n", b"junk\n", b"\xff" * 30, frame(f"PIVDRV,blue,{i},0,0,0,0,0,0,0"))[i % 4]
                )
            self.tick()
        self.assertEqual(self.session.status.lost, "radio: silent for 200 ms")
        for stranger in strangers:
            stranger.socket.send(b"junk\n")
        self.one.say()
        for stranger in strangers:
            stranger.socket.send(b"junk\n")
        self.tick()
        self.assertEqual(self.session.status.lost, "")  # at the first packet of it
        self.one.say(left_y=-0.5)
        self.assertEqual(self.forward(), 0.5)

    def test_of_two_that_speak_at_once_the_first_is_heard(self) -> None:
        self.begin(radio(self.port))
        two = self.sender()
        self.one.say()
        two.say()
        self.tick()
        remote = self.session.inputs.remotes["radio"]
        self.assertEqual((self.session.status.lost, remote.tally.faults["foreign"]), ("", 1))
        two.say(left_y=-1.0)
        self.one.say(left_y=-0.5)
        self.assertEqual(self.forward(), 0.5)

    @slow  # a flood against the time of a tick: while other tests run there may be none
    def test_a_flood_from_elsewhere_does_not_crowd_it_out(self) -> None:
        self.begin(radio(self.port))
        self.rest()
        other = self.sender()
        for i in range(40):
            for _ in range(100):
                other.say(left_y=-1.0)
            self.one.say(left_y=-0.25)
            out = self.forward()
            if i >= 5:  # a slow machine may need a few ticks for the first
                self.assertEqual(out, 0.25)
        self.assertGreater(self.session.inputs.remotes["radio"].tally.faults["foreign"], 1000)

    def test_a_number_from_far_ahead_was_made_up(self) -> None:
        self.begin(radio(self.port))
        self.rest()
        for far in (500, 5000, 32000):
            seq, self.one.seq = self.one.seq, self.one.seq + far
            self.one.say(left_y=-1.0)
            self.assertEqual(self.forward(), 0.0)
            self.one.seq = seq
        self.one.seq += 15  # some got lost
        self.one.say(left_y=-0.5)
        self.assertEqual(self.forward(), 0.5)
        self.assertEqual(self.session.inputs.remotes["radio"].tally.faults["old"], 3)


class LettersThatFallSilentTest(RemoteCase):
    def go(self, more: str = "") -> socket.socket:
        self.port = free_port(socket.SOCK_STREAM)
        self.begin(letters(self.port, more), source="keys")
        self.until(lambda: self.session.inputs.remotes["box"].wire.is_open)
        box = self.connect()
        self.until(lambda: not self.waits())
        return box

    def waits(self) -> str:
        """Say why the letters do not count now."""
        return self.session.inputs.guards["box"].reason

    def connect(self) -> socket.socket:
        found = socket.create_connection(("127.0.0.1", self.port), timeout=3)
        self.addCleanup(found.close)
        return found

    def send(self, box: socket.socket, data: bytes) -> None:
        """Send, and tick until it has come."""
        tally = self.session.inputs.remotes["box"].tally
        before = tally.good + sum(tally.faults.values())
        box.sendall(data)
        self.until(lambda: tally.good + sum(tally.faults.values()) > before)

    def resting_after(self, seconds: float) -> int:
        """Tick for a time; gives how many ticks it moved."""
        return sum(self.forward() != 0.0 for _ in range(round(seconds * 60)))

    def test_a_motion_ends_by_itself(self) -> None:
        box = self.go()
        self.send(box, b"F")
        self.assertEqual(self.forward(), 0.4)
        self.assertIn(self.resting_after(3.0), range(50, 61))  # a second
        self.assertEqual(self.waits(), "")  # it is there still
        self.send(box, b"G")
        self.assertEqual(self.forward(), -0.4)

    def test_a_rig_may_say_for_how_long(self) -> None:
        box = self.go('lasting = "200 ms"\n')
        self.send(box, b"F")
        self.assertIn(self.resting_after(2.0), range(8, 13))

    def test_silence_is_a_loss_over_a_connection_too(self) -> None:
        box = self.go('silent_after = "300 ms"\n')
        self.send(box, b"F")
        self.assertLessEqual(self.resting_after(1.0), 19)
        self.assertEqual(self.waits(), "silent for 300 ms")
        self.send(box, b"F")
        self.assertEqual(self.forward(), 0.0)
        self.assertIn("let go first", self.waits())

    def test_silence_is_a_loss_over_a_serial_line_too(self) -> None:
        far, near = pty.openpty()
        tty.setraw(near)
        self.addCleanup(os.close, far)
        self.addCleanup(os.close, near)
        part = letters(1, 'silent_after = "300 ms"\n').replace(
            'kind = "tcp", port = 1', f'kind = "serial", port = "{os.ttyname(near)}"'
        )
        self.begin(part, source="keys")
        self.until(lambda: self.session.inputs.remotes["box"].wire.is_open)

        def say(letter: bytes) -> None:
            tally = self.session.inputs.remotes["box"].tally
            before = tally.good
            os.write(far, letter)
            self.until(lambda: tally.good > before)

        for _ in range(25):
            say(b"S")
        self.until(lambda: not self.waits())
        say(b"F")
        self.assertEqual(self.forward(), 0.4)
        self.assertLessEqual(self.resting_after(1.0), 19)
        self.assertEqual(self.waits(), "silent for 300 ms")

    def test_a_connection_whose_other_end_is_gone_without_a_word(self) -> None:
        box = self.go('lasting = "60 s"\n')
        self.send(box, b"F")
        box.setsockopt(
            socket.SOL_SOCKET, SO_ATTACH_FILTER, struct.pack("HL", 1, _address(DROP_ALL))
        )  # it hears nothing from now on
        self.until(self.waits, 30)  # the system asks whether it is there, and is not answered
        self.assertEqual(self.forward(), 0.0)
        self.assertEqual(self.waits(), "the connection is gone")

    def test_somebody_who_is_connected_and_says_nothing_locks_nobody_out(self) -> None:
        self.go()
        idle = [self.connect() for _ in range(6)]
        late = self.connect()
        self.until(lambda: len(self.session.inputs.remotes["box"].wire.senders or ()) >= 4)
        self.tick(10)
        self.send(late, b"S")
        self.until(lambda: not self.waits())
        self.send(late, b"F")
        self.assertEqual(self.forward(), 0.4)
        # and after a while they are hung up
        self.tick(11 * 60)
        self.assertEqual(len(self.session.inputs.remotes["box"].wire.senders or ()), 1)
        self.send(late, b"F")
        self.assertEqual(self.forward(), 0.4)
        del idle

    def test_a_request_of_some_other_program(self) -> None:
        """It is hung up, whatever it says afterwards; the one that is heard too, and what it had set going ends."""
        self.go()
        for request in (b"GET / HTTP/1.1\r\nHost: SFG\r\n\r\n", b"F\x00F\x00", b"SSH-2.0-F\r\n", b"FFFF\tFFFF"):
            other = self.connect()
            self.send(other, request)
            self.assertEqual(self.resting_after(0.2), 0, request)
            self.assert_hung_up(other)
        box = self.connect()
        self.until(lambda: len(self.session.inputs.remotes["box"].wire.senders or ()) == 2)
        self.tick(30)
        self.send(box, b"F \r\n")  # what stands between letters means nothing
        self.until(lambda: not self.waits())
        self.send(box, b"F")
        self.assertEqual(self.forward(), 0.4)
        self.send(box, b"GET /F HTTP/1.1\r\n\r\n")
        self.assertEqual(self.forward(), 0.0)
        self.assert_hung_up(box)

    def assert_hung_up(self, box: socket.socket) -> None:
        box.settimeout(2)
        with contextlib.suppress(ConnectionError):
            self.assertEqual(box.recv(1), b"")
        with contextlib.suppress(OSError):
            box.sendall(b"F")
        self.assertEqual(self.resting_after(0.5), 0)

    def test_a_request_in_pieces_whose_first_letter_is_bound(self) -> None:
        """`POST` of a rig that knows a P, and an F a little later: within 50 ms nothing counts, after that it is hung up."""
        self.port = free_port(socket.SOCK_STREAM)
        self.begin(letters(self.port) + 'P = "forward 30 %"\n', source="keys")
        self.until(lambda: self.session.inputs.remotes["box"].wire.is_open)
        for pause in (0, 1, 2):  # ticks between the pieces, 16.7 ms each
            for whole in (b"P|OST / HTTP/1.1\r\n|F|FFFF", b"POST / HTTP/1.1|F|F", b"P|O|F"):
                box = self.connect()
                self.until(lambda: len(self.session.inputs.remotes["box"].wire.senders or ()) == 1)
                self.tick(40)  # it is settled, and no newcomer any more
                moved = 0
                for piece in whole.split(b"|"):
                    with contextlib.suppress(OSError):
                        box.sendall(piece)
                    time.sleep(0.002)  # over this machine's own wire
                    for _ in range(pause + 1):
                        moved += self.forward() != 0.0
                self.assertEqual(moved + self.resting_after(1.0), 0, f"{whole!r} {pause}")
                self.assert_hung_up(box)

    def test_letters_of_a_new_connection_count_after_50_ms(self) -> None:
        box = self.go()
        self.until(lambda: len(self.session.inputs.remotes["box"].wire.senders or ()) == 1)
        self.tick(40)
        box.sendall(b"F")
        time.sleep(0.01)
        moved = [self.forward() for _ in range(30)]
        first = next(k for k, v in enumerate(moved) if v)
        self.assertIn(first, (3, 4))  # ticks of 16.7 ms
        box.sendall(b"S")
        time.sleep(0.01)
        self.assertEqual(self.forward(), 0.0)  # it is vetted: what comes later counts at once

    def test_letters_in_sentences(self) -> None:
        self.port = free_port(socket.SOCK_STREAM)
        self.begin(letters(self.port, 'framed = true\nsender = "green"\n'), source="keys")
        self.until(lambda: self.session.inputs.remotes["box"].wire.is_open)
        box = self.connect()
        self.until(lambda: not self.waits())
        for seq, body in enumerate(("PIVLET,green,{},F", "PIVLET,green,{},S", "PIVLET,green,{},SG"), 1):
            self.send(box, frame(body.format(seq)))
            self.assertEqual(self.forward(), (0.4, 0.0, -0.4)[seq - 1])
        self.send(box, frame("PIVLET,green,4,S"))
        for wrong, fault in (
            (b"F", ""), (frame("PIVLET,blue,5,F"), "foreign"), (frame("PIVLET,green,4,F"), "repeated"),
            (frame("PIVLET,green,5,FX"), "unknown"), (frame("PIVLET,green,5"), "damaged"), (b"$PIVLET,green,5,F*00\n", "damaged"),
        ):  # fmt: skip
            tally = self.session.inputs.remotes["box"].tally
            before = tally.faults[fault]
            box.sendall(wrong + (b"" if fault else b"\n"))
            self.until(lambda t=tally, f=fault or "damaged", n=before: t.faults[f] > n)
            self.assertEqual(self.forward(), 0.0, wrong)


_KEPT: list[Any] = []


def _address(data: bytes) -> int:
    """Return where a piece of memory is, for the system."""
    import ctypes

    _KEPT.append(ctypes.create_string_buffer(data))
    return ctypes.addressof(_KEPT[-1])


class FloodTest(RemoteCase):
    """However much comes at once, a tick reads so much only; the newest counts, and all of it is counted."""

    def total(self, name: str) -> int:
        tally = self.session.inputs.remotes[name].tally
        return tally.good + sum(tally.faults.values())

    def test_a_megabyte_of_letters_at_once(self) -> None:
        port = free_port(socket.SOCK_STREAM)
        self.begin(letters(port), source="keys")
        self.until(lambda: self.session.inputs.remotes["box"].wire.is_open)
        box = socket.create_connection(("127.0.0.1", port), timeout=10)
        self.addCleanup(box.close)
        self.until(lambda: not self.session.inputs.guards["box"].reason)
        box.setblocking(False)
        data, polls = b"F" * 1_000_000 + b"S", 0
        while data:
            with contextlib.suppress(BlockingIOError):
                data = data[box.send(data) :]
            self.tick()
            polls += 1
            self.assertLess(polls, 400)
        self.until(lambda: self.total("box") >= 1_000_001)
        self.assertEqual(self.total("box"), 1_000_001)
        self.assertGreater(self.session.inputs.remotes["box"].tally.faults["too much"], 900_000)
        self.assertEqual(self.forward(), 0.0)  # the last letter was S

    def test_datagrams_of_a_thousand_lines(self) -> None:
        port = free_port()
        part = '[sources.stick]\nkind = "numbers"\ncolumns = ["left_x", "left_y"]\nsilent_after = "1 s"\n'
        part += f'wire = {{ kind = "udp", port = {port} }}\n'
        self.begin(part, source="stick")
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as out:
            out.connect(("127.0.0.1", port))
            out.send(b"511.5 511.5")
            self.tick(2)
            self.assertEqual(self.session.status.lost, "")
            for _ in range(20):
                for _ in range(5):
                    out.send(b"x\n" * 1000)
                out.send(b"x\n" * 500 + b"511.5 255.75\n")
                self.assertEqual(self.forward(), 0.5)
        tally = self.session.inputs.remotes["stick"].tally
        self.assertEqual(self.total("stick"), 1 + 20 * 5501)
        self.assertGreater(tally.faults["too much"], tally.faults["damaged"])

    def test_what_is_left_out_is_not_lost(self) -> None:
        port = free_port()
        one = Sender(port)
        self.addCleanup(one.socket.close)
        self.begin(radio(port))
        one.say()
        self.tick()
        twenty = mock.patch.object(Pace, "most", return_value=20)  # a machine that has time for twenty
        with twenty, mock.patch("pivrex.session.core.READING_SHARE", 100.0):
            for _ in range(20):
                for _ in range(100):
                    one.say(left_y=-0.5)
                self.assertEqual(self.forward(), 0.5)
        tally = self.session.inputs.remotes["radio"].tally
        self.assertEqual((tally.good, tally.faults["too much"], tally.missed), (401, 1600, 0))

    def test_garbage_in_the_robots_answers(self) -> None:
        line = Line(plain_rig())
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as robot:
            robot.bind(("127.0.0.1", 0))
            link = RobotLink(
                line,
                Link.model_validate({"wire": {"kind": "udp", "host": "127.0.0.1", "port": robot.getsockname()[1]}}),
            )
            self.addCleanup(link.close)
            link.poll(0.0)
            link.command(line.resting(), 0.02)
            data, head = robot.recvfrom(2048)
            seq = int(unframe(data).split(",")[1])
            for _ in range(60):
                robot.sendto(b"$\n" * 600, head)
            answer = b"".join(sensed_sentences(Back(1, seq, 1), np.arange(8.0)))

            def heard() -> bool:
                robot.sendto(answer, head)  # the system drops what comes while its buffer is full
                link.poll(time.perf_counter())
                return link.state == 1

            wait_for(heard)
            self.assertGreater(link.tally.faults["too much"], 10_000)
            self.assertEqual(link.sense().tolist(), [0.0, 1.0, 2.0, 3.0])


class SlowLineTest(TempCase):
    """A line that cannot carry what the rig's rate asks for: the newest goes, nothing waits, and a rest goes first."""

    def test_computed_by_hand(self) -> None:
        line = Line(plain_rig())
        link = Link.model_validate({"wire": {"kind": "serial", "port": "/dev/x", "baud": 9600}})
        # $PIVOUT,65535,65535,1,XXXXXXXX,-0.123456,-0.123456*hh and a line end; $PIVSEN,65535,65535,1, four values, four empty
        out, back = 1 + 6 + 6 + 6 + 2 + 9 + 20 + 3 + 2, 1 + 6 + 6 + 6 + 2 + 40 + 4 + 3 + 2
        speed = link_speed(line, link)
        self.assertEqual((speed.out_bytes, speed.back_bytes, speed.bytes_s), (out, back, 960.0))
        self.assertIn("the line carries 14 sentences a second of the 60", speed.warning)
        self.assertEqual(speed.too_slow, "")
        slower = link_speed(line, link.model_copy(update={"wire": link.wire.model_copy(update={"baud": 4800})}))
        self.assertIn("too slow", slower.too_slow)
        faster = link_speed(line, link.model_copy(update={"wire": link.wire.model_copy(update={"baud": 115200})}))
        self.assertEqual(faster.warning, "")

    def test_nothing_waits_and_a_rest_goes_first(self) -> None:
        far, near = pty.openpty()
        tty.setraw(near)
        os.set_blocking(far, False)
        self.addCleanup(os.close, far)
        self.addCleanup(os.close, near)
        line = Line(plain_rig())
        link = RobotLink(
            line, Link.model_validate({"wire": {"kind": "serial", "port": os.ttyname(near), "baud": 9600}})
        )
        self.addCleanup(link.close)
        wait_for(lambda: link.poll(time.perf_counter()) or link.wire.is_open)  # type: ignore[func-returns-value]
        link.drives = True
        began, count = time.perf_counter(), 0
        while (
            count < 60 or time.perf_counter() - began < 0.6
        ):  # more than the line carries in this time, even on a busy machine
            link.command(np.array([0.5, 0.5]), 1 / 60)
            count += 1
            time.sleep(0.002)
        took = time.perf_counter() - began
        sent = os.read(far, 65536)
        self.assertLessEqual(len(sent), 960 * took + 60)  # never more than the line carries
        numbers = [int(unframe(row).split(",")[1]) for row in sent.split(b"\r\n") if row]
        self.assertEqual(numbers, sorted(numbers))
        link.drives = False
        link.command(np.array([0.5, 0.5]), 1 / 60)
        rest = [row for row in os.read(far, 65536).split(b"\r\n") if row.startswith(b"$")][-1]
        self.assertEqual(unframe(rest).split(",")[3], "0")

    def test_on_a_line_that_is_hopeless_nothing_is_driven(self) -> None:
        link = RobotLink(
            Line(plain_rig()), Link.model_validate({"wire": {"kind": "serial", "port": "/dev/x", "baud": 1200}})
        )
        link.wire.problem = ""
        self.assertIn("the line is too slow: 70 bytes back at 120 bytes a second", link.problem(0.0))


class HalfALinkTest(TempCase):
    """A robot that talks but does not answer, or says what cannot be, is not heard."""

    def setUp(self) -> None:
        super().setUp()
        self.line = Line(plain_rig())
        self.robot = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.addCleanup(self.robot.close)
        self.robot.bind(("127.0.0.1", 0))
        self.robot.settimeout(5)
        where = {"wire": {"kind": "udp", "host": "127.0.0.1", "port": self.robot.getsockname()[1]}}
        self.link = RobotLink(self.line, Link.model_validate(where))
        self.addCleanup(self.link.close)
        self.link.poll(0.0)

    def talk(self, answer: str, ticks: int = 5) -> str:
        """Let the robot greet and answer each sentence so; gives what the head says of it."""
        for _ in range(ticks):
            self.link.command(self.line.resting(), 0.02)
            data, head = self.robot.recvfrom(2048)
            seq = int(unframe(data).split(",")[1])
            self.robot.sendto(frame(f"PIVHEY,mine,{self.link.hash}") + frame(answer.format(seq=seq)), head)
            self.link.poll(time.perf_counter())
        wait_for(lambda: self.link.poll(time.perf_counter()) or self.link.greeted)  # type: ignore[func-returns-value]
        return self.link.problem(time.perf_counter())

    def test_only_good_values_that_answer_count(self) -> None:
        for answer in (
            "PIVSEN,1,{seq},0,nan,0,0,0,,,,", "PIVSEN,1,{seq},0,1,2,3", "PIVSEN,1,{seq},7,0,0,0,0,,,,", "PIVSEN,x,{seq},0,0,0,0,0,,,,",
            "PIVSEN,1,{seq},0,1e30,0,0,0,,,,", "PIVSEN,1,64000,0,0,0,0,0,,,,", "PIVSEN,1,,0,0,0,0,0,,,,", "PIVHEY,mine,0",
        ):  # fmt: skip
            self.assertNotEqual(self.talk(answer), "", answer)
        self.assertEqual(self.talk("PIVSEN,1,{seq},0,0,0,0,0,,,,"), "")

    def test_a_robot_that_acknowledges_the_same_for_ever_hears_nothing(self) -> None:
        self.assertEqual(self.talk("PIVSEN,1,{seq},0,0,0,0,0,,,,"), "")
        first = self.link._seq
        end = time.perf_counter() + 0.5
        said = ""
        while time.perf_counter() < end:
            said = self.talk(f"PIVSEN,1,{first},0,0,0,0,0,,,,", 1)
            time.sleep(0.01)
        self.assertIn("link lost: no answer", said)

    def test_a_robot_that_drives_though_it_was_told_to_rest(self) -> None:
        self.assertEqual(
            self.talk("PIVSEN,1,{seq},1,0,0,0,0,,,,"), "the robot says that it drives, but it is commanded to rest"
        )


class SealTest(RemoteCase):
    """With a key, who has none cannot drive, whatever address it writes on its packets."""

    def setUp(self) -> None:
        super().setUp()
        self.write("plain.key", KEY.hex())
        self.port = free_port()
        self.text = PLAIN.replace("[chassis]", 'key = "plain.key"\n[chassis]', 1)
        self.one = Sender(self.port)
        self.addCleanup(self.one.socket.close)

    def keyed(self, *parts: str) -> Rig:
        return read_text(self.text + "".join(parts), self.folder / "plain.toml", Rig)

    def test_the_known_answer_of_the_standard(self) -> None:
        self.assertEqual(tag(b"Jefe", "what do ya want for nothing?"), "5BDCC146BF60754E")  # RFC 4231, case 2
        inner, session = Seal(KEY).open(sealed(KEY, "PIVDRV,a,1", 4294967295))
        self.assertEqual((inner, session), ("PIVDRV,a,1", 4294967295))

    def say(self, seq: int, y: float, session: int = 7, key: bytes = KEY) -> float:
        self.one.socket.send(frame(sealed(key, f"PIVDRV,green,{seq},0,{y},0,0,0,0,0", session)))
        return self.forward()

    def test_forged_and_repeated_packets(self) -> None:
        self.begin_with(self.keyed(radio(self.port)))
        self.say(1, 0)
        self.assertEqual(self.say(2, -0.5), 0.5)
        number = 3
        self.say(3, 0)
        said = frame(sealed(KEY, "PIVDRV,green,2,0,-0.5,0,0,0,0,0", 7))
        for forged in (
            frame("PIVDRV,green,4000,0,-1,0,0,0,0,0"),
            frame("PIVDRV,green,30000,0,-1,0,0,0,0,0"),
            frame(sealed(OTHER_KEY, "PIVDRV,green,4000,0,-1,0,0,0,0,0", 7)),
            frame(sealed(KEY, "PIVDRV,green,4000,0,-0.1,0,0,0,0,0", 7)).replace(b"-0.1", b"-0.9"),
            frame(sealed(KEY, "PIVDRV,green,4000,0,-1,0,0,0,0,0", 8)),  # another session, while this one is heard
            said,
        ):
            for _ in range(5):
                self.one.socket.send(forged)
                self.assertEqual(self.forward(), 0.0, forged)
                number += 1
                self.say(number, 0)  # the right one goes on
        # after a loss too: what was said before stays said, an older session stays over
        self.tick(30)
        for again in (
            said,
            frame(sealed(KEY, "PIVDRV,green,1,0,0,0,0,0,0,0", 7)),
            frame(sealed(KEY, "PIVDRV,green,9,0,0,0,0,0,0,0", 6)),
        ):
            self.one.socket.send(again)
            self.tick()
            self.assertIn("silent", self.session.status.lost)
        self.say(1, 0, session=8)
        self.assertEqual(self.say(2, -0.5, session=8), 0.5)

    def test_a_sealed_stop_counts_whatever_its_session_and_number(self) -> None:
        """Only what moves must be new; a stop of a radio that has forgotten its session, or that comes again, stops."""
        stop = '[[bindings]]\nchannel = "button_3"\nsource = "radio"\ndoes = "stop"\n'
        self.begin_with(self.keyed(radio(self.port), stop))

        def packet(seq: int, buttons: int, session: int, key: bytes = KEY, y: float = -0.5) -> bytes:
            return frame(sealed(key, f"PIVDRV,green,{seq},0,{y},0,0,0,0,{buttons:X}", session))

        def drives() -> None:
            self.say(self.number, 0)
            self.ask(GoOn())
            self.number += 2
            self.assertEqual(self.say(self.number - 1, -0.5), 0.5)

        self.number = 1
        for said, stops in (
            (packet(9, 0, 3), False), (packet(9, 1 << 2, 3), False), (packet(9, 1 << 3, 3), True), (packet(9, 1 << 3, 300), True),
            (packet(1, 1 << 3, 7), True), (packet(9, 1 << 3, 3, OTHER_KEY), False), (frame("PIVDRV,green,9,0,0,0,0,0,0,8"), False),
        ):  # fmt: skip
            drives()
            self.one.socket.send(said)
            self.tick()
            self.assertEqual(self.session.status.held, "radio said stop, with its seal" if stops else "", said)

    def test_a_sealed_stop_letter_and_a_stop_of_the_match_desk(self) -> None:
        port = free_port(socket.SOCK_STREAM)
        rig = self.keyed(letters(port, 'framed = true\nsender = "green"\n'), 'X = "stop"\n')
        desk_port = free_port()
        periods = Match.model_validate({"wire": {"kind": "udp", "port": desk_port}})
        self.rig, self.now = rig, 0.0
        self.session = Session(SetUp(rig, None, source="keys", gamepads=False, periods=periods))
        self.addCleanup(lambda: self.session.close(self.now))
        self.until(lambda: self.session.inputs.remotes["box"].wire.is_open)
        box = socket.create_connection(("127.0.0.1", port), timeout=3)
        self.addCleanup(box.close)
        self.until(lambda: not self.session.inputs.guards["box"].reason)
        desk = Sender(desk_port)
        self.addCleanup(desk.socket.close)

        def letter(number: int, char: str, session: int) -> bytes:
            return frame(sealed(KEY, f"PIVLET,green,{number},{char}", session))

        box.sendall(letter(5, "F", 8))
        self.until(lambda: self.forward() == 0.4)
        box.sendall(letter(4, "G", 8) + letter(9, "G", 2))
        self.tick(3)
        self.assertEqual(self.session.status.held, "")
        box.sendall(letter(9, "X", 2))
        self.until(lambda: self.session.status.held == "box said stop, with its seal")
        # the desk: without the key nothing counts, with it a stop of an old session does, and a start of one does not
        self.ask(GoOn())
        self.tick()
        desk.socket.send(frame(sealed(KEY, "PIVMAT,1,ready", 50)))
        self.until(lambda: self.session.status.match.period is Period.READY)
        for order, key, session in (("stop", b"", 0), ("stop", OTHER_KEY, 60), ("driven", KEY, 40), ("driven", b"", 0)):
            body = f"PIVMAT,9,{order}"
            desk.socket.send(frame(sealed(key, body, session) if key else body))
            time.sleep(0.01)
            self.tick(3)
            self.assertEqual((self.session.status.held, self.session.status.match.period), ("", Period.READY), order)
        desk.socket.send(frame(sealed(KEY, "PIVMAT,9,stop", 40)))
        self.until(lambda: self.session.status.held == "the match's desk says stop")

    def test_what_was_said_to_an_earlier_program_stays_said(self) -> None:
        rig = self.keyed(radio(self.port))
        self.begin_with(rig)
        self.say(100, 0)
        self.assertEqual(self.say(101, -0.5), 0.5)
        self.session.close(self.now)
        self.begin_with(rig)
        for seq, session in ((50, 7), (100, 7), (101, 7), (1000, 6)):
            self.say(seq, 0, session)
            self.assertEqual(self.session.status.lost, "radio: nothing was heard yet")
        self.say(102, 0)
        self.assertEqual(self.say(103, -0.5), 0.5)
        self.tick(6 * 60)  # it is written now and then too: a kill forgets a few seconds only
        wait_for(lambda: " 7 103\n" in (self.folder / "heard.txt").read_text())

    def test_a_rig_whose_key_is_another_one_now(self) -> None:
        self.begin_with(self.keyed(radio(self.port)))
        self.say(1, 0)
        self.write("plain.key", OTHER_KEY.hex())
        self.ask(UseRig(self.keyed(radio(self.port)), 1))
        self.tick()
        for seq in (2, 3):
            self.assertEqual(self.say(seq, 0), 0.0)
            self.assertEqual(self.session.status.lost, "radio: nothing was heard yet")
        self.say(4, 0, key=OTHER_KEY)
        self.assertEqual(self.say(5, -0.5, key=OTHER_KEY), 0.5)

    def begin_with(self, rig: Rig) -> None:
        self.rig = rig
        self.session = Session(SetUp(rig, None, source="radio", gamepads=False, memory=self.folder / "heard.txt"))
        self.addCleanup(lambda: self.session.close(self.now))
        self.now = 0.0
        self.tick()

    def test_a_robot_with_a_key_obeys_nobody_without(self) -> None:
        rig = self.keyed()
        line = Line(rig)
        end = RobotEnd(rig, None, 0.0)
        rig_hash = wire_hash(line)

        def say(seq: int, drive: bool, key: bytes = KEY, session: int = -1, now_s: float = 0.02) -> int:
            sign = partial(sealed, key, session=end.session if session < 0 else session) if key else None
            (data,) = out_sentences(Out(seq, stamp_of(now_s), drive), rig_hash, np.array([0.5, 0.5]), sign)
            end.take(data, "a", now_s)
            return end.state

        for key, session in ((b"", -1), (OTHER_KEY, -1), (KEY, 5)):
            self.assertEqual(say(1, False, key, session), ALONE)
        self.assertEqual(say(70000, False), RESTING)
        for key, session in ((b"", -1), (OTHER_KEY, -1), (KEY, 5)):
            self.assertEqual(say(70001, True, key, session), RESTING)
        self.assertEqual(say(70001, True), DRIVING)
        end.step(1.0)
        self.assertEqual(say(70000, False, now_s=1.0), ALONE)  # said before, also after it was left alone
        self.assertEqual(say(70002, False, now_s=1.0), RESTING)

    def test_a_head_with_a_key_believes_nobody_without_and_goes_on_from_the_robots_number(self) -> None:
        rig = self.keyed()
        line = Line(rig)
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as robot:
            robot.bind(("127.0.0.1", 0))
            robot.settimeout(0.05)
            where = {"wire": {"kind": "udp", "host": "127.0.0.1", "port": robot.getsockname()[1]}}
            link = RobotLink(line, Link.model_validate(where))
            self.addCleanup(link.close)
            end = RobotEnd(rig, None, time.perf_counter())
            end._newest = 100_000  # another head was there before
            told = np.array([0.5, 0.5])

            def goes_on() -> bool:
                now = time.perf_counter()
                link.poll(now)
                link.drives = not link.problem(now)
                link.command(told, 0.02)
                with contextlib.suppress(TimeoutError):
                    data, head = robot.recvfrom(4096)
                    forged = frame(f"PIVHEY,other,{link.hash}") + b"".join(
                        sensed_sentences(Back(0, link._seq, 0), np.ones(8))
                    )
                    robot.sendto(forged, head)
                    if end.state == DRIVING:  # of an earlier start of the robot
                        robot.sendto(frame(sealed(KEY, f"PIVHEY,old,{link.hash}", 3)), head)
                    end.take(data, "a", now)
                    for sentence in end.step(now):
                        robot.sendto(sentence, head)
                return end.state == DRIVING and link.tally.faults["foreign"] > 20

            wait_for(goes_on)
            self.assertGreater(link._seq, 100_000)
            self.assertFalse(link.sense()[:2].tolist() == [1.0, 1.0])

    def test_a_key_that_is_gone_is_a_mistake_and_not_a_door(self) -> None:
        (self.folder / "plain.key").unlink()
        with self.assertRaisesRegex(Exception, 'key: is "plain.key", but that file cannot be read'):
            self.keyed()
        self.write("plain.key", "12345\n")
        for digits in ("0" * 32, "# mine\n" + "00" * 16):
            self.write("plain.key", digits)
            with self.assertRaisesRegex(Exception, 'key: is "plain.key", but that file holds a key of zeros only'):
                self.keyed()
        with self.assertRaisesRegex(Exception, 'key: is "", which seals nothing'):
            read_text(self.text.replace('key = "plain.key"', 'key = ""'), self.folder / "plain.toml", Rig)
        self.write("plain.key", "no key")
        with self.assertRaisesRegex(Exception, "holds no key of 32 hexadecimal digits"):
            self.keyed()


class WhoMayTalkTest(RemoteCase):
    def test_only_this_machine_is_heard_unless_the_rig_says_otherwise(self) -> None:
        """A port that is open on 127.0.0.1 only is closed on 127.0.0.2, one that hears the network is not."""
        for more, heard in (("", False), (", network = true", True)):
            tcp, udp = free_port(socket.SOCK_STREAM), free_port()
            box, green = letters(tcp), radio(udp).replace('host = "127.0.0.1", ', "")
            self.begin(
                box.replace(f"port = {tcp}", f"port = {tcp}{more}"),
                green.replace(f"port = {udp}", f"port = {udp}{more}"),
            )
            self.until(lambda: all(r.wire.is_open for r in self.session.inputs.remotes.values()))
            with socket.socket() as one:
                self.assertEqual(one.connect_ex(("127.0.0.2", tcp)) == 0, heard)
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one:
                one.connect(("127.0.0.2", udp))
                one.send(b"x")
                refused = False
                try:
                    one.send(b"x")
                except ConnectionRefusedError:
                    refused = True
                self.assertEqual(refused, not heard)
            self.session.close(self.now)

    def test_stand_in_gamepads_need_the_token(self) -> None:
        from pivrex.devices.pads import Pads
        from pivrex.devices.simulated_pad import PadServer

        pads = Pads()
        self.addCleanup(pads.close)
        server = PadServer(pads.sdl)
        self.addCleanup(server.close)

        def count() -> int:
            server.update()
            return len(pads.update())

        before = count()
        wrong = [PadRemote(server.port, token) for token in ("", "0" * 32, server.token[:-1], server.token + "0")]
        mute = [socket.create_connection(("127.0.0.1", server.port)) for _ in range(12)]
        for one in mute[:4]:
            one.sendall(b"$PIVPAD,1,1,1,1,1,1,FF*00\r\n" * 50)
        wait_for(lambda: count() > before or server.bad >= 8)
        self.assertEqual(count(), before)
        right = PadRemote(server.port, server.token)
        wait_for(lambda: count() == before + 1)
        # however much one says at once, a tick reads its last sentences only
        for i in range(2000):
            right.move(left_y=i / 2000)
        with mock.patch("pivrex.devices.simulated_pad.read_pad_sentence", side_effect=read_pad_sentence) as read:
            bad = server.bad
            server.update()
            self.assertLessEqual(read.call_count, MAX_SENTENCES + 1)
            self.assertGreater(server.bad, bad)
        for pad in (*wrong, right):
            pad.unplug()
        for connection in mute:
            connection.close()
