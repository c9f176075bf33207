"""Wires: serial lines, UDP and TCP ports that open by themselves, again and again, and never wait.

A wire is polled once a tick. Opening a serial line or connecting may take long, so it is done beside the clock.
"""

from __future__ import annotations

import contextlib
import os
import socket
import struct
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

from pivrex.rig.wires import SerialWire, TcpWire, UdpWire

__all__ = ["Chunk", "OpenWire", "open_wire"]

FIRST_PAUSE_S, LONGEST_PAUSE_S = 0.25, 4.0
"""Between two tries to open; each pause is twice the one before."""

MOST_BYTES = 1 << 15
MOST_DATAGRAMS = 400
"""Taken at one poll; what is left waits for the next, and what the system then drops was too much anyway."""

MOST_CONNECTIONS = 4

_STAMP = getattr(socket, "SO_TIMESTAMPNS", 35)


class Chunk(NamedTuple):
    """Bytes that came.

    Attributes
    ----------
    data : bytes
        Of a datagram all; of the other wires whatever has come.
    sender : str
        Who sent it; empty where there can be only one.
    at_s : float
        When it came, on the clock of `time.perf_counter`.
    """

    data: bytes
    sender: str
    at_s: float


class OpenWire:
    """What all wires share: when to try again, and what went wrong.

    Attributes
    ----------
    problem : str
        Why it is not open; empty while it is.
    opened : int
        Counts how often it was opened.
    """

    whole_messages = False
    """Whether each chunk is a message of its own."""

    def __init__(self, title: str) -> None:
        self.title = title
        self.problem = "not open yet"
        self.opened = 0
        self._pause_s, self._try_at = FIRST_PAUSE_S, 0.0

    @property
    def is_open(self) -> bool:
        """Whether bytes can come and go."""
        return not self.problem

    @property
    def connected(self) -> bool:
        """Whether somebody is at the other end, as far as the wire can tell."""
        return self.is_open

    def poll(self, now_s: float) -> list[Chunk]:
        """Give what has come since the last poll; opens what is not open when its time has come."""
        if self.problem and now_s >= self._try_at:
            self._try_at = now_s + self._pause_s
            self._pause_s = min(2 * self._pause_s, LONGEST_PAUSE_S)
            try:
                self._open()
            except OSError as problem:
                self._fail(problem)
        if self.problem:
            return []
        try:
            return self._take(now_s)
        except (
            OSError,
            TypeError,
            ValueError,
        ) as problem:  # pyserial raises TypeError for a port that is closed under it
            self._shut()
            self._fail(problem)
            return []

    def send(self, data: bytes) -> bool:
        """Send, at once or not at all; tells whether it left."""
        if self.problem:
            return False
        try:
            return self._put(data)
        except BlockingIOError:
            return False
        except OSError as problem:
            self._shut()
            self._fail(problem)
            return False

    def close(self) -> None:
        """Let it go for good."""
        self._shut()
        self.problem = "closed"
        self._try_at = float("inf")

    def _is_there(self) -> None:
        self.problem = ""
        self.opened += 1
        self._pause_s = FIRST_PAUSE_S

    def _fail(self, problem: Exception) -> None:
        said = getattr(problem, "strerror", None) or str(problem).splitlines()[0]
        self.problem = said[:1].lower() + said[1:120]

    def _open(self) -> None:
        raise NotImplementedError

    def _take(self, now_s: float) -> list[Chunk]:
        raise NotImplementedError

    def _put(self, data: bytes) -> bool:
        raise NotImplementedError

    def _shut(self) -> None:
        raise NotImplementedError


class _Beside:
    """Something slow that is done in a thread of its own: `done` tells, `result` gives it or raises what went wrong."""

    def __init__(self, work: Callable[[], Any]) -> None:
        self._work, self._result, self._problem = work, None, None
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        try:
            self._result = self._work()
        except Exception as problem:
            self._problem = problem  # type: ignore[assignment]

    @property
    def done(self) -> bool:
        return not self._thread.is_alive()

    def result(self) -> Any:
        if self._problem is not None:
            raise OSError(str(self._problem)) from self._problem
        return self._result


class Serial(OpenWire):
    """A serial line. Its device is known by its port, or by its USB identity in whatever port it is."""

    def __init__(self, spec: SerialWire) -> None:
        super().__init__(f"serial {spec.port or f'usb {spec.usb}'}")
        self._spec = spec
        self._port: Any = None
        self._opening: _Beside | None = None

    def _open(self) -> None:
        if self._opening is None:
            self._opening = _Beside(self._find_and_open)
            time.sleep(0)  # most ports open at once
        if not self._opening.done:
            self.problem = "being opened"
            self._try_at = 0.0
            return
        opening, self._opening = self._opening, None
        self._port = opening.result()
        self._is_there()

    def _find_and_open(self) -> Any:
        import serial

        where = self._where()
        if _is_worked_in(where):
            # a link that was left behind may point to what is somebody's terminal by now
            raise OSError(f"{where} is a terminal that somebody works in")
        try:
            return serial.Serial(where, self._spec.baud, timeout=0, write_timeout=0, exclusive=True)
        except serial.SerialException as problem:
            raise OSError(_serial_words(str(problem), self._spec)) from None

    def _where(self) -> str:
        if self._spec.port:
            return self._spec.port
        from serial.tools.list_ports import comports

        wanted = self._spec.usb.lower()
        for port in comports():
            numbers = f"{port.vid:04x}:{port.pid:04x}" if port.vid is not None else ""
            if (
                wanted in ((port.serial_number or "").lower(), numbers)
                or wanted in f"{numbers} {port.serial_number or ''}".lower()
            ):
                return str(port.device)
        raise OSError(f"no device with the USB identity {self._spec.usb} is plugged in")

    def _take(self, now_s: float) -> list[Chunk]:
        data = self._port.read(MOST_BYTES)
        return [Chunk(data, "", now_s)] if data else []

    def _put(self, data: bytes) -> bool:
        import serial

        try:
            return bool(self._port.write(data) == len(data))
        except serial.SerialTimeoutException:
            return False

    def _shut(self) -> None:
        if self._port is not None:
            with contextlib.suppress(Exception):
                self._port.close()
            self._port = None


def _is_worked_in(port: str) -> bool:
    """Tell whether a pseudo-terminal is the controlling terminal of some program; only Linux says so."""
    try:
        device = os.stat(port).st_rdev  # noqa: PTH116 - the port may be no path elsewhere
        major, minor = os.major(device), os.minor(device)
    except (OSError, AttributeError):
        return False
    number = (minor & 0xFF) | major << 8 | (minor & ~0xFF) << 12  # as the kernel writes it
    for path in Path("/proc").glob("[0-9]*/stat"):
        with contextlib.suppress(OSError, IndexError, ValueError):
            if int(path.read_text("utf-8", "replace").rsplit(")", 1)[1].split()[4]) == number:
                return True
    return False


def _serial_words(text: str, spec: SerialWire) -> str:
    if "could not exclusively lock" in text.lower() or "resource temporarily unavailable" in text.lower():
        return f"{spec.port} is taken by another program"
    if "no such file" in text.lower():
        return f"{spec.port} is not there"
    if "permission denied" in text.lower():
        return f"{spec.port} may not be opened by you; your system wants you in the group that owns it"
    return text.removeprefix("[Errno 2] ")


class Udp(OpenWire):
    """A port that takes datagrams; with ``to`` also the address that they are sent to."""

    whole_messages = True

    def __init__(self, spec: UdpWire, outward: bool = False) -> None:
        super().__init__(f"udp {spec.host or 'port'} {spec.port}")
        self._spec, self._outward = spec, outward
        self._socket: socket.socket | None = None
        self._names: dict[Any, str] = {}

    @property
    def port(self) -> int:
        """Where it listens."""
        return int(self._socket.getsockname()[1]) if self._socket is not None else 0

    def _open(self) -> None:
        found = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        try:
            found.setblocking(False)
            if self._outward:
                found.connect((self._spec.host or "127.0.0.1", self._spec.port))
            else:
                found.bind((self._spec.host, self._spec.port))
                with contextlib.suppress(OSError):
                    found.setsockopt(socket.SOL_SOCKET, _STAMP, 1)
                with contextlib.suppress(OSError):
                    found.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 20)
        except OSError:
            found.close()
            raise
        self._socket = found
        self._is_there()

    def _take(self, now_s: float) -> list[Chunk]:
        assert self._socket is not None
        found = []
        ahead = time.perf_counter() - time.time()  # the system stamps by the other clock
        for _ in range(MOST_DATAGRAMS):
            try:
                if hasattr(self._socket, "recvmsg"):
                    data, extra, _, address = self._socket.recvmsg(2048, 64)
                else:
                    data, address = self._socket.recvfrom(2048)
                    extra = []
            except BlockingIOError:
                break
            except ConnectionRefusedError:
                continue  # nobody listens there yet
            at = now_s
            for level, kind, stamp in extra:
                if level == socket.SOL_SOCKET and kind == _STAMP and len(stamp) >= 16:
                    seconds, nanoseconds = struct.unpack("qq", stamp[:16])
                    at = min(now_s, seconds + nanoseconds * 1e-9 + ahead)
            name = self._names.get(address)
            if name is None:
                if len(self._names) > 64:
                    self._names.clear()
                name = self._names[address] = f"{address[0]}:{address[1]}" if address else ""
            found.append(Chunk(data, name, at))
        return found

    def _put(self, data: bytes) -> bool:
        assert self._socket is not None
        try:
            return self._socket.send(data) == len(data)
        except ConnectionRefusedError:
            return False  # nobody listens there yet

    def _shut(self) -> None:
        if self._socket is not None:
            self._socket.close()
            self._socket = None


class Tcp(OpenWire):
    """A stream over the network: listens, or with a host connects."""

    def __init__(self, spec: TcpWire) -> None:
        super().__init__(f"tcp {spec.host or 'port'} {spec.port}")
        self._spec = spec
        self._listener: socket.socket | None = None
        self._ends: dict[str, socket.socket] = {}
        self._opening: _Beside | None = None

    @property
    def connected(self) -> bool:
        return bool(self._ends)

    @property
    def port(self) -> int:
        """Where it listens."""
        return int(self._listener.getsockname()[1]) if self._listener is not None else 0

    def _open(self) -> None:
        if not self._spec.host:
            self._listener = socket.create_server(("", self._spec.port))
            self._listener.setblocking(False)
            self._is_there()
            return
        if self._opening is None:
            self._opening = _Beside(lambda: socket.create_connection((self._spec.host, self._spec.port), timeout=3))
        if not self._opening.done:
            self.problem = "connecting"
            self._try_at = 0.0
            return
        opening, self._opening = self._opening, None
        end = opening.result()
        end.setblocking(False)
        self._ends = {f"{self._spec.host}:{self._spec.port}": end}
        self._is_there()

    def _take(self, now_s: float) -> list[Chunk]:
        if self._listener is not None:
            with contextlib.suppress(BlockingIOError):
                end, address = self._listener.accept()
                if len(self._ends) < MOST_CONNECTIONS:
                    end.setblocking(False)
                    self._ends[f"{address[0]}:{address[1]}"] = end
                else:
                    end.close()
        found = []
        for name, end in list(self._ends.items()):
            try:
                data = end.recv(MOST_BYTES)
            except BlockingIOError:
                continue
            except OSError:
                data = b""
            if data:
                found.append(Chunk(data, name, now_s))
            else:
                end.close()
                del self._ends[name]
                if self._listener is None:
                    raise ConnectionError("the other end hung up")
        return found

    def _put(self, data: bytes) -> bool:
        sent = False
        for end in self._ends.values():
            with contextlib.suppress(BlockingIOError):
                sent |= end.send(data) == len(data)
        return sent

    @property
    def senders(self) -> tuple[str, ...]:
        """Who is connected, the first first."""
        return tuple(self._ends)

    def _shut(self) -> None:
        for end in self._ends.values():
            end.close()
        self._ends.clear()
        if self._listener is not None:
            self._listener.close()
            self._listener = None


def open_wire(spec: SerialWire | UdpWire | TcpWire, outward: bool = False) -> OpenWire:
    """Make the wire that a rig describes; ``outward`` for a link, which sends to the address instead of listening there."""
    match spec:
        case SerialWire():
            return Serial(spec)
        case UdpWire():
            return Udp(spec, outward)
        case TcpWire():
            return Tcp(spec)
