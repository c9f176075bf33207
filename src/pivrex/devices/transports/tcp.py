"""A TCP port that listens, or a connection."""

from __future__ import annotations

import contextlib
import socket

from pivrex.devices.transports.base import MOST_BYTES, Chunk, OpenTransport
from pivrex.devices.transports.beside import Beside
from pivrex.rig.transports import TcpTransport

__all__ = ["Tcp"]

MOST_CONNECTIONS = 4


class Tcp(OpenTransport):
    """A stream over the network: listens, or with a host connects."""

    def __init__(self, spec: TcpTransport) -> None:
        super().__init__(f"tcp {spec.host or 'port'} {spec.port}")
        self._spec = spec
        self._listener: socket.socket | None = None
        self._ends: dict[str, socket.socket] = {}
        self._opening: Beside | None = None

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
            self._opening = Beside(lambda: socket.create_connection((self._spec.host, self._spec.port), timeout=3))
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
