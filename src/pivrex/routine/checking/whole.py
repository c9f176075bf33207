"""Turns a text into a program for one rig, and finds every mistake."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from math import inf

from pivrex.rig.rig import Rig
from pivrex.routine.checking.blocks import BlockChecks
from pivrex.routine.checking.scope import OwnMove, Reader, Scope, all_lines
from pivrex.routine.checking.timing import Timing
from pivrex.routine.forms import KEYWORDS
from pivrex.routine.kinds import ANGLE, LENGTH, NUMBER, Kind
from pivrex.routine.mistakes import TextMistake, nearest
from pivrex.routine.nodes import Expression, Node, Quantity
from pivrex.routine.program import MAIN, Program
from pivrex.routine.reading import Line, read_lines

__all__ = ["Checked", "check_text"]


@dataclass(frozen=True)
class Checked:
    """The result of a check: the program, None if it cannot be played, and every mistake and warning."""

    program: Program | None
    mistakes: tuple[TextMistake, ...]

    @property
    def wrong(self) -> tuple[TextMistake, ...]:
        """The mistakes that keep it from being played."""
        return tuple(m for m in self.mistakes if not m.warning)


def check_text(
    text: str,
    rig: Rig,
    name: str = "routine",
    shared: Reader | None = None,
    limit_s: float = inf,
    floors: Collection[str] | None = None,
) -> Checked:
    """Read a text for a rig. Never raises.

    Parameters
    ----------
    text : str
    rig : Rig
    name : str
        How the routine is called.
    shared : callable, optional
        Gives the text of a file of own moves.
    limit_s : float
        How long the robot is alone: what surely takes longer is a warning.
    floors : collection of str, optional
        The floors that there are; any will do if left out.
    """
    return _Checker(rig, name, shared).check(text, limit_s, floors)


class _Checker(BlockChecks):
    def check(self, text: str, limit_s: float, floors: Collection[str] | None) -> Checked:
        lines, self._found = read_lines(text)
        self._floors, self._floor = floors, ""
        self._uses = 0
        active = [line for line in lines if not line.skipped]
        self._collect_moves(active)
        for line in active:
            if line.node is not None and line.node.form == "use_moves":
                self._take_shared(line)
        steps = [line for line in active if line.node is None or line.node.form not in ("own_move", "use_moves")]
        steps = self._headers(steps)
        self._signatures()
        scope = Scope({})
        self._codes[MAIN] = tuple(self._block(steps, scope))
        for move_name, move in list(self._moves.items()):
            self._compile_move(move_name, move)
        self._file = ""
        drives = any(line.node is not None for line in steps)  # a file of own moves only is for others
        self._look_at_calls(drives)
        if not drives and all(move.file for move in self._moves.values()) and not self._found:
            self._found.append(TextMistake(1, 1, 1, "has no step yet; such as: drive ahead 0.8 m", warning=True))
        if not any(not m.warning for m in self._found):
            late = Timing(self._rig, self._moves).passes(steps, limit_s)
            if late is not None:
                self._line = late[0]
                self._wrong(f"will not fit: by its end at least {late[1]:.1f} s have passed, and the robot is alone for {limit_s:g} s",
                            warning=True)  # fmt: skip
        mistakes = tuple(sorted(self._found))
        if any(not m.warning for m in mistakes):
            return Checked(None, mistakes)
        params = {n: m.params for n, m in self._moves.items()}
        return Checked(
            Program(self._name, text, self._for, self._start, dict(self._codes), params, self._floor), mistakes
        )

    def _collect_moves(self, lines: Iterable[Line], file: str = "") -> None:
        for line in lines:
            if line.node is None or line.node.form != "own_move":
                continue
            self._line, self._file = line, file
            name, span = line.node["name"]
            if name in KEYWORDS:
                self._wrong(f'"{name}" is a word of the language; choose another name', span)
            if name in self._moves:
                first = self._moves[name]
                where = f"in {first.file}" if first.file else f"in line {first.line.number}"
                self._wrong(f'there is an own move "{name}" already, {where}', span)
            else:
                self._moves[name] = OwnMove(line, file)
        self._file = ""

    def _take_shared(self, line: Line) -> None:
        assert line.node is not None
        self._line, self._uses = line, line.number
        name, span = line.node["name"]
        text = self._shared(name) if self._shared is not None else None
        if text is None:
            self._wrong(f'there is no file "{name}" of own moves next to this routine', span)
            return
        lines, found = read_lines(text)
        for mistake in found:
            if not mistake.warning:
                self._found.append(
                    line.mistake(span.begin, span.end - span.begin, f"{name}:{mistake.line}: {mistake.what}")
                )
        self._collect_moves((one for one in lines if not one.skipped), name)

    def _headers(self, lines: list[Line]) -> list[Line]:
        """Take what says for which rig it is, and where it starts."""
        rest = []
        for line in lines:
            self._line = line
            node = line.node
            if node is None or node.form not in ("for_rig", "on_floor", "start_at"):
                rest.append(line)
                continue
            if any(one.node is not None and one.node.form not in ("let",) for one in rest):
                self._wrong("belongs to the top, before the first step")
            if node.form == "for_rig":
                self._take_rig(node)
            elif node.form == "on_floor":
                self._take_floor(node)
            else:
                self._take_start(node)
        return rest

    def _take_rig(self, node: Node) -> None:
        name, span = node["name"]
        if self._for:
            self._wrong(f'says twice which rig it is for; it was "{self._for}"', span)
        self._for = name
        if name.lower() != self._rig.name.lower():
            self._wrong(
                f'this routine is for {name}, but the open rig is {self._rig.name}; open that, or write "for {self._rig.name.lower()}"',
                span,
            )

    def _take_floor(self, node: Node) -> None:
        name, span = node["name"]
        if self._floor:
            self._wrong(f'says twice on which floor; it was "{self._floor}"', span)
        self._floor = name
        if self._floors is not None and name not in self._floors:
            known = ", ".join(sorted(self._floors)) or "none"
            self._wrong(f'no floor is called "{name}"{nearest(name, list(self._floors))}; floors/ holds {known}', span)

    def _take_start(self, node: Node) -> None:
        place, facing = node["place"], node["facing"]
        values = []
        for value, kind, what in ((place.x, LENGTH, "x"), (place.y, LENGTH, "y"), (facing, ANGLE, "facing")):
            if value is None:
                values.append(0.0)
                continue
            self._must_be(value, Scope({}), kind, what)
            if not isinstance(value, Quantity):
                self._wrong(
                    f"{what} of the start must be a number with its unit, for it is needed before the first step",
                    value.span,
                )
                values.append(0.0)
            else:
                values.append(value.value)
        if self._start is not None:
            self._wrong("says twice where the robot starts")
        self._start = (values[0], values[1], values[2])

    def _signatures(self) -> None:
        """Find out what each own move takes, before anything calls it."""
        for move in self._moves.values():
            self._line, self._file, self._uses = move.line, move.file, self._uses or 1
            assert move.line.node is not None
            params: list[tuple[str, Expression]] = []
            for name, default, span in move.line.node["params"] or ():
                self._refuse_name(name, span)
                if name in move.kinds:
                    self._wrong(f'has two parameters "{name}"', span)
                kind = self._kind(default, Scope({}))
                if not isinstance(default, Quantity):
                    self._wrong(f'the default of "{name}" must be a number with its unit', default.span)
                move.kinds[name] = kind or NUMBER
                params.append((name, default))
            move.params = tuple(params)
        self._file = ""
        for move in self._moves.values():
            move.result = self._result_kind(move, move.line.block)

    def _result_kind(self, move: OwnMove, lines: list[Line]) -> Kind | None:
        """Return the kind of the first value that it gives; its own mistakes are found later."""
        kept, found = list(self._found), None
        scope = Scope(dict(move.kinds), move)
        for line in all_lines(lines):
            node = line.node
            if node is None or line.skipped:
                continue
            self._line = line
            if node.form == "let":
                scope.kinds[node["name"][0]] = self._kind(node["value"], scope) or NUMBER
            elif node.form == "let_result":
                scope.kinds[node["name"][0]] = getattr(self._moves.get(node["move"][0]), "result", None) or NUMBER
            elif node.form == "give" and found is None:
                found = self._kind(node["value"], scope) or NUMBER
        self._found = kept
        return found

    def _compile_move(self, name: str, move: OwnMove) -> None:
        self._file = move.file
        scope = Scope(dict(move.kinds), move, code=name)
        self._codes[name] = tuple(self._block(move.line.block, scope))

    def _look_at_calls(self, drives: bool) -> None:
        for name, move in self._moves.items():
            if drives and not move.called and not move.file:
                self._line = move.line
                self._wrong(f'nothing does "{name}"; write: do {name}', warning=True)
            seen: set[str] = set()
            waiting = list(move.calls)
            while waiting:
                one = waiting.pop()
                if one in seen or one not in self._moves:
                    continue
                seen.add(one)
                waiting += self._moves[one].calls
            if name in seen and not move.file:
                self._line = move.line
                self._wrong(
                    f'"{name}" does itself again; unless something stops it, only the clock ends it', warning=True
                )
