"""A report of a run, or of two over each other: two pages for the engineering notebook."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from textwrap import wrap
from typing import Any, NamedTuple

import numpy as np

from pivrex.export.path import draw_floor, draw_outline
from pivrex.export.report_figures import ALARM, COLOURS, MARKS, PAGE, figures_page
from pivrex.export.sheet import COMMANDED, MEASURED, TARGET, new_sheet
from pivrex.files import write_atomically
from pivrex.line.layout import Floats
from pivrex.runs.comparing import Compared, sentence_of
from pivrex.runs.run import Run
from pivrex.runs.track import TRACK

__all__ = ["pages_of", "write_report"]


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
    return [_settled(_drives(runs, compared)), _settled(figures_page(runs, compared))]


def _settled(figure: Any) -> Any:
    """Lay a page out and keep that, rounded: the solver of the layout is not the same to the last bit twice, and a report shall be."""
    figure.draw_without_rendering()
    figure.set_layout_engine("none")
    for sheet in figure.axes:
        sheet.set_position([round(v, 6) for v in sheet.get_position().bounds])
    return figure


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
