"""Patches: everything that listens to a channel, in one list, and what is wrong between its entries."""

from __future__ import annotations

from dataclasses import dataclass
from math import pi
from typing import TYPE_CHECKING

from pivrex.errors import UnitError
from pivrex.rig.bindings import Binding
from pivrex.rig.channels import CHANNELS, is_one_sided
from pivrex.rig.deeds import FIRST_WORDS, Deed, read_deed, split_time
from pivrex.rig.sources import BUILT_IN, SHOWN, LettersSource, letter_channel

if TYPE_CHECKING:
    from pivrex.rig.rig import Rig

__all__ = ["Patch", "deed_mistakes", "patches_of", "source_channels"]

_BUTTONS = {
    "speed_levels.up": "faster level",
    "speed_levels.down": "slower level",
    "plane.switch": "other frame",
    "plane.forward": "set heading",
    "plane.next_point": "next point",
    "steering.hold": "hold the wheels",
}
"""Buttons that stand in other tables of a rig are bindings too, to these deeds."""

_FITS = {
    "motor": ("follow", "speed"),
    "position": ("follow", "speed", "to", "by"),
    "servo": ("follow", "speed", "to", "by"),
    "switch": ("on", "off", "toggle"),
}


@dataclass(frozen=True)
class Patch:
    """One channel with what it does.

    Attributes
    ----------
    key : str
        Where the rig says so.
    source, channel : str
    function : str
        In words: a function of the law, or a deed.
    deed : Deed or None
        None for the law's functions.
    binding : Binding or None
    lasts_s : float
        Of a letter: for how long, 0 until the next.
    """

    key: str
    source: str
    channel: str
    function: str
    deed: Deed | None = None
    binding: Binding | None = None
    lasts_s: float = 0.0

    @property
    def place(self) -> str:
        """The key under which the channel stands."""
        return self.key if self.binding is None else f"{self.key}.channel"


def patches_of(rig: Rig) -> list[Patch]:
    """List every patch of a rig: the law's functions, buttons of other tables, bindings, letters, lamps.

    Deeds that cannot be read are left out; `deed_mistakes` says them.
    """
    found = [
        Patch(f"law.{role}", rig.axis(axis).source, rig.channel(axis), role) for role, axis in rig.law.axes().items()
    ]
    levels = [v.name for v in rig.speed_levels.levels]
    for key, button in rig.buttons().items():
        deed = read_deed(_BUTTONS[key], (), levels)
        found.append(Patch(key, "chosen", button, deed.text, deed))
    for i, binding in enumerate(rig.bindings):
        try:
            deed = read_deed(binding.does, rig.attachments, levels)
        except UnitError:
            continue
        found.append(Patch(f"bindings.{i}", binding.source, binding.channel, deed.text, deed, binding))
    for name, source in rig.sources.items():
        if isinstance(source, LettersSource):
            for letter, text in source.letters.items():
                try:
                    words, lasts = split_time(text)
                    deed = read_deed(words, rig.attachments, levels)
                except UnitError:
                    continue
                found.append(
                    Patch(
                        f"sources.{name}.letters.{letter}", name, letter_channel(letter), deed.text, deed, lasts_s=lasts
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
                    Deed("on", name, text=f"{name} on"),
                )
            )
    return found


def source_channels(rig: Rig, source: str) -> tuple[str, ...] | None:
    """Give the channels of a source; None if the rig knows no such source."""
    if source in rig.sources:
        return rig.sources[source].channels()
    if source == "session":
        return SHOWN
    if source == "chosen":
        extra = [c for s in rig.sources.values() if not isinstance(s, LettersSource) for c in s.channels()]
        return tuple(dict.fromkeys((*CHANNELS, *extra)))
    return CHANNELS if source in BUILT_IN else None


def deed_mistakes(rig: Rig) -> list[tuple[str, str]]:
    """Say what is wrong with sources, bindings, letters and attachments, each by itself right already."""
    found: list[tuple[str, str]] = []
    found += [
        (f"sources.{n}", "is a name that Pivrex uses itself; call it something else")
        for n in rig.sources
        if n in BUILT_IN
    ]
    found += [
        (f"attachments.{n}", "has the name of a motor; call it something else")
        for n in rig.attachments
        if n in rig.motors
    ]
    found += [(f"sources.{n}.{key}", what) for n, s in rig.sources.items() for key, what in s.problems()]
    found += [
        (f"attachments.{n}", f'begins with "{n.split()[0]}", which is a deed of its own; call it something else')
        for n in rig.attachments
        if n.split()[0] in FIRST_WORDS
    ]
    levels = [v.name for v in rig.speed_levels.levels]
    texts = [(f"bindings.{i}.does", b.does) for i, b in enumerate(rig.bindings)]
    for name, source in rig.sources.items():
        if isinstance(source, LettersSource):
            texts += [(f"sources.{name}.letters.{letter}", text) for letter, text in source.letters.items()]
    for key, text in texts:
        try:
            read_deed(split_time(text)[0] if ".letters." in key else text, rig.attachments, levels)
        except UnitError as problem:
            found.append((key, str(problem)))
    patches = patches_of(rig)
    taken: dict[tuple[str, str, str], Patch] = {}
    for patch in patches:
        found += _patch_mistakes(rig, patch)
        place = (patch.source, patch.channel, patch.binding.with_ if patch.binding else "")
        other = taken.setdefault(place, patch)
        if other is not patch and patch.deed is not None and patch.source != "session" and patch.key not in _BUTTONS:
            found.append((patch.place, f'is "{patch.channel}", which {other.key} reads already'))
    acted = {p.deed.target for p in patches if p.deed is not None}
    found += [
        (
            f"attachments.{name}",
            f'has no binding: nothing moves it. Add [[bindings]] with does = "{name} {_example(rig, name)}"',
        )
        for name in rig.attachments
        if name not in acted
    ]
    return found


def _example(rig: Rig, name: str) -> str:
    return {"switch": "on", "motor": "follows", "position": "follows", "servo": "follows"}[rig.attachments[name].kind]


def _patch_mistakes(rig: Rig, patch: Patch) -> list[tuple[str, str]]:
    found = []
    binding, deed = patch.binding, patch.deed
    there = source_channels(rig, patch.source)
    if binding is not None:
        if there is None or patch.source == "session":
            known = ", ".join(["chosen", "gamepad", "keys", "sticks", *rig.sources])
            return [(f"{patch.key}.source", f'is "{patch.source}", but the sources are {known}')]
        for key, channel in (("channel", binding.channel), ("with", binding.with_)):
            if channel and channel not in there:
                near = _near(channel, there)
                found.append((f"{patch.key}.{key}", f'is "{channel}", which is no channel of that source; {near}'))
    if deed is None or patch.key in _BUTTONS:  # the tables where such buttons stand have checked them
        return found
    does = f"{patch.key}.does" if binding is not None else patch.key
    if deed.target in rig.attachments:
        attachment = rig.attachments[deed.target]
        if deed.verb not in _FITS[attachment.kind]:
            can = ", ".join({"speed": "a speed", "follow": "follows"}.get(v, v) for v in _FITS[attachment.kind])
            found.append((does, f'is "{deed.text}", but {deed.target} is a {attachment.kind}, which can {can}'))
        elif deed.unit == "counts" and attachment.kind != "position":
            found.append((does, f'is "{deed.text}", but {deed.target} has no encoder; say an angle'))
        elif deed.verb == "to" and attachment.kind in ("position", "servo"):
            angle = target_rad(rig, deed)
            if not attachment.minimum_rad - 1e-9 <= angle <= attachment.maximum_rad + 1e-9:
                found.append((does, f'is "{deed.text}", which lies outside the limits of {deed.target}'))
    if deed.verb in ("frame", "heading") and rig.gyro is None:
        found.append((does, "needs to know the heading, but the rig has no gyro; add a table [gyro]"))
    if deed.verb in ("frame", "heading", "point") and rig.law.kind != "planar":
        found.append((does, f'is given, but the law is "{rig.law.kind}"; only "planar" reads it'))
    if deed.verb == "hold" and rig.steering is None:
        found.append((does, f'is "{deed.text}", but no wheel of this rig is steered'))
    if deed.twist[1] and rig.law.kind != "planar":
        found.append((does, f'is "{deed.text}", but the law {rig.law.kind} does not move sideways'))
    if deed.verb == "follow" and binding is None:
        found.append((does, f'is "{deed.text}", but a letter has no stick to follow'))
    if binding is not None:
        if binding.when in ("held", "toggle") and not (deed.lasts and deed.verb != "follow"):
            found.append(
                (f"{patch.key}.when", f'is "{binding.when}", but "{deed.text}" is done once; it acts on a press')
            )
        if binding.when.startswith("press") and deed.lasts and deed.verb != "on":
            found.append((f"{patch.key}.when", f'is "{binding.when}", but "{deed.text}" lasts; say held or toggle'))
        if deed.verb != "follow" and binding.channel in CHANNELS and not is_one_sided(binding.channel):
            found.append(
                (f"{patch.key}.channel", f'is "{binding.channel}", a stick; "{deed.text}" needs a button or a trigger')
            )
        if (binding.rise_per_s or binding.fall_per_s) and deed.verb != "motion":
            found.append((f"{patch.key}.rise", f'and fall are for motions, but this does "{deed.text}"'))
    return found


def target_rad(rig: Rig, deed: Deed) -> float:
    """Give the angle of a "to" or "by", in rad."""
    attachment = rig.attachments[deed.target]
    if deed.unit == "counts" and attachment.kind == "position":
        return deed.value / attachment.counts_per_turn * 2 * pi
    return deed.value


def _near(name: str, known: tuple[str, ...]) -> str:
    from difflib import get_close_matches

    near = get_close_matches(name, known, 1, 0.5)
    return f'did you mean "{near[0]}"?' if near else f"it has {', '.join(known[:12])}"
