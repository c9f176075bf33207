"""Draws head, line and the smallest screen from the model."""

from __future__ import annotations

from collections.abc import Sequence
from math import isfinite

from pivrex.line.balance import EMPTY, FALLEN, UNTRUSTED, WAITS
from pivrex.tui.draw.bar import HeadData, draw_head, draw_line, state_word
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.match_clock import match_head
from pivrex.tui.views.view_row import ViewRow

__all__ = ["head", "line", "small_screen", "starting"]


def head(model: ScreenModel, width: int, reports_focus: bool) -> Picture:
    """Draw the head. ``reports_focus``: the terminal reports when its window loses the focus."""
    status = model.status
    title = next((s.title for s in status.sources if s.name == status.source), status.source)
    clock = model.value("clock", "t")
    levels = model.rig.speed_levels.levels
    level = levels[min(model.number("law", "level"), len(levels) - 1)].name if model.row is not None else ""
    return draw_head(
        HeadData(
            rig=model.rig.name,
            law=model.rig.law.kind,
            clock_s=clock if isfinite(clock) else 0.0,
            live=status.live,
            watches=status.watches,
            held=status.held or status.lost,
            upright=status.upright,
            source=title,
            link=status.robot + ("" if status.linked in ("off", "heard") else f" (! {status.linked})"),
            tick_ms=model.work_s * 1e3,
            skipped=model.skipped,
            level=level if len(levels) > 1 else "",
            focus="" if reports_focus else "this terminal cannot tell when you leave its window",
            frame=_frame(model),
            recording=status.recording,
            match=match_head(model),
            past=_past(model),
            warnings=len(model.warnings),
            alarm="on its back" if model.value("heading", "upside_down") == 1 else _down(model),
        ),
        width,
    )


def _down(model: ScreenModel) -> str:
    """Return why the drive of a robot that balances is off; empty where it stands, or is none."""
    return {FALLEN: "fell", WAITS: "hold it upright", UNTRUSTED: "tilt sensor is wrong", EMPTY: "battery empty"}.get(
        model.value("balance", "state"), ""
    )


def _past(model: ScreenModel) -> str:
    """Return a sentence for a replay, with its date, or for a practice copy."""
    replay = model.replay
    if replay is not None:
        return f"◂ a run of {replay.run.facts.began.astimezone():%d %b %H:%M}"
    return "practice, on a copy" if model.practice else ""


def _frame(model: ScreenModel) -> str:
    if model.rig.is_bench:
        return "bench"
    if "frame" not in model.line.stages or model.row is None:
        return "robot frame"
    point = model.number("frame", "point")
    whose = "field frame" if model.value("frame", "field") == 1 else "robot frame"
    return whose + (
        f" about {model.rig.plane.points[point - 1].name}" if 0 < point <= len(model.rig.plane.points) else ""
    )


def line(model: ScreenModel, views: Sequence[ViewRow], open_view: str, width: int) -> Picture:
    """Draw the line: a cell for each view, with its present values."""
    return draw_line([v.cell(model, v.name == open_view) for v in views], width)


def starting(width: int, height: int) -> Picture:
    """Draw the placeholder of a view until the session has made its first tick."""
    picture = Picture(width, height)
    picture.text(max(0, width // 2 - 5), height // 2, "starting …", "dim")
    return picture


def small_screen(model: ScreenModel, width: int, height: int) -> Picture:
    """Draw what fits a window that is too small for a view: the state, and how to stop."""
    picture = Picture(width, height)
    status = model.status
    at = picture.text(0, 0, *state_word(status.live, status.held or status.lost, status.watches, status.upright))
    picture.text(at + 1, 0, model.rig.name, "title")
    picture.text(0, 1, "Esc stops", "key", width)
    picture.text(0, 2, "needs 60x16 cells", "rest", width)
    picture.text(0, 3, f"{status.source} drives", "commanded", width)
    if model.message_alarm:
        picture.text(0, 4, model.message, "alarm", width)
    return picture
