"""The rate limit: how fast a function may change, away from zero and toward it."""

from __future__ import annotations

import numpy as np

from pivrex.kernels.maths import clamp, copysign, div, smaller
from pivrex.kernels.records import Flag, Flags, Form, Numbers, Record, Whole, Wholes, field
from pivrex.kernels.subset import kernel
from pivrex.line.bindings import BindingsColumns, column_of
from pivrex.line.input_stages import ClockColumns
from pivrex.line.inputs import Inputs
from pivrex.line.stage import Fractions, Rung, Stage, named
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.rig import Rig

__all__ = ["Rate", "RateSettings", "RateState", "rate_step"]

DRIVES = ("forward", "ahead", "back", "left", "right")
"""The functions of laws that drive a robot ahead and back."""

NO_LIMIT = 1e9
"""A rate in 1/s that limits nothing: from -1 to 1 in 2 ns. Finite, so that no formula meets inf - inf."""


class RateSettings(Record):
    """The rates of C channels.

    Attributes
    ----------
    unlimited : flag
        Whether no channel has a rate limit.
    up, down : (C,)
        How far a value may go in one tick, away from zero and towards it; `NO_LIMIT` per second for none.
    pair : (0,) or (2,)
        Two channels that go to where they are wanted on one straight line.
    drives : (C,) flags
        Whether a channel drives ahead and back, and so is reversed by a button.
    brake, reverse : int
        The columns of the bindings, -1 for none.
    """

    is_settings = True

    unlimited: Flag = field()
    up: Numbers = field("functions")
    down: Numbers = field("functions")
    pair: Wholes = field("pair")
    drives: Flags = field("functions")
    brake: Whole = field()
    reverse: Whole = field()


class RateState(Record):
    """The last values, B + (C,)."""

    last: Numbers = field("functions")


@kernel
def rate_limited(up: float, down: float, before: float, wanted: float) -> float:
    """Return a value that changes by at most a limit in one tick: one limit away from zero, another toward it.

    Notes
    -----
    In the frame where ``before`` is not negative, p = |before| and g = wanted·sign(before). Away from zero p grows
    by ``up`` at most. Towards zero it falls by ``down`` at most; if that leads past zero, the share of the tick
    that is left there, 1 - p/down, counts at the other rate, so there is no pause at zero: with q = p - down the
    lowest value is q for q ≥ 0, and q·up/down below. (Own derivation.)
    """
    sign = copysign(1.0, before)
    p, g = before * sign, wanted * sign
    q = p - down
    lowest = q * div(up, down) if q < 0.0 else q
    return sign * clamp(g, lowest, p + up)


@kernel
def wanted_of(s: RateSettings, k: int, scale: Fractions, bindings: BindingsColumns) -> float:
    """Return what a function is to become: a throttle that goes one way only drives back while a button reverses it."""
    if s.reverse >= 0 and s.drives[k] and bindings.value[max(s.reverse, 0)] != 0.0:
        return -scale.value[k]
    return scale.value[k]


@kernel
def rate_step(
    s: RateSettings, before: RateState, after: RateState, clock: ClockColumns, scale: Fractions, bindings: BindingsColumns,
    out: Fractions,
) -> None:  # fmt: skip
    """Limit the change of functions. In a pair the slower one limits both, so that they move along a straight line to their targets.
    Stopping and braking ignore the limit.
    """
    for k in range(len(out.value)):
        out.value[k] = wanted_of(s, k, scale, bindings)
        if not s.unlimited:
            out.value[k] = rate_limited(s.up[k], s.down[k], before.last[k], out.value[k])
    if len(s.pair) > 0 and not s.unlimited:
        share = 1.0
        for i in range(2):
            k = s.pair[i]
            distance = wanted_of(s, k, scale, bindings) - before.last[k]
            if distance != 0.0:
                share = smaller(share, div(out.value[k] - before.last[k], distance))
        for i in range(2):
            k = s.pair[i]
            wanted = wanted_of(s, k, scale, bindings)
            out.value[k] = wanted if share >= 1.0 else before.last[k] + (wanted - before.last[k]) * share
    if clock.stopped or (s.brake >= 0 and bindings.value[s.brake] != 0.0):
        for k in range(len(out.value)):
            out.value[k] = 0.0
    for k in range(len(out.value)):
        after.last[k] = out.value[k]


class Rate(Stage):
    """The rates of the law's functions. Stopping and braking go round them, and the next motion begins from rest."""

    name = "rate"

    def __init__(self, rig: Rig, inputs: Inputs) -> None:
        self.functions = functions = inputs.functions
        self._shaping = rig.shaping
        axes = list(rig.law.axes())
        each = [rig.shaping.of(role) for role in axes]
        pair = [axes.index("forward"), axes.index("sideways")] if rig.keeps_direction else []
        self.settings: RateSettings = Form(RateSettings, functions=len(functions), pair=len(pair)).of(
            unlimited=not any(s.slew_up_per_s or s.slew_down_per_s for s in each),
            up=np.array([s.slew_up_per_s or NO_LIMIT for s in each]) * rig.ask_dt_s,
            down=np.array([s.slew_down_per_s or NO_LIMIT for s in each]) * rig.ask_dt_s,
            pair=pair,
            drives=[role in DRIVES and not rig.is_bench for role in axes],
            brake=column_of(rig, inputs, "brake"),
            reverse=column_of(rig, inputs, "reverse"),
        )
        self.form = Form(Fractions, functions=len(functions))
        self.memory = Form(RateState, functions=len(functions))
        self.columns = named("rate", *((f, "") for f in functions))
        self.kept_while = functions

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Rate:
        return cls(rig, inputs)

    def phrases(self, tick: WheelTick) -> list[str]:
        if not tick.by_stick or abs(tick("rate", tick.main) - tick("scale", tick.main)) <= 0.005:
            return []
        if self._reversed(tick, tick.main):
            return [f"reversed {tick.of_function('rate')[0]:.2f}"]
        return [f"rate {tick.of_function('rate')[0]:.2f}"]

    def _reversed(self, tick: WheelTick, function: str) -> bool:
        """Return whether a button reverses a function."""
        drives = self.settings.drives[self.functions.index(function)]
        return bool(drives) and bool(tick.get("bindings", "reverse"))

    def rungs(self, tick: WheelTick) -> list[Rung]:
        found = []
        for function in self.functions:
            s = self._shaping.of(function)
            before, after = tick("scale", function), tick("rate", function)
            stopped, braked = tick("clock", "stopped"), tick.get("bindings", "brake")
            limits = " and ".join(
                f"{word} {rate:g} /s"
                for word, rate in (("slew up", s.slew_up_per_s), ("slew down", s.slew_down_per_s))
                if rate
            )
            note = "! stopped" if stopped else "! brake" if braked else ""
            turned = self._reversed(tick, function)
            slowed = abs(after - (-before if turned else before)) > 0.0005 and not note
            found.append(
                Rung(
                    "rate",
                    f"{function}: {before:+.3f}, {'reversed, ' * turned}{limits or 'no limit'} → {after:+.3f}",
                    f"{self._shaping.key(function)}.slew_up",
                    "still on its way" if slowed else note if before else "",
                )
            )
        return found
