"""A stand-in gamepad: a virtual one in this process, moved from outside over a local socket.

Each connection is one gamepad; closing it unplugs the gamepad. The sentences are ``$PIVPAD,`` and then the six axes
(left x, left y, right x, right y, left trigger, right trigger) as decimal fractions and the pressed buttons as a
hexadecimal number, whose bit n is button n of the standard layout.
"""

from __future__ import annotations

import contextlib
import socket
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pivrex.devices.pads import PAD_BUTTONS
from pivrex.devices.sentence import frame, unframe
from pivrex.rig.channels import STICKS

__all__ = ["PadRemote", "PadServer", "pad_sentence", "read_pad_sentence"]

AXES = (*STICKS, "left_trigger", "right_trigger")
LONGEST_LINE = 200
MOST_PADS = 8


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
    """Listens on a port of this machine only and attaches a virtual gamepad for each connection."""

    def __init__(self, sdl: Any, port: int = 0) -> None:
        self._sdl = sdl
        self._listener = socket.create_server(("127.0.0.1", port))
        self._listener.setblocking(False)
        self.port: int = self._listener.getsockname()[1]
        self._wires: list[_Wire] = []
        self.bad = 0

    def update(self) -> None:
        """Take connections and sentences that have come. Call it before `Pads.update`."""
        with contextlib.suppress(BlockingIOError):
            connection, _ = self._listener.accept()
            if len(self._wires) < MOST_PADS:
                connection.setblocking(False)
                self._wires.append(_Wire(self._sdl, connection))
            else:
                connection.close()
        for wire in list(self._wires):
            self.bad += wire.update()
            if wire.closed:
                self._wires.remove(wire)

    def close(self) -> None:
        """Unplug all and stop listening."""
        for wire in self._wires:
            wire.detach()
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
        *lines, self._rest = (self._rest + data).split(b"\n")
        self._rest = self._rest[-LONGEST_LINE:]
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
    """The other end: moves a stand-in gamepad of a running Pivrex. Raises `OSError` where none listens."""

    def __init__(self, port: int) -> None:
        self._socket = socket.create_connection(("127.0.0.1", port), timeout=3)
        self._readings: dict[str, float] = {}

    def move(self, **readings: float) -> None:
        """Move channels; the others stay."""
        self._readings.update(readings)
        self._socket.sendall(pad_sentence(self._readings))

    def unplug(self) -> None:
        """Pull the plug."""
        self._socket.close()


def port_file(runtime: Path) -> Path:
    """Give the file in which a running Pivrex leaves the port of its stand-in gamepads."""
    return runtime / "pad-port"
