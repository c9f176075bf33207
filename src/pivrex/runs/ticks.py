"""A recording through the line: the Ticks it makes, one at a time, however long it is."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.devices.recording import Reading, RecordedDriver, Recording, due_tick
from pivrex.devices.robot import StandInRobot
from pivrex.line import Line
from pivrex.rig import Field, Rig

__all__ = ["play_through", "tick_table"]

Floats = NDArray[np.float64]

CHUNK = 512
"""Passes computed together; more is hardly faster and needs more memory."""


def play_through(rig: Rig, recording: Recording, field: Field | None, every_tick: bool = False) -> Iterator[Floats]:
    """Play a recording through a rig's line with the stand-in robot, as the interface does.

    Parameters
    ----------
    rig : Rig
    recording : Recording
    field : Field or None
        Where the stand-in drives; None is an open floor.
    every_tick : bool
        Whether to give every tick, or (False) one row for each reading: the tick that it first counts for. A reading
        that a later one overtakes within the same tick gets the row that it would have made.

    Yields
    ------
    (K,) float64
        Rows in the layout of ``Line(rig)``.

    Raises
    ------
    RecordingError
        If the recording lacks what the rig reads, or where it cannot be played.
    """
    line = Line(rig)
    recording.require(line.inputs)
    driving = RecordedDriver(recording, line.dt_s).driven_by(line)
    robot = StandInRobot(rig, field)
    sensed_at = line.layout.stage("sensed")
    places = {t: i - sensed_at.start for i, t in enumerate(line.layout.titles) if t.startswith("sensed.")}
    steps = _steps(recording.readings(), line.dt_s, every_tick)
    play = _one_by_one if line.reads_sensed else _in_chunks
    yield from play(line, robot, steps, sensed_at, places, driving, recording.columns_for(line))


def _sense(robot: StandInRobot, step: _Step, places: dict[str, int]) -> Floats:
    """What came back: from the recording where it has it, else from the stand-in."""
    sensed = robot.sense()
    for title, value in step.reading.sensed.items():
        if title in places:
            sensed[places[title]] = value
    return sensed


def _raw(step: _Step, columns: tuple[str, ...]) -> list[float]:
    raw = step.reading.raw
    return [raw[c] if c else 0.0 for c in columns]


def _one_by_one(
    line: Line,
    robot: StandInRobot,
    steps: Iterator[_Step],
    _at: slice,
    places: dict[str, int],
    driving: str,
    columns: tuple[str, ...],
) -> Iterator[Floats]:
    state = line.start()
    for step in steps:
        after, row = line.step(state, np.array(_raw(step, columns)), _sense(robot, step, places), driving=driving)
        if step.counts:
            state = after
            robot.command(line.told(row), line.dt_s)
        if step.shown:
            yield row


def _in_chunks(
    line: Line,
    robot: StandInRobot,
    steps: Iterator[_Step],
    sensed_at: slice,
    places: dict[str, int],
    driving: str,
    columns: tuple[str, ...],
) -> Iterator[Floats]:
    state = line.start()
    while chunk := list(islice(steps, CHUNK)):
        # What remembers nothing is computed for the whole chunk at once, which gives the same bits as one by one.
        raw = np.array([_raw(step, columns) for step in chunk])
        shaped = line.shape(raw, driving)
        rated, level, clock = (
            np.empty_like(shaped[-1]),
            np.empty(len(chunk)),
            line.clock(0, (len(chunk),), driving=driving),
        )
        for i, step in enumerate(chunk):
            clock[i, :2] = state.tick, state.tick * line.dt_s
            after, rated[i] = line.pace(state, raw[i], shaped[-1][i])
            level[i] = after.level
            state = after if step.counts else state
        sensed = np.zeros((len(chunk), sensed_at.stop - sensed_at.start))
        _, rows = line.drive(state._replace(level=level), clock, sensed, raw, shaped, rated)
        for i, (step, told) in enumerate(zip(chunk, line.told(rows), strict=True)):
            sensed[i] = _sense(robot, step, places)
            if step.counts:
                robot.command(told, line.dt_s)
        rows[:, sensed_at] = sensed
        for row, step in zip(rows, chunk, strict=True):
            if step.shown:
                yield row


class _Step(NamedTuple):
    """A pass of the line: its reading, whether it is a tick that counts, and whether its row is wanted."""

    reading: Reading
    counts: bool
    shown: bool


def _steps(readings: Iterator[Reading], dt_s: float, every_tick: bool) -> Iterator[_Step]:
    reading = next(readings)
    tick = 0
    while True:
        upcoming = next(readings, None)
        # the ticks of this reading: from its own up to the one before the next reading's
        until = tick + 1 if upcoming is None else due_tick(upcoming.t_s, dt_s)
        if until <= tick and not every_tick:
            yield _Step(reading, counts=False, shown=True)
        first = tick
        while tick < until:
            yield _Step(reading, counts=True, shown=every_tick or tick == first)
            tick += 1
        if upcoming is None:
            return
        reading = upcoming


def tick_table(line: Line) -> tuple[str, str]:
    """Give the header of a table of Ticks and the template that writes a row: ``template % tuple(row)``."""
    whole = {"clock.tick", "clock.stopped", "sensed.blocked", "law.level", "frame.field", "frame.point", "frame.over"}
    cells = ["%d" if t in whole or t.endswith("_hums") else "%.9g" for t in line.layout.titles]
    return ",".join(line.layout.titles), ",".join(cells)
