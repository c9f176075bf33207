"""Plays a recording through the line: its Ticks, some hundred at a time, however long it is."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import chain, islice
from typing import NamedTuple

import numpy as np

from pivrex.formats.player import due_tick
from pivrex.formats.recording import Reading, Recording
from pivrex.line import Line, LineState
from pivrex.line.beginning import begun, start_of
from pivrex.line.correction import NEVER
from pivrex.line.input_stages import NOWHERE
from pivrex.line.stage import Floats
from pivrex.rig import Field, Rig
from pivrex.sim.driving import drive_through
from pivrex.sim.model import AnySimulator, simulator_of

__all__ = ["as_played", "blocks_of_ticks", "play_through"]

CHUNK = 512
"""Passes computed together; more is hardly faster and needs more memory."""


def as_played(rig: Rig) -> Rig:
    """Return a rig for playing recordings: with ideal physics, and without a held heading unless a binding holds it. Recordings show what
    the sticks mean, not how a floor slips.
    """
    rig = rig.with_body("ideal") if rig.has_realistic_physics else rig
    if rig.correction is None or rig.correction.hold == "on":
        return rig
    return rig.model_copy(update={"correction": rig.correction.model_copy(update={"hold": NEVER})})


def play_through(
    rig: Rig, recording: Recording, field: Field | None, every_tick: bool = False, own_body: bool = False
) -> Iterator[Floats]:
    """Yield the rows of `blocks_of_ticks` one by one."""
    return chain.from_iterable(blocks_of_ticks(rig, recording, field, every_tick, own_body))


def blocks_of_ticks(
    rig: Rig, recording: Recording, field: Field | None, every_tick: bool = False, own_body: bool = False
) -> Iterator[Floats]:
    """Play a recording through a rig's line with the simulated robot, as the interface does.

    Parameters
    ----------
    rig : Rig
    recording : Recording
    field : Field or None
        Where the simulated robot drives; None is an open floor.
    every_tick : bool
        Whether to give every tick, or (False) one row for each reading: the tick that it first counts for. A reading
        that a later one overtakes within the same tick gets the row that it would have made.
    own_body : bool
        Whether it drives with the body that the rig has, tick by tick, instead of as `as_played` says.

    Yields
    ------
    (N, K) float64
        Rows in the layout of ``Line(as_played(rig))``, or with its own body of ``Line(rig)``; at most `CHUNK`.

    Raises
    ------
    RecordingError
        If the recording lacks what the rig reads, or where it cannot be played.
    """
    rig = rig if own_body else as_played(rig)
    line = Line(rig)
    recording.require(line.inputs.wanted)
    driving = line.source_number(recording.driving_source(line))
    first = line.layout.stage("sensed").start
    places = {t: i - first for i, t in enumerate(line.layout.titles) if t.startswith("sensed.")}
    steps = _steps(recording.readings(), line.dt_s, every_tick)
    model = simulator_of(rig, field)
    yield from _in_chunks(
        line, model, begun(line, start_of(field)), steps, places, driving, recording.columns_for(line)
    )


def _raw(step: _Step, columns: tuple[str, ...]) -> list[float]:
    raw = step.reading.raw
    return [raw[c] if c else 0.0 for c in columns]


def _in_chunks(
    line: Line,
    model: AnySimulator,
    state: LineState,
    steps: Iterator[_Step],
    places: dict[str, int],
    driving: float,
    columns: tuple[str, ...],
) -> Iterator[Floats]:
    robot = model.start()
    count = len(line.stages["sensed"].columns)
    while chunk := list(islice(steps, CHUNK)):
        counts = [step.counts for step in chunk]
        ticks = float(state.tick) + np.concatenate(([0.0], np.cumsum(counts[:-1])))
        raw, given = np.array([_raw(step, columns) for step in chunk]), np.full((len(chunk), count), np.nan)
        for own, step in zip(given, chunk, strict=True):
            for title, value in step.reading.sensed.items():
                if title in places:
                    own[places[title]] = value
        rows = line.begin(ticks, raw, np.zeros(count), 0.0, driving, NOWHERE)
        state, robot = drive_through(line, model, state, robot, rows, given, counts)
        yield rows[[step.shown for step in chunk]]


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
