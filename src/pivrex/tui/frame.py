"""Head, line and the smallest screen, from what the desk holds."""

from __future__ import annotations

from math import isfinite

from pivrex.line.layout import plain
from pivrex.tui.desk import Desk
from pivrex.tui.draw.bar import Cell, HeadData, draw_head, draw_line
from pivrex.tui.draw.parts import number, turning
from pivrex.tui.draw.picture import Picture

__all__ = ["head", "line", "small_screen"]


def head(desk: Desk, width: int, focus: str) -> Picture:
    """Draw the head."""
    status = desk.status
    title = next((s.title for s in status.sources if s.name == status.source), status.source)
    clock = desk.value("clock", "t")
    levels = desk.rig.speed_levels.levels
    level = levels[min(int(desk.value("law", "level")), len(levels) - 1)].name if desk.row is not None else ""
    return draw_head(
        HeadData(
            rig=desk.rig.name,
            law=desk.rig.law.kind,
            clock_s=clock if isfinite(clock) else 0.0,
            live=status.live,
            held=status.held,
            source=title,
            link=status.robot,
            tick_ms=desk.work_s * 1e3,
            skipped=desk.skipped,
            level=level if len(levels) > 1 else "",
            focus=focus,
        ),
        width,
    )


def line(desk: Desk, open_view: str, width: int) -> Picture:
    """Draw the line: its cells with what stands there now."""
    shaping = tuple((f, *_function(desk, f), "commanded") for f in desk.line.functions)
    wheels = tuple(
        (
            w,
            desk.value("limits", f"{plain(w)}_given") / float(top),
            f"{number(desk.value('sensed', f'{plain(w)}_speed'))} m/s",
            "measured",
        )
        for w, top in zip(desk.line.wheels, desk.line.top_m_s, strict=True)
    )
    cells = [
        Cell("2", "shaping", open_view == "shaping", shaping),
        Cell("5", "field", open_view == "field", wheels),
    ]
    status = desk.status
    source = next((s.title for s in status.sources if s.name == status.source), status.source)
    return draw_line(cells, source, width)


def _function(desk: Desk, function: str) -> tuple[float, str]:
    """Give a function's bar and its numbers; a turn is told in words, and its bar goes the way it turns."""
    before, after = desk.value("axes", function), desk.value("rate", function)
    if function == "turn":
        word = turning(after, 2, "").partition(" ")[2]
        return -after, f"{abs(before):4.2f}→{abs(after):4.2f} {word:<5}"
    return after, f"{number(before, 2, 5)}→{number(after, 2, 5)}"


def small_screen(desk: Desk, width: int, height: int) -> Picture:
    """Draw what fits a window that is too small for a view: the state, and how to stop."""
    picture = Picture(width, height)
    status = desk.status
    state, named = ("LIVE", "live") if status.live else ("! stopped", "alarm") if status.held else ("safe", "safe")
    picture.text(0, 0, f" {state} ", named)
    picture.text(len(state) + 3, 0, desk.rig.name, "title")
    picture.text(0, 1, "Esc stops", "key", width)
    picture.text(0, 2, "needs 60x16 cells", "rest", width)
    picture.text(0, 3, f"{status.source} drives", "commanded", width)
    if desk.message_alarm:
        picture.text(0, 4, desk.message, "alarm", width)
    return picture
