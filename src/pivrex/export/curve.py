"""Response curves on paper."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from pivrex.errors import ExportError
from pivrex.export.paper import Page, save_pages
from pivrex.line import Line
from pivrex.line.curve import describe_curve
from pivrex.line.questions.response import respond
from pivrex.rig import Rig
from pivrex.rig.channels import is_one_sided
from pivrex.scene.chart import Series, chart
from pivrex.scene.scene import Scene

__all__ = ["write_curve"]

COLUMNS, ROWS = 64, 26
"""Letters and lines of a curve."""


def write_curve(rig: Rig, path: Path, function: str = "") -> None:
    """Draw what each function of the law asks for against where its stick is.

    Parameters
    ----------
    rig : Rig
    path : Path
        .svg or .pdf.
    function : str
        Only this one; all if empty.

    Raises
    ------
    ExportError
        If the law has no such function.
    SaveError
        If the file cannot be written.
    """
    line = Line(rig)
    if function and function not in line.functions:
        raise ExportError(f"the law {rig.law.kind} has no function {function!r}; it has {', '.join(line.functions)}")
    functions = (function,) if function else line.functions
    level = rig.speed_levels.levels[rig.speed_levels.start_index]
    page = Page(4 + COLUMNS * len(functions), ROWS + 8)
    said = f"law {rig.law.kind}, level {level.name}, band by {rig.shaping.measure}, {rig.shaping.after_dead_band}"
    page.text(4, 2, f"{rig.name}: response of the sticks", "title", 1.25)
    page.text(4, 3.5, said, "dim")
    for k, name in enumerate(functions):
        page.scene(_curve(rig, line, name), 2 + k * COLUMNS, 5, COLUMNS, ROWS)
        shaping = rig.shaping.of(name)
        page.text(10 + k * COLUMNS, 6 + ROWS, f"{describe_curve(shaping)}, scale {shaping.scale * 100:g} %", "dim")
    save_pages([page], path)


def _curve(rig: Rig, line: Line, name: str) -> Scene:
    i = line.functions.index(name)
    one_sided = is_one_sided(rig.channel(rig.law.axes()[name]))
    x = np.linspace(0.0 if one_sided else -1.0, 1.0, 801)
    fractions = np.zeros((len(x), len(line.functions)))
    fractions[:, i] = x
    y = respond(line, fractions)[:, i]
    per_one, unit = line.law.full_of(name, rig.speed_levels.start_index)
    top = float(max(np.abs(y).max(), 1.0) * per_one) * 1.05
    dead_band = 100 * rig.shaping.of(name).dead_band
    series = [Series("as it is", x * per_one, "ghost", 0.9), Series("requested", y * per_one, "commanded")]
    positive = "" if one_sided else ", left +" if name == "turn" else ", away +"
    scene = chart(f"{name}: stick in %{positive}", x * 100, series, (0.0 if one_sided else -top, top),
                  (f"requested, in {unit}", "%"), (COLUMNS, ROWS))  # fmt: skip
    for sign in (1,) if one_sided else (-1, 1):
        scene.line([(sign * dead_band, -top), (sign * dead_band, top)], "target", 0.3, 0.8)
    scene.label(
        (dead_band, -top * 0.8 if not one_sided else top * 0.1), f"dead band {dead_band:g} %", "target", 1.0, "right"
    )
    return scene
