"""Patches: everything that listens to a channel, in one list."""

from __future__ import annotations

from dataclasses import dataclass
from math import pi

from pivrex.errors import UnitError
from pivrex.rig.actions import Action, read_action, split_time
from pivrex.rig.attachments import Encoded, reach_of
from pivrex.rig.bindings import Binding
from pivrex.rig.channels import CHANNELS
from pivrex.rig.sources import BUILT_IN, SHOWN, LettersSource, letter_channel
from pivrex.rig.tables import RigTables

__all__ = ["BUTTON_ACTIONS", "Patch", "letter_groups", "patches_of", "source_channels", "stop_channels", "target_of"]

STOPS = ("stop", "shut down")
"""What ends all motion."""

BUTTON_ACTIONS = {
    "speed_levels.up": "faster level",
    "speed_levels.down": "slower level",
    "plane.switch": "other frame",
    "plane.forward": "set heading",
    "plane.next_point": "next point",
    "steering.hold": "hold the wheels",
}
"""Buttons that stand in other tables of a rig are bindings too, to these actions."""


@dataclass(frozen=True)
class Patch:
    """One channel with what it does.

    Attributes
    ----------
    key : str
        Where the rig says so.
    source, channel : str
    function : str
        In words: a function of the law, or an action.
    action : Action or None
        None for the law's functions.
    binding : Binding or None
    lasts_s : float
        Of a letter: for how long, 0 until the next.
    """

    key: str
    source: str
    channel: str
    function: str
    action: Action | None = None
    binding: Binding | None = None
    lasts_s: float = 0.0

    @property
    def place(self) -> str:
        """The key under which the channel stands."""
        return self.key if self.binding is None else f"{self.key}.channel"


def patches_of(rig: RigTables) -> list[Patch]:
    """List every patch of a rig: the law's functions, buttons of other tables, bindings, letters, lamps.

    Actions that cannot be read are left out; `patch_mistakes` says them.
    """
    found = [
        Patch(rig.law.key(role), rig.axis(axis).source, rig.channel(axis), role)
        for role, axis in rig.law.axes().items()
    ]
    levels = [v.name for v in rig.speed_levels.levels]
    for key, button in rig.buttons().items():
        action = read_action(BUTTON_ACTIONS[key], (), levels)
        found.append(Patch(key, "chosen", button, action.text, action))
    for i, binding in enumerate(rig.bindings):
        try:
            action = read_action(binding.does, rig.attachments, levels)
        except UnitError:
            continue
        found.append(Patch(f"bindings.{i}", binding.source, binding.channel, action.text, action, binding))
    for name, source in rig.sources.items():
        if isinstance(source, LettersSource):
            for letter, text in source.letters.items():
                try:
                    words, lasts = split_time(text)
                    action = read_action(words, rig.attachments, levels)
                except UnitError:
                    continue
                found.append(
                    Patch(
                        f"sources.{name}.letters.{letter}",
                        name,
                        letter_channel(letter),
                        action.text,
                        action,
                        lasts_s=lasts,
                    )
                )
    for name, attachment in rig.attachments.items():
        if attachment.kind == "switch" and attachment.shows:
            found.append(
                Patch(
                    f"attachments.{name}.shows",
                    "session",
                    attachment.shows,
                    f"{name} on",
                    Action("on", name, text=f"{name} on"),
                )
            )
    return found


def source_channels(rig: RigTables, source: str) -> tuple[str, ...] | None:
    """Return the channels of a source; None if the rig knows no such source."""
    if source in rig.sources:
        return rig.sources[source].channels()
    if source == "session":
        return SHOWN
    if source == "chosen":
        extra = [c for s in rig.sources.values() if not isinstance(s, LettersSource) for c in s.channels()]
        return tuple(dict.fromkeys((*CHANNELS, *extra)))
    return CHANNELS if source in BUILT_IN else None


def target_of(rig: RigTables, action: Action) -> float:
    """Return the place of a "to" or "by", in rad, of a lift in m."""
    attachment = rig.attachments[action.target]
    if action.unit == "counts" and isinstance(attachment, Encoded):
        return action.value / attachment.counts_per_turn * 2 * pi * reach_of(attachment).per_rad
    return action.value


def letter_groups(rig: RigTables, spec: object) -> dict[str, str]:
    """Return the group of what each letter of a source does; see `pivrex.rig.actions.Action.group`."""
    if not isinstance(spec, LettersSource):
        return {}
    levels = [v.name for v in rig.speed_levels.levels]
    return {c: read_action(split_time(text)[0], rig.attachments, levels).group for c, text in spec.letters.items()}


def stop_channels(rig: RigTables, name: str) -> frozenset[str]:
    """Return the channels of a source that stop the robot."""
    return frozenset(
        p.channel
        for p in patches_of(rig)
        if p.source in (name, "chosen") and p.action is not None and p.action.verb in STOPS
    )
