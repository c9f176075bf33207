"""Writes the folder with a robot's program from its rig."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from pivrex.board import micropython
from pivrex.board.alone import Alone
from pivrex.board.avr import avr_files, avr_makefile
from pivrex.board.line_parts import line_parts
from pivrex.board.parts import part
from pivrex.board.pins_used import BoardWiring, wired
from pivrex.board.rig_c import mine_source, rig_header, rig_source
from pivrex.board.steps import Task
from pivrex.errors import SaveError
from pivrex.files import write_atomically
from pivrex.line.layout import Floats
from pivrex.line.line import Line
from pivrex.rig.rig import Rig

__all__ = ["Written", "board_files", "write_board", "write_files"]

OWN = ("mine.c", micropython.OWN)
"""The file with a person's own code: it is written once."""

OURS = ("rig.h", "rig.py")
"""By one of these a folder is known for a program of Pivrex."""


@dataclass(frozen=True)
class Written:
    """The written files, the values without a pin, and whether the person's own code was there already."""

    folder: Path
    hash: str
    files: list[str]
    missing: list[str]
    kept: bool


def board_files(
    rig: Rig, target: str, mode: str = "", at: Floats | None = None, task: Task | None = None
) -> tuple[dict[str, str], BoardWiring]:
    """Return the files of a robot's program, by name.

    Parameters
    ----------
    rig : Rig
    target : str
        avr, c or micropython.
    mode : str
        obeys or alone; as the rig says if it is left out.
    at : (3,) float64
        Where the robot stands at the beginning, m and rad; it matters to a board that is alone.
    task : Task
        The routine that a board which is alone drives on command.

    Raises
    ------
    RigError
        For what its board cannot do.
    RoutineError
        For what it cannot do of the routine.
    """
    line = Line(rig)
    alone = (mode or rig.board.mode) == "alone"
    own = Alone.of(line, at, task) if alone else None
    if own is not None:
        wiring, lines = own.wiring, own.parts
        wiring.missing += own.lacks
    else:
        wiring, lines = wired(line), line_parts(line, at)
    if target == "micropython":
        return micropython.micropython_files(wiring, own), wiring
    drives = ("alone.c", "radio.c") if alone else ("link.c",)
    found = {name: part(name) for name in ("board.h", "robot.h", "sentence.c", *drives, "seal.c", "main.c")}
    found |= {
        "line.h": lines.header("float"),
        "line.c": lines.source(),
        "rig.h": rig_header(wiring, own),
        "rig.c": rig_source(wiring, own),
        OWN[0]: mine_source(wiring),
    }
    if target == "avr":
        found |= avr_files(wiring)
    else:
        found["here.c"] = part("here.c")
    sources = " ".join(sorted(n for n in found if n.endswith(".c")))
    headers = " ".join(sorted(n for n in found if n.endswith(".h")))
    found["Makefile"] = avr_makefile(rig, sources, headers) if target == "avr" else _makefile(sources, headers)
    return found, wiring


def write_board(
    rig: Rig, folder: Path, target: str, mode: str = "", at: Floats | None = None, task: Task | None = None
) -> Written:
    """Write the folder of a robot's program. What Pivrex wrote before is written again; `mine.c` or `mine.py` stays as it is.

    Raises
    ------
    RigError, RoutineError
        For what the board cannot do.
    SaveError
        If a file cannot be written, or the folder holds something that Pivrex did not write.
    """
    return write_files(folder, *board_files(rig, target, mode, at, task))


def write_files(folder: Path, found: dict[str, str], wiring: BoardWiring) -> Written:
    """Write the files of a program into a folder; see `write_board`."""
    theirs = sorted(p.name for p in folder.iterdir()) if folder.is_dir() else []
    if theirs and not set(theirs) & set(OURS):
        raise SaveError(folder / OURS[0], f"the folder holds {theirs[0]}, and no program of Pivrex; name an empty one")
    kept = any(name in found and (folder / name).exists() for name in OWN)
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise SaveError(folder, problem.strerror or str(problem)) from None
    for name, text in found.items():
        if name not in OWN or not kept:
            write_atomically(folder / name, text)
    return Written(folder, wiring.hash, sorted(found), wiring.missing, kept)


def _makefile(sources: str, headers: str) -> str:
    return f"""\
# make builds the program for this computer; on a board give its compiler all files but here.c, and your own board.c.
CFLAGS = -std=c99 -O2 -Wall -Wextra -Werror

robot: {sources} {headers}
\t$(CC) $(CFLAGS) -o robot {sources} -lm
"""
