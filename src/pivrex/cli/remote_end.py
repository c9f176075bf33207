"""The far end of a source's wire, to which a remote sends, on any transport."""

from __future__ import annotations

import contextlib
import os
import select
import socket
import time
from pathlib import Path
from typing import Protocol

from pivrex.cli.simulator import close_pty, open_pty
from pivrex.errors import PivrexError
from pivrex.lower import reason
from pivrex.rig.transports import SerialTransport, TcpTransport, UdpTransport

__all__ = ["FarEnd", "far_end"]

PATIENCE_S = 10.0


class FarEnd(Protocol):
    """Takes bytes for Pivrex; ``title`` says where they go."""

    title: str

    def send(self, data: bytes) -> None: ...

    def heard(self) -> bytes:
        """Return what Pivrex has said back since the last call."""
        ...

    def close(self) -> None: ...


class _Serial:
    def __init__(self, path: Path) -> None:
        self._far, self._path, self.title = open_pty(path)

    def send(self, data: bytes) -> None:
        with contextlib.suppress(BlockingIOError):
            os.write(self._far, data)

    def heard(self) -> bytes:
        with contextlib.suppress(BlockingIOError, OSError):
            return os.read(self._far, 4096)
        return b""

    def close(self) -> None:
        close_pty(self._far, self._path)


class _Udp:
    def __init__(self, host: str, port: int) -> None:
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self._socket.connect((host or "127.0.0.1", port))
        self.title = f"udp {host or '127.0.0.1'}:{port}"

    def send(self, data: bytes) -> None:
        with contextlib.suppress(ConnectionError):
            self._socket.send(data)

    def heard(self) -> bytes:
        return _waiting(self._socket)

    def close(self) -> None:
        self._socket.close()


class _Tcp:
    def __init__(self, end: socket.socket, title: str) -> None:
        self._end, self.title = end, title

    def send(self, data: bytes) -> None:
        try:
            self._end.sendall(data)
        except OSError:
            raise PivrexError("Pivrex closed the connection") from None

    def heard(self) -> bytes:
        return _waiting(self._end)

    def close(self) -> None:
        self._end.close()


def _waiting(end: socket.socket) -> bytes:
    """Return what has come on a socket, without waiting."""
    if select.select([end], [], [], 0)[0]:
        with contextlib.suppress(OSError):
            return end.recv(4096)
    return b""


def far_end(wire: SerialTransport | UdpTransport | TcpTransport, at: Path | None) -> FarEnd:
    """Make the far end of a wire; raises `PivrexError` if that cannot be."""
    match wire:
        case SerialTransport():
            if at is None and not wire.port:
                raise PivrexError(
                    f"the wire is known by its USB identity {wire.usb}; say with --at where the serial line should be"
                )
            return _Serial(at or Path(wire.port))
        case UdpTransport():
            return _Udp(wire.host, wire.port)
        case TcpTransport(host=""):
            return _Tcp(_connected(wire.port), f"tcp port {wire.port}")
        case TcpTransport():
            return _Tcp(_accepted(wire.port), f"tcp port {wire.port}")


def _connected(port: int) -> socket.socket:
    until = time.monotonic() + PATIENCE_S
    while True:
        try:
            return socket.create_connection(("127.0.0.1", port), timeout=3)
        except OSError as problem:
            if time.monotonic() > until:
                raise PivrexError(f"no Pivrex listens on tcp port {port}: {reason(problem)}") from None
            time.sleep(0.1)


def _accepted(port: int) -> socket.socket:
    listener = socket.create_server(("127.0.0.1", port))
    listener.settimeout(60)
    try:
        return listener.accept()[0]
    except TimeoutError:
        raise PivrexError(f"no Pivrex has connected to tcp port {port} for a minute") from None
    finally:
        listener.close()
