"""Arguments that several commands share, and what they do with them."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated

import typer

from pivrex.cli import completing
from pivrex.errors import RigError

__all__ = [
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
]

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
        metavar="ROUTINE",
        help="A routine of this workspace by name, or a path.",
        autocompletion=completing.routines,
    ),
]
RigOfRoutine = Annotated[
    str, typer.Option(help="The rig; the one that the routine says if left out.", autocompletion=completing.rigs)
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
    list[Path], typer.Option("--output", "-o", help="Where to; the suffix says what: .svg, .pdf or .csv.")
]


def here_or_demo(rig: str) -> Path:
    """Find a rig here, or else among the demo's: its stand-ins work in any folder."""
    from pivrex.rig import find_rig

    try:
        return find_rig(rig, Path())[0]
    except RigError:
        demo = Path(__file__).parent.parent / "demo"
        if not any(p.stem == rig.lower() for p in (demo / "rigs").glob("*.toml")):
            raise
        return find_rig(rig, demo)[0]


def print_json(answer: object) -> None:
    """Print one JSON object."""
    print(json.dumps(answer, indent=2, allow_nan=False))
