"""A path on paper: the curve, its speed, the active limits, and how a robot follows it."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from pivrex.errors import ExportError
from pivrex.export.paper import Page, save_pages
from pivrex.export.path import floor_rows, floor_scene
from pivrex.path import Path as DrivenPath
from pivrex.path.plan import Plan, plan_of, troubles
from pivrex.rig import Field, Rig
from pivrex.routine.trial import tried
from pivrex.scene.chart import Series, chart, span_of
from pivrex.scene.robot import add_outline, add_robot

__all__ = ["write_following", "write_plan"]

LOOKS = ("commanded", "measured", "target", "other", "ghost", "alarm")
"""Roles for what holds a path: as many as there are, then again."""

OUTLINES = 14
SHORT_M = 0.02
LONGEST_S = 180.0
"""A longer drive is not simulated for a drawing: its errors over time could not be read any more."""

FIELD_W, CHART_W, CHART_H = 96, 84, 22


def _checked(path: DrivenPath, rig: Rig, field: Field, name: str) -> Plan:
    plan = plan_of(path, rig)
    hard = [what for kept, what in troubles(plan, rig, field) if kept]
    if hard:
        raise ExportError(f"the path {name} {hard[0]}")
    return plan


def write_plan(path: DrivenPath, name: str, rig: Rig, field: Field, file: Path) -> None:
    """Draw a path on the floor with the robot's outline along it, and its speed over its length, by what holds it.

    Raises
    ------
    ExportError
        If the robot cannot drive it.
    SaveError
    """
    plan = _checked(path, rig, field, name)
    curve, law = plan.curve, plan.law
    floor = floor_scene(field)
    for s in np.linspace(0, plan.length_m, OUTLINES):
        add_outline(
            floor, rig, plan.poses[int(np.searchsorted(curve.s, s).clip(0, len(curve.s) - 1))].tolist(), "old trail"
        )
    top = float(law.speed.max()) * 1.35
    most = np.sqrt(np.minimum(plan.bounds.caps.min(axis=0), top * top))
    held: dict[str, str] = {}
    series = [Series("limit by speed, turn and bend", most, "ghost", 0.9)]
    for from_m, to_m, what in plan.held_by():
        if to_m - from_m < SHORT_M:
            continue
        new = what not in held
        named = held.setdefault(what, LOOKS[len(held) % len(LOOKS)])
        inside = (curve.s >= from_m) & (curve.s <= to_m)
        floor.line(np.stack((curve.x[inside], curve.y[inside]), axis=1), named, 0.7)
        series.append(Series(what if new else "", np.where(inside, law.speed, np.nan), named))
    floor.dots([(p.x_m, p.y_m) for p in path.points], "rest", 0.5)
    rows = floor_rows(field, FIELD_W)
    high = max(rows, CHART_H)
    page = Page(FIELD_W + CHART_W + 4, high + 8)
    page.text(4, 2, f"{name}, for {rig.name}, on the {field.name}", "title", 1.25)
    page.text(4, 3.5, f"{plan.length_m:.2f} m in {plan.time_s:.2f} s, coloured by its limit", "dim")
    page.scene(floor, 2, 5, FIELD_W, rows)
    words = [one for one in series if one.name]
    scene = chart("", curve.s, [Series("", one.values, one.role, one.dash) for one in series], (0.0, top), ("speed in m/s", "m"),
                  (CHART_W, high - len(words)))  # fmt: skip
    page.scene(scene, FIELD_W, 5, CHART_W, high - len(words))
    for k, one in enumerate(words):
        page.text(FIELD_W + 9, 5.5 + high - len(words) + k, f"━ {one.name}", one.role)
    save_pages([page], file)


def write_following(path: DrivenPath, name: str, rig: Rig, field: Field, seed: int, file: Path) -> None:
    """Draw how the simulated robot follows a path: where it goes, its three errors over time, what planned motion and corrections gave;
    next to it the same without corrections.

    Raises
    ------
    ExportError
        If the robot cannot drive it.
    SaveError
    """
    plan = _checked(path, rig, field, name)
    if plan.time_s > LONGEST_S:
        raise ExportError(
            f"the path {name} takes {plan.time_s:.0f} s to drive; following is drawn for at most {LONGEST_S:.0f} s: draw a part of it"
        )
    own, bare = (tried(path, rig, field, (True, back), seed, plan=plan) for back in (True, False))
    floor = floor_scene(field)
    floor.line(np.stack((plan.curve.x, plan.curve.y), axis=1), "commanded", 0.5)
    floor.line(bare.truth[:, :2], "ghost", 0.35)
    floor.line(own.estimated[:, :2], "target", 0.3, 0.9)
    floor.line(own.truth[:, :2], "measured", 0.45)
    add_robot(floor, rig, own.truth[-1].tolist())
    off = float(np.hypot(*(own.truth[-1, :2] - plan.poses[-1, :2]))) * 100
    rows = floor_rows(field, FIELD_W)
    page = Page(FIELD_W + CHART_W + 4, max(rows + 3, 3 * CHART_H) + 7)
    page.text(4, 2, f"{rig.name} follows {name} (seed {seed}): it ends {off:.1f} cm off", "title", 1.25)
    page.scene(floor, 2, 4, FIELD_W, rows)
    column = 4
    for said, named in (
        ("planned", "commanded"),
        ("driven without corrections", "ghost"),
        ("estimated", "target"),
        ("driven", "measured"),
    ):
        page.text(column, rows + 5, f"━ {said}", named)
        column += len(said) + 4
    t = own.t - own.t[0]

    def without(k: int, scale: float) -> np.ndarray:
        return np.interp(t, bare.t - bare.t[0], bare.errors[:, k] * scale, right=np.nan)

    largest = float(np.abs(own.errors[:, :2]).max()) * 100
    charts: tuple[tuple[str, list[Series], tuple[float, float] | None, str], ...] = (
        ("error", [
            Series("along, no corrections", without(0, 100.0), "command fill", 0.5),
            Series("cross-track, no corrections", without(1, 100.0), "trail", 0.5),
            Series("along-track", own.errors[:, 0] * 100, "commanded"), Series("cross-track", own.errors[:, 1] * 100, "measured"),
        ], (-3 * largest - 1, 3 * largest + 1), "cm"),
        ("error", [Series("heading, no corrections", without(2, np.degrees(1)), "ghost", 0.5),
                   Series("heading", np.degrees(own.errors[:, 2]), "target")], None, "deg"),
        ("commanded", [Series("added turn, rad/s", own.back[:, 2], "target"), Series("added forward, m/s", own.back[:, 0], "measured"),
                   Series("planned forward, m/s", own.planned[:, 0], "commanded")], None, ""),
    )  # fmt: skip
    for k, (title, series, span, unit) in enumerate(charts):
        scene = chart(title, t, series, span or span_of(series, 1.0), (unit, "s"), (CHART_W, CHART_H))
        page.scene(scene, FIELD_W, 4 + k * CHART_H, CHART_W, CHART_H)
    save_pages([page], file)
