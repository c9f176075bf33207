"""Keys as sticks: held, latched step by step, or for a short fixed time."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from pivrex.devices.source import BY_HAND
from pivrex.rig.channels import CHANNELS, STICKS

__all__ = ["DRIVE_KEYS", "Keyboard", "KeysMode"]

KeysMode = Literal["held", "latched", "timed"]

DRIVE_KEYS: dict[str, tuple[str, float]] = {
    "w": ("left_y", -1.0),
    "s": ("left_y", 1.0),
    "a": ("left_x", -1.0),
    "d": ("left_x", 1.0),
    "i": ("right_y", -1.0),
    "k": ("right_y", 1.0),
    "j": ("right_x", -1.0),
    "l": ("right_x", 1.0),
    "q": ("left_trigger", 1.0),
    "e": ("right_trigger", 1.0),
}
"""Each key that drives, with the channel it moves and the way: -1 is left or away, as on a stick."""

LATCH_STEP = 0.25
"""Four presses from rest to full."""

TIMED_S = 0.65
"""Longer than the half second after which terminals begin to repeat a key, so that holding it drives on."""


class Keyboard:
    """The source "keys". It gets presses and releases with their times, and reads as a gamepad.

    The mode is *held* where the terminal reports releases: several keys at once, each full while it is down. Else it
    is *latched* (each press steps the motion by a quarter and keeps it) or, by choice, *timed* (each press drives for
    `TIMED_S`, repeats prolong it).
    """

    name = kind = "keys"
    can = BY_HAND
    lost = ""

    def __init__(self) -> None:
        self.mode: KeysMode = "latched"
        self._down: dict[str, float] = {}
        self._latched: dict[str, float] = {}
        self._buttons: dict[str, float] = {}

    @property
    def title(self) -> str:
        """For the screen."""
        return f"keys, {self.mode}"

    def channels(self) -> frozenset[str]:
        """Every channel: those without a key rest."""
        return frozenset(CHANNELS)

    def set_mode(self, mode: KeysMode) -> None:
        """Change how keys drive; everything goes to rest."""
        self.mode = mode
        self.rest()

    def press(self, key: str, now_s: float) -> None:
        """Press or repeat a key of `DRIVE_KEYS`, or one that stands for a button, by the button's name."""
        if key.startswith("button_") and key in CHANNELS:
            self._buttons[key] = now_s
            return
        if key not in DRIVE_KEYS:
            return
        if self.mode == "latched":
            channel, way = DRIVE_KEYS[key]
            at = self._latched.get(channel, 0.0)
            if channel in STICKS:
                self._latched[channel] = max(-1.0, min(1.0, at + way * LATCH_STEP))
            else:  # a trigger has one key: it steps round to rest again
                self._latched[channel] = at + LATCH_STEP if at < 1.0 else 0.0
        else:
            self._down[key] = now_s

    def release(self, key: str) -> None:
        """A key came up; only terminals that report it say so."""
        if self.mode == "held":
            self._down.pop(key, None)
            self._buttons.pop(key, None)

    def buttons(self, now_s: float) -> Mapping[str, float]:
        """Return the buttons that are pressed by keys: while they are held where releases are seen, else for `TIMED_S`, which
        repeats prolong. They act in addition to whatever drives.
        """
        return {b: 1.0 for b, since in self._buttons.items() if self.mode == "held" or now_s - since < TIMED_S}

    def rest(self) -> None:
        """Bring everything to rest."""
        self._down.clear()
        self._buttons.clear()
        self._latched.clear()

    def read(self, now_s: float) -> Mapping[str, float]:
        """Return every channel; opposite keys cancel."""
        readings = dict.fromkeys(CHANNELS, 0.0)
        readings.update(self._latched)
        for key, since in self._down.items():
            if self.mode == "held" or now_s - since < TIMED_S:
                channel, way = DRIVE_KEYS[key]
                readings[channel] += way
        return readings
