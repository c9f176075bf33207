"""The shortest time of a routine: says before it is played if it will not fit."""

from __future__ import annotations

from collections.abc import Mapping
from math import inf, sqrt
from typing import Any

from pivrex.rig.rig import Rig
from pivrex.routine.checking.scope import OwnMove
from pivrex.routine.kinds import COUNTS, LENGTH, NUMBER, TIME, TURNS
from pivrex.routine.nodes import Expression, Node, Quantity, Variable
from pivrex.routine.reading import Line
from pivrex.routine.robot import RobotWords

__all__ = ["Timing"]

DEEPEST = 20

Names = Mapping[str, Quantity]


class Timing:
    """The least time of blocks. What depends on anything sensed takes no time at least."""

    def __init__(self, rig: Rig, moves: Mapping[str, OwnMove]) -> None:
        self._rig, self._moves, self._words = rig, moves, RobotWords(rig)
        c = rig.correction
        self._rise = c.drive_acceleration_m_s2 if c is not None else 1.0
        self._turn_acceleration = c.turn_acceleration_rad_s2 if c is not None else 6.0
        self._turn = (c.turn_rate_rad_s if c is not None else 0.0) or rig.full_turn_rad_s / 2
        self._drive = rig.full_forward_m_s / 2

    def passes(self, lines: list[Line], limit_s: float) -> tuple[Line, float] | None:
        """Return the first line of a routine after which a time is surely over, and how long it takes by then; None if none is."""
        spent = 0.0
        for line, seconds in self._each(lines, {}, 0):
            spent += seconds
            if spent > limit_s:
                return line, spent
        return None

    def _each(self, lines: list[Line], names: Names, deep: int) -> list[tuple[Line, float]]:
        active = [line for line in lines if not line.skipped and line.node is not None]
        found: list[tuple[Line, float]] = []
        i = 0
        while i < len(active):
            line, node = active[i], active[i].node
            assert node is not None
            parts = [line]
            while node.form == "if_" and i + 1 < len(active) and _form(active[i + 1]) in ("else_if", "else_"):
                i += 1
                parts.append(active[i])
            found.append((line, self._least(parts, node, names, deep)))
            if node.form in ("drive_at", "turn_at"):
                self._default(node, names)
            if node.form in ("stop", "give"):
                break
            i += 1
        return found

    def _whole(self, lines: list[Line], names: Names, deep: int) -> float:
        return sum(seconds for _, seconds in self._each(lines, names, deep)) if deep < DEEPEST else 0.0

    def _default(self, node: Node, names: Names) -> None:
        value = self._value(node["value"], names)
        if value is None:
            return
        full = self._rig.full_forward_m_s if node.form == "drive_at" else self._rig.full_turn_rad_s
        speed = value.value * full if value.kind == NUMBER else value.value
        if node.form == "drive_at":
            self._drive = max(speed, 1e-3)
        else:
            self._turn = max(speed, 1e-3)

    def _least(self, parts: list[Line], node: Node, names: Names, deep: int) -> float:
        line, form = parts[0], node.form
        if form in ("drive", "drive_along", "turn", "pivot", "bend", "wheels"):
            return self._motion(node, names)
        if form == "wait":
            value = self._value(node["time"], names)
            return value.value if value is not None and value.kind == TIME else 0.0
        if form in ("do", "let_result"):
            return self._called(node, names, deep)
        return self._block(parts, line, node, names, deep)

    def _block(self, parts: list[Line], line: Line, node: Node, names: Names, deep: int) -> float:
        def of(one: Line) -> float:
            return self._whole(one.block, names, deep + 1)

        match node.form:
            case "if_":
                return min(map(of, parts)) if _form(parts[-1]) == "else_" else 0.0
            case "choose":
                cases = [one for one in line.block if not one.skipped]
                return min(map(of, cases)) if any(_form(one) == "otherwise" for one in cases) else 0.0
            case "repeat":
                count = self._value(node["count"], names)
                return of(line) * count.value if count is not None else of(line)
            case "once_all" | "once_one" | "once_together":
                each = [self._whole([one], names, deep + 1) for one in line.block if not one.skipped]
                return (min if node.form == "once_one" else max)(each, default=0.0)
        return 0.0

    def _called(self, node: Node, names: Names, deep: int) -> float:
        move = self._moves.get(node["move"][0])
        if move is None:
            return 0.0
        own = {name: value for name, value in move.params if isinstance(value, Quantity)}
        for name, value, _ in node["args"] or ():
            known = self._value(value, names)
            own.pop(name, None)
            if known is not None:
                own[name] = known
        return self._whole(move.line.block, own, deep + 1)

    @staticmethod
    def _value(value: Expression | None, names: Names) -> Quantity | None:
        """Return a value that is known before anything is sensed; of names only parameters."""
        if isinstance(value, Quantity):
            return value
        return names.get(value.name) if isinstance(value, Variable) else None

    def _motion(self, node: Node, names: Names) -> float:
        amount, o = self._value(node["amount"], names), node.options
        if amount is None or o.until is not None or o.most is not None:
            return 0.0
        if amount.kind == TIME:
            return amount.value
        straight = node.form in ("drive", "drive_along")
        if amount.kind in (COUNTS, TURNS):
            if not straight:
                return 0.0
            each = self._words.metres_per_count if amount.kind == COUNTS else self._words.metres_per_turn
            amount = Quantity(amount.value * each, LENGTH, amount.span)
        rise, most = (
            (self._rise, self._drive) if straight or node.form == "bend" else (self._turn_acceleration, self._turn)
        )
        full = self._rig.full_turn_rad_s if node.form in ("turn", "pivot") else self._rig.full_forward_m_s
        if o.at is not None:
            at = self._value(o.at, names)
            if at is None:
                return 0.0
            most = at.value * full if at.kind == NUMBER else at.value
        way = amount.value
        if node.form == "bend":
            radius = self._value(node["radius"], names)
            way *= radius.value if radius is not None else 0.0
        most = min(most, full) if most > 0 else inf
        return way / most + most / rise if way >= most * most / rise else 2 * sqrt(max(way, 0.0) / rise)


def _form(line: Line) -> Any:
    return line.node.form if line.node is not None else ""
