"""Finds a number of the text in the background: you type the wanted result, and a key writes the number."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from pivrex.errors import PivrexError, UnitError
from pivrex.routine.files import shared_next_to
from pivrex.routine.goals import Goal, read_goal
from pivrex.routine.numbers import TextNumber, numbers_in
from pivrex.routine.solving import Solved, solve
from pivrex.tui.jobs.job import Job, Progress
from pivrex.tui.jobs.previews import ToPlay

__all__ = ["Asking", "ToSolve", "number_at", "solving_job", "solving_words"]


def number_at(text: str, line: int, column: int) -> TextNumber | None:
    """Return the number of a line that the cursor stands on, else its first; None for a line without numbers."""
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
        return f"which result should {self._number.text} give?", first, allowed

    def type_in(self, text: str) -> None:
        try:
            goal = read_goal(text, self._names)
        except PivrexError as problem:
            raise UnitError(str(problem)) from None
        self._take(goal)


class ToSolve(NamedTuple):
    """Which number of a text is looked for, and what must come true. ``row`` is its line as it was then."""

    play: ToPlay
    text: str
    path: Path
    number: TextNumber
    goal: Goal

    @property
    def row(self) -> str:
        return self.text.split("\n")[self.number.line - 1]


def solving_job() -> Job[ToSolve, Solved]:
    """Return the job that looks for a number."""
    return Job("pivrex-solve", _solve, patient=False)


def _solve(question: ToSolve, progress: Progress) -> Solved | None:
    play, shared = question.play, shared_next_to(question.path)
    return solve(
        question.text,
        question.number,
        question.goal,
        play.rig,
        play.field,
        shared,
        play.limit_s,
        lambda said: progress(0.0, said),
    )


def solving_words(job: Job[ToSolve, Solved]) -> tuple[str, str]:
    """Return what was found, or how far it is, and in which role; empty where nothing is asked."""
    question = job.question
    if question is None:
        return "", "dim"
    line = f"line {question.number.line}"
    if job.goes_on:
        return f"looking for {line}'s {question.number.text}: {job.said or 'begins'}; N stops it", "dim"
    if job.problem:
        return f"! {job.problem}", "alarm"
    found = job.answer
    if found is None:
        return "", "dim"
    key = "K writes it" if found.found else "K writes it all the same"
    return f"{line}: {found.said}. {key}", "target" if found.found else "alarm"
