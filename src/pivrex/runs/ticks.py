"""A recording through the line: the Ticks it makes, one at a time, however long it is."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from pivrex.devices.recording import Reading, Recording, due_tick
from pivrex.devices.robot import StandInRobot
from pivrex.line import Line
from pivrex.rig import Field, Rig

__all__ = ["play_through", "tick_table"]

Floats = NDArray[np.float64]


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
    recording.require(line.channels)
    robot = StandInRobot(rig, field)
    state = line.start()
    places = {t: i for i, t in enumerate(line.layout.titles)}
    start = line.layout.stage("sensed").start

    def inputs(reading: Reading) -> tuple[Floats, Floats]:
        raw = np.array([reading.raw.get(c, 0.0) for c in line.channels])
        sensed = robot.sense()
        for title, value in reading.sensed.items():
            if title in places:
                sensed[places[title] - start] = value
        return raw, sensed

    readings = recording.readings()
    reading = next(readings)
    upcoming = next(readings, None)
    while True:
        # the ticks of this reading: from its own up to the one before the next reading's
        first = state.tick
        until = first + 1 if upcoming is None else due_tick(upcoming.t_s, line.dt_s)
        if until <= first and not every_tick:
            yield line.step(state, *inputs(reading))[1]
        while state.tick < until:
            state, row = line.step(state, *inputs(reading))
            if every_tick or state.tick == first + 1:
                yield row
            robot.command(line.told(row), line.dt_s)
        if upcoming is None:
            return
        reading, upcoming = upcoming, next(readings, None)


def tick_table(line: Line) -> tuple[str, str]:
    """Give the header of a table of Ticks and the template that writes a row: ``template % tuple(row)``."""
    whole = {"clock.tick", "clock.stopped", "sensed.blocked", "law.level"}
    cells = ["%d" if t in whole or t.endswith("_hums") else "%.9g" for t in line.layout.titles]
    return ",".join(line.layout.titles), ",".join(cells)
