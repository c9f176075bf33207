"""The workspace's file and the floor that is laid out: both are watched, and what another program writes into them counts."""

from __future__ import annotations

from pathlib import Path

from pivrex.document import Document
from pivrex.errors import PivrexError
from pivrex.rig import Field, Folder, read_text
from pivrex.rig.field import Workspace
from pivrex.rig.read import rig_text

__all__ = ["WorkspaceDocuments"]


class WorkspaceDocuments:
    """The documents beside rig and routine.

    Attributes
    ----------
    workspace, floor : Document
        The floor's is open only while another than the workspace's own field is laid out.
    """

    def __init__(self, folder: Folder) -> None:
        self._folder = folder.path
        self.workspace: Document[Workspace] = Document(_workspace, "workspace", rig_text)
        self.floor: Document[Field] = Document(_floor, "floor", rig_text)
        self._open(self.workspace, folder.path / "workspace.toml")

    @staticmethod
    def _open(document: Document[Workspace] | Document[Field], path: Path) -> None:
        if path.exists():
            try:
                document.open(path)
                document.begin()
            except PivrexError:
                return  # saved outside in this moment: what was read when it was opened counts

    def lay_out(self, name: str) -> None:
        """Watch another floor; an empty name is the workspace's own."""
        self.floor = Document(_floor, "floor", rig_text)
        if name:
            self._open(self.floor, self._folder / "floors" / f"{name}.toml")

    def look_outside(self) -> tuple[str, bool]:
        """Take in what another program has written; returns a sentence, empty for nothing, and whether something is wrong."""
        said, wrong = "", False
        for document in (self.workspace, self.floor):
            found = document.look_outside() if document.is_open else ""
            if found:
                wrong = bool(document.problem)
                said = found if wrong else f"{document.path.name} was changed outside: its floor is laid out again"
                if document is self.workspace and not wrong:
                    said += "; all else counts when the workspace is opened again"
        return said, wrong


def _workspace(text: str, path: Path) -> Workspace:
    return read_text(text, path, Workspace)


def _floor(text: str, path: Path) -> Field:
    return read_text(text, path, Field)
