"""Keys with a new name since version 0.1: rigs with the old ones still work, with a warning that says the new name."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from copy import deepcopy
from typing import Any

__all__ = ["old_key", "old_keys", "with_new_keys", "with_new_places"]

_RENAMED = {
    "correction.clamp": "i_limit",
    "correction.forget": "i_leak_time",
    "correction.largest": "output_limit",
    "correction.filter": "rate_filter",
    "correction.settled": "capture_below",
    "control.clamp": "i_limit",
    "control.filter": "speed_filter",
    "correction.turn_rise": "turn_acceleration",
    "correction.speed_rise": "drive_acceleration",
    "following.turn_rise": "turn_acceleration",
    "following.wheel_rise": "wheel_acceleration",
    "following.along": "along_track",
    "following.across": "cross_track",
    "shaping.onset": "after_dead_band",
    "shaping.*.edge": "dead_band",
    "shaping.*.faster": "slew_up",
    "shaping.*.slower": "slew_down",
    "bindings.*.edge": "dead_band",
    "bindings.*.rise": "slew_up",
    "bindings.*.fall": "slew_down",
}
"""The new name of each old key; ``*`` stands for any table, and for any entry of a list."""

_OLD: dict[str, list[tuple[list[str], str]]] = {}
"""By the last part of an old key, the parts before it and its new name: every key of a file is looked for."""
for _pattern, _new in _RENAMED.items():
    *_before, _last = _pattern.split(".")
    _OLD.setdefault(_last, []).append((_before, _new))

_VALUES = {"after_dead_band": {"rescaled": "from zero", "cut": "with a jump"}}
"""Values that have new names too."""

_OF_KEYS = {"body.kind": {"real": "realistic", "perfect": "ideal"}}
"""Values that have new names while their key keeps its own."""

Loc = tuple[Any, ...]


def with_new_keys(data: dict[str, Any]) -> dict[str, Any]:
    """Return what a rig file says by the new names. Where a table has both, both stay, and the old one is a mistake."""
    found = list(_found(data))
    made = deepcopy(data) if found else data
    for loc, old, new in found:
        table = _at(made, loc)
        if new == old:
            table[old] = _new_value(".".join((*map(str, loc), old)), table[old])
        elif new not in table:
            entries = [(key, value) if key != old else (new, _new_value(new, value)) for key, value in table.items()]
            table.clear()
            table.update(entries)
    return made


def with_new_places(places: Mapping[Loc, int]) -> dict[Loc, int]:
    """Return the lines of keys, of old ones by their new names too."""
    made = dict(places)
    for loc, line in places.items():
        for length in range(2, len(loc) + 1):
            new = _new_name(loc[:length])
            if new:
                made.setdefault((*loc[: length - 1], new, *loc[length:]), line)
    return made


def old_keys(data: Mapping[str, Any]) -> Iterator[tuple[Loc, str]]:
    """Return where a rig file has old keys, and what is to be said of each."""
    for loc, old, new in _found(data):
        value = _at(data, loc)[old]
        if new == old:
            now = _new_value(".".join((*map(str, loc), old)), value)
            yield (*loc, old), f'is called "{now}" now; write that, for the next version will not know "{value}"'
            continue
        now = _new_value(new, value)
        written = new if now == value else f'{new} = "{now}"'
        yield (*loc, old), f"is called {written} now; write that, for the next version will not know {old}"


def old_key(key: str) -> str:
    """Return the old name of a dotted key's last part; empty if it has none."""
    *table, name = key.split(".")
    for pattern, new in _RENAMED.items():
        old = pattern.rpartition(".")[2]
        if new == name and _new_name((*table, old)):
            return old
    return ""


def _new_name(loc: Loc) -> str:
    """Return the new name of the key at the end of ``loc``; empty if it is none of the old ones."""
    for parts, new in _OLD.get(str(loc[-1]), ()):
        if len(parts) == len(loc) - 1 and all(part in ("*", str(at)) for part, at in zip(parts, loc, strict=False)):
            return new
    return ""


def _new_value(new: str, value: Any) -> Any:
    known = _VALUES.get(new) or _OF_KEYS.get(new) or {}
    return known.get(value, value) if isinstance(value, str) else value


def _at(data: Any, loc: Loc) -> Any:
    for part in loc:
        data = data[part]
    return data


def _found(data: Any, loc: Loc = ()) -> Iterator[tuple[Loc, str, str]]:
    """Yield each old key: where its table stands, its old name and its new one."""
    entries = data.items() if isinstance(data, Mapping) else enumerate(data) if isinstance(data, list) else ()
    for key, value in entries:
        new = _new_name((*loc, key))
        if new:
            yield loc, str(key), new
        elif value != _new_value(".".join(map(str, (*loc, key))), value):
            yield loc, str(key), str(key)
        if len(loc) < 2:
            yield from _found(value, (*loc, key))
