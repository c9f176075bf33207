"""A UDP port."""

from __future__ import annotations

import contextlib
import socket
import struct
import time
from typing import Any

from pivrex.devices.transports.base import Chunk, OpenTransport
from pivrex.rig.transports import UdpTransport

__all__ = ["Udp"]

MAX_DATAGRAMS = 4000
"""Taken at one poll; what is left waits for the next, and what the system then drops was too much anyway."""

RECEIVE_BUFFER = 1 << 17
"""Bytes that the system keeps, which doubles them: some hundred datagrams. What waits there grows old."""

LARGEST = 4096
"""Bytes; what is larger is cut."""

LOOK_EVERY = 16
"""Datagrams between two looks at the clock."""


_STAMP = getattr(socket, "SO_TIMESTAMPNS", 35)


class Udp(OpenTransport):
    """A port that takes datagrams; with ``to`` also the address that they are sent to."""

    whole_messages = True

    def __init__(self, spec: UdpTransport, outward: bool = False) -> None:
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
                found.bind((self._spec.listens_at, self._spec.port))
                with contextlib.suppress(OSError):
                    found.setsockopt(socket.SOL_SOCKET, _STAMP, 1)
                with contextlib.suppress(OSError):
                    found.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, RECEIVE_BUFFER)
        except OSError:
            found.close()
            raise
        self._socket = found
        self._is_there()

    def _take(self, now_s: float, until_s: float) -> list[Chunk]:
        assert self._socket is not None
        found = []
        ahead = time.perf_counter() - time.time()  # the system stamps by the other clock
        for count in range(MAX_DATAGRAMS):
            if count % LOOK_EVERY == LOOK_EVERY - 1 and time.perf_counter() > until_s:
                break
            try:
                if hasattr(self._socket, "recvmsg"):
                    data, extra, _, address = self._socket.recvmsg(LARGEST, 64)
                else:
                    data, address = self._socket.recvfrom(LARGEST)
                    extra = []
            except BlockingIOError:
                break
            except ConnectionRefusedError:
                continue  # no one listens there yet
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

    def answer(self, data: bytes, sender: str) -> bool:
        host, _, port = sender.rpartition(":")
        with contextlib.suppress(OSError):
            return self._socket is not None and bool(port) and self._socket.sendto(data, (host, int(port))) == len(data)
        return False

    def _put(self, data: bytes, first: bool) -> bool:
        assert self._socket is not None
        try:
            return self._socket.send(data) == len(data)
        except ConnectionRefusedError:
            return False  # no one listens there yet

    def _shut(self) -> None:
        if self._socket is not None:
            self._socket.close()
            self._socket = None
