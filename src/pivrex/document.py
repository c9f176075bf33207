"""An open text: its file, its changes with undo, and changes of the file by other programs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Generic, TypeVar

from pivrex.errors import ChangedOutside, MistakesError, PivrexError, ReadError, SaveError
from pivrex.files import alone, free_name, read_persons, sweep, write_atomically

__all__ = ["YOURS", "Document", "Step"]

T = TypeVar("T")

LARGEST_FILE = 4_000_000
LONGEST_UNDO = 500
YOURS = ".yours-"
"""In the name of what was saved next to a file that another program broke."""


@dataclass(frozen=True)
class Step:
    """One change: the whole text before and after, so that comments and order return too; its name, and its time."""

    before: str
    after: str
    what: str
    at: str
    """As "14:03:22"."""
    mark: int = 0
    """Where the person was before it; what that means is the document's own."""


class Document(Generic[T]):
    """A text file that is open, and what its text means.

    Every change is checked before it counts, then saved at once. What another program writes is taken in where it has no
    mistakes, and can be taken back; while it has some, what is in use stays and is saved next to it.

    Parameters
    ----------
    understand : callable
        Returns what a text means; raises `PivrexError` for one with mistakes.
    noun : str
        What it is called: "rig".
    read : callable
        Returns the text of a file; raises `PivrexError`.

    Attributes
    ----------
    path : Path
        The file, once one is open.
    text : str
        In use.
    content : T or None
        What it means.
    steps : list of Step
        What was changed, oldest first; ``at`` of them count, those behind are undone.
    mark : int
        Where the person is, kept with each step.
    problem : str
        Why the last save failed or why an outside change was not taken in; empty when all is well.
    news : str
        What was found when a change from outside was taken in; whoever tells the person empties it.
    """

    def __init__(
        self,
        understand: Callable[[str, Path], T],
        noun: str,
        read: Callable[[Path], str] = lambda path: read_persons(path, LARGEST_FILE),
    ) -> None:
        self._understand, self._noun, self._read = understand, noun, read
        self._path: Path | None = None
        self.content: T | None = None
        self.text = self._known = ""
        """``_known`` is what the file said when it was read or written last."""
        self.steps: list[Step] = []
        self.at = self.mark = 0
        self.problem = self.news = ""
        self.accepts: Callable[[T], None] = lambda content: None
        """Raises a `PivrexError` for a change that is not taken, though it has no mistakes."""
        self._yours_path: Path | None = None
        self._began: str | None = None
        self._seen: str | None = None

    @property
    def path(self) -> Path:
        """The file of an open document."""
        assert self._path is not None
        return self._path

    @property
    def is_open(self) -> bool:
        """Whether one is open."""
        return self._path is not None

    def open(self, path: Path) -> None:
        """Open a file; raises `PivrexError` if it cannot be read or has mistakes, and what was open stays so then."""
        sweep(path.parent, path.name)
        text = self._read(path)
        content = self._understand(text, path)
        self._path, self._known = path, text
        self._use(text, content)
        self.steps, self.at, self.mark, self.problem, self.news = [], 0, 0, "", ""
        self._yours_path = None

    # --- changes ---

    @property
    def can_undo(self) -> bool:
        """Whether there is a change to undo."""
        return self.at > 0

    @property
    def can_redo(self) -> bool:
        """Whether there is an undone change to redo."""
        return self.at < len(self.steps)

    def change(self, text: str, what: str, join: bool = False) -> None:
        """Take a changed text and save it. ``join`` extends the last step, if that has the same name up to " = ".

        Raises
        ------
        PivrexError
            If it has mistakes; nothing changes.
        SaveError
            If the file could not be written; the change counts, and ``problem`` says so.
        """
        if text == self.text:
            return
        content, before, mark = self._understand(text, self.path), self.text, self.mark
        self.accepts(content)
        done = self.steps[: self.at]
        if join and done and done[-1].what.partition(" = ")[0] == what.partition(" = ")[0]:
            before, mark = done[-1].before, done.pop().mark
        self._keep(done, Step(before, text, what, _now(), mark), content)
        self._save()

    def _keep(self, done: list[Step], step: Step, content: T) -> None:
        self.steps = [*done[-LONGEST_UNDO:], step]
        self.at = len(self.steps)
        self._use(step.after, content)

    def _use(self, text: str, content: T) -> None:
        self.text, self.content = text, content

    def undo(self) -> str:
        """Undo the last change and save; returns its name, empty if there is none."""
        return self._walk(-1)

    def redo(self) -> str:
        """Redo the last undone change and save; returns its name, empty if there is none."""
        return self._walk(1)

    def go_to(self, at: int) -> str:
        """Go to how it was after so many steps; returns the last step that was undone or done again."""
        what = ""
        while self.at != at and (said := self._walk(1 if at > self.at else -1)):
            what = said
        return what

    def _walk(self, by: int) -> str:
        with alone(self.path):
            found = self.look_outside()
            if found and not self.problem:
                # the change that was just taken in can be undone first, and no one has seen it yet
                raise ChangedOutside(self.path, f"{found}; do it again to undo that")
            at = self.at + min(by, 0)
            if not 0 <= at < len(self.steps):
                return ""
            step = self.steps[at]
            text = step.before if by < 0 else step.after
            self._use(text, self._understand(text, self.path))
            self.at += by
            if by < 0:
                self.mark = step.mark
            self._save()
            return step.what

    # --- another program ---

    def look_outside(self) -> str:
        """Notice a change of the file by another program and take it in.

        Returns
        -------
        str
            What was found, in a sentence; empty when nothing changed. A file with mistakes is left alone: what is in use
            stays, and saves go next to it until it is fixed (see ``problem``).
        """
        path = self.path
        try:
            outside = self._read(path)
        except PivrexError as problem:
            if not self.problem:
                self.problem = (
                    f"{path.name} cannot be read any more ({_reason(problem)}); the {self._noun} in use stays"
                )
                return self.problem
            return ""
        if outside == self._known:
            return ""
        self._known = outside
        if outside == self.text:
            self.problem = ""
            return f"{path.name} is in step again"
        try:
            content = self._understand(outside, path)
        except PivrexError as problem:
            self.problem = (
                f"{path.name} was changed by another program and has mistakes ({_reason(problem)}); "
                f"the {self._noun} in use stays, changes made here go to {self._yours().name}"
            )
            return self.problem
        self._keep(
            self.steps[: self.at], Step(self.text, outside, "the change by another program", _now(), self.mark), content
        )
        self.problem, self.news = "", f"{path.name} was changed by another program; taken in, undo brings yours back"
        return self.news

    def begin(self) -> None:
        """A drive begins with what is in use now: `since_begun` holds the file against it."""
        self._began = self._seen = self.text if self.is_open else None

    def since_begun(self) -> str:
        """Return what has become of the file since the last look, for a drive that goes on with what it began with."""
        if self._began is None:
            return ""
        try:
            now, wrong = self._read(self.path), ""
        except PivrexError as problem:
            now, wrong = "", str(problem) if self.path.exists() else f"{self.path.name} is gone"
        if (now, wrong) == (self._seen, ""):
            return ""
        was, self._seen = self._seen, wrong or now
        if self._seen in (was, self._began):
            return ""
        return f"the {self._noun} it began with still drives: {wrong or self._became(now)}"

    @property
    def differs(self) -> bool:
        """Whether the file is another than the one with which the drive began, by the last look."""
        return self._seen != self._began

    def _became(self, text: str) -> str:
        try:
            self._understand(text, self.path)
        except PivrexError as problem:
            where = (
                problem.lines()[0].removeprefix(f"{self.path}:") if isinstance(problem, MistakesError) else str(problem)
            )
            return f"{self.path.name} was changed by another program and has mistakes ({where})"
        return f"{self.path.name} was changed {'here' if text == self.text else 'by another program'}"

    # --- saving ---

    def _save(self) -> None:
        if self.problem and self._outside_is_broken():
            write_atomically(self._yours(), self.text)
            return
        try:
            write_atomically(self.path, self.text)
        except SaveError as problem:
            self.problem = str(problem)
            raise
        self._known, self.problem = self.text, ""

    def _outside_is_broken(self) -> bool:
        try:
            self._understand(self._read(self.path), self.path)
        except PivrexError:
            return self.path.exists() or self.path.is_symlink()
        return False

    def _yours(self) -> Path:
        if self._yours_path is None:
            name = f"{self.path.stem}{YOURS}{datetime.now():%Y%m%d-%H%M%S}"
            self._yours_path = free_name(self.path.parent, name, self.path.suffix)
        return self._yours_path


def _now() -> str:
    return f"{datetime.now():%H:%M:%S}"


def _reason(problem: PivrexError) -> str:
    """Return the first mistake, or why a file cannot be read."""
    if isinstance(problem, MistakesError):
        first = problem.mistakes[0]
        said = f"line {first.line}: {first}" if first.line else str(first)
    else:
        said = problem.reason if isinstance(problem, ReadError) else str(problem)
    return said.removeprefix("cannot be read: ")
