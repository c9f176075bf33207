"""What script/bench measures of remotes and of the robot's link, over real sockets and pseudo-terminals."""

from __future__ import annotations

import contextlib
import math
import multiprocessing
import os
import pty
import select
import socket
import time
import tty
from multiprocessing.synchronize import Event as EventType
from pathlib import Path

import numpy as np
from pydantic import TypeAdapter

from pivrex.devices.decode.readers import reader_of
from pivrex.devices.encode import frame_of, line_of, packet_of
from pivrex.devices.robot_sentences import Back, back_columns, read_out, sensed_sentences, stamp_of, wire_hash
from pivrex.devices.sentence import frame, unframe
from pivrex.line import Line
from pivrex.rig import Rig, read_text
from pivrex.rig.sources import FramesSource, LettersSource, NumbersSource, PacketsSource, RigSource
from pivrex.session.client import SessionClient
from pivrex.session.messages import GoLive, GoOn, SetUp, Stop
from pivrex.session.shared import Row

DEMO = Path(__file__).parent.parent / "src" / "pivrex" / "demo"
TRIALS = 200


def parsed_per_s() -> dict[str, int]:
    """Messages of each kind read in a second, one process, one core."""
    wire = {"kind": "udp", "port": 1}
    field = {"channel": "left_y", "bit": 0, "width": 8, "offset": -128, "scale": 0.0078125}
    tables: list[dict[str, object]] = [
        {"kind": "packets", "wire": wire, "sender": "green"},
        {"kind": "numbers", "wire": wire, "columns": ["left_x", "left_y", "button_0"]},
        {"kind": "letters", "wire": wire, "letters": {"F": "forward", "S": "brake"}},
        {"kind": "frames", "wire": wire, "mark": [170, 85], "length": 4, "fields": [field]},
    ]
    found = {}
    for table in tables:
        spec = TypeAdapter(RigSource).validate_python(table)
        match spec:
            case PacketsSource():
                data = [packet_of(spec, {"left_y": 0.5}, n) for n in range(5000)]
            case NumbersSource():
                data = [line_of(spec, {"left_y": 0.5})] * 5000
            case LettersSource():
                data = [b"FS"] * 2500
            case FramesSource():
                data = [frame_of(spec, {"left_y": 0.5})] * 5000
            case _:
                continue
        best = math.inf
        for _ in range(5):
            reader = reader_of(spec, {"F": "motion", "S": "motion"})
            before = time.perf_counter()
            count = sum(1 for piece in data for message in reader.feed(piece, 0.0) if not message.fault)
            best = min(best, time.perf_counter() - before)
            assert count == 5000, (spec.kind, count)
        found[spec.kind] = round(5000 / best)
    return found


class _End:
    """A far end of a wire: of a UDP socket or of a pseudo-terminal."""

    def __init__(self, udp: bool, listens: bool) -> None:
        self.udp, self.to = udp, None
        if udp:
            self.socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
            if listens:
                self.socket.bind(("127.0.0.1", 0))
            else:
                with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe:
                    probe.bind(("127.0.0.1", 0))
                    self.to = probe.getsockname()
            port = self.socket.getsockname()[1] if listens else self.to[1]  # type: ignore[index]
            self.wire = f'{{ kind = "udp", host = "127.0.0.1", port = {port} }}'
            self.fd = self.socket.fileno()
        else:
            self.fd, near = pty.openpty()
            tty.setraw(near)
            os.set_blocking(self.fd, False)
            self.wire = f'{{ kind = "serial", port = "{os.ttyname(near)}" }}'
        self.rest = b""

    def send(self, data: bytes) -> None:
        with contextlib.suppress(OSError):
            if not self.udp:
                os.write(self.fd, data)
            elif self.to is not None:
                self.socket.sendto(data, self.to)

    def lines(self, seconds: float) -> list[bytes]:
        if not select.select([self.fd], [], [], seconds)[0]:
            return []
        try:
            if self.udp:
                data, self.to = self.socket.recvfrom(4096)
            else:
                data = os.read(self.fd, 65536)
        except OSError:
            return []
        *lines, self.rest = (self.rest + data).split(b"\n")
        return lines


def _rig(radio: _End, robot: _End) -> Rig:
    text = (DEMO / "rigs" / "plover.toml").read_text()
    for rate in ("2.5 /s", "5 /s", "4 /s", "8 /s"):
        text = text.replace(f'"{rate}"', '"0 /s"')  # a rate limit would answer a step late by intention
    text += f'\n[sources.radio]\nkind = "packets"\nsender = "green"\nsilent_after = "2 s"\nwire = {radio.wire}\n[link]\nwire = {robot.wire}\n'
    return read_text(text, Path("bench.toml"), Rig)


def source_to_output_ms(udp: bool) -> dict[str, float]:  # noqa: C901, PLR0915 - one measurement from beginning to end
    """From a packet that leaves to the sentence for the robot that has its value in it."""
    radio, robot = _End(udp, listens=False), _End(udp, listens=True)
    rig = _rig(radio, robot)
    line = Line(rig)
    rig_hash, sensed = wire_hash(line), np.zeros(len(back_columns(line)))
    client = SessionClient()
    client.set_up(SetUp(rig, None, source="radio", gamepads=False, link=rig.link))
    seq, beat = 0, 0.0

    def hear(seconds: float) -> tuple[bool, float] | None:
        """The robot's end: answers, and returns its commands."""
        commanded = None
        for sentence in robot.lines(seconds):
            try:
                out, values = read_out(unframe(sentence).split(","), rig_hash, len(line.outputs.values))
            except ValueError:
                continue
            robot.send(
                frame(f"PIVHEY,Plover,{rig_hash}")
                + b"".join(sensed_sentences(Back(stamp_of(time.perf_counter()), out.seq, int(out.drive)), sensed))
            )
            # the first motor's duty, and which way it turns: a wheel that is braked is driven the other way for a tick
            commanded = (out.drive, (values[0] if values[1] else -values[0]) if values else 0.0)
        return commanded

    def say(y: float) -> None:
        nonlocal seq, beat
        seq += 1
        radio.send(frame(f"PIVDRV,green,{seq},0,{y},0,0,0,0,0"))
        if time.perf_counter() - beat > 0.1:
            beat = time.perf_counter()
            client.beat()

    def go_live() -> None:
        end = time.perf_counter() + 30
        client.poll()
        while not client.status.live:
            say(0)
            hear(0.02)
            client.poll()
            if client.status.linked == "heard" and not client.status.lost:
                client.send(GoLive())
            if time.perf_counter() > end:
                raise SystemExit(f"the bench's robot never went live: {client.status}")

    took: list[float] = []
    try:
        go_live()
        for i in range(TRIALS):
            pause = time.perf_counter() + 0.05 + (i % 17) * 0.0011
            while time.perf_counter() < pause:
                hear(0.002)
            client.poll()
            if not client.status.live:
                go_live()  # the machine stood still for so long that the robot was stopped
            y = -0.9 if i % 2 else 0.0
            before = time.perf_counter()
            say(y)
            while time.perf_counter() - before < 0.5:
                commanded = hear(0.05)
                if commanded is not None and commanded[0] and (commanded[1] > 0) == bool(y):
                    took.append(time.perf_counter() - before)
                    break
    finally:
        client.close()
    if len(took) < TRIALS * 0.8:
        raise SystemExit(f"only {len(took)} of {TRIALS} packets were answered")
    return {
        "p50": round(float(np.percentile(took, 50)) * 1e3, 2),
        "p99": round(float(np.percentile(took, 99)) * 1e3, 2),
    }


def _flood(port: int, go: EventType, end: EventType) -> None:
    """Send ten thousand packets a second, a hundred at a time, while ``go`` is set."""
    out = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    out.connect(("127.0.0.1", port))
    said = [
        frame(f"PIVDRV,green,{seq},0,0.2,0,0,0,0,0") for seq in range(65536)
    ]  # beforehand: it must not cost the machine more
    seq = 0
    while not end.is_set():
        if not go.wait(0.1):
            continue
        due = time.perf_counter()
        while go.is_set():
            for _ in range(100):
                seq += 1
                with contextlib.suppress(OSError):
                    out.send(said[seq % 65536])
            due += 0.01
            time.sleep(max(0.0, due - time.perf_counter()))


class _Session:
    """A session of its own, watched."""

    def __init__(self, rig: Rig, source: str) -> None:
        self.client = SessionClient()
        self.client.set_up(SetUp(rig, None, source=source, gamepads=False, link=rig.link))
        end = time.perf_counter() + 30
        while not self.watch(0.1):  # its process begins, however busy the machine is
            assert time.perf_counter() < end, "the session makes no Ticks"

    def watch(self, for_s: float) -> list[Row]:
        """Return the Ticks of a time."""
        self.client.rows()
        found: list[Row] = []
        end = time.perf_counter() + for_s
        while time.perf_counter() < end:
            time.sleep(0.05)
            self.client.beat()
            self.client.poll()
            found += self.client.rows()
        return found

    @property
    def memory_kb(self) -> int:
        """How much memory its process has."""
        rows = Path(f"/proc/{self.client.process_id}/status").read_text().splitlines()
        return next(int(row.split()[1]) for row in rows if row.startswith("VmRSS"))


def _p99_ms(rows: list[Row]) -> float:
    return float(np.percentile([r.late_s for r in rows], 99)) * 1e3


def flooded(seconds: float) -> dict[str, object]:
    """How late ticks are while ten thousand messages a second arrive, against the same session in quiet: by turns of a second,
    and the median of the turns, because the machine itself stands still now and then.
    """
    radio, robot = _End(True, listens=False), _End(True, listens=True)
    session = _Session(_rig(radio, robot), "radio")
    assert radio.to is not None
    context = multiprocessing.get_context("spawn")
    go, end = context.Event(), context.Event()
    flood = context.Process(target=_flood, args=(radio.to[1], go, end))
    flood.start()
    turns: dict[str, list[list[Row]]] = {"quiet": [], "flooded": []}
    skipped = {"quiet": 0, "flooded": 0}
    try:
        session.watch(3)
        for _ in range(max(3, round(seconds / 2))):
            for name, of in turns.items():
                (go.set if name == "flooded" else go.clear)()
                session.watch(0.3)
                before = session.client.skipped
                of.append(session.watch(1.0))
                skipped[name] += session.client.skipped - before
    finally:
        end.set()
        go.clear()
        flood.join()
        session.client.close()
    p99 = {name: float(np.median([_p99_ms(rows) for rows in of])) for name, of in turns.items()}
    work = {
        name: float(np.median([np.median([r.work_s for r in rows]) for rows in of])) * 1e3 for name, of in turns.items()
    }
    return {
        **{f"{n}_late_ms_p99": round(v, 3) for n, v in p99.items()},
        **{f"{n}_work_ms": round(v, 3) for n, v in work.items()},
        **{f"{n}_skipped": v for n, v in skipped.items()},
        "flood_ratio": round(p99["flooded"] / p99["quiet"], 2),
    }


def _garbage(udp_ports: tuple[int, ...], tcp_port: int, serial: str, go: EventType, end: EventType) -> None:
    """Send garbage on every wire as fast as it takes it, up to a hundred megabytes a second in all."""
    outs = []
    for port in udp_ports:
        out = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        out.connect(("127.0.0.1", port))
        outs.append(out)
    tcp = socket.create_connection(("127.0.0.1", tcp_port))
    tcp.setblocking(False)
    line = os.open(serial, os.O_RDWR | os.O_NOCTTY | os.O_NONBLOCK)
    noise = os.urandom(1 << 20)
    lines = b"$PIVDRV,green,1*00\n" * 70
    while not end.is_set():
        if not go.wait(0.1):
            continue
        began, sent, at = time.perf_counter(), 0, 0
        while go.is_set():
            at = (at + 1400) % (len(noise) - 65536)
            for out in outs:
                with contextlib.suppress(OSError):
                    sent += out.send(noise[at : at + 1400] if at % 3 else lines)
            with contextlib.suppress(OSError):
                sent += tcp.send(noise[at : at + 65536])
            with contextlib.suppress(OSError):
                sent += os.write(line, noise[at : at + 512])
            ahead = sent / 1e8 - (time.perf_counter() - began)
            if ahead > 0.002:
                time.sleep(ahead)


def garbage(seconds: float) -> dict[str, object]:
    """A hundred megabytes a second of garbage on every wire at once: ticks, memory, and how soon a stop is done."""
    tcp_port, radio, robot = _End(True, listens=False), _End(True, listens=False), _End(True, listens=True)
    far, near = pty.openpty()
    tty.setraw(near)
    assert tcp_port.to is not None and radio.to is not None
    text = (DEMO / "rigs" / "plover.toml").read_text() + (
        f'\n[sources.radio]\nkind = "packets"\nsender = "green"\nsilent_after = "2 s"\nwire = {radio.wire}\n'
        f'[sources.toy]\nkind = "frames"\nmark = [90]\nlength = 2\nsilent_after = "1 s"\n'
        f'wire = {{ kind = "serial", port = "{os.ttyname(near)}" }}\nfields = [{{ channel = "left_y", bit = 0, width = 8 }}]\n'
        f'[sources.box]\nkind = "letters"\nwire = {{ kind = "tcp", port = {tcp_port.to[1]} }}\n'
        f'[sources.box.letters]\nF = "forward 10 %"\nS = "brake"\n[link]\nwire = {robot.wire}\n'
    )
    session = _Session(read_text(text, Path("bench.toml"), Rig), "keys")
    context = multiprocessing.get_context("spawn")
    go, end = context.Event(), context.Event()
    try:
        quiet = session.watch(3)
        robot.lines(1.0)  # so that it is known where the head is
        assert robot.to is not None
        ports = (radio.to[1], robot.to[1])
        flood = context.Process(target=_garbage, args=(ports, tcp_port.to[1], os.ttyname(far), go, end))
        flood.start()
        session.watch(1)
        go.set()
        session.watch(1)
        memory, skipped = session.memory_kb, session.client.skipped
        rows = session.watch(seconds)
        grown, skipped = session.memory_kb - memory, session.client.skipped - skipped
        stops = []
        for _ in range(20):
            session.client.send(GoOn())
            session.watch(0.1)
            before = time.perf_counter()
            session.client.send(Stop("bench"))
            while session.client.status.held != "bench" and time.perf_counter() - before < 2:
                session.client.poll()
                time.sleep(0.001)
            stops.append((time.perf_counter() - before) * 1e3)
    finally:
        end.set()
        go.clear()
        flood.join()
        session.client.close()
        os.close(far)
        os.close(near)
    return {
        "quiet_late_ms_p99": round(_p99_ms(quiet), 3),
        "late_ms_p99": round(_p99_ms(rows), 3),
        "late_of_a_tick": round(_p99_ms(rows) / (1e3 / 60), 3),
        "skipped": skipped,
        "memory_grown_kb": grown,
        "stop_ms_max": round(max(stops), 1),
    }
