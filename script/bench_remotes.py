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
from pivrex.session.messages import GoLive, SetUp

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
        """The robot's end: answers, and gives what it was told to drive."""
        told = None
        for sentence in robot.lines(seconds):
            try:
                out, values = read_out(unframe(sentence).split(","), rig_hash, len(line.outputs.values))
            except ValueError:
                continue
            robot.send(
                frame(f"PIVHEY,Plover,{rig_hash}")
                + b"".join(sensed_sentences(Back(stamp_of(time.perf_counter()), out.seq, int(out.drive)), sensed))
            )
            told = (out.drive, values[0] if values else 0.0)
        return told

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
                told = hear(0.05)
                if told is not None and told[0] and (told[1] > 0) == bool(y):
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


def _flood(port: int, seconds: float) -> None:
    """Send ten thousand packets a second, a hundred at a time."""
    out = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    out.connect(("127.0.0.1", port))
    due, end, seq = time.perf_counter(), time.perf_counter() + seconds, 0
    while due < end:
        for _ in range(100):
            seq += 1
            with contextlib.suppress(OSError):
                out.send(frame(f"PIVDRV,green,{seq % 65536},0,0.2,0,0,0,0,0"))
        due += 0.01
        time.sleep(max(0.0, due - time.perf_counter()))


def flooded(seconds: float) -> dict[str, object]:
    """How late ticks are while ten thousand messages a second arrive, against the same session in quiet, by turns."""
    radio, robot = _End(True, listens=False), _End(True, listens=True)
    client = SessionClient()
    client.set_up(SetUp(_rig(radio, robot), None, source="radio", gamepads=False))
    assert radio.to is not None
    late: dict[str, list[float]] = {"quiet": [], "flooded": []}
    context = multiprocessing.get_context("spawn")

    def watch(name: str, for_s: float) -> None:
        client.rows()
        end = time.perf_counter() + for_s
        while time.perf_counter() < end:
            time.sleep(0.1)
            client.beat()
            client.poll()
            late[name] += [r.late_s for r in client.rows()]

    try:
        time.sleep(3)
        for _ in range(3):
            watch("quiet", seconds / 3)
            flood = context.Process(target=_flood, args=(radio.to[1], seconds / 3 + 1))
            flood.start()
            time.sleep(0.8)
            watch("flooded", seconds / 3)
            flood.join()
    finally:
        client.close()
    p99 = {name: float(np.percentile(v, 99)) * 1e3 for name, v in late.items()}
    return {
        **{f"{n}_late_ms_p99": round(v, 3) for n, v in p99.items()},
        "flood_ratio": round(p99["flooded"] / p99["quiet"], 2),
    }
