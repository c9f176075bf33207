"""`pivrex simulator`: a robot at the other end of a link, with the simulated robot's physics."""

from __future__ import annotations

import contextlib
import json
import os
import select
import signal
import socket
import sys
import time
from pathlib import Path
from typing import TextIO

from pivrex.board.emulated import EmulatedRobot
from pivrex.board.steps import Task
from pivrex.devices.decode.numbers import NumbersReader
from pivrex.devices.link_speed import link_speed
from pivrex.devices.robot_end import RobotEnd
from pivrex.devices.transports.opening import open_transport
from pivrex.devices.transports.serial_line import BITS_A_BYTE
from pivrex.errors import PivrexError, UsageError
from pivrex.line import Line
from pivrex.lower import reason
from pivrex.rig import Field, Rig
from pivrex.rig.sources import NumbersSource, PacketsSource, PinsSource
from pivrex.rig.transports import SerialTransport
from pivrex.session.places import runtime_folder

__all__ = ["be_a_robot", "stick_as_numbers"]

LOOP_S = 0.005
LOGGED_EVERY_S = 0.02
LONGEST_FAULT = 80
MAX_DATAGRAMS = 200


def be_a_robot(
    rig: Rig, field: Field | None, udp: str, serial: Path | None, log: Path | None, fault: str, board: bool = False,
    task: Task | None = None,
) -> int:  # fmt: skip
    """Run a robot until it must end; return the exit code. With ``board`` its program runs in an emulated chip, with the routine ``task``.

    Raises
    ------
    PivrexError
        If its end of the wire cannot be made.
    """
    if not fault.isascii() or not fault.isprintable() or set(fault) & set("$*") or len(fault) > LONGEST_FAULT:
        raise UsageError(
            f"--fault is {fault[:40]!r}, but goes over the wire: at most {LONGEST_FAULT} plain characters, without $ and *"
        )
    wire = rig.link.wire if rig.link is not None else None
    baud = wire.baud if isinstance(wire, SerialTransport) and serial is not None else 0
    end = _Pty(serial, baud) if serial is not None else _Port(udp)
    # a slow line has no room for values that no real robot could send
    tells_truth = not (baud and rig.link is not None and link_speed(Line(rig), rig.link).warning)
    book = _Log(log)
    print(f"{rig.name} listens on {end.title}; Ctrl+C ends it", flush=True)
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    with contextlib.ExitStack() as opened:
        opened.callback(end.close)
        opened.callback(book.close)
        if board:
            robot: RobotEnd | EmulatedRobot = EmulatedRobot(rig, field, time.monotonic(), book.note, task=task)
        else:
            robot = RobotEnd(rig, field, time.monotonic(), book.note, tells_truth)
            robot.fault = fault
        opened.callback(robot.close)
        drives = _Drives(rig, robot) if isinstance(robot, EmulatedRobot) and rig.board.mode == "alone" else None
        book.robot = robot
        try:
            while True:
                for data, sender in end.take(LOOP_S):
                    robot.take(data, sender, time.monotonic())
                now = time.monotonic()
                if drives is not None:
                    drives.poll(now)
                for sentence in robot.step(now, end.has_room()):
                    end.send(sentence, robot.partner)
                book.tick(now)
        except KeyboardInterrupt:
            return 130


def stick_as_numbers(rig: Rig, name: str) -> NumbersSource:
    """Return the stick on a board's pins as one that sends numbers on a serial line: so another program moves it."""
    spec = rig.sources[name]
    assert isinstance(spec, PinsSource)
    port = str(runtime_folder() / f"{rig.name.lower()}-{name}".replace(" ", "-"))
    wire = {"kind": "serial", "port": port}
    return NumbersSource.model_validate(
        {
            "kind": "numbers",
            "wire": wire,
            "columns": list(spec.pins),
            "low": spec.low,
            "high": spec.high,
            "silent_after": "1 s",
        }
    )


class _Drives:
    """The source of a board that is alone: bytes of its radio, or the stick on its pins."""

    def __init__(self, rig: Rig, robot: EmulatedRobot) -> None:
        spec = rig.sources[rig.board.source]
        self._robot, self._reader = robot, None
        if isinstance(spec, PinsSource):
            spec = stick_as_numbers(rig, rig.board.source)
            self._reader = NumbersReader(spec)
        assert isinstance(spec, NumbersSource | PacketsSource)
        self._wire = open_transport(spec.wire)
        print(f"{rig.board.source} drives it: pivrex remote RIG {rig.board.source} is in its place", flush=True)

    def poll(self, now_s: float) -> None:
        for chunk in self._wire.poll(now_s):
            if self._reader is None:
                self._robot.take_radio(chunk.data)
                continue
            for message in self._reader.feed(chunk.data, chunk.at_s):
                self._robot.sticks.update(message.readings or {})


class _Log:
    """A log by this program's own clock: each change at once, and the state fifty times a second."""

    def __init__(self, path: Path | None) -> None:
        self._stream: TextIO | None = None
        try:
            if path is not None:
                self._stream = path.open("w", encoding="ascii", buffering=1)
                self._stream.write("t,what,resting,values\n")
        except OSError as problem:
            raise PivrexError(f"{path}: cannot be written: {reason(problem)}") from None
        self.robot: RobotEnd | EmulatedRobot | None = None
        self._last = ""
        self._at = 0.0

    def note(self, now_s: float, what: str) -> None:
        self._write(now_s, what)

    def tick(self, now_s: float) -> None:
        if now_s - self._at >= LOGGED_EVERY_S:
            self._at = now_s
            self._write(now_s, "tick")

    def _write(self, now_s: float, what: str) -> None:
        if self._stream is not None and self.robot is not None:
            values = " ".join(f"{v:g}" for v in self.robot.commands)
            self._stream.write(f"{now_s:.4f},{what},{int(self.robot.resting)},{values}\n")

    def close(self) -> None:
        if self._stream is not None and self.robot is not None:
            print(json.dumps({"good": self.robot.good, "refused": dict(self.robot.refused)}), file=sys.stderr)
            self._stream.close()


class _Port:
    """A UDP port; answers go to the robot's partner."""

    def __init__(self, where: str) -> None:
        host, _, port = where.rpartition(":")
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        try:
            self._socket.bind((host or "127.0.0.1", int(port)))
        except (OSError, ValueError, OverflowError) as problem:
            raise PivrexError(f"udp {where} cannot be used: {reason(problem)}") from None
        self._socket.setblocking(False)
        address = self._socket.getsockname()
        self.title = f"udp {address[0]}:{address[1]}"

    def take(self, seconds: float) -> list[tuple[bytes, str]]:
        found = []
        if select.select([self._socket], [], [], seconds)[0]:
            with contextlib.suppress(BlockingIOError, ConnectionError):
                for _ in range(MAX_DATAGRAMS):
                    data, sender = self._socket.recvfrom(2048)
                    found.append((data if data.endswith(b"\n") else data + b"\n", f"{sender[0]}:{sender[1]}"))
        return found

    def has_room(self) -> bool:
        return True

    def send(self, data: bytes, partner: str) -> None:
        host, _, port = partner.rpartition(":")
        if host:
            with contextlib.suppress(OSError):
                self._socket.sendto(data, (host, int(port)))

    def close(self) -> None:
        self._socket.close()


class _Pty:
    """The far end of a pseudo-terminal; ``path`` becomes a link to its near end. It has room for what its ``baud`` carries."""

    def __init__(self, path: Path, baud: int) -> None:
        self._far, self._path, self.title = open_pty(path)
        self._baud, self._free_s = baud, 0.0

    def take(self, seconds: float) -> list[tuple[bytes, str]]:
        if not select.select([self._far], [], [], seconds)[0]:
            return []
        try:
            return [(os.read(self._far, 1 << 15), "")]
        except (BlockingIOError, OSError):
            time.sleep(seconds)  # no one has opened the near end
            return []

    def has_room(self) -> bool:
        return time.monotonic() >= self._free_s

    def send(self, data: bytes, partner: str) -> None:
        if self._baud:
            self._free_s = max(self._free_s, time.monotonic()) + len(data) * BITS_A_BYTE / self._baud
        with contextlib.suppress(OSError):
            os.write(self._far, data)

    def close(self) -> None:
        close_pty(self._far, self._path)


def open_pty(path: Path) -> tuple[int, Path, str]:
    """Make a pseudo-terminal in raw mode with a link to it at ``path``; returns its far end, the link, and a title."""
    try:
        import pty
        import tty
    except ImportError:
        raise PivrexError("this system has no pseudo-terminals; use udp instead") from None
    far, near = pty.openpty()
    tty.setraw(near)
    os.set_blocking(far, False)
    try:
        if path.is_symlink():
            path.unlink()
        path.symlink_to(os.ttyname(near))
    except OSError as problem:
        raise PivrexError(f"{path}: the serial line cannot be put there: {reason(problem)}") from None
    # keep the near end open here too, so that no bytes are lost before another program opens it
    return far, path, f"serial {path}"


def close_pty(far: int, path: Path) -> None:
    """Take a pseudo-terminal away."""
    with contextlib.suppress(OSError):
        path.unlink()
    with contextlib.suppress(OSError):
        os.close(far)
