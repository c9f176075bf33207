"""Remotes over real sockets and pseudo-terminals in a session that is ticked by hand: heard, lost, and back."""

import contextlib
import itertools
import os
import pty
import random
import socket
import time
import tty
import unittest
from collections.abc import Callable
from functools import partial
from pathlib import Path
from types import SimpleNamespace
from unittest import mock

import numpy as np

from pivrex.devices.sentence import frame
from pivrex.devices.sticks import ScreenSticks
from pivrex.diagnosis.moves import MotorMove
from pivrex.errors import RigError
from pivrex.formats.recording import Recording
from pivrex.line import Line
from pivrex.rig import Rig, read_text
from pivrex.runs.ticks import play_through
from pivrex.session.core import Session
from pivrex.session.messages import (
    ChooseSource,
    GoLive,
    GoOn,
    KeyDown,
    MoveSticks,
    Probe,
    Record,
    Request,
    SetKeysMode,
    SetUp,
    Stop,
    UseRig,
    UseRobot,
    WatchSources,
)
from pivrex.session.recorder import Recorder
from tests.support import PLAIN, TempCase, plain_rig, wait_for
from tests.test_session import FakePad


def free_port(kind: int = socket.SOCK_DGRAM) -> int:
    with socket.socket(socket.AF_INET, kind) as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def radio(port: int, more: str = "", sender: str = "green") -> str:
    return (
        f'[sources.radio]\nkind = "packets"\nsender = "{sender}"\nsilent_after = "200 ms"\n{more}'
        f'wire = {{ kind = "udp", host = "127.0.0.1", port = {port} }}\n'
    )


class Sender:
    """A radio of its own address."""

    def __init__(self, port: int) -> None:
        self.socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.socket.connect(("127.0.0.1", port))
        self.seq = 0

    def say(self, left_x: float = 0.0, left_y: float = 0.0, buttons: int = 0, sender: str = "green") -> None:
        self.seq += 1
        with contextlib.suppress(ConnectionRefusedError):  # no one listens yet
            self.socket.send(frame(f"PIVDRV,{sender},{self.seq},{left_x},{left_y},0,0,0,0,{buttons:X}"))


class RemoteCase(TempCase):
    """A session on the plain rig with parts added; time goes on by 1/60 s a tick and no faster than that matters."""

    def begin(self, *parts: str, source: str = "radio", inputs: Path | None = None) -> Session:
        self.rig = read_text(PLAIN + "".join(parts), Path("test.toml"), Rig)
        self.session = Session(SetUp(self.rig, None, source=source, inputs=inputs, gamepads=False))
        self.addCleanup(lambda: self.session.close(self.now))
        self.now = 0.0
        self.tick()
        return self.session

    def tick(self, count: int = 1) -> np.ndarray:
        for _ in range(count):
            self.now += self.session.dt_s
            row = self.session.tick(self.now)
        return row

    def ask(self, *requests: Request) -> None:
        for request in requests:
            self.session.handle(request, self.now)

    def get(self, row: np.ndarray, stage: str, name: str) -> float:
        return float(row[self.session.line.layout.at(stage, name)])

    def forward(self) -> float:
        row = self.tick()
        return round(self.get(row, "outputs", "left_fraction"), 6)

    def until(self, done: object, seconds: float = 5.0) -> None:
        """Tick until something in the background has happened, such as a port that opens in a thread."""
        end = time.monotonic() + seconds
        while not done():  # type: ignore[operator]
            self.assertLess(time.monotonic(), end, self.session.status)
            self.tick()
            time.sleep(0.002)


class RadioTest(RemoteCase):
    def setUp(self) -> None:
        super().setUp()
        self.port = free_port()
        self.one = Sender(self.port)
        self.addCleanup(self.one.socket.close)

    def say(self, ticks: int, **at: float) -> float:
        """Talk at every tick; gives what the left motor gets at the end."""
        out = 0.0
        for _ in range(ticks):
            self.one.say(**at)  # type: ignore[arg-type]
            out = self.forward()
        return out

    def test_it_waits_for_its_radio_and_only_neutral_brings_it_back(self) -> None:
        self.begin(radio(self.port))
        self.assertEqual(self.session.status.lost, "radio: nothing was heard yet")
        # it comes up with the stick pushed: it must not start
        self.assertEqual(self.say(20, left_y=-0.5), 0.0)
        self.assertEqual(self.session.status.lost, "radio is heard again; let go first: forward reads +0.50")
        self.say(2)
        self.assertEqual(self.session.status.lost, "")
        self.assertEqual(self.say(2, left_y=-0.5), 0.5)
        # silence: within 200 ms and a tick it is at rest, and stays there
        quiet = 0
        while self.forward():
            quiet += 1
        self.assertIn(quiet, (11, 12, 13))
        self.assertEqual(self.session.status.lost, "radio: silent for 200 ms")
        self.assertEqual(self.say(30, left_y=-0.5), 0.0)
        self.say(1)
        self.assertEqual(self.say(2, left_y=-0.5), 0.5)

    def test_it_may_stay_live_over_a_gap(self) -> None:
        self.begin(radio(self.port))
        self.say(3)
        self.ask(GoLive())
        self.assertTrue(self.session.status.live)
        self.assertEqual(self.say(2, left_y=-0.5), 0.5)
        self.tick(30)
        self.assertTrue(self.session.status.live)
        self.assertEqual(self.forward(), 0.0)

    def test_going_live_needs_a_radio(self) -> None:
        self.begin(radio(self.port))
        self.ask(GoLive())
        self.assertFalse(self.session.status.live)
        self.assertIn("nothing was heard yet", self.session.status.note)

    def test_it_may_ramp_down_within_a_set_time(self) -> None:
        self.begin(radio(self.port, 'when_lost = "ramp"\nramp = "500 ms"\n'))
        self.say(3)
        self.say(3, left_y=-0.8)
        outs = [self.forward() for _ in range(50)]
        gone = next(i for i, v in enumerate(outs) if v < 0.79)  # lost after 200 ms
        self.assertAlmostEqual(outs[gone + 14], 0.4, delta=0.03)  # half of it after 250 ms
        self.assertEqual(outs[gone + 31], 0.0)
        self.assertTrue(all(a >= b for a, b in itertools.pairwise(outs)))

    def test_silence_may_mean_no_change_or_neutral(self) -> None:
        for word, after in (("no change", 0.5), ("neutral", 0.0)):
            port = free_port()
            self.one.socket.close()
            self.one = Sender(port)
            self.addCleanup(self.one.socket.close)
            self.begin(radio(port, f'silence = "{word}"\n'))
            self.say(3)
            self.say(3, left_y=-0.5)
            self.tick(60)
            self.assertEqual(self.forward(), after, word)
            self.assertEqual(self.session.status.lost, "")
            self.session.close(self.now)

    def test_another_sender_is_refused_and_an_old_number_moves_nothing(self) -> None:
        self.begin(radio(self.port))
        self.say(3)
        other = Sender(self.port)
        self.addCleanup(other.socket.close)
        other.seq = 5000
        for _ in range(10):
            other.say(left_y=-1.0)
            self.assertEqual(self.say(1), 0.0)
        remote = self.session.inputs.remotes["radio"]
        self.assertEqual(remote.tally.faults["foreign"], 10)
        self.assertIn("while 127.0.0.1:", remote.tally.bad[-1].reason)
        # a replay of what was said before
        self.one.seq -= 3
        self.assertEqual(self.say(3, left_y=-1.0), 0.0)
        self.assertEqual(remote.tally.faults["repeated"], 3)
        # from the same address, in another's name
        self.one.say(left_y=-1.0, sender="blue")
        self.assertEqual(self.forward(), 0.0)
        self.assertEqual(remote.tally.faults["foreign"], 11)

    def test_a_sender_that_changes_its_address_is_heard_after_a_silence(self) -> None:
        self.begin(radio(self.port))
        self.say(3)
        other = Sender(self.port)
        self.addCleanup(other.socket.close)
        self.tick(20)
        self.one = other
        self.assertEqual(self.say(5, left_y=-0.5), 0.0)
        self.say(1)
        self.assertEqual(self.say(2, left_y=-0.5), 0.5)

    def test_ten_thousand_messages_are_all_read_where_there_is_time(self) -> None:
        self.begin(radio(self.port))
        with mock.patch("pivrex.session.core.READING_SHARE", 100.0):  # a machine that is never busy otherwise
            for _ in range(100):
                for _ in range(100):
                    self.one.say()
                self.tick()
        tally = self.session.inputs.remotes["radio"].tally
        self.assertEqual((tally.good, tally.missed, tally.faults), (10_000, 0, {}))

    def test_a_button_stops_records_and_shuts_down(self) -> None:
        binds = "".join(
            f'[[bindings]]\nchannel = "button_{n}"\ndoes = "{d}"\n'
            for n, d in enumerate(("stop", "record", "shut down"))
        )
        self.begin(radio(self.port) + binds, inputs=self.folder)
        self.say(3)
        self.say(2, buttons=2)
        self.assertTrue(self.session.status.recording.startswith("radio-"))
        self.say(20, left_y=-0.5)
        self.say(2)
        self.say(2, buttons=2)
        self.assertEqual(self.session.status.recording, "")
        self.say(2, buttons=1)
        self.assertEqual(self.session.status.held, "a button said stop")
        self.say(2)
        self.ask(GoOn())
        self.assertEqual(self.session.status.held, "")
        self.say(2, buttons=4)
        self.assertEqual(self.session.status.held, "shut down by a button")

    def test_what_was_recorded_plays_again(self) -> None:
        self.begin(radio(self.port), inputs=self.folder)
        self.say(3)
        self.ask(Record())
        path = self.folder / self.session.status.recording
        driven = [self.say(1, left_y=-i / 30) for i in range(30)]
        self.ask(Record())
        self.until(lambda: f"recorded inputs/{path.name}" in self.session.status.note)
        self.assertIn("radio.left_y", path.read_text("ascii").splitlines()[0])
        line = Line(self.rig)
        at = line.layout.at("outputs", "left_fraction")
        again = [float(row[at]) for row in play_through(self.rig, Recording(path), None, every_tick=True)]
        np.testing.assert_allclose(again[: len(driven)], driven, atol=1e-6)  # six digits are sent
        # and in the session itself, as a source
        name = f"recording {path.stem}"
        self.ask(ChooseSource(name))
        self.assertEqual(self.session.status.source, name)

    def test_a_recording_keeps_every_bit_and_is_written_beside_the_clock(self) -> None:
        sticks = ScreenSticks()
        recorder = Recorder(self.folder, sticks, Line(plain_rig()), 10.0)
        values = [1 / 3, 1 / 3, 0.1, -1e-9, float("nan"), float("nan")]  # what is as it was is not written again
        for i, value in enumerate(values):
            recorder.add({"sticks": {"left_y": value}}, {"sticks": sticks}, 10.0 + i / 60)
        recorder.end(11.0)
        recorder.wait()
        self.assertTrue(recorder.done)
        rows = [row.raw["left_y"] for row in Recording(recorder.path).readings()]
        self.assertEqual(rows, [1 / 3, 0.1, -1e-9, 0.0, 0.0])

    def test_a_disk_that_fails_ends_a_recording_and_not_the_drive(self) -> None:
        sticks = ScreenSticks()
        recorder = Recorder(self.folder, sticks, Line(plain_rig()), 0.0)
        with mock.patch.object(recorder, "_write_what_came", side_effect=OSError(28, "No space left on device")):
            recorder.end(1.0)
            recorder.wait()
        self.assertEqual(recorder.problem, "no space left on device")
        recorder.add({"sticks": {"left_y": 1.0}}, {"sticks": sticks}, 2.0)

    def test_a_source_has_its_own_calibration(self) -> None:
        self.begin(radio(self.port) + "[sources.radio.axes.left_y]\nminimum = -0.5\nmaximum = 0.5\n")
        self.say(3)
        self.assertEqual(self.say(2, left_y=-0.25), 0.5)
        # the keys keep the plain one
        self.ask(ChooseSource("keys"), SetKeysMode("latched"), KeyDown("w"))
        self.assertEqual(self.forward(), 0.25)

    def test_a_changed_rig_keeps_the_wire_where_it_can(self) -> None:
        self.begin(radio(self.port))
        self.say(3)
        before = self.session.inputs.remotes["radio"]
        self.ask(UseRig(read_text(PLAIN + radio(self.port) + "x = 1\n".replace("x = 1\n", ""), Path("t.toml"), Rig), 1))
        self.tick()
        self.assertIs(self.session.inputs.remotes["radio"], before)
        other = free_port()
        self.ask(UseRig(read_text(PLAIN + radio(other), Path("t.toml"), Rig), 2))
        self.tick()
        self.assertIsNot(self.session.inputs.remotes["radio"], before)
        self.assertEqual(self.forward(), 0.0)
        self.one.socket.close()
        self.one = Sender(other)
        self.addCleanup(self.one.socket.close)
        self.say(2)
        self.assertEqual(self.say(2, left_y=-0.5), 0.5)

    def test_a_taken_port_is_said_and_tried_again(self) -> None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as taken:
            taken.bind(("127.0.0.1", self.port))
            self.begin(radio(self.port))
            self.assertIn("in use", self.session.status.lost)
        self.until(lambda: self.session.inputs.remotes["radio"].wire.is_open)
        self.say(2)
        self.assertEqual(self.say(2, left_y=-0.5), 0.5)

    def test_reports_say_how_each_source_is(self) -> None:
        self.begin(radio(self.port))
        self.ask(WatchSources(True))
        self.say(30, left_x=0.3)
        report = self.session.report
        assert report is not None
        source = next(s for s in report.sources if s.name == "radio")
        assert source.health is not None
        self.assertGreater(source.health.rate_hz, 40)
        self.assertEqual((source.travel["left_x"].high, source.nature), (0.3, "stream"))
        self.assertTrue(source.said[-1].text.startswith("$PIVDRV,green,"))


class BoxCase(RemoteCase):
    """A gamepad that drives, and a box that sends letters next to it."""

    BOX = (
        '[attachments.boom]\nkind = "motor"\noutput = {{ kind = "percent" }}\n[sources.box]\nkind = "letters"\n'
        'wire = {{ kind = "tcp", port = {port} }}\n[sources.box.letters]\nu = "boom 60 %"\no = "boom 0 %"\nF = "forward 40 %"\nS = "brake"\n'
    )

    def setUp(self) -> None:
        super().setUp()
        self.port = free_port(socket.SOCK_STREAM)
        self.begin(self.BOX.format(port=self.port), source="keys")
        self.pad = FakePad()
        self.session.pads_are({"pad 1": self.pad})
        self.ask(ChooseSource("pad 1"))
        self.until(lambda: self.session.inputs.remotes["box"].wire.is_open)
        self.box = socket.create_connection(("127.0.0.1", self.port), timeout=3)
        self.addCleanup(self.hang_up)
        self.send(b"\n")  # letters count once the connection has said nothing else for a while
        self.tick(30)

    def hang_up(self) -> None:
        self.box.close()

    def send(self, letters: bytes) -> None:
        self.box.sendall(letters)
        time.sleep(0.02)
        self.tick(2)


class TwoAtOnceTest(BoxCase):
    def test_a_gamepad_drives_and_letters_move_the_boom(self) -> None:
        self.pad.at["left_y"] = -0.5
        self.send(b"u\r\n")
        row = self.tick()
        self.assertEqual(
            (round(self.get(row, "outputs", "left_fraction"), 6), self.get(row, "outputs", "boom_percent")), (0.5, 60.0)
        )
        # the stick goes before a letter; let go, the letter moves it
        self.send(b"F")
        self.assertEqual(self.forward(), 0.5)
        self.pad.at["left_y"] = 0.0
        self.assertEqual(self.forward(), 0.4)

    def test_losing_the_letters_ends_only_what_they_did(self) -> None:
        self.pad.at["left_y"] = -0.5
        self.send(b"u")
        self.box.close()
        time.sleep(0.02)
        row = self.tick(2)
        self.assertEqual(
            (round(self.get(row, "outputs", "left_fraction"), 6), self.get(row, "outputs", "boom_percent")), (0.5, 0.0)
        )
        self.assertEqual(self.session.status.lost, "")
        info = next(s for s in self.session.status.sources if s.name == "box")
        self.assertEqual(info.waits, "the connection is gone")

    def test_letters_that_are_held_down_while_it_connects_do_not_count(self) -> None:
        self.box.close()
        time.sleep(0.02)
        self.tick(3)
        self.box = socket.create_connection(("127.0.0.1", self.port), timeout=3)
        for _ in range(30):
            self.send(b"F")
            self.assertEqual(self.forward(), 0.0)
        self.assertEqual(
            next(s for s in self.session.status.sources if s.name == "box").waits,
            "let go first: letter F says forward 40 %",
        )
        self.send(b"S")
        self.send(b"F")
        self.assertEqual(self.forward(), 0.4)

    def test_a_second_remote_on_the_same_port_is_not_heard(self) -> None:
        self.send(b"SF")
        with socket.create_connection(("127.0.0.1", self.port), timeout=3) as other:
            other.sendall(b"S")
            time.sleep(0.02)
            self.tick(8)
        self.assertEqual(self.session.inputs.remotes["box"].tally.faults["foreign"], 1)


class GoingOnTest(RemoteCase):
    def test_a_changed_rig_does_not_move_the_boom(self) -> None:
        from tests.test_bindings import ARM, bound

        parts = (ARM, bound("right_x", "boom follows"))
        self.begin(*parts, source="sticks")
        self.ask(MoveSticks({"right_x": -1.0}))
        self.tick(30)
        self.ask(MoveSticks({"right_x": 0.0}))
        row = self.tick(60)
        target = self.get(row, "attachments", "boom_target")
        self.assertGreater(abs(target), 0.5)
        changed = read_text(
            PLAIN.replace("[shaping.turn]\ndead_band = 0", '[shaping.turn]\ndead_band = "3 %"') + "".join(parts),
            Path("t.toml"),
            Rig,
        )
        self.ask(UseRig(changed, 1))
        self.assertEqual(self.get(self.tick(), "attachments", "boom_target"), target)

    def test_a_real_robot_is_probed_only_while_live(self) -> None:
        link = f'[link]\nwire = {{ kind = "udp", host = "127.0.0.1", port = {free_port()} }}\n'
        self.begin(link, source="keys")
        self.ask(UseRobot(True), Probe(1, (MotorMove(0, 0.2, 10),)))
        self.tick(3)
        self.assertEqual(self.session.status.probing, 0)
        self.assertIn("go live first", self.session.status.note)
        self.assertIn("no robot answers", self.session.status.linked)


class NoiseTest(RemoteCase):
    def test_random_bytes_on_every_wire_move_nothing(self) -> None:
        udp, tcp = free_port(), free_port(socket.SOCK_STREAM)
        far, near = pty.openpty()
        tty.setraw(near)
        self.addCleanup(os.close, far)
        os.set_blocking(far, False)
        path = os.ttyname(near)
        os.close(near)
        toy = (
            '[sources.toy]\nkind = "frames"\nlength = 2\nmark = [170]\nsilent_after = "250 ms"\nfields = [{ channel = "left_y", bit = 0, '
            f'width = 8, offset = -128, scale = 0.0078125 }}]\nwire = {{ kind = "serial", port = "{path}" }}\n'
        )
        self.begin(radio(udp), TwoAtOnceTest.BOX.format(port=tcp), toy)
        self.until(lambda: all(r.wire.is_open for r in self.session.inputs.remotes.values()))
        chance = random.Random(7)
        one = Sender(udp)
        self.addCleanup(one.socket.close)
        box = socket.create_connection(("127.0.0.1", tcp))
        self.addCleanup(box.close)
        for _ in range(150):
            noise = chance.randbytes(2000)
            with contextlib.suppress(ConnectionError, BlockingIOError):
                one.socket.send(noise)
                box.sendall(noise.replace(b"u", b"U").replace(b"F", b"f"))
                os.write(far, noise)
            row = self.tick()
            self.assertEqual(self.get(row, "outputs", "left_fraction"), 0.0)
        self.assertEqual(self.session.status.held, "")
        for name in ("radio", "box", "toy"):
            tally = self.session.inputs.remotes[name].tally
            # a connection for letters is hung up at its first other byte
            self.assertGreater(sum(tally.faults.values()), 0 if name == "box" else 50, name)
            self.assertLessEqual(len(tally.said), 24)


class AnswerTest(RemoteCase):
    """Letters are answered on their wire, and the log says what each did."""

    BOX = '[sources.box]\nkind = "letters"\n{more}letters = {{ F = "forward 50 %", S = "stop", u = "record" }}\nwire = {wire}\n'

    def log(self) -> list[str]:
        return [f"{s.text} {s.does or s.reason}" for s in self.session.inputs.remotes["box"].tally.said]

    def hear(self, read: Callable[[], bytes], lines: int) -> list[str]:
        found = b""

        def more() -> bool:
            nonlocal found
            with contextlib.suppress(BlockingIOError):
                found += read()
            return found.count(b"\r\n") >= lines

        self.until(more)
        return found.decode().split("\r\n")[:-1]

    def test_over_a_serial_line_and_what_comes_back_moves_nothing(self) -> None:
        far, near = pty.openpty()
        tty.setraw(near)
        self.addCleanup(os.close, far)
        os.set_blocking(far, False)
        wire = f'{{ kind = "serial", port = "{os.ttyname(near)}" }}'
        os.close(near)
        self.begin(self.BOX.format(more="echo = true\n", wire=wire), source="keys")
        self.until(lambda: self.session.inputs.remotes["box"].wire.is_open)
        self.tick(30)
        os.write(far, b"FZu\r\n")
        said = self.hear(partial(os.read, far, 1000), 3)
        self.assertEqual(said, ["> F forward 50 %", "> Z no letter of this rig", "> u record"])
        self.assertEqual(self.log()[-3:], ["F forward 50 %", "Z no letter of this rig", "u record"])
        self.ask(Stop("test"))
        os.write(far, b"Fu")
        said = self.hear(partial(os.read, far, 1000), 2)
        self.assertEqual(said, ["> F forward 50 %, but the robot is stopped", "> u record"])
        # a line that brings all back: F stands in every answer, and none is obeyed or answered again
        self.tick(90)  # it lasts no longer
        self.ask(GoOn())
        for part in (b"> F forw", b"ard 50 %\r", b"\n> F forward 50 %\r\n"):
            os.write(far, part)
            self.tick(3)
        self.assertEqual(self.forward(), 0.0)
        with self.assertRaises(BlockingIOError):
            os.read(far, 1000)
        self.assertEqual(self.log()[-2:], ["> an answer came back; it moves nothing"] * 2)
        os.write(far, b"F")
        self.until(lambda: self.forward() > 0)
        # a sign of an answer that is noise, with no line end behind it, makes no one deaf
        self.tick(90)
        os.write(far, b">")
        self.tick(2)
        os.write(far, b"F")
        self.tick(2)
        self.assertEqual(self.forward(), 0.0)
        self.tick(20)
        os.write(far, b"F")
        self.until(lambda: self.forward() > 0)

    def test_over_the_network_who_spoke_is_answered(self) -> None:
        for kind, tcp in ((socket.SOCK_DGRAM, False), (socket.SOCK_STREAM, True)):
            port = free_port(kind)
            wire = f'{{ kind = "{"tcp" if tcp else "udp"}", port = {port} }}'
            self.begin(self.BOX.format(more='echo = true\nsilent_after = "2 s"\n', wire=wire), source="keys")
            self.tick(2)
            one = socket.socket(socket.AF_INET, kind)
            self.addCleanup(one.close)
            one.connect(("127.0.0.1", port))
            one.setblocking(False)
            one.send(b"F")
            said = self.hear(partial(one.recv, 1000), 1)
            self.assertEqual(said[0].partition(",")[0], "> F forward 50 %")
            if tcp:  # a connection is listened to for a moment before its letters count
                self.assertEqual(said[0], "> F forward 50 %, but just connected: it does not count yet")
                self.tick(30)
                one.send(b"F")
                self.assertEqual(self.hear(partial(one.recv, 1000), 1), ["> F forward 50 %"])
            one.close()
            self.tick(3)
            self.session.close(self.now)

    def test_none_is_answered_unless_the_rig_wishes_it(self) -> None:
        port = free_port()
        self.begin(
            self.BOX.format(more='silent_after = "2 s"\n', wire=f'{{ kind = "udp", port = {port} }}'), source="keys"
        )
        one = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.addCleanup(one.close)
        one.connect(("127.0.0.1", port))
        one.setblocking(False)
        one.send(b"F")
        self.until(self.log)
        self.tick(5)
        self.assertEqual(self.log(), ["F forward 50 %"])
        with self.assertRaises(BlockingIOError):
            one.recv(100)

    def test_sentences_say_what_each_of_their_letters_does_and_are_not_answered(self) -> None:
        port = free_port()
        more = 'framed = true\nsender = "green"\nsilent_after = "2 s"\n'
        box = self.BOX.format(more=more, wire=f'{{ kind = "udp", port = {port} }}')
        self.begin(box, source="keys")
        one = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.addCleanup(one.close)
        one.connect(("127.0.0.1", port))
        one.send(frame("PIVLET,green,3,Fu"))
        self.until(self.log)
        self.assertTrue(self.log()[0].endswith(" F: forward 50 %; u: record"), self.log())
        with self.assertRaises(RigError) as caught:
            read_text(PLAIN + box.replace("framed", "echo = true\nframed", 1), Path("test.toml"), Rig)
        self.assertIn("echo: is for letters that are not framed", str(caught.exception.mistakes[0]))
        with self.assertRaises(RigError) as caught:
            one_more = self.BOX.format(more="echo = true\n", wire='{ kind = "serial", port = "/dev/x" }').replace(
                "u =", '">" ='
            )
            read_text(PLAIN + one_more, Path("test.toml"), Rig)
        self.assertIn("begins each answer", str(caught.exception.mistakes[0]))


class SerialTest(RemoteCase):
    STICK = (
        '[sources.stick]\nkind = "numbers"\ncolumns = ["left_x", "left_y"]\nsilent_after = "250 ms"\nhigh = 255\nhello = "go\\\\n"\n'
        'wire = {{ kind = "serial", port = "{port}", baud = 9600 }}\n'
    )

    def plug(self) -> int:
        far, near = pty.openpty()
        tty.setraw(near)
        path = self.folder / "stick"
        with contextlib.suppress(OSError):
            path.unlink()
        path.symlink_to(os.ttyname(near))
        os.close(near)
        os.set_blocking(far, False)
        return far

    def say(self, far: int, text: bytes) -> float:
        os.write(far, text)
        time.sleep(0.01)
        return self.forward()

    def test_a_stick_is_unplugged_and_plugged_in_again(self) -> None:
        far = self.plug()
        self.begin(self.STICK.format(port=self.folder / "stick"), source="stick")
        remote = self.session.inputs.remotes["stick"]
        self.until(lambda: remote.wire.is_open)
        self.assertEqual(os.read(far, 100), b"go\n")  # what sets it up
        self.say(far, b"127.5 127.5\n")
        self.assertAlmostEqual(self.say(far, b"127.5 64\n127"), 0.498, places=3)
        # noise and a wrong rate are counted, never fatal
        self.say(far, b"\xff\xfe\x00\x80\n12 twelve\n")
        self.assertEqual(remote.tally.faults["damaged"], 2)
        os.close(far)
        self.until(lambda: bool(self.session.status.lost))
        self.assertEqual(self.forward(), 0.0)
        far = self.plug()
        self.addCleanup(os.close, far)
        self.until(lambda: remote.wire.is_open, 10)
        self.assertEqual(os.read(far, 100), b"go\n")  # set up again
        self.assertEqual(self.say(far, b"127.5 0\n"), 0.0)
        self.say(far, b"127.5 127.5\n")
        self.assertEqual(self.say(far, b"127.5 0\n"), 1.0)

    def test_a_port_that_is_not_there_or_taken_is_said(self) -> None:
        self.begin(self.STICK.format(port=self.folder / "nothing"), source="stick")
        self.until(lambda: "is not there" in self.session.status.lost)
        far = self.plug()
        self.addCleanup(os.close, far)
        import serial

        with serial.Serial(str(self.folder / "stick"), exclusive=True):
            self.session.close(self.now)
            self.begin(self.STICK.format(port=self.folder / "stick"), source="stick")
            self.until(lambda: "is taken by another program" in self.session.status.lost)

    def test_somebodys_terminal_is_left_alone(self) -> None:
        pid, far = pty.fork()
        if pid == 0:
            os.execvp("sleep", ["sleep", "60"])
        self.addCleanup(os.close, far)
        self.addCleanup(os.waitpid, pid, 0)
        self.addCleanup(os.kill, pid, 9)
        stdin = Path(f"/proc/{pid}/fd/0")
        wait_for(lambda: str(stdin.readlink()).startswith("/dev/pts/"))
        (self.folder / "stick").symlink_to(stdin.readlink())
        self.begin(self.STICK.format(port=self.folder / "stick"), source="stick")
        self.until(lambda: "is a terminal that someone works in" in self.session.status.lost)

    def test_a_usb_device_is_found_in_any_port_and_told_from_its_twin(self) -> None:
        far = self.plug()
        self.addCleanup(os.close, far)
        twins = [SimpleNamespace(vid=0x1209, pid=1, serial_number=n, device=d) for n, d in (
            ("A1", "/nowhere"), ("B2", str(self.folder / "stick")))]  # fmt: skip
        with mock.patch("serial.tools.list_ports.comports", return_value=twins):
            self.begin(self.STICK.format(port="x").replace('port = "x"', 'usb = "b2"'), source="stick")
            self.until(lambda: self.session.inputs.remotes["stick"].wire.is_open)
        self.say(far, b"127.5 127.5\n")
        self.assertEqual(self.say(far, b"127.5 0\n"), 1.0)

    def test_a_usb_device_that_is_not_plugged_in_is_said(self) -> None:
        text = self.STICK.format(port="x").replace('port = "x"', 'usb = "no-such-number"')
        self.begin(text, source="stick")
        self.until(lambda: "no device with the USB identity no-such-number" in self.session.status.lost)

    def test_a_device_that_says_nothing_keeps_the_robot_still(self) -> None:
        far = self.plug()
        self.addCleanup(os.close, far)
        self.begin(self.STICK.format(port=self.folder / "stick"), source="stick")
        self.until(lambda: self.session.inputs.remotes["stick"].wire.is_open)
        self.tick(30)
        self.assertEqual(self.session.status.lost, "stick: nothing was heard yet")
        self.ask(Stop("Esc"), GoOn())
        self.assertNotEqual(self.session.status.held, "")


if __name__ == "__main__":
    unittest.main()
