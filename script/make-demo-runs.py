#!/usr/bin/env python3
"""Keeps a few runs in a workspace, made from the demo's recorded driver and routine: for pictures of what is kept.

script/make-demo-runs.py WORKSPACE
"""

from __future__ import annotations

import sys
from datetime import datetime, timedelta
from pathlib import Path

import numpy as np

from pivrex.export.report import pages_of
from pivrex.formats.recording import Recording
from pivrex.line import Line
from pivrex.rig import open_folder, read_rig, read_text
from pivrex.rig.read import rig_text
from pivrex.rig.rig import Rig
from pivrex.routine import play
from pivrex.routine.files import program_of
from pivrex.runs.comparing import compare
from pivrex.runs.facts import Facts
from pivrex.runs.run import Run
from pivrex.runs.ticks import play_through
from pivrex.runs.writing import RunWriter

BEGAN = datetime(2030, 5, 4, 14, 2).astimezone()
DRIVEN = (("35 %", ""), ("35 %", ""), ("70 %", "gentler near the centre"))


def keep(
    folder: Path,
    facts: Facts,
    line: Line,
    text: str,
    floor: object,
    rows: np.ndarray,
    routine: tuple[str, str] = ("", ""),
) -> Run:
    """Keep rows as the program does."""
    writer = RunWriter(folder, facts, line, text, floor)  # type: ignore[arg-type]
    if routine[0]:
        writer.routine(*routine)
    for at in range(0, len(rows), 60):
        writer.add(rows[at : at + 60])
    writer.close()
    return Run(folder)


def main(place: Path) -> None:
    home, path = open_folder(place), place / "rigs" / "plover.toml"
    text, field = rig_text(path), home.settings.field
    when = BEGAN
    made: list[Run] = []
    program = program_of(place / "routines" / "greenhouse-plover.txt", read_rig(path))
    for seed in (1, 2, 3):
        rows = play(program, read_rig(path), field, home.settings.match.alone_s, seed).rows
        when += timedelta(minutes=3)
        facts = Facts("Plover", "plover", when, 60.0, "a period alone", drivers=("greenhouse-plover",))
        made.append(
            keep(
                place / "runs" / f"{when:%Y%m%d-%H%M%S}-plover",
                facts,
                Line(read_rig(path)),
                text,
                field,
                rows,
                (program.name, program.text),
            )
        )
    for curve, note in DRIVEN:
        said = text.replace('curve = "35 %"', f'curve = "{curve}"')
        rig = read_text(said, path, Rig)
        when += timedelta(minutes=4)
        rows = np.array(
            list(play_through(rig, Recording(place / "inputs" / "watering.csv"), field, True, own_body=True))
        )
        facts = Facts("Plover", "plover", when, 60.0, "live", drivers=("recording watering",), note=note)
        made.append(keep(place / "runs" / f"{when:%Y%m%d-%H%M%S}-plover", facts, Line(rig), said, field, rows))
    if len(sys.argv) > 2:
        _picture(made[-2], made[-1], Path(sys.argv[2]))


def _picture(one: Run, other: Run, path: Path) -> None:
    """The pages of a report side by side, as a picture."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.image import imsave

    sides = []
    for page in pages_of(one, compare(one, other)):
        figure = page.figure()
        figure.set_dpi(76)
        canvas = FigureCanvasAgg(figure)
        canvas.draw()
        sides.append(np.asarray(canvas.buffer_rgba()))
    imsave(path, np.concatenate(sides, axis=1))


if __name__ == "__main__":
    if len(sys.argv) < 2:
        sys.exit("usage: script/make-demo-runs.py WORKSPACE [REPORT.png]")
    main(Path(sys.argv[1]))
