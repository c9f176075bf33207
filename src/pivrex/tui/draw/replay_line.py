"""The time line of a replay: its events, the part that has passed, and the next event."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from pivrex.runs.events import KINDS, Event
from pivrex.tui.draw.picture import Picture

__all__ = ["HAPPENED", "ReplayLine", "draw_replay_line"]

HAPPENED = {
    "stop": ("■", "alarm"),
    "lost": ("?", "alarm"),
    "fall": ("▼", "alarm"),
    "bump": ("▲", "alarm"),
    "limit": ("!", "alarm"),
    "mark": ("◆", "chosen"),
    "live": ("L", "live"),
    "safe": ("l", "safe"),
    "period": ("┃", "target"),
    "step": ("╎", "commanded"),
    "drives": ("d", "commanded"),
    "put back": ("⌂", "target"),
    "rig": ("r", "rest"),
    "floor": ("f", "rest"),
    "said": ("·", "dim"),
    "shown": ("=", "measured"),
}
"""The sign of each kind of event, and its role."""


@dataclass(frozen=True)
class ReplayLine:
    """The data of the drawing: rows from ``first`` to ``last``, the shown row, its tick's time in s, events, and the speed."""

    name: str
    first: int
    last: int
    at: int
    dt_s: float
    playing: bool
    speed: float
    events: Sequence[Event]


def draw_replay_line(data: ReplayLine, width: int) -> Picture:
    """Draw it in three rows. A click on the bar is marked ``replay`` with its row."""
    picture = Picture(width, 3)
    room = max(10, width - 2)
    span = max(1, data.last - data.first)

    def column(row: int) -> int:
        return 1 + min(room - 1, max(0, round((row - data.first) / span * (room - 1))))

    # of what happened in one column the most important is seen
    for event in sorted(data.events, key=lambda e: -KINDS.index(e.kind) if e.kind in KINDS else -len(KINDS)):
        if data.first <= event.row <= data.last + 1:
            sign, named = HAPPENED.get(event.kind, ("·", "dim"))
            picture.text(column(event.row), 0, sign, named)
    at = column(data.at)
    picture.across(1, 1, 1 + room, "─", "frame")
    picture.across(1, 1, at, "━", "measured")
    picture.text(at, 1, "●", "chosen")
    for x in range(1, 1 + room):
        row = data.first + round((x - 1) / (room - 1) * span)
        for y in (0, 1):
            picture.spot(x, y, 1, "replay", str(row))
    t, length = ((row - data.first) * data.dt_s for row in (data.at, data.last))
    state = "plays" if data.playing else "paused"
    x = picture.text(
        1, 2, f"{state}{f' at {data.speed:g} times' if data.speed != 1 else ''}", "chosen" if data.playing else "title"
    )
    x = picture.text(x + 2, 2, f"{t:7.2f} s of {length:.2f} s", "rest")
    x = picture.text(x + 2, 2, f"tick {data.at}", "dim")
    near = _near(data)
    if near:
        picture.text(x + 3, 2, near[0], near[1], max(0, width - x - 4))
    return picture


def _near(data: ReplayLine) -> tuple[str, str] | None:
    """Return an event that has just happened, or else the next one."""
    shown = [e for e in data.events if e.kind in HAPPENED]
    now = [e for e in shown if 0 <= (data.at - e.row) * data.dt_s <= 1.0]
    if now:
        last = min(now, key=lambda e: (data.at - e.row, KINDS.index(e.kind)))
        return f"{last.kind}: {last.text}", HAPPENED[last.kind][1]
    later = [e for e in shown if e.row > data.at and e.kind not in ("said", "shown")]
    if not later:
        return None
    after = min(later, key=lambda e: e.row)
    return f"in {(after.row - data.at) * data.dt_s:.1f} s {after.kind}: {after.text}", "dim"
