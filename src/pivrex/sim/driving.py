"""A whole tick of a driving robot: its sensors, its line, and its motors."""

from __future__ import annotations

from collections.abc import Sequence
from threading import get_ident
from typing import Any

import numpy as np

from pivrex.kernels.engines import Call
from pivrex.kernels.maths import is_nan
from pivrex.kernels.records import Numbers
from pivrex.kernels.subset import kernel
from pivrex.line.input_stages import SensedRow
from pivrex.line.line import Line, LineState
from pivrex.line.outputs import OutputsColumns
from pivrex.line.stage import Floats
from pivrex.line.tick import LineMemory, LineScratch, LineSettings, Tick, line_step
from pivrex.sim.body import RealisticBody
from pivrex.sim.body.robot import RealisticRobot, body_tick, sense_body, truth_of_body
from pivrex.sim.body.sensors import CHANCE, Chance
from pivrex.sim.body.state import BodyScratch, BodyState
from pivrex.sim.ideal import (
    IdealBody,
    IdealRobot,
    IdealScratch,
    IdealState,
    ideal_step,
    sense_ideal,
    truth_of_ideal,
)  # fmt: skip

__all__ = ["drive_body", "drive_ideal", "drive_through", "driven_by"]


@kernel
def take_over(replaced: Numbers, values: Numbers, many: int) -> None:
    """Let given readings replace others; NaN where there is none."""
    for k in range(many):
        if not is_nan(replaced[k]):
            values[k] = replaced[k]


@kernel
def take_replaced(replaced: SensedRow, sensed: SensedRow) -> None:
    """Let given readings replace the measured ones."""
    take_over(replaced.travel, sensed.travel, len(replaced.travel))
    take_over(replaced.speed, sensed.speed, len(replaced.speed))
    take_over(replaced.turned, sensed.turned, len(replaced.turned))
    take_over(replaced.absolute, sensed.absolute, len(replaced.absolute))
    take_over(replaced.gyro, sensed.gyro, len(replaced.gyro))
    take_over(replaced.up, sensed.up, len(replaced.up))
    take_over(replaced.at, sensed.at, len(replaced.at))
    take_over(replaced.tilt, sensed.tilt, len(replaced.tilt))
    take_over(replaced.readings, sensed.readings, len(replaced.readings))
    take_over(replaced.battery, sensed.battery, len(replaced.battery))


@kernel
def coasting(outputs: OutputsColumns) -> float:
    """Return 1 for a robot that is commanded to coast, else 0."""
    return outputs.coast[0] if len(outputs.coast) > 0 else 0.0


@kernel
def drive_ideal(
    r: IdealRobot, line: LineSettings, w: IdealScratch, lw: LineScratch, replaced: SensedRow, memory: LineMemory,
    remembered: LineMemory, before: IdealState, after: IdealState, tick: Tick, dt: float, asks: float,
    follows: float,
) -> None:  # fmt: skip
    """Make a tick of a perfect robot and its line, or one half of it."""
    if asks > 0.0:
        sense_ideal(r, w, before, tick.sensed)
        truth_of_ideal(r, before, tick.truth)
        take_replaced(replaced, tick.sensed)
    line_step(line, lw, memory, remembered, tick, asks, follows)
    if follows > 0.0:
        ideal_step(r, w, before, after, tick.outputs.value, coasting(tick.outputs), dt)


@kernel
def drive_body(
    r: RealisticRobot, chance: Chance, line: LineSettings, w: BodyScratch, lw: LineScratch, replaced: SensedRow, memory: LineMemory,
    remembered: LineMemory, before: BodyState, after: BodyState, tick: Tick, dt: float, asks: float,
    follows: float,
) -> None:  # fmt: skip
    """Make a tick of a robot with a real body and its line, or one half of it."""
    if asks > 0.0:
        sense_body(r, chance, w, before, tick.sensed)
        truth_of_body(before, tick.truth)
        take_replaced(replaced, tick.sensed)
    line_step(line, lw, memory, remembered, tick, asks, follows)
    if follows > 0.0:
        body_tick(r, chance, w, before, after, tick.outputs.value, coasting(tick.outputs), dt)


_WRITES = ("remembered", "after", "tick")
_IDEAL, _BODY = Call(drive_ideal, _WRITES), Call(drive_body, _WRITES)


def driven_by(line: Line, model: IdealBody | RealisticBody) -> Call:
    """Return what drives a robot with its line, with all that stays the same; each thread computes in a place of its own."""
    key = (line.settings, line.form, get_ident())
    if (
        model.driven is None
        or any(a is not b for a, b in zip(model.driven[0][:2], key[:2], strict=True))
        or model.driven[0][2] != key[2]
    ):
        scratch = model.scratch.scratch, line.scratch.scratch
        if isinstance(model, IdealBody):
            call = _IDEAL.after(model.robot, line.settings, *scratch)
        else:
            call = _BODY.after(model.robot, CHANCE, line.settings, *scratch)
        nothing = line.stages["sensed"].form.of(**dict.fromkeys(line.stages["sensed"].form.places, np.nan))
        model.driven = (key, call, nothing)
    found: Call = model.driven[1]
    return found


def drive_through(
    line: Line, model: IdealBody | RealisticBody, state: LineState, robot: Any, rows: Floats, replaced: Floats, counts: Sequence[bool],
) -> tuple[LineState, Any]:  # fmt: skip
    """Let one robot drive through N ticks whose inputs are known beforehand.

    Parameters
    ----------
    rows : (N, K) float64
        With what goes in, as `Line.begin` gives it; the rest is written.
    replaced : (N, S) float64
        What was sensed, where that is known; NaN where the sensors of the simulated robot say it.
    counts : sequence of N bool
        A tick that does not count leaves no trace: its row is what it would have been.

    Returns
    -------
    LineState, state of the robot
        After the last tick.
    """
    many = len(rows)
    counted = np.asarray(counts, np.int64)
    end = int(counted.sum())
    begin = np.cumsum(counted) - counted
    until = np.where(counted > 0, begin + 1, many + 1)  # what does not count is written behind all others
    memory, robots = line.memory.start((many + 2,)), model.form.start((many + 2,))
    memory.data[0], robots.data[0] = state.memory.data, robot.data
    index = {"memory": begin, "remembered": until, "before": begin, "after": until}
    sensed = SensedRow(line.stages["sensed"].form, replaced)
    driven_by(line, model).in_order(
        (many,), sensed, memory, memory, robots, robots, Tick(line.form, rows), line.dt_s, 1.0, 1.0, index=index
    )
    return LineState(state.tick + float(end), memory.take(end)), robots.take(end)
