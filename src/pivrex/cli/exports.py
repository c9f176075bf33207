"""Commands that export drawings and tables for the notebook."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from pivrex.cli.options import Output, PathName, Recorded, RigName, RigOfAll, RigOfRoutine, RoutineName, seed_option
from pivrex.errors import PivrexError

__all__ = [
    "export_chassis",
    "export_curve",
    "export_envelope",
    "export_following",
    "export_patches",
    "export_path",
    "export_plan",
    "export_response",
    "export_routine",
    "export_ticks",
    "export_wiring",
]


def export_curve(
    rig: RigName,
    output: Output,
    function: Annotated[str, typer.Option("--function", "-f", help="Only this function.")] = "",
) -> None:
    """The response curves: the command over the stick."""
    from pivrex.export.curve import write_curve
    from pivrex.rig import find_rig, read_rig

    _each(output, lambda file: write_curve(read_rig(find_rig(rig, Path())[0]), file, function))


def export_path(rig: RigName, recording: Recorded, output: Output) -> None:
    """The path that a recording drives, or that a table of positions holds, on the field."""
    from pivrex.export.path import write_path
    from pivrex.rig import find_rig, read_rig

    path, folder = find_rig(rig, Path())
    _each(output, lambda file: write_path(read_rig(path).must_drive(), folder.settings.field, recording, file))


def export_ticks(rig: RigName, recording: Recorded, output: Output) -> None:
    """The table of all ticks that a recording makes, as CSV."""
    from pivrex.export.table import write_ticks
    from pivrex.rig import find_rig, read_rig

    path, folder = find_rig(rig, Path())
    field = folder.settings.field if (folder.path / "workspace.toml").exists() else None
    _each(output, lambda file: write_ticks(read_rig(path), recording, field, file, True), (".csv",))


def export_plan(path: PathName, output: Output, rig: RigOfAll = "") -> None:
    """A path on the floor, its speed over its length, and which limit holds it where."""
    from pivrex.cli.paths import planned
    from pivrex.export.plan import write_plan

    plan, read, field, source = planned(path, rig)
    _each(output, lambda file: write_plan(plan.path, source.stem, read, field, file))


def export_following(
    path: PathName,
    output: Output,
    rig: RigOfAll = "",
    seed: Annotated[int, seed_option("The seed of how the simulated robot differs from its rig.")] = 1,
) -> None:
    """How the simulated robot follows a path: where it goes, its errors over time, and the same without corrections."""
    from pivrex.cli.paths import planned
    from pivrex.export.plan import write_following

    plan, read, field, source = planned(path, rig)
    _each(output, lambda file: write_following(plan.path, source.stem, read, field, seed, file))


def export_patches(rig: RigName, output: Output) -> None:
    """What every control does: source, channel, action."""
    from pivrex.export.patches import write_patches
    from pivrex.rig import find_rig, read_rig

    _each(output, lambda file: write_patches(read_rig(find_rig(rig, Path())[0]), file), (".csv", ".svg", ".pdf"))


def export_wiring(rig: RigName, output: Output) -> None:
    """The wiring: port, pin, and what it drives."""
    from pivrex.export.wiring import write_wiring
    from pivrex.rig import find_rig, read_rig

    _each(output, lambda file: write_wiring(read_rig(find_rig(rig, Path())[0]), file), (".csv", ".svg", ".pdf"))


def export_chassis(rig: RigName, output: Output) -> None:
    """The robot from above, to scale, with the equation of every wheel."""
    from pivrex.export.chassis import write_chassis
    from pivrex.rig import find_rig, read_rig

    _each(output, lambda file: write_chassis(read_rig(find_rig(rig, Path())[0]).must_drive(), file))


def export_envelope(rig: RigName, output: Output) -> None:
    """The speed envelope: how fast it goes in every direction, and while it turns."""
    from pivrex.export.envelope import write_envelope
    from pivrex.rig import find_rig, read_rig

    _each(output, lambda file: write_envelope(read_rig(find_rig(rig, Path())[0]).must_drive(), file))


def export_response(
    rig: RigName, output: Output, loop: Annotated[str, typer.Option(help="heading, wheel or steering.")] = "heading"
) -> None:
    """The response of a loop to a step and a push, with the rig's gains and with P alone."""
    from pivrex.export.response import write_response
    from pivrex.rig import find_rig, read_rig

    _each(output, lambda file: write_response(read_rig(find_rig(rig, Path())[0]).must_drive(), file, loop))


def export_routine(routine: RoutineName, output: Output, rig: RigOfRoutine = "") -> None:
    """A routine's commanded and reached path on the field, and its timeline."""
    from pivrex.cli.rehearsals import found_routine
    from pivrex.export.routine import write_routine
    from pivrex.rig import read_rig
    from pivrex.routine.files import field_of, program_of

    path, rig_path, folder = found_routine(routine, rig)
    read = read_rig(rig_path)
    program, alone_s = program_of(path, read), folder.settings.match.alone_s
    field = field_of(program, folder) or folder.settings.field
    _each(output, lambda file: write_routine(program, read, field, alone_s, file))


def _each(files: list[Path], write: Any, allowed: tuple[str, ...] = (".svg", ".pdf")) -> None:
    for file in files:
        if file.suffix.lower() not in allowed and not (".csv" in allowed and str(file) == "-"):
            raise PivrexError(
                f"{file}: this is written as {', '.join(allowed)}, not as {file.suffix or 'a file without suffix'}"
            )
    for file in files:
        write(file)
        if str(file) != "-":
            print(file, file=sys.stderr)
