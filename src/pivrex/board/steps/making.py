"""A checked routine as a table of numbers for a board, which `pivrex.board.steps.going` runs."""

from __future__ import annotations

from math import inf, nan

from pivrex.board.steps import words as b
from pivrex.board.steps.motions import Motions
from pivrex.board.steps.table import Label, Table, Value
from pivrex.routine import watching as w
from pivrex.routine.kinds import COUNTS, NUMBER
from pivrex.routine.means import Means
from pivrex.routine.nodes import Condition, Expression, IsState, Span, Variable
from pivrex.routine.program import (
    MAIN,
    Assign,
    AttachStep,
    BeginCount,
    CallMove,
    Choose,
    Default,
    FollowStep,
    Fork,
    GiveBack,
    HereStep,
    HomeStep,
    Instruction,
    Jump,
    JumpUnless,
    Limit,
    MarkStep,
    MotionStep,
    NextCount,
    Program,
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

__all__ = ["StepWriter"]


NOWHERE = Span(0, 0)


class StepWriter(Table):
    """Writes the table of a routine."""

    def __init__(self, program: Program, means: Means, places: str) -> None:
        super().__init__(program, means, places)
        for code in self.owners:
            self._code(code)
        self.items.append(0)  # the kernel reads past the last word, but never uses it

    # --- steps ---

    def _code(self, code: str) -> None:
        self.code, self.owner = code, self.owners[code]
        is_move = code == self.owner and code != MAIN
        self.label(self.begins.setdefault(code, Label()))
        steps = self.program.codes[code]
        self.labels = [Label() for _ in range(len(steps) + 1)]
        for at, step in enumerate(steps):
            self.label(self.labels[at])
            self.top = 0
            self.lines[len(self.items)] = 0 if step.where.file else step.where.line
            self._step(at, step)
        self.label(self.labels[-1])
        self._give_back(nan, is_move)

    def _give_back(self, value: Value, is_move: bool) -> None:
        if is_move:
            self.push(value)
            self.put(b.GIVE)
        else:
            self.put(b.END)

    def _step(self, at: int, step: Instruction) -> None:  # noqa: C901, PLR0912 - a case for each step
        self.where = step.where
        match step:
            case Jump():
                self.put(b.JUMP, self.labels[at + step.by])
            case JumpUnless():
                self.push(self.condition(step.cond))
                self.put(b.UNLESS, self.labels[at + step.by])
            case Choose():
                self.push(self.value(step.value))
                for value, by in step.cases:
                    self.put(b.CASE, self.number(value), self.labels[at + by])
                self.put(b.DROP)
                self.put(b.JUMP, self.labels[at + step.otherwise])
            case BeginCount():
                self.push(self.checked(step.times))
                self.put(b.COUNT, self.slots[self.owner][self.code, step.slot])
            case NextCount():
                self.put(b.NEXT, self.slots[self.owner][self.code, step.slot], self.labels[at + step.by])
            case Assign():
                self._push_or(step.value, step.otherwise)
                self.put(b.STORE, self.slots[self.owner][step.name])
            case CallMove():
                self.call(step)
            case GiveBack():
                is_move = self.code == self.owner and self.code != MAIN
                if is_move and step.value is not None:
                    self._push_or(step.value, step.otherwise)
                    self.put(b.GIVE)
                else:
                    self._give_back(nan, is_move)
            case StopStep():
                self.put(b.STOP)
            case SayStep() | ShowStep():
                pass  # a board has no screen
            case Default():
                self._default(step)
            case HereStep():
                self.needs_place()
                for one in (step.x, step.y):
                    self.push(self.checked(one))
                self.push(nan if step.facing is None else self.checked(step.facing))
                self.put(b.HERE)
            case SwitchStep() if step.name in self.words.sensors:
                self.put(b.HUSH, self.means.places[step.name], int(not step.on))
            case SwitchStep():
                self.push(float(step.on))
                self.put(b.SWITCH, self.means.names.index(step.name))
            case Fork():
                self._fork(step)
            case _:
                self._begin(step)

    def _push_or(self, value: Expression, otherwise: Expression | None) -> None:
        """Push a value, or another one where nothing was sensed."""
        self.push(self.value(value))
        if otherwise is not None:
            end = Label()
            self.put(b.IF_FINITE, end)
            self.push(self.value(otherwise))
            self.label(end)

    def call(self, call: CallMove) -> None:
        if call.move not in self.owners:
            return  # it was refused
        given = dict(call.args)
        params = self.program.params[call.move]
        for name, default in params:
            self.push(self.value(given.get(name, default)))
        into = self.slots[self.owner][call.result] if call.result else -1
        begin = self.begins.setdefault(call.move, Label())
        self.put(b.CALL, begin, self.size(self.owner), len(params), into)
        self.top -= len(params)

    def _fork(self, step: Fork) -> None:
        if step.mode == "together":
            self.refuse("a board cannot slow steps down so that all end together", step.where)
        elif step.branches:
            begins = [self.begins.setdefault(branch, Label()) for branch in step.branches]
            self.put(b.FORK, len(begins), *begins)
            self._wait(b.OF_ONE if step.mode == "one" else b.OF_ALL)

    def _default(self, step: Default) -> None:
        if step.what == "gyro":
            self.put(b.GYRO, int(step.on))
            return
        full = self.planner.full_forward if step.what == "drive" else self.planner.full_turn
        assert step.value is not None
        value = self.checked(step.value)
        self.push(self.of_two(w.TIMES, value, full) if step.kind == NUMBER else value)
        self.put(b.DRIVE if step.what == "drive" else b.TURN)

    def _wait(self, what: int, a: int = -1, limit: Limit | None = None, until: Condition | None = None) -> None:
        """Wait for something, until something else is true, or for no longer than a limit; the limit's time is there already."""
        end, limited = Label(), Label()
        self.waits.add(what)
        self.put(b.WAIT, what, a, end, limited, int(until is not None))
        if until is not None:
            self.push(self.condition(until))
            self.put(b.JUMP, end)
        self.top = 0
        self.label(limited)
        if limit is not None and limit.what == "stop":
            self.put(b.FAULT, b.BY_LIMIT)
        elif limit is not None and limit.call is not None:
            self.call(limit.call)
        self.label(end)

    def _limit(self, limit: Limit) -> None:
        if limit.most is not None and limit.kind.second == 1:
            self.push(self.checked(limit.most))
            self.put(b.LIMIT)

    def _begin(self, step: Instruction) -> None:  # noqa: C901, PLR0912 - a case for each step
        """Put a step that takes time, and what is waited for then; as `pivrex.routine.beginning.begin_step`."""
        limit: Limit | None = getattr(step, "limit", None)
        if limit is not None:
            self._limit(limit)
        names = self.means.names
        match step:
            case FollowStep():
                self.refuse("a path is followed: a board has no room for its plan", step.where)
            case MotionStep():
                Motions(self).put(step)
                far = step.limit.most is not None and step.limit.kind.second != 1
                limited = far or (step.until is not None and step.amount is not None)
                self._wait(b.OF_LIMITED_MOTION if limited else b.OF_MOTION, -1, step.limit, step.until)
            case WaitStep():
                self.push(self.checked(step.time))
                self.put(b.SINCE)
                self._wait(b.OF_TIME)
            case WaitUntilStep():
                self._wait(b.OF_CONDITION, -1, limit, step.until)
            case WaitForStep():
                self._wait(b.OF_PLACE, -1, limit, IsState(Variable(step.name, NOWHERE), "there", NOWHERE))
            case SettleStep():
                self._wait(b.OF_REST, -1, limit)
            case AttachStep():
                self._attach(step)
            case RunStep():
                self.push(self.checked(step.share))
                self.put(b.RUN, names.index(step.name))
                if step.time is not None:
                    self.push(self.checked(step.time))
                    self.put(b.SINCE)
                    self._wait(b.OF_TIME, names.index(step.name))
            case ZeroStep(what="gyro"):
                self.put(b.ZERO)
                self._wait(b.OF_GYRO)
            case ZeroStep():
                if step.what != "counts":
                    self.put(b.CALLED, names.index(step.what))
            case MarkStep():
                self.refuse("a mark needs the walls of the field, which a board does not know", step.where)
            case HomeStep():
                self.push(self.checked(step.share))
                self.push(0.0 if step.as_ is None else self.checked(step.as_))
                self.put(b.HOME, names.index(step.name))
                self._wait(b.OF_STOP, names.index(step.name), limit)

    def _attach(self, step: AttachStep) -> None:
        a, reach = self.means.names.index(step.name), self.words.reach(step.name)
        value = self.checked(step.value)
        if step.kind == COUNTS:
            value = self.of_two(w.TIMES, value, self.words.per_count(step.name))
        if step.by:
            value = self.of_two(w.PLUS, [(b.GOAL, a)], value)
        # an unknown place stays unknown: LEAST and MOST ignore infinity
        if reach.low > -inf:
            value = self.of_two(w.MOST, value, reach.low)
        if reach.high < inf:
            value = self.of_two(w.LEAST, value, reach.high)
        self.push(value)
        self.push(nan if step.over is None else self.checked(step.over))
        self.ways |= {"over"} if step.over is not None else set()
        self.put(b.ATTACH, a)
        if step.waits:
            self._wait(b.OF_PLACE, -1, step.limit, IsState(Variable(step.name, NOWHERE), "there", NOWHERE))
