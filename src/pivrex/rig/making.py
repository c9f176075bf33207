"""Makes a workspace, or another robot in one."""

from __future__ import annotations

import re
from pathlib import Path

from pivrex.errors import Mistake, RigError, UnitError
from pivrex.files import resolved, write_atomically
from pivrex.rig.new_robot import NewRobot
from pivrex.rig.new_robot_text import workspace_text, written
from pivrex.rig.read import read_text, rig_text
from pivrex.rig.rig import Rig

__all__ = ["begin", "check_name", "copied", "file_of"]


def check_name(name: str) -> str:
    """Return a robot's name as it may stand in a file; raises `UnitError`."""
    clean = " ".join(name.split())
    if not re.fullmatch(r"[A-Za-z][A-Za-z0-9 _-]{0,23}", clean):
        raise UnitError(
            f'is "{name}"; a name has letters, digits, spaces, - and _, begins with a letter and has at most 24 of them'
        )
    return clean


def file_of(name: str, folder: Path) -> Path:
    """Return the file in the folder ``rigs`` that a robot of this name gets. Raises `RigError` if it is there."""
    path = folder / f"{name.lower().replace(' ', '-')}.toml"
    if path.exists():
        raise RigError(path, [Mistake(0, "", "is there already; give the robot another name")])
    return path


def foreign(folder: Path) -> str:
    """Return what is odd about making a workspace in a folder that holds other things; empty for an empty one or a workspace."""
    if not folder.is_dir() or (folder / "workspace.toml").exists() or (folder / "rigs").is_dir():
        return ""
    there = [path.name for path in folder.iterdir() if not path.name.startswith(".")]
    return (
        f"{resolved(folder)} is not empty and holds no workspace (it has {', '.join(sorted(there)[:3])})"
        if there
        else ""
    )


def begin(folder: Path, robot: NewRobot, copy: Path | None = None) -> Path:
    """Make a workspace if there is none, and in it the new robot, or a copy of another under its name.

    Returns
    -------
    Path
        The rig's file, written whole or not at all.

    Raises
    ------
    RigError
        If a file of that name is there, or the copied one cannot be read.
    SaveError, OSError
        If something cannot be written.
    """
    text = copied(copy, robot.name) if copy is not None else written(robot)
    rigs = folder / "rigs"
    path = file_of(robot.name, rigs)
    read_text(text, path, Rig)
    rigs.mkdir(parents=True, exist_ok=True)
    for name in ("routines", "inputs"):
        (folder / name).mkdir(exist_ok=True)
    write_atomically(path, text)
    if not (folder / "workspace.toml").exists():  # after the rig that it names
        write_atomically(folder / "workspace.toml", workspace_text(resolved(folder).name or "workspace", path.stem))
    return path


def copied(path: Path, name: str) -> str:
    """Return a rig's text under another name; a key that it shares with a robot is left out. Raises `RigError` if the rig has
    mistakes.
    """
    import tomlkit

    text = rig_text(path)
    read_text(text, path, Rig)
    document = tomlkit.parse(text)
    document["name"] = name
    document.pop("key", None)
    return tomlkit.dumps(document)
