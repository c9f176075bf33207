"""Gamepads through SDL with the W3C standard layout; they may come and go while the program runs."""

from __future__ import annotations

import ctypes
import os
import warnings
from collections.abc import Mapping
from typing import Any

from pivrex.devices.source import TAKES_OVER
from pivrex.rig.channels import STICKS

__all__ = ["PAD_BUTTONS", "Pad", "Pads"]

# SDL's controller buttons in their order, as buttons of the standard layout
PAD_BUTTONS = (
    "button_0", "button_1", "button_2", "button_3", "button_8", "button_16", "button_9", "button_10",
    "button_11", "button_4", "button_5", "button_12", "button_13", "button_14", "button_15",
)  # fmt: skip
_AXES = (*STICKS, "left_trigger", "right_trigger")
_FULL = 32767.0


class Pad:
    """One gamepad. Sticks read -1 to 1 and triggers 0 to 1.

    ``identity`` says which one it is, in whatever port: SDL's GUID, which tells the make, and behind it the serial number
    where the device has one, else a count among those alike.
    """

    kind = "gamepad"
    can = TAKES_OVER

    def __init__(self, sdl: Any, index: int, name: str, identity: str) -> None:
        self._sdl = sdl
        self.name, self.identity = name, identity
        self.lost = ""
        self._controller = sdl.SDL_GameControllerOpen(index) if sdl.SDL_IsGameController(index) else None
        self._joystick = (
            sdl.SDL_GameControllerGetJoystick(self._controller) if self._controller else sdl.SDL_JoystickOpen(index)
        )
        self.instance = int(sdl.SDL_JoystickInstanceID(self._joystick))
        sdl_name = sdl.SDL_JoystickName(self._joystick) or b"gamepad"
        self.title = f"{name}, {sdl_name.decode('utf-8', 'replace')[:24]}"
        self._axes, self._buttons = self._find_channels()

    def _find_channels(self) -> tuple[list[tuple[int, str]], list[tuple[int, str]]]:
        """Find what the device really has: a mapping may name axes that a lesser device lacks."""
        sdl = self._sdl
        axes, buttons = sdl.SDL_JoystickNumAxes(self._joystick), sdl.SDL_JoystickNumButtons(self._joystick)
        if not self._controller:
            # no mapping is known: its own order, which for plain sticks is the standard's
            return list(enumerate(STICKS[:axes])), [
                (i, f"button_{i}") for i in range(min(buttons, 17)) if i not in (6, 7)
            ]

        def there(bind: Any) -> bool:
            kind = int(bind.bindType)
            if kind == sdl.SDL_CONTROLLER_BINDTYPE_AXIS:
                return bool(bind.value.axis < axes)
            if kind == sdl.SDL_CONTROLLER_BINDTYPE_BUTTON:
                return bool(bind.value.button < buttons)
            return kind != sdl.SDL_CONTROLLER_BINDTYPE_NONE

        return (
            [(i, c) for i, c in enumerate(_AXES) if there(sdl.SDL_GameControllerGetBindForAxis(self._controller, i))],
            [
                (i, c)
                for i, c in enumerate(PAD_BUTTONS)
                if there(sdl.SDL_GameControllerGetBindForButton(self._controller, i))
            ],
        )

    def channels(self) -> frozenset[str]:
        """Return the channels that the device has; buttons that it lacks count as never pressed."""
        return frozenset(c for _, c in self._axes) | frozenset(c for c in (*PAD_BUTTONS, "button_16"))

    def read(self, now_s: float) -> Mapping[str, float]:
        """Return the readings of this instant."""
        sdl = self._sdl
        readings: dict[str, float] = {}
        if self._controller:
            for i, channel in self._axes:
                readings[channel] = max(-1.0, sdl.SDL_GameControllerGetAxis(self._controller, i) / _FULL)
            for i, channel in self._buttons:
                readings[channel] = float(sdl.SDL_GameControllerGetButton(self._controller, i))
        else:
            for i, channel in self._axes:
                readings[channel] = max(-1.0, sdl.SDL_JoystickGetAxis(self._joystick, i) / _FULL)
            for i, channel in self._buttons:
                readings[channel] = float(sdl.SDL_JoystickGetButton(self._joystick, i))
        return readings

    def close(self) -> None:
        """Let the device go."""
        if self._controller:
            self._sdl.SDL_GameControllerClose(self._controller)
        else:
            self._sdl.SDL_JoystickClose(self._joystick)


class Pads:
    """All gamepads that are plugged in. Call `update` once a tick, before reading any of them.

    One that comes back gets the name that it had. ``names`` are those that a rig gives, by identity.
    """

    def __init__(self) -> None:
        self.names: Mapping[str, str] = {}
        self._given: dict[str, str] = {}
        # a video driver that needs no screen; events without a window in front; no signal handlers of its own
        os.environ.update(SDL_VIDEODRIVER="dummy", SDL_JOYSTICK_ALLOW_BACKGROUND_EVENTS="1", SDL_NO_SIGNAL_HANDLERS="1")
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # on import the binding prints which library it found
            import sdl2
        self.sdl = sdl2
        if sdl2.SDL_Init(sdl2.SDL_INIT_GAMECONTROLLER) != 0:
            raise OSError(sdl2.SDL_GetError().decode("utf-8", "replace"))
        self._pads: dict[int, Pad] = {}

    def update(self) -> list[Pad]:
        """Let SDL look at its devices; returns those that are there, with lost ones marked once and then dropped."""
        sdl = self.sdl
        sdl.SDL_JoystickUpdate()
        # readings are polled: events would only fill their queue
        sdl.SDL_FlushEvents(sdl.SDL_FIRSTEVENT, sdl.SDL_LASTEVENT)
        count = sdl.SDL_NumJoysticks()
        there = {int(sdl.SDL_JoystickGetDeviceInstanceID(i)): i for i in range(count)}
        for instance in [i for i in self._pads if i not in there]:
            pad = self._pads.pop(instance)
            pad.lost = f"{pad.name} was unplugged"
            pad.close()
        for instance, index in there.items():
            if instance not in self._pads and instance >= 0:
                identity = self._identity(index)
                self._pads[instance] = Pad(sdl, index, self._name_of(identity), identity)
        return list(self._pads.values())

    def _identity(self, index: int) -> str:
        """Return which device it is."""
        text = ctypes.create_string_buffer(33)
        self.sdl.SDL_JoystickGetGUIDString(self.sdl.SDL_JoystickGetDeviceGUID(index), text, 33)
        make = text.value.decode("ascii", "replace")
        joystick = self.sdl.SDL_JoystickOpen(index)
        serial = self.sdl.SDL_JoystickGetSerial(joystick) if joystick else None
        if joystick:
            self.sdl.SDL_JoystickClose(joystick)
        if serial:
            return f"{make} {serial.decode('ascii', 'replace')}"
        used = {pad.identity for pad in self._pads.values()}
        return next(found for n in range(1, 99) if (found := make if n == 1 else f"{make} #{n}") not in used)

    def _name_of(self, identity: str) -> str:
        """Return the name of the rig, or the one that it had before, or a new one."""
        if identity in self.names:
            return self.names[identity]
        used = {pad.name for pad in self._pads.values()} | set(self._given.values())
        if identity not in self._given:
            self._given[identity] = next(name for i in range(1, 99) if (name := f"pad {i}") not in used)
        return self._given[identity]

    def close(self) -> None:
        """Let all devices and SDL go."""
        for pad in self._pads.values():
            pad.close()
        self._pads.clear()
        self.sdl.SDL_QuitSubSystem(self.sdl.SDL_INIT_GAMECONTROLLER)
