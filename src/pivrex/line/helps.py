"""The help that a driver's buttons can request."""

from __future__ import annotations

from typing import NamedTuple

from pivrex.rig.actions import Action

__all__ = ["Help", "helps_of"]


class Help(NamedTuple):
    """One help: its kind, of `SNAP`, `FACE`, `LINE` and `POSE`, and its numbers, in m and rad; see `pivrex.rig.actions`."""

    kind: str
    numbers: tuple[float, ...]


def helps_of(actions: list[Action]) -> tuple[Help, ...]:
    """Return the helps that actions ask for, each once, in their order."""
    return tuple(dict.fromkeys(Help(a.target, a.numbers) for a in actions if a.verb == "help"))
