"""The robot from above on paper, to scale, with the equation of every wheel."""

from __future__ import annotations

from math import degrees, pi
from pathlib import Path

from pivrex.export.paper import Page, save_pages
from pivrex.line.equations import equation
from pivrex.line.questions.figures import wheel_figures
from pivrex.rig import Rig
from pivrex.scene.robot import add_robot, reach_of
from pivrex.scene.scene import Box, Margins, Scene

__all__ = ["write_chassis"]

COLUMNS, ROWS = 96, 44
"""Letters and lines of the drawing."""


def write_chassis(rig: Rig, path: Path) -> None:
    """Draw body, wheels, rollers, casters, mass centre and front, with a bar for the scale; ``path`` is .svg or .pdf.

    Raises
    ------
    SaveError
    """
    chassis = rig.chassis
    ahead, across = reach_of(chassis)
    scene = Scene(Box(-across * 1.3, -ahead * 1.25, across * 1.3, ahead * 1.35), margins=Margins(2, 1, 2, 1))
    add_robot(scene, rig, (0.0, 0.0, pi / 2), detail=True)
    scene.label((0.0, chassis.length_m * 0.61), "front", "commanded", 2.0, "above")
    centre = chassis.mass_centre
    if max(abs(centre.x_m), abs(centre.y_m)) > 0.005:
        scene.sign((0.0, 0.0), "+", "rest")
    scene.sign((-centre.y_m, centre.x_m), "⊕", "target")
    scene.label((-centre.y_m, centre.x_m), "mass centre", "target", 1.0, "below above right")
    for point in rig.plane.points:
        scene.sign((-point.y_m, point.x_m), "×", "dim")
        scene.label((-point.y_m, point.x_m), point.name, "dim", 1.0, "right left")
    for wheel in chassis.wheels:
        rollers = "" if not wheel.rollers_rad else f", rollers {degrees(wheel.rollers_rad):+.0f} deg"
        at = (-wheel.y_m, wheel.x_m - (1.4 if wheel.steered else 1.0) * wheel.radius_m)
        scene.label(at, wheel.name, "title", 3.0, "below")
        scene.label(at, f"{wheel.kind}{rollers}", "dim", 2.0, "below-below")
    page = Page(COLUMNS, ROWS + 8 + len(chassis.wheels))
    page.text(4, 2, f"{rig.name}: {rig.about or chassis.shape}", "title", 1.25)
    placing = page.scene(scene, 2, 3.5, COLUMNS - 4, ROWS)
    size = f"{chassis.length_m * 1000:.0f} × {chassis.width_m * 1000:.0f} mm"
    bar = next(
        (
            b
            for b in (1.0, 0.5, 0.2, 0.1, 0.05, 0.02, 0.01)
            if b <= (placing.columns * placing.letter / placing.across) / 4
        ),
        0.01,
    )
    left, bottom = scene.box.left, scene.box.bottom
    scene.line([(left, bottom), (left + bar, bottom)], "rest", 0.3)
    scene.label((left + bar, bottom), f"{bar * 1000:.0f} mm; body {size}", "rest", 1.0, "right")
    row = ROWS + 4.5
    page.text(4, row, "speeds in m/s, turn in rad/s", "dim")
    for k, figures in enumerate(wheel_figures(rig)):
        counts = f"{figures.counts_per_metre:.0f} counts/m" if figures.counts_per_metre else ""
        page.text(4, row + 1 + k, f"{chassis.wheels[k].name} = {equation(chassis, k)}")
        page.text(COLUMNS - 4 - len(counts), row + 1 + k, counts, "dim")
    save_pages([page], path)
