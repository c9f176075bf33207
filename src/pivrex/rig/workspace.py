"""A workspace: a folder of rigs, routines, inputs, runs and exports that works well with git."""

from __future__ import annotations

import contextlib
import re
import time
from dataclasses import dataclass
from pathlib import Path

from pivrex.document import YOURS
from pivrex.errors import Mistake, ReadError, RigError
from pivrex.files import STALE_S, is_file, open_persons, resolved, sweep
from pivrex.rig.field import Field, Workspace
from pivrex.rig.read import read_floor, read_workspace_file

__all__ = ["Folder", "find_rig", "open_folder"]


@dataclass(frozen=True)
class Folder:
    """A workspace on disk with what its ``workspace.toml`` says."""

    path: Path
    settings: Workspace

    def rigs(self) -> list[Path]:
        """Return its rig files by name; a copy that was saved while one had mistakes is none."""
        return sorted(p for p in (self.path / "rigs").glob("*.toml") if YOURS not in p.name)

    def recordings(self) -> list[Path]:
        """Return its recorded driving by name."""
        return sorted((self.path / "inputs").glob("*.csv"))

    def routines(self) -> list[Path]:
        """Return its routines by name; files of own moves are among them."""
        return sorted((self.path / "routines").glob("*.txt"))

    def paths(self) -> dict[str, Path]:
        """Return the files of its paths by name."""
        return {p.stem: p for p in sorted((self.path / "paths").glob("*.toml"))}

    def floors(self) -> dict[str, Path]:
        """Return the files of its other floors by name."""
        return {p.stem: p for p in sorted((self.path / "floors").glob("*.toml"))}

    def floor(self, name: str) -> Field:
        """Return a floor by name, its own field for an empty one. Raises `RigError`."""
        if not name:
            return self.settings.field
        found = self.floors()
        if name not in found:
            known = ", ".join(f'"{n}"' for n in found) or "none"
            raise RigError(self.path / "floors", [Mistake(0, "", f'holds no "{name}.toml"; there are: {known}')])
        return read_floor(found[name])

    def sweep(self) -> None:
        """Delete what killed programs left here: partial saves and exports, and recordings without a reading."""
        for folder in ("rigs", "inputs", "routines", "floors", "paths", "exports", "."):
            sweep(self.path / folder)
        with contextlib.suppress(OSError):
            for path in (self.path / "inputs").glob("*.csv"):
                old = time.time() - path.stat().st_mtime > STALE_S
                if old and _RECORDED.fullmatch(path.name) and is_file(path) and _says_nothing(path):
                    path.unlink()

    def first_rig(self) -> Path:
        """Return the rig that opens first; raises `RigError` if there is none."""
        rigs = self.rigs()
        wanted = self.settings.rig
        for rig in rigs:
            if not wanted or rig.stem == wanted:
                return rig
        file = self.path / "workspace.toml"
        if wanted:
            known = ", ".join(f'"{r.stem}"' for r in rigs) or "none"
            raise RigError(file, [Mistake(1, "rig", f'is "{wanted}", but rigs/ holds {known}')])
        raise RigError(self.path, [Mistake(0, "", "holds no rig; put one into its folder rigs/, or try `pivrex demo`")])

    def demo_recording(self, rig: Path) -> Path | None:
        """Return the recording that the workspace names for a rig, or None."""
        name = self.settings.drivers.get(rig.stem, self.settings.recording)
        path = self.path / "inputs" / f"{name}.csv"
        return path if name and path.is_file() else None


_RECORDED = re.compile(r".+-\d{8}-\d{6}(-\d+)?\.csv")
"""How recordings are called that Pivrex has made."""


def _says_nothing(path: Path) -> bool:
    """Return whether a recording has at most its header."""
    try:
        with open_persons(path) as stream:
            return not stream.readline(100_000).endswith(b"\n") or not stream.read(1)
    except (ReadError, OSError):
        return False


def open_folder(path: Path) -> Folder:
    """Open a workspace; without a ``workspace.toml`` the field is an open floor. Raises `RigError`."""
    if not path.is_dir():
        raise RigError(path, [Mistake(0, "", "is no folder")])
    file = path / "workspace.toml"
    return Folder(path, read_workspace_file(file) if file.exists() else Workspace())


def find_rig(name: str, here: Path) -> tuple[Path, Folder]:
    """Find a rig by its path, or by its name in the workspace ``here``; with the workspace it belongs to."""
    path = Path(name)
    if path.suffix != ".toml" and not is_file(path):
        path = next(
            (p for p in sorted((here / "rigs").glob("*.toml")) if p.stem.lower() == name.lower()),
            here / "rigs" / f"{name}.toml",
        )
        if not is_file(path):
            known = ", ".join(f'"{r.stem}"' for r in sorted((here / "rigs").glob("*.toml"))) or "none"
            raise RigError(
                Path(name), [Mistake(0, "", f"is no file, and no rig of this workspace (rigs/ holds {known})")]
            )
    parent = resolved(path).parent
    home = parent.parent if parent.name == "rigs" else parent
    return path, open_folder(home)
