"""Commands that run a rig: recorded readings, and a practice shakedown."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from pivrex.cli.options import Json, Recorded, RigName, print_json, seed_option

__all__ = ["map_", "shakedown"]


def map_(
    rig: RigName,
    recording: Recorded,
    output: Annotated[
        Path | None, typer.Option("--output", "-o", help="The file to write; standard output if left out or -.")
    ] = None,
    every_tick: Annotated[
        bool, typer.Option("--every-tick", help="A row for every tick, not for every reading.")
    ] = False,
) -> None:
    """Run recorded readings through the line; print a row of every stage's values for each."""
    from pivrex.export.table import write_ticks
    from pivrex.rig import find_rig, read_rig

    path, folder = find_rig(rig, Path())
    field = folder.settings.field if (folder.path / "workspace.toml").exists() else None
    count = write_ticks(read_rig(path), recording, field, output, every_tick)
    if output is not None and str(output) != "-":
        print(f"{output}: {count} rows", file=sys.stderr)


def shakedown(
    rig: RigName,
    fault: Annotated[
        str, typer.Option(help="random, none, or with commas: swap A/B, reverse A, encoder A, gyro.")
    ] = "random",
    seed: Annotated[int, seed_option("The seed of random faults; the same seed gives the same faults.")] = 0,
    by: Annotated[str, typer.Option(help="Who says what was seen: sensors or person.")] = "sensors",
    place: Annotated[str, typer.Option("--on", help="Where the robot stands: floor or up.")] = "floor",
    as_json: Json = False,
) -> None:
    """Practise: give the simulated robot faults, and let the shakedown find and correct every one of them."""
    from pivrex.diagnosis.practice import practise
    from pivrex.rig import find_rig, read_rig
    from pivrex.rig.read import rig_text
    from pivrex.sim.wiring import faulty

    if by not in ("sensors", "person"):
        raise typer.BadParameter("--by is sensors or person")
    if place not in ("floor", "up"):
        raise typer.BadParameter("--on is floor or up")
    path = find_rig(rig, Path())[0]
    read = read_rig(path)
    wiring = faulty(read, fault, seed)
    report = practise(read, rig_text(path), path, wiring, place, by)  # type: ignore[arg-type]
    truth = {port: {"motor": motor, "reversed": sign < 0} for port, (motor, sign) in wiring.plugs.items()}
    if as_json:
        answer = {"rig": read.name, "fault": truth, "gyro_reversed": wiring.gyro < 0}
        answer["encoders_reversed"] = sorted(m for m, s in wiring.encoders.items() if s < 0)
        print_json({**answer, **report.as_json()})
        return
    for said in report.steps:
        print(f"  {said}")
    for change in report.changes:
        print(f"  {change}")
    plural = "" if report.human_answers == 1 else "s"
    print(f"  {report.probes} probes, {report.human_answers} answer{plural} of a person: "
          f"{'corrected' if report.correct else 'not solved'}")  # fmt: skip
