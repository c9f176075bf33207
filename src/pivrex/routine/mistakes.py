"""A mistake in a routine: its place, and the correction."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from difflib import get_close_matches

from pivrex.errors import Mistake

__all__ = ["TextMistake", "as_mistakes", "nearest"]


@dataclass(frozen=True, order=True)
class TextMistake:
    """One mistake.

    Attributes
    ----------
    line : int
        Counted from 1.
    column : int
        Counted from 1.
    length : int
        How many characters it is about.
    what : str
        What is wrong, and what would be right.
    warning : bool
        Whether the routine can be played all the same.
    """

    line: int
    column: int
    length: int
    what: str
    warning: bool = False

    def caret(self, text: str) -> tuple[str, str]:
        """Return the line of the text that it is about, and one with carets below the place."""
        shown = text.replace("\t", " ")
        return shown, " " * (self.column - 1) + "^" * max(1, min(self.length, max(1, len(shown) - self.column + 1)))


def as_mistakes(found: Iterable[TextMistake]) -> list[Mistake]:
    """Return them as those of any file."""
    return [Mistake(m.line, f"column {m.column}", m.what) for m in found]


def nearest(word: str, known: Iterable[str]) -> str:
    """Name the nearest known word: ', nearest is "boom"'; empty if none is near."""
    names = list(known)
    lower = {n.lower(): n for n in names}
    begins = sorted((n for n in lower if len(n) > 2 and word.lower().startswith(n)), key=len)
    close = begins[-1:] or get_close_matches(word.lower(), list(lower), 1, 0.6)
    return f', nearest is "{lower[close[0]]}"' if close else ""
