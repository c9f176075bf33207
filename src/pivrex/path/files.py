"""Paths as small TOML files in a workspace."""

from __future__ import annotations

import re
from math import degrees
from pathlib import Path as FilePath

import tomlkit
from tomlkit.items import AoT

from pivrex.errors import Mistake, RigError
from pivrex.files import write_atomically
from pivrex.path.points import MAX_POINTS, Path, PathPoint
from pivrex.rig.read import read_text, rig_text
from pivrex.rig.workspace import Folder

__all__ = ["find_path", "path_text", "read_path", "save_path"]


def read_path(file: FilePath) -> Path:
    """Read a path. Raises `RigError` with every mistake and its line."""
    return read_text(rig_text(file), file, Path)


def find_path(name: str, folder: Folder) -> FilePath:
    """Find a path by its file, or by its name in a workspace. Raises `RigError`."""
    file = FilePath(name)
    if file.suffix == ".toml":
        return file
    known = folder.paths()
    found = next((p for n, p in known.items() if n.lower() == name.lower()), None)
    if found is None:
        names = ", ".join(f'"{n}"' for n in known) or "none"
        raise RigError(file, [Mistake(0, "", f"is no file, and no path of this workspace (paths/ holds {names})")])
    return found


def _row(point: PathPoint) -> tomlkit.items.Table:
    row = tomlkit.table()
    row["x"], row["y"] = f"{point.x_m:.3f} m", f"{point.y_m:.3f} m"
    for key, angle in (("direction", point.direction_rad), ("heading", point.heading_rad)):
        if angle is not None:
            row[key] = f"{degrees(angle):.2f} deg"
    if point.stop:
        row["stop"] = True
    return row


def _say(document: tomlkit.TOMLDocument, path: Path) -> None:
    """Write everything that the screen can change, except the points, to a document, where it differs."""
    said: dict[str, object] = {"floor": path.floor, "heading": path.heading, "backwards": path.backwards}
    if path.heading == "fixed":
        said["looks"] = f"{degrees(path.looks_rad):.2f} deg"
    elif path.heading == "towards":
        said |= {"towards_x": f"{path.towards_x_m:.3f} m", "towards_y": f"{path.towards_y_m:.3f} m"}
    for key, value in said.items():
        field = Path.model_fields.get(key)
        if document.get(key, field.default if field is not None else "") != value:
            document[key] = value


def path_text(path: Path, before: str = "") -> str:
    """Return a path as TOML. All but its points stays as it was ``before``, comments too; so do points that are the same."""
    document = tomlkit.parse(before)
    old = document.get("points")
    rows = {}
    if isinstance(old, AoT):
        rows = {(str(r.get("x")), str(r.get("y"))): r for r in old}
    made = tomlkit.aot()
    for point in path.points:
        fresh = _row(point)
        kept = rows.get((str(fresh["x"]), str(fresh["y"])))
        if kept is not None:
            for key in ("direction", "heading", "stop"):
                if key in fresh and kept.get(key) != fresh[key]:
                    kept[key] = fresh[key]
                elif key not in fresh and key in kept:
                    del kept[key]
        made.append(kept if kept is not None else fresh)
    _say(document, path)
    if "points" in document:
        del document["points"]
    document["points"] = made
    return re.sub(r"\n{3,}", "\n\n", tomlkit.dumps(document)).lstrip("\n")


def save_path(path: Path, file: FilePath) -> None:
    """Save a path, whole or not at all; what its file said in addition to the points stays. Raises `SaveError`."""
    before = rig_text(file) if file.exists() else ""
    if len(path.points) > MAX_POINTS:
        raise RigError(file, [Mistake(0, "points", f"has more than {MAX_POINTS} entries")])
    file.parent.mkdir(exist_ok=True)
    write_atomically(file, path_text(path, before))
