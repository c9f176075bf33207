"""`pivrex board`: the program of a robot's own board, and the proof that it is right."""

from __future__ import annotations

from dataclasses import dataclass
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
            "--for", help="avr: all of it, for the chip of the rig's table [board]. c: any board, by ten functions."
        ),
    ] = "avr",
    prove: Annotated[
        bool,
        typer.Option(
            "--prove", help="Run the line as it is printed, here and in an emulated chip, against the line itself."
        ),
    ] = False,
    as_json: Json = False,
) -> int:
    """Write the whole program of the robot's board: pins, timers, encoders, sentences and their rules, from the rig."""
    from pivrex.rig import find_rig, read_rig
    from pivrex.rig.read import rig_text, with_lines

    if target not in ("avr", "c"):
        raise UsageError(f'--for is "{target}", but should be avr or c')
    path, folder = find_rig(rig, Path())
    read = read_rig(path)
    if prove:
        field = folder.settings.field if (folder.path / "workspace.toml").exists() else None
        return _prove(read, recording, field, as_json)
    if recording is not None:
        raise UsageError("a recording is for --prove; -o names the folder")
    from pivrex.board.folder import write_board

    try:
        written = write_board(read, output or Path(f"{path.stem}-board"), target)
    except RigError as problem:
        raise RigError(path, with_lines(rig_text(path), problem.mistakes)) from None
    fit = _fit(written.folder, read.board.chip) if target == "avr" else None
    if as_json:
        print_json({
            "rig": read.name, "hash": written.hash, "for": target, "folder": str(written.folder), "files": written.files,
            "missing": written.missing, "kept": written.kept, "fits": fit.as_json() if fit is not None else None,
        })  # fmt: skip
    else:
        print(f"{written.folder}: {len(written.files)} files, for {read.name}, rig hash {written.hash}")
        if written.kept:
            print("  mine.c stays as it was: it is yours")
        for what in written.missing:
            print(f"  {what}")
        if fit is not None:
            print(f"  {fit.said}")
        said = (
            "make -C {0} builds it"
            if target == "c"
            else "make -C {0} load PORT=/dev/ttyUSB0 LOADER=... puts it onto the board"
        )
        print("  " + said.format(written.folder))
    return 1 if fit is not None and fit.refused else 0


@dataclass(frozen=True)
class _Fit:
    """Whether a program fits into its chip."""

    said: str
    refused: bool
    flash: int = 0
    ram: int = 0

    def as_json(self) -> dict[str, Any]:
        return {"said": self.said, "refused": self.refused, "flash": self.flash, "ram": self.ram}


def _fit(folder: Path, chip_name: str) -> _Fit:
    """Build the program and say what it takes."""
    from pivrex.board.chips import CHIPS
    from pivrex.board.emulated import built_program
    from pivrex.board.on_chip import STACK, sizes_of

    chip = CHIPS[chip_name]
    try:
        flash, ram = sizes_of(built_program(folder))
    except PivrexError as problem:
        missing = "there is no avr-gcc" in str(problem)
        return _Fit(f"{'not built' if missing else 'it does not fit'}: {problem}", not missing)
    said = f"flash {flash:,} of {chip.flash:,} bytes, memory {ram:,} of {chip.ram:,}; the rest is left for the stack"
    if flash > chip.flash or ram + STACK > chip.ram:
        larger = "; the atmega2560 has more" if chip_name != "atmega2560" else ""
        return _Fit(f"it does not fit: {said}, which needs {STACK}{larger}", True, flash, ram)
    return _Fit(said, False, flash, ram)


def _prove(rig: Any, recording: Path | None, field: Any, as_json: bool) -> int:
    import numpy as np

    from pivrex.board.on_chip import run_on_chip
    from pivrex.board.proving import own_ticks, prove, ticks_of
    from pivrex.formats.recording import Recording
    from pivrex.line.line import Line
    from pivrex.runs import as_played, blocks_of_ticks

    if recording is not None:
        line = Line(as_played(rig))
        ticks = ticks_of(line, np.concatenate(list(blocks_of_ticks(rig, Recording(recording), field, True))))
    else:
        line = Line(rig)
        ticks = own_ticks(line)
    proof, floats = prove(line, ticks)
    chip, why = None, ""
    try:
        chip = run_on_chip(line, ticks, floats)
    except PivrexError as problem:
        why = str(problem)
    period_us = line.dt_s * 1e6
    holds = proof.holds and (chip is None or (chip.differ == 0 and chip.us_most < period_us))
    if as_json:
        print_json({
            "rig": rig.name, "holds": holds, **proof.as_json(),
            "chip": {**chip.as_json(), "period_us": period_us} if chip is not None else None, "no_chip": why or None,
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
    if chip is None:
        print(f"  chip     not tried: {why}")
    else:
        same = "as float here" if not chip.differ else f"other outputs in {chip.differ} ticks"
        late = "" if chip.us_most < period_us else f", more than the {period_us:.0f} us of a tick"
        print(f"  {chip.chip}  {same}; a tick takes {chip.us_mean:.0f} us, at most {chip.us_most:.0f} us{late}")
        print(f"    the line alone: flash {chip.flash:,} bytes, memory {chip.ram:,}, stack {chip.stack}")
    return 0 if holds else 1
