"""One run: its path, its figures, its events, speed over time; and all similar runs of the season."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from textwrap import wrap

import numpy as np

from pivrex.line.layout import Floats
from pivrex.runs.events import Event
from pivrex.runs.figures import FIGURES
from pivrex.runs.season import Course
from pivrex.runs.track import TRACK
from pivrex.scene.chart import Series, chart, span_of
from pivrex.scene.floor import field_scene, whole
from pivrex.scene.robot import add_outline, add_robot
from pivrex.scene.scene import Scene
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.picture import Picture
from pivrex.tui.draw.replay_line import HAPPENED
from pivrex.tui.jobs.run_questions import OpenRun, PinCurve, place

__all__ = ["column_of", "draw_run", "draw_season", "lay_floor", "pin_chart", "place_strips"]

NARROWEST_STRIP = 34
"""Letters that a chart at the foot is wide at least."""


def draw_run(run_shown: OpenRun, width: int, height: int) -> Picture:
    """Draw one run: its path, its figures, what happened, speed over time."""
    picture = Picture(width, height)
    f = run_shown.facts
    when = f"{f.began.astimezone():%A %d %B %Y, %H:%M:%S}"
    picture.text(1, 0, f"{f.robot}  {run_shown.name}", "title", width - 2)
    picture.text(
        1,
        1,
        f"{when}, driven by {', '.join(f.drivers) or 'no one'}" + (f"; {f.routine}" if f.routine else ""),
        "rest",
        width - 2,
    )
    picture.text(1, 2, f"note: {f.note}" if f.note else "= types a note", "rest" if f.note else "dim", width - 2)
    if run_shown.warnings:
        picture.text(1, 3, f"! {run_shown.warnings[0]}", "alarm", width - 2)
    strip = 9 if height >= 34 else 0
    high = height - 4 - strip
    side = 42 if width >= 84 else 0
    lay_floor(picture, 0, 4, width - side, high, run_shown, [(run_shown.track, "measured", 0.0)], run_shown.events)
    if side:
        y = _figures(picture, width - side + 1, 4, side - 2, run_shown.figures, run_shown.course)
        _happened(picture, width - side + 1, y + 1, side - 2, 4 + high - y - 1, run_shown)
    if strip:
        place_strips(
            picture, [partial(_speeds, run_shown), *(partial(_pinned, run_shown, c) for c in run_shown.curves)], strip
        )
    return picture


def place_strips(picture: Picture, draws: Sequence[Callable[[int, int], Picture]], height: int) -> None:
    """Draw charts next to each other at the foot of a picture, as many as have room."""
    room = max(1, min(len(draws), picture.width // NARROWEST_STRIP))
    each = picture.width // room
    for k, draw in enumerate(draws[:room]):
        picture.place(draw(each, height), k * each, picture.height - height)


def pin_chart(
    title: str, curves: Sequence[PinCurve], t: Floats, series: list[Series], width: int, height: int
) -> Picture:
    """Draw curves of what is pinned, over the same times; or say why there is none."""
    problem = next((c.problem for c in curves if c.problem), "")
    known = [s.values[np.isfinite(s.values)] for s in series]
    if problem or not any(map(len, known)):
        picture = Picture(width, height)
        picture.text(1, 0, title, "title", width - 2)
        for k, row in enumerate(
            wrap(f"! {problem}" if problem else "nothing was sensed", max(8, width - 3))[: height - 1]
        ):
            picture.text(1, 1 + k, row, "alarm" if problem else "dim", width - 2)
        return picture
    low, high = min(k.min() for k in known if len(k)), max(k.max() for k in known if len(k))
    room = 0.05 * (high - low) or max(abs(high), 1.0) * 0.1
    unit = next(c.unit for c in curves)
    scene = chart(title, t, series, (low - room, high + room), (unit, "s"), (width, height))
    return print_scene(scene, width, height)


def _pinned(run_shown: OpenRun, curve: PinCurve, width: int, height: int) -> Picture:
    t = (curve.rows - run_shown.first) * run_shown.dt_s
    return pin_chart(curve.name, [curve], t, [Series("", curve.values, "measured")], width, height)


def lay_floor(
    picture: Picture, x: int, y: int, width: int, height: int, run_shown: OpenRun, tracks: Sequence[tuple[Floats, str, float]],
    events: Sequence[Event] = (), parted: tuple[float, float] | None = None,
) -> None:  # fmt: skip
    """Draw tracks on a run's floor, each with its role and the length of its dashes; signs where something happened, × where two part."""
    if width < 20 or height < 6:
        return
    scene = field_scene(run_shown.field, whole(run_shown.field))
    for track, named, dash in tracks:
        scene.line(place(track), named, 0.45, dash)
    for track, named, _ in tracks:
        _add_end(scene, run_shown, track, named)
    rows, points = run_shown.track[:, 0], place(run_shown.track)
    for event in events:
        if event.kind in ("fall", "stop", "bump", "limit", "mark", "lost") and len(rows):
            at = min(len(rows) - 1, int(np.searchsorted(rows, event.row)))
            scene.sign(points[at], *HAPPENED[event.kind])
    if parted is not None:
        scene.sign(parted, "×", "alarm")
    picture.place(print_scene(scene, width, height), x, y)


def _add_end(scene: Scene, run_shown: OpenRun, track: Floats, named: str) -> None:
    points, headings = place(track), track[:, TRACK.index("heading_rad")]
    if run_shown.rig is None or not len(track):
        return
    heading = headings[-1] if np.isfinite(headings[-1]) else track[-1, TRACK.index("estimated_heading_rad")]
    pose = (float(points[-1, 0]), float(points[-1, 1]), float(heading))
    if named == "measured":
        add_robot(scene, run_shown.rig, pose)
    else:
        add_outline(scene, run_shown.rig, pose, named)


def _figures(picture: Picture, x: int, y: int, width: int, figures: dict[str, float], course: Sequence[Course]) -> int:
    out = {c.figure.key for c in course if c.stands_out}
    usual = {c.figure.key: c.usual for c in course}
    picture.text(x, y, "figures", "title")
    picture.right(x + width, y, "usual" if usual else "", "dim")
    for f in FIGURES:
        if f.key in figures:
            y += 1
            wrong = f.key in out
            picture.text(x, y, f"{'! ' if wrong else ''}{f.title}", "alarm" if wrong else "rest", width - 18)
            value = f"{figures[f.key]:.{f.digits}f} {f.unit}".strip()
            picture.right(x + width - 8, y, value, "alarm" if wrong else "measured")
            if f.key in usual:
                picture.right(x + width, y, f"{usual[f.key]:.{f.digits}f}", "dim")
    return y + 1


def _happened(picture: Picture, x: int, y: int, width: int, height: int, run_shown: OpenRun) -> None:
    events = [e for e in run_shown.events if e.row >= run_shown.first]
    if height < 2 or not events:
        return
    picture.text(x, y, "what happened", "title")
    shown = events if len(events) < height else [*events[: height - 2]]
    for k, event in enumerate(shown):
        sign, named = HAPPENED.get(event.kind, ("·", "dim"))
        picture.right(x + 7, y + 1 + k, f"{(event.row - run_shown.first) * run_shown.dt_s:.1f} s", "dim")
        picture.text(x + 8, y + 1 + k, sign, named)
        text = event.text if event.kind not in ("stop", "lost") else f"{event.kind}: {event.text}"
        picture.text(x + 10, y + 1 + k, text, "rest", width - 10)
    if len(shown) < len(events):
        picture.text(x + 8, y + height - 1, f"and {len(events) - len(shown)} more", "dim")


def _speeds(run_shown: OpenRun, width: int, height: int) -> Picture:
    track = run_shown.track
    t = (track[:, 0] - run_shown.first) * run_shown.dt_s
    series = [
        Series("commanded", column_of(track, "commanded_m_s"), "commanded"),
        Series("measured", column_of(track, "measured_m_s"), "measured"),
    ]
    scene = chart(
        "forward speed", t, series, span_of(series, 0.2), ("m/s", "s"), (width, height), ("commanded", "measured")
    )
    return print_scene(scene, width, height)


def column_of(track: Floats, name: str) -> Floats:
    """Return a column of a track by its name."""
    column: Floats = track[:, TRACK.index(name)]
    return column


def draw_season(run_shown: OpenRun, width: int, height: int) -> Picture:
    """Draw the figures of all similar runs over time; unusual ones first."""
    picture = Picture(width, height)
    courses = sorted(run_shown.course, key=lambda c: (not c.stands_out, len(set(c.values)) == 1))
    if not courses:
        picture.text(1, 0, "no other run was driven like this one yet", "rest", width - 2)
        return picture
    count = len(courses[0].values)
    who = ", ".join(run_shown.facts.drivers) or "no one"
    picture.text(1, 0, f"{run_shown.facts.robot} over {count} runs, driven by {who}", "title", width - 2)
    columns = 2 if width >= 80 else 1
    each, high = width // columns, 9
    for k, course in enumerate(courses):
        x, y = (k % columns) * each, 2 + (k // columns) * high
        if y + high > height:
            break
        values = np.array(course.values)
        unit = course.figure.unit
        usual = Series("usual", np.full(len(values), course.usual), "target", 0.9)
        series = [usual, Series("", values, "alarm" if course.stands_out else "measured")]
        title = f"{'! ' if course.stands_out else ''}{course.figure.title} {values[-1]:.{course.figure.digits}f}"
        t = np.arange(len(values), dtype=float)
        ends = (f"{course.when[0].astimezone():%d %b}", f"{course.when[-1].astimezone():%d %b}")
        span = span_of(series, 10.0**-course.figure.digits)
        scene = chart(title, t, series, span, (unit, ""), (each - 1, high - 1), ends=ends)
        picture.place(print_scene(scene, each - 1, high - 1), x, y)
    return picture
