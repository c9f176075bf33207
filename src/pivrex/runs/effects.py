"""The effect of each changed setting by itself: one run's readings go through the line with it and without."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
import tomlkit

from pivrex.errors import RigError
from pivrex.line import Entry, Line
from pivrex.line.beginning import begun, start_of
from pivrex.line.entry import entered
from pivrex.line.layout import Floats
from pivrex.rig import Rig
from pivrex.rig.difference import Change, applied
from pivrex.rig.read import read_text, rig_text
from pivrex.runs.parting import INPUTS, Parting, exact_floors
from pivrex.runs.run import Run

__all__ = ["Effect", "cause_of", "effects_of"]

TRY_S = 20.0
"""A changed setting is tried on the ticks of at most so long a drive."""

MAX_TRIED = 12
"""More changes than this are another robot: they are not tried one by one."""

OF_THE_ROBOT = ("body", "battery", "gyro", "lag", "motors", "sensors", "spread", "chassis")
"""The tables of a rig that say how the robot is, not what is done with the stick."""


@dataclass(frozen=True)
class Effect:
    """The effect of a changed setting by itself, with the first run's readings: when it first changes the line, in which stage and column,
    and the value then; NaN and empty if it never does.
    """

    change: Change
    t_s: float = np.nan
    stage: str = ""
    column: str = ""
    value: float = np.nan

    @property
    def said(self) -> str:
        """Return a sentence about it."""
        if np.isnan(self.t_s):
            return f"{self.change}; the line does not react to it"
        return f"{self.change}; by itself it acts from {self.t_s:.2f} s on, in {self.stage}"


def effects_of(one: Run, changes: list[Change], first: int) -> list[Effect]:
    """Find the first effect of each change by itself: the first run's readings go through the line with it and without."""
    if len(changes) > MAX_TRIED:
        return [Effect(change) for change in changes]
    rows = one.rows(first, min(one.end, first + round(TRY_S / one.dt_s)))
    line = one.line(first)
    rows = [row for row in rows if len(row) == len(line.layout)]
    text = rig_text(one.rig_file(first))
    plain: list[Floats] = []
    found = []
    for change in changes:
        try:
            changed = Line(read_text(tomlkit.dumps(applied(text, change)), one.folder / "rig.toml", Rig))
        except RigError:  # it can only be made together with another change
            found.append(Effect(change))
            continue
        plain = plain or list(_again(line, line, rows, one))
        found.append(_effect(change, line, changed, plain, _again(line, changed, rows, one), one.dt_s))
    return found


def _effect(
    change: Change, line: Line, changed: Line, plain: list[Floats], other: Iterator[Floats], dt_s: float
) -> Effect:
    places = {t: i for i, t in enumerate(changed.layout.titles)}
    both = [
        (i, places[t])
        for i, t in enumerate(line.layout.titles)
        if t in places and line.layout.columns[i].stage not in INPUTS
    ]
    mine, theirs = np.array([i for i, _ in both]), np.array([j for _, j in both])
    columns = [line.layout.columns[i] for i, _ in both]
    for n, (a, b) in enumerate(zip(plain, other, strict=True)):
        x, y = a[mine], b[theirs]
        with np.errstate(invalid="ignore"):
            apart = (np.abs(x - y) > exact_floors(x, columns)) | (np.isnan(x) != np.isnan(y))
        if apart.any():
            k = int(np.argmax(apart))
            return Effect(
                change, n * dt_s, line.layout.columns[mine[k]].stage, line.layout.titles[mine[k]], float(y[k])
            )
    return Effect(change)


def _again(line: Line, changed: Line, rows: list[Floats], run: Run) -> Iterator[Floats]:
    """Play the readings of Ticks, and the entries in them, through another line."""
    state = begun(changed, start_of(run.floor))
    taken = {stage: _taken(line, changed, stage) for stage in ("raw", "sensed", "truth")}
    for tick in rows:
        raw, sensed, truth = (np.where(some, tick[places], 0.0) for places, some in taken.values())
        stop = tick[line.layout.at("clock", "stopped")]
        driving = tick[line.layout.at("clock", "source")] if line.inputs.calibrated else 0.0
        state, row = changed.step(state, raw, sensed, stop, driving, truth, _entered(line, changed, tick))
        yield row


def cause_of(parting: Parting, effects: list[Effect]) -> Change | None:
    """Return the one change that, by itself, causes the first difference; if the robot or floor was changed, the one change that the line
    does not see.
    """
    if parting.stage in INPUTS:
        fitting = [e for e in effects if np.isnan(e.t_s) and e.change.place[0] in OF_THE_ROBOT]
    else:
        wanted = parting.values[1]
        fitting = [
            e for e in effects
            if e.column == parting.column and abs(e.t_s - parting.t_s) < 1e-6
            and (abs(e.value - wanted) <= 1e-6 * max(1.0, abs(wanted)) or bool(np.isnan(e.value) and np.isnan(wanted)))
        ]  # fmt: skip
    return fitting[0].change if len(fitting) == 1 else None


def _entered(line: Line, changed: Line, tick: Floats) -> Entry:
    """Return the entry of a tick, for as many columns as the changed line has too."""
    found = entered(line.stages, tick)
    alike = {n: line.stages[n].columns == changed.stages[n].columns for n in ("law", "routine", "following")}
    return found._replace(
        requests=None,
        twist=found.twist if alike["law"] else None,
        routine=found.routine if alike["routine"] else None,
        plan=found.plan if alike["following"] else None,
    )


def _taken(line: Line, changed: Line, stage: str) -> tuple[Any, Any]:
    """Return where the columns of a stage stand in the row of another layout, and which of them are there."""
    places = {t: i for i, t in enumerate(line.layout.titles)}
    found = [places.get(t, -1) for t in changed.layout.titles[changed.layout.stage(stage)]]
    return np.array(found, int), np.array(found, int) >= 0
