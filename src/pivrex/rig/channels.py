"""The channels of every source: the W3C Gamepad "standard" layout, named by position.

Sticks read -1 at left and away, +1 at right and near; buttons and triggers read 0 to 1.
Source: W3C Gamepad, section "Remapping".
"""

from __future__ import annotations

__all__ = ["BUTTONS", "CHANNELS", "STICKS", "describe_channel", "is_one_sided", "stick_of"]

STICKS = ("left_x", "left_y", "right_x", "right_y")
"""Axes 0 to 3 of the standard layout."""

BUTTONS = {
    "button_0": "right cluster, bottom",
    "button_1": "right cluster, right",
    "button_2": "right cluster, left",
    "button_3": "right cluster, top",
    "button_4": "front, top left",
    "button_5": "front, top right",
    "left_trigger": "front, bottom left",
    "right_trigger": "front, bottom right",
    "button_8": "centre cluster, left",
    "button_9": "centre cluster, right",
    "button_10": "left stick pressed",
    "button_11": "right stick pressed",
    "button_12": "left cluster, top",
    "button_13": "left cluster, bottom",
    "button_14": "left cluster, left",
    "button_15": "left cluster, right",
    "button_16": "centre cluster, middle",
}
"""Buttons 0 to 16 in order; 6 and 7 are the triggers, which have values between 0 and 1."""

CHANNELS = (*STICKS, *BUTTONS)


def is_one_sided(channel: str) -> bool:
    """Return whether a channel rests at one end of its range, as triggers and buttons do."""
    return channel in BUTTONS


def stick_of(channel: str) -> str:
    """Name the physical stick that a channel belongs to: "left", "right", or the channel itself."""
    return channel.split("_", maxsplit=1)[0] if channel in STICKS else channel


def describe_channel(channel: str) -> str:
    """Return in words where on the gamepad a channel is."""
    words = {
        "left_x": "left stick, left-right",
        "left_y": "left stick, forward-back",
        "right_x": "right stick, left-right",
        "right_y": "right stick, forward-back",
    }
    return words.get(channel) or BUTTONS[channel]
