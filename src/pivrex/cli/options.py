"""Arguments that several commands share, and functions that use them."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

import typer

from pivrex.cli import completing
from pivrex.errors import RigError, UnitError

__all__ = [
    "LARGEST",
    "LARGEST_SEED",
    "Json",
    "Output",
    "PathName",
    "Recorded",
    "RigName",
    "RigOfAll",
    "RigOfRoutine",
    "RoutineName",
    "here_or_demo",
    "print_json",
    "read_number",
    "real",
    "seed_option",
    "whole",
]

LARGEST = 1e6
"""No number on a command line is larger than this, but a seed."""

LARGEST_SEED = 2**63 - 1
"""Seeds are counted on from there for as many drives as there may be."""


def real(help_: str, *names: str, least: float = -LARGEST, most: float = LARGEST) -> Any:
    """Return an option for a finite number within bounds; any other number is refused with what it may be."""
    return _option(float, help_, names, least, most)


def whole(help_: str, *names: str, least: int = 0, most: int = int(LARGEST)) -> Any:
    """Return an option for a whole number within bounds."""
    return _option(int, help_, names, least, most)


def seed_option(help_: str) -> Any:
    """Return an option for a seed."""
    return _option(int, help_, (), 0, LARGEST_SEED)


def _option(kind: type[int] | type[float], help_: str, names: tuple[str, ...], least: float, most: float) -> Any:
    def read(text: object) -> float:
        if isinstance(text, int | float):  # the default
            return kind(text)
        try:
            return read_number(str(text), kind, least, most)
        except UnitError as problem:
            raise typer.BadParameter(str(problem)) from None

    return typer.Option(*names, help=help_, parser=read, metavar="WHOLE" if kind is int else "NUMBER")


def read_number(text: str, kind: type[int] | type[float], least: float, most: float) -> float:
    """Read a number that a person wrote on a command line.

    Raises
    ------
    UnitError
        If it is none, not finite, or out of its bounds, with what it may be.
    """
    what = "a whole number" if kind is int else "a number"
    try:
        value = kind(text)
    except (ValueError, OverflowError):
        raise UnitError(f'is "{text}", but should be {what}') from None
    if not least <= value <= most:
        raise UnitError(f'is "{text}", but should be {what} from {least:,.19g} to {most:,.19g}')
    return value


Json = Annotated[bool, typer.Option("--json", help="Print one JSON object and nothing else.")]
RigName = Annotated[
    str,
    typer.Argument(metavar="RIG", help="A rig of this workspace by name, or a path.", autocompletion=completing.rigs),
]
RigOfAll = Annotated[
    str, typer.Option("--rig", help="The rig; the first of the workspace if left out.", autocompletion=completing.rigs)
]
RoutineName = Annotated[
    str,
    typer.Argument(
        metavar="ROUTINE", help="A routine of this workspace by name, or a path.", autocompletion=completing.routines
    ),
]
RigOfRoutine = Annotated[
    str, typer.Option(help="The rig; the routine's own if left out.", autocompletion=completing.rigs)
]
PathName = Annotated[
    str,
    typer.Argument(
        metavar="PATH", help="A path of this workspace by name, or a file.", autocompletion=completing.paths
    ),
]
Recorded = Annotated[
    Path,
    typer.Argument(
        metavar="INPUT.csv",
        help="Recorded raw readings: t in seconds, then the channels.",
        autocompletion=completing.recordings,
    ),
]
Output = Annotated[
    list[Path],
    typer.Option("--output", "-o", help="The file to write; its suffix says the format: .svg, .pdf or .csv."),
]


def here_or_demo(rig: str) -> Path:
    """Find a rig here, or else among the demo's: its simulated robots work in any folder."""
    from pivrex.rig import find_rig

    try:
        return find_rig(rig, Path())[0]
    except RigError:
        demo = Path(__file__).parent.parent / "demo"
        if not any(p.stem == rig.lower() for p in (demo / "rigs").glob("*.toml")):
            raise
        return find_rig(rig, demo)[0]


def print_json(answer: object, **renamed: str) -> None:
    """Print one JSON object. ``renamed`` are keys as they were called before, with their new names: for one version they stand there
    too, and the object says so under "renamed".
    """
    if renamed and isinstance(answer, dict):
        answer = {**_with_old_names(answer, renamed), "renamed": renamed}
    print(json.dumps(answer, indent=2, allow_nan=False))


def _with_old_names(value: Any, renamed: dict[str, str]) -> Any:
    if isinstance(value, list):
        return [_with_old_names(one, renamed) for one in value]
    if not isinstance(value, dict):
        return value
    found = {key: _with_old_names(one, renamed) for key, one in value.items()}
    return found | {old: found[new] for old, new in renamed.items() if new in found and old not in found}
