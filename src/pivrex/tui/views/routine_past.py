"""The Routine view while a run is open: the routine that the run had is read there; the one that a person chose waits."""

from __future__ import annotations

import time
from pathlib import Path

from pivrex.errors import ReadError
from pivrex.routine.files import SUFFIX
from pivrex.tui.documents.routine_document import Desk
from pivrex.tui.views.routine_making import RoutineMaking

__all__ = ["RoutinePast"]


class RoutinePast(RoutineMaking):
    """Lays a run's own routine on the desk, and takes it off again."""

    _waiting: tuple[Desk, int] | None = None
    """The desk of the workspace while that of a run is shown, and its line."""
    _shown: Path | None = None
    """The file of the run that is shown, or could not be."""

    def _follow_run(self) -> None:
        """Show the routine that the run which is open had at the Tick that is shown; without a run the workspace's."""
        client = self.model.replay
        if client is None:
            if self._waiting is not None:
                (self.desk, line), self._waiting = self._waiting, None
                self._show_text()
                self.editor.to_line(line)
            return
        path = client.run.routine_file(client.replay.at)
        if self._waiting is None:
            self._waiting = self.desk, self.line
            self.cancel()
        elif path == self._shown:
            return
        self._shown = path
        self.desk = Desk(self.model.folder.settings.match.alone_s)
        if path is not None:
            home = (
                self.model.folder.path
                / "routines"
                / f"{client.status.match.routine or client.run.facts.routine}{SUFFIX}"
            )
            try:
                self.desk.open(path, self.model.rig, home)
            except ReadError as problem:
                self.desk.title = "! this run's routine cannot be read"
                self.model.say(str(problem), alarm=True)
        self._show_text()

    def _show_text(self) -> None:
        """Show what lies on the desk from its beginning; it is played anew on the stand-in."""
        self.seen, self.t, self.other = None, 0.0, None
        self.editor.load_text(self.desk.text)
        self._show_mistakes()
        self._due = time.monotonic()
