"""The interface of every source of raw readings for the session."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Protocol

__all__ = ["BY_HAND", "LETTERS", "PLAYS", "TAKES_OVER", "Abilities", "Source"]


@dataclass(frozen=True)
class Abilities:
    """What a source may do.

    Attributes
    ----------
    live : bool
        Whether it may drive a robot on a link.
    plays : bool
        Whether it goes on by itself from tick to tick: no hands need be at rest for it, none is lost with it, it gives way
        to a hand, it is not recorded, and no one listens to it unless it drives.
    takes_over : bool
        Whether a pressed button of it takes over from one that plays.
    calibrates : bool
        Whether it has sticks or triggers of its own whose ends and rest can be measured.
    joins : bool
        Whether what it says acts in addition to whatever drives: it need not be chosen.
    """

    live: bool = True
    plays: bool = False
    takes_over: bool = False
    calibrates: bool = False
    joins: bool = False


BY_HAND = Abilities()
"""What is moved on the screen: the session is asked for it."""

TAKES_OVER = Abilities(takes_over=True, calibrates=True)
"""What is held in the hand, or sends by itself."""

LETTERS = Abilities(takes_over=True, joins=True)
"""What sends commands instead of sticks."""

PLAYS = Abilities(live=False, plays=True)
"""What was recorded."""


class Source(Protocol):
    """A source of raw readings, in the channels of `pivrex.rig.channels`.

    ``name`` is unique among the sources that are there, and the same when the device comes back. ``kind`` is "keys",
    "sticks", "gamepad", "recording", or that of a source of the rig: "numbers", "letters", "packets" or "frames"; ``title``
    is for the screen; ``lost`` says why it cannot be read any more, and is empty while it can.
    """

    @property
    def name(self) -> str: ...

    @property
    def kind(self) -> str: ...

    @property
    def title(self) -> str: ...

    @property
    def lost(self) -> str: ...

    @property
    def can(self) -> Abilities: ...

    def channels(self) -> frozenset[str]:
        """Return the channels that it has."""
        ...

    def read(self, now_s: float) -> Mapping[str, float]:
        """Return the readings of this instant; ``now_s`` is a clock that only goes forward."""
        ...
