"""Laws: the meaning of the shaped fractions. Every law gives a twist, so any chassis can use any law."""

from __future__ import annotations

from pivrex.kernels.maths import hypot
from pivrex.kernels.records import Numbers
from pivrex.kernels.subset import kernel

__all__ = [
    "ARCADE",
    "EACH",
    "LAWS",
    "PLANAR",
    "TANK",
    "TRIGGERS",
    "arcade",
    "one_at_a_time",
    "planar",
    "requested_by_law",
    "tank",
    "triggers",
]

TANK, ARCADE, TRIGGERS, PLANAR, EACH = 0, 1, 2, 3, 4

LAWS = {"tank": TANK, "arcade": ARCADE, "split arcade": ARCADE, "triggers": TRIGGERS, "planar": PLANAR, "each": EACH}
"""The number of each law; one-stick and split arcade differ only in the axes they read."""


@kernel
def tank(left: float, right: float) -> tuple[float, float, float]:
    """A stick for each side, in [-1, 1]: forward = (left + right)/2, turn = (right - left)/2. Returns forward, left, turn as fractions
    of full.

    Notes
    -----
    With V the full wheel speed and full turn 2V/track this is v = (left + right)/2·V and
    ω = (right - left)/track·V, so each side runs at its own stick's fraction.
    """
    return 0.5 * (left + right), 0.0, 0.5 * (right - left)


@kernel
def arcade(forward: float, turn: float) -> tuple[float, float, float]:
    """One function to move and one to turn, from one stick or two, in [-1, 1]; turning left is +. Returns forward, left, turn.

    Notes
    -----
    On a two-sided chassis left = forward + right-turn and right = forward - right-turn: forward 0.40 with the
    stick 0.30 to the right gives left 0.70 and right 0.10.
    """
    return forward, 0.0, turn


@kernel
def triggers(ahead: float, back: float, turn: float) -> tuple[float, float, float]:
    """One trigger forward, one back, in [0, 1], a stick to turn, in [-1, 1]; equal triggers cancel. Returns forward, left, turn."""
    return ahead - back, 0.0, turn


@kernel
def planar(forward: float, sideways: float, turn: float) -> tuple[float, float, float]:
    """Two functions to move and one to turn, in [-1, 1]; left and turning left are +. Returns forward, left, turn."""
    return forward, sideways, turn


@kernel
def requested_by_law(law: int, channels: Numbers) -> tuple[float, float, float]:
    """Return what a law makes of the functions' fractions: forward, left, turn as fractions of full; none of it on a bench."""
    if law == EACH:
        return 0.0, 0.0, 0.0
    if law == TANK:
        return tank(channels[0], channels[1])
    if law == ARCADE:
        return arcade(channels[0], channels[1])
    if law == TRIGGERS:
        return triggers(channels[0], channels[1], channels[2])
    return planar(channels[0], channels[1], channels[2])


@kernel
def one_at_a_time(law: int, channels: Numbers) -> None:
    """Set the weaker of moving and turning to 0, as fractions of full; if both are equal, moving counts. Writes the functions' fractions."""
    forward, left, turn = requested_by_law(law, channels)
    moves = hypot(forward, left) >= abs(turn)
    if law == TANK:
        channels[0] = forward if moves else -turn
        channels[1] = forward if moves else turn
    elif moves:
        channels[1 if law == ARCADE else 2] = 0.0
    else:
        channels[0] = 0.0
        if law != ARCADE:
            channels[1] = 0.0
