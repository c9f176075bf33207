"""A routine on paper: its way over the field, asked and got to, and below it the timeline with a lane for everything."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from pivrex.export.path import draw_floor, draw_outline
from pivrex.export.sheet import COMMANDED, GHOST, MEASURED, TARGET, new_sheet, save_sheet
from pivrex.line import Line
from pivrex.rig import Field, Rig
from pivrex.routine import Play, Program, play
from pivrex.routine.asked_path import asked_path
from pivrex.routine.playing import start_pose

__all__ = ["write_routine"]

ALARM = "#b3200a"
LANE_IN = 0.28
FILLS = {"motion": COMMANDED, "wait": GHOST, "sense": TARGET}


def write_routine(program: Program, rig: Rig, field: Field, limit_s: float, path: Path, seed: int = 0) -> None:
    """Play a routine and draw it.

    Parameters
    ----------
    program : Program
    rig : Rig
    field : Field
    limit_s : float
        How long the robot is alone.
    path : Path
        .svg or .pdf.

    Raises
    ------
    SaveError
    """
    made = play(program, rig, field, limit_s, seed)
    lanes = [*("motion", "wait", "sense"), *(n for n in rig.attachments)]
    lanes = [lane for lane in lanes if any(s.lane == lane for s in made.steps)] or ["motion"]
    below = LANE_IN * len(lanes) + 0.7
    above = 7.0 * field.width_m / field.length_m + 0.6
    figure, (sheet,) = new_sheet(7.0, above + below)
    figure.clear()
    grid = figure.add_gridspec(2, 1, height_ratios=[above, below])
    sheet, time = figure.add_subplot(grid[0]), figure.add_subplot(grid[1])
    _draw_way(sheet, program, rig, field, made)
    _draw_time(time, made, lanes, limit_s)
    save_sheet(figure, path)


def _draw_way(sheet: Any, program: Program, rig: Rig, field: Field, made: Play) -> None:
    draw_floor(sheet, field)
    asked = asked_path(Line(rig), made.rows, start_pose(program, field))
    sheet.plot(asked[:, 0], asked[:, 1], color=COMMANDED, linewidth=1.6, label="asked")
    sheet.plot(made.poses[:, 0], made.poses[:, 1], color=MEASURED, linewidth=1.4, linestyle=":", label="got")
    for step in made.steps:
        if step.lane == "motion":
            x, y = made.poses[step.begin][:2]
            colour = ALARM if step.marks else COMMANDED
            sheet.annotate(str(step.line), (x, y), textcoords="offset points", xytext=(4, 4), fontsize=7, color=colour)
    for pose, colour in ((made.poses[0], GHOST), (made.pose, COMMANDED)):
        draw_outline(sheet, rig, pose, colour)
    sheet.set_title(f"{program.name}, {rig.name}: {made.ended} after {made.time_s:.1f} s", fontsize=10)
    sheet.legend(fontsize=8, frameon=False, loc="upper right", ncols=2)


def _draw_time(time: Any, made: Play, lanes: list[str], limit_s: float) -> None:
    for k, lane in enumerate(lanes):
        for step in made.steps:
            if step.lane != lane:
                continue
            begin, size = step.begin * made.dt_s, max((step.end - step.begin) * made.dt_s, 0.05)
            colour = ALARM if step.marks else FILLS.get(lane, MEASURED)
            time.barh(k, size, left=begin, height=0.7, color=colour, edgecolor="white", linewidth=0.6)
            if size > limit_s / 40:
                said = str(step.line) + ("!" if step.marks else "")
                time.annotate(said, (begin + size / 2, k), ha="center", va="center", fontsize=7, color="white")
    time.axvline(limit_s, color=ALARM, linewidth=1.2)
    time.set_yticks(range(len(lanes)), lanes)
    time.invert_yaxis()
    time.set_xlim(0, max(limit_s, made.time_s) * 1.01)
    time.set_xlabel(
        "s; numbers are lines of the routine, ! was held back, slid, bumped, waited to its limit or was cut off",
        fontsize=8,
    )
    time.grid(True, axis="x", color="#d9d9d9", linewidth=0.6)
    time.set_axisbelow(True)
    assert np.isfinite(made.poses).all()
