"""A report of a run, or of two over each other: two pages for the engineering notebook."""

from __future__ import annotations

import tomllib
from collections.abc import Sequence
from pathlib import Path
from textwrap import wrap
from typing import Any, NamedTuple

import numpy as np

from pivrex.errors import RigError, RunError
from pivrex.export.path import draw_floor, draw_outline
from pivrex.export.sheet import COMMANDED, GHOST, MEASURED, TARGET, new_sheet
from pivrex.files import write_atomically
from pivrex.line.layout import Floats
from pivrex.line.why import ladder
from pivrex.rig.base import counted
from pivrex.rig.difference import differences
from pivrex.rig.read import rig_text
from pivrex.runs.comparing import Compared, figures_of, sentence_of
from pivrex.runs.figures import FIGURES
from pivrex.runs.run import Run
from pivrex.runs.season import kind_of, season_of
from pivrex.runs.shelf import Shelf
from pivrex.runs.track import TRACK

__all__ = ["pages_of", "write_report"]

ALARM = "#b3200a"
PAGE = (8.27, 11.69)
"""A4, in inches."""

MOST_EVENTS, MOST_SETTINGS = 22, 24
LOOKS = 40
"""At so many ticks it is asked which settings shaped what the wheels did."""

COLOURS = ((MEASURED, "-"), (COMMANDED, "--"))
"""Of the first and the second of two."""

MARKS = {"stop": "■", "bump": "▲", "limit": "!", "mark": "◆", "lost": "?"}


class Track(NamedTuple):
    """A run's track by column."""

    t: Floats
    values: Floats

    def of(self, name: str) -> Floats:
        column: Floats = self.values[:, TRACK.index(name)]
        return column

    def place(self) -> tuple[Floats, Floats]:
        """Where it was: truly, or where nobody knows that, as it was believed."""
        x = self.of("x_m")
        return (x, self.of("y_m")) if np.isfinite(x).any() else (self.of("believed_x_m"), self.of("believed_y_m"))


def _track(run: Run, zero: int | None = None) -> Track:
    track = run.track
    return Track((track[:, 0] - (run.first if zero is None else zero)) * run.dt_s, track)


def write_report(one: Run, path: Path, compared: Compared | None = None) -> list[Path]:
    """Write the report of a run, or with ``compared`` of two: as one .pdf of two pages, or as an .svg for each page.

    Returns
    -------
    list of Path
        What was written.

    Raises
    ------
    SaveError, RunError
    """
    import io

    import matplotlib as mpl
    from matplotlib.backends.backend_pdf import PdfPages

    pages = pages_of(one, compared)
    if path.suffix.lower() == ".pdf":
        buffer = io.BytesIO()
        with PdfPages(buffer, metadata={"CreationDate": None}) as book:
            for page in pages:
                book.savefig(page)
        write_atomically(path, buffer.getvalue())
        return [path]
    written = []
    for number, page in enumerate(pages, 1):
        buffer = io.BytesIO()
        with mpl.rc_context({"svg.hashsalt": "pivrex"}):
            page.savefig(buffer, format="svg", metadata={"Date": None})
        file = path if number == 1 else path.with_name(f"{path.stem}-{number}{path.suffix}")
        write_atomically(file, buffer.getvalue())
        written.append(file)
    return written


def pages_of(one: Run, compared: Compared | None = None) -> list[Any]:
    """Draw the pages."""
    runs = [one] if compared is None else list(compared.runs)
    return [_drives(runs, compared), _figures(runs, compared)]


# --- the first page ---


def _drives(runs: Sequence[Run], compared: Compared | None) -> Any:
    figure, _ = new_sheet(*PAGE)
    figure.clear()
    field = runs[0].floor
    high = (PAGE[0] - 1.2) * field.width_m / field.length_m
    grid = figure.add_gridspec(5, 1, height_ratios=[0.9, max(2.0, min(high, 5.4)), 1.6, 1.6, 1.1])
    _title(figure.add_subplot(grid[0]), runs, compared)
    _floor(figure.add_subplot(grid[1]), runs, compared)
    zeros = compared.zero if compared is not None else (runs[0].first,)
    tracks = [_track(run, zero) for run, zero in zip(runs, zeros, strict=False)]
    _over_time(figure.add_subplot(grid[2]), runs, tracks, ("asked_m_s", "felt_m_s"), "speed ahead in m/s", compared)
    _over_time(
        figure.add_subplot(grid[3]), runs, tracks, ("believed_heading_rad", "heading_rad"), "heading in deg", compared
    )
    _over_time(figure.add_subplot(grid[4]), runs, tracks, ("battery_V", ""), "battery in V", compared)
    return figure


def _title(sheet: Any, runs: Sequence[Run], compared: Compared | None) -> None:
    sheet.set_axis_off()
    facts = [run.facts for run in runs]
    head = f"{facts[0].robot}: {' beside '.join(run.name for run in runs)}"
    sheet.text(0, 1.0, head, fontsize=13, weight="bold", va="top", transform=sheet.transAxes)
    lines = []
    for run in runs:
        f = run.facts
        who = ", ".join(f.drivers) or "nobody"
        said = f"{f.began:%d %B %Y, %H:%M}, {len(run) * run.dt_s:.1f} s, driven by {who}; kept: {f.kept}"
        lines += [said + (f"; routine {f.routine}" if f.routine else "")]
        lines += wrap(f"note: {f.note}", 110) if f.note else []
    if compared is not None:
        lines += wrap(sentence_of(compared), 110)
    sheet.text(0, 0.66, "\n".join(lines[:5]), fontsize=8.5, va="top", linespacing=1.4, transform=sheet.transAxes)


def _floor(sheet: Any, runs: Sequence[Run], compared: Compared | None) -> None:
    draw_floor(sheet, runs[0].floor)
    for run, (colour, style) in zip(runs, COLOURS, strict=False):
        x, y = _track(run).place()
        sheet.plot(x, y, color=colour, linestyle=style, linewidth=1.5, label=run.name if len(runs) > 1 else "path")
        there = np.isfinite(x) & np.isfinite(y)
        if there.any():
            first, last = np.flatnonzero(there)[[0, -1]]
            sheet.plot(x[first], y[first], "s", color=colour, markersize=7, fillstyle="none")
            heading = _track(run).of("heading_rad")[last]
            if np.isfinite(heading):
                draw_outline(
                    sheet,
                    run.line(run.end - 1).rig if len(run) else run.line(0).rig,
                    np.array([x[last], y[last], heading]),
                    colour,
                )
        if len(runs) == 1:
            _events_on(sheet, run, x, y)
    if compared is not None and compared.parting is not None:
        x, y = _track(runs[0]).place()
        at = int(np.searchsorted(runs[0].track[:, 0], compared.parting.rows[0]))
        if at < len(x):
            sheet.plot(x[at], y[at], "o", color=ALARM, markersize=9, fillstyle="none", label="they part")
    sheet.legend(fontsize=8, frameon=False, loc="upper center", bbox_to_anchor=(0.5, -0.09), ncols=4)


def _events_on(sheet: Any, run: Run, x: Floats, y: Floats) -> None:
    rows = run.track[:, 0]
    said = set()
    for event in run.events:
        if event.kind in ("stop", "bump", "limit", "mark") and len(rows):
            at = min(len(rows) - 1, int(np.searchsorted(rows, event.row)))
            marker = {"stop": "s", "bump": "^", "limit": "x", "mark": "D"}[event.kind]
            label = event.kind if event.kind not in said else None
            said.add(event.kind)
            sheet.plot(
                x[at],
                y[at],
                marker,
                color=TARGET if event.kind == "mark" else ALARM,
                markersize=5,
                linestyle="",
                label=label,
            )


def _over_time(
    sheet: Any, runs: Sequence[Run], tracks: Sequence[Track], names: tuple[str, str], label: str, compared: Compared | None
) -> None:  # fmt: skip
    asked, felt = names
    for k, track in enumerate(tracks):
        turns = asked.endswith("_rad")
        words = ("believed", "true") if turns else ("asked", "measured")
        if compared is not None:
            _one_of_two(sheet, track.t, track.of(felt or asked), k, runs[k].name, turns)
            continue
        for name, colour, style, what in ((asked, COMMANDED, "-", words[0]), (felt, MEASURED, ":", words[1])):
            if not name:
                continue
            values = track.of(name)
            if name.endswith("_rad"):
                values = np.degrees(np.unwrap(np.nan_to_num(values)))
            if np.isfinite(values).any():
                sheet.plot(track.t, values, color=colour, linestyle=style, linewidth=1.2, label=what if felt else None)
    _marks_on(sheet, runs[0], compared)
    sheet.set_ylabel(label, fontsize=8)
    sheet.set_xlabel("s", fontsize=8)
    sheet.grid(True, color="#d9d9d9", linewidth=0.6)
    for side in ("top", "right"):
        sheet.spines[side].set_visible(False)
    if any(not line.get_label().startswith("_") for line in sheet.lines):
        sheet.legend(fontsize=7, frameon=False, ncols=2, loc="upper right")


def _one_of_two(sheet: Any, t: Floats, values: Floats, k: int, name: str, turns: bool) -> None:
    """Draw what one of two runs did, in its colour."""
    if turns:
        values = np.degrees(np.unwrap(np.nan_to_num(values)))
    if np.isfinite(values).any():
        colour, style = COLOURS[k]
        sheet.plot(t, values, color=colour, linestyle=style, linewidth=1.2, label=name)


def _marks_on(sheet: Any, run: Run, compared: Compared | None) -> None:
    if compared is not None:
        if compared.parting is not None:
            sheet.axvline(compared.parting.t_s, color=ALARM, linewidth=1.0)
        return
    for event in run.events:
        if event.kind in MARKS:
            sheet.axvline((event.row - run.first) * run.dt_s, color=ALARM, linewidth=0.7, alpha=0.6)


# --- the second page ---


def _figures(runs: Sequence[Run], compared: Compared | None) -> Any:
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
        before = _before(runs[0])
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


def _before(run: Run) -> Run | None:
    """The run before this one in which the same robot was driven alike."""
    for one in Shelf(run.folder.parent).runs():
        facts = one.facts
        if (
            facts is not None
            and facts.rig == run.facts.rig
            and facts.began < run.facts.began
            and one.folder != run.folder
        ):
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
