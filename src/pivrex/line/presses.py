"""Presses: which bindings act in a tick, and how far their motions have grown."""

from __future__ import annotations

from pivrex.kernels.maths import div, larger, smaller
from pivrex.kernels.records import Flags, Number, Numbers, Record, Whole, Wholes, field, part
from pivrex.kernels.subset import kernel
from pivrex.line.axes import AxesSettings, fraction_of
from pivrex.line.band import rescaled
from pivrex.line.input_stages import ClockColumns, RawColumns
from pivrex.line.stage import PRESSED
from pivrex.rig.patches import Patch

__all__ = [
    "ADD", "COUNTED", "HELD", "LOWER", "NOTHING", "PRESS", "PUT", "TOGGLE", "BindingScratch", "BindingSettings", "BindingState", "deflection",
    "press_step", "way_of",
]  # fmt: skip

HELD, PRESS, TOGGLE, COUNTED = 0, 1, 2, 3
NOTHING, PUT, ADD, LOWER = 0, 1, 2, 3
"""What an action does to its column."""


class BindingSettings(Record):
    """N bindings on P channels, M of them motions, F sticks that attachments follow, L lamps, K columns.

    Attributes
    ----------
    channels : (P,)
        The channels that are pressed, among the readings.
    of, other : (N,)
        The channel of each binding, among these P, and the one that must be held with it, -1 for none.
    way : (N,)
        HELD, PRESS, TOGGLE or COUNTED.
    presses, within : (N,)
        Of a counted one: on which press, and the longest time between two, in s.
    letter : (N,) flags
        Whether the channel is a letter, which says that it came again by another number.
    beats : (pairs, 2)
        Which combination keeps which plain binding from acting.
    does, column, value : (N,)
        NOTHING, PUT, ADD or LOWER; the column that it changes, and by what.
    lasts : (N,) flags
        Whether it does so as long as it lasts, or once.
    motions : (M,)
        Those that move the robot.
    twist : (M, 4)
        Of these: forward, left, turn and pivot, as fractions of full.
    bound, slew_up, slew_down : (M,)
        What they grow to; rates in 1/s, 0 for at once.
    opposite : (pairs, 2)
        Which motion goes against which.
    twists : int
        How many columns the motion has: 0, 3, or 4 with a pivot.
    idle : (K,)
        What the columns say while nothing is asked for.
    follows, follow_column : (F,)
        The channels that attachments follow, among the readings, and the column of each.
    follow_low, follow_high : (F,)
        Where a servo goes at the ends of the stick; the same for one that is driven by a share.
    calibration : AxesSettings
        Of these; their dead bands are in ``dead_band``.
    dead_band, sense : (F,)
        The dead band; -1 for one that is reversed.
    lamps, lamp_column : (L,)
        The reading that lights each, and its column.
    dt : float
    """

    is_settings = True

    channels: Wholes = field("pressed")
    of: Wholes = field("bindings")
    other: Wholes = field("bindings")
    way: Wholes = field("bindings")
    presses: Numbers = field("bindings")
    within: Numbers = field("bindings", unit="s")
    letter: Flags = field("bindings")
    beats: Wholes = field("beats", 2)
    does: Wholes = field("bindings")
    column: Wholes = field("bindings")
    value: Numbers = field("bindings")
    lasts: Flags = field("bindings")
    motions: Wholes = field("motions")
    twist: Numbers = field("motions", 4)
    bound: Numbers = field("motions")
    slew_up: Numbers = field("motions", unit="1/s")
    slew_down: Numbers = field("motions", unit="1/s")
    opposite: Wholes = field("opposites", 2)
    twists: Whole = field()
    idle: Numbers = field("columns")
    follows: Wholes = field("followers")
    follow_column: Wholes = field("followers")
    follow_low: Numbers = field("followers")
    follow_high: Numbers = field("followers")
    calibration: AxesSettings = part()
    dead_band: Numbers = field("followers")
    sense: Numbers = field("followers")
    lamps: Wholes = field("lamps")
    lamp_column: Wholes = field("lamps")
    dt: Number = field(unit="s")


class BindingState(Record):
    """The memory of bindings: the channels that were seen released, (P,); for each binding, (N,), whether it was active, its channel's
    reading, toggles, used presses, counts and the time of the last press in s; and the growth of motions, (M,).
    """

    armed: Flags = field("pressed")
    active: Flags = field("bindings")
    read: Numbers = field("bindings")
    on: Flags = field("bindings")
    spent: Flags = field("bindings")
    presses: Numbers = field("bindings")
    pressed_at: Numbers = field("bindings", unit="s")
    grown: Numbers = field("motions")


class BindingScratch(Record):
    """What acts in a tick: the pressed channels; the bindings that are held, that last, and that act now; the motions that move."""

    is_scratch = True

    down: Flags = field("pressed")
    held: Flags = field("bindings")
    beaten: Flags = field("bindings")
    lasting: Flags = field("bindings")
    fired: Flags = field("bindings")
    moving: Flags = field("motions")
    crossed: Flags = field("motions")


@kernel
def note_presses(
    s: BindingSettings, w: BindingScratch, before: BindingState, after: BindingState, raw: RawColumns
) -> None:
    """Note which channels are down and which bindings that holds.

    Nothing counts as pressed before it was seen released. A combination beats the plain bindings of its button until that
    button is let go, also when the other button is let go before it.
    """
    for k in range(len(s.channels)):
        is_pressed = raw.reading[s.channels[k]] >= PRESSED
        after.armed[k] = before.armed[k] or not is_pressed
        w.down[k] = is_pressed and after.armed[k]
    for k in range(len(s.of)):
        w.held[k] = w.down[s.of[k]] and (s.other[k] < 0 or w.down[max(s.other[k], 0)])
        w.beaten[k] = False
    for k in range(len(s.beats)):
        if w.held[s.beats[k][0]]:
            w.beaten[s.beats[k][1]] = True


@kernel
def press(
    s: BindingSettings, w: BindingScratch, before: BindingState, after: BindingState, k: int, read: float, t: float,
    stopped: bool,
) -> None:  # fmt: skip
    """Find whether binding k lasts, and whether it is done now."""
    after.read[k] = read
    after.spent[k] = w.down[s.of[k]] and (before.spent[k] or w.beaten[k])
    after.active[k] = w.held[k] and not after.spent[k]
    fresh = after.active[k] and (not before.active[k] or (s.letter[k] and read != before.read[k]))
    after.on[k] = after.active[k]
    if s.way[k] == TOGGLE:
        after.on[k] = (before.on[k] if not fresh else not before.on[k]) and not stopped
    after.pressed_at[k], after.presses[k] = before.pressed_at[k], before.presses[k]
    if fresh:
        pause = t - before.pressed_at[k]
        after.presses[k] = 1.0 if pause > s.within[k] + s.dt else before.presses[k] + 1.0
        after.pressed_at[k] = t
    reached = fresh and s.way[k] == COUNTED and after.presses[k] >= s.presses[k]
    if reached:
        after.presses[k] = 0.0
    w.fired[k] = reached if s.way[k] == COUNTED else fresh
    w.lasting[k] = after.on[k] and (s.way[k] == HELD or s.way[k] == TOGGLE)


@kernel
def grow_motions(
    s: BindingSettings, w: BindingScratch, before: BindingState, after: BindingState, stopped: bool
) -> None:
    """Let motions grow and fall.

    A motion grows by rise·dt up to its share and falls by fall·dt; with the opposite one pressed it is zero at once, so that the
    opposite one starts from zero. (Own rules.)
    """
    for k in range(len(s.motions)):
        w.moving[k], w.crossed[k] = w.lasting[s.motions[k]] and not stopped, False
    for k in range(len(s.opposite)):
        if w.moving[s.opposite[k][0]]:
            w.crossed[s.opposite[k][1]] = True
    for k in range(len(s.motions)):
        grown = before.grown[k]
        if w.moving[k]:
            grown = smaller(s.bound[k], grown + s.slew_up[k] * s.dt) if s.slew_up[k] > 0.0 else s.bound[k]
        else:
            grown = larger(0.0, grown - s.slew_down[k] * s.dt) if s.slew_down[k] > 0.0 else 0.0
        if stopped or (w.crossed[k] and not w.moving[k]):
            grown = 0.0
        after.grown[k] = grown


@kernel
def press_step(
    s: BindingSettings, w: BindingScratch, before: BindingState, after: BindingState, clock: ClockColumns, raw: RawColumns,
) -> None:  # fmt: skip
    """Let a tick pass: what of all that is bound acts. While the robot is stopped toggles fall off and motions end."""
    note_presses(s, w, before, after, raw)
    for k in range(len(s.of)):
        press(s, w, before, after, k, raw.reading[s.channels[s.of[k]]], clock.t, clock.stopped)
    grow_motions(s, w, before, after, clock.stopped)


@kernel
def deflection(s: BindingSettings, k: int, raw: float) -> float:
    """Return the share, in [-1, 1], of a stick that an attachment follows; NaN counts as rest."""
    return s.sense[k] * rescaled(fraction_of(s.calibration, 0, k, raw), s.dead_band[k], div(1.0, 1.0 - s.dead_band[k]))


def way_of(patch: Patch) -> int:
    """Return how a patch acts."""
    binding, action = patch.binding, patch.action
    said = binding.when if binding is not None else ""
    if binding is not None and binding.presses:
        return COUNTED
    if said == "toggle":
        return TOGGLE
    return PRESS if said == "press" or action is None or not action.lasts else HELD
