"""The files that a drive alone began with: what becomes of them outside meanwhile is said, and changes nothing before it has ended."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from pivrex.errors import PivrexError, ReadError, RigError, RoutineError
from pivrex.files import read_persons
from pivrex.path.files import read_path
from pivrex.rig import Rig, read_rig, read_workspace_file
from pivrex.routine.files import program_of

__all__ = ["AloneWatch", "Began"]

LARGEST_FILE = 2_000_000


@dataclass(frozen=True)
class Began:
    """A file, and the text of it that a drive begins with: no file for what has none, no text where none can be read."""

    file: Path | None = None
    text: str | None = ""

    @classmethod
    def now(cls, file: Path) -> Began:
        """Give a file with the text that it has now."""
        return cls(file, _text(file))


class AloneWatch:
    """Looks at the rig, the routine or path, and the workspace while a robot drives alone.

    Attributes
    ----------
    said : str
        What stands in the foot as long as it drives; empty while all is as it began.
    """

    def __init__(self, rig: Began, workspace: Began, chosen: Began) -> None:
        self.said = ""
        self._files: list[tuple[Path, str, Callable[[Path, Rig], object]]] = []
        self._began: dict[Path, str | None] = {}
        path = chosen.file is not None and chosen.file.suffix == ".toml"
        for began, what, read in (
            (rig, "the rig", lambda file, _rig: read_rig(file)),
            (workspace, "the workspace", lambda file, _rig: read_workspace_file(file)),
            (chosen, "the text", (lambda file, _rig: read_path(file)) if path else _routine_is_right),
        ):
            if began.file is not None:
                self._files.append((began.file, what, read))
                self._began[began.file] = began.text
        self._seen = dict(self._began)

    def look(self, rig: Rig) -> str:
        """Return what is new to be said, for the rig that drives; empty if nothing is."""
        news = ""
        for file, what, read in self._files:
            now = _text(file)
            if now == self._seen[file]:
                continue
            self._seen[file] = now
            if now == self._began[file]:
                continue
            news = f"{what} it began with still drives: {_became(file, now, read, rig)}"
        standing = any(self._seen[f] != self._began[f] for f, _, _ in self._files)
        self.said = news or (self.said if standing else "")
        return news


def _routine_is_right(file: Path, rig: Rig) -> None:
    program_of(file, rig)


def _text(file: Path) -> str | None:
    """Return a file's text; None for one that is not there or cannot be read."""
    try:
        return read_persons(file, LARGEST_FILE)
    except ReadError:
        return None


def _became(file: Path, now: str | None, read: Callable[[Path, Rig], object], rig: Rig) -> str:
    if now is None and not file.exists():
        return f"{file.name} is gone"
    try:
        read(file, rig)
    except (RigError, RoutineError) as problem:
        return f"{file.name} was changed outside and has mistakes ({problem.lines()[0].removeprefix(f'{file}:')})"
    except PivrexError as problem:
        return str(problem)
    return f"{file.name} was changed outside"
