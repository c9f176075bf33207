"""All errors, in one family.

    PivrexError
     ├─ UnitError            a quantity that cannot be read: "32 parsecs"
     ├─ MistakesError         a file of a person's with mistakes; holds them all
     │   ├─ RigError         ... a rig or workspace
     │   ├─ RoutineError     ... a routine
     │   └─ SettingsError    ... the program's settings
     ├─ RecordingError       a recording that cannot be played
     ├─ RunError             a run that cannot be read
     ├─ LearnError           a drive that cannot tell what was asked of it
     ├─ MotionError          a motion that this chassis cannot follow
     ├─ ReadError            a person's file that cannot be read at all
     ├─ SaveError            a file that could not be written; the old one is whole
     │   └─ ChangedOutside   ... because someone else has just changed the same thing
     ├─ ExportError          something that cannot be drawn or written as asked
     ├─ UsageError           a command that is used wrongly
     ├─ KernelError          arithmetic that cannot be printed as C: a fault of the program's own text
     └─ SessionError         the session's process could not start or is gone

A message says what is wrong, where, and what would be right.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

__all__ = [
    "ChangedOutside",
    "ExportError",
    "KernelError",
    "LearnError",
    "Mistake",
    "MistakesError",
    "MotionError",
    "PivrexError",
    "ReadError",
    "RecordingError",
    "RigError",
    "RoutineError",
    "RunError",
    "SaveError",
    "SessionError",
    "SettingsError",
    "UnitError",
    "UsageError",
]


class PivrexError(Exception):
    """The root of the family; its text is a sentence for a person."""


class UnitError(PivrexError, ValueError):
    """A quantity that cannot be read. Also a ValueError, so that validation collects it."""


@dataclass(frozen=True, order=True)
class Mistake:
    """One mistake in a person's file.

    Attributes
    ----------
    line : int
        Counted from 1; 0 when the mistake is about the whole file.
    key : str
        The dotted key, such as ``chassis.wheels.0.radius``; empty for the whole file.
    what : str
        What stands there and what would be right.
    """

    line: int
    key: str
    what: str

    def __str__(self) -> str:
        return f"{self.key}: {self.what}" if self.key else self.what


class MistakesError(PivrexError):
    """A person's file with mistakes, all of them in ``mistakes``."""

    def __init__(self, path: Path, mistakes: list[Mistake]) -> None:
        super().__init__(path, mistakes)
        self.path = path
        self.mistakes = sorted(mistakes)

    def lines(self) -> list[str]:
        """One ``file:line: what`` for each mistake."""
        return [f"{self.path}:{m.line}: {m}" if m.line else f"{self.path}: {m}" for m in self.mistakes]

    def __str__(self) -> str:
        return "\n".join(self.lines())


class RigError(MistakesError):
    """A rig or workspace file with mistakes."""


class RoutineError(MistakesError):
    """A routine with mistakes; each key says the column."""


class SettingsError(MistakesError):
    """A file of the program's settings with mistakes."""


class RecordingError(PivrexError):
    """A recording that cannot be played, with the line where it goes wrong."""

    def __init__(self, path: Path, line: int, what: str) -> None:
        super().__init__(path, line, what)
        self.path, self.line, self.what = path, line, what

    def __str__(self) -> str:
        return f"{self.path}:{self.line}: {self.what}"


class RunError(PivrexError):
    """A run that cannot be read, with the file and, where there is one, the line."""

    def __init__(self, path: Path, line: int, what: str) -> None:
        super().__init__(path, line, what)
        self.path, self.line, self.what = path, line, what

    def __str__(self) -> str:
        return f"{self.path}:{self.line}: {self.what}" if self.line else f"{self.path}: {self.what}"


class LearnError(PivrexError):
    """A drive from which nothing can be learned about the question; says what to drive."""


class MotionError(PivrexError):
    """A motion that this chassis cannot follow."""


class ReadError(PivrexError):
    """A person's file that cannot be read: not there, no file, too large, no text. ``line`` is 0 where there is none."""

    def __init__(self, path: Path, reason: str, line: int = 0) -> None:
        super().__init__(path, reason, line)
        self.path, self.reason, self.line = path, reason, line

    def __str__(self) -> str:
        return f"{self.path}:{self.line}: {self.reason}" if self.line else f"{self.path}: {self.reason}"


class SaveError(PivrexError):
    """A file that could not be written. What stood there before is still there, whole."""

    def __init__(self, path: Path, reason: str) -> None:
        super().__init__(path, reason)
        self.path, self.reason = path, reason

    def __str__(self) -> str:
        return f"{self.path}: not saved, {self.reason}; the file is as it was"


class ChangedOutside(SaveError):  # noqa: N818 - it names an event, not a failure
    """A change that was not made, because another program has just changed the same thing. Theirs counts now; the person sees that, and may
    change it again.
    """

    def __str__(self) -> str:
        return self.reason


class ExportError(PivrexError):
    """Something that cannot be drawn or written as asked."""


class KernelError(PivrexError):
    """A kernel that is not in the subset of Python that can be printed as C: what is wrong, with file and line."""


class UsageError(PivrexError):
    """A command that is used wrongly."""


class SessionError(PivrexError):
    """The session's process could not start, or is gone."""
