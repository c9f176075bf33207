"""A number of the text that is looked for beside the screen: what must come true is typed, what was found is written on a key."""

from __future__ import annotations

from collections.abc import Callable
from multiprocessing.connection import Connection
from pathlib import Path
from typing import NamedTuple

from pivrex.errors import PivrexError, UnitError
from pivrex.routine.files import shared_beside
from pivrex.routine.goals import Goal, read_goal
from pivrex.routine.numbers import TextNumber, numbers_in
from pivrex.routine.solving import Solved, solve
from pivrex.tui.jobs.previews import Job
from pivrex.tui.jobs.worker import WorkerProcess

__all__ = ["Asking", "Solving", "number_at"]


class _News(NamedTuple):
    tried: str
    found: Solved | None = None
    why: str = ""
    over: bool = False


def number_at(text: str, line: int, column: int) -> TextNumber | None:
    """Give the number of a line that the cursor stands on, else its first; None for a line without numbers."""
    found = numbers_in(text, line)
    return next((n for n in found if n.begin <= column <= n.end), found[0] if found else None)


class Asking:
    """Asks what must come true: what `pivrex.tui.overlays.entry.ValueEntry` types into."""

    def __init__(
        self, number: TextNumber, row: str, attachments: tuple[str, ...], take: Callable[[Goal], None]
    ) -> None:
        self._number, self._row, self._names, self._take = number, row, attachments, take

    def entry(self) -> tuple[str, str, str]:
        word = self._row.split()[0] if self._row.split() else ""
        first = "turned 180 deg" if word in ("turn", "pivot", "bend", "wheels") else "driven 1 m"
        if word in ("move", "wait") and self._names:
            first = f"{next((n for n in self._names if n in self._row), self._names[0])} there"
        allowed = f"at X, Y; facing A; turned A; driven L; {self._names[0] if self._names else 'NAME'} there; fastest"
        return f"{self._number.text}: what must come true", first, allowed

    def type_in(self, text: str) -> None:
        try:
            goal = read_goal(text, self._names)
        except PivrexError as problem:
            raise UnitError(str(problem)) from None
        self._take(goal)


class Solving:
    """At most one at a time.

    Attributes
    ----------
    number : TextNumber or None
        What is, or was, looked for.
    found : Solved or None
    problem : str
        Why nothing was found.
    row : str
        The line as it was then.
    """

    def __init__(self) -> None:
        self._worker: WorkerProcess | None = None
        self.number: TextNumber | None = None
        self.found: Solved | None = None
        self.problem = self._tried = self.row = ""

    @property
    def goes_on(self) -> bool:
        """Whether one is looked for."""
        return self._worker is not None

    def begin(self, job: Job, text: str, path: Path, number: TextNumber, goal: Goal) -> None:
        """Look for another one; what goes on is given up."""
        self.forget()
        self.number, self._tried = number, "begins"
        self.row = text.split("\n")[number.line - 1]
        self._worker = WorkerProcess("pivrex-solve", _work, job, text, path, number, goal)

    def poll(self) -> None:
        """Take what has come."""
        try:
            while self._worker is not None and self._worker.wire.poll():
                news: _News = self._worker.wire.recv()
                self._tried = news.tried
                if news.over:
                    self.found, self.problem = news.found, news.why
                    self.stop()
        except (EOFError, OSError):
            self.stop()

    def stop(self) -> None:
        """Give it up."""
        if self._worker is not None:
            self._worker.close()
            self._worker = None

    def forget(self) -> None:
        """Give it up, and what was found."""
        self.stop()
        self.found, self.problem, self.number = None, "", None

    def words(self) -> tuple[str, str]:
        """Say what was found, or how far it is, and in which role; empty where nothing is asked."""
        if self.number is None:
            return "", "dim"
        if self.goes_on:
            return f"looking for line {self.number.line}'s {self.number.text}: {self._tried}; N stops it", "dim"
        if self.problem:
            return f"! {self.problem}", "alarm"
        if self.found is None:
            return "", "dim"
        key = "K writes it" if self.found.found else "K writes it all the same"
        return f"line {self.number.line}: {self.found.said}. {key}", "target" if self.found.found else "alarm"


def _work(wire: Connection, job: Job, text: str, path: Path, number: TextNumber, goal: Goal) -> None:
    def tell(tried: str) -> bool:
        wire.send(_News(tried))
        return True

    try:
        found = solve(text, number, goal, job.rig, job.field, shared_beside(path), job.limit_s, tell)
        wire.send(_News("", found, over=True))
    except PivrexError as problem:
        wire.send(_News("", None, str(problem), over=True))
