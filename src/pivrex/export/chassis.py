"""The robot from above on paper, to scale, with the equation of every wheel."""

from __future__ import annotations

from math import cos, degrees, pi, sin
from pathlib import Path

import numpy as np

from pivrex.export.sheet import COMMANDED, GHOST, MEASURED, TARGET, new_sheet, save_sheet
from pivrex.line.equations import equation
from pivrex.line.questions.figures import wheel_figures
from pivrex.rig import Rig
from pivrex.rig.chassis import Wheel

__all__ = ["write_chassis"]

WIDE = 0.7
"""A wheel is drawn this many radii wide."""


def write_chassis(rig: Rig, path: Path) -> None:
    """Draw body, wheels, rollers, casters, mass centre and front, lengths in mm; ``path`` is .svg or .pdf.

    Raises
    ------
    SaveError
    """
    chassis = rig.chassis
    extent = max(
        chassis.length_m,
        chassis.width_m,
        *(2.2 * (abs(v) + w.radius_m) for w in chassis.wheels for v in (w.x_m, w.y_m)),
    )
    figure, (sheet,) = new_sheet(6.4, 7.2 + 0.2 * len(chassis.wheels))
    length, width = chassis.length_m * 1e3, chassis.width_m * 1e3
    # x of the robot goes up, y to the left, as one stands behind it
    sheet.fill(
        *zip(*[(-width / 2, -length / 2), (width / 2, -length / 2), (width / 2, length / 2), (-width / 2, length / 2)], strict=True),
        facecolor="#f3f3ec", edgecolor="#4c5146", linewidth=1.2,
    )  # fmt: skip
    sheet.annotate(
        "front", (0, length / 2 + 0.10 * extent * 1e3), (0, length / 2 - 0.06 * extent * 1e3), ha="center", va="top",
        color=COMMANDED, arrowprops={"arrowstyle": "->", "color": COMMANDED, "linewidth": 1.4},
    )  # fmt: skip
    for wheel in chassis.wheels:
        _draw_wheel(sheet, wheel)
    for caster in chassis.casters:
        sheet.plot(-caster.y_m * 1e3, caster.x_m * 1e3, "o", fillstyle="none", color="#4c5146", markersize=9)
    centre = chassis.mass_centre
    sheet.plot(-centre.y_m * 1e3, centre.x_m * 1e3, "P", color=TARGET, markersize=8, label="mass centre")
    sheet.plot(0, 0, "+", color="#4c5146", markersize=12, label="centre")
    for point in rig.plane.points:
        sheet.plot(-point.y_m * 1e3, point.x_m * 1e3, "x", color=GHOST, markersize=7)
        sheet.annotate(point.name, (-point.y_m * 1e3, point.x_m * 1e3), (4, 4), textcoords="offset points", fontsize=8)
    words = [f"{w.name} = {equation(chassis, i)}" for i, w in enumerate(chassis.wheels)]
    counts = [f"{f.counts_per_metre:.0f} counts/m" if f.counts_per_metre else "" for f in wheel_figures(rig)]
    sheet.set_xlabel(
        "right of the centre / mm\n\nin m/s, turn in rad/s:\n"
        + "\n".join(f"{a}    {b}" for a, b in zip(words, counts, strict=True))
    )
    sheet.set_ylabel("forward of the centre / mm")
    sheet.set_aspect("equal")
    sheet.set_xlim(-0.62e3 * extent, 0.62e3 * extent)
    sheet.set_ylim(-0.62e3 * extent, 0.66e3 * extent)
    sheet.set_title(f"{rig.name}: {rig.about or chassis.shape}", fontsize=10)
    sheet.legend(loc="lower right", fontsize=8, frameon=False)
    save_sheet(figure, path)


def _draw_wheel(sheet: object, wheel: Wheel) -> None:
    a = wheel.drive_rad
    r, half = wheel.radius_m * 1e3, wheel.radius_m * 1e3 * WIDE / 2
    x, y = wheel.x_m * 1e3, wheel.y_m * 1e3

    def at(along: float, aside: float) -> tuple[float, float]:
        return -(y + along * sin(a) + aside * cos(a)), x + along * cos(a) - aside * sin(a)

    corners = [at(r, half), at(r, -half), at(-r, -half), at(-r, half)]
    sheet.fill(*zip(*corners, strict=True), facecolor="#d8dccb", edgecolor="#30342c", linewidth=1.0)  # type: ignore[attr-defined]
    if wheel.rollers_rad is not None:
        for along in np.linspace(-0.75 * r, 0.75 * r, 5):
            # where it touches the ground; an omni wheel's rollers lie along its drive direction
            dx, dy = cos(wheel.rollers_rad), sin(wheel.rollers_rad)
            reach = half * 0.8
            ends = [at(along - dx * reach, -dy * reach), at(along + dx * reach, dy * reach)]
            sheet.plot(*zip(*ends, strict=True), color=MEASURED, linewidth=1.0)  # type: ignore[attr-defined]
    if wheel.steered:
        ring = [at(1.25 * r * cos(t), 1.25 * r * sin(t)) for t in np.linspace(0, 2 * pi, 60)]
        sheet.plot(*zip(*ring, strict=True), color=TARGET, linewidth=0.9, linestyle="--")  # type: ignore[attr-defined]
    sheet.plot(*zip(at(0, 0), at(r * 1.5, 0), strict=True), color=COMMANDED, linewidth=1.3)  # type: ignore[attr-defined]
    rollers = "" if not wheel.rollers_rad else f", rollers {degrees(wheel.rollers_rad):+.0f}°"
    sheet.annotate(  # type: ignore[attr-defined]
        f"{wheel.name}\n{wheel.kind}{rollers}", at(0, 0), (0, -r * 0.9 - 16), textcoords="offset points",
        ha="center", va="top", fontsize=7, bbox={"facecolor": "white", "edgecolor": "none", "alpha": 0.8, "pad": 1},
    )  # fmt: skip
