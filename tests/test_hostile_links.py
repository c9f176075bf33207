"""Links that are slow, cut one way, or under attack, with a robot in a process of its own: by its own log it rests in time."""

import contextlib
import os
import pty
import socket
import threading
import time
import tty
from pathlib import Path

from pivrex.devices.robot_sentences import Out, out_sentences, wire_hash
from pivrex.line import Line
from pivrex.rig import Rig, read_text
from pivrex.rig.transports import Link
from pivrex.session.messages import KeyDown, LetGo, SetKeysMode, Stop
from tests.support import PLAIN, slow, wait_for
from tests.test_lost_sources import free_port
from tests.test_robot_link import LinkCase, Relay, Robot


class SlowRelay:
    """A serial line of a set rate each way, with the room of a pseudo-terminal for what waits."""

    def __init__(self, near: Path, far: Path, baud: int) -> None:
        self._head, side = pty.openpty()
        tty.setraw(side)
        near.symlink_to(os.ttyname(side))
        self._side = side
        self._robot = os.open(far, os.O_RDWR | os.O_NOCTTY)
        tty.setraw(self._robot)
        self._over = False
        self._bytes_s = baud / 10
        ways = ((self._head, self._robot), (self._robot, self._head))
        self._threads = [threading.Thread(target=self._pump, args=way, daemon=True) for way in ways]
        for one in (self._head, self._robot):
            os.set_blocking(one, False)
        for thread in self._threads:
            thread.start()

    def _pump(self, come: int, go: int) -> None:
        before = time.monotonic()
        while not self._over:
            time.sleep(0.004)
            now = time.monotonic()
            room, before = int((now - before) * self._bytes_s) or 1, now
            with contextlib.suppress(OSError):
                os.write(go, os.read(come, room))

    def close(self) -> None:
        self._over = True
        for thread in self._threads:
            thread.join(2)
        for one in (self._head, self._side, self._robot):
            os.close(one)


@slow
class HostileLinkTest(LinkCase):
    def by_keys(self) -> None:
        """Drive live by keys that stay where they are."""
        self.until(lambda: self.client.status.linked == "heard")
        self.ask(SetKeysMode("latched"))
        self.again()

    def again(self) -> None:
        self.reach_driving(lambda: self.ask(LetGo()), lambda: self.ask(KeyDown("w")))

    def test_only_the_way_back_is_cut(self) -> None:
        port = free_port()
        relay = Relay(port)
        self.addCleanup(relay.close)
        link = Link.model_validate({"wire": {"kind": "udp", "host": "127.0.0.1", "port": relay.port}})
        self.begin(link=link, words=("--udp", str(port)), source="keys")
        self.by_keys()
        for _ in range(3):
            relay.cut_back = True
            self.assert_rests(time.monotonic(), 0.6)
            self.assertFalse(self.client.status.live)
            relay.cut_back = False
            self.until(lambda: self.client.status.linked == "heard")
            self.again()

    def test_a_line_that_is_too_slow_for_the_rate(self) -> None:
        near, far = self.folder / "near", self.folder / "far"
        wire = f'{{ kind = "serial", port = "{near}", baud = 19200 }}'
        path = self.write("rigs/robot.toml", f"{PLAIN}[link]\nwire = {wire}\n")
        robot = Robot(path, self.folder / "slow.csv", "--serial", str(far))
        self.addCleanup(robot.close)
        wait_for(far.exists)
        relay = SlowRelay(near, far, 19200)
        self.addCleanup(relay.close)
        self.begin(
            link=Link.model_validate({"wire": {"kind": "serial", "port": str(near), "baud": 19200}}), source="keys"
        )
        self.robot.close()  # of the two this one is not needed
        self.robot = robot
        self.by_keys()
        for _ in range(2):
            self.go(1.5)  # what could wait would wait by now
            self.ask(Stop("enough"))
            self.assert_rests(time.monotonic())
            self.again()

    def test_whoever_has_no_key_and_whoever_says_again_what_was_said(self) -> None:
        self.write("rigs/plain.key", bytes(range(16)).hex())
        text = PLAIN.replace("[chassis]", 'key = "plain.key"\n[chassis]', 1)
        path = self.write("rigs/keyed.toml", text)
        port = free_port()
        robot = Robot(path, self.folder / "keyed.csv", "--udp", str(port))
        self.addCleanup(robot.close)
        relay = Relay(port)
        self.addCleanup(relay.close)
        link = Link.model_validate({"wire": {"kind": "udp", "host": "127.0.0.1", "port": relay.port}})
        self.begin("", link=link, source="keys", rig=read_text(text, path, Rig))
        self.robot.close()
        self.robot = robot
        self.by_keys()
        self.ask(Stop("enough"))
        self.assert_rests(time.monotonic())
        drove = [data for data in relay.passed if b",1," in data][-40:]
        rig_hash = wire_hash(Line(read_text(PLAIN, path, Rig)))
        for k in range(60):
            relay.far.send(drove[k % len(drove)])  # from the head's own address
            for mode in (False, True):
                relay.far.send(
                    out_sentences(Out(60000 + k, k, mode), rig_hash, Line(read_text(PLAIN, path, Rig)).resting() + 1)[0]
                )
            self.go(0.01)
            self.assertFalse(self.robot.drives)
        self.again()  # and the right one is still obeyed

    def test_another_that_speaks_as_a_head_is_not_answered(self) -> None:
        self.begin(source="keys")
        self.by_keys()
        line = Line(read_text(PLAIN, Path("plain.toml"), Rig))
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as stranger:
            stranger.connect(("127.0.0.1", self.port))
            stranger.settimeout(0.02)
            answered = 0
            for seq in range(1, 60):
                stranger.send(out_sentences(Out(seq, 0, False), wire_hash(line), line.resting())[0])
                with contextlib.suppress(TimeoutError):
                    answered += bool(stranger.recv(2048))
                self.step()
                if (
                    not self.client.status.live
                ):  # the machine stood still for so long that the robot was alone for a moment
                    self.again()
                    answered = 0
        self.assertEqual(answered, 0)
        self.assertTrue(self.robot.drives)
