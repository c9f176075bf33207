"""The numbers in a text: the place and unit of each, and how to replace it."""

from __future__ import annotations

import re
from dataclasses import dataclass
from math import ceil, log10

from pivrex.routine.forms import KEYWORDS
from pivrex.routine.kinds import ANGLE, COUNTS, LENGTH, NUMBER, SPEED, TIME, TURN_RATE, TURNS, UNITS, Kind
from pivrex.routine.reading import without_comment

__all__ = ["FINEST", "TextNumber", "numbers_in", "replaced"]

_UNIT = "|".join(sorted((re.escape(u).replace(r"\ ", r"\s+") for u in UNITS), key=len, reverse=True))
_NUMBER = re.compile(rf"(?<![\w.])(\d+(?:\.\d+)?|\.\d+)(?:\s*({_UNIT})(?!\w))?")
_BEFORE = re.compile(r'(?:([^\W\d]\w*)|("[^"]*"|[\d)%]))\s*-\s*$')

FINEST: dict[Kind, float] = {
    LENGTH: 0.001, TIME: 0.001, ANGLE: 0.0017453292519943296, SPEED: 0.001, TURN_RATE: 0.017453292519943296, COUNTS: 1.0,
    TURNS: 0.001, NUMBER: 0.001,
}  # fmt: skip
"""How finely a number of each kind is written, in SI."""


@dataclass(frozen=True)
class TextNumber:
    """A number in a line.

    Attributes
    ----------
    line : int
        From 1.
    begin, end : int
        Its columns from 0, the sign before it and its unit included.
    value : float
        In SI.
    unit : str
        As it is written; empty for none.
    kind : Kind
    text : str
    """

    line: int
    begin: int
    end: int
    value: float
    unit: str
    kind: Kind
    text: str

    def written(self, value: float) -> str:
        """Write another value in its place, in the same unit, as finely as its kind needs."""
        factor = UNITS[" ".join(self.unit.split())][0] if self.unit else 1.0
        finest = FINEST.get(self.kind, 1e-4) / factor
        decimals = max(0, ceil(-log10(finest) - 1e-9)) if finest < 1 else 0
        text = f"{value / factor:.{decimals}f}"
        if "." in text:
            text = text.rstrip("0").rstrip(".")
        space = " " if self.unit and self.text[-len(self.unit) - 1] == " " else ""
        return ("0" if text == "-0" else text) + space + self.unit


def numbers_in(text: str, line: int) -> list[TextNumber]:
    """Return the numbers of a line, from 1, of a text; none for a line that is not there."""
    lines = text.split("\n")
    if not 1 <= line <= len(lines):
        return []
    bare = without_comment(lines[line - 1])
    quoted = [(m.start(), m.end()) for m in re.finditer(r'"[^"]*"', bare)]
    found = []
    for m in _NUMBER.finditer(bare):
        if any(a <= m.start() < b for a, b in quoted):
            continue
        unit = m[2] or ""
        factor, kind = UNITS[" ".join(unit.split())] if unit else (1.0, NUMBER)
        begin, sign = m.start(), 1.0
        before = bare[: m.start()]
        if before.rstrip().endswith("-"):
            word = _BEFORE.search(before)
            if word is None or (
                word[1] is not None and word[1] in KEYWORDS
            ):  # it removes nothing from the text before it
                begin, sign = len(before.rstrip()) - 1, -1.0
        found.append(TextNumber(line, begin, m.end(), sign * float(m[1]) * factor, unit, kind, bare[begin : m.end()]))
    return found


def replaced(text: str, number: TextNumber, value: float) -> str:
    """Return a text with another value in the place of a number."""
    lines = text.split("\n")
    row = lines[number.line - 1]
    lines[number.line - 1] = row[: number.begin] + number.written(value) + row[number.end :]
    return "\n".join(lines)
