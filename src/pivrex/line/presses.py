"""Presses: what of all that is bound acts in a tick, and how far motions have grown."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.line.axes import AxesSettings, to_fractions
from pivrex.line.band import rescaled
from pivrex.line.stage import PRESSED, Floats
from pivrex.rig.patches import Patch

__all__ = [
    "COUNTED", "HELD", "PRESS", "TOGGLE", "Acting", "BindingSettings", "BindingState", "act", "deflections", "way_of",
]  # fmt: skip

Bools = NDArray[np.bool_]
Places = NDArray[np.intp]

HELD, PRESS, TOGGLE, COUNTED = range(4)


@dataclass(frozen=True)
class BindingSettings:
    """N bindings on P channels, M of them motions, F sticks that attachments follow.

    Attributes
    ----------
    channels : (P,) int
        The channels that are pressed, among the readings.
    of, other : (N,) int
        The channel of each binding, among these P, and the one that must be held beside it, -1 for none.
    way : (N,) int
        HELD, PRESS, TOGGLE or COUNTED.
    presses, within : (N,) float64
        Of a counted one: on which press, and the longest time between two, in s.
    letter : (N,) bool
        Whether the channel is a letter, which says that it came again by another number.
    beaten : (N, N) bool
        Which plain binding a combination keeps from acting.
    dt_s : float
    motions : (M,) int
        Those that move the robot.
    twist : (M, 4) float64
        Of these: forward, left, turn and pivot, as fractions of full.
    bound, rise, fall : (M,) float64
        What they grow to; rates in 1/s, 0 for at once.
    against : (M, M) bool
        Those of the opposite way.
    follows : (F,) int
        The channels that attachments follow, among the readings.
    calibration : AxesSettings
        Of these; its edges are in ``edge``.
    edge, sense : (F,) float64
        The dead band's edge; -1 for one that is reversed.
    """

    channels: Places
    of: Places
    other: Places
    way: Places
    presses: Floats
    within: Floats
    letter: Bools
    beaten: Bools
    dt_s: float
    motions: Places
    twist: Floats
    bound: Floats
    rise: Floats
    fall: Floats
    against: Bools
    follows: Places
    calibration: AxesSettings
    edge: Floats
    sense: Floats


class BindingState(NamedTuple):
    """What bindings remember: which channels were seen released, B + (P,); whether each binding was active, what its
    channel read, toggles, spent presses, counts and the time of the last press in s, B + (N,) each; how far motions have
    grown, B + (M,); and whether any of this may still change by itself, B.
    """

    armed: Bools
    active: Bools
    read: Floats
    on: Bools
    spent: Bools
    presses: Floats
    pressed_at: Floats
    grown: Floats
    busy: Bools


class Acting(NamedTuple):
    """What acts in a tick, B + (N,) bool: what lasts, and what is done once."""

    lasting: Bools
    fired: Bools


def act(
    settings: BindingSettings, state: BindingState, raw: Floats, t_s: Floats, stopped: Bools
) -> tuple[BindingState, Acting]:
    """Let a tick pass.

    Parameters
    ----------
    settings : BindingSettings
    state : BindingState
    raw : B + (R,) float64
        All readings of the line; NaN counts as not pressed.
    t_s : B float64
        The time of the tick.
    stopped : B bool
        While the robot is stopped toggles fall off and motions end.

    Returns
    -------
    BindingState, Acting

    Notes
    -----
    Nothing counts as pressed before it was seen released. A combination beats the plain bindings of its button until that
    button is let go, also when the other button is let go before it. A motion grows by rise·dt up to its share and falls
    by fall·dt; with the opposite one pressed it is zero at once, so that the opposite one starts from zero. (Own rules.)
    """
    s = settings
    halted = stopped[..., None]
    reading = raw[..., s.channels]
    pressed = reading >= PRESSED
    armed = state.armed | ~pressed
    down = pressed & armed
    here, read = down[..., s.of], reading[..., s.of]
    active = here & np.where(s.other >= 0, down[..., s.other], True)
    beaten = (active[..., :, None] & s.beaten).any(axis=-2)
    spent = here & (state.spent | beaten)
    active = active & ~spent
    fresh = active & (~state.active | (s.letter & (read != state.read)))
    on = np.where(s.way == TOGGLE, (state.on ^ fresh) & ~halted, active)
    pause = t_s[..., None] - state.pressed_at
    pressed_at = np.where(fresh, t_s[..., None], state.pressed_at)
    count = np.where(fresh, np.where(pause > s.within + s.dt_s, 1.0, state.presses + 1), state.presses)
    reached = fresh & (s.way == COUNTED) & (count >= s.presses)
    count = np.where(reached, 0.0, count)
    fired = np.where(s.way == COUNTED, reached, fresh)
    lasting = on & ((s.way == HELD) | (s.way == TOGGLE))

    moving = lasting[..., s.motions] & ~halted
    grown = np.where(
        moving,
        np.where(s.rise > 0, np.minimum(s.bound, state.grown + s.rise * s.dt_s), s.bound),
        np.where(s.fall > 0, np.maximum(0.0, state.grown - s.fall * s.dt_s), 0.0),
    )
    crossed = (moving[..., :, None] & s.against).any(axis=-2)
    grown = np.where(halted | (crossed & ~moving), 0.0, grown)
    kept = on & (s.way == TOGGLE)
    busy = pressed.any(axis=-1) | ~armed.all(axis=-1) | kept.any(axis=-1) | (grown > 0).any(axis=-1)
    after = BindingState(armed, active, read, on, spent, count, pressed_at, grown, busy)
    return after, Acting(lasting, fired)


def deflections(settings: BindingSettings, raw: Floats) -> Floats:
    """Give the shares, B + (F,) in [-1, 1], of the sticks that attachments follow; NaN counts as rest."""
    fractions = to_fractions(settings.calibration, raw[..., settings.follows])
    return settings.sense * rescaled(fractions, settings.edge, 1.0 / (1.0 - settings.edge))


def way_of(patch: Patch) -> int:
    """Say how a patch acts."""
    binding, action = patch.binding, patch.action
    said = binding.when if binding is not None else ""
    if binding is not None and binding.presses:
        return COUNTED
    if said == "toggle":
        return TOGGLE
    return PRESS if said == "press" or action is None or not action.lasts else HELD
