"""The responses of a loop on paper: step and push, for the rig's gains and for P alone, and the terms of the output."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from pivrex.errors import ExportError
from pivrex.export.paper import Page, save_pages
from pivrex.rig import Rig
from pivrex.scene.chart import Series, chart, span_of
from pivrex.tuning import LOOPS, Gains, step_responses_to

__all__ = ["write_response"]

COLUMNS, ROWS = 70, 24
"""Letters and lines of a chart."""

LOOKS = {"p": "target", "i": "other", "d": "ghost", "speed": "measured", "output": "commanded"}


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
    kinds = [k for k in loop.kinds if k in ("step", "push")]
    page = Page(4 + COLUMNS * (len(kinds) + 1), ROWS + 8)
    body = "realistic physics" if rig.has_realistic_physics else "ideal physics"
    page.text(4, 2, f"{rig.name}: {loop.name}, P {own.p:g}, I {own.i:g}, D {own.d:g}, {body}", "title", 1.25)
    parts = None
    for k, kind in enumerate(kinds):
        experiment = loop.experiment(tried, kind)
        a = step_responses_to(rig, loop, experiment, (own, Gains(own.p, 0.0, 0.0)))
        parts = a if parts is None else parts
        series = [
            Series("target", a.target[0] * loop.scale, "target", 0.9),
            Series("P alone", a.value[1] * loop.scale, "ghost", 0.5),
            Series("P, I and D", a.value[0] * loop.scale, "measured"),
        ]
        scene = chart(
            experiment.title, a.t_s, series, span_of(series, 2.0), (f"{loop.name} in {loop.unit}", "s"), (COLUMNS, ROWS)
        )
        page.scene(scene, 2 + k * COLUMNS, 4, COLUMNS, ROWS)
        f = a.figures
        settled = f"settled in {f.settle_s[0]:.2f} s" if np.isfinite(f.settle_s[0]) else "does not settle"
        page.text(
            10 + k * COLUMNS, ROWS + 5, f"{settled}, {f.final[0] * loop.scale:+.2f} {loop.unit} steady-state error"
        )
    assert parts is not None
    series = [Series(n, v[0] * loop.gives_scale, LOOKS.get(n, "ghost")) for n, v in parts.parts.items()]
    title = "terms of the output"
    scene = chart(title, parts.t_s, series, span_of(series, 1.0), (f"output in {loop.gives}", "s"), (COLUMNS, ROWS))
    page.scene(scene, 2 + len(kinds) * COLUMNS, 4, COLUMNS, ROWS)
    save_pages([page], path)
