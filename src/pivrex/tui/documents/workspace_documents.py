"""The workspace's file and the floor in use: both are watched for changes by other programs."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from pivrex.board.steps import Task
from pivrex.document import Document
from pivrex.errors import PivrexError
from pivrex.files import write_atomically
from pivrex.rig import Field, Folder, Rig, read_text
from pivrex.rig.field import Workspace
from pivrex.rig.read import rig_text
from pivrex.routine.files import SUFFIX, bound_moves
from pivrex.routine.program import Program

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

__all__ = ["WorkspaceDocuments"]


class WorkspaceDocuments:
    """The documents next to rig and routine.

    Attributes
    ----------
    workspace, floor : Document
        The floor's is open only while a floor other than the workspace's own field is in use.
    """

    def __init__(self, folder: Folder) -> None:
        self._folder = folder
        self.workspace: Document[Workspace] = Document(_workspace, "workspace", rig_text)
        self.floor: Document[Field] = Document(_floor, "floor", rig_text)
        self._moves: dict[str, Program | str] = {}
        self._moves_of: tuple[Rig | None, int] = (None, 0)
        self._open(self.workspace, folder.path / "workspace.toml")

    @staticmethod
    def _open(document: Document[Workspace] | Document[Field], path: Path) -> None:
        if path.exists():
            try:
                document.open(path)
                document.begin()
            except PivrexError:
                return  # another program is saving it: use the version from the start

    def lay_out(self, name: str) -> None:
        """Watch another floor; an empty name is the workspace's own."""
        self.floor = Document(_floor, "floor", rig_text)
        if name:
            self._open(self.floor, self._folder.path / "floors" / f"{name}.toml")

    def pins(self, rig: str) -> dict[str, str]:
        """Return what is pinned for a rig, by the name of its file."""
        settings = self.workspace.content or self._folder.settings
        return settings.pins.get(rig, {})

    def pin(self, rig: str, pins: dict[str, str], what: str) -> None:
        """Let these be pinned for a rig, and save. Raises `PivrexError`."""
        import tomlkit

        document = self._parsed()
        all_pins = document.setdefault("pins", tomlkit.table(True))
        if pins:
            all_pins[rig] = pins
        else:
            all_pins.pop(rig, None)
        self.workspace.change(tomlkit.dumps(document), what)

    def rename_routine(self, before: str, name: str) -> None:
        """Let the workspace name a routine by its new name. Raises `PivrexError`."""
        import tomlkit

        document = self._parsed()
        chosen, listed = document.get("routines", {}), document.get("match", {}).get("routines", [])
        for rig in [rig for rig, routine in chosen.items() if routine == before]:
            chosen[rig] = name
        for at in [at for at, routine in enumerate(listed) if routine == before]:
            listed[at] = name
        text = tomlkit.dumps(document)
        if text != self.workspace.text:
            self.workspace.change(text, f"{before} is {name} now")

    def _parsed(self) -> TOMLDocument:
        """Return the workspace's file for a change; make it if there is none."""
        import tomlkit

        path = self._folder.path / "workspace.toml"
        if not path.exists():
            write_atomically(path, "")
        if not self.workspace.is_open:
            self.workspace.open(path)
        return tomlkit.parse(self.workspace.text)

    def moves(self, rig: Rig, path: Path) -> dict[str, Program | str] | None:
        """Return the own moves that buttons of a rig may do, where they are others than at the last look; else None."""
        file = self._folder.path / "routines" / f"{rig.moves}{SUFFIX}"
        try:
            state = file.stat().st_mtime_ns if rig.moves else 0
        except OSError:
            state = -1
        if self._moves_of == (rig, state):
            return None
        self._moves_of = (rig, state)
        before, self._moves = self._moves, bound_moves(rig, path)
        return self._moves if self._moves or before else None

    def task(self, rig: Rig, say: Callable[[str, bool], None]) -> Task | None:
        """Return the routine of a rig's board that drives by itself; ``say`` gets what is wrong with it."""
        try:
            return Task.of(rig, self._folder) if rig.board.own_routine else None
        except PivrexError as problem:
            say(f"the board's routine: {problem}", True)
            return None

    def look_outside(self) -> tuple[str, bool]:
        """Take in what another program has written; returns a sentence, empty for nothing, and whether something is wrong."""
        said, wrong = "", False
        for document in (self.workspace, self.floor):
            found = document.look_outside() if document.is_open else ""
            if found:
                wrong = bool(document.problem)
                said = (
                    found if wrong else f"{document.path.name} was changed by another program: its floor is shown again"
                )
                if document is self.workspace and not wrong:
                    said += "; all else counts when the workspace is opened again"
        return said, wrong


def _workspace(text: str, path: Path) -> Workspace:
    return read_text(text, path, Workspace)


def _floor(text: str, path: Path) -> Field:
    return read_text(text, path, Field)
