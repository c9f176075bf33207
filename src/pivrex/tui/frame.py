"""Head, line and the smallest screen, from what the desk holds."""

from __future__ import annotations

from math import degrees, isfinite

from pivrex.line.layout import plain
from pivrex.tui.desk import Desk
from pivrex.tui.draw.bar import LEAD, Cell, HeadData, draw_head, draw_line
from pivrex.tui.draw.parts import number, turning
from pivrex.tui.draw.picture import Picture

__all__ = ["cell_at", "head", "line", "small_screen"]


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
            held=status.held or status.lost,
            source=title,
            link=status.robot + ("" if status.linked in ("off", "heard") else f" (! {status.linked})"),
            tick_ms=desk.work_s * 1e3,
            skipped=desk.skipped,
            level=level if len(levels) > 1 else "",
            focus=focus,
            frame=_frame(desk),
            recording=status.recording,
            alarm="on its back" if desk.value("heading", "over") == 1 else "",
        ),
        width,
    )


def _frame(desk: Desk) -> str:
    if "frame" not in desk.line.stages or desk.row is None:
        return "robot frame"
    point = int(desk.value("frame", "point"))
    whose = "field frame" if desk.value("frame", "field") == 1 else "robot frame"
    return whose + (
        f" about {desk.rig.plane.points[point - 1].name}" if 0 < point <= len(desk.rig.plane.points) else ""
    )


def line(desk: Desk, open_view: str, width: int) -> Picture:
    """Draw the line: its cells with what stands there now."""
    shaping = tuple((f, *_function(desk, f), "commanded") for f in desk.line.functions)
    wheels = tuple(
        (
            w,
            desk.commanded(w) / float(top),
            f"{number(desk.value('sensed', f'{plain(w)}_speed'))} m/s",
            "measured",
        )
        for w, top in zip(desk.line.wheels, desk.line.top_m_s, strict=True)
    )
    cells = [
        Cell("1", "driver", open_view == "driver", _controls(desk)),
        Cell("2", "shaping", open_view == "shaping", shaping),
        Cell("3", "chassis", open_view == "chassis", _motion(desk)),
        Cell("5", "field", open_view == "field", wheels),
    ]
    return draw_line(cells, width)


def _controls(desk: Desk) -> tuple[tuple[str, float, str, str], ...]:
    """What the law's own channels read, as the device says it."""
    channels = desk.line.channels[: len(desk.line.functions)]
    values = [desk.value("raw", c) for c in channels]
    named = [c.rpartition(".")[2] for c in channels]
    return tuple(
        (n, v if isfinite(v) else 0.0, number(v, 2, 5), "measured") for n, v in zip(named, values, strict=True)
    )


def _motion(desk: Desk) -> tuple[tuple[str, float, str, str], ...]:
    """What the wheels are to make of the motion; left and right in words, their bars to their sides."""
    forward, left, turn = (desk.value("motion", n) for n in ("forward", "left", "turn"))
    rig = desk.rig
    bars = [("forward", forward / rig.full_forward_m_s, f"{number(forward, 2, 5)} m/s", "commanded")]
    if rig.law.kind == "planar":
        word = turning(left, 2, "").partition(" ")[2]
        bars.append(("aside", -left / rig.full_left_m_s, f"{abs(left):4.2f} m/s {word:<5}", "commanded"))
    deg_s = degrees(turn) if isfinite(turn) else turn
    word = turning(deg_s, 0, "").partition(" ")[2]
    bars.append(("turn", -turn / rig.full_turn_rad_s, f"{abs(deg_s):3.0f} deg/s {word:<5}", "commanded"))
    return tuple(bars)


def cell_at(width: int, x: int) -> str:
    """Name the view whose cell lies at a column of the line."""
    names = ("driver", "shaping", "chassis", "field")
    return names[max(0, min(len(names) - 1, (x - LEAD) * len(names) // max(1, width - LEAD)))]


def _function(desk: Desk, function: str) -> tuple[float, str]:
    """Give a function's bar and its numbers; left and right are told in words, and their bars go that way."""
    before, after = desk.value("axes", function), desk.value("rate", function)
    whole = len(desk.line.functions) < 3  # where there are more, what comes out of shaping must do
    if function in ("turn", "sideways"):
        word = turning(after, 2, "").partition(" ")[2]
        return -after, f"{abs(before):4.2f}→" * whole + f"{abs(after):4.2f} {word:<5}"
    return after, f"{number(before, 2, 5)}→" * whole + number(after, 2, 5)


def small_screen(desk: Desk, width: int, height: int) -> Picture:
    """Draw what fits a window that is too small for a view: the state, and how to stop."""
    picture = Picture(width, height)
    status = desk.status
    state, named = (
        ("LIVE", "live") if status.live else ("! stopped", "alarm") if status.held or status.lost else ("safe", "safe")
    )
    picture.text(0, 0, f" {state} ", named)
    picture.text(len(state) + 3, 0, desk.rig.name, "title")
    picture.text(0, 1, "Esc stops", "key", width)
    picture.text(0, 2, "needs 60x16 cells", "rest", width)
    picture.text(0, 3, f"{status.source} drives", "commanded", width)
    if desk.message_alarm:
        picture.text(0, 4, desk.message, "alarm", width)
    return picture
