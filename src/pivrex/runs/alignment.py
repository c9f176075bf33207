"""Aligns two runs: which row of one matches which row of the other."""

from __future__ import annotations

import re

import numpy as np

from pivrex.errors import RunError
from pivrex.runs.run import Run
from pivrex.runs.track import TRACK

__all__ = ["WAYS", "place_said", "row_by"]

WAYS = ("start", "motion", "bump", "step N", "X,Y")
"""By what runs may be aligned: their first tick, the first commanded motion, the first bump, a line of the routine, or
where they come closest to a place in m.
"""

MOVES_M_S = 0.01
NEAR_M = 0.3
"""A run that never comes nearer than this to a place was not there."""


def place_said(by: str) -> tuple[float, float] | None:
    """Return the place that words such as ``1.2,0.8`` mean, in m; None if they mean none."""
    found = re.fullmatch(r"\s*([-+]?\d*\.?\d+)\s*,\s*([-+]?\d*\.?\d+)\s*", by)
    return (float(found[1]), float(found[2])) if found else None


def row_by(run: Run, by: str) -> int:
    """Return the row of a run that counts as its 0.

    Raises
    ------
    RunError
        If there is none: it did not bump, does not reach that line of a routine, never comes near the place; or ``by`` is none of
        `WAYS`.
    """
    if by == "start":
        return run.first
    if by == "motion":
        return _first_motion(run)
    if by == "bump":
        return _event(run, "bump", "", "bumps into nothing")
    step = re.fullmatch(r"step (\d+)", by)
    if step is not None:
        return _event(run, "step", f"line {step[1]}", f"does not reach line {step[1]} of a routine")
    place = place_said(by)
    if place is not None:
        return _nearest(run, *place)
    raise RunError(run.folder, 0, f'cannot be aligned by "{by}"; there are {", ".join(WAYS)}')


def _event(run: Run, kind: str, text: str, never: str) -> int:
    for event in run.events:
        if event.kind == kind and (not text or event.text.partition(":")[0] == text) and event.row >= run.first:
            return event.row
    raise RunError(run.folder, 0, never)


def _first_motion(run: Run) -> int:
    for piece in run.pieces():
        line = run.line(piece.first)
        moves = np.flatnonzero((np.abs(piece.rows[:, line.speeds]) > MOVES_M_S).any(axis=1))
        if len(moves):
            return piece.first + int(moves[0])
    raise RunError(run.folder, 0, "never moves")


def _nearest(run: Run, x: float, y: float) -> int:
    """Find the tick nearest to a place: by the track which stretch it is, by the Ticks which of them."""
    track = run.track
    columns = [TRACK.index("x_m"), TRACK.index("y_m")]
    if not np.isfinite(track[:, columns]).any():  # the true pose of a real robot is unknown
        columns = [TRACK.index("estimated_x_m"), TRACK.index("estimated_y_m")]
    away = np.hypot(track[:, columns[0]] - x, track[:, columns[1]] - y)
    if not np.isfinite(away).any() or np.nanmin(away) > NEAR_M:
        raise RunError(run.folder, 0, f"never comes near {x:g} m, {y:g} m")
    row = int(track[int(np.nanargmin(away)), 0])
    reach = max(1, round(0.5 / run.dt_s))
    first = max(run.first, row - reach)
    rows = run.rows(first, row + reach)
    stage, names = ("truth", ("x", "y")) if columns[0] == TRACK.index("x_m") else ("odometry", ("x", "y"))
    place = run.line(row).layout.these(stage, names)
    off = np.array([np.hypot(*(r[place] - (x, y))) if len(r) > place.stop else np.inf for r in rows])
    return first + int(np.nanargmin(off))
