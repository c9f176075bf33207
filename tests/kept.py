"""Runs that several tests look at: four seconds of a driver through two versions of Plover."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from functools import cache
from pathlib import Path

import numpy as np

from pivrex.formats.recording import Recording
from pivrex.line import Line
from pivrex.rig import open_folder, read_text
from pivrex.rig.rig import Rig
from pivrex.runs.events import Event
from pivrex.runs.facts import Facts
from pivrex.runs.ticks import play_through
from pivrex.runs.writing import RunWriter
from tests.support import DEMO, PLOVER

__all__ = ["BEGAN", "FIRST", "SECOND", "keep_two", "kept_drives"]

BEGAN = datetime(2030, 5, 4, 9, 0, tzinfo=UTC)
FIRST, SECOND = "20300504-090000-plover", "20300505-090000-plover"


@cache
def kept_drives() -> dict[str, tuple[Line, str, np.ndarray]]:
    """By the name of the run its line, its rig's text and its rows; the second has a gentler curve."""
    text, field = PLOVER.read_text("utf-8"), open_folder(DEMO).settings.field
    found = {}
    for name, said in ((FIRST, text), (SECOND, text.replace('curve = "35 %"', 'curve = "70 %"'))):
        rig = read_text(said, PLOVER, Rig)
        rows = play_through(rig, Recording(DEMO / "inputs" / "watering.csv"), field, True, own_body=True)
        found[name] = Line(rig), said, np.array([row for row, _ in zip(rows, range(300), strict=False)])
    return found


def keep_two(place: Path, event: Event, notes: tuple[str, str] = ("", "")) -> None:
    """Keep both in a workspace, a day apart, with an event each."""
    for name, note in zip((FIRST, SECOND), notes, strict=True):
        line, text, rows = kept_drives()[name]
        began = BEGAN + timedelta(name == SECOND)
        facts = Facts("Plover", "plover", began, 60.0, "by key", drivers=("recording watering",), note=note)
        writer = RunWriter(place / "runs" / name, facts, line, text, open_folder(place).settings.field)
        writer.add(rows)
        writer.event(event)
        writer.close()
