"""Turns one line of a routine into a `Node`, or a mistake with its column. The grammar is in ``grammar.lark``."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache
from math import isfinite
from pathlib import Path
from typing import Any, cast

from lark import Lark, Token, Transformer, Tree
from lark.exceptions import UnexpectedCharacters, UnexpectedInput, UnexpectedToken

from pivrex.routine.forms import FORMS, KEYWORDS, LATER_WORDS, example_of
from pivrex.routine.kinds import NUMBER, UNITS
from pivrex.routine.mistakes import nearest
from pivrex.routine.nodes import (
    Amount,
    Binary,
    Call,
    Compare,
    Expression,
    Group,
    IsState,
    Node,
    Not,
    Options,
    Otherwise,
    Place,
    Quantity,
    Span,
    Variable,
)  # fmt: skip

__all__ = ["LONGEST_LINE", "Unread", "parse_line"]

LONGEST_LINE = 300
"""Characters; a longer line is no step that anyone reads aloud."""

LARGEST = 1e6
"""No number of a routine is larger, in SI."""


@dataclass(frozen=True)
class Unread:
    """A line that cannot be read: from which column (from 0), how many characters, and what would be right."""

    column: int
    length: int
    what: str


class _TooLargeError(Exception):
    def __init__(self, token: Token) -> None:
        super().__init__(str(token))
        self.token = token


def _span(token: Token) -> Span:
    return Span((token.column or 1) - 1, (token.end_column or 1) - 1)


def _name(token: Token) -> tuple[str, Span]:
    return token.strip('"'), _span(token)


class _Option:
    def __init__(self, name: str, value: Any, span: Span) -> None:
        self.name, self.value, self.span = name, value, span


class _Nodes(Transformer[Token, Any]):
    """Makes records from the bottom up. The method of each rule gets its parts, without keywords."""

    # --- expressions ---

    def quantity(self, c: list[Token]) -> Quantity:
        number, unit = c
        factor, kind = UNITS[" ".join(unit.split())]
        value = float(number) * factor
        if not isfinite(value) or abs(value) > LARGEST:
            raise _TooLargeError(number)
        return Quantity(value, kind, _span(number).to(_span(unit)))

    def number(self, c: list[Token]) -> Quantity:
        if not abs(float(c[0])) <= LARGEST:
            raise _TooLargeError(c[0])
        return Quantity(float(c[0]), NUMBER, _span(c[0]))

    def variable(self, c: list[tuple[str, Span]]) -> Variable:
        return Variable(*c[0])

    def sentence(self, c: list[Token]) -> tuple[str, Span]:
        return _name(c[0])

    def negative(self, c: list[Any]) -> Expression:
        sign, of = c
        span = _span(sign).to(of.span)
        if isinstance(of, Quantity):
            return Quantity(-of.value, of.kind, span)
        return Binary("neg", of, of, span, _span(sign))

    def binary(self, c: list[Any]) -> Binary:
        a, sign, b = c
        return Binary(str(sign), a, b, a.span.to(b.span), _span(sign))

    def call(self, c: list[Any]) -> Call:
        return Call(str(c[0]), tuple(c[1:]), _span(c[0]).to(c[-1].span))

    # --- conditions ---

    def compare(self, c: list[Any]) -> Compare:
        a, sign, b = c
        return Compare({"below": "<", "above": ">"}.get(str(sign), str(sign)), a, b, a.span.to(b.span))

    def is_(self, c: list[Any]) -> Compare:
        return Compare("is", c[0], c[1], c[0].span.to(c[1].span))

    def is_not(self, c: list[Any]) -> Compare:
        return Compare("is not", c[0], c[1], c[0].span.to(c[1].span))

    def state(self, c: list[Any]) -> IsState:
        return IsState(c[0], str(c[1]), c[0].span.to(_span(c[1])))

    def state_not(self, c: list[Any]) -> Not:
        span = c[0].span.to(_span(c[1]))
        return Not(IsState(c[0], str(c[1]), span), span)

    def not_(self, c: list[Any]) -> Not:
        return Not(c[0], c[0].span)

    def and_(self, c: list[Any]) -> Group:
        return Group("and", c[0], c[1], c[0].span.to(c[1].span))

    def or_(self, c: list[Any]) -> Group:
        return Group("or", c[0], c[1], c[0].span.to(c[1].span))

    # --- parts ---

    def name(self, c: list[Token]) -> tuple[str, Span]:
        return _name(c[0])

    def way(self, c: list[Token]) -> str:
        return str(c[0])

    side = way

    def place(self, c: list[Any]) -> Place:
        return Place(c[0], c[1])

    def amount(self, c: list[Any]) -> Amount:
        return Amount(c[0])

    def facing(self, c: list[Any]) -> _Option:
        return _Option("facing", c[0], c[0].span)

    def over(self, c: list[Any]) -> _Option:
        return _Option("over", c[0], c[0].span)

    def share(self, c: list[Any]) -> tuple[str, bool, Expression, Span]:
        which = c[0]
        if isinstance(which, Token):
            name, span = _name(which)
            return name, which.type == "STRING", c[1], span
        return which, False, c[1], c[1].span

    def param(self, c: list[Any]) -> tuple[str, Expression, Span]:
        return c[0][0], c[1], c[0][1]

    def with_args(self, c: list[Any]) -> list[Any]:
        return c

    def at(self, c: list[Any]) -> _Option:
        return _Option("at", c[0], c[0].span)

    def gyro(self, c: list[Token]) -> _Option:
        return _Option("gyro", not c[0].startswith("without"), _span(c[0]))

    def until(self, c: list[Any]) -> _Option:
        return _Option("until", c[0], c[0].span)

    def limit(self, c: list[Any]) -> _Option:
        return _Option("most", (c[0], c[1] if len(c) > 1 else None), c[0].span)

    def else_stop(self, _c: list[Any]) -> Otherwise:
        return Otherwise("stop")

    def else_go_on(self, _c: list[Any]) -> Otherwise:
        return Otherwise("go on")

    def else_do(self, c: list[Any]) -> Otherwise:
        return Otherwise("do", c[0][0], tuple(c[1]) if len(c) > 1 else (), c[0][1])

    # --- lines: whatever is not named above ---

    def __default__(self, data: Any, children: list[Any], meta: Any) -> Any:
        if str(data) not in _PARTS:
            return Tree(str(data), children)  # a repetition, which dissolves into the rule around it
        return _node(str(data), children)


_PARTS: dict[str, tuple[str, ...]] = {
    "for_rig": ("name",), "on_floor": ("name",), "start_at": ("place",), "use_moves": ("name",), "own_move": ("name",), "drive": ("way",),
    "drive_along": ("direction", "amount"), "drive_to": ("place",), "follow": ("name",),
    "follow_through": (), "turn": ("side",), "turn_to": ("angle",),
    "turn_toward": ("place",), "pivot": ("side", "about"), "bend": ("side",), "wheels": (), "wait": ("time",),
    "wait_until": ("cond",), "wait_for": ("name",), "settle": (), "move_to": ("name", "value"), "switch": ("name",),
    "run": ("name", "share", "time"), "zero": ("name",), "home": ("name", "share", "as"), "here": ("place",), "mark_wall": (),
    "mark_by": ("name",), "drive_at": ("value",),
    "turn_at": ("value",), "gyro_use": (), "let": ("name", "value", "otherwise"), "let_result": ("name", "move"), "do": ("move",),
    "give": ("value", "otherwise"), "stop": (),
    "say": ("text",), "show": ("value",), "if_": ("cond",), "else_if": ("cond",), "else_": (), "choose": ("value",), "when": ("value",),
    "otherwise": (), "repeat": ("count",), "repeat_until": ("cond", "count"), "once_all": (), "once_one": (), "once_together": (),
}  # fmt: skip
"""The parts of each form that have no word of their own, in order."""


def _node(form: str, children: list[Any]) -> Node:  # noqa: C901 - a case for each kind of part
    parts: dict[str, Any] = {}
    options: dict[str, Any] = {}
    twice: list[tuple[str, Span]] = []
    names = list(_PARTS[form])
    for child in children:
        if isinstance(child, _Option):
            _take_option(child, parts, options, twice)
        elif isinstance(child, Token):
            _take_word(child, parts)
        elif isinstance(child, Amount):
            parts["amount"] = child.value
        elif form == "wheels" and isinstance(child, tuple):
            parts.setdefault("shares", []).append(child)
        elif form == "wheels":
            parts["amount"] = child
        elif form == "follow_through":
            parts.setdefault("places", []).append(child)
        elif form == "bend" and not isinstance(child, str):
            parts["radius"] = child
        elif form == "own_move" and isinstance(child, tuple) and len(child) == 3:
            parts.setdefault("params", []).append(child)
        elif isinstance(child, list):
            parts["args"] = child
        else:
            parts[names.pop(0)] = child
    return Node(form, Span(0, 0), parts, Options(**options, twice=tuple(twice)))


def _take_option(
    option: _Option, parts: dict[str, Any], options: dict[str, Any], twice: list[tuple[str, Span]]
) -> None:
    if option.name in ("facing", "over"):
        parts[option.name] = option.value
    elif option.name in options:
        twice.append(({"most": "at most"}.get(option.name, option.name), option.span))
    elif option.name == "most":
        options["most"], options["otherwise"] = option.value
    else:
        options[option.name] = option.value


def _take_word(token: Token, parts: dict[str, Any]) -> None:
    match token.type:
        case "BACK":
            parts["back"] = True
        case "TO_BY":
            parts["by"] = str(token) == "by"
        case "FROM_HERE":
            parts["here"] = True
        case "WALL_SIDE":
            parts["side"] = str(token)
        case "AND_WAIT":
            parts["waits"] = True
        case "ON_OFF":
            parts["on"] = str(token) == "on"
        case "GYRO_USE":
            parts["gyro"] = not token.startswith("without")


@lru_cache(1)
def _parser() -> Lark:
    text = (Path(__file__).parent / "grammar.lark").read_text("utf-8")
    return Lark(text, parser="lalr", transformer=_Nodes(), maybe_placeholders=False)


@lru_cache(4096)
def parse_line(text: str) -> Node | Unread:
    """Read one line without its indentation and comment. Never raises: what cannot be read becomes a mistake."""
    if len(text) > LONGEST_LINE:
        return Unread(
            LONGEST_LINE, len(text) - LONGEST_LINE, f"a line has at most {LONGEST_LINE} characters; write two steps"
        )
    try:
        node = cast(Node, _parser().parse(text))
    except UnexpectedInput as problem:
        return _unread(text, problem)
    except _TooLargeError as problem:
        span = _span(problem.token)
        return Unread(span.begin, span.end - span.begin, "is larger than any number a routine needs")
    except RecursionError:
        return Unread(0, len(text), "is nested too deeply")
    return Node(node.form, Span(0, len(text)), node.parts, node.options)


# --- what would have been right ---

_MEANT = {
    "NUMBER": "a number", "NAME": "a name", "STRING": "a name", "COLUMN": "a name", "LPAR": "a number", "SUB": "a number", "UNIT": "its unit",
    "WAY": '"ahead", "back", "left" or "right"', "SIDE": '"left" or "right"', "BACK": '"back"', "TO_BY": '"to" or "by"',
    "FROM_HERE": '"from here"', "WALL_SIDE": '"ahead", "behind", "left" or "right"',
    "ON_OFF": '"on" or "off"', "AND_WAIT": '"and wait"', "GYRO_USE": '"with gyro" or "without gyro"',
    "STATE": '"heard", "silent", "there", "on" or "off"', "COMPARE": '"<", ">", "below" or "above"', "COMMA": "a comma",
    "RPAR": '")"', "$END": "the end of the line",
}  # fmt: skip
_SELDOM = {"COLON", "ADD", "MUL", "DIV", "RPAR"}


def _unread(text: str, problem: UnexpectedInput) -> Unread:
    if isinstance(problem, UnexpectedToken):
        token = problem.token
        at_end = token.type == "$END"
        column = len(text) if at_end else (token.column or 1) - 1
        word = "" if at_end else str(token)
        expected = set(problem.accepts or problem.expected or ())
    elif isinstance(problem, UnexpectedCharacters):
        column = problem.column - 1
        word, expected = text[column : column + 1], set()
    else:
        column, word, expected = len(text), "", set()
    length = max(1, len(word))
    return Unread(column, length, _said(text, column, word, expected, isinstance(problem, UnexpectedCharacters)))


def _said(text: str, column: int, word: str, expected: set[str], strange: bool) -> str:
    first = text[:column].split()
    if not first:
        near = nearest(word, {form.first for form in FORMS})
        if word in KEYWORDS | LATER_WORDS:
            return f'no step begins with "{word}"{near}; every step begins with its verb, such as: drive ahead 0.8 m'
        return f'"{word}" is no step{near}; such as: drive ahead 0.8 m'
    example = example_of(text)
    like = f"; such as: {example}" if example else ""
    if word and not (word.isidentifier() or word.isprintable()):
        return f"has a character that cannot be shown here (code {ord(word[0])})"
    if strange:
        return f'has "{word}", which means nothing here{like}'
    number = text[:column].rstrip()
    if "UNIT" in expected and word.isidentifier() and number[-1:].isdigit():
        near = nearest(word, UNITS)
        return f'"{word}" is no unit{near}; lengths are in m, cm, mm, in, ft, angles in deg, times in s, ms, shares in %{like}'
    wanted = _wanted(expected)
    got = f'has "{word}"' if word else "ends too soon"
    words = {w.lower() for w in expected if w.isalpha()} | set(re.findall(r'"(\w+)"', wanted))
    near = nearest(word, words - {"way", "side"}) if word.isidentifier() and wanted else ""
    return f"{got} where {wanted} should stand{near}{like}" if wanted else f"{got}{like}"


def _wanted(expected: set[str]) -> str:
    """Return what may stand here, in at most four words or phrases."""
    found = []
    for name in sorted(expected - _SELDOM - (set() if len(expected) < 3 else {"$END"})):
        said = _MEANT.get(name, f'"{name.lower()}"')
        if said not in found:
            found.append(said)
    numbers = [w for w in found if w in ("a number", "a name")]
    found = numbers + [w for w in found if w not in numbers]
    if not found:
        return ""
    return found[0] if len(found) == 1 else ", ".join(found[:4][:-1]) + " or " + found[:4][-1]
