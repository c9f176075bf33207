"""A routine over time: a lane for what drives, for waiting, for sensing, and for each attachment; and where the clock cuts it off."""

from __future__ import annotations

from typing import NamedTuple

from pivrex.tui.draw.picture import Picture

__all__ = ["LABEL", "Bar", "Timeline", "draw_timeline"]

LABEL = 9
"""Cells before the lanes, for their names."""


class Bar(NamedTuple):
    """A step in a lane: from when to when, which line it is, what it says, and whether a student should look at it."""

    lane: str
    begin_s: float
    end_s: float
    line: int
    text: str
    marks: tuple[str, ...] = ()


class Timeline(NamedTuple):
    """What is drawn: the lanes from the top, the bars, how long the clock is, and the cursors."""

    lanes: tuple[str, ...]
    bars: tuple[Bar, ...]
    limit_s: float
    end_s: float
    cursor_s: float
    line: int
    now_s: float = -1.0


_FILL = {"motion": ("█", "commanded"), "wait": ("░", "dim"), "sense": ("▒", "target")}


def draw_timeline(data: Timeline, width: int, height: int) -> Picture:
    """Draw it. A click on the lanes is marked ``time`` with the time in s."""
    picture = Picture(width, height)
    room = max(10, width - LABEL - 1)
    whole = max(data.limit_s, data.end_s, 1.0)

    def column(t: float) -> int:
        return LABEL + min(room - 1, max(0, int(t / whole * room)))

    _ruler(picture, whole, room, column)
    lanes = data.lanes[: max(0, height - 1)]
    for k, lane in enumerate(lanes):
        y = 1 + k
        picture.text(0, y, lane, "rest", LABEL - 1)
        picture.text(LABEL, y, "·" * room, "frame")
        picture.spot(LABEL, y, room, "timeline", lane)
        for bar in data.bars:
            if bar.lane == lane:
                _bar(picture, y, bar, column(bar.begin_s), column(bar.end_s), bar.line == data.line)
    bottom = 1 + len(lanes)
    if data.limit_s <= whole:
        x = column(data.limit_s)
        picture.down(x, 1, bottom, "┃", "alarm")
    if data.now_s >= 0:
        picture.down(column(data.now_s), 1, bottom, "┃", "measured")
    if data.now_s >= 0:
        return picture
    x = column(data.cursor_s)
    picture.text(x, 0, "▼", "chosen")
    for y in range(1, bottom):
        picture.roles[y, x] = picture.roles[0, x]
    return picture


def _ruler(picture: Picture, whole: float, room: int, column: object) -> None:
    step = next(s for s in (1, 2, 5, 10, 20, 60, 120) if whole / s * 6 <= room or s == 120)
    t = 0
    while t <= whole:
        x = column(t)  # type: ignore[operator]
        picture.text(x, 0, f"{t} s" if t == 0 else f"{t}", "dim")
        t += step


def _bar(picture: Picture, y: int, bar: Bar, begin: int, end: int, chosen: bool) -> None:
    fill, named = _FILL.get(bar.lane, ("█", "measured"))
    size = max(1, end - begin)
    named = "chosen" if chosen else "alarm" if bar.marks else named
    picture.text(begin, y, (" " if chosen else fill) * size, named)
    said = f"{bar.line}" if size >= len(str(bar.line)) + 2 else ""
    if bar.marks and size >= len(said) + 3:
        said += "!"
    if said:
        picture.text(begin + (size - len(said) - 1) // 2, y, f" {said} ", named)
