"""A driven path on paper."""

from __future__ import annotations

import csv
import io
from math import isfinite
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pivrex.errors import RecordingError
from pivrex.export.sheet import COMMANDED, GHOST, MEASURED, TARGET, THING, new_sheet, save_sheet
from pivrex.files import open_persons
from pivrex.formats.recording import Recording
from pivrex.line import Line
from pivrex.rig import Field, Rig
from pivrex.runs import play_through

__all__ = ["draw_floor", "draw_outline", "write_path"]

Floats = NDArray[np.float64]

EVERY_S = 5.0
"""A mark for each so many seconds."""


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
    t, x, y = points[:, 0], points[:, 1], points[:, 2]
    figure, (sheet,) = new_sheet(7.0, 7.0 * field.width_m / field.length_m + 0.9)
    draw_floor(sheet, field)
    sheet.plot(x, y, color=MEASURED, linewidth=1.4, label=f"path, {t[-1] - t[0]:.1f} s, {_length(x, y):.2f} m")
    marks = np.searchsorted(t, np.arange(t[0], t[-1], EVERY_S))
    sheet.plot(x[marks], y[marks], "o", color=MEASURED, markersize=3, label=f"every {EVERY_S:g} s")
    sheet.plot(x[0], y[0], "s", color=COMMANDED, markersize=7, fillstyle="none", label="start")
    if points.shape[1] > 3:
        draw_outline(sheet, rig, points[-1, 1:4], COMMANDED)
    sheet.plot(x[-1], y[-1], "x", color=COMMANDED, markersize=7, label="end")
    sheet.set_title(f"{rig.name} on the {field.name}: {recording.stem}", fontsize=10)
    sheet.legend(fontsize=8, frameon=False, loc="upper center", bbox_to_anchor=(0.5, -0.09), ncols=4)
    save_sheet(figure, path)


def draw_floor(sheet: Any, field: Field) -> None:
    """Draw what stands on a field, its zones and its walls, to scale."""
    from matplotlib.patches import Circle, Rectangle

    for thing in field.blocks:
        corner = (thing.x_m - thing.length_m / 2, thing.y_m - thing.width_m / 2)
        sheet.add_patch(Rectangle(corner, thing.length_m, thing.width_m, facecolor="#e4e8d8", edgecolor=THING))
        sheet.annotate(thing.name, (thing.x_m, thing.y_m), ha="center", va="center", fontsize=8, color=THING)
    for one in field.rounds:
        sheet.add_patch(Circle((one.x_m, one.y_m), one.radius_m, facecolor="#e4e8d8", edgecolor=THING))
        sheet.annotate(one.name, (one.x_m, one.y_m - one.radius_m - 0.09), ha="center", fontsize=8, color=THING)
    for zone in field.zones:
        sheet.add_patch(Circle((zone.x_m, zone.y_m), zone.radius_m, fill=False, edgecolor=TARGET, linestyle="--"))
    sheet.add_patch(Rectangle((0, 0), field.length_m, field.width_m, fill=False, edgecolor=GHOST, linewidth=1.5))
    sheet.set_xlim(-0.1, field.length_m + 0.1)
    sheet.set_ylim(-0.1, field.width_m + 0.1)
    sheet.set_aspect("equal")
    sheet.set_xlabel("x in m")
    sheet.set_ylabel("y in m")


def draw_outline(sheet: Any, rig: Rig, pose: Floats, colour: str) -> None:
    """Draw the robot's outline at a pose, (3,), its front pointed."""
    from matplotlib.patches import Polygon

    c, s = np.cos(pose[2]), np.sin(pose[2])
    length, width = rig.chassis.length_m / 2, rig.chassis.width_m / 2
    corners = [(length, width), (length * 1.3, 0), (length, -width), (-length, -width), (-length, width)]
    outline = [(pose[0] + c * a - s * b, pose[1] + s * a + c * b) for a, b in corners]
    sheet.add_patch(Polygon(outline, closed=True, facecolor="none", edgecolor=colour, linewidth=1.4))


def _length(x: Floats, y: Floats) -> float:
    return float(np.hypot(np.diff(x), np.diff(y)).sum())


def _positions(rig: Rig, field: Field, recording: Path) -> Floats:
    table = Recording(recording)
    if "truth.x_m" in table.columns and not (table.channels() & {"left_x", "left_y", "right_x", "right_y"}):
        return _from_table(recording)
    layout = Line(rig).layout
    at = [layout.at("clock", "t"), *(layout.at("truth", n) for n in ("x", "y", "heading"))]
    return np.array([row[at] for row in play_through(rig, table, field, every_tick=True, own_body=True)])


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
