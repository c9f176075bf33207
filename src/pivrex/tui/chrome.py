"""Head, line and the smallest screen, from what the model holds."""

from __future__ import annotations

from math import degrees, isfinite

from pivrex.line.layout import plain
from pivrex.tui.draw.bar import LEAD, Cell, HeadData, draw_head, draw_line
from pivrex.tui.draw.parts import number, turning
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel

__all__ = ["cell_at", "head", "line", "small_screen"]


def head(model: ScreenModel, width: int, focus: str) -> Picture:
    """Draw the head."""
    status = model.status
    title = next((s.title for s in status.sources if s.name == status.source), status.source)
    clock = model.value("clock", "t")
    levels = model.rig.speed_levels.levels
    level = levels[min(int(model.value("law", "level")), len(levels) - 1)].name if model.row is not None else ""
    return draw_head(
        HeadData(
            rig=model.rig.name,
            law=model.rig.law.kind,
            clock_s=clock if isfinite(clock) else 0.0,
            live=status.live,
            held=status.held or status.lost,
            source=title,
            link=status.robot + ("" if status.linked in ("off", "heard") else f" (! {status.linked})"),
            tick_ms=model.work_s * 1e3,
            skipped=model.skipped,
            level=level if len(levels) > 1 else "",
            focus=focus,
            frame=_frame(model),
            recording=status.recording,
            alarm="on its back" if model.value("heading", "upside_down") == 1 else "",
        ),
        width,
    )


def _frame(model: ScreenModel) -> str:
    if "frame" not in model.line.stages or model.row is None:
        return "robot frame"
    point = int(model.value("frame", "point"))
    whose = "field frame" if model.value("frame", "field") == 1 else "robot frame"
    return whose + (
        f" about {model.rig.plane.points[point - 1].name}" if 0 < point <= len(model.rig.plane.points) else ""
    )


def line(model: ScreenModel, open_view: str, width: int) -> Picture:
    """Draw the line: its cells with what stands there now."""
    shaping = tuple((f, *_function(model, f), "commanded") for f in model.line.functions)
    wheels = tuple(
        (
            w,
            model.commanded(w) / float(top),
            f"{number(model.value('sensed', f'{plain(w)}_speed'))} m/s",
            "measured",
        )
        for w, top in zip(model.line.wheels, model.line.top_m_s, strict=True)
    )
    cells = [
        Cell("1", "driver", open_view == "driver", _controls(model)),
        Cell("2", "shaping", open_view == "shaping", shaping),
        Cell("3", "chassis", open_view == "chassis", _motion(model)),
        Cell("5", "field", open_view == "field", wheels),
    ]
    return draw_line(cells, width)


def _controls(model: ScreenModel) -> tuple[tuple[str, float, str, str], ...]:
    """What the law's own channels read, as the device says it."""
    channels = model.line.channels[: len(model.line.functions)]
    values = [model.value("raw", c) for c in channels]
    named = [c.rpartition(".")[2] for c in channels]
    return tuple(
        (n, v if isfinite(v) else 0.0, number(v, 2, 5), "measured") for n, v in zip(named, values, strict=True)
    )


def _motion(model: ScreenModel) -> tuple[tuple[str, float, str, str], ...]:
    """What the wheels are to make of the motion; left and right in words, their bars to their sides."""
    forward, left, turn = (model.value("motion", n) for n in ("forward", "left", "turn"))
    rig = model.rig
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


def _function(model: ScreenModel, function: str) -> tuple[float, str]:
    """Give a function's bar and its numbers; left and right are told in words, and their bars go that way."""
    before, after = model.value("axes", function), model.value("rate", function)
    whole = len(model.line.functions) < 3  # where there are more, what comes out of shaping must do
    if function in ("turn", "sideways"):
        word = turning(after, 2, "").partition(" ")[2]
        return -after, f"{abs(before):4.2f}→" * whole + f"{abs(after):4.2f} {word:<5}"
    return after, f"{number(before, 2, 5)}→" * whole + number(after, 2, 5)


def small_screen(model: ScreenModel, width: int, height: int) -> Picture:
    """Draw what fits a window that is too small for a view: the state, and how to stop."""
    picture = Picture(width, height)
    status = model.status
    state, named = (
        ("LIVE", "live") if status.live else ("! stopped", "alarm") if status.held or status.lost else ("safe", "safe")
    )
    picture.text(0, 0, f" {state} ", named)
    picture.text(len(state) + 3, 0, model.rig.name, "title")
    picture.text(0, 1, "Esc stops", "key", width)
    picture.text(0, 2, "needs 60x16 cells", "rest", width)
    picture.text(0, 3, f"{status.source} drives", "commanded", width)
    if model.message_alarm:
        picture.text(0, 4, model.message, "alarm", width)
    return picture
