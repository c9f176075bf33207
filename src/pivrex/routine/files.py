"""Routines on disk: found by name, read, and checked for their rig."""

from __future__ import annotations

import re
from math import inf
from pathlib import Path

from pivrex.errors import Mistake, ReadError, RigError, RoutineError
from pivrex.files import is_file, read_persons, resolved
from pivrex.line.bindings import moves_of
from pivrex.path import Path as DrivenPath
from pivrex.path.files import read_path
from pivrex.rig.field import Field
from pivrex.rig.patches import patches_of
from pivrex.rig.read import read_rig
from pivrex.rig.rig import Rig
from pivrex.rig.workspace import Folder, find_rig, open_folder
from pivrex.routine.checking import Checked, check_text
from pivrex.routine.checking.scope import Neighbours
from pivrex.routine.mistakes import as_mistakes, nearest
from pivrex.routine.program import Program
from pivrex.routine.reading import LARGEST_FILE, read_lines

__all__ = [
    "SUFFIX", "bound_moves", "check_file", "field_of", "find_routine", "floors_next_to", "program_of", "read_for", "rig_said",
    "shared_next_to", "wanted_rig",
]  # fmt: skip

SUFFIX = ".txt"
PLAIN = r"[\w -]+"


class _NextTo:
    """Reads the files next to a routine, only by plain names, so that none leads to another folder."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._read: dict[tuple[str, int, int], DrivenPath] = {}

    def __call__(self, name: str) -> str | None:
        if not re.fullmatch(PLAIN, name):
            return None
        neighbour = self._path.parent / f"{name}{SUFFIX}"
        try:
            return read_persons(neighbour, LARGEST_FILE) if is_file(neighbour) else None
        except ReadError:
            return None

    def path(self, name: str) -> tuple[DrivenPath | None, str]:
        folder = home_of(self._path) / "paths"
        file = folder / f"{name}.toml"
        if not re.fullmatch(PLAIN, name) or not is_file(file):
            known = sorted(p.stem for p in folder.glob("*.toml"))
            listed = ", ".join(f'"{n}"' for n in known) or "none"
            return None, f'there is no path "{name}"{nearest(name, known)}; paths/ holds {listed}'
        try:
            state = file.stat()
            key = (name, state.st_mtime_ns, state.st_size)
            if key not in self._read:
                self._read[key] = read_path(file)
            return self._read[key], ""
        except RigError as wrong:
            first = wrong.mistakes[0]
            return None, f'the path "{name}" cannot be read: line {first.line}: {first.key} {first.what}'
        except (ReadError, OSError) as wrong:
            return None, f'the path "{name}" cannot be read: {wrong}'


def shared_next_to(path: Path) -> Neighbours:
    """Return what reads files of own moves, and paths, next to a routine."""
    return _NextTo(path)


def home_of(path: Path) -> Path:
    """Return the workspace that holds the file of a routine or a rig."""
    home = resolved(path).parent
    return home.parent if home.name in ("routines", "rigs") else home


def find_routine(name: str, folder: Folder) -> Path:
    """Find a routine by its path, or by its name in a workspace. Raises `RoutineError`."""
    path = Path(name)
    if is_file(path):
        return path
    there = next((p for p in folder.routines() if p.stem.lower() == name.lower()), None)
    if there is not None:
        return there
    known = ", ".join(f'"{p.stem}"' for p in folder.routines()) or "none"
    raise RoutineError(
        path, [Mistake(0, "", f"is no file, and no routine of this workspace (routines/ holds {known})")]
    )


def rig_said(text: str) -> str:
    """Return the rig that a text says it is for; empty if it says none."""
    for line in read_lines(text)[0]:
        if line.node is not None and line.node.form == "for_rig" and not line.skipped:
            return str(line.node["name"][0])
    return ""


def wanted_rig(path: Path) -> tuple[Path, Folder]:
    """Return the rig that a routine is for, else the first of its workspace. Raises `RigError`, `ReadError`."""
    home = home_of(path)
    name = rig_said(read_persons(path, LARGEST_FILE))
    if name:
        return find_rig(name, home)
    folder = open_folder(home)
    return folder.first_rig(), folder


def floors_next_to(path: Path) -> frozenset[str]:
    """Return the floors of the workspace that a routine's file lies in."""
    home = home_of(path)
    return frozenset(p.stem for p in (home / "floors").glob("*.toml"))


def field_of(program: Program, folder: Folder) -> Field | None:
    """Return the field that a routine drives on; None in a folder that says nothing of one. Raises `RigError`."""
    if not program.floor and not (folder.path / "workspace.toml").exists():
        return None
    return folder.floor(program.floor)


def check_file(path: Path, rig: Rig, limit_s: float = inf) -> Checked:
    """Read and check a routine. Raises `ReadError`."""
    text = read_persons(path, LARGEST_FILE)
    return check_text(text, rig, path.stem, shared_next_to(path), limit_s, floors_next_to(path))


def program_of(path: Path, rig: Rig) -> Program:
    """Return the program of a routine's file. Raises `ReadError`, or `RoutineError` with every mistake."""
    checked = check_file(path, rig)
    if checked.program is None:
        raise RoutineError(path, as_mistakes(checked.wrong))
    return checked.program


def bound_moves(rig: Rig, path: Path) -> dict[str, Program | str]:
    """Return the own moves that buttons of a rig may do, by what is bound: each as a program, or why it cannot be done.

    Parameters
    ----------
    rig : Rig
    path : Path
        Its file, in a workspace whose folder ``routines`` has the file of moves.
    """
    texts = moves_of(p.action for p in patches_of(rig) if p.action is not None)
    file = home_of(path) / "routines" / f"{rig.moves}{SUFFIX}"
    found: dict[str, Program | str] = {}
    for text in texts:
        if not is_file(file):
            found[text] = f"there is no routines/{file.name}"
            continue
        checked = check_text(
            f'{text}\nuse moves from "{rig.moves}"', rig, text.removeprefix("do "), shared_next_to(file)
        )
        found[text] = checked.program or checked.wrong[0].what
    return found


def read_for(path: Path) -> tuple[Checked, Rig]:
    """Read a routine for the rig that it says. Raises `ReadError`, `RigError`."""
    rig_path, folder = wanted_rig(path)
    rig = read_rig(rig_path)
    return check_file(path, rig, folder.settings.match.alone_s), rig
