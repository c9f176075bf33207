"""The view Runs as pictures: the list with small paths, one run, two over each other, what was learnt."""

from __future__ import annotations

from collections.abc import Sequence
from textwrap import wrap

import numpy as np

from pivrex.line.layout import Floats
from pivrex.runs.facts import UNMARKED
from pivrex.runs.figures import FIGURES
from pivrex.runs.happenings import Event
from pivrex.runs.learning import Learning
from pivrex.runs.season import Course
from pivrex.runs.shelf import Shelved
from pivrex.runs.track import TRACK
from pivrex.tui.draw.field import field_ground
from pivrex.tui.draw.field_scale import FieldScale, scale_of
from pivrex.tui.draw.lines import Series, draw_lines, span_of
from pivrex.tui.draw.picture import Dots, Picture
from pivrex.tui.draw.replay_line import HAPPENED
from pivrex.tui.draw.small_robot import outline_robot
from pivrex.tui.views.runs.desk import Desk
from pivrex.tui.views.runs.work import Beside, Told, Went, place

__all__ = ["draw_beside", "draw_learnt", "draw_list", "draw_told", "first_shown", "room_for"]

EACH = 4
"""Rows of a run in the list."""

SMALL_W, SMALL_H = 9, 3


# --- the list ---


def first_shown(count: int, selected: int, room: int) -> int:
    """Give the first run of the list that is seen, so that the selected one is."""
    return min(max(0, selected - room // 2), max(0, count - room))


def draw_list(desk: Desk, width: int, height: int) -> Picture:
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
        picture.text(1, height - 4 if rule else height - 1, f"↓ {len(runs) - first - room} more", "dim")
    for k, line in enumerate(rule):
        picture.text(1, height - 3 + k, line, "dim", width - 2)
    return picture


def room_for(height: int) -> int:
    """Give how many runs a list of a height shows."""
    return max(1, (height - (6 if height >= 24 else 3)) // EACH)


def _entry(picture: Picture, y: int, width: int, run: Shelved, desk: Desk) -> None:
    here, marked = run.name == desk.selected, run.name == desk.marked
    if here:
        picture.fill(0, y, width - 1, "floor", SMALL_H)
        for row in range(SMALL_H):
            picture.text(0, y + row, "▌", "chosen")
    picture.spot(0, y, width - 1, "run", run.name, SMALL_H)
    went = desk.went.get(run.name)
    if went is not None:
        _small(picture, 2, y, went, "commanded" if marked else "measured")
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
    picture.text(x, y + 1, said, "rest", room)
    bumps = facts.figures.get("bumps", 0)
    if bumps:
        picture.right(width - 2, y + 1, f"▲ {bumps:.0f}", "alarm")
    kept = "the last minutes" if facts.kept == UNMARKED else facts.kept
    said = facts.note or (f"kept: {kept}" + (", thinned" if facts.thinned else ""))
    picture.text(x, y + 2, said, "rest" if facts.note else "dim", room)


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
    _floor(picture, 0, 4, width - side, high, told, [(told.track, "measured", 1)], told.events)
    if side:
        y = _figures(picture, width - side + 1, 4, side - 2, told.figures, told.course)
        _happened(picture, width - side + 1, y + 1, side - 2, 4 + high - y - 1, told)
    if strip:
        picture.place(_speeds(told, width, strip), 0, height - strip)
    return picture


def _floor(
    picture: Picture, x: int, y: int, width: int, height: int, told: Told, tracks: Sequence[tuple[Floats, str, int]],
    events: Sequence[Event] = (), parted: tuple[float, float] | None = None,
) -> None:  # fmt: skip
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
        Series("asked", _of(track, "asked_m_s"), "commanded"),
        Series("measured", _of(track, "felt_m_s"), "measured", 2),
    ]
    end = f"{t[-1]:.0f} s" if len(t) else ""
    return draw_lines(
        "ahead", t, series, span_of(series, 0.2), "m/s", width, height, ("0 s", end), ("commanded", "measured")
    )


def _of(track: Floats, name: str) -> Floats:
    column: Floats = track[:, TRACK.index(name)]
    return column


# --- two of them ---


def draw_beside(found: Beside, one: Told, other: Told, width: int, height: int) -> Picture:
    """Draw two runs over each other: where they part, by which stage, and side by side their figures."""
    picture = Picture(width, height)
    picture.text(1, 0, "━ ", "measured")
    at = picture.text(3, 0, found.names[0], "title")
    picture.text(at + 2, 0, "┄ ", "commanded")
    at = picture.text(at + 4, 0, found.names[1], "title")
    picture.text(at + 3, 0, f"lined up by {found.by}", "dim")
    y = 1
    for line in wrap(found.said, max(20, width - 2))[:2]:
        picture.text(1, y, line, "alarm" if found.parting is not None else "rest")
        y += 1
    side = 46 if width >= 96 else 0
    strip = 9 if height >= 34 else 0
    tracks = []
    for told, zero, named, every in ((one, found.zero[0], "measured", 1), (other, found.zero[1], "commanded", 3)):
        tracks.append((told.track[told.track[:, 0] >= zero], named, every))
    parted = None
    if found.parting is not None:
        at_row = int(np.searchsorted(one.track[:, 0], found.parting.rows[0]))
        if at_row < len(one.track):
            px, py = place(one.track)[at_row]
            parted = (float(px), float(py))
    high = height - 4 - strip
    _floor(picture, 0, 4, width - side, high, one, tracks, parted=parted)
    if side:
        x, room = width - side + 1, side - 2
        y = _changes(picture, x, 3, room, 8, found)
        y = _two_figures(picture, x, y + 1, room, found)
        _stages(picture, x, y + 1, room, 4 + high - y - 1, found)
    if strip:
        picture.place(_two_speeds(found, one, other, width, strip), 0, height - strip)
    return picture


def _two_figures(picture: Picture, x: int, y: int, width: int, found: Beside) -> int:
    picture.text(x, y, "figures", "title")
    picture.right(x + width - 9, y, "first", "measured")
    picture.right(x + width, y, "second", "commanded")
    for f, a, b in found.figures:
        y += 1
        picture.text(x, y, f"{f.title}{f', {f.unit}' if f.unit else ''}", "rest", width - 18)
        for value, right, named in ((a, x + width - 9, "measured"), (b, x + width, "commanded")):
            picture.right(right, y, "–" if np.isnan(value) else f"{value:.{f.digits}f}", named)
    if np.isfinite(found.apart_m):
        y += 1
        picture.text(x, y, f"at most {found.apart_m:.2f} m apart, at {found.apart_at_s:.1f} s", "rest", width)
    return y + 1


def _stages(picture: Picture, x: int, y: int, width: int, height: int, found: Beside) -> None:
    part = [s for s in found.stages if np.isfinite(s.t_s)]
    if height < 3 or not part:
        return
    picture.text(x, y, "the line, stage by stage", "title")
    picture.right(x + width, y, "parts at", "dim")
    first = found.parting.stage if found.parting is not None else ""
    for s in part[: height - 2]:
        y += 1
        here = s.stage == first
        picture.text(x, y, f"{'× ' if here else '  '}{s.stage}", "alarm" if here else "rest")
        picture.text(x + 15, y, s.column.partition(".")[2], "dim", max(0, width - 25))
        picture.right(x + width, y, f"{s.t_s:.2f} s", "alarm" if here else "rest")


def _changes(picture: Picture, x: int, y: int, width: int, height: int, found: Beside) -> int:
    said = [e.said for e in found.effects] + [f"routine {line}" for line in found.routine]
    picture.text(x, y, "what was changed", "title")
    rows = [row for one in said for row in wrap(one, max(20, width))] or ["nothing of rig and routine"]
    if len(rows) > height - 1:
        rows = [*rows[: height - 2], f"and more: {len(said)} changes in all"]
    for k, line in enumerate(rows):
        picture.text(x, y + 1 + k, line, "rest" if said else "dim", width)
    return y + 1 + len(rows)


def _two_speeds(found: Beside, one: Told, other: Told, width: int, height: int) -> Picture:
    tracks = [
        (told, (told.track[:, 0] - zero) * told.dt_s) for told, zero in ((one, found.zero[0]), (other, found.zero[1]))
    ]
    end = max([float(t[-1]) for _, t in tracks if len(t)] or [1.0])
    t = np.linspace(0.0, max(end, 0.1), max(2, 2 * (width - 10)))
    series = []
    for (told, times), named, every, name in zip(
        tracks, ("measured", "commanded"), (1, 3), ("first", "second"), strict=True
    ):
        values = (
            np.interp(t, times, _of(told.track, "felt_m_s"), np.nan, np.nan) if len(times) else np.full_like(t, np.nan)
        )
        series.append(Series(name, values, named, every))
    title = "ahead" if found.parting is None else f"ahead; they part at {found.parting.t_s:.2f} s"
    return draw_lines(
        title, t, series, span_of(series, 0.2), "m/s", width, height, ("0 s", f"{end:.0f} s"), ("measured", "commanded")
    )


# --- what was learnt ---


def draw_learnt(learnt: Learning, width: int, height: int) -> Picture:
    """Draw each parameter with its interval, as it was in the rig and as it was learnt."""
    picture = Picture(width, height)
    picture.text(1, 0, f"learnt of {learnt.rig.name} from {learnt.run}", "title", width - 2)
    held, y = learnt.held_out, 2
    if held is not None:
        said = f"held out {held.seconds:.0f} s: the stand-in's wheels are off by {held.before:.3f} m/s with the rig as it is"
        picture.text(1, 1, f"{said}, by {held.after:.3f} m/s as learnt", "rest", width - 2)
    bar = max(0, min(34, width - 78))
    for p in learnt.learned:
        if y >= height - 2:
            break
        picture.text(1, y, p.title, "rest", 34)
        picture.right(48, y, f"{p.value:.4g}", "measured")
        picture.text(49, y, p.unit, "dim")
        picture.text(56, y, f"{p.low:.4g} to {p.high:.4g}", "target", 20)
        if bar >= 12:
            _interval(picture, 78, y, bar, p.value, p.low, p.high)
        y += 1
    _not_told(picture, y + 1, width, learnt)
    return picture


def _not_told(picture: Picture, y: int, width: int, learnt: Learning) -> None:
    """Say what the run cannot tell, and what to drive for it; and what the rig would say."""
    for key, why in learnt.refused:
        for k, line in enumerate(wrap(f"{key}: {why}", max(20, width - 5))):
            picture.text(1 if k == 0 else 3, y, ("? " if k == 0 else "") + line, "dim", width - 2)
            y += 1
    for line in [row for note in learnt.notes for row in wrap(note, max(20, width - 3))]:
        picture.text(1, y, line, "dim", width - 2)
        y += 1
    if learnt.changes:
        picture.text(1, y + 1, "what the rig would say: W writes it", "title")
        for k, change in enumerate(learnt.changes):
            picture.text(3, y + 2 + k, str(change), "commanded", width - 4)


def _interval(picture: Picture, x: int, y: int, width: int, value: float, low: float, high: float) -> None:
    """Draw how wide an interval is beside its value: the whole bar is a tenth of it either way."""
    picture.across(y, x, x + width, "╌", "frame")
    span = 0.1 * abs(value) or max(abs(high), abs(low), 1e-9)

    def at(v: float) -> int:
        return x + int(np.clip(round((v - value) / span * (width - 1) / 2 + (width - 1) / 2), 0, width - 1))

    picture.across(y, at(low), at(high) + 1, "━", "target")
    picture.text(at(value), y, "◆", "measured")
