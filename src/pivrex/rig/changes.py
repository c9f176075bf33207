"""The changes of a rig that a diagnosis proposes, key by key."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import degrees
from typing import TYPE_CHECKING, Any

from pivrex.rig.edit import set_key
from pivrex.units import wrap_rad

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

__all__ = ["SAME_RAD", "Change", "in_degrees", "put_changes"]

SAME_RAD = 0.02
"""Offsets nearer than this are the same."""


@dataclass(frozen=True)
class Change:
    """One key of the rig, as it was and as it should be; None where it is left out."""

    key: str
    before: Any
    after: Any

    def __str__(self) -> str:
        return f"{self.key}: {_shown(self.before)} → {_shown(self.after)}"


def put_changes(document: TOMLDocument, changes: Sequence[Change]) -> None:
    """Write changes to a rig's document."""
    for change in changes:
        set_key(document, change.key, change.after)


def in_degrees(angle_rad: float) -> str:
    """Write an angle as it stands in a rig."""
    return f"{degrees(wrap_rad(angle_rad)):.1f} deg"


def _shown(value: Any) -> str:
    return "left out" if value is None else str(value).lower() if isinstance(value, bool) else str(value)
