"""Blocks: decisions, loops, and several lines at once."""

from __future__ import annotations

from collections.abc import Iterable
from math import inf

from pivrex.routine.checking.motions import MotionChecks
from pivrex.routine.checking.scope import Scope, all_lines
from pivrex.routine.kinds import NUMBER, Kind
from pivrex.routine.nodes import Condition, Expression, Node, Quantity
from pivrex.routine.program import (
    Assign,
    AttachStep,
    BeginCount,
    CallMove,
    Choose,
    Default,
    FollowStep,
    Fork,
    HereStep,
    Instruction,
    Jump,
    JumpUnless,
    MotionStep,
    NextCount,
    RunStep,
    SayStep,
    SettleStep,
    ShowStep,
    SwitchStep,
    WaitStep,
    Where,
)
from pivrex.routine.reading import Line

__all__ = ["BlockChecks"]

_DRIVING = {
    "drive", "drive_along", "drive_to", "follow", "follow_through", "turn", "turn_to", "turn_toward", "pivot", "bend", "wheels", "settle",
}  # fmt: skip


MAX_TIMES = 1000
"""Of a repeat."""


class BlockChecks(MotionChecks):
    """Checks and compiles blocks of lines."""

    def _block(self, lines: list[Line], scope: Scope) -> list[Instruction]:
        code: list[Instruction] = []
        ended: Line | None = None
        i = 0
        active = [line for line in lines if not line.skipped]
        while i < len(active):
            line = active[i]
            self._line = line
            if ended is not None:
                self._wrong(
                    f'is never reached: line {ended.number} "{ended.text}" ends what comes before it', warning=True
                )
                ended = None
            node = line.node
            i += 1
            if node is None:
                self._block(line.block, scope)  # for the mistakes within
                continue
            if node.form in ("if_", "choose"):
                parts = [line]
                follows = ("else_if", "else_") if node.form == "if_" else ()
                while i < len(active) and (n := active[i].node) is not None and n.form in follows:
                    parts.append(active[i])
                    i += 1
                made, stops = self._if(parts, scope) if node.form == "if_" else self._choose(line, scope)
                code += made
                ended = line if stops else None
                continue
            code += self._step(line, node, scope)
            if node.form in ("stop", "give"):
                ended = line
        return code

    def _step(self, line: Line, node: Node, scope: Scope) -> list[Instruction]:
        if node.options.twice:
            for name, span in node.options.twice:
                self._wrong(f'says "{name}" twice', span)
        how = getattr(self, f"_do_{node.form}", None)
        if how is None:
            self._wrong({
                "else_if": "stands alone; it belongs behind an if", "else_": "stands alone; it belongs behind an if",
                "when": "stands alone; it belongs into a choose", "otherwise": "stands alone; it belongs into a choose",
                "own_move": "must stand at the edge of the text, not in a block",
                "use_moves": "must stand at the edge of the text, not in a block",
                "for_rig": "belongs to the top, before the first step", "on_floor": "belongs to the top, before the first step",
                "start_at": "belongs to the top, before the first step",
            }[node.form])  # fmt: skip
            self._block(line.block, scope)
            return []
        made: list[Instruction] = how(line, node, scope)
        return made

    # --- decisions and loops ---

    def _if(self, parts: list[Line], scope: Scope) -> tuple[list[Instruction], bool]:
        code: list[Instruction] = []
        blocks: list[tuple[Where, Condition | None, list[Instruction]]] = []
        stops, whole = True, False
        for line in parts:
            self._line = line
            assert line.node is not None
            if whole:
                self._wrong('stands behind "else", which does everything that is left')
            cond = line.node["cond"]
            if cond is not None:
                self._condition(cond, scope)
            whole = whole or cond is None
            where = self._where()
            block = self._block(line.block, scope)
            stops = stops and _ends(line.block)
            blocks.append((where, cond, block))
        behind = 0
        for where, cond, block in reversed(blocks):
            made = list(block)
            if behind:
                made.append(Jump(where, behind + 1))
            if cond is not None:
                made.insert(0, JumpUnless(where, cond, len(made) + 1))
            code = made + code
            behind = len(code)
        return code, stops and whole

    def _choose(self, line: Line, scope: Scope) -> tuple[list[Instruction], bool]:
        assert line.node is not None
        value = line.node["value"]
        kind = self._kind(value, scope)
        where = self._where()
        blocks: list[tuple[float | None, Line, list[Instruction]]] = []
        for one in line.block:
            if one.skipped:
                continue
            self._line = one
            node = one.node
            if node is None or node.form not in ("when", "otherwise"):
                if node is not None:
                    self._wrong('the block of a choose holds "when VALUE" and "otherwise" only')
                self._block(one.block, scope)
                continue
            case = self._case(node, kind, scope, [c for c, _, _ in blocks])
            blocks.append((case, one, self._block(one.block, scope)))
        self._line = line
        has_default = any(c is None for c, _, _ in blocks)
        if not has_default:
            self._wrong('has no "otherwise": nothing is done where nothing was sensed', warning=True)
        stops = has_default and all(_ends(one.block) for _, one, _ in blocks)
        return self._chosen(where, value, blocks), stops

    def _case(self, node: Node, kind: Kind | None, scope: Scope, before: list[float | None]) -> float | None:
        """Return the value of a "when", None of an "otherwise"."""
        if node.form == "otherwise":
            if None in before:
                self._wrong('there is an "otherwise" already')
            return None
        value = node["value"]
        if kind is not None:
            self._must_be(value, scope, kind, "the value of this choice")
        if not isinstance(value, Quantity):
            self._wrong("must be a number", value.span)
            return inf
        if value.value in before:
            self._wrong("has this value a second time", value.span)
        return value.value

    def _chosen(
        self, where: Where, value: Expression, blocks: list[tuple[float | None, Line, list[Instruction]]]
    ) -> list[Instruction]:
        code: list[Instruction] = []
        cases: list[tuple[float, int]] = []
        size = sum(len(block) + 1 for _, _, block in blocks)
        otherwise = size + 1
        for case, one, block in blocks:
            if case is None:
                otherwise = len(code) + 1
            else:
                cases.append((case, len(code) + 1))
            code += block
            code.append(Jump(Where(one.number, one.text, self._file), size - len(code)))
        return [Choose(where, value, tuple(cases), otherwise), *code]

    def _do_repeat(self, line: Line, node: Node, scope: Scope) -> list[Instruction]:
        self._must_be(node["count"], scope, NUMBER, "how often")
        count = node["count"]
        if isinstance(count, Quantity) and (
            count.value < 1 or count.value != int(count.value) or count.value > MAX_TIMES
        ):
            self._wrong(f"must be a whole number from 1 to {MAX_TIMES}", count.span)
        where, slot = self._where(), scope.slots
        scope.slots += 1
        block = self._block(line.block, scope)
        return [
            BeginCount(where, slot, count),
            NextCount(where, slot, len(block) + 2),
            *block,
            Jump(where, -len(block) - 1),
        ]

    def _do_repeat_until(self, line: Line, node: Node, scope: Scope) -> list[Instruction]:
        self._condition(node["cond"], scope)
        where = self._where()
        count = node["count"]
        if count is not None:
            self._must_be(count, scope, NUMBER, "how often")
        slot = scope.slots
        scope.slots += 1
        block = self._block(line.block, scope)
        if count is None and not _takes_time(block):
            self._line = line
            self._wrong("may go on for ever without a step that takes time; the clock ends it", warning=True)
        code: list[Instruction] = [BeginCount(where, slot, count)] if count is not None else []
        head: list[Instruction] = [JumpUnless(where, node["cond"], 2)]
        tail = len(block) + (2 if count is not None else 1)
        head.append(Jump(where, tail + 1))
        if count is not None:
            head.append(NextCount(where, slot, len(block) + 2))
        return [*code, *head, *block, Jump(where, -len(block) - len(head))]

    def _once(self, line: Line, scope: Scope, mode: str) -> list[Instruction]:
        where = self._where()
        names: list[str] = []
        drivers: list[Line] = []
        for one in line.block:
            if one.skipped:
                continue
            scope.forks += 1
            name = f"{scope.code}#{scope.forks}"
            inner = Scope(scope.kinds, scope.move, scope.slots, True, name)
            code = self._block([one], inner)
            self._codes[name] = tuple(code)
            names.append(name)
            if self._drives(code):
                drivers.append(one)
                if len(drivers) > 1:
                    self._line = one
                    self._wrong(
                        f"drives the robot, and so does line {drivers[0].number} at the same time; one of them must wait"
                    )
            if mode == "together" and not (
                len(code) == 1
                and isinstance(code[0], MotionStep | AttachStep | WaitStep | RunStep)
                and not isinstance(code[0], FollowStep)
            ):
                self._line = one
                self._wrong(
                    'cannot be slowed to end with the others; "ending together" takes drives, turns, moves of attachments and waits'
                )
        self._line = line
        return [Fork(where, tuple(names), mode)]

    def _do_once_all(self, line: Line, _node: Node, scope: Scope) -> list[Instruction]:
        return self._once(line, scope, "all")

    def _do_once_one(self, line: Line, _node: Node, scope: Scope) -> list[Instruction]:
        return self._once(line, scope, "one")

    def _do_once_together(self, line: Line, _node: Node, scope: Scope) -> list[Instruction]:
        return self._once(line, scope, "together")

    def _drives(self, code: Iterable[Instruction], seen: frozenset[str] = frozenset()) -> bool:
        for step in code:
            if isinstance(step, MotionStep | SettleStep):
                return True
            if isinstance(step, CallMove) and step.move in self._moves and step.move not in seen:
                lines = all_lines(self._moves[step.move].line.block)
                if any(n.node is not None and n.node.form in _DRIVING for n in lines if not n.skipped):
                    return True
            if isinstance(step, Fork) and any(self._drives(self._codes[b], seen) for b in step.branches):
                return True
        return False


def _ends(block: list[Line]) -> bool:
    """Return whether a block surely ends what it stands in."""
    active = [line for line in block if not line.skipped and line.node is not None]
    return bool(active) and active[-1].node is not None and active[-1].node.form in ("stop", "give")


def _takes_time(code: Iterable[Instruction]) -> bool:
    quick = (Assign, Jump, JumpUnless, BeginCount, NextCount, Choose, SwitchStep, Default, HereStep, SayStep, ShowStep)
    return any(not isinstance(step, quick) for step in code)
