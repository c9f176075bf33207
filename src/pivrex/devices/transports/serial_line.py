"""A serial line."""

from __future__ import annotations

import contextlib
import os
import time
from pathlib import Path
from typing import Any

from pivrex.devices.transports.background import Background
from pivrex.devices.transports.base import MAX_BYTES, PIECE, Chunk, OpenTransport
from pivrex.rig.transports import SerialTransport

__all__ = ["Serial"]


BITS_A_BYTE = 10
"""A start bit, eight of the byte, a stop bit."""

WAITING_BYTES = 8
"""How few bytes may still wait in the system when more are sent."""


class Serial(OpenTransport):
    """A serial line. Its device is known by its port, or by its USB identity in whatever port it is.

    It never queues: what is sent while the bytes before it are still on the line is refused, so that whoever sends says
    what is newest once the line is free.
    """

    def __init__(self, spec: SerialTransport) -> None:
        super().__init__(f"serial {spec.port or f'usb {spec.usb}'}")
        self._spec = spec
        self._port: Any = None
        self._opening: Background | None = None
        self._free_s = 0.0
        self._cut = False
        """Whether the last message did not leave whole."""

    def _open(self) -> None:
        if self._opening is None:
            self._opening = Background(self._find_and_open)
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
            # an old link may point to another person's terminal by now
            raise OSError(f"{where} is a terminal that someone works in")
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

    def _take(self, now_s: float, until_s: float) -> list[Chunk]:
        pieces: list[bytes] = []
        while len(pieces) < MAX_BYTES // PIECE:
            piece = self._port.read(PIECE)
            if piece:
                pieces.append(piece)
            if not piece or time.perf_counter() > until_s:
                break
        return [Chunk(b"".join(pieces), "", now_s)] if pieces else []

    def _put(self, data: bytes, first: bool) -> bool:
        import serial

        now = time.perf_counter()
        if first and now < self._free_s:
            self._port.reset_output_buffer()
            self._free_s, self._cut = now, True
        if now < self._free_s or self._waiting() > WAITING_BYTES:
            return False
        whole = b"\r\n" + data if self._cut else data
        try:
            count = int(self._port.write(whole) or 0)
        except serial.SerialTimeoutException:
            count = 0
        self._cut = count < len(whole)
        self._free_s = now + count * BITS_A_BYTE / self._spec.baud
        return not self._cut

    def _waiting(self) -> int:
        """Return how many bytes still wait in the system, where it says so."""
        with contextlib.suppress(OSError, AttributeError):
            return int(self._port.out_waiting)
        return 0

    def _shut(self) -> None:
        if self._port is not None:
            with contextlib.suppress(Exception):
                self._port.close()
            self._port = None


def _is_worked_in(port: str) -> bool:
    """Return whether a pseudo-terminal is the controlling terminal of some program; only Linux says so."""
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


def _serial_words(text: str, spec: SerialTransport) -> str:
    if "could not exclusively lock" in text.lower() or "resource temporarily unavailable" in text.lower():
        return f"{spec.port} is taken by another program"
    if "no such file" in text.lower():
        return f"{spec.port} is not there"
    if "permission denied" in text.lower():
        return f"{spec.port} may not be opened by you; your system wants you in the group that owns it"
    return text.removeprefix("[Errno 2] ")
