"""The view Runs as pictures: the list with small paths, one run, all that were driven like it."""

from __future__ import annotations

from collections.abc import Sequence
from textwrap import wrap

import numpy as np

from pivrex.line.layout import Floats
from pivrex.runs.facts import UNMARKED
from pivrex.runs.figures import FIGURES
from pivrex.runs.happenings import Event
from pivrex.runs.season import Course
from pivrex.runs.shelf import Shelved
from pivrex.runs.track import TRACK
from pivrex.tui.draw.field_scale import FieldScale, scale_of
from pivrex.tui.draw.floor import field_ground
from pivrex.tui.draw.lines import Series, draw_lines, span_of
from pivrex.tui.draw.picture import Dots, Picture
from pivrex.tui.draw.replay_line import HAPPENED
from pivrex.tui.draw.small_robot import outline_robot
from pivrex.tui.jobs.run_questions import Told, Went, place
from pivrex.tui.panels.runs_desk import Desk

__all__ = ["column_of", "draw_list", "draw_season", "draw_told", "first_shown", "lay_floor", "room_for"]

EACH = 4
"""Rows of a run in the list."""

SMALL_W, SMALL_H = 9, 3


# --- the list ---


def first_shown(count: int, selected: int, room: int) -> int:
    """Give the first run of the list that is seen, so that the selected one is."""
    return min(max(0, selected - room // 2), max(0, count - room))


def draw_list(desk: Desk, width: int, height: int, much: str = "") -> Picture:
    """Draw the list. A click on a run is marked ``run`` with its name."""
    picture = Picture(width, height)
    runs = desk.shown()
    found = f", {len(runs)} found" if desk.find else ""
    total = len(desk.listed.runs) if desk.listed is not None else 0
    at = picture.text(1, 0, "runs", "title")
    picture.text(at + 2, 0, f"{total} kept{found}" if desk.listed is not None else "looking ...", "dim")
    if desk.find:
        picture.right(width - 1, 0, f"find: {desk.find}", "chosen")
    elif desk.listed is not None:
        picture.right(width - 1, 0, f"{desk.listed.size / 1e6:.1f} MB", "dim")
    rule = wrap(desk.listed.rule, max(20, width - 2))[:3] if desk.listed is not None and height >= 24 else []
    if rule and much and height >= 30:
        picture.text(1, height - 5, much, "dim", width - 2)
    room = room_for(height)
    names = [r.name for r in runs]
    selected = names.index(desk.selected) if desk.selected in names else 0
    first = first_shown(len(runs), selected, room)
    for k, run in enumerate(runs[first : first + room]):
        _entry(picture, 2 + k * EACH, width, run, desk)
    if not runs and desk.listed is not None:
        said = "nothing is found" if desk.find else "nothing was kept yet: drive, and it is"
        picture.text(1, 2, said, "rest", width - 2)
    if first + room < len(runs):
        picture.text(
            1,
            height - 6 if height >= 30 else height - 4 if rule else height - 1,
            f"↓ {len(runs) - first - room} more",
            "dim",
        )
    for k, line in enumerate(rule):
        picture.text(1, height - 3 + k, line, "dim", width - 2)
    return picture


def room_for(height: int) -> int:
    """Give how many runs a list of a height shows."""
    return max(1, (height - (8 if height >= 30 else 6 if height >= 24 else 3)) // EACH)


def _entry(picture: Picture, y: int, width: int, run: Shelved, desk: Desk) -> None:
    here, marked = run.name == desk.selected, run.name == desk.marked or run.name in desk.also
    if here:
        picture.fill(0, y, width - 1, "floor", SMALL_H)
        for row in range(SMALL_H):
            picture.text(0, y + row, "▌", "chosen")
    picture.spot(0, y, width - 1, "run", run.name, SMALL_H)
    went = desk.went.get(run.name)
    if went is not None:
        _small(picture, 2, y, went, _role(run.name, desk))
    x = SMALL_W + 4
    room = max(0, width - x - 1)
    facts = run.facts
    if facts is None:
        picture.text(x, y, run.name, "title", room)
        picture.text(x, y + 1, f"! {run.problem}", "alarm", room)
        return
    name = f"{facts.robot}  {facts.began.astimezone():%d %b %H:%M:%S}"
    picture.text(x, y, ("+ " if marked else "") + name, "chosen" if here else "title", room)
    who = ", ".join(facts.drivers) or "nobody"
    said = f"{facts.ticks / facts.rate_hz:.0f} s, {who}" if facts.ended is not None else "is being kept, or was cut off"
    bumps = facts.figures.get("bumps", 0)
    picture.text(x, y + 1, said, "rest", room - 6 if bumps else room)
    if bumps:
        picture.right(width - 2, y + 1, f"▲ {bumps:.0f}", "alarm")
    kept = "the last minutes" if facts.kept == UNMARKED else facts.kept
    said = facts.note or (f"kept: {kept}" + (", thinned" if facts.thinned else ""))
    picture.text(x, y + 2, said, "rest" if facts.note else "dim", room)


def _role(name: str, desk: Desk) -> str:
    """Give the role in which a run is drawn: the same in the list as where two lie over each other."""
    if not desk.marked or desk.marked in {desk.selected, name}:
        return "measured"
    return "commanded" if name == desk.selected else "ghost"


def _small(picture: Picture, x: int, y: int, went: Went, named: str) -> None:
    dots = Dots(SMALL_W, SMALL_H)
    if len(went.points):
        points = went.points
        low = np.minimum(points.min(axis=0), 0.0)
        high = np.maximum(points.max(axis=0), (went.length_m, went.width_m))
        scale = min((dots.width - 1) / max(high[0] - low[0], 0.1), (dots.height - 1) / max(high[1] - low[1], 0.1))
        dots.path(dots.layer(named), (points[:, 0] - low[0]) * scale, (high[1] - points[:, 1]) * scale)
    dots.onto(picture, x, y)


# --- one run ---


def draw_told(told: Told, width: int, height: int) -> Picture:
    """Draw one run: its path, its figures, what happened, speed over time."""
    picture = Picture(width, height)
    f = told.facts
    when = f"{f.began.astimezone():%A %d %B %Y, %H:%M:%S}"
    picture.text(1, 0, f"{f.robot}  {told.name}", "title", width - 2)
    picture.text(
        1,
        1,
        f"{when}; {', '.join(f.drivers) or 'nobody'} drove" + (f"; {f.routine}" if f.routine else ""),
        "rest",
        width - 2,
    )
    picture.text(1, 2, f"note: {f.note}" if f.note else "= types a note", "rest" if f.note else "dim", width - 2)
    if told.warnings:
        picture.text(1, 3, f"! {told.warnings[0]}", "alarm", width - 2)
    strip = 9 if height >= 34 else 0
    high = height - 4 - strip
    side = 42 if width >= 84 else 0
    lay_floor(picture, 0, 4, width - side, high, told, [(told.track, "measured", 1)], told.events)
    if side:
        y = _figures(picture, width - side + 1, 4, side - 2, told.figures, told.course)
        _happened(picture, width - side + 1, y + 1, side - 2, 4 + high - y - 1, told)
    if strip:
        picture.place(_speeds(told, width, strip), 0, height - strip)
    return picture


def lay_floor(
    picture: Picture, x: int, y: int, width: int, height: int, told: Told, tracks: Sequence[tuple[Floats, str, int]],
    events: Sequence[Event] = (), parted: tuple[float, float] | None = None,
) -> None:  # fmt: skip
    """Draw tracks on a run's floor, each with its role and how broken its line is; signs where something happened, × where two part."""
    if width < 20 or height < 6:
        return
    scale = scale_of(told.field, width, height)
    ground = field_ground(told.field, scale, width, height)
    dots = Dots(*scale.cells)
    for track, named, every in tracks:
        points = place(track)
        dots.path(dots.layer(named), scale.x(points[:, 0]), scale.y(points[:, 1]), every=every)
        _outline(dots, scale, told, track, named)
    dots.onto(ground, scale.left, scale.top)
    _signs(ground, scale, told, events)
    if parted is not None and np.isfinite(parted).all():
        cx, cy = scale.cell(*parted)
        ground.text(cx, cy, "×", "alarm")
    picture.place(ground, x, y)


def _outline(dots: Dots, scale: FieldScale, told: Told, track: Floats, named: str) -> None:
    points, headings = place(track), track[:, TRACK.index("heading_rad")]
    if told.rig is None or not len(track):
        return
    heading = headings[-1] if np.isfinite(headings[-1]) else track[-1, TRACK.index("believed_heading_rad")]
    pose = (float(points[-1, 0]), float(points[-1, 1]), float(heading))
    if np.isfinite(pose).all():
        outline_robot(dots, scale, told.rig, pose, named)


def _signs(ground: Picture, scale: FieldScale, told: Told, events: Sequence[Event]) -> None:
    rows, points = told.track[:, 0], place(told.track)
    for event in events:
        if event.kind in ("stop", "bump", "limit", "mark", "lost") and len(rows):
            at = min(len(rows) - 1, int(np.searchsorted(rows, event.row)))
            if np.isfinite(points[at]).all():
                x, y = scale.cell(float(points[at, 0]), float(points[at, 1]))
                if scale.holds(x, y):
                    ground.text(x, y, *HAPPENED[event.kind])


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


def _happened(picture: Picture, x: int, y: int, width: int, height: int, told: Told) -> None:
    events = [e for e in told.events if e.row >= told.first]
    if height < 2 or not events:
        return
    picture.text(x, y, "what happened", "title")
    shown = events if len(events) < height else [*events[: height - 2]]
    for k, event in enumerate(shown):
        sign, named = HAPPENED.get(event.kind, ("·", "dim"))
        picture.right(x + 7, y + 1 + k, f"{(event.row - told.first) * told.dt_s:.1f} s", "dim")
        picture.text(x + 8, y + 1 + k, sign, named)
        text = event.text if event.kind not in ("stop", "lost") else f"{event.kind}: {event.text}"
        picture.text(x + 10, y + 1 + k, text, "rest", width - 10)
    if len(shown) < len(events):
        picture.text(x + 8, y + height - 1, f"and {len(events) - len(shown)} more", "dim")


def _speeds(told: Told, width: int, height: int) -> Picture:
    track = told.track
    t = (track[:, 0] - told.first) * told.dt_s
    series = [
        Series("asked", column_of(track, "asked_m_s"), "commanded"),
        Series("measured", column_of(track, "felt_m_s"), "measured", 2),
    ]
    end = f"{t[-1]:.0f} s" if len(t) else ""
    return draw_lines(
        "ahead", t, series, span_of(series, 0.2), "m/s", width, height, ("0 s", end), ("commanded", "measured")
    )


def column_of(track: Floats, name: str) -> Floats:
    """Give a column of a track by its name."""
    column: Floats = track[:, TRACK.index(name)]
    return column


def draw_season(told: Told, width: int, height: int) -> Picture:
    """Draw the figures of all runs that were driven like this one, over time; what stands out first."""
    picture = Picture(width, height)
    courses = sorted(told.course, key=lambda c: (not c.stands_out, len(set(c.values)) == 1))
    if not courses:
        picture.text(1, 0, "no other run was driven like this one yet", "rest", width - 2)
        return picture
    count = len(courses[0].values)
    who = ", ".join(told.facts.drivers) or "nobody"
    picture.text(1, 0, f"{told.facts.robot} over {count} runs, driven by {who}", "title", width - 2)
    columns = 2 if width >= 80 else 1
    each, high = width // columns, 9
    for k, course in enumerate(courses):
        x, y = (k % columns) * each, 2 + (k // columns) * high
        if y + high > height:
            break
        values = np.array(course.values)
        unit = course.figure.unit
        usual = Series("usual", np.full(len(values), course.usual), "target", 3)
        series = [usual, Series("", values, "alarm" if course.stands_out else "measured")]
        title = f"{'! ' if course.stands_out else ''}{course.figure.title} {values[-1]:.{course.figure.digits}f}"
        t = np.arange(len(values), dtype=float)
        ends = (f"{course.when[0].astimezone():%d %b}", f"{course.when[-1].astimezone():%d %b}")
        span = span_of(series, 10.0**-course.figure.digits)
        picture.place(draw_lines(title, t, series, span, unit, each - 1, high - 1, ends), x, y)
    return picture
