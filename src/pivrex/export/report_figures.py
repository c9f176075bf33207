"""The second page of a report: figures, what happened, the settings that shaped it, what changed, and the season."""

from __future__ import annotations

import tomllib
from collections.abc import Sequence
from typing import Any

import numpy as np

from pivrex.errors import RigError, RunError
from pivrex.export.sheet import COMMANDED, GHOST, MEASURED, new_sheet
from pivrex.line.why import ladder
from pivrex.rig.base import counted
from pivrex.rig.difference import differences
from pivrex.rig.read import rig_text
from pivrex.runs.comparing import Compared, figures_of
from pivrex.runs.figures import FIGURES
from pivrex.runs.run import Run
from pivrex.runs.season import kind_of, season_of
from pivrex.runs.shelf import Shelf

__all__ = ["ALARM", "COLOURS", "MARKS", "PAGE", "figures_page"]

ALARM = "#b3200a"
PAGE = (8.27, 11.69)
"""A4, in inches."""

MOST_EVENTS, MOST_SETTINGS = 22, 24
LOOKS = 40
"""At so many ticks it is asked which settings shaped what the wheels did."""

COLOURS = ((MEASURED, "-"), (COMMANDED, "--"))
"""Of the first and the second of two."""

MARKS = {"stop": "■", "bump": "▲", "limit": "!", "mark": "◆", "lost": "?"}


def figures_page(runs: Sequence[Run], compared: Compared | None) -> Any:
    """Draw the page of figures: what happened, the settings, what changed, the season."""
    figure, _ = new_sheet(*PAGE)
    figure.clear()
    grid = figure.add_gridspec(3, 4, height_ratios=[1.0, 1.1, 0.5])
    _table(figure.add_subplot(grid[0, :2]), "figures", *_figure_rows(runs))
    happened = _stage_rows(compared) if compared is not None else _event_rows(runs[0])
    _table(
        figure.add_subplot(grid[0, 2:]), "where the stages part" if compared is not None else "what happened", *happened
    )
    _table(figure.add_subplot(grid[1, :2]), "settings that shaped it", *_setting_rows(runs[0]))
    title, head, rows = _change_rows(runs, compared)
    _table(figure.add_subplot(grid[1, 2:]), _short(title, 46), head, rows)
    _season(figure, grid, runs[0])
    return figure


def _season(figure: Any, grid: Any, run: Run) -> None:
    """Draw a few figures over all runs that were driven alike: those that stand out first."""
    facts = run.facts
    shelved = [r for r in Shelf(run.folder.parent).runs() if r.facts is not None and r.facts.began <= facts.began]
    courses = [c for c in season_of(shelved, facts.rig, kind_of(facts)) if np.ptp(c.values) > 0]
    courses.sort(key=lambda c: (not c.stands_out, c.figure.less is None))
    for k, course in enumerate(courses[:4]):
        sheet = figure.add_subplot(grid[2, k])
        sheet.plot(range(1, len(course.values) + 1), course.values, "-o", color=MEASURED, markersize=3, linewidth=1.0)
        sheet.plot(
            len(course.values), course.values[-1], "o", color=ALARM if course.stands_out else MEASURED, markersize=6
        )
        unit = f" in {course.figure.unit}" if course.figure.unit else ""
        sheet.set_title(f"{course.figure.title}{unit}" + (" !" if course.stands_out else ""), fontsize=8)
        sheet.set_xlabel("run", fontsize=7)
        sheet.tick_params(labelsize=7)
        sheet.xaxis.get_major_locator().set_params(integer=True)
        sheet.grid(True, color="#d9d9d9", linewidth=0.6)
        for side in ("top", "right"):
            sheet.spines[side].set_visible(False)


def _figure_rows(runs: Sequence[Run]) -> tuple[list[str], list[list[str]]]:
    values, heads = [figures_of(run) for run in runs], ["", "first", "second"]
    if len(runs) == 1:
        before = _before(runs[0], alike=True)
        heads = ["", "this run", "the last alike"] if before is not None else ["", "this run"]
        values += [figures_of(before)] if before is not None else []
    rows = []
    for f in FIGURES:
        if any(f.key in v for v in values):
            cells = [f"{v[f.key]:.{f.digits}f} {f.unit}".strip() if f.key in v else "–" for v in values]
            rows.append([f.title, *cells])
    return heads, rows


def _event_rows(run: Run) -> tuple[list[str], list[list[str]]]:
    rows = [
        [f"{(e.row - run.first) * run.dt_s:.1f} s", f"{MARKS.get(e.kind, '')} {e.kind}".strip(), _short(e.text, 42)]
        for e in run.events
        if e.row >= run.first
    ]
    if len(rows) > MOST_EVENTS:
        rows = [*rows[: MOST_EVENTS - 1], ["", "", f"and {len(rows) - MOST_EVENTS + 1} more: events.csv has all"]]
    return ["", "what", ""], rows or [["", "nothing", ""]]


def _stage_rows(compared: Compared) -> tuple[list[str], list[list[str]]]:
    part = [s for s in compared.stages if not np.isnan(s.t_s)]
    rows = [[s.stage, f"{s.t_s:.2f} s", s.column.partition(".")[2]] for s in part]
    same = [s.stage for s in compared.stages if np.isnan(s.t_s)]
    if same:
        rows.append([f"the other {len(same)}" if part else "all", "never", ""])
    return ["stage", "parts at", "first in"], rows


def _setting_rows(run: Run) -> tuple[list[str], list[list[str]]]:
    """The settings that the why names while the robot moves, and what they are."""
    rows = []
    try:
        line = run.line(run.first)
        data = tomllib.loads(rig_text(run.rig_file(run.first)))
        keys: dict[str, None] = {}
        for row in np.linspace(run.first, max(run.first, run.end - 1), LOOKS).astype(int):
            tick = run.row(int(row))
            if len(tick) != len(line.layout) or not np.abs(tick[line.speeds]).any():
                continue
            for wheel in line.wheels[:2]:
                keys |= dict.fromkeys(r.setting for r in ladder(line, tick, wheel) if r.setting)
        for key in list(keys)[:MOST_SETTINGS]:
            at = _at(data, key)
            if not isinstance(at, dict | list):
                shown = "left out" if at is None else str(at).lower() if isinstance(at, bool) else str(at)
                rows.append([_short(counted(key), 38), _short(shown, 24)])
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


def _change_rows(runs: Sequence[Run], compared: Compared | None) -> tuple[str, list[str], list[list[str]]]:
    head = ["key", "was", "is"]
    if compared is not None:
        changes = list(compared.changes)
        title = "what differs"
        rows = [[_short(c.key, 30), _short(str(c.before), 14), _short(str(c.after), 14)] for c in changes]
        rows += [["routine", "", _short(line, 40)] for line in compared.routine]
    else:
        before = _before(runs[0])
        title = f"changed since {before.name}" if before is not None else "changed since the last run"
        rows = []
        if before is not None:
            try:
                changes = differences(
                    rig_text(before.rig_file(before.first)), rig_text(runs[0].rig_file(runs[0].first))
                )
                rows = [[_short(c.key, 30), _short(str(c.before), 14), _short(str(c.after), 14)] for c in changes]
            except (RigError, ValueError):
                rows = []
    if len(rows) > MOST_SETTINGS:
        rows = [*rows[: MOST_SETTINGS - 1], [f"and {len(rows) - MOST_SETTINGS + 1} more", "", ""]]
    return title, head, rows or [["nothing", "", ""]]


def _before(run: Run, alike: bool = False) -> Run | None:
    """The run of the same rig before this one; with ``alike`` the one that was driven by the same driver or routine."""
    mine = run.facts
    for one in Shelf(run.folder.parent).runs():
        facts = one.facts
        if facts is None or facts.rig != mine.rig or facts.began >= mine.began:
            continue
        if not alike or kind_of(facts) == kind_of(mine):
            return Run(one.folder)
    return None


def _short(text: str, most: int) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"


def _table(sheet: Any, title: str, head: list[str], rows: list[list[str]]) -> None:
    sheet.set_axis_off()
    sheet.set_title(title, fontsize=10, loc="left")
    table = sheet.table(cellText=rows, colLabels=head, loc="upper left", cellLoc="left")
    table.auto_set_font_size(False)
    table.set_fontsize(8)
    table.auto_set_column_width(list(range(len(head))))
    for (row, _), cell in table.get_celld().items():
        cell.set_edgecolor("#c9cfc2")
        cell.set_linewidth(0.5)
        cell.set_height(0.046)
        if row == 0:
            cell.set_text_props(weight="bold", color=GHOST)
