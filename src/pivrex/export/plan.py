"""A path on paper: where it runs, how fast, what holds it where, and how a robot follows it."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from pivrex.errors import ExportError
from pivrex.export.path import draw_floor, draw_outline
from pivrex.export.sheet import COMMANDED, GHOST, MEASURED, TARGET, THING, new_sheet, save_sheet
from pivrex.path import Path as DrivenPath
from pivrex.path.plan import Plan, plan_of, troubles
from pivrex.rig import Field, Rig
from pivrex.routine.trial import tried

__all__ = ["write_following", "write_plan"]

LOOKS = (COMMANDED, MEASURED, TARGET, THING, GHOST)
OUTLINES = 14
SHORT_M = 0.02
LONGEST_S = 180.0
"""A longer drive is not simulated for a drawing: its errors over time could not be read any more."""


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
    figure, (floor, speed) = new_sheet(13.0, 5.2, 2)
    draw_floor(floor, field)
    for s in np.linspace(0, plan.length_m, OUTLINES):
        draw_outline(floor, rig, plan.poses[int(np.searchsorted(curve.s, s).clip(0, len(curve.s) - 1))], GHOST)
    floor.plot([p.x_m for p in path.points], [p.y_m for p in path.points], "o", color=TARGET, markersize=4)
    bounds = np.sqrt(np.minimum(plan.bounds.caps.min(axis=0), 25.0))
    speed.plot(curve.s, bounds, color=GHOST, linewidth=0.9, linestyle="--", label="most by speed, turn and bend")
    speed.plot(curve.s, law.speed, color=GHOST, linewidth=0.8)
    shown: dict[str, str] = {}
    for from_m, to_m, what in plan.held_by():
        if to_m - from_m < SHORT_M:
            continue
        new = what not in shown
        colour = shown.setdefault(what, LOOKS[len(shown) % len(LOOKS)])
        inside = (curve.s >= from_m) & (curve.s <= to_m)
        floor.plot(curve.x[inside], curve.y[inside], color=colour, linewidth=2.4)
        speed.plot(curve.s[inside], law.speed[inside], color=colour, linewidth=2.4, label=what if new else None)
    speed.set_ylim(0, float(law.speed.max()) * 1.35)
    speed.set_xlabel("way in m")
    speed.set_ylabel("speed in m/s")
    speed.legend(fontsize=8, frameon=False, ncols=2, loc="upper center")
    speed.set_title(f"{plan.length_m:.2f} m in {plan.time_s:.2f} s, coloured by what holds it", fontsize=10)
    floor.set_title(f"{name}, for {rig.name}, on the {field.name}", fontsize=10)
    save_sheet(figure, file)


def write_following(path: DrivenPath, name: str, rig: Rig, field: Field, seed: int, file: Path) -> None:
    """Draw how the stand-in follows a path: where it goes, its three errors over time, what planned motion and corrections gave;
    beside it the same without corrections.

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
    figure, sheets = new_sheet(13.0, 9.0, 2)
    for sheet in sheets:
        sheet.remove()
    grid = figure.add_gridspec(3, 2)
    floor = figure.add_subplot(grid[:, 0])
    draw_floor(floor, field)
    floor.plot(plan.curve.x, plan.curve.y, color=COMMANDED, linewidth=1.6, label="planned")
    floor.plot(bare.truth[:, 0], bare.truth[:, 1], color=GHOST, linewidth=1.2, label="driven without corrections")
    floor.plot(own.believed[:, 0], own.believed[:, 1], color=TARGET, linewidth=1.0, linestyle="--", label="believed")
    floor.plot(own.truth[:, 0], own.truth[:, 1], color=MEASURED, linewidth=1.4, label="driven")
    draw_outline(floor, rig, own.truth[-1], MEASURED)
    floor.legend(fontsize=8, frameon=False, loc="upper center", bbox_to_anchor=(0.5, -0.08), ncols=4)
    off = float(np.hypot(*(own.truth[-1, :2] - plan.poses[-1, :2]))) * 100
    floor.set_title(f"{rig.name} follows {name} (seed {seed}): it ends {off:.1f} cm off", fontsize=10)
    ways, turns, given = (figure.add_subplot(grid[k, 1]) for k in range(3))
    t0 = own.t[0]
    for k, (what, colour) in enumerate((("along", COMMANDED), ("across", MEASURED))):
        ways.plot(own.t - t0, own.errors[:, k] * 100, color=colour, label=what)
        ways.plot(bare.t - bare.t[0], bare.errors[:, k] * 100, color=colour, linewidth=0.8, linestyle=":",
                  label=f"{what}, no corrections")  # fmt: skip
    turns.plot(own.t - t0, np.degrees(own.errors[:, 2]), color=TARGET, label="heading")
    turns.plot(bare.t - bare.t[0], np.degrees(bare.errors[:, 2]), color=TARGET, linewidth=0.8, linestyle=":",
               label="heading, no corrections")  # fmt: skip
    given.plot(own.t - t0, own.planned[:, 0], color=COMMANDED, label="planned forward, m/s")
    given.plot(own.t - t0, own.back[:, 0], color=MEASURED, label="added forward, m/s")
    given.plot(own.t - t0, own.back[:, 2], color=TARGET, label="added turn, rad/s")
    largest = float(np.abs(own.errors[:, :2]).max()) * 100
    ways.set_ylim(-3 * largest - 1, 3 * largest + 1)
    ways.set_ylabel("error in cm")
    turns.set_ylabel("error in deg")
    given.set_ylabel("given")
    given.set_xlabel("time in s")
    for sheet in (ways, turns, given):
        sheet.grid(True, color="#d9d9d9", linewidth=0.6)
        sheet.legend(fontsize=8, frameon=False, ncols=2)
    save_sheet(figure, file)
