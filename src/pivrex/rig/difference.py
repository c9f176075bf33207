"""The changes between two versions of a rig, key by key, as written in their files."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from pivrex.rig.base import counted
from pivrex.rig.quantities import quoted

__all__ = ["Change", "applied", "differences"]


@dataclass(frozen=True)
class Change:
    """A key that has another value.

    Attributes
    ----------
    place : tuple of str and int
        Its path in the file; entries of lists count from 0.
    before, after : object
        As they are written; None where the file leaves it out.
    """

    place: tuple[str | int, ...]
    before: object
    after: object

    @property
    def key(self) -> str:
        """The dotted key, for people."""
        return counted(".".join(map(str, self.place)))

    def __str__(self) -> str:
        return f"{self.key}: {self.words[0]} → {self.words[1]}"

    @property
    def words(self) -> tuple[str, str]:
        """Both values, for people."""
        was, now = ("left out" if v is None else quoted(v).strip('"') for v in (self.before, self.after))
        return was, now


def differences(before: str, after: str) -> list[Change]:
    """Return what is another in the second of two TOML texts; in the order of the first, then of the second. Raises
    `tomllib.TOMLDecodeError`.
    """
    one, other = dict(_flat(tomllib.loads(before), ())), dict(_flat(tomllib.loads(after), ()))
    return [
        Change(place, one.get(place), other.get(place))
        for place in {**one, **other}
        if one.get(place) != other.get(place)
    ]


def applied(text: str, change: Change) -> dict[str, Any]:
    """Return the content of a TOML text with only one change made; a value without a place there is left out."""
    data = tomllib.loads(text)
    at: Any = data
    for part, following in zip(change.place, change.place[1:], strict=False):
        if isinstance(at, list):
            if not isinstance(part, int) or part >= len(at):
                return data
            at = at[part]
        else:
            at = at.setdefault(part, [] if isinstance(following, int) else {})
    last = change.place[-1]
    if isinstance(at, list) and isinstance(last, int):
        if change.after is None:
            del at[last:]
        elif last < len(at):
            at[last] = change.after
        else:
            at.append(change.after)
    elif isinstance(at, dict):
        if change.after is None:
            at.pop(last, None)
        else:
            at[last] = change.after
    return data


def _flat(value: object, place: tuple[str | int, ...]) -> list[tuple[tuple[str | int, ...], object]]:
    if isinstance(value, Mapping) and value:
        return [pair for key, one in value.items() for pair in _flat(one, (*place, key))]
    if isinstance(value, list) and value:
        return [pair for i, one in enumerate(value) for pair in _flat(one, (*place, i))]
    return [(place, value)]
