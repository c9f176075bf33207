"""The state of a check: own moves, names, and every mistake found so far."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from typing import Protocol, runtime_checkable

from pivrex.path import Path
from pivrex.rig.rig import Rig
from pivrex.routine.kinds import Kind
from pivrex.routine.mistakes import TextMistake
from pivrex.routine.nodes import Expression, Span
from pivrex.routine.program import MAIN, Instruction, Where
from pivrex.routine.reading import Line
from pivrex.routine.robot import RobotWords

__all__ = ["Finder", "Neighbours", "OwnMove", "Paths", "Reader", "Scope", "all_lines"]

Reader = Callable[[str], str | None]
"""Return the text of a shared file by its name, None if there is none."""

Paths = Callable[[str], tuple[Path | None, str]]
"""Return a path by its name, or None and why there is none."""


@runtime_checkable
class Neighbours(Protocol):
    """Reads the files next to a routine: files of own moves, and paths."""

    def __call__(self, name: str) -> str | None: ...
    def path(self, name: str) -> tuple[Path | None, str]: ...


@dataclass
class OwnMove:
    """An own move: its line, where that stands, and what is known of it."""

    line: Line
    file: str
    params: tuple[tuple[str, Expression], ...] = ()
    kinds: dict[str, Kind] = field(default_factory=dict)
    result: Kind | None = None
    called: bool = False
    drives: bool = False
    calls: set[str] = field(default_factory=set)


@dataclass
class Scope:
    """The names that an own move, or the routine itself, knows at a line."""

    kinds: dict[str, Kind]
    move: OwnMove | None = None
    slots: int = 0
    branch: bool = False
    code: str = MAIN
    forks: int = 0


class Finder:
    """Collects mistakes; the checks are built on it."""

    def __init__(self, rig: Rig, name: str, shared: Reader | None) -> None:
        self._rig, self._name, self._shared = rig, name, shared
        self._paths: Paths | None = shared.path if isinstance(shared, Neighbours) else None
        self._words = RobotWords(rig)
        self._found: list[TextMistake] = []
        self._moves: dict[str, OwnMove] = {}
        self._codes: dict[str, tuple[Instruction, ...]] = {}
        self._file = ""
        self._uses = 0
        self._for = ""
        self._floor = ""
        self._start: tuple[float, float, float] | None = None
        self._line: Line = Line(1, "", 0, None)

    def _wrong(self, what: str, span: Span | None = None, warning: bool = False) -> None:
        line = self._line
        made = (
            line.whole(what, warning)
            if span is None
            else line.mistake(span.begin, span.end - span.begin, what, warning)
        )
        if self._file:  # reported where the routine uses it
            made = replace(made, line=self._uses, column=1, length=1, what=f"{self._file}:{line.number}: {what}")
        if made not in self._found:
            self._found.append(made)

    def _where(self) -> Where:
        return Where(self._line.number, self._line.text, self._file)


def all_lines(lines: Iterable[Line]) -> list[Line]:
    """Return lines with all that stand in their blocks."""
    found = []
    for line in lines:
        found += [line, *all_lines(line.block)]
    return found
