"""Orders to the match clock from the desk: over a real UDP port, once each, and never more than the keys may do."""

import random
import re
import socket
import subprocess
import sys
import time
import unittest
from collections.abc import Callable
from pathlib import Path

import numpy as np

from pivrex.devices.match_wire import ORDERS, MatchWire
from pivrex.devices.seal import Seal
from pivrex.rig.field import Match as Periods
from pivrex.rig.transports import Link, UdpTransport
from pivrex.routine import check_text
from pivrex.session import messages as ask
from pivrex.session.periods import Period
from tests.chassis import ideal
from tests.support import TempCase
from tests.test_match import FIELD, STRAIGHT, Played

KEY = bytes(range(16))


def free_port() -> int:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one:
        one.bind(("127.0.0.1", 0))
        port: int = one.getsockname()[1]
        return port


def said(body: str) -> bytes:
    """Frame a body as docs/wire.md says, by hand."""
    check = 0
    for byte in body.encode():
        check ^= byte
    return f"${body}*{check:02X}\r\n".encode()


class WireCase(unittest.TestCase):
    def setUp(self) -> None:
        self.port = free_port()
        self.spec = UdpTransport(kind="udp", port=self.port)
        self.desk = self.a_socket()

    def a_socket(self) -> socket.socket:
        one = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        one.connect(("127.0.0.1", self.port))
        self.addCleanup(one.close)
        return one

    def until(self, what: Callable[[], bool], doing: Callable[[], object]) -> None:
        for _ in range(2000):
            doing()
            if what():
                return
            time.sleep(0.002)
        self.fail("it never came")


class OrdersTest(WireCase):
    def setUp(self) -> None:
        super().setUp()
        self.wire = MatchWire(self.spec)
        self.addCleanup(self.wire.close)
        self.orders: list[str] = []
        self.poll()

    def poll(self) -> None:
        self.orders += self.wire.poll(time.perf_counter(), 0.01)

    def send(self, data: bytes, by: socket.socket | None = None) -> None:
        (by or self.desk).send(data)

    def told(self, *data: bytes) -> list[str]:
        """Send, and one good order by another behind it: whatever came before that has been read then."""
        self.orders.clear()
        for one in data:
            self.send(one)
        last = self.a_socket()
        self.send(said("PIVMAT,1,stop"), last)
        self.until(lambda: "stop" in self.orders, self.poll)
        return self.orders[:-1]

    def test_an_order_counts_once(self) -> None:
        self.assertEqual(self.told(*[said("PIVMAT,7,match")] * 3), ["match"])
        self.assertEqual(self.told(said("PIVMAT,7,match"), said("PIVMAT,6,driven")), [])
        self.assertEqual(self.told(said("PIVMAT,8,leave") + said("PIVMAT,9,ready")), ["leave", "ready"])
        self.assertEqual(self.wire.damaged, 0)

    def test_numbers_go_round(self) -> None:
        self.assertEqual(self.told(said("PIVMAT,65535,ready"), said("PIVMAT,0,alone")), ["ready", "alone"])

    def test_another_desk_counts_anew(self) -> None:
        self.told(said("PIVMAT,900,ready"))
        self.desk = self.a_socket()
        self.assertEqual(self.told(said("PIVMAT,3,alone")), ["alone"])

    def test_what_is_no_order(self) -> None:
        for data, says in (
            (said("PIVMAT,1,match")[:-4] + b"00\r\n", "check 00"),
            (said("PIVMAT,1,begin"), '"begin" is no order; there are ready, match'),
            (said("PIVMAT,1"), "an order is PIVMAT,SEQ,ORDER"),
            (said("PIVMAT,x,match"), "sequence number"),
            (said("PIVMAT,70000,match"), "0 to 65535"),
            (said("PIVDRV,1,match"), "is no order"),
            (said("PIVMAT,1,match,now"), "an order is"),
            (b"\xff" * 500, "no frame"),
        ):
            before = self.wire.damaged
            self.assertEqual(self.told(data), [], data)
            if b"\xff" not in data:
                self.assertEqual(self.wire.damaged, before + 1, data)
                self.assertIn(says, self.wire.complaint)

    def test_bytes_of_any_kind(self) -> None:
        chance = random.Random(5)
        for _ in range(200):
            data = bytearray(said(f"PIVMAT,{chance.randrange(70000)},{chance.choice(ORDERS)}"))
            for _ in range(chance.randrange(1, 4)):
                data[chance.randrange(len(data))] = chance.randrange(256)
            self.desk.send(bytes(data))
        self.assertIsInstance(self.told(said("PIVMAT,1,leave")), list)

    def test_with_a_key_only_what_is_sealed_and_new(self) -> None:
        import hashlib
        import hmac

        def sealed(body: str, key: bytes = KEY) -> bytes:
            return said(f"{body},{hmac.new(key, body.encode(), hashlib.sha256).hexdigest()[:16].upper()}")

        seal = Seal(KEY)
        self.wire.use(seal)

        def told(*data: bytes) -> list[str]:
            self.orders.clear()
            for one in data:
                self.send(one)
            told.n += 1  # type: ignore[attr-defined]
            self.send(sealed(f"PIVMAT,{told.n},stop,900"))  # type: ignore[attr-defined]
            self.until(lambda: "stop" in self.orders, self.poll)
            return self.orders[:-1]

        told.n = 100  # type: ignore[attr-defined]
        first = sealed("PIVMAT,4,match,17")
        self.assertEqual(told(first), ["match"])
        self.assertEqual(told(first, said("PIVMAT,5,alone"), sealed("PIVMAT,200,alone,901", bytes(16))), [])
        self.assertEqual(told(sealed("PIVMAT,5,alone,17")), [])  # a session before the one that counts
        self.assertEqual(told(sealed("PIVMAT,5,stop,17")), ["stop"])  # but a stop counts, whichever session says it
        self.assertEqual(told(sealed("PIVMAT,5,stop,17", bytes(16)), said("PIVMAT,6,stop")), [])
        self.assertEqual(seal.newest, (900, 105))


class SessionTest(WireCase):
    def setUp(self) -> None:
        super().setUp()
        self.periods = Periods.model_validate(
            {"alone": "1 s", "between": "0.2 s", "driven": "1 s", "wire": {"kind": "udp", "port": self.port}}
        )
        self.rig = ideal("plover")
        self.session = self.open()
        self.session.ask(ask.ChooseRoutine(check_text(STRAIGHT, self.rig).program))
        self.number = 0

    def open(self, link: Link | None = None) -> Played:
        session = Played(ask.SetUp(self.rig, FIELD, periods=self.periods, link=link))
        self.addCleanup(session.close, 0.0)
        session.ticks(1)
        return session

    def order(self, order: str) -> None:
        """Order something, and tick until it is done or refused."""
        session, before = self.session, self.session.status.notes
        self.number += 1
        self.desk.send(said(f"PIVMAT,{self.number},{order}"))
        self.until(lambda: session.status.notes != before, lambda: session.ticks(1))

    def test_a_whole_match(self) -> None:
        s = self.session
        self.assertEqual(s.status.match.wire, f"udp {self.port}")
        self.order("ready")
        self.assertEqual(s.period, Period.READY)
        self.order("match")
        self.assertEqual(s.period, Period.ALONE)
        rows = s.ticks(50)
        self.assertGreater(np.abs(rows[:, s.line.speeds]).max(), 0.1)
        s.ticks(12)
        self.assertEqual(s.period, Period.BETWEEN)
        s.ticks(14)
        self.assertEqual(s.period, Period.DRIVEN)

    def test_stop_and_leave(self) -> None:
        s = self.session
        self.order("alone")
        s.ticks(30)
        self.order("stop")
        self.assertEqual((s.status.match.ended, s.status.held), ("stopped", "the match's desk says stop"))
        self.assertEqual(np.abs(s.ticks(5)[:, s.line.speeds]).max(), 0)
        self.order("leave")
        self.assertEqual(s.period, Period.OFF)
        self.order("alone")  # a stop is ended by the person at the screen only
        self.assertEqual(s.period, Period.OFF)
        self.assertIn("g lets it move again", s.status.note)

    def test_who_holds_a_stick_must_let_go_after_a_match(self) -> None:
        s = self.session
        self.order("ready")
        s.ask(ask.MoveSticks({"left_y": -1.0, "right_y": -1.0}))
        s.ticks(2)
        self.order("leave")
        self.assertEqual((s.period, np.abs(s.ticks(20)[:, s.line.speeds]).max()), (Period.OFF, 0))
        s.ask(ask.MoveSticks({"left_y": 0.0, "right_y": 0.0}))
        s.ticks(2)
        s.ask(ask.MoveSticks({"left_y": -1.0, "right_y": -1.0}))
        self.assertGreater(np.abs(s.ticks(20)[:, s.line.speeds]).max(), 0)

    def test_a_real_robot_is_not_started_before_somebody_goes_live(self) -> None:
        self.session.close(0.0)
        link = Link.model_validate({"wire": {"kind": "udp", "host": "127.0.0.1", "port": 5998}})
        self.session = self.open(link)
        self.session.ask(ask.ChooseRoutine(check_text(STRAIGHT, self.rig).program))
        self.order("match")
        self.assertEqual((self.session.period, "go live first" in self.session.status.note), (Period.OFF, True))

    def test_a_port_that_is_taken_is_said_and_driving_goes_on(self) -> None:
        taken = Played(ask.SetUp(self.rig, FIELD, periods=self.periods))
        self.addCleanup(taken.close, 0.0)
        rows = taken.ticks(3)
        self.assertIn(f"udp {self.port}: ", taken.status.match.wire)
        self.assertEqual(len(rows), 3)


class DeskTest(TempCase):
    def test_typed_orders_arrive(self) -> None:
        port = free_port()
        (self.folder / "workspace.toml").write_text(
            f'name = "desk"\n[match]\nwire = {{ kind = "udp", port = {port} }}\n', encoding="utf-8"
        )
        wire = MatchWire(UdpTransport(kind="udp", port=port))
        self.addCleanup(wire.close)
        found = wire.poll(time.perf_counter(), 0.01)
        ran = subprocess.run(
            [sys.executable, "-m", "pivrex", "remote", "--match"], cwd=self.folder, text=True, capture_output=True,
            input="match\nagain\nleft_y 1\nstop # now\n", check=False, timeout=60,
        )  # fmt: skip
        self.assertEqual((ran.returncode, ran.stdout), (0, ""), ran.stderr)
        self.assertEqual(ran.stderr.strip(), "line 3: 'left_y 1' is not understood")
        until = time.monotonic() + 20
        while len(found) < 2 and time.monotonic() < until:
            found += wire.poll(time.perf_counter(), 0.01)
        self.assertEqual((found, wire.damaged), (["match", "stop"], 0))

    def test_without_a_wire(self) -> None:
        (self.folder / "workspace.toml").write_text('name = "desk"\n', encoding="utf-8")
        ran = subprocess.run(
            [sys.executable, "-m", "pivrex", "remote", "--match"], cwd=self.folder, text=True, capture_output=True,
            input="", check=False, timeout=60,
        )  # fmt: skip
        self.assertEqual(ran.returncode, 1)
        self.assertIn("[match] has no wire", ran.stderr)


class PageTest(unittest.TestCase):
    def test_the_page_names_every_order_and_its_example_is_right(self) -> None:
        page = (Path(__file__).parent.parent / "docs" / "wire.md").read_text(encoding="utf-8")
        part = page[page.index("## The match clock") :]
        for order in ORDERS:
            self.assertIn(f"`{order}`", part)
        example = re.search(r"\$(PIVMAT,[^*]*)\*[0-9A-F]{2}", part)
        assert example is not None
        self.assertEqual(example[0] + "\r\n", said(example[1]).decode())
