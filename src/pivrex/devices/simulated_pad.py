"""A simulated gamepad: a virtual one in this process, moved from outside over a local socket.

Each connection is one gamepad; closing it unplugs the gamepad. The first sentence is ``$PIVTOK,`` and the token that a running
Pivrex leaves, with the port, in a file that only its owner may read. The others are ``$PIVPAD,`` and then the six axes
(left x, left y, right x, right y, left trigger, right trigger) as decimal fractions and the pressed buttons as a
hexadecimal number, whose bit n is button n of the standard layout.
"""

from __future__ import annotations

import contextlib
import hmac
import secrets
import socket
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pivrex.devices.pads import PAD_BUTTONS
from pivrex.devices.sentence import frame, unframe
from pivrex.errors import PivrexError
from pivrex.files import read_persons, writing
from pivrex.rig.channels import STICKS

__all__ = ["PadRemote", "PadServer", "pad_sentence", "read_pad_sentence", "read_port_file", "write_port_file"]

AXES = (*STICKS, "left_trigger", "right_trigger")
LONGEST_LINE = 200
MAX_PADS = 8
MAX_SENTENCES = 16
"""Read at a tick; of more that came the newest count."""

MAX_WAITING = 8
WAIT_S = 3.0
"""How long a connection may take to give its token."""


def pad_sentence(readings: Mapping[str, float]) -> bytes:
    """Write readings as a sentence; channels that are left out rest."""
    axes = ",".join(f"{readings.get(c, 0.0):.4f}" for c in AXES)
    bits = sum(1 << n for n in range(17) if readings.get(f"button_{n}", 0.0) >= 0.5)
    return frame(f"PIVPAD,{axes},{bits:X}")


def read_pad_sentence(line: bytes) -> dict[str, float]:
    """Read a sentence; raises `ValueError` with what is wrong with it."""
    fields = unframe(line).split(",")
    if fields[0] != "PIVPAD" or len(fields) != len(AXES) + 2:
        raise ValueError("no PIVPAD sentence with six axes and the buttons")
    readings = {}
    for channel, text in zip(AXES, fields[1:-1], strict=True):
        value = float(text)
        low = -1.0 if channel in STICKS else 0.0
        if not low <= value <= 1.0:
            raise ValueError(f"{channel} is {text}, outside {low:g} to 1")
        readings[channel] = value
    bits = int(fields[-1], 16)
    return {**readings, **{f"button_{n}": float(bits >> n & 1) for n in range(17) if n not in (6, 7)}}


class PadServer:
    """Listens on a port of this machine only and attaches a virtual gamepad for each connection that gives the token.

    Attributes
    ----------
    port : int
    token : str
    bad : int
        Sentences that moved nothing.
    """

    def __init__(self, sdl: Any, port: int = 0) -> None:
        self._sdl = sdl
        self._listener = socket.create_server(("127.0.0.1", port))
        self._listener.setblocking(False)
        self.port: int = self._listener.getsockname()[1]
        self.token = secrets.token_hex(16)
        self._waiting: list[tuple[float, socket.socket]] = []
        self._wires: list[_Wire] = []
        self.bad = 0

    def update(self) -> None:
        """Take connections and sentences that have come. Call it before `Pads.update`."""
        with contextlib.suppress(BlockingIOError):
            connection, _ = self._listener.accept()
            connection.setblocking(False)
            self._waiting.append((time.monotonic(), connection))
        for waiting in list(self._waiting):
            since, connection = waiting
            over = len(self._waiting) > MAX_WAITING or time.monotonic() - since > WAIT_S
            known = self._knows_token(connection)
            if known is None and not over:
                continue
            self._waiting.remove(waiting)
            if known and len(self._wires) < MAX_PADS:
                self._wires.append(_Wire(self._sdl, connection))
            else:
                self.bad += 1
                connection.close()
        for wire in list(self._wires):
            self.bad += wire.update()
            if wire.closed:
                self._wires.remove(wire)

    def _knows_token(self, connection: socket.socket) -> bool | None:
        """Return whether a connection gives the token first; None while it has said too little."""
        try:
            seen = connection.recv(LONGEST_LINE, socket.MSG_PEEK)
        except BlockingIOError:
            return None
        except OSError:
            return False
        line, end, _ = seen.partition(b"\n")
        if not end:
            return None if 0 < len(seen) < LONGEST_LINE else False
        try:
            kind, _, token = unframe(line).partition(",")
        except ValueError:
            return False
        connection.recv(len(line) + 1)
        return kind == "PIVTOK" and hmac.compare_digest(token, self.token)

    def close(self) -> None:
        """Unplug all and stop listening."""
        for wire in self._wires:
            wire.detach()
        for _, connection in self._waiting:
            connection.close()
        self._listener.close()


class _Wire:
    def __init__(self, sdl: Any, connection: socket.socket) -> None:
        self._sdl, self._connection = sdl, connection
        index = sdl.SDL_JoystickAttachVirtual(sdl.SDL_JOYSTICK_TYPE_GAMECONTROLLER, len(AXES), 17, 0)
        self._instance = sdl.SDL_JoystickGetDeviceInstanceID(index)
        self._joystick = sdl.SDL_JoystickOpen(index)
        self._rest = b""
        self.closed = False
        self._set({})

    def update(self) -> int:
        bad = 0
        try:
            data = self._connection.recv(65536)
        except BlockingIOError:
            return 0
        except OSError:
            data = b""
        if not data:
            self.detach()
            return 0
        lines = (self._rest + data).rsplit(b"\n", MAX_SENTENCES + 1)
        self._rest = lines.pop()[-LONGEST_LINE:]
        if len(lines) > MAX_SENTENCES:
            bad += lines.pop(0).count(b"\n") + 1
        readings = None
        for line in lines:
            try:
                readings = read_pad_sentence(line)
            except ValueError:
                bad += 1
        if readings is not None:
            self._set(readings)
        return bad

    def _set(self, readings: Mapping[str, float]) -> None:
        for i, channel in enumerate(AXES):
            value = readings.get(channel, 0.0)
            # a trigger of the virtual device goes from the axis' one end to the other
            raw = value if channel in STICKS else value * 2 - 1
            self._sdl.SDL_JoystickSetVirtualAxis(self._joystick, i, round(max(-1.0, min(1.0, raw)) * 32767))
        for i, channel in enumerate(PAD_BUTTONS):
            self._sdl.SDL_JoystickSetVirtualButton(self._joystick, i, int(readings.get(channel, 0.0) >= 0.5))

    def detach(self) -> None:
        if self.closed:
            return
        self.closed = True
        self._connection.close()
        self._sdl.SDL_JoystickClose(self._joystick)
        for index in range(self._sdl.SDL_NumJoysticks()):
            if self._sdl.SDL_JoystickGetDeviceInstanceID(index) == self._instance:
                self._sdl.SDL_JoystickDetachVirtual(index)
                break


class PadRemote:
    """The other end: moves a simulated gamepad of a running Pivrex. Raises `OSError` where none listens."""

    def __init__(self, port: int, token: str) -> None:
        self._socket = socket.create_connection(("127.0.0.1", port), timeout=3)
        self._readings: dict[str, float] = {}
        self._socket.sendall(frame(f"PIVTOK,{token}"))

    def move(self, **readings: float) -> None:
        """Move channels; the others stay."""
        self._readings.update(readings)
        self._socket.sendall(pad_sentence(self._readings))

    def unplug(self) -> None:
        """Pull the plug."""
        self._socket.close()


def write_port_file(runtime: Path, port: int, token: str) -> None:
    """Leave where simulated gamepads may connect, for this user only; raises `SaveError`."""
    with writing(runtime / "pad-port", private=True) as stream:
        stream.write(f"{port} {token}\n".encode("ascii"))


def read_port_file(runtime: Path) -> tuple[int, str]:
    """Read where a running Pivrex listens for simulated gamepads, and its token.

    Raises
    ------
    PivrexError
        If none has said so.
    """
    words = read_persons(runtime / "pad-port", LONGEST_LINE).split()
    if len(words) != 2 or not words[0].isdecimal():
        raise PivrexError("no Pivrex has said where it listens")
    return int(words[0]), words[1]
