"""A TCP port that listens, or a connection."""

from __future__ import annotations

import contextlib
import socket
import time

from pivrex.devices.transports.background import Background
from pivrex.devices.transports.base import MAX_BYTES, PIECE, Chunk, OpenTransport
from pivrex.rig.transports import TcpTransport

__all__ = ["Tcp"]

MAX_CONNECTIONS = 4

RECEIVE_BUFFER = 1 << 18
"""Bytes that the system keeps for a connection: what is older than these cannot wait here."""

KEEPALIVE = {"TCP_KEEPIDLE": 1, "TCP_KEEPALIVE": 1, "TCP_KEEPINTVL": 1, "TCP_KEEPCNT": 2, "TCP_USER_TIMEOUT": 3000}
"""A connection whose other end is gone without a word is noticed within about three seconds, where the system has these
(the second is the first on some systems; the last is in ms).
"""


class Tcp(OpenTransport):
    """A stream over the network: listens, or with a host connects."""

    def __init__(self, spec: TcpTransport) -> None:
        super().__init__(f"tcp {spec.host or 'port'} {spec.port}")
        self._spec = spec
        self._listener: socket.socket | None = None
        self._ends: dict[str, socket.socket] = {}
        self._opening: Background | None = None
        self.holder = ""
        """Who is heard, and never makes room for one that comes."""

    @property
    def connected(self) -> bool:
        return bool(self._ends)

    @property
    def senders(self) -> tuple[str, ...]:
        return tuple(self._ends)

    @property
    def port(self) -> int:
        """Where it listens."""
        return int(self._listener.getsockname()[1]) if self._listener is not None else 0

    def drop(self, sender: str) -> None:
        end = self._ends.pop(sender, None)
        if end is not None:
            end.close()

    def _open(self) -> None:
        if not self._spec.host:
            self._listener = socket.create_server((self._spec.listens_at, self._spec.port))
            self._listener.setblocking(False)
            with contextlib.suppress(OSError):
                self._listener.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, RECEIVE_BUFFER)
            self._is_there()
            return
        if self._opening is None:
            self._opening = Background(lambda: socket.create_connection((self._spec.host, self._spec.port), timeout=3))
        if not self._opening.done:
            self.problem = "connecting"
            self._try_at = 0.0
            return
        opening, self._opening = self._opening, None
        self._begin(f"{self._spec.host}:{self._spec.port}", opening.result())
        self._is_there()

    def _begin(self, name: str, end: socket.socket) -> None:
        end.setblocking(False)
        with contextlib.suppress(OSError):
            end.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
        for option, value in KEEPALIVE.items():
            if hasattr(socket, option):
                with contextlib.suppress(OSError):
                    end.setsockopt(socket.IPPROTO_TCP, getattr(socket, option), value)
        self._ends[name] = end

    def _accept(self) -> None:
        """Let one in; who is idle longest makes room."""
        assert self._listener is not None
        with contextlib.suppress(BlockingIOError):
            end, address = self._listener.accept()
            while len(self._ends) >= MAX_CONNECTIONS:
                self.drop(next(name for name in self._ends if name != self.holder))
            self._begin(f"{address[0]}:{address[1]}", end)

    def _take(self, now_s: float, until_s: float) -> list[Chunk]:
        if self._listener is not None:
            self._accept()
        found = []
        for name, end in list(self._ends.items()):
            data, gone = _received(end, until_s)
            if data:
                found.append(Chunk(data, name, now_s))
            if gone:
                self.drop(name)
                if self._listener is None:
                    raise ConnectionError("the other end closed the connection")
        return found

    def answer(self, data: bytes, sender: str) -> bool:
        end = self._ends.get(sender)
        with contextlib.suppress(OSError):  # one that is gone is noticed where it is read
            return end is not None and end.send(data) == len(data)
        return False

    def _put(self, data: bytes, first: bool) -> bool:
        sent = False
        for end in self._ends.values():
            with contextlib.suppress(BlockingIOError):
                sent |= end.send(data) == len(data)
        return sent

    def _shut(self) -> None:
        for end in self._ends.values():
            end.close()
        self._ends.clear()
        if self._listener is not None:
            self._listener.close()
            self._listener = None


def _received(end: socket.socket, until_s: float) -> tuple[bytes, bool]:
    """Return what has come, and whether the other end is gone."""
    pieces: list[bytes] = []
    size = 0
    while size < MAX_BYTES:
        try:
            piece = end.recv(PIECE)
        except BlockingIOError:
            break
        except OSError:
            piece = b""
        if not piece:
            return b"".join(pieces), True
        pieces.append(piece)
        size += len(piece)
        if len(piece) < PIECE or time.perf_counter() > until_s:
            break
    return b"".join(pieces), False
