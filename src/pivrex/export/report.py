"""The report of a run, or of two compared: two pages for the engineering notebook, on paper or on the screen."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from textwrap import wrap
from typing import NamedTuple

import numpy as np

from pivrex.export.paper import LETTER, LINE, PAPERS, Page, save_pages
from pivrex.export.path import floor_scene
from pivrex.export.report_figures import figures_page
from pivrex.line.layout import Floats
from pivrex.runs.comparing import Compared, figures_of, sentence_of
from pivrex.runs.events import Event
from pivrex.runs.figures import FIGURES
from pivrex.runs.run import Run
from pivrex.runs.track import TRACK
from pivrex.scene.chart import Series, chart, span_of
from pivrex.scene.robot import add_outline, add_robot
from pivrex.scene.scene import Scene

__all__ = ["page_size", "pages_of", "write_report"]

LOOKS = (("measured", 0.0), ("commanded", 0.9))
"""How the first and the second of two runs are drawn."""

MARKS = {
    "stop": ("■", "alarm"),
    "fall": ("▼", "alarm"),
    "bump": ("▲", "alarm"),
    "limit": ("!", "alarm"),
    "mark": ("◆", "target"),
    "lost": ("?", "alarm"),
}
"""The sign of each kind of event that is shown on the path and over time, and its role."""

NEAR_M = 0.2
"""Runs that begin so near to each other share one label."""
SIDE = 6
"""Letters at the left and right of a page, and lines above and below it, less two."""

BAND = 4
"""Figures that stand large under the title."""


def page_size(paper: str) -> tuple[int, int]:
    """Return how many letters and lines a sheet of paper holds."""
    width, height = PAPERS[paper]
    return int(width / LETTER), int(height / LINE)


class Track(NamedTuple):
    """A run's track by column, from a time that counts as 0."""

    t: Floats
    values: Floats

    def of(self, name: str) -> Floats:
        """Return a column by its name."""
        column: Floats = self.values[:, TRACK.index(name)]
        return column

    def place(self) -> Floats:
        """Return where it was, (N, 2): truly, or where no one knows that, by the estimate."""
        names = ("x_m", "y_m") if np.isfinite(self.of("x_m")).any() else ("estimated_x_m", "estimated_y_m")
        return np.stack([self.of(name) for name in names], axis=1)


def _track(run: Run, zero: int | None = None) -> Track:
    track = run.track
    return Track((track[:, 0] - (run.first if zero is None else zero)) * run.dt_s, track)


def write_report(one: Run, path: Path, compared: Compared | None = None, paper: str = "A4") -> list[Path]:
    """Write the report of a run, or with ``compared`` of two: as one .pdf of two pages, or as an .svg for each page.

    Returns
    -------
    list of Path
        What was written.

    Raises
    ------
    SaveError, RunError
    """
    return save_pages(pages_of(one, compared, *page_size(paper)), path)


def pages_of(one: Run, compared: Compared | None = None, columns: int = 124, rows: int = 76) -> list[Page]:
    """Make the pages, so many letters wide and lines high."""
    runs = [one] if compared is None else list(compared.runs)
    return [_drives(runs, compared, columns, rows), figures_page(runs, compared, columns, rows)]


def _drives(runs: Sequence[Run], compared: Compared | None, columns: int, rows: int) -> Page:
    page, wide = Page(columns, rows), columns - 2 * SIDE
    row = _title(page, runs, compared, wide)
    zeros = compared.zero if compared is not None else (runs[0].first,)
    tracks = [_track(run, zero) for run, zero in zip(runs, zeros, strict=False)]
    room = rows - row - 3
    charts = (("forward speed", "m/s", ("commanded_m_s", "measured_m_s"), ("commanded", "measured"), 0.40),
              ("heading", "deg", ("estimated_heading_rad", "heading_rad"), ("estimated", "true"), 0.34),
              ("battery", "V", ("", "battery_V"), ("", ""), 0.26))  # fmt: skip
    field = runs[0].floor
    high = min(round(wide * LETTER * field.width_m / field.length_m / LINE) + 2, round(room * 0.56))
    page.scene(_floor(runs, compared), SIDE, row, wide, high)
    row += high + 0.5
    left = int(rows - row - 4)
    for title, unit, names, words, share in charts:
        size = wide, max(6, round(left * share))
        page.scene(_over_time(runs, tracks, title, unit, names, words, compared, size), SIDE, row, *size)
        row += size[1] + 0.6
    page.text(SIDE, rows - 2, f"{runs[0].facts.robot}  {runs[0].name}  page 1 of 2", "dim")
    return page


def _title(page: Page, runs: Sequence[Run], compared: Compared | None, wide: int) -> float:
    """Write what was driven, by whom and when, and a few figures large; return the row after that."""
    facts = [run.facts for run in runs]
    page.text(SIDE, 3, f"{facts[0].robot}: {' and '.join(run.name for run in runs)}", "title", 1.9)
    row = 5.2
    for run, fact in zip(runs, facts, strict=True):
        said = f"{fact.began:%d %B %Y, %H:%M}, {len(run) * run.dt_s:.1f} s, driven by {', '.join(fact.drivers) or 'no one'}; kept: {fact.kept}"
        lines = [said + (f"; routine {fact.routine}" if fact.routine else "")] + (
            [f"note: {fact.note}"] if fact.note else []
        )
        for line in [part for one in lines for part in wrap(one, wide)][:3]:
            page.text(SIDE, row, line)
            row += 1.2
    for line in wrap(sentence_of(compared), wide)[:2] if compared is not None else ():
        page.text(SIDE, row, line, "alarm" if compared is not None and compared.parting is not None else "rest")
        row += 1.2
    row += 0.6
    values = [figures_of(run) for run in runs]
    shown = [f for f in FIGURES if all(f.key in v for v in values)][:BAND]
    for k, f in enumerate(shown):
        column = SIDE + k * wide / BAND
        page.text(column, row, f.title, "dim")
        for j, (value, named) in enumerate(zip(values, ("measured", "commanded"), strict=False)):
            text = f"{value[f.key]:.{f.digits}f} {f.unit}".strip()
            page.text(column + j * wide / BAND / 2, row + 1.3, text, named if len(runs) > 1 else "title", 1.5)
    return row + 3.6


def _floor(runs: Sequence[Run], compared: Compared | None) -> Scene:
    scene, began = floor_scene(runs[0].floor), np.full(2, np.inf)
    for run, (named, dash) in zip(runs, LOOKS, strict=False):
        track = _track(run)
        points = track.place()
        scene.line(points, named, 0.45, dash)
        if len(runs) > 1:
            scene.caption(f"{'╍' if dash else '━'} {run.name}", named)
        there = np.flatnonzero(np.isfinite(points).all(axis=1))
        if not len(there):
            continue
        scene.sign(points[there[0]], "□", named)
        if np.hypot(*(points[there[0]] - began)) > NEAR_M:
            scene.label(points[there[0]], "start", named, 4.0, "right left above below")
        began = points[there[0]]
        pose = (*points[there[-1]].tolist(), float(track.of("heading_rad")[there[-1]]))
        rig = run.line(max(run.first, run.end - 1) if len(run) else 0).rig
        if np.isfinite(pose[2]):
            (add_outline(scene, rig, pose, named) if dash else add_robot(scene, rig, pose))
    if compared is None:
        _add_events(scene, runs[0])
    elif compared.parting is not None:
        points = _track(runs[0]).place()
        at = int(np.searchsorted(runs[0].track[:, 0], compared.parting.rows[0]))
        if at < len(points):
            scene.sign(points[at], "×", "alarm")
            scene.label(points[at], "first difference", "alarm", 5.0, "right left above below")
    return scene


def _events(run: Run) -> list[tuple[Event, float]]:
    """Return what happened that is shown in the drawings, with its time."""
    return [(e, (e.row - run.first) * run.dt_s) for e in run.events if e.kind in MARKS and e.row >= run.first]


def _add_events(scene: Scene, run: Run) -> None:
    rows, points = run.track[:, 0], _track(run).place()
    for event, t in _events(run):
        if len(rows):
            at = points[min(len(rows) - 1, int(np.searchsorted(rows, event.row)))]
            sign, named = MARKS[event.kind]
            scene.sign(at, sign, named)
            scene.label(at, f"{event.kind} {t:.1f} s", named, 3.0, "right left above below right-above left-above")


def _over_time(
    runs: Sequence[Run], tracks: Sequence[Track], title: str, unit: str, names: tuple[str, str], words: tuple[str, str],
    compared: Compared | None, size: tuple[int, int],
) -> Scene:  # fmt: skip
    """Draw a pair of columns over time, or of two runs the second of the pair of each; and what happened."""
    commanded, measured = names
    end = max([float(t.t[-1]) for t in tracks if len(t.t)] or [1.0])
    begin = min([float(t.t[0]) for t in tracks if len(t.t)] or [0.0])

    def values(track: Track, name: str) -> Floats:
        of = track.of(name)
        return np.degrees(np.unwrap(np.nan_to_num(of))) if name.endswith("_rad") else of

    t = np.linspace(begin, end, max(2, 4 * size[0])) if compared is not None else tracks[0].t
    if compared is not None:
        series = [
            Series(run.name, np.interp(t, track.t, values(track, measured), np.nan, np.nan), named, dash)
            for run, track, (named, dash) in zip(runs, tracks, LOOKS, strict=False)
        ][::-1]
    else:
        pairs = ((measured, "measured", words[1], 0.0), (commanded, "commanded", words[0], 0.0))
        series = [Series(word, values(tracks[0], name), named, dash) for name, named, word, dash in pairs if name]
    known = np.concatenate([one.values[np.isfinite(one.values)] for one in series] or [np.zeros(0)])
    if unit == "V" and len(known):  # a battery is never near 0
        room = max(0.2, float(np.ptp(known)) * 0.15)
        span = float(known.min()) - room, float(known.max()) + room
    else:
        span = span_of(series, 0.2)
    scene = chart(title, t, series, span, (unit, "s"), size, ("commanded", "measured"), (begin, max(end, begin + 0.1)))
    at = [(compared.parting.t_s, "×", "alarm")] if compared is not None and compared.parting is not None else []
    at += [(t, *MARKS[event.kind]) for event, t in _events(runs[0])] if compared is None else []
    for t_s, sign, named in at:
        scene.line([(t_s, span[0]), (t_s, span[1])], named, 0.2, 0.5)
        scene.label((t_s, span[1]), sign, named, 3.0, "below")
    return scene
