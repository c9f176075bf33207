"""The second page of a report: figures next to the usual ones, events, the settings that mattered, changes, the season."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from pivrex.errors import RigError, RunError
from pivrex.export.paper import Page
from pivrex.glossary import title_of
from pivrex.line.why import ladder
from pivrex.rig.base import counted
from pivrex.rig.difference import differences
from pivrex.rig.read import read_table, rig_text
from pivrex.runs.comparing import Compared, figures_of
from pivrex.runs.figures import FIGURES
from pivrex.runs.run import Run
from pivrex.runs.season import Course, kind_of, season_of
from pivrex.runs.shelf import Shelf
from pivrex.scene.chart import Series, chart, span_of

__all__ = ["figures_page"]

SIDE, GUTTER = 6, 4
LOOKS = 40
"""Number of ticks at which it is found out which settings shaped what the wheels did."""

CHART_H = 14


def figures_page(runs: Sequence[Run], compared: Compared | None, columns: int, rows: int) -> Page:
    """Make the page, so many letters wide and lines high: two columns of tables, and the season below them."""
    page, wide = Page(columns, rows), columns - 2 * SIDE
    half = (wide - GUTTER) // 2
    left = wide * 5 // 9
    right, narrow, courses = SIDE + left + GUTTER, wide - left - GUTTER, _courses(runs[-1])
    bottom = rows - 4 - (len(courses[:4]) + 1) // 2 * CHART_H
    head, cells, alarms = _figure_rows(runs, courses)
    below = page.table(SIDE, 3, "figures", head, cells, left, alarms, right=range(1, len(head)))
    title, found = "first difference of each stage", _stage_rows(compared) if compared is not None else None
    if found is None:
        title, found = "what happened", _event_rows(runs[0], max(4, int(below) - 6))
    below = max(below, page.table(right, 3, title, *found, narrow)) + 1.5
    room = max(3, int(bottom - below) - 4)
    page.table(SIDE, below, "settings that shaped it", *_setting_rows(runs[0], room), left)
    title, head, cells = _change_rows(runs, compared, room)
    page.table(right, below, title, head, cells, narrow)
    for k, course in enumerate(courses[:4]):
        _draw_course(page, course, SIDE + (half + GUTTER) * (k % 2), bottom + k // 2 * CHART_H, half)
    page.text(SIDE, rows - 2, f"{runs[0].facts.robot}  {runs[0].name}  page 2 of 2", "dim")
    return page


def _courses(run: Run) -> list[Course]:
    """Return figures over all similar runs up to this one, unusual ones first."""
    facts = run.facts
    shelved = [r for r in Shelf(run.folder.parent).runs() if r.facts is not None and r.facts.began <= facts.began]
    courses = [c for c in season_of(shelved, facts.rig, kind_of(facts)) if np.ptp(c.values) > 0]
    return sorted(courses, key=lambda c: (not c.stands_out, c.figure.less is None))


def _draw_course(page: Page, course: Course, column: int, row: float, wide: int) -> None:
    values, number = np.array(course.values), np.arange(1, len(course.values) + 1, dtype=float)
    named = "alarm" if course.stands_out else "measured"
    usual = Series("usual", np.full(len(values), course.usual), "target", 0.9)
    series = [usual, Series("", values, named)]
    span = span_of(series, 10.0**-course.figure.digits)
    title = f"{'! ' if course.stands_out else ''}{course.figure.title}"
    scene = chart(
        title, number, series, span, (course.figure.unit, ""), (wide, CHART_H - 1), ends=("first run", "this run")
    )
    scene.dots(np.stack((number, values), axis=1), named, 0.35)
    page.scene(scene, column, row, wide, CHART_H - 1)


def _figure_rows(runs: Sequence[Run], courses: Sequence[Course]) -> tuple[list[str], list[list[str]], list[int]]:
    """Return the figures next to the last similar run and the usual ones, or of two runs; and which rows deviate."""
    values, heads = [figures_of(run) for run in runs], ["", "first", "second"]
    usual, out = {c.figure.key: c.usual for c in courses}, {c.figure.key for c in courses if c.stands_out}
    if len(runs) == 1:
        before = _before(runs[0], alike=True)
        heads = ["", "this run"] + (["last alike"] if before is not None else []) + (["usual"] if usual else [])
        values += [figures_of(before)] if before is not None else []
        values += [usual] if usual else []
    rows: list[list[str]] = []
    alarms: list[int] = []
    for f in FIGURES:
        if any(f.key in v for v in values):
            cells = [f"{v[f.key]:.{f.digits}f} {f.unit}".strip() if f.key in v else "–" for v in values]
            wrong = len(runs) == 1 and f.key in out
            alarms += [len(rows)] if wrong else []
            rows.append([f"{'! ' if wrong else ''}{f.title}", *cells])
    return heads, rows, alarms


def _event_rows(run: Run, most: int) -> tuple[list[str], list[list[str]]]:
    rows = [[f"{(e.row - run.first) * run.dt_s:.1f} s", e.kind, e.text] for e in run.events if e.row >= run.first]
    if len(rows) > most:
        rows = [*rows[: most - 1], ["", "", f"and {len(rows) - most + 1} more: events.csv has all"]]
    return ["", "what", ""], rows or [["", "nothing", ""]]


def _stage_rows(compared: Compared) -> tuple[list[str], list[list[str]]]:
    part = [s for s in compared.stages if not np.isnan(s.t_s)]
    rows = [[s.stage, f"{s.t_s:.2f} s", s.column.partition(".")[2]] for s in part]
    same = [s.stage for s in compared.stages if np.isnan(s.t_s)]
    if same:
        rows.append([f"the other {len(same)}" if part else "all", "never", ""])
    return ["stage", "differs at", "first in"], rows


def _setting_rows(run: Run, most: int) -> tuple[list[str], list[list[str]]]:
    """The settings that the why names while the robot moves, and what they are."""
    rows = []
    try:
        line = run.line(run.first)
        data = read_table(rig_text(file := run.rig_file(run.first)), file)
        keys: dict[str, None] = {}
        for row in np.linspace(run.first, max(run.first, run.end - 1), LOOKS).astype(int):
            tick = run.row(int(row))
            if len(tick) != len(line.layout) or not np.abs(tick[line.speeds]).any():
                continue
            for wheel in line.wheels[:2]:
                keys |= dict.fromkeys(r.setting for r in ladder(line, tick, wheel) if r.setting)
        for key in list(keys)[:most]:
            at = _at(data, key)
            if not isinstance(at, dict | list):
                shown = "left out" if at is None else str(at).lower() if isinstance(at, bool) else str(at)
                rows.append([title_of(counted(key)), shown])
    except (RunError, RigError):
        pass
    return ["key", "is"], rows or [["it never moved", ""]]


def _at(data: Any, key: str) -> Any:
    for part in key.split("."):
        if isinstance(data, list):
            data = data[int(part)] if part.isdigit() and int(part) < len(data) else None
        else:
            data = data.get(part) if isinstance(data, dict) else None
    return data


def _change_rows(runs: Sequence[Run], compared: Compared | None, most: int) -> tuple[str, list[str], list[list[str]]]:
    head = ["key", "was", "is"]
    if compared is not None:
        changes = list(compared.changes)
        title = "what differs"
        rows = [[title_of(c.key), *c.words] for c in changes]
        rows += [["routine", "", line] for line in compared.routine]
    else:
        before = _before(runs[0])
        title = f"changed since {before.name}" if before is not None else "changed since the last run"
        rows = []
        if before is not None:
            try:
                changes = differences(
                    rig_text(before.rig_file(before.first)), rig_text(runs[0].rig_file(runs[0].first))
                )
                rows = [[title_of(c.key), *c.words] for c in changes]
            except (RigError, ValueError):
                rows = []
    if len(rows) > most:
        rows = [*rows[: most - 1], [f"and {len(rows) - most + 1} more", "", ""]]
    return title, head, rows or [["nothing", "", ""]]


def _before(run: Run, alike: bool = False) -> Run | None:
    """The run of the same rig before this one; with ``alike`` the one with the same driver or routine."""
    mine = run.facts
    for one in Shelf(run.folder.parent).runs():
        facts = one.facts
        if facts is None or facts.rig != mine.rig or facts.began >= mine.began:
            continue
        if not alike or kind_of(facts) == kind_of(mine):
            return Run(one.folder)
    return None
