"""A robot in a process of its own at the other end of a link: what it is told, and that it rests whatever is cut.

Times are those of the robot's own log. What the machine itself stood still, which that log shows too, is not computed.
"""

import contextlib
import csv
import fcntl
import itertools
import math
import os
import pty
import re
import select
import signal
import socket
import struct
import subprocess
import sys
import termios
import threading
import time
import tty
from collections.abc import Callable
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np

from pivrex.devices.link import RobotLink
from pivrex.devices.robot_end import ALONE, DRIVING, RESTING, RobotEnd
from pivrex.devices.robot_sentences import (
    Back,
    Out,
    Parts,
    SensedWire,
    back_columns,
    out_sentences,
    read_sensed,
    sensed_sentences,
    stamp_of,
    wire_hash,
)
from pivrex.devices.seal import sealed
from pivrex.devices.sentence import frame, unframe
from pivrex.devices.simulated_pad import PadRemote, read_port_file
from pivrex.devices.transports.base import Chunk
from pivrex.errors import RigError
from pivrex.line import Line
from pivrex.line.layout import Floats
from pivrex.rig import Rig, read_text
from pivrex.rig.field import Match
from pivrex.rig.transports import Link, UdpTransport
from pivrex.routine import check_text
from pivrex.session.client import SessionClient
from pivrex.session.messages import (
    AttachPads,
    ChooseRoutine,
    ChooseSource,
    GoLive,
    GoOn,
    KeyDown,
    KeyUp,
    LetGo,
    Request,
    SetKeysMode,
    SetUp,
    StartPeriod,
)  # fmt: skip
from pivrex.session.periods import Period
from pivrex.session.places import runtime_folder
from tests.chassis import PLANAR, rig_of
from tests.support import DEMO, PLAIN, ROOT, TempCase, Terminal, often, slow, wait_for
from tests.test_lost_sources import Sender, free_port, radio
from tests.test_remotes import EIGHT

WITHIN_S = 0.3
RUN = [sys.executable, "-m", "pivrex"]


class EndTest(TempCase):
    """The robot's end alone, with a clock of its own."""

    def setUp(self) -> None:
        super().setUp()
        self.rig = read_text(PLAIN, Path("plain.toml"), Rig)
        self.line = Line(self.rig)
        self.hash = wire_hash(self.line)
        self.end = RobotEnd(self.rig, None, 0.0)

    def say(
        self, seq: int, drive: bool, now_s: float, value: float = 0.5, sender: str = "a", rig_hash: str = ""
    ) -> int:
        out = Out(seq, stamp_of(now_s), drive)
        self.end.take(out_sentences(out, rig_hash or self.hash, np.array([value, value]))[0], sender, now_s)
        self.end.step(now_s)
        return self.end.state

    def test_it_drives_only_after_a_rest_and_rests_when_left_alone(self) -> None:
        self.assertEqual(self.say(1, True, 0.0), ALONE)
        self.assertEqual(self.say(2, False, 0.02), RESTING)
        self.assertEqual(self.say(3, True, 0.04), DRIVING)
        self.assertEqual(self.end.commands, [0.5, 0.5])
        self.end.step(0.18)
        self.assertEqual(self.end.state, DRIVING)
        self.end.step(0.20)
        self.assertEqual((self.end.state, self.end.commands), (ALONE, [0.0, 0.0]))
        self.assertEqual(self.say(4, True, 0.5), ALONE)  # it does not start again by itself
        self.assertEqual(self.end.refused["drive before rest"], 2)

    def test_it_rests_when_nobody_seems_to_hear_it(self) -> None:
        """Sentences go on, but the newest answer that they tell of stays the same: the way back is cut."""
        self.say(1, False, 1.0)
        drove = 0.0
        for seq in range(2, 40):
            now_s = 1.0 + 0.02 * seq
            out = Out(seq, stamp_of(1.02), True)
            self.end.take(out_sentences(out, self.hash, np.array([0.5, 0.5]))[0], "a", now_s)
            self.end.step(now_s)
            drove = now_s if self.end.state == DRIVING else drove
        self.assertTrue(1.24 <= drove <= 1.27 + 1e-9, drove)
        self.assertEqual((self.end.state, self.end.commands), (ALONE, [0.0, 0.0]))
        self.assertGreater(self.end.refused["a stale drive"], 20)

    def test_it_refuses_old_numbers_other_senders_and_other_rigs(self) -> None:
        self.say(10, False, 0.0)
        self.say(11, True, 0.02, 0.25)
        self.say(11, True, 0.03, 1.0)
        self.say(9, True, 0.04, 1.0)
        self.say(12, True, 0.05, 1.0, sender="b")
        self.say(13, True, 0.06, 1.0, rig_hash="00000000")
        self.assertEqual(self.end.commands, [0.25, 0.25])
        self.assertEqual((self.end.refused["an old number"], self.end.refused["another sender"]), (2, 1))
        self.assertEqual(sum(self.end.refused.values()), 4)

    def test_it_greets_senses_and_complains(self) -> None:
        self.end.fault = "motor 2,over temperature"
        said = [unframe(s) for s in self.end.step(0.0)]
        self.assertEqual(said[0], f"PIVHEY,Plain,{self.hash}")
        self.assertEqual(said[1], "PIVFLT,motor 2,over temperature")
        self.assertTrue(said[2].startswith("PIVSEN,0,,2,0,0,0,0,"))

    def test_noise_and_a_sentence_in_pieces(self) -> None:
        (good,) = out_sentences(Out(1, None, False), self.hash, np.zeros(2))
        self.end.take(b"\x00\xff$PIV\n" + good[:9], "a", 0.0)
        self.end.take(good[9:], "a", 0.0)
        self.assertEqual((self.end.good, sum(self.end.refused.values())), (1, 1))


class LongEndTest(TempCase):
    """A robot with so many values that its sentences come in parts."""

    def setUp(self) -> None:
        super().setUp()
        self.rig = rig_of(EIGHT, PLANAR)
        self.line = Line(self.rig)
        self.end = RobotEnd(self.rig, None, 0.0)
        self.told = np.full(len(self.line.outputs.values), 0.123456)

    def parts(self, seq: int, drive: bool, told: Any = None) -> list[bytes]:
        told = np.tile([0.123456, -0.654321], 8) if told is None else told
        sentences = out_sentences(
            Out(seq, 0, drive), wire_hash(self.line), np.concatenate([told] * (len(self.told) // len(told)))
        )
        return sentences if len(sentences) > 1 else self.in_two(sentences[0])

    @staticmethod
    def in_two(sentence: bytes) -> list[bytes]:
        """Cut one that would fit, as a sender may."""
        kind, seq, echo, mode, rig_hash, *values = unframe(sentence).split(",")
        half = len(values) // 2
        return [
            frame(",".join((kind, f"{seq}/{n}/2", echo, mode, rig_hash, *some)))
            for n, some in ((1, values[:half]), (2, values[half:]))
        ]

    def test_it_obeys_whole_sentences_only_and_a_rest_at_its_first_part(self) -> None:
        rest, drive = self.parts(1, False), self.parts(2, True)
        self.assertEqual((len(rest), len(drive)), (2, 2))
        for sentence in rest:
            self.end.take(sentence, "a", 0.0)
        self.assertEqual((self.end.state, self.end.good, sum(self.end.refused.values())), (RESTING, 1, 0))
        self.end.take(drive[0], "a", 0.02)
        self.assertEqual((self.end.state, self.end.good), (RESTING, 1))
        self.end.take(drive[1], "a", 0.02)
        self.assertEqual((self.end.state, self.end.good), (DRIVING, 2))
        self.assertEqual(self.end.commands[:2], [0.123456, -0.654321])
        self.end.take(self.parts(3, True)[0], "a", 0.04)  # its second part is lost
        self.end.take(self.parts(4, False)[0], "a", 0.06)  # and so is that of a rest
        self.assertEqual((self.end.state, self.end.commands), (RESTING, self.end._rest))

    def test_half_a_sentence_feeds_no_watchdog(self) -> None:
        for sentence in (*self.parts(1, False), *self.parts(2, True)):
            self.end.take(sentence, "a", 0.0)
        for k in range(3, 13):
            self.end.take(self.parts(k, True)[0], "a", k * 0.02)
            self.end.step(k * 0.02)
        self.assertEqual((self.end.state, self.end.commands), (ALONE, self.end._rest))

    def test_parts_and_what_follows_them_in_one_chunk(self) -> None:
        link = RobotLink(self.line, Link(wire=UdpTransport(kind="udp", host="127.0.0.1", port=9)))
        self.addCleanup(link.close)
        link.poll(time.perf_counter())
        link.command(self.told, 0.02)
        sensed = np.arange(float(len(back_columns(self.line)))) + 0.123456
        data = b"".join((*sensed_sentences(Back(1, 1, 1), sensed), frame(f"PIVHEY,mine,{link.hash}")))
        with mock.patch.object(link.wire, "poll", return_value=[Chunk(data, "", 1.0)]):
            link.poll(1.0, 1.0)
        self.assertEqual((link.greeted, link.state, link.tally.faults), (link.hash, 1, {}))
        np.testing.assert_allclose(link.sense(), sensed[: len(link.sense())], rtol=1e-5)
        self.assertEqual(link.tally.health(1.0).good, 2)  # its parts are one message

    def test_over_a_real_link(self) -> None:
        """Eight steered wheels are driven, and what they sense comes whole."""
        told = self.line.resting() + 0.5
        link, sensed = over_udp(self, self.line, self.end, told, lambda link: bool(link.sense().any()))
        self.assertEqual(self.end.commands, told.tolist())
        self.assertEqual((link.tally.faults, sum(self.end.refused.values())), ({}, 0))
        wait_for(lambda: link.poll(time.perf_counter()) or np.allclose(link.sense(), sensed(), rtol=1e-5, atol=1e-5))  # type: ignore[func-returns-value]


class CountsTest(TempCase):
    """A robot that says what its encoders counted: Coot, one of whose encoders counts the other way."""

    COUNTS = 11 * 34 / (math.tau * 0.036)
    """Of a metre: 11 a turn of the shaft, 34 turns of that for one of the wheel."""

    def rig(self, more: str = "", link: str = '\nencoders = "counts"') -> Rig:
        text = (DEMO / "rigs" / "coot.toml").read_text()
        text = text.replace('wheels = ["rear left"]', f'wheels = ["rear left"]\nencoder_reversed = true\n{more}')
        return read_text(text.replace("port = 5810 }", "port = 5810 }" + link), Path("test.toml"), Rig)

    def setUp(self) -> None:
        super().setUp()
        self.line = Line(self.rig())
        self.end = RobotEnd(self.line.rig, None, 0.0, tells_truth=False)

    def answer(self, k: int, drive: Floats) -> tuple[list[float], int]:
        """Command the robot for a tick; returns the values that it says, encoders in whole numbers, and its stamp."""
        now_s = 0.02 * k
        for sentence in out_sentences(Out(k, stamp_of(now_s), k > 0), wire_hash(self.line), drive):
            self.end.take(sentence, "a", now_s)
        parts, wire = Parts(), SensedWire(self.line)
        found = [parts.whole(unframe(s).split(",")) for s in self.end.step(now_s) if b"PIVSEN" in s]
        words = found[-1]
        assert words is not None
        for word, column in zip(words[4:], wire.columns, strict=False):
            if column.unit == "counts":
                self.assertRegex(word, r"^-?\d+$")
        back, values = read_sensed(words, len(wire.columns) + 4)
        return values[: len(wire.columns)], back.stamp

    def test_they_come_as_they_are_and_the_rig_knows_the_rest(self) -> None:
        wire, sensed = SensedWire(self.line), np.empty(0)
        names = [c.title for c in wire.columns]
        wheels = ("front_left", "front_right", "rear_left", "rear_right")
        self.assertEqual(names[:4], [f"sensed.{n}_travel_counts" for n in wheels])
        self.assertIn("sensed.boom_at_counts", names)
        self.assertFalse([n for n in names if "speed" in n])
        drive = self.line.resting()
        drive[[0, 2, 4, 6]] = 120.0
        drive[8] = 60.0  # the boom's duty
        for k in range(60):
            values, stamp = self.answer(k, drive)
            sensed = wire.read(np.array(values), stamp)
        columns = [c.name for c in self.line.stages["sensed"].columns]
        said, true = (dict(zip(columns, v, strict=True)) for v in (sensed, self.end._model.sense(self.end.body)))
        self.assertGreater(true["rear_left_travel"], 0.1)
        for k, wheel in enumerate(wheels):
            sign = -1 if wheel == "rear_left" else 1
            self.assertAlmostEqual(values[k], sign * true[f"{wheel}_travel"] * self.COUNTS, delta=0.51)
            self.assertAlmostEqual(said[f"{wheel}_travel"], true[f"{wheel}_travel"], delta=0.51 / self.COUNTS)
            # of 40 ms in whole counts and whole ms
            self.assertAlmostEqual(said[f"{wheel}_speed"], true[f"{wheel}_speed"], delta=1 / self.COUNTS / 0.04 + 0.03)
        boom = values[names.index("sensed.boom_at_counts")]
        self.assertGreater(boom, 20)
        self.assertAlmostEqual(said["boom_at"], boom * math.tau / 1440)

    def test_what_is_not_known_stays_unknown_and_a_robot_that_starts_again_has_no_speed(self) -> None:
        wire = SensedWire(self.line)
        values = np.zeros(len(wire.columns))
        places = [k for k, c in enumerate(self.line.stages["sensed"].columns) if c.name.endswith("_speed")]
        self.assertTrue(np.isnan(wire.read(values, 60000)[places]).all())  # before the second
        values[0] = np.nan
        values[1] = 100.0
        sensed = wire.read(values, 60040)
        self.assertTrue(np.isnan(sensed[0]) and np.isnan(sensed[places[0]]))
        self.assertAlmostEqual(sensed[places[1]], 100 / self.COUNTS / 0.04)
        values[1] = 0.0  # its clock and its counters begin again
        self.assertTrue(np.isnan(wire.read(values, 12)[places]).all())
        # of 20 ms each the newest two: it has just begun to turn
        fresh = SensedWire(self.line)
        for stamp, count in ((0, 0), (20, 0), (40, 0), (60, 0), (80, 0), (100, 10), (120, 20)):
            values[1] = count
            sensed = fresh.read(values, stamp)
        self.assertAlmostEqual(sensed[places[1]], 20 / self.COUNTS / 0.04)
        values[1] = 0.0
        over = SensedWire(self.line)
        over.read(values, 65530)
        values[1] = 100.0
        self.assertAlmostEqual(over.read(values, 34)[places[1]], 100 / self.COUNTS / 0.04)  # round the clock's end

    def test_over_a_real_link_also_with_other_wheels(self) -> None:
        drive = self.line.resting()
        drive[[0, 2, 4, 6]] = 120.0
        link, _ = over_udp(self, self.line, self.end, drive, lambda link: float(link.sense()[0]) > 0.02)
        self.assertEqual(link.tally.faults, {})
        self.assertGreater(float(link.sense()[2]), 0.01)  # of the encoder that counts the other way
        before = link.sense().copy()
        larger = self.rig().chassis.wheels[0].model_copy(update={"radius_m": 0.072})
        chassis = self.line.rig.chassis.model_copy(update={"wheels": (larger, *self.line.rig.chassis.wheels[1:])})
        line = Line(self.line.rig.model_copy(update={"chassis": chassis}))
        self.assertTrue(link.goes_on(line, link._link))
        self.assertFalse(link.goes_on(Line(self.rig(link="")), link._link))
        link._take_sensed(
            b"", ["PIVSEN", "1", str(link._seq), "1", *["50"] * 4, *[""] * (len(SensedWire(line).columns))], 0.0
        )
        np.testing.assert_allclose(link.sense()[:3], [100 / self.COUNTS, 50 / self.COUNTS, -50 / self.COUNTS])
        self.assertEqual(len(before), len(link.sense()))

    def test_angles_as_raw_numbers_of_a_converter(self) -> None:
        """Ten bits: a quarter turn of the sensor is 256 of 1023, less the offset that the rig has."""
        text = (DEMO / "rigs" / "avocet.toml").read_text()
        text = re.sub(
            r'kind = "counts", per_turn = 4096, offset = "[^"]*"',
            'kind = "voltage", at_supply = 1023, offset = "30 deg"',
            text,
        )
        line = Line(read_text(text, Path("test.toml"), Rig))
        names = [c.name for c in line.stages["sensed"].columns]
        sensed = np.zeros(len(names))
        sensed[[names.index(n) for n in names if n.endswith("_absolute")]] = 255.75
        _, row = line.step(line.start(), line.rest(), sensed, 0.0)
        angle = row[line.layout.at("pointing", "front_left_angle")]
        self.assertAlmostEqual(angle, math.radians(90 - 30))
        said = RobotEnd(line.rig, None, 0.0)
        raw = said._model.sense(said.body)[names.index("front_left_absolute")]
        self.assertEqual(raw, round(raw))
        self.assertGreater(raw, 1)

    def test_an_encoder_that_is_missing_is_a_mistake(self) -> None:
        text = (DEMO / "rigs" / "coot.toml").read_text().replace("port = 5810 }", 'port = 5810 }\nencoders = "counts"')
        text = text.replace("counts_per_turn = 11\n", "", 1)
        with self.assertRaises(RigError) as caught:
            read_text(text, Path("test.toml"), Rig)
        wanted = 'link.encoders: is "counts", but motors.front left has no counts_per_turn; give it, or say "converted"'
        self.assertIn(wanted, str(caught.exception))


def over_udp(
    case: TempCase, line: Line, end: RobotEnd, told: Floats, until: Callable[[RobotLink], bool]
) -> tuple[RobotLink, Callable[[], Floats]]:
    """Drive a robot's end over UDP until something is true; returns the link, and what the robot sensed when it last answered."""
    robot = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    case.addCleanup(robot.close)
    robot.bind(("127.0.0.1", 0))
    robot.settimeout(0.02)
    link = RobotLink(line, Link(wire=UdpTransport(kind="udp", host="127.0.0.1", port=robot.getsockname()[1])))
    case.addCleanup(link.close)
    sent = []

    def goes_on() -> bool:
        now = time.perf_counter()
        link.poll(now)
        link.drives = not link.problem(now)
        link.command(told, 0.02)
        with contextlib.suppress(TimeoutError):
            while True:
                data, sender = robot.recvfrom(4096)
                end.take(data, "a", now)
                for sentence in end.step(now):
                    robot.sendto(sentence, sender)
                    sent.append(end._model.sense(end.body))
        return end.state == DRIVING and until(link)

    wait_for(goes_on)
    return link, lambda: sent[-1]


class Relay:
    """Passes datagrams on between Pivrex and the robot until it is cut."""

    def __init__(self, to: int) -> None:
        self.near = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.near.bind(("127.0.0.1", 0))
        self.port = int(self.near.getsockname()[1])
        self.far = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.far.connect(("127.0.0.1", to))
        self.cut = self.cut_back = self.over = False
        self.passed: list[bytes] = []
        """What went to the robot."""
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        back = None
        while not self.over:
            for one in select.select([self.near, self.far], [], [], 0.05)[0]:
                with contextlib.suppress(OSError):
                    if one is self.near:
                        data, back = self.near.recvfrom(2048)
                        if not self.cut:
                            self.far.send(data)
                            self.passed.append(data)
                    else:
                        data = self.far.recv(2048)
                        if back is not None and not self.cut and not self.cut_back:
                            self.near.sendto(data, back)

    def close(self) -> None:
        self.over = True
        self._thread.join(1)
        self.near.close()
        self.far.close()


class Robot:
    """`pivrex simulator` in a process of its own, with its log."""

    def __init__(self, rig: Path, log: Path, *words: str) -> None:
        self.log = log
        env = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
        self.process = subprocess.Popen(
            [*RUN, "simulator", str(rig), "--log", str(log), *words], stdout=subprocess.PIPE, text=True, env=env
        )
        assert self.process.stdout is not None
        self.said = self.process.stdout.readline()

    def rows(self) -> list[tuple[float, str, bool]]:
        with self.log.open() as stream:
            found = [r for r in csv.reader(stream) if len(r) == 4][1:]
        return [(float(t), what, resting == "1") for t, what, resting, _ in found]

    def moved_on(self, cut_s: float) -> tuple[float, float]:
        """Return for how long it moved after a moment, and how long the machine itself stood still meanwhile, as its log shows."""
        rows = self.rows()
        times = [t for t, _, _ in rows if t >= cut_s - 0.1]
        stalled = sum(max(0.0, b - a - 0.06) for a, b in itertools.pairwise(times) if a < cut_s + 1.0)
        return max([t for t, _, rest in rows if t >= cut_s and not rest], default=cut_s) - cut_s, stalled

    @property
    def drives(self) -> bool:
        rows = self.rows()
        return bool(rows) and not rows[-1][2]

    def close(self) -> None:
        self.process.terminate()
        self.process.wait(5)
        assert self.process.stdout is not None
        self.process.stdout.close()


class LinkCase(TempCase):
    radio_port = 0

    def begin(
        self,
        *parts: str,
        link: Link | None = None,
        words: tuple[str, ...] = (),
        source: str = "radio",
        rig: Rig | None = None,
        periods: Match | None = None,
    ) -> Rig:
        """Start the robot and a session that commands it; gives the rig."""
        path = self.write("rigs/plain.toml", PLAIN + "".join(parts))
        port = free_port()
        self.robot = Robot(path, self.folder / "robot.csv", *(words or ("--udp", str(port))))
        self.addCleanup(self.robot.close)
        self.port = port
        self.client = SessionClient()
        self.addCleanup(self.client.close)
        rig = rig or read_text(path.read_text(), path, Rig)
        where = link or Link.model_validate({"wire": {"kind": "udp", "host": "127.0.0.1", "port": port}})
        self.client.set_up(
            SetUp(rig, None, source=source, link=where, gamepads=source == "pad 1", periods=periods or Match())
        )
        self.talking: Callable[[], None] | None = None
        return rig

    def go(self, seconds: float) -> None:
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            self.step()

    def step(self) -> bool:
        if self.talking is not None:
            self.talking()
        self.client.beat()
        self.client.poll()
        time.sleep(0.02)
        return True

    def until(self, what: Callable[[], object], seconds: float = 60) -> None:
        end = time.monotonic() + seconds
        while not (self.step() and what()):  # at the pace of the sources
            self.assertLess(time.monotonic(), end, self.client.status)

    def ask(self, request: Request) -> None:
        self.client.send(request)

    def by_radio(self) -> None:
        """Drive live by a radio."""
        self.sender = Sender(self.radio_port)
        self.addCleanup(self.sender.socket.close)
        self.talking = self.sender.say
        self.until(lambda: self.client.status.linked == "heard" and not self.client.status.lost)
        self.reach_driving(
            lambda: setattr(self, "talking", self.sender.say),
            lambda: setattr(self, "talking", lambda: self.sender.say(left_y=-0.6)),
        )

    def reach_driving(self, rest: Callable[[], object], push: Callable[[], object]) -> None:
        """Go live and drive. A machine that stands still for a moment ends that, as it should; then once more."""
        for _ in range(12):
            rest()
            self.until(self.live)
            push()
            end = time.monotonic() + 3
            while time.monotonic() < end and self.step() and self.client.status.live:
                if self.robot.drives:
                    self.go(0.3)
                    if self.robot.drives:
                        return
        self.fail(f"it never drove: {self.client.status}")

    def live(self) -> bool:
        if not self.client.status.live:
            self.ask(GoLive())
            self.go(0.1)
        return self.client.status.live

    def assert_rests(self, cut_s: float, wait_s: float = 1.2) -> None:
        """The robot had zero outputs within the time of what was cut, and stays so."""
        self.go(wait_s)
        self.assertTrue(any(t >= cut_s for t, _, _ in self.robot.rows()))
        moved_s, stalled_s = self.robot.moved_on(cut_s)
        self.assertLessEqual(moved_s, WITHIN_S + stalled_s)
        self.assertFalse(self.robot.drives)

    def with_radio(self) -> str:
        self.radio_port = free_port()
        return radio(self.radio_port)


@slow
class CutTest(LinkCase):
    def test_cutting_the_radio(self) -> None:
        self.begin(self.with_radio())
        self.by_radio()
        self.talking = None
        cut = time.monotonic()
        self.assert_rests(cut)
        # it is there again with the stick pushed: nothing moves until it was let go
        self.talking = lambda: self.sender.say(left_y=-0.6)
        self.go(0.6)
        self.assertFalse(self.robot.drives)

    def test_a_screen_that_handles_no_keys(self) -> None:
        """Its process lives, its event loop stands: a second is granted to a radio that drives."""
        self.begin(self.with_radio())
        self.by_radio()
        cut = time.monotonic()
        with mock.patch.object(self.client, "beat"):
            self.go(0.6)
            self.assertTrue(self.client.status.live)
            self.until(lambda: "this computer was too busy for 1 s" in self.client.status.held, 5)
        self.assertLess(time.monotonic() - cut, 1.6)
        self.go(0.3)
        self.assertFalse(self.robot.drives)

    def test_keys_that_nobody_handles(self) -> None:
        """While keys drive a quarter of a second is granted."""
        self.begin(source="keys")
        self.ask(SetKeysMode("held"))
        self.until(lambda: self.client.status.linked == "heard")
        self.reach_driving(lambda: self.ask(KeyUp("w")), lambda: self.ask(KeyDown("w")))
        cut = time.monotonic()
        with mock.patch.object(self.client, "beat"):
            self.assert_rests(cut)
        self.assertIn("this computer was too busy for 0.25 s", self.client.status.held)

    def test_killing_the_session(self) -> None:
        self.begin(self.with_radio())
        self.by_radio()
        os.kill(self.client.process_id, signal.SIGKILL)
        self.assert_rests(time.monotonic())

    def test_freezing_the_session(self) -> None:
        self.begin(self.with_radio())
        self.by_radio()
        os.kill(self.client.process_id, signal.SIGSTOP)
        try:
            self.assert_rests(time.monotonic(), 0.8)
        finally:
            os.kill(self.client.process_id, signal.SIGCONT)
        self.until(lambda: "stood still" in self.client.status.held or "left alone" in self.client.status.held)
        self.go(0.5)
        self.assertFalse(self.robot.drives)
        self.assertFalse(self.client.status.live)

    def test_cutting_the_link(self) -> None:
        port = free_port()
        relay = Relay(port)
        self.addCleanup(relay.close)
        link = Link.model_validate({"wire": {"kind": "udp", "host": "127.0.0.1", "port": relay.port}})
        self.begin(self.with_radio(), link=link, words=("--udp", str(port)))
        self.by_radio()
        relay.cut = True
        self.assert_rests(time.monotonic())
        self.assertFalse(self.client.status.live)
        relay.cut = False
        self.go(0.8)
        self.assertFalse(self.robot.drives)

    def test_cutting_the_link_in_a_routine(self) -> None:
        port = free_port()
        relay = Relay(port)
        self.addCleanup(relay.close)
        link = Link.model_validate({"wire": {"kind": "udp", "host": "127.0.0.1", "port": relay.port}})
        rig = self.begin(link=link, words=("--udp", str(port)), source="keys")
        self.ask(ChooseRoutine(check_text("start at 1 m, 1 m\ndrive ahead 8 m at 50 %", rig).program))
        self.reach_driving(lambda: None, lambda: self.ask(StartPeriod("alone")))
        self.assertEqual(self.client.status.match.period, Period.ALONE)
        relay.cut = True
        self.assert_rests(time.monotonic())
        self.until(lambda: self.client.status.match.ended)
        self.assertFalse(self.client.status.live)
        relay.cut = False
        self.ask(GoOn())
        self.go(0.8)
        self.assertFalse(self.robot.drives)  # neither does it go on, nor begin again
        self.assertEqual(self.client.status.match.ended, "stopped")

    def test_the_clock_cuts_a_routine_off_on_the_robot_too(self) -> None:
        rig = self.begin(
            source="keys", periods=Match.model_validate({"alone": "1.5 s", "between": "1 s", "driven": "20 s"})
        )
        self.ask(ChooseRoutine(check_text("start at 1 m, 1 m\ndrive ahead 8 m at 50 %", rig).program))
        self.reach_driving(lambda: None, lambda: self.ask(StartPeriod("alone")))
        self.until(lambda: self.client.status.match.period is not Period.ALONE)
        self.assert_rests(time.monotonic(), 0.7)

    def test_unplugging_the_pad(self) -> None:
        self.begin(source="pad 1")
        self.ask(AttachPads())
        self.until(lambda: self.client.status.pad_port)
        pad = PadRemote(*read_port_file(runtime_folder()))
        self.until(lambda: any(s.name == "pad 1" for s in self.client.status.sources))
        self.ask(ChooseSource("pad 1"))
        self.reach_driving(lambda: pad.move(left_y=0.0), lambda: pad.move(left_y=-0.8))
        pad.unplug()
        self.assert_rests(time.monotonic())
        again = PadRemote(*read_port_file(runtime_folder()))
        self.addCleanup(again.unplug)
        again.move(left_y=-0.8)
        self.go(0.8)
        self.assertFalse(self.robot.drives)
        again.move(left_y=0.0)
        self.until(lambda: not self.client.status.lost)
        self.reach_driving(lambda: again.move(left_y=0.0), lambda: again.move(left_y=-0.8))


@slow
class TransportTest(LinkCase):
    """Each kind of remote moves the robot over its real wire; the link too."""

    def drive_by(self, name: str, part: str, *script: str) -> None:
        self.begin(part, source=name)
        path = self.folder / "rigs" / "plain.toml"
        lines = self.write("script.txt", "\n".join(("wait 0.8", *script) * 60))
        env = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
        remote = subprocess.Popen([*RUN, "remote", str(path), name, "--script", str(lines)], env=env)
        self.addCleanup(remote.wait, 5)
        self.addCleanup(remote.terminate)
        self.until(lambda: self.client.status.linked == "heard" and not self.client.status.lost)
        self.until(lambda: (self.live(), self.robot.drives)[1], 90)

    def test_a_bare_stick_on_a_pseudo_terminal(self) -> None:
        self.drive_by(
            "stick",
            '[sources.stick]\nkind = "numbers"\nlabels = { X = "left_x", Y = "left_y" }\nsilent_after = "250 ms"\n'
            f'wire = {{ kind = "serial", port = "{self.folder / "stick"}" }}\n',
            *("left_y -0.7", "wait 1", "rest"),
        )

    def test_letters_over_tcp(self) -> None:
        self.drive_by(
            "box",
            f'[sources.box]\nkind = "letters"\nwire = {{ kind = "tcp", port = {free_port(socket.SOCK_STREAM)} }}\n'
            '[sources.box.letters]\nF = "forward 60 %"\nS = "brake"\n',
            *("send S", "wait 0.6", "send F"),
        )

    def test_bits_on_a_pseudo_terminal(self) -> None:
        self.drive_by(
            "toy",
            '[[bindings]]\nchannel = "go"\nsource = "toy"\ndoes = "forward 60 %"\n[sources.toy]\nkind = "frames"\nlength = 1\n'
            f'mark = [90]\nsilent_after = "250 ms"\nwire = {{ kind = "serial", port = "{self.folder / "toy"}", baud = 9600 }}\n'
            'fields = [{ channel = "go", bit = 3 }]\n',
            *("go 1", "wait 1", "go 0"),
        )

    def test_the_link_over_a_pseudo_terminal(self) -> None:
        path = self.folder / "robot-line"
        link = Link.model_validate({"wire": {"kind": "serial", "port": str(path)}})
        self.begin(link=link, words=("--serial", str(path)), source="keys")
        self.until(lambda: self.client.status.linked == "heard")
        self.ask(SetKeysMode("latched"))
        self.reach_driving(lambda: self.ask(LetGo()), lambda: self.ask(KeyDown("w")))
        far, near = pty.openpty()
        tty.setraw(near)
        os.close(far)
        os.close(near)

    def test_a_stale_rig_on_the_robot_shows_and_is_not_driven(self) -> None:
        port = free_port()
        other = self.write(
            "rigs/other.toml", PLAIN.replace('output = { kind = "fraction" }', 'output = { kind = "percent" }')
        )
        robot = Robot(other, self.folder / "other.csv", "--udp", str(port))
        self.addCleanup(robot.close)
        self.begin(
            link=Link.model_validate({"wire": {"kind": "udp", "host": "127.0.0.1", "port": port}}), source="keys"
        )
        self.until(lambda: "the robot has another rig" in self.client.status.linked)
        self.ask(GoLive())
        self.go(0.3)
        self.assertFalse(self.client.status.live)
        self.assertIn("another rig", self.client.status.note)


@slow
class HeldKeysTest(TempCase):
    """The program on a pseudo-terminal that speaks the keyboard protocol with releases, as this test does."""

    def test_keys_drive_while_they_are_held(self) -> None:  # noqa: C901 - one journey
        home, port = self.demo(), free_port()
        robot = Robot(home / "rigs" / "plover.toml", self.folder / "robot.csv", "--udp", str(port))
        self.addCleanup(robot.close)
        words = [*RUN, "open", str(home), "--rig", "plover", "--link", f"udp:127.0.0.1:{port}"]
        pid, fd = pty.fork()
        if pid == 0:
            env = {**os.environ, "PYTHONPATH": str(ROOT / "src"), "TERM": "xterm-256color", "LC_ALL": "C.UTF-8"}
            os.execvpe(words[0], words, env)
        self.addCleanup(os.close, fd)
        self.addCleanup(os.waitpid, pid, 0)
        self.addCleanup(os.kill, pid, signal.SIGKILL)
        fcntl.ioctl(fd, termios.TIOCSWINSZ, struct.pack("HHHH", 47, 160, 0, 0))
        seen = b""

        def until(what: Callable[[], object]) -> None:
            end = time.monotonic() + 90
            while not what():
                nonlocal seen
                self.assertLess(time.monotonic(), end, seen[-3000:])
                if select.select([fd], [], [], 0.05)[0]:
                    seen += os.read(fd, 65536)

        until(lambda: b"\x1b[?u" in seen)
        os.write(fd, b"\x1b[?3u")  # flags 1 and 2 are set: releases are reported
        until(lambda: b"keys, held" in seen)
        again = 0.0
        while b" LIVE " not in seen:  # the robot must have greeted first
            if time.monotonic() > again:
                again = time.monotonic() + 0.7
                os.write(fd, b"\x1b[108;5u")  # Ctrl+L
            if select.select([fd], [], [], 0.05)[0]:
                seen += os.read(fd, 65536)

        def listen(seconds: float) -> None:
            nonlocal seen
            end = time.monotonic() + seconds
            while time.monotonic() < end:
                if select.select([fd], [], [], 0.05)[0]:
                    seen += os.read(fd, 65536)

        end = time.monotonic() + 90
        while not robot.drives and time.monotonic() < end:  # again where the machine stood still for a moment
            os.write(fd, b"\x1b[119;1:3u")
            listen(0.3)
            if seen.rfind(b" LIVE ") < max(seen.rfind(b" safe "), seen.rfind(b"STOPPED")):
                os.write(fd, b"\x1b[108;5u")  # only then: a live robot is stopped by a key that means nothing
                listen(0.3)
            os.write(fd, b"\x1b[119;1:1u")  # w goes down
            listen(1.0)
        self.assertTrue(robot.drives)
        os.write(fd, b"\x1b[119;1:3u")  # and comes up
        until(lambda: not robot.drives)


class WholeProgramCase(TempCase):
    """The program itself in a terminal that reports no releases, and the robot behind its link in a process of its own."""

    def open(self, rig: Path, on_board: bool = False) -> None:
        """Open a rig's workspace with its robot, also one whose program runs in a chip; the link comes from the command line."""
        port = free_port()
        wire = f"serial:{self.folder / 'robot'}:115200" if on_board else f"udp:127.0.0.1:{port}"
        words = ("--board", "--serial", str(self.folder / "robot")) if on_board else ("--udp", str(port))
        self.robot = Robot(rig, self.folder / f"{port}.csv", *words)
        self.addCleanup(self.robot.close)
        self.terminal = Terminal("open", str(rig.parent.parent), "--rig", rig.stem, "--view", "driver", "--link", wire)
        self.addCleanup(self.terminal.close)
        self.terminal.wait("to robot, ser" if on_board else "to robot, udp 127.0.0.1:")
        wait_for(lambda: "(!" not in self.terminal.row(0), 20, self.terminal.screen)

    def drive(self, *go: str) -> None:
        """Go live and drive, with W if nothing else is said."""
        self.terminal.while_live(lambda: self.terminal.keys(*(go or ("w", "w", "w"))), lambda: self.robot.drives)


@slow
class WholeProgramTest(WholeProgramCase):
    """Driven by keys, killed and frozen whole, and its screen alone."""

    def test_kill_and_freeze(self) -> None:
        for how, whole in ((signal.SIGKILL, True), (signal.SIGSTOP, True), *[(signal.SIGSTOP, False)] * often(20, 1)):
            self.open(self.demo() / "rigs" / "plover.toml")
            self.drive()
            pids = self.terminal.pids() if whole else self.terminal.pids()[:1]
            for pid in pids:
                os.kill(pid, how)
            cut = time.monotonic()
            time.sleep(1.0)
            moved_s, stalled_s = self.robot.moved_on(cut)
            self.assertLessEqual(moved_s, WITHIN_S + stalled_s)
            self.assertFalse(self.robot.drives)
            if how == signal.SIGSTOP:
                for pid in pids:
                    os.kill(pid, signal.SIGCONT)
                self.terminal.wait("STOPPED")
                self.assertFalse(self.robot.drives)
            self.doCleanups()
            self.setUp()


@slow
class AttackedTest(WholeProgramCase):
    """Another program speaks to this one, or changes its files, while its robot is live."""

    def moved(self, seconds: float) -> bool:
        """Return whether the robot drives at any moment of the next seconds, by its own log."""
        began = time.monotonic()
        time.sleep(seconds)
        return any(t >= began and not rests for t, _, rests in self.robot.rows())

    def test_requests_at_the_port_of_the_letters(self) -> None:
        port = free_port(socket.SOCK_STREAM)
        box = f'[sources.box]\nkind = "letters"\nwire = {{ kind = "tcp", port = {port} }}\n'
        rig = self.write("rigs/plain.toml", f'{PLAIN}{box}[sources.box.letters]\nF = "forward 60 %"\nS = "brake"\n')
        self.open(rig)

        def connect() -> socket.socket:
            found = socket.create_connection(("127.0.0.1", port), timeout=5)
            self.addCleanup(found.close)
            return found

        head = b"POST / HTTP/1.1\r\nContent-Length: 400\r\n\r\n"
        tried = 0
        while tried < often(20, 2):
            self.terminal.go_live()
            other = connect()
            for piece in ((head, b"F"), (head, b"F" * 400))[tried % 2]:
                with contextlib.suppress(ConnectionError):
                    other.sendall(piece)
                time.sleep(0.005)
            self.assertFalse(self.moved(1.2))
            with contextlib.suppress(ConnectionError):
                self.assertEqual(other.recv(1), b"")  # it is hung up
            tried += " LIVE " in self.terminal.row(0)  # else the machine stood still for a moment
        own = connect()
        own.sendall(b"S")
        time.sleep(0.5)
        self.terminal.while_live(lambda: own.sendall(b"F"), lambda: self.robot.drives)

    def test_a_sealed_stop_of_an_old_session(self) -> None:
        port, key = free_port(), bytes(range(16))
        self.write("rigs/plain.key", key.hex())
        stop = '[[bindings]]\nchannel = "button_3"\nsource = "radio"\ndoes = "stop"\n'
        text = PLAIN.replace("[chassis]", 'key = "plain.key"\n[chassis]', 1) + radio(port) + stop
        self.open(self.write("rigs/plain.toml", text))
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one:
            one.connect(("127.0.0.1", port))

            def say(number: int, buttons: int, session: int, by: bytes = key) -> None:
                one.send(frame(sealed(by, f"PIVDRV,green,{number},0,0,0,0,0,0,{buttons:X}", session)))

            say(9, 0, 1_000)
            for k in range(often(20, 2)):
                self.drive()
                say(9, 1 << 3, 7 + k, bytes(16))  # with another key
                time.sleep(0.3)
                self.assertNotIn("said stop", self.terminal.row(-1))
                say(9, 1 << 3, 7 + k)
                wait_for(lambda: not self.robot.drives, 3, self.terminal.screen)
                self.terminal.wait("radio said stop, with its seal")

    def test_files_that_change_while_it_drives_alone(self) -> None:
        home = self.demo()
        rig, routine = home / "rigs" / "plover.toml", home / "routines" / "greenhouse-plover.txt"
        files = {f: f.read_text("utf-8") for f in (rig, home / "workspace.toml")}
        files[routine] = (
            "start at 0.5 m, 0.5 m\nrepeat 9 times\n    drive ahead 1 m at 30 %\n    drive back 1 m at 30 %\n"
        )
        routine.write_text(files[routine])
        self.open(rig)
        self.terminal.keys("6")
        self.terminal.wait("drive back 1 m at 30 %")
        ways: tuple[Callable[[Path], object], ...] = (
            Path.unlink, lambda f: f.write_text(files[f] + "# more\n"), lambda f: f.write_text(files[f] + "nonsense ]\n")
        )  # fmt: skip
        for k in range(often(20, 2)):
            changed = tuple(files)[k % 3]
            for _ in range(4):  # again where the machine stood still for a moment
                changed.write_text(files[changed])
                self.drive("G")
                ways[k // 3 % 3](changed)
                foot = f"it began with still drives: {re.escape(changed.name)}"
                with contextlib.suppress(AssertionError):
                    wait_for(lambda f=foot: re.search(f, self.terminal.row(-1)), 3, self.terminal.screen)  # type: ignore[misc]
                    self.assertTrue(self.moved(0.5), self.terminal.screen())
                    break
            else:
                self.fail(f"{k} {changed.name} {self.terminal.screen()}")
            self.terminal.keys("Escape")
            wait_for(lambda: not self.robot.drives, 3, self.terminal.screen)
            changed.write_text(files[changed])
