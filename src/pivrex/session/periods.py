"""The periods of a match, and what the screen shows of them."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

__all__ = ["COUNTED", "MatchStatus", "Period"]


class Period(StrEnum):
    """Where the clock stands."""

    OFF = "no match"
    """No clock runs: the robot may be driven."""
    READY = "ready"
    """Everything is chosen; nothing moves until someone starts."""
    ALONE = "alone"
    """The routine drives."""
    BETWEEN = "between"
    """Nothing moves."""
    DRIVEN = "driven"
    """The driver drives, once the sticks are let go."""
    OVER = "over"
    """Nothing moves."""


COUNTED = (Period.ALONE, Period.BETWEEN, Period.DRIVEN)


@dataclass(frozen=True)
class MatchStatus:
    """The state of the match for the screen.

    Attributes
    ----------
    period : Period
    routine : str
        The one that is chosen; empty for none.
    start : (3,) of float
        Where the robot is put for it, x and y in m, heading in rad.
    left_s : float
        How much of the period was left when this was said.
    at_t : float
        What the Tick's clock said then; the rest of the period runs from there unless it is paused.
    paused : bool
    only : bool
        Whether nothing follows this period.
    ended : str
        How the routine ended; empty while it goes on.
    why : str
        What ended it.
    waits : str
        Why the driver may not drive yet.
    from_line : int
        Before which line the routine begins; 0 for its start.
    from_s : float
        What the routine's time was when it began so.
    says : str
        What was said last, in the person's words; ``bells`` counts how often the bell was to ring.
    steps : int
        Counts the routines that buttons walked on, less those that they walked back.
    wire : str
        Where orders may come from outside, or why none can; empty without such a wire.
    """

    period: Period = Period.OFF
    routine: str = ""
    start: tuple[float, float, float] = (0.0, 0.0, 0.0)
    left_s: float = 0.0
    at_t: float = 0.0
    paused: bool = False
    only: bool = False
    ended: str = ""
    why: str = ""
    waits: str = ""
    from_line: int = 0
    from_s: float = 0.0
    says: str = ""
    bells: int = 0
    steps: int = 0
    wire: str = ""
