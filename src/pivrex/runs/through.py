"""Drives again on the simulated robot and keeps the result as a run: the same driver with another rig, or any given Ticks."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime
from pathlib import Path

import numpy as np

from pivrex.errors import SaveError
from pivrex.formats.recording import Reading, Recording
from pivrex.line import Line
from pivrex.line.layout import Floats
from pivrex.rig import Field
from pivrex.rig.read import read_rig, rig_text
from pivrex.runs.facts import Facts
from pivrex.runs.run import Run
from pivrex.runs.ticks import as_played, play_through
from pivrex.runs.writing import RunWriter

__all__ = ["RunRecording", "keep_rows", "through"]

BATCH = 120


class RunRecording(Recording):
    """A run as a recording of its driver: the readings of its Ticks, without what the robot sensed then.

    Parameters
    ----------
    run : Run
    """

    def __init__(self, run: Run) -> None:
        object.__setattr__(self, "path", run.folder)
        object.__setattr__(self, "run", run)
        titles = run.line(run.first).layout.titles
        columns = ("t", *(t.removeprefix("raw.") for t in titles if t.startswith("raw.")))
        object.__setattr__(self, "columns", columns)

    def readings(self) -> Iterator[Reading]:
        """Return the readings of every tick; a channel that a changed rig no longer reads keeps its last value."""
        run: Run = self.run  # type: ignore[attr-defined]
        held: dict[str, float] = dict.fromkeys(self.columns[1:], 0.0)
        for piece in run.pieces():
            for i, row in enumerate(piece.rows):
                at = piece.first + i
                line = run.line(at)
                places = line.layout.stage("raw")
                names = [t.removeprefix("raw.") for t in line.layout.titles[places]]
                there = zip(names, row[places].tolist(), strict=True)
                held = held | {n: v for n, v in there if v == v and n in held}  # noqa: PLR0124 - NaN is not itself
                yield Reading(at + 2, (at - run.first) * run.dt_s, held, {})


def through(run: Run, rig_path: Path, folder: Path, own_body: bool = True) -> Run:
    """Drive what a run's driver did through a rig, on the simulated robot, and keep it as a run in ``folder``.

    Parameters
    ----------
    own_body : bool
        Whether the simulated robot has the body that the rig says, or a perfect one.

    Raises
    ------
    RigError, RunError, RecordingError
        If the rig or the run cannot be read, or the run lacks what the rig reads.
    SaveError
        If it cannot be kept.
    """
    text, rig = rig_text(rig_path), read_rig(rig_path)
    rows = play_through(rig, RunRecording(run), run.floor, every_tick=True, own_body=own_body)
    line = Line(rig if own_body else as_played(rig))
    facts = Facts(
        rig.name, rig_path.stem, datetime.now().astimezone(), round(1 / line.dt_s, 6),
        drivers=run.facts.drivers, note=f"{run.name} simulated with {rig_path.name}",
    )  # fmt: skip
    return keep_rows(folder, facts, line, text, run.floor, rows)


def keep_rows(
    folder: Path, facts: Facts, line: Line, rig_text: str, floor: Field | None, rows: Iterable[Floats],
    routine: tuple[str, str] = ("", ""),
) -> Run:  # fmt: skip
    """Keep Ticks that were made as a run. Raises `SaveError`; then nothing is left of it."""
    writer = RunWriter(folder, facts, line, rig_text, floor)
    try:
        if routine[0]:
            writer.routine(*routine)
        batch: list[Floats] = []
        for row in rows:
            batch.append(row)
            if len(batch) == BATCH:
                writer.add(np.array(batch))
                batch = []
        if batch:
            writer.add(np.array(batch))
        writer.close()
    except BaseException:
        writer.abandon()
        _gone(folder)
        raise
    return Run(folder)


def _gone(folder: Path) -> None:
    import shutil

    try:
        shutil.rmtree(folder)
    except OSError as problem:
        raise SaveError(folder, str(problem)) from None
