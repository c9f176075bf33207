"""Splits the text of a routine into lines; indented lines become the block of the line above."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from pivrex.routine.mistakes import TextMistake
from pivrex.routine.nodes import Node
from pivrex.routine.parsing import Unread, parse_line

__all__ = ["LARGEST_FILE", "MAX_LINES", "SKIP", "TAB", "Line", "read_lines", "split_lines", "without_comment"]

TAB = 4
SKIP = "skip"
"""In front of a step: it is left out, and stays."""

LARGEST_FILE = 200_000
"""Bytes."""

MAX_LINES = 5000
DEEPEST = 12
"""Blocks in blocks."""

BLOCKS = frozenset(
    (
        "own_move",
        "if_",
        "else_if",
        "else_",
        "choose",
        "when",
        "otherwise",
        "repeat",
        "repeat_until",
        "once_all",
        "once_one",
        "once_together",
    )
)


@dataclass
class Line:
    """A line that says something.

    Attributes
    ----------
    number : int
        Counted from 1.
    text : str
        Without indentation and comment.
    column : int
        Where that begins, from 0.
    node : Node or None
        What it says; None if it cannot be read.
    skipped : bool
    block : list of Line
        Those indented below it.
    """

    number: int
    text: str
    column: int
    node: Node | None
    skipped: bool = False
    block: list[Line] = field(default_factory=list)

    def mistake(self, begin: int, length: int, what: str, warning: bool = False) -> TextMistake:
        """Return a mistake at a place of this line, counted from 0 within its text."""
        return TextMistake(self.number, self.column + begin + 1, max(1, length), what, warning)

    def whole(self, what: str, warning: bool = False) -> TextMistake:
        """Return a mistake that the whole line is."""
        return self.mistake(0, len(self.text), what, warning)


def split_lines(text: str) -> list[str]:
    """Return the lines of a text, whatever its line ends; a byte-order mark is left out."""
    return re.split(r"\r\n|\n|\r", text.removeprefix("\ufeff"))


def without_comment(text: str) -> str:
    """Cut a comment off; a # within quotes is none."""
    quoted = False
    for i, char in enumerate(text):
        if char == '"':
            quoted = not quoted
        elif char == "#" and not quoted:
            return text[:i].rstrip()
    return text.rstrip()


def read_lines(text: str) -> tuple[list[Line], list[TextMistake]]:
    """Read a text. Never raises: a line that cannot be read has no node, and a mistake."""
    found: list[Line] = []
    mistakes: list[TextMistake] = []
    stack: list[tuple[int, Line]] = []
    rows = split_lines(text)
    if len(rows) > MAX_LINES:
        mistakes.append(TextMistake(MAX_LINES + 1, 1, 1, f"a routine has at most {MAX_LINES} lines"))
    for number, row in enumerate(rows[:MAX_LINES], 1):
        said = without_comment(row)
        bare = said.lstrip(" \t\u00a0")
        if not bare:
            continue
        column = len(said) - len(bare)
        indent = len(said[:column].expandtabs(TAB))
        skipped = False
        if re.match(rf"{SKIP}\b", bare):
            rest = bare[len(SKIP) :].lstrip(" \t")
            column += len(bare) - len(rest)
            bare, skipped = rest, True
        line = _line(number, bare, column, skipped, mistakes)
        while stack and stack[-1][0] >= indent:
            closed = stack.pop()[0]
            if closed != indent and (not stack or stack[-1][0] < indent) and closed > indent:
                mistakes.append(
                    line.mistake(
                        0, len(bare), f"is indented by {indent}, but no line above it is; it stood at {closed}"
                    )
                )
        if stack:
            stack[-1][1].block.append(line)
        elif indent and not found:
            mistakes.append(line.mistake(0, len(bare), "is indented, but no line above it has a block"))
            found.append(line)
        else:
            found.append(line)
        if len(stack) >= DEEPEST:
            mistakes.append(line.whole(f"stands in more than {DEEPEST} blocks; make an own move of it"))
            continue
        stack.append((indent, line))
    _check_blocks(found, mistakes)
    return found, mistakes


def _line(number: int, bare: str, column: int, skipped: bool, mistakes: list[TextMistake]) -> Line:
    if not bare:
        return Line(number, bare, column, None, skipped)
    read = parse_line(bare.replace("\t", " ").replace("\u00a0", " "))
    if isinstance(read, Unread):
        if not skipped:  # a line that is left out may be incomplete
            mistakes.append(TextMistake(number, column + read.column + 1, read.length, read.what))
        return Line(number, bare, column, None, skipped)
    return Line(number, bare, column, read, skipped)


def _check_blocks(lines: list[Line], mistakes: list[TextMistake]) -> None:
    for line in lines:
        takes = line.node is None or line.node.form in BLOCKS
        if line.block and not takes:
            first = line.block[0]
            mistakes.append(
                first.whole(f"is indented, but line {line.number} above it has no block; begin it where that begins")
            )
        if line.node is not None and line.node.form in BLOCKS and not line.block and not line.skipped:
            mistakes.append(line.whole("has no block: indent the lines that belong to it by four spaces"))
        _check_blocks(line.block, mistakes)
