"""What a loop answers, on paper: step and knock, of the rig's gains and of P alone, and what each part gave."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from pivrex.errors import ExportError
from pivrex.export.sheet import COMMANDED, GHOST, MEASURED, TARGET, THING, new_sheet, save_sheet
from pivrex.rig import Rig
from pivrex.tuning import LOOPS, Gains, answers_to

__all__ = ["write_response"]


def write_response(rig: Rig, path: Path, loop_name: str = "heading") -> None:
    """Draw the answers of a loop.

    Parameters
    ----------
    rig : Rig
    path : Path
        .svg or .pdf.
    loop_name : str
        heading, wheel or steering.

    Raises
    ------
    ExportError
        If the rig has no such loop.
    SaveError
        If the file cannot be written.
    """
    if loop_name not in LOOPS:
        raise ExportError(f"there is no loop {loop_name!r}; loops are {', '.join(LOOPS)}")
    loop = LOOPS[loop_name]
    tried = loop.of(rig)
    if tried is None:
        raise ExportError(f"{rig.name} has no loop {loop_name}")
    own = loop.gains(tried)
    sets = (own, Gains(own.p, 0.0, 0.0))
    kinds = [k for k in loop.kinds if k in ("step", "push")]
    figure, sheets = new_sheet(4.6 * (len(kinds) + 1), 3.6, len(kinds) + 1)
    parts = None
    for kind, sheet in zip(kinds, sheets, strict=False):
        experiment = loop.experiment(tried, kind)
        a = answers_to(rig, loop, experiment, sets)
        parts = a if parts is None else parts
        sheet.plot(a.t_s, a.target[0] * loop.scale, color=TARGET, linewidth=1.0, linestyle="--", label="target")
        sheet.plot(a.t_s, a.value[1] * loop.scale, color=GHOST, linewidth=1.0, linestyle=":", label="P alone")
        sheet.plot(a.t_s, a.value[0] * loop.scale, color=MEASURED, linewidth=1.8, label="P, I and D")
        f = a.figures
        settled = f"settled in {f.settle_s[0]:.2f} s" if np.isfinite(f.settle_s[0]) else "does not settle"
        sheet.set_title(
            f"{experiment.title}\n{settled}, {f.final[0] * loop.scale:+.2f} {loop.unit} left over", fontsize=9
        )
        sheet.set_xlabel("time in s")
        sheet.set_ylabel(f"{loop.name} in {loop.unit}")
        sheet.legend(fontsize=8, frameon=False)
    assert parts is not None
    looks = {"p": TARGET, "i": THING, "d": GHOST, "speed": MEASURED, "given": COMMANDED}
    for name, values in parts.parts.items():
        sheets[-1].plot(
            parts.t_s, values[0] * loop.gives_scale, color=looks.get(name, GHOST), label=name,
            linewidth=1.8 if name == "given" else 1.0,
        )  # fmt: skip
    sheets[-1].set_title("what each part gave to the first", fontsize=9)
    sheets[-1].set_xlabel("time in s")
    sheets[-1].set_ylabel(f"given in {loop.gives}")
    sheets[-1].legend(fontsize=8, frameon=False)
    body = "real body" if rig.has_real_body else "perfect body"
    figure.suptitle(f"{rig.name}: {loop.name}, P {own.p:g}, I {own.i:g}, D {own.d:g}, {body}", fontsize=10)
    save_sheet(figure, path)
