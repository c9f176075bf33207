"""Makes an own move from lines of a routine: numbers become parameters, and every equal passage becomes a call."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from pivrex.errors import UnitError
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.routine.kinds import ANGLE, COUNTS, LENGTH, NUMBER, SPEED, TIME, TURN_RATE, TURNS
from pivrex.routine.numbers import TextNumber, numbers_in
from pivrex.routine.playing import Player
from pivrex.routine.program import Program
from pivrex.routine.reading import TAB, without_comment

__all__ = ["SEEDS", "MadeMove", "differs", "made_move", "suggested"]

SEEDS = (1, 2, 3)
"""Drives in which the new text is held against the old one."""

_NAMES = {
    LENGTH: "way", ANGLE: "angle", TIME: "seconds", SPEED: "speed", TURN_RATE: "rate", COUNTS: "ticks", TURNS: "rolls", NUMBER: "share",
}  # fmt: skip

_STAY = ("when",)
"""Lines whose numbers must stay numbers."""

_TYPED = re.compile(r"([^\W\d]\w*)\s*(?:with\s+(.+))?")


@dataclass(frozen=True)
class MadeMove:
    """A routine with a new own move.

    Attributes
    ----------
    text : str
    name : str
    calls : int
        How many passages became calls of it.
    """

    text: str
    name: str
    calls: int


@dataclass(frozen=True)
class _Line:
    """A line that says something: where it stands, from 1, how far it is indented, its words without numbers, and these."""

    number: int
    indent: int
    words: str
    numbers: tuple[TextNumber, ...]


def suggested(text: str, first: int, last: int) -> str:
    """Return what a person may type for `made_move` with lines ``first`` to ``last``, from 1: a name, and each number with one."""
    taken: set[str] = set()
    found = []
    for number in _numbers(_lines(text, first, last)):
        name = base = _NAMES.get(number.kind, "value")
        count = 1
        while name in taken:
            count += 1
            name = f"{base}{count}"
        taken.add(name)
        found.append(f"{name} {number.text}")
    return "part" + (f" with {', '.join(found)}" if found else "")


def made_move(text: str, first: int, last: int, typed: str) -> MadeMove:
    """Make an own move of lines ``first`` to ``last``, from 1, and let it stand in the place of every passage like these.

    Parameters
    ----------
    text : str
    first, last : int
    typed : str
        Its name and parameters: "nod with way 80 cm, angle 90 deg". A number that none of them has the value of stays a number.

    Raises
    ------
    UnitError
        If that cannot be.
    """
    read = _TYPED.fullmatch(typed.strip())
    if read is None:
        raise UnitError(f'"{typed.strip()}" is no name; such as: nod with way 80 cm')
    passage = _lines(text, first, last)
    if not passage:
        raise UnitError("nothing is done on these lines")
    everything = _lines(text, 1, text.count("\n") + 1)
    base = passage[0].indent
    if min(one.indent for one in passage) < base or _goes_on(everything, passage[-1].number, base):
        raise UnitError("these lines are part of a block: select all of it, or lines within it")
    params = _params(read[2] or "", _numbers(passage))
    of = {number: name for name, number in params}
    found: list[list[_Line]] = []
    for k in range(len(everything) - len(passage) + 1):
        part = everything[k : k + len(passage)]
        overlaps = found and part[0].number <= found[-1][-1].number
        if not overlaps and _same(passage, part, of) and not _goes_on(everything, part[-1].number, part[0].indent):
            found.append(part)
    rows = text.split("\n")
    block = [f"own move {read[1]}" + (f" with {', '.join(f'{name} {n.text}' for name, n in params)}" if params else "")]
    block += [_rebased(rows[n - 1], n, base, of) for n in range(passage[0].number, passage[-1].number + 1)]
    for part in reversed(found):
        values = [number for one in part for number in one.numbers]
        given = [
            f"{of[mine]} {theirs.text}"
            for mine, theirs in zip([n for one in passage for n in one.numbers], values, strict=True)
            if mine in of and theirs.value != mine.value
        ]
        begin = rows[part[0].number - 1]
        call = (
            begin[: len(begin) - len(begin.lstrip())] + f"do {read[1]}" + (f" with {', '.join(given)}" if given else "")
        )
        rows[part[0].number - 1 : part[-1].number] = [call]
    return MadeMove("\n".join(rows).rstrip("\n") + "\n\n" + "\n".join(block) + "\n", read[1], len(found))


def differs(before: Program, after: Program, rig: Rig, field: Field | None, limit_s: float) -> str:
    """Return where two routines make other Ticks, line numbers apart, in drives that differ; empty if they never do."""
    for seed in SEEDS:
        plays = [Player(rig, field, seed).play(program, limit_s) for program in (before, after)]
        one, other = plays
        assert one is not None and other is not None
        player = Player(rig, field, seed)
        layout = player.line.layout
        if one.rows.shape != other.rows.shape:
            return f"in drive {seed} it takes {other.time_s:.2f} s instead of {one.time_s:.2f} s"
        unlike = (one.rows != other.rows) & ~(np.isnan(one.rows) & np.isnan(other.rows))
        unlike[:, layout.at("routine", "line")] = False
        if unlike.any():
            row, column = np.argwhere(unlike)[0]
            return f"in drive {seed} {layout.titles[column]} is another at {row * one.dt_s:.2f} s"
    return ""


def _lines(text: str, first: int, last: int) -> list[_Line]:
    """Return the lines that say something."""
    found = []
    for number, row in list(enumerate(text.split("\n"), 1))[first - 1 : last]:
        bare = without_comment(row)
        if not bare.strip():
            continue
        numbers, words, end = numbers_in(text, number), [], 0
        for n in numbers:
            words += [bare[end : n.begin], "#"]
            end = n.end
        said = " ".join("".join([*words, bare[end:]]).split())
        found.append(
            _Line(number, len(bare) - len(bare.lstrip()) if "\t" not in bare else _indent(bare), said, tuple(numbers))
        )
    return found


def _indent(row: str) -> int:
    return len(row.expandtabs(TAB)) - len(row.expandtabs(TAB).lstrip())


def _numbers(lines: Sequence[_Line]) -> list[TextNumber]:
    """Return the numbers that may become parameters."""
    return [n for one in lines for n in one.numbers if one.words.split()[0] not in _STAY]


def _goes_on(lines: Sequence[_Line], last: int, indent: int) -> bool:
    """Return whether a block continues after a line."""
    after = next((one for one in lines if one.number > last), None)
    return after is not None and after.indent > indent


def _same(passage: Sequence[_Line], part: Sequence[_Line], of: dict[TextNumber, str]) -> bool:
    """Return whether lines say the same, apart from numbers that are parameters."""
    for mine, theirs in zip(passage, part, strict=True):
        if mine.words != theirs.words or mine.indent - passage[0].indent != theirs.indent - part[0].indent:
            return False
        for a, b in zip(mine.numbers, theirs.numbers, strict=True):
            if a.kind != b.kind or (a not in of and a.value != b.value):
                return False
    return True


def _params(typed: str, numbers: Sequence[TextNumber]) -> list[tuple[str, TextNumber]]:
    """Find the number that each parameter is; the first with its value that no other has taken. Raises `UnitError`."""
    found: list[tuple[str, TextNumber]] = []
    for one in filter(None, map(str.strip, typed.split(","))):
        name, _, value = one.partition(" ")
        if any(name == other for other, _ in found):
            raise UnitError(f'two parameters are called "{name}"')
        wanted = " ".join(value.split())
        number = next(
            (n for n in numbers if " ".join(n.text.split()) == wanted and n not in [m for _, m in found]), None
        )
        if number is None:
            raise UnitError(f'"{one}": no number of these lines is {wanted or "left out"}')
        found.append((name, number))
    return found


def _rebased(row: str, number: int, base: int, of: dict[TextNumber, str]) -> str:
    """Return a line of the passage as it stands in the own move."""
    for n in sorted((n for n in of if n.line == number), key=lambda n: -n.begin):
        row = row[: n.begin] + of[n] + row[n.end :]
    return " " * TAB + row.expandtabs(TAB)[base:] if row.strip() else ""
