"""A routine on paper: its path on the field, commanded and driven, and below it the timeline."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from pivrex.export.paper import Page, save_pages
from pivrex.export.path import COLUMNS, floor_rows, floor_scene
from pivrex.line import Line
from pivrex.rig import Field, Rig
from pivrex.routine import Program, play
from pivrex.routine.commanded_path import commanded_path
from pivrex.routine.playing import start_pose
from pivrex.routine.thread import RoutineMessage
from pivrex.scene.route import Route, add_route
from pivrex.scene.timeline import Bar, Curve, Timeline, timeline_scene

__all__ = ["write_routine"]


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
    lanes = tuple(n for n in ("motion", "wait", "sense", *rig.attachments) if any(s.lane == n for s in made.steps)) or (
        "motion",
    )
    commanded = commanded_path(Line(rig), made.rows, start_pose(program, field))
    marked = tuple((s.begin, s.end) for s in made.steps if s.marks and s.lane == "motion")
    scene = floor_scene(field)
    add_route(scene, rig, Route(np.asarray(made.poses), commanded, (), marked, len(made.poses) - 1))
    for step in made.steps:
        if step.lane == "motion":
            named = "alarm" if step.marks else "commanded"
            scene.label(made.poses[step.begin][:2], str(step.line), named, 2.0, "right-above left-above right left")
    bars = tuple(
        Bar(s.lane, s.begin * made.dt_s, s.end * made.dt_s, s.line, s.text, tuple(s.marks)) for s in made.steps
    )
    rows = floor_rows(field)
    curves: dict[str, list[RoutineMessage]] = {}
    for messages in made.messages:
        if messages.label:
            curves.setdefault(messages.label, []).append(messages)
    drawn = tuple(
        Curve(label, tuple(u.n * made.dt_s for u in all_of), tuple(u.shown for u in all_of))
        for label, all_of in curves.items()
    )
    data = Timeline(lanes, bars, limit_s, made.time_s, -1.0, 0, curves=drawn)
    page = Page(COLUMNS + 4, rows + data.lines + 11)
    page.text(4, 2, f"{program.name}, {rig.name}: {made.ended} after {made.time_s:.1f} s", "title", 1.25)
    page.scene(scene, 2, 4, COLUMNS, rows)
    page.text(4, rows + 4.5, "━ commanded", "commanded")
    page.text(17, rows + 4.5, "╍ reached", "measured")
    page.scene(timeline_scene(data, COLUMNS), 2, rows + 6, COLUMNS, data.lines)
    said = "numbers are lines of the routine; ! was held back, slid, bumped, waited to its limit or was cut off"
    page.text(11, rows + data.lines + 7, said, "dim")
    save_pages([page], path)
