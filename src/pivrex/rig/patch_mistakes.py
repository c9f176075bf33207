"""Mistakes of sources, bindings, letters and attachments: unknown names, and two uses of one channel."""

from __future__ import annotations

from pivrex.errors import UnitError
from pivrex.rig.actions import FIRST_WORDS, Action, read_action, split_time
from pivrex.rig.attachments import ENCODED, PLACES, reach_of
from pivrex.rig.base import counted
from pivrex.rig.bindings import Binding
from pivrex.rig.channels import CHANNELS, is_one_sided
from pivrex.rig.patches import BUTTON_ACTIONS, Patch, patches_of, source_channels, target_of
from pivrex.rig.sources import BUILT_IN, LettersSource
from pivrex.rig.tables import RigTables

__all__ = ["patch_mistakes", "unfit"]

_FITS = {
    "motor": ("follow", "speed"),
    "position": ("follow", "speed", "to", "by"),
    "lift": ("follow", "speed", "to", "by"),
    "servo": ("follow", "speed", "to", "by"),
    "switch": ("on", "off", "toggle"),
}


_NEEDS_ROBOT = ("motion", "frame", "heading", "point", "hold", "holding", "zero gyro", "help")


def patch_mistakes(rig: RigTables) -> list[tuple[str, str]]:
    """Return what is wrong with sources, bindings, letters and attachments, each by itself right already."""
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
        (f"attachments.{n}", f'begins with "{n.split()[0]}", which is an action of its own; call it something else')
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
            read_action(split_time(text)[0] if ".letters." in key else text, rig.attachments, levels)
        except UnitError as problem:
            found.append((key, str(problem)))
    patches = patches_of(rig)
    taken: dict[tuple[str, str, str], Patch] = {}
    for patch in patches:
        found += _one_patch(rig, patch)
        place = (patch.source, patch.channel, patch.binding.with_ if patch.binding else "")
        other = taken.setdefault(place, patch)
        if (
            other is not patch
            and patch.action is not None
            and patch.source != "session"
            and patch.key not in BUTTON_ACTIONS
        ):
            does = (
                f'does "{other.action.text}" ({counted(other.key)})'
                if other.action is not None
                else f"is {counted(other.key)}"
            )
            found.append((patch.place, f'is "{patch.channel}", which already {does}; choose another'))
    return found


def _one_patch(rig: RigTables, patch: Patch) -> list[tuple[str, str]]:
    found = []
    binding, action = patch.binding, patch.action
    there = source_channels(rig, patch.source)
    if binding is not None:
        if there is None or patch.source == "session":
            known = ", ".join(["chosen", "gamepad", "keys", "sticks", *rig.sources])
            return [(f"{patch.key}.source", f'is "{patch.source}", but the sources are {known}')]
        for key, channel in (("channel", binding.channel), ("with", binding.with_)):
            if channel and channel not in there:
                near = _near(channel, there)
                found.append((f"{patch.key}.{key}", f'is "{channel}", which is no channel of that source; {near}'))
    if action is None or patch.key in BUTTON_ACTIONS:  # the tables where such buttons stand have checked them
        return found
    does = f"{patch.key}.does" if binding is not None else patch.key
    found += [(does, what) for what in unfit(rig, action)]
    if binding is not None:
        return found + _of_binding(patch.key, binding, action)
    if action.verb == "follow":
        found.append((does, f'is "{action.text}", but a letter has no stick to follow'))
    return found


def unfit(rig: RigTables, action: Action) -> list[str]:
    """Return why an action is none for this rig; empty if it is."""
    return [*_of_attachment(rig, action), *_of_robot(rig, action)]


def _of_attachment(rig: RigTables, action: Action) -> list[str]:  # noqa: PLR0911 - a case for each mistake
    """Actions that an attachment cannot do."""
    attachment = rig.attachments.get(action.target)
    if attachment is None:
        return []
    if action.verb not in _FITS[attachment.kind]:
        can = ", ".join({"speed": "a speed", "follow": "follows"}.get(v, v) for v in _FITS[attachment.kind])
        return [f'is "{action.text}", but {action.target} is a {attachment.kind}, which can {can}']
    if attachment.kind not in PLACES or action.verb not in ("to", "by"):
        return []
    reach = reach_of(attachment)
    if action.unit == "counts" and attachment.kind not in ENCODED:
        return [f'is "{action.text}", but {action.target} has no encoder; say an angle']
    if action.unit not in ("counts", reach.quantity) and action.value:
        right = "an angle such as 30 deg" if reach.quantity == "angle" else "a length such as 300 mm"
        return [f'is "{action.text}", but {action.target} is a {attachment.kind}, which goes to {right}']
    if action.verb == "to" and not reach.low - 1e-9 <= target_of(rig, action) <= reach.high + 1e-9:
        return [f'is "{action.text}", which lies outside the limits of {action.target}, {reach.limits}']
    return []


def _of_robot(rig: RigTables, action: Action) -> list[str]:
    """Actions that this robot cannot do."""
    if rig.is_bench and action.verb in _NEEDS_ROBOT:
        return [f'is "{action.text}", but {rig.name} is a bench: there is no robot that moves']
    found = []
    if action.verb in ("frame", "heading") and rig.gyro is None:
        found.append("needs to know the heading, but the rig has no gyro; add a table [gyro]")
    if action.verb in ("frame", "heading", "point") and rig.law.kind != "planar":
        found.append(f'is given, but the law is "{rig.law.kind}"; only "planar" reads it')
    if action.verb == "hold" and rig.steering is None:
        found.append(f'is "{action.text}", but no wheel of this rig is steered')
    if action.verb == "do" and not rig.moves:
        found.append(f'is "{action.text}", but the rig says no file of own moves; write moves = "FILE" at its top')
    if action.verb in ("brake", "coast"):
        found += _of_drivers(rig, action.verb)
    if action.twist[1] and rig.law.kind != "planar":
        found.append(f'is "{action.text}", but the law {rig.law.kind} does not move sideways')
    return found


def _of_drivers(rig: RigTables, verb: str) -> list[str]:
    """Why the motors of this robot cannot brake or coast: the driver of the first that cannot."""
    for name, motor in rig.motors.items():
        at_zero = "coast" if rig.coasts_at_zero(motor.output) else "brake"
        if verb in (*motor.output.HALTS, at_zero) or (verb == "coast" and rig.link is not None):
            continue
        why = f'is "{verb}", but the driver of motor {name} ({motor.output.kind}) {at_zero}s while it gets nothing'
        kinds = '"two pins" and "three pins"' if verb == "brake" else '"three pins"'
        return [f'{why}; the kinds {kinds} can {verb}, and at_zero = "{verb}" in [body] says that yours does']
    return []


def _of_binding(key: str, binding: Binding, action: Action) -> list[tuple[str, str]]:
    """Parts of a binding that exclude each other."""
    found = []
    if binding.when in ("held", "toggle") and not (action.lasts and action.verb != "follow"):
        found.append((f"{key}.when", f'is "{binding.when}", but "{action.text}" is done once; it acts on a press'))
    if binding.when.startswith("press") and action.lasts and action.verb != "on":
        found.append((f"{key}.when", f'is "{binding.when}", but "{action.text}" lasts; say held or toggle'))
    if action.verb != "follow" and binding.channel in CHANNELS and not is_one_sided(binding.channel):
        what = f'is "{binding.channel}", a stick; "{action.text}" needs a button or a trigger'
        found.append((f"{key}.channel", what))
    if (binding.slew_up_per_s or binding.slew_down_per_s) and action.verb != "motion":
        found.append((f"{key}.slew_up", f'and slew_down are for motions, but this does "{action.text}"'))
    return found


def _near(name: str, known: tuple[str, ...]) -> str:
    from difflib import get_close_matches

    near = get_close_matches(name, known, 1, 0.5)
    return f'did you mean "{near[0]}"?' if near else f"it has {', '.join(known[:12])}"
