"""The words of the table of a routine on a board: frames and threads, values and conditions."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache
from math import cos, isnan, nan, sin

from pivrex.board.steps import words as b
from pivrex.board.steps.values import wrapped
from pivrex.errors import Mistake
from pivrex.routine import watching as w
from pivrex.routine.means import Means
from pivrex.routine.nodes import Call, Compare, Condition, Expression, Group, IsState, Not, Quantity, Variable
from pivrex.routine.program import (
    MAIN,
    Assign,
    BeginCount,
    CallMove,
    Fork,
    Instruction,
    Limit,
    Program,
    SwitchStep,
    Where,
)

__all__ = ["Label", "Table", "Value", "Word", "moves_of"]


GROWS = {
    b.DROP: -1, b.IF_FINITE: -1, b.AND_THEN: -1, b.OR_ELSE: -1, b.ANGLE_OF: -1, b.AWAY: -1, b.UNLESS: -1, b.GIVE: -1, b.STORE: -1,
    b.COUNT: -1, b.SINCE: -1, b.LIMIT: -1, b.DRIVE: -1, b.TURN: -1, b.MOTION: -7, b.WHEEL: -2, b.WHEELS: -1, b.HERE: -3, b.ATTACH: -2,
    b.SWITCH: -1, b.RUN: -1, b.HOME: -2,
}  # fmt: skip
"""By how many values the stack grows with a step; what is missing leaves it as it is."""

OWN_CHANGES = {b.WRAP: wrapped, b.COSINE: cos, b.SINE: sin}


class Label:
    """A place in the table that is known later."""

    at = -1


Word = int | Label
Value = float | list[tuple[Word, ...]]
"""What a value is: a number that is known when the table is made, or steps."""


def moves_of(step: Instruction) -> list[str]:
    """Return the own moves that a step may do."""
    limit: Limit | None = getattr(step, "limit", None)
    calls = (
        [step] if isinstance(step, CallMove) else [limit.call] if limit is not None and limit.call is not None else []
    )
    return [call.move for call in calls]


class Table:
    """Makes the table."""

    def __init__(self, program: Program, means: Means, places: str) -> None:
        self.program, self.means, self.words, self.no_places = program, means, means.words, places
        self.line, self.planner = means.line, means.planner
        self.items: list[Word] = []
        self.has: set[int] = set()
        self.waits: set[int] = set()
        self.lines: dict[int, int] = {}
        self.ways: set[str] = set()
        self.numbers: dict[float, int] = {}
        self.wrong: list[Mistake] = []
        self.switches = False
        self.deep = self.top = 1
        self.begins: dict[str, Label] = {}
        self.explored: set[str] = set()
        self.owners = dict(self.owners_of(MAIN, MAIN, ()))
        self.slots: dict[str, dict[object, int]] = {owner: {} for owner in self.owners.values()}
        self.where, self.code, self.owner = Where(0, ""), MAIN, MAIN
        for code in self.owners:
            owner = self.owners[code]
            for name, _ in program.params.get(code, ()):
                self.slot(owner, name)
            for step in program.codes[code]:
                if isinstance(step, Assign) or (isinstance(step, CallMove) and step.result):
                    self.slot(owner, step.name if isinstance(step, Assign) else step.result)
                elif isinstance(step, BeginCount):
                    self.slot(owner, (code, step.slot))

    # --- frames and threads ---

    def owners_of(self, code: str, owner: str, doing: tuple[str, ...]) -> Iterator[tuple[str, str]]:
        """Yield each code that may be done, once, and the one whose frame it has: a branch has that of what began it."""
        yield code, owner
        self.explored.add(code)
        for step in self.program.codes[code]:
            for branch in step.branches if isinstance(step, Fork) else ():
                yield from self.owners_of(branch, owner, doing)
            for move in moves_of(step):
                if move in (*doing, owner):
                    self.refuse(f'"{move}" does itself: a board has no room for that', step.where)
                elif move not in self.explored:
                    yield from self.owners_of(move, move, (*doing, owner))

    def slot(self, owner: str, key: object) -> int:
        own = self.slots[owner]
        return own.setdefault(key, b.HEADER + len(own))

    def size(self, owner: str) -> int:
        return b.HEADER + len(self.slots[owner])

    def places_of(self, owner: str) -> int:
        """Return how many places a code needs with all that it does."""
        return self.size(owner) + self.called_in(owner)

    @cache  # noqa: B019 - a table is made once, and forgotten
    def called_in(self, code: str) -> int:
        """Return how many places the own moves need that a code does."""
        return max((self.places_of(m) for s in self.program.codes[code] for m in moves_of(s)), default=0)

    @cache  # noqa: B019 - a table is made once, and forgotten
    def max_at_once(self, code: str) -> int:
        """Return how many threads a code may begin, with all that those begin."""
        each = (
            sum(1 + self.max_at_once(branch) for branch in step.branches)
            if isinstance(step, Fork)
            else max(map(self.max_at_once, moves_of(step)), default=0)
            for step in self.program.codes[code]
        )
        return max(each, default=0)

    # --- words ---

    def refuse(self, what: str, where: Where) -> None:
        at = f"{where.file}, line {where.line}: " if where.file else ""
        self.wrong.append(Mistake(0 if where.file else where.line, "", at + what))

    def needs_place(self) -> None:
        """Note that a step needs to know where on the field the robot is."""
        if self.no_places:
            self.refuse(self.no_places, self.where)

    def put(self, does: int, *words: Word) -> None:
        if does < w.NEGATIVE or b.LOCAL <= does < b.WRAP:
            self.top += 1
        else:
            self.top += -1 if w.PLUS <= does < b.LOCAL else GROWS.get(does, 0)
        self.deep = max(self.deep, self.top)
        self.has.add(does)
        self.items += [does, *words]

    def label(self, label: Label) -> None:
        label.at = len(self.items)

    def linked(self) -> list[int]:
        """Return the words with the places that labels got."""
        return [one.at if isinstance(one, Label) else one for one in self.items]

    def number(self, value: float) -> int:
        return self.numbers.setdefault(value if not isnan(value) else nan, len(self.numbers))

    def push(self, value: Value) -> None:
        if isinstance(value, list):
            for words in value:
                if isinstance(words[0], Label):
                    self.label(words[0])
                else:
                    self.put(words[0], *words[1:])
        else:
            self.put(w.KNOWN, self.number(value))

    def steps_of(self, value: Value) -> list[tuple[Word, ...]]:
        return value if isinstance(value, list) else [(w.KNOWN, self.number(value))]

    def of_one(self, does: int, a: Value) -> Value:
        if not isinstance(a, list) and does != w.ROOT:
            return float(OWN_CHANGES[does](a) if does in OWN_CHANGES else w.changed(does, a))
        return [*self.steps_of(a), (does,)]

    def of_two(self, does: int, x: Value, y: Value) -> Value:
        if not isinstance(x, list) and not isinstance(y, list) and does < b.LOCAL and not (does == w.OVER and y == 0):
            return float(w.joined(does, x, y))
        return [*self.steps_of(x), *self.steps_of(y), (does,)]

    def checked(self, value: Expression) -> Value:
        """Return a value that must be there."""
        found = self.value(value)
        return [*found, (b.CHECK,)] if isinstance(found, list) else found

    # --- values and conditions ---

    def value(self, value: Expression) -> Value:
        match value:
            case Quantity():
                return value.value
            case Variable():
                return self.named(value.name)
            case Call(name="least" | "most"):
                does = w.LEAST if value.name == "least" else w.MOST
                args = [self.value(a) for a in value.args]
                found = args[0]
                for one in args[1:] or args:
                    found = self.of_two(does, found, one)
                return found
            case Call():
                return self.of_one(w.SIZE if value.name == "size" else w.ROOT, self.value(value.args[0]))
        if value.sign == "neg":
            return self.of_one(w.NEGATIVE, self.value(value.a))
        return self.of_two(w.SIGNS[value.sign], self.value(value.a), self.value(value.b))

    def named(self, name: str) -> Value:  # noqa: PLR0911 - a case for each name
        own = self.slots[self.owner]
        if name in own:
            return [(b.LOCAL, own[name])]
        if name == "time":
            return [(w.TIME, 0)]
        if name == "heading":
            return [(w.ANGLE, 2)]
        if name in ("x", "y"):
            self.needs_place()
            return [(w.POSE, ("x", "y").index(name))]
        if name in self.means.names:
            return [(b.PLACE, self.means.names.index(name))]
        place = self.means.places[name]
        if name in self.words.sensors:
            return [(b.HEARS, place) if self._is_switched(name) else (w.SENSOR, place)]
        return [(w.COLUMN, place)]

    def _is_switched(self, name: str) -> bool:
        found = any(isinstance(s, SwitchStep) and s.name == name for c in self.owners for s in self.program.codes[c])
        self.switches = self.switches or found
        return found

    def condition(self, cond: Condition) -> list[tuple[Word, ...]]:
        match cond:
            case Not():
                return [*self.condition(cond.of), (w.NEGATION,)]
            case Group():
                end = Label()
                both = b.AND_THEN if cond.word == "and" else b.OR_ELSE
                return [*self.condition(cond.a), (both, end), *self.condition(cond.b), (end,)]
            case IsState():
                assert isinstance(cond.of, Variable)
                return self._state(cond.of.name, cond.state)
            case Compare():
                return [*self.steps_of(self.value(cond.a)), *self.steps_of(self.value(cond.b)), (w.SIGNS[cond.sign],)]

    def _state(self, name: str, state: str) -> list[tuple[Word, ...]]:
        opposite: list[tuple[Word, ...]] = [(w.NEGATION,)] if state in ("silent", "off") else []
        if state in ("heard", "silent"):
            return [*self.steps_of(self.named(name)), (w.HEARD,), *opposite]
        a = self.means.names.index(name)
        if state == "there":
            return [(w.KNOWN, self.number(self.words.reach(name).near)), (b.THERE, a)]
        return [(b.GOAL, a), (w.KNOWN, self.number(0.5)), (w.MORE,), *opposite]
