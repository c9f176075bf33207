"""Completion with Tab: rigs, routines, paths and recordings of the present workspace; and the shells' scripts."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Annotated

import typer

__all__ = ["completion", "paths", "recordings", "rigs", "routines", "runs", "take_opening_words"]

PROGRAM, ASKED = "pivrex", "_PIVREX_COMPLETE"

SHELLS = ("bash", "zsh", "fish")


def rigs(incomplete: str) -> list[str]:
    """Return the rigs whose names begin so."""
    return _of("rigs", ".toml", incomplete)


def routines(incomplete: str) -> list[str]:
    """Return the routines whose names begin so."""
    return _of("routines", ".txt", incomplete)


def runs(incomplete: str) -> list[str]:
    """Return the runs whose names begin so."""
    names = [p.name for p in sorted(Path("runs").glob("*")) if p.is_dir()]
    return [n for n in (*names, "last") if n.startswith(incomplete)]


def paths(incomplete: str) -> list[str]:
    """Return the paths whose names begin so."""
    return _of("paths", ".toml", incomplete)


def recordings(incomplete: str) -> list[str]:
    """Return the files of recordings that begin so."""
    found = sorted(Path("inputs").glob("*.csv"))
    return [p.as_posix() for p in found if p.as_posix().startswith(incomplete)] or _files(incomplete, ".csv")


def _of(folder: str, suffix: str, incomplete: str) -> list[str]:
    """Names of a workspace's folder; where none begins so, files."""
    names = [p.stem for p in sorted(Path(folder).glob(f"*{suffix}"))]
    return [n for n in names if n.startswith(incomplete)] or _files(incomplete, suffix)


def _files(incomplete: str, suffix: str) -> list[str]:
    head, slash, _ = incomplete.rpartition("/")
    folder = Path(head + slash) if slash else Path()
    try:
        there = sorted(folder.iterdir())
    except OSError:
        return []
    shown = [f"{head}{slash}{p.name}{'/' if p.is_dir() else ''}" for p in there if p.is_dir() or p.suffix == suffix]
    return [name for name in shown if name.startswith(incomplete)]


def completion(
    shell: Annotated[str, typer.Argument(metavar="bash|zsh|fish", help="The shell.", autocompletion=lambda: SHELLS)],
) -> None:
    """Print the script that lets a shell complete words by Tab, for its start-up file."""
    from typer._completion_shared import get_completion_script

    if shell not in SHELLS:
        raise typer.BadParameter(f'is "{shell}", but the shells are {", ".join(SHELLS)}')
    print(get_completion_script(prog_name=PROGRAM, complete_var=ASKED, shell=shell))


def take_opening_words() -> None:
    """Let what is completed behind `pivrex` alone be what is completed behind `pivrex open`, as it is read."""
    from typer._completion_classes import completion_init

    completion_init()
    words = os.environ.get("COMP_WORDS", "").split()
    whole = os.environ.get("_TYPER_COMPLETE_ARGS", "").split()
    for said, name in ((words, "COMP_WORDS"), (whole, "_TYPER_COMPLETE_ARGS")):
        first = said[1] if len(said) > 1 else ""
        if first.startswith("-") or "/" in first or first.endswith(".toml"):
            os.environ[name] = " ".join([said[0], "open", *said[1:]]) + (" " if os.environ[name].endswith(" ") else "")
            if name == "COMP_WORDS" and os.environ.get("COMP_CWORD", "").isdecimal():
                os.environ["COMP_CWORD"] = str(int(os.environ["COMP_CWORD"]) + 1)
