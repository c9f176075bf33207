"""Remembers each workspace's view, theme, robot and source, and which workspace was open last."""

from __future__ import annotations

import tomllib
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from pivrex.errors import PivrexError
from pivrex.files import alone, read_persons, resolved, write_atomically
from pivrex.session.places import config_folder

__all__ = ["Chosen", "last_workspace", "memory_file", "recall", "remember"]

LARGEST_FILE = 200_000
MOST = 100
"""Workspaces; the one that was open longest ago is forgotten first."""

HEAD = "# What was chosen in each workspace, newest last. Pivrex writes this; whatever you delete is forgotten.\n"


class Chosen(NamedTuple):
    """The remembered choices of a workspace; empty for none."""

    view: str = ""
    theme: str = ""
    rig: str = ""
    """The file's name without its suffix."""
    source: str = ""


def memory_file() -> Path:
    """Return the file."""
    return config_folder() / "workspaces.toml"


def recall(folder: Path) -> Chosen:
    """Return what was chosen in a workspace. A file that cannot be read is as good as none."""
    return _read().get(str(resolved(folder)), Chosen())


def last_workspace() -> Path | None:
    """Return the workspace that was open last, if it is still there."""
    there = [Path(name) for name in _read() if (Path(name) / "rigs").is_dir()]
    return there[-1] if there else None


def remember(folder: Path, chosen: Chosen) -> None:
    """Remember what is chosen in a workspace now. Where that cannot be written nothing is remembered; driving goes on."""
    file = memory_file()
    with suppress(PivrexError, OSError):
        file.parent.mkdir(parents=True, exist_ok=True)
        with alone(file):
            found = _read()
            found.pop(str(resolved(folder)), None)
            found[str(resolved(folder))] = chosen
            write_atomically(file, _written(dict(list(found.items())[-MOST:])))


def _read() -> dict[str, Chosen]:
    found: dict[str, Chosen] = {}
    with suppress(PivrexError, OSError, ValueError, RecursionError):
        tables = tomllib.loads(read_persons(memory_file(), LARGEST_FILE))
        for name, table in tables.items():
            if isinstance(table, dict):
                texts = {k: v for k, v in table.items() if k in Chosen._fields and isinstance(v, str)}
                found[name] = Chosen(**texts)
    return found


def _written(found: dict[str, Chosen]) -> str:
    import tomlkit

    document = tomlkit.document()
    for name, chosen in found.items():
        document[name] = {k: v for k, v in chosen._asdict().items() if v}
    return HEAD + "\n" + tomlkit.dumps(document)
