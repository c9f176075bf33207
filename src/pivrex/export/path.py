"""A driven path on paper."""

from __future__ import annotations

import csv
import io
from math import isfinite
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from pivrex.errors import RecordingError
from pivrex.export.paper import LETTER, LINE, Page, save_pages
from pivrex.files import open_persons
from pivrex.formats.recording import Recording
from pivrex.line import Line
from pivrex.rig import Field, Rig
from pivrex.runs import blocks_of_ticks
from pivrex.scene.floor import field_scene, whole
from pivrex.scene.robot import add_robot
from pivrex.scene.scene import Scene

__all__ = ["floor_rows", "floor_scene", "write_path"]

Floats = NDArray[np.float64]

COLUMNS = 116
"""Letters that a field is wide."""

EVERY_S = 5.0
"""A mark for each so many seconds."""


def floor_scene(field: Field) -> Scene:
    """Return a scene for what moves on a field, all of it shown."""
    scene = field_scene(field, whole(field), zones=True)
    scene.caption("x to the right, y up")
    return scene


def floor_rows(field: Field, columns: int = COLUMNS) -> int:
    """Return how many lines a field needs that is so many letters wide."""
    return max(12, min(90, round((columns - 2) * LETTER * field.width_m / field.length_m / LINE) + 2))


def write_path(rig: Rig, field: Field, recording: Path, path: Path) -> None:
    """Draw where the robot goes.

    Parameters
    ----------
    rig : Rig
    field : Field
    recording : Path
        Recorded readings, which are played, or a table with ``clock.t_s``, ``truth.x_m`` and ``truth.y_m``.
    path : Path
        .svg or .pdf.

    Raises
    ------
    RecordingError, SaveError
    """
    points = _positions(rig, field, recording)
    t, places = points[:, 0], points[:, 1:3]
    scene = floor_scene(field)
    scene.line(places, "measured", 0.45)
    scene.dots(places[np.searchsorted(t, np.arange(t[0], t[-1], EVERY_S))], "measured", 0.45)
    if points.shape[1] > 3:
        add_robot(scene, rig, points[-1, 1:4].tolist())
    for at, sign, said in ((0, "□", "start"), (-1, "×", "end")):
        scene.sign(places[at], sign, "commanded")
        scene.label(places[at], said, "commanded", 5.0, "right left above below")
    rows = floor_rows(field)
    page = Page(COLUMNS + 4, rows + 8)
    page.text(4, 2, f"{rig.name} on the {field.name}: {recording.stem}", "title", 1.25)
    page.scene(scene, 2, 4, COLUMNS, rows)
    length = _length(places[:, 0], places[:, 1])
    page.text(4, rows + 5, f"━ path, {t[-1] - t[0]:.1f} s, {length:.2f} m    ● every {EVERY_S:g} s", "measured")
    save_pages([page], path)


def _length(x: Floats, y: Floats) -> float:
    return float(np.hypot(np.diff(x), np.diff(y)).sum())


def _positions(rig: Rig, field: Field, recording: Path) -> Floats:
    table = Recording(recording)
    if "truth.x_m" in table.columns and not (table.channels() & {"left_x", "left_y", "right_x", "right_y"}):
        return _from_table(recording)
    layout = Line(rig).layout
    at = [layout.at("clock", "t"), *(layout.at("truth", n) for n in ("x", "y", "heading"))]
    blocks = blocks_of_ticks(rig, table, field, every_tick=True, own_body=True)
    return np.concatenate([block[:, at] for block in blocks])


def _from_table(path: Path) -> Floats:
    names = ("clock.t_s", "truth.x_m", "truth.y_m")
    rows = []
    with io.TextIOWrapper(open_persons(path), encoding="utf-8-sig", newline="") as stream:
        reader = csv.DictReader(stream)
        missing = [n for n in names if n not in (reader.fieldnames or [])]
        if missing:
            raise RecordingError(path, 1, f"has no column {', '.join(missing)}")
        for row in reader:
            try:
                numbers = [float(row[n]) for n in names]
            except (TypeError, ValueError):
                numbers = [float("nan")]
            if not all(isfinite(v) for v in numbers):
                raise RecordingError(path, reader.line_num, "has a cell that is not a number")
            rows.append(numbers)
    if not rows:
        raise RecordingError(path, 1, "has a header but no position")
    return np.array(rows)
