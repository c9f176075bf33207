"""Steps that do not drive: waiting, attachments and sensors, names and calls."""

from __future__ import annotations

from collections.abc import Iterable
from math import degrees

from pivrex.rig.attachments import ENCODED, PLACES
from pivrex.routine.checking.scope import Scope
from pivrex.routine.checking.values import ValueChecks
from pivrex.routine.forms import KEYWORDS
from pivrex.routine.kinds import ANGLE, COUNTS, LENGTH, NUMBER, SPEED, TIME, TURN_RATE, Kind, named
from pivrex.routine.mistakes import nearest
from pivrex.routine.nodes import Binary, Call, Expression, Node, Otherwise, Quantity, Span, Variable
from pivrex.routine.program import (
    Assign,
    AttachStep,
    CallMove,
    Default,
    GiveBack,
    HereStep,
    HomeStep,
    Instruction,
    Limit,
    MarkStep,
    RunStep,
    SayStep,
    SettleStep,
    ShowStep,
    StopStep,
    SwitchStep,
    WaitForStep,
    WaitStep,
    WaitUntilStep,
    ZeroStep,
)
from pivrex.routine.reading import Line

__all__ = ["StepChecks"]


class StepChecks(ValueChecks):
    """Checks and compiles them."""

    def _speed(self, at: Expression, kind: Kind, spins: bool) -> None:
        if not isinstance(at, Quantity):
            return
        full = self._rig.full_turn_rad_s if spins else self._rig.full_forward_m_s
        if at.value <= 0:
            self._wrong("must be more than 0; the way it goes is said in words", at.span)
        elif kind == NUMBER and at.value > 1:
            self._wrong("is more than full; a share of full speed is written as 40 %", at.span)
        elif kind != NUMBER and at.value > full * 1.0001:
            said = f"{degrees(full):.0f} deg/s" if spins else f"{full:.2f} m/s"
            self._wrong(f"is more than this robot's full, {said}; the limits will hold it back", at.span, warning=True)

    def _place(self, node: Node, scope: Scope) -> dict[str, Expression]:
        place, facing = node["place"], node["facing"]
        self._must_be(place.x, scope, LENGTH, "x")
        self._must_be(place.y, scope, LENGTH, "y")
        values = {"x": place.x, "y": place.y}
        if facing is not None:
            self._must_be(facing, scope, ANGLE, "facing")
            values["facing"] = facing
        return values

    # --- waiting ---

    def _limit(self, node: Node, scope: Scope, kinds: tuple[Kind, ...], what: str) -> Limit:
        o = node.options
        if o.most is None:
            return Limit()
        kind = self._must_be(o.most, scope, kinds, what)
        if isinstance(o.most, Quantity) and o.most.value <= 0:
            self._wrong("must be more than 0", o.most.span)
        other = o.otherwise or Otherwise("go on")
        call = None
        if other.what == "do":
            call = self._call(other.name, other.span, other.args, scope)
        return Limit(o.most, kind, other.what, call)

    def _only_limit(self, node: Node) -> None:
        o = node.options
        if o.at is not None or o.gyro is not None or o.until is not None:
            self._wrong("takes no such option")

    def _do_wait(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        self._must_be(node["time"], scope, TIME, "how long")
        if isinstance(node["time"], Quantity) and node["time"].value < 0:
            self._wrong("must not be less than 0", node["time"].span)
        return [WaitStep(self._where(), node["time"])]

    def _do_wait_until(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        self._condition(node["cond"], scope)
        return [WaitUntilStep(self._where(), node["cond"], self._limit(node, scope, (TIME,), "at most"))]

    def _do_wait_for(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        name = self._attachment(node["name"], PLACES)
        return [WaitForStep(self._where(), name, self._limit(node, scope, (TIME,), "at most"))]

    def _do_settle(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        return [SettleStep(self._where(), self._limit(node, scope, (TIME,), "at most"))]

    # --- attachments and sensors ---

    def _attachment(self, named_: tuple[str, Span], kinds: tuple[str, ...]) -> str:
        name, span = named_
        words = self._words
        if name not in words.attachments:
            known = ", ".join(words.attachments) or "none"
            self._wrong(
                f'{self._rig.name} has no attachment "{name}"{nearest(name, words.attachments)}; it has {known}', span
            )
        elif words.attachments[name] not in kinds:
            is_a = {"motor": "a motor: run it", "position": "a motor to a position: use move", "lift": "a lift: use move",
                    "servo": "a servo: use move", "switch": "a switch: switch it on or off"}[words.attachments[name]]  # fmt: skip
            self._wrong(f'"{name}" is {is_a}', span)
        return name

    def _do_move_to(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        name = self._attachment(node["name"], PLACES)
        known = self._words.attachments.get(name) in PLACES
        value = node["value"]
        kinds = (self._words.place(name), COUNTS) if known else (ANGLE, LENGTH, COUNTS)
        kind = self._must_be(value, scope, kinds, "where it goes")
        if known and kind == COUNTS and not self._words.per_count(name):
            self._wrong(f'"{name}" has no encoder that counts; say an angle', value.span)
        if known and kind in kinds and isinstance(value, Quantity) and not node["by"]:
            reach = self._words.reach(name)
            at = value.value * (self._words.per_count(name) if kind == COUNTS else 1.0)
            if not reach.low - 1e-9 <= at <= reach.high + 1e-9:
                self._wrong(f'lies outside of what "{name}" can reach, {reach.limits}', value.span)
        if node["over"] is not None:
            self._must_be(node["over"], scope, TIME, "over how long")
        limit = self._limit(node, scope, (TIME,), "at most")
        if limit.most is not None and not node["waits"]:
            self._wrong(
                'waits for nothing, so it has no limit; write "and wait" before at most',
                node.options.most.span if node.options.most else None,
            )
        return [
            AttachStep(self._where(), name, bool(node["by"]), value, kind, node["over"], bool(node["waits"]), limit)
        ]

    def _do_switch(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        name, span = node["name"]
        words = self._words
        if name not in words.sensors and words.attachments.get(name) != "switch":
            if name in words.attachments:
                self._attachment((name, span), ("switch",))
            else:
                known = [*words.sensors, *(n for n, k in words.attachments.items() if k == "switch")]
                self._wrong(f'{self._rig.name} has nothing to switch that is called "{name}"{nearest(name, known)}; '
                            f'it has {", ".join(known) or "none"}', span)  # fmt: skip
        return [SwitchStep(self._where(), name, bool(node["on"]))]

    def _do_run(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        name = self._attachment(node["name"], ("motor",))
        self._must_be(node["share"], scope, NUMBER, "the share")
        if isinstance(node["share"], Quantity) and abs(node["share"].value) > 1:
            self._wrong("is more than full; a share is written as 40 %", node["share"].span)
        if node["time"] is not None:
            self._must_be(node["time"], scope, TIME, "how long")
        return [RunStep(self._where(), name, node["share"], node["time"])]

    def _do_zero(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        name, span = node["name"]
        if name == "gyro":
            if not self._words.has_gyro:
                self._wrong(f"{self._rig.name} has no gyro with a correction", span)
        elif name != "counts":
            self._attachment((name, span), ENCODED)
        return [ZeroStep(self._where(), name)]

    def _do_home(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        name = self._attachment(node["name"], ENCODED)
        self._must_be(node["share"], scope, NUMBER, "the share")
        share = node["share"]
        if isinstance(share, Quantity) and not 0 < abs(share.value) <= 1:
            self._wrong("must be a share of its speed towards the stop, such as -30 %", share.span)
        if node["as"] is not None:
            known = self._words.attachments.get(name) in ENCODED
            self._must_be(
                node["as"], scope, self._words.place(name) if known else (ANGLE, LENGTH), "what it is called there"
            )
        return [HomeStep(self._where(), name, share, node["as"], self._limit(node, scope, (TIME,), "at most"))]

    # --- telling the person ---

    def _do_say(self, _line: Line, node: Node, _scope: Scope) -> list[Instruction]:
        text, span = node["text"]
        if not text.strip():
            self._wrong("says nothing; write the sentence between the quotes", span)
        return [SayStep(self._where(), text)]

    def _do_show(self, line: Line, node: Node, scope: Scope) -> list[Instruction]:
        value = node["value"]
        kind = self._kind(value, scope) or NUMBER
        label = " ".join(line.text.removeprefix("show").removesuffix(":").split())
        return [ShowStep(self._where(), label, value, kind)]

    # --- names ---

    def _do_here(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        values = self._place(node, scope)
        return [HereStep(self._where(), values["x"], values["y"], values.get("facing"))]

    def _do_mark_wall(self, _line: Line, node: Node, _scope: Scope) -> list[Instruction]:
        return [MarkStep(self._where(), node["side"])]

    def _do_mark_by(self, _line: Line, node: Node, _scope: Scope) -> list[Instruction]:
        name, span = node["name"]
        rangers = [n for n, kind in self._words.sensors.items() if kind == "ranger"]
        if name not in rangers:
            known = f"a ranger: {', '.join(rangers)}" if rangers else f"none: {self._rig.name} has no ranger"
            self._wrong(f'"{name}" is no ranger{nearest(name, rangers)}; it may be "wall ahead", or {known}', span)
        return [MarkStep(self._where(), "", name)]

    def _do_drive_at(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        kind = self._must_be(node["value"], scope, (SPEED, NUMBER), "how fast")
        self._speed(node["value"], kind, False)
        return [Default(self._where(), "drive", node["value"], kind)]

    def _do_turn_at(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        kind = self._must_be(node["value"], scope, (TURN_RATE, NUMBER), "how fast")
        self._speed(node["value"], kind, True)
        return [Default(self._where(), "turn", node["value"], kind)]

    def _do_gyro_use(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        if node["gyro"] and not self._words.has_gyro:
            self._wrong(f"{self._rig.name} has no gyro with a correction")
        return [Default(self._where(), "gyro", on=bool(node["gyro"]))]

    def _refuse_name(self, name: str, span: Span) -> bool:
        if name in KEYWORDS:
            self._wrong(f'"{name}" is a word of the language; choose another name', span)
        elif name in self._words.readings or name in self._words.attachments:
            self._wrong(f'"{name}" is something of the robot; choose another name', span)
        else:
            return False
        return True

    def _keep(self, named_: tuple[str, Span], kind: Kind | None, scope: Scope) -> None:
        name, span = named_
        self._refuse_name(name, span)
        before = scope.kinds.get(name)
        if before is not None and kind is not None and before != kind:
            self._wrong(f'"{name}" was {named(before)} before, and is {named(kind)} here', span)
        scope.kinds[name] = kind or before or NUMBER

    def _do_let(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        kind = self._kind(node["value"], scope)
        other = node["otherwise"]
        if other is not None and kind is not None:
            self._must_be(other, scope, kind, "what counts otherwise")
        elif other is None and self._may_be_silent(node["value"]):
            self._wrong(
                f"may have sensed nothing; say what counts then: let {node['name'][0]} be ... else ...",
                node["value"].span,
                warning=True,
            )
        self._keep(node["name"], kind, scope)
        return [Assign(self._where(), node["name"][0], node["value"], other)]

    def _may_be_silent(self, value: Expression) -> bool:
        if isinstance(value, Variable):
            return value.name in self._words.sensors
        if isinstance(value, Binary):
            return self._may_be_silent(value.a) or self._may_be_silent(value.b)
        return isinstance(value, Call) and any(map(self._may_be_silent, value.args))

    def _do_let_result(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        name, span = node["move"]
        step = self._call(name, span, node["args"] or (), scope, node["name"][0])
        move = self._moves.get(name)
        if move is not None and move.result is None:
            self._wrong(f'"{name}" gives no result; write: give VALUE in its block', span)
        self._keep(node["name"], move.result if move is not None else None, scope)
        return [step]

    def _do_do(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        name, span = node["move"]
        return [self._call(name, span, node["args"] or (), scope)]

    def _call(
        self, name: str, span: Span, args: Iterable[tuple[str, Expression, Span]], scope: Scope, result: str = ""
    ) -> CallMove:
        move = self._moves.get(name)
        given: list[tuple[str, Expression]] = []
        if move is None:
            known = ", ".join(self._moves) or "none"
            self._wrong(f'there is no own move "{name}"{nearest(name, self._moves)}; own moves are: {known}', span)
        else:
            move.called = True
            if scope.move is not None:
                scope.move.calls.add(name)
        for arg, value, at in args:
            kind = self._kind(value, scope)
            if move is not None and arg not in move.kinds:
                known = ", ".join(move.kinds) or "none"
                self._wrong(f'"{name}" has no parameter "{arg}"{nearest(arg, move.kinds)}; it has {known}', at)
            elif move is not None and kind is not None and kind != move.kinds[arg]:
                self._wrong(f'"{arg}" is {named(move.kinds[arg])}, but this is {named(kind)}', value.span)
            if any(arg == one for one, _ in given):
                self._wrong(f'says "{arg}" twice', at)
            given.append((arg, value))
        return CallMove(self._where(), name, tuple(given), result)

    def _do_give(self, _line: Line, node: Node, scope: Scope) -> list[Instruction]:
        kind = self._kind(node["value"], scope)
        if scope.move is None:
            self._wrong("belongs into an own move; the routine itself gives nothing")
        elif scope.branch:
            self._wrong("cannot stand in what goes on at once")
        elif kind is not None and scope.move.result is not None and kind != scope.move.result:
            self._wrong(f"gave {named(scope.move.result)} before, and gives {named(kind)} here", node["value"].span)
        if node["otherwise"] is not None and kind is not None:
            self._must_be(node["otherwise"], scope, kind, "what counts otherwise")
        return [GiveBack(self._where(), node["value"], node["otherwise"])]

    def _do_stop(self, _line: Line, _node: Node, _scope: Scope) -> list[Instruction]:
        return [StopStep(self._where())]
