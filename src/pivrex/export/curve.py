"""Response curves on paper."""

from __future__ import annotations

from math import degrees
from pathlib import Path

import numpy as np

from pivrex.errors import ExportError
from pivrex.export.sheet import COMMANDED, GHOST, TARGET, new_sheet, save_sheet
from pivrex.line import Line
from pivrex.line.curve import describe_curve
from pivrex.line.questions.response import respond
from pivrex.rig import Rig
from pivrex.rig.channels import is_one_sided

__all__ = ["write_curve"]


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
    figure, axes = new_sheet(4.2 * len(functions), 3.6, len(functions))
    level = rig.speed_levels.levels[rig.speed_levels.start_index]
    full = line.law.settings.full[rig.speed_levels.start_index]
    for name, sheet in zip(functions, axes, strict=True):
        i = line.functions.index(name)
        one_sided = is_one_sided(rig.channel(rig.law.axes()[name]))
        x = np.linspace(0.0 if one_sided else -1.0, 1.0, 801)
        fractions = np.zeros((len(x), len(line.functions)))
        fractions[:, i] = x
        y = respond(line, fractions)[:, i]
        shaping = rig.shaping.of(name)
        turning = name == "turn"
        per_one, unit = (degrees(full[2]), "deg/s") if turning else (full[1 if name == "sideways" else 0], "m/s")
        sheet.plot(x * 100, x * per_one, color=GHOST, linewidth=0.9, linestyle=":", label="as it is")
        sheet.plot(x * 100, y * per_one, color=COMMANDED, linewidth=1.8, label="asked for")
        for sign in (1,) if one_sided else (-1, 1):
            sheet.axvline(sign * shaping.edge * 100, color=TARGET, linewidth=0.9, linestyle="--")
        sheet.plot(
            [], [], color=TARGET, linewidth=0.9, linestyle="--", label=f"dead band edge {shaping.edge * 100:g} %"
        )
        positive = "" if one_sided else " (left +)" if turning else " (away +)"
        sheet.set_xlabel(f"{name}: stick in %{positive}")
        sheet.set_ylabel(f"asked for in {unit}")
        sheet.set_title(f"{name}: {describe_curve(shaping)}, scale {shaping.scale * 100:g} %", fontsize=9)
        sheet.legend(fontsize=8, frameon=False, loc="upper left")
    figure.suptitle(
        f"{rig.name}: response of the sticks, law {rig.law.kind}, level {level.name}, "
        f"band by {rig.shaping.measure}, {rig.shaping.onset}",
        fontsize=10,
    )
    save_sheet(figure, path)
