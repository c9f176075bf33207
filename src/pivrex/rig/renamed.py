"""Keys that have other names since version 0.1: rigs with the old ones are still read, and a warning says the new ones."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

__all__ = ["old_key", "old_keys", "with_new_keys", "with_new_places"]

_RENAMED = {
    ("correction", "clamp"): "i_limit",
    ("correction", "forget"): "i_leak_time",
    ("correction", "largest"): "output_limit",
    ("correction", "filter"): "rate_filter",
    ("correction", "settled"): "capture_below",
    ("control", "clamp"): "i_limit",
    ("control", "filter"): "speed_filter",
    ("following", "along"): "along_track",
    ("following", "across"): "cross_track",
}


def with_new_keys(data: dict[str, Any]) -> dict[str, Any]:
    """Return what a rig file says by the new names. Where a table has both, both stay, and the old one is a mistake."""
    made = dict(data)
    for table, old, new in _found(data):
        if new not in made[table]:
            made[table] = {new if key == old else key: value for key, value in made[table].items()}
    return made


def with_new_places(places: Mapping[tuple[Any, ...], int]) -> dict[tuple[Any, ...], int]:
    """Return the lines of keys, of old ones by their new names too."""
    made = dict(places)
    for loc, line in places.items():
        if loc[:2] in _RENAMED:
            made.setdefault((loc[0], _RENAMED[loc[0], loc[1]], *loc[2:]), line)
    return made


def old_keys(data: Mapping[str, Any]) -> Iterator[tuple[tuple[str, str], str]]:
    """Return where a rig file has old keys, and what is to be said of each."""
    for table, old, new in _found(data):
        yield (table, old), f"is called {new} now; write that, for the next version will not know {old}"


def old_key(key: str) -> str:
    """Return the old name of a dotted key's last part; empty if it has none."""
    table, _, new = key.rpartition(".")
    return next((old for (of, old), name in _RENAMED.items() if of == table and name == new), "")


def _found(data: Mapping[str, Any]) -> Iterator[tuple[str, str, str]]:
    for (table, old), new in _RENAMED.items():
        if isinstance(data.get(table), Mapping) and old in data[table]:
            yield table, old, new
