"""The picture of two compared runs, and more in grey."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from textwrap import wrap

import numpy as np

from pivrex.line.layout import Floats
from pivrex.scene.chart import Series, chart, span_of
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.picture import Picture
from pivrex.tui.jobs.run_questions import ComparedRuns, OpenRun, place
from pivrex.tui.panels.run_story import column_of, lay_floor, pin_chart, place_strips

__all__ = ["draw_side_by_side"]


def draw_side_by_side(found: ComparedRuns, runs: Sequence[OpenRun], width: int, height: int) -> Picture:
    """Draw two runs over each other, and more under them: where the two part, by which stage, and side by side their figures."""
    one, other = runs[:2]
    picture = Picture(width, height)
    picture.text(1, 0, "━ ", "measured")
    at = picture.text(3, 0, found.names[0], "title")
    picture.text(at + 2, 0, "╍ ", "commanded")
    at = picture.text(at + 4, 0, found.names[1], "title")
    others = f", and {len(runs) - 2} more" if len(runs) > 2 else ""
    picture.text(at + 3, 0, f"aligned by {found.by}{others}", "dim")
    y = 1
    for line in wrap(found.said, max(20, width - 2))[:2]:
        picture.text(1, y, line, "alarm" if found.parting is not None else "rest")
        y += 1
    side = 46 if width >= 96 else 0
    strip = 9 if height >= 34 else 0
    tracks: list[tuple[Floats, str, float]] = [(more.track, "ghost", 0.9) for more in runs[2:]]
    for run_shown, zero, named, dash in (
        (one, found.zero[0], "measured", 0.0),
        (other, found.zero[1], "commanded", 0.9),
    ):
        tracks.append((run_shown.track[run_shown.track[:, 0] >= zero], named, dash))
    parted = None
    if found.parting is not None:
        at_row = int(np.searchsorted(one.track[:, 0], found.parting.rows[0]))
        if at_row < len(one.track):
            px, py = place(one.track)[at_row]
            parted = (float(px), float(py))
    high = height - 4 - strip
    lay_floor(picture, 0, 4, width - side, high, one, tracks, parted=parted)
    if side:
        x, room = width - side + 1, side - 2
        y = _changes(picture, x, 3, room, 8, found)
        y = _two_figures(picture, x, y + 1, room, found)
        _stages(picture, x, y + 1, room, 4 + high - y - 1, found)
    if strip:
        names = [c.name for c in one.curves if any(c.name == d.name for d in other.curves)]
        pinned = [partial(_two_pinned, found, one, other, name) for name in names]
        place_strips(picture, [partial(_two_speeds, found, one, other), *pinned], strip)
    return picture


def _two_figures(picture: Picture, x: int, y: int, width: int, found: ComparedRuns) -> int:
    picture.text(x, y, "figures", "title")
    picture.right(x + width - 9, y, "first", "measured")
    picture.right(x + width, y, "second", "commanded")
    for f, a, b in found.figures:
        y += 1
        picture.text(x, y, f"{f.title}{f', {f.unit}' if f.unit else ''}", "rest", width - 16)
        for value, right, named in ((a, x + width - 9, "measured"), (b, x + width, "commanded")):
            picture.right(right, y, "–" if np.isnan(value) else f"{value:.{f.digits}f}", named)
    if np.isfinite(found.apart_m):
        y += 1
        picture.text(x, y, f"at most {found.apart_m:.2f} m apart, at {found.apart_at_s:.1f} s", "rest", width)
    return y + 1


def _stages(picture: Picture, x: int, y: int, width: int, height: int, found: ComparedRuns) -> None:
    part = sorted(
        (s for s in found.stages if np.isfinite(s.t_s)), key=lambda s: s.t_s
    )  # of one time in the order of the line
    cause = found.parting.stage if found.parting is not None else ""
    part.sort(key=lambda s: s.stage != cause)
    if height < 3 or not part:
        return
    picture.text(x, y, "stages, by first difference", "title")
    picture.right(x + width, y, "differs at", "dim")
    for s in part[: height - 2]:
        y += 1
        here = s.stage == cause
        picture.text(x, y, f"{'× ' if here else '  '}{s.stage}", "alarm" if here else "rest")
        picture.text(x + 15, y, s.column.partition(".")[2], "dim", max(0, width - 25))
        picture.right(x + width, y, f"{s.t_s:.2f} s", "alarm" if here else "rest")


def _changes(picture: Picture, x: int, y: int, width: int, height: int, found: ComparedRuns) -> int:
    said = [e.said for e in found.effects] + [f"routine {line}" for line in found.routine]
    picture.text(x, y, "what was changed", "title")
    rows = [row for one in said for row in wrap(one, max(20, width))] or ["nothing in rig and routine"]
    if len(rows) > height - 1:
        rows = [*rows[: height - 2], f"and more: {len(said)} changes in all"]
    for k, line in enumerate(rows):
        picture.text(x, y + 1 + k, line, "rest" if said else "dim", width)
    return y + 1 + len(rows)


def _two_pinned(found: ComparedRuns, one: OpenRun, other: OpenRun, name: str, width: int, height: int) -> Picture:
    curves = [next(c for c in run_shown.curves if c.name == name) for run_shown in (one, other)]
    times = [
        (c.rows - zero) * run_shown.dt_s for c, run_shown, zero in zip(curves, (one, other), found.zero, strict=True)
    ]
    t = np.linspace(0.0, max([0.1, *(float(u[-1]) for u in times if len(u))]), max(2, 2 * (width - 10)))
    series = [
        Series(said, np.interp(t, u, c.values, np.nan, np.nan) if len(u) else np.full_like(t, np.nan), named, dash)
        for c, u, said, named, dash in zip(
            curves, times, ("first", "second"), ("measured", "commanded"), (0.0, 0.9), strict=True
        )
    ]
    return pin_chart(name, curves, t, series, width, height)


def _two_speeds(found: ComparedRuns, one: OpenRun, other: OpenRun, width: int, height: int) -> Picture:
    tracks = [
        (run_shown, (run_shown.track[:, 0] - zero) * run_shown.dt_s)
        for run_shown, zero in ((one, found.zero[0]), (other, found.zero[1]))
    ]
    end = max([float(t[-1]) for _, t in tracks if len(t)] or [1.0])
    t = np.linspace(0.0, max(end, 0.1), max(2, 2 * (width - 10)))
    series = []
    for (run_shown, times), named, dash, name in zip(
        tracks, ("measured", "commanded"), (0.0, 0.9), ("first", "second"), strict=True
    ):
        values = (
            np.interp(t, times, column_of(run_shown.track, "measured_m_s"), np.nan, np.nan)
            if len(times)
            else np.full_like(t, np.nan)
        )
        series.append(Series(name, values, named, dash))
    title = (
        "forward speed" if found.parting is None else f"forward speed; first difference at {found.parting.t_s:.2f} s"
    )
    scene = chart(title, t, series, span_of(series, 0.2), ("m/s", "s"), (width, height), ("measured", "commanded"))
    return print_scene(scene, width, height)
