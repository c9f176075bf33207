"""What a student should look at in a step that drove: a bump, sliding tyres, limited wheels."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from pivrex.line.layout import plain
from pivrex.line.line import Line
from pivrex.line.stage import Floats
from pivrex.routine.thread import StepRecord

__all__ = ["BUMPED", "LIMITED", "SLIPPED", "mark_steps"]

BUMPED, SLIPPED, LIMITED = "bumped", "slipped", "limited"

SLIDES_M_S, HELD_BACK_M_S = 0.15, 0.05
LONG_S = 0.1
"""What lasts no longer is not worth a word."""


def mark_steps(line: Line, rows: Floats, steps: Iterable[StepRecord]) -> None:
    """Mark the steps that drove, by their Ticks, (N, K)."""
    layout, wheels = line.layout, [plain(w) for w in line.wheels]
    blocked = rows[:, layout.at("truth", "blocked")] > 0
    slips = [layout.at("truth", f"{w}_slip") for w in wheels if layout.has("truth", f"{w}_slip")]
    lost = [layout.at("limits", f"{w}_lost") for w in wheels]
    slides = (np.nan_to_num(rows[:, slips]) > SLIDES_M_S).any(axis=1) if slips else np.zeros(len(rows), bool)
    held = (np.abs(rows[:, lost]) > HELD_BACK_M_S).any(axis=1)
    long = max(1, round(LONG_S / line.dt_s))
    for step in steps:
        if step.lane != "motion":
            continue
        part = slice(step.begin, max(step.end, step.begin + 1))
        for name, flags, least in ((BUMPED, blocked, 1), (SLIPPED, slides, long), (LIMITED, held, long)):
            if np.count_nonzero(np.asarray(flags)[part]) >= least and name not in step.marks:
                step.marks.append(name)
