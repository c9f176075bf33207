"""The test that a library must pass when it is loaded: a few hundred ticks with the bits of plain Python."""

from __future__ import annotations

from math import inf, nan
from typing import Any

import numpy as np

from pivrex.kernels.calls import KernelLoop
from pivrex.kernels.records import Form
from pivrex.kernels.trial import TrialSettings, TrialState, trial_step

__all__ = ["TICKS", "equal_bits", "same_bits"]

TICKS = 200

SPECIAL = (0.0, -0.0, 1.0, -1.5, 2.5, 1e-310, 1e300, inf, -inf, nan, 0.1, -7.3, 710.0, 1e17)

step = KernelLoop(trial_step, ("after",))


def same_bits(library: Any, ticks: int = TICKS) -> str:
    """Run the trial in a library and in Python; returns what is wrong, empty if nothing is."""
    settings, state = _trial()
    theirs = state
    for tick in range(ticks):
        push = float(np.sin(tick) * 3.0)
        if tick % 20 == 0:  # all special numbers now and then; in between the results of earlier ones
            state.data[...] = theirs.data[...] = _with_special(state, tick).data
        mine_after, their_after = state.form.start(), state.form.start()
        step.plainly((), (settings, state, mine_after, push))
        step.in_c(library, (), (settings, theirs, their_after, push))
        state, theirs = mine_after, their_after
        if not equal_bits(state.data, theirs.data):
            return "gives other bits than Python"
    return ""


def equal_bits(a: Any, b: Any) -> bool:
    """Return whether two arrays have the same bits; one NaN is as good as another."""
    one, other = (np.where(np.isnan(x), nan, x).view(np.int64) for x in (np.asarray(a, float), np.asarray(b, float)))
    return bool(np.array_equal(one, other))


def _trial() -> tuple[TrialSettings, TrialState]:
    sizes = {"n": 3, "special": 2}
    settings = Form(TrialSettings, **sizes).of(
        weights=[(0.7, 0.1), (1.3, -0.2), (-0.9, 0.05)], order=[2, 0, 1], on=[1, 0, 1], most=3.0, steps=9, odd=1
    )
    return settings, Form(TrialState, **sizes).of(x=[0.3, -1.1, 2.2], square=[(1, 0.2), (-0.3, 1)], angle=0.4)


def _with_special(state: TrialState, tick: int) -> TrialState:
    many = len(SPECIAL)
    pair = SPECIAL[tick // 20 % many], SPECIAL[(tick // 20 * 5 + 3) % many]
    return state._replace(special=pair)
