"""One robot in the middle of a routine: the instruction of each of its threads, its values, and what it waits for."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from math import isfinite, nan

from pivrex.routine.beginning import begin_step
from pivrex.routine.planning import number
from pivrex.routine.program import (
    MAIN,
    Assign,
    BeginCount,
    CallMove,
    Choose,
    Default,
    Fork,
    GiveBack,
    HereStep,
    Instruction,
    Jump,
    JumpUnless,
    Limit,
    NextCount,
    Program,
    SayStep,
    ShowStep,
    StopStep,
    SwitchStep,
)  # fmt: skip
from pivrex.routine.thread import UNKNOWN, Blocked, Frame, RoutineMessage, StepRecord, Thread, copied, renumber
from pivrex.routine.values import FaultError, Seen, holds, value_of
from pivrex.routine.waiting import has_come
from pivrex.routine.world import World

__all__ = ["FINISHED", "RUNS", "STOPPED", "Interpreter"]

RUNS, FINISHED, STOPPED = "", "finished", "stopped"

MAX_AT_ONCE = 2000
"""How many instructions that take no time are done in one tick; what goes on for ever goes on in the next."""

DEEPEST = 60
"""How many own moves may be in each other."""

MAX_RECORDS = 2000
MAX_MESSAGES = 20000


class Interpreter:
    """One robot's way through a program.

    Attributes
    ----------
    ended : str
        `RUNS`, `FINISHED` or `STOPPED`.
    why : str
        What stopped it.
    records : list of StepRecord
    halts_at : int
        Before this line of the text it halts, where nothing else goes on at once; 0 for nowhere.
    halted : bool
    passed : bool
        Whether that line was begun while something else went on at once.
    """

    def __init__(self, dt_s: float) -> None:
        self._dt = dt_s
        self.ended, self.why = RUNS, ""
        self.halts_at, self.halted, self.passed = 0, False, False
        self.records: list[StepRecord] = []
        self.messages: list[RoutineMessage] = []
        """What it said and showed."""
        self.threads: dict[int, Thread] = {0: Thread([Frame(MAIN, 0, {})])}
        self._next = 1
        self.touched: dict[str, int] = {}
        """How far each code has been done: the instruction after the last that was looked at."""

    # --- what may go on ---

    def line(self) -> int:
        """Return the line of the routine that is being done: the motion's, if there is one."""
        records = [
            self.records[t.blocked.record]
            for t in self.threads.values()
            if t.blocked is not None and t.blocked.record >= 0
        ]
        moving = [r.line for r in records if r.lane == "motion"]
        return (moving or [r.line for r in records] or [self.records[-1].line if self.records else 0])[0]

    # --- a tick ---

    def run(self, program: Program, n: int, world: World, moved: bool) -> None:
        """Go on as far as may be in tick ``n``. ``moved`` says that its motion has come to its end."""
        left = MAX_AT_ONCE
        first = again = True
        while again and not self.ended and not self.halted and left > 0:
            again = False
            for key in list(self.threads):
                thread = self.threads.get(key)
                if thread is None or thread.ended or self.ended:
                    continue
                # a motion that began in this tick has no measurement yet; only threads that wait for others may continue
                if not first and thread.blocked is not None and thread.blocked.kind != "join":
                    continue
                try:
                    if thread.blocked is not None and not self._over(program, thread, n, world, moved):
                        continue
                    used = self._go(program, thread, n, world, left)
                except FaultError as fault:
                    self._stop(f"{fault}", n, world, thread, program)
                    return
                left -= used
                again = again or used > 0
            first = False
        if not self.ended and self.threads[0].ended:
            self._finish(FINISHED, "", n, world)

    def _finish(self, how: str, why: str, n: int, world: World) -> None:
        self.ended, self.why = how, why
        self.close(n)
        if world.moving():
            world.end_motion(whole=False)

    def copied(self) -> Interpreter:
        """Return a copy that goes its own way."""
        made = Interpreter(self._dt)
        made.ended, made.why, made._next, made.touched = self.ended, self.why, self._next, dict(self.touched)
        made.records = [replace(r, marks=list(r.marks)) for r in self.records]
        made.messages = list(self.messages)
        made.threads = copied(self.threads)
        return made

    def renumber(self, lines: Mapping[float, float]) -> None:
        """Take other numbers for the lines of the text."""
        for record in self.records:
            record.line = int(lines.get(record.line, record.line))
        self.messages = [replace(t, line=int(lines.get(t.line, t.line))) for t in self.messages]
        renumber(self.threads, lines)

    def miss(self) -> None:
        """Mark the newest sensing step as unknown: its sensor is silent."""
        step = next((r for r in reversed(self.records) if r.lane == "sense"), None)
        if step is not None:
            step.marks.append(UNKNOWN)

    def close(self, n: int, mark: str = "") -> None:
        """End all running steps, when the clock or someone ends the routine."""
        for record in self.records:
            if record.end < 0:
                record.end = n
                if mark:
                    record.marks.append(mark)

    def _stop(self, why: str, n: int, world: World, thread: Thread, program: Program) -> None:
        frame = thread.frames[-1]
        code = program.codes[frame.code]
        step = code[max(0, min(frame.pc, len(code)) - 1)]
        self._finish(STOPPED, f"line {self._line_of(thread, step)}: {why}", n, world)

    def _line_of(self, thread: Thread, step: Instruction) -> int:
        """Return the line of the routine's own text."""
        return thread.frames[-1].line if step.where.file else step.where.line

    # --- waiting ---

    def _over(self, program: Program, thread: Thread, n: int, world: World, moved: bool) -> bool:  # noqa: C901, PLR0912 - a case for each way to be over
        """Return whether what a thread waits for has come; then it waits no longer."""
        b = thread.blocked
        assert b is not None
        if b.kind == "join":
            return self._joined(b, thread, n, world)
        if b.kind == "motion" and (why := world.lost()):
            raise FaultError(why)
        over, limited = has_come(b, n, world, moved), False
        if not over and b.cond is not None:
            over = holds(b.cond, self._seen(thread, world, n))
            if over and b.kind == "motion":
                world.end_motion(whole=False)
        elif b.kind == "motion" and over:
            limited = limited or b.far_is_limit
            world.end_motion(whole=True)
        if not over and n >= b.limit_n:
            over = limited = True
            if b.kind == "motion":
                world.end_motion(whole=False)
        if not over:
            return False
        thread.blocked = None
        if b.record >= 0:
            self.records[b.record].end = n
            if limited:
                self.records[b.record].marks.append("limit")
        if b.kind == "home":
            world.homed(b.name, not limited)
        elif b.kind == "time" and b.name:
            world.run(b.name, 0.0)
        if limited:
            self._otherwise(program, thread, b.limit, n, world)
        return True

    def _joined(self, b: Blocked, thread: Thread, n: int, world: World) -> bool:
        """Return whether what went on at once has ended; what has not by then is ended."""
        ends = [self.threads[c].ended for c in b.children]
        if not (any(ends) if b.mode == "one" else all(ends)):
            return False
        for c in b.children:
            self._drop(c, n, world)
        thread.blocked = None
        return True

    def _drop(self, key: int, n: int, world: World) -> None:
        """End a thread, whatever it does."""
        thread = self.threads.pop(key)
        b = thread.blocked
        if b is None:
            return
        if b.record >= 0 and self.records[b.record].end < 0:
            self.records[b.record].end = n
        if b.kind == "motion":
            world.end_motion(whole=False)
        if b.kind == "home":
            world.homed(b.name, False)
        if b.kind == "time" and b.name:
            world.run(b.name, 0.0)
        for child in b.children:
            if child in self.threads:
                self._drop(child, n, world)

    def _otherwise(self, program: Program, thread: Thread, limit: Limit, n: int, world: World) -> None:
        if limit.what == "stop":
            self._finish(STOPPED, "a step reached its limit, and says stop then", n, world)
        elif limit.what == "do" and limit.call is not None:
            self._call(program, thread, limit.call, n, world)

    # --- going on ---

    def _seen(self, thread: Thread, world: World, n: int) -> Seen:
        return Seen(
            thread.frames[-1].names, lambda name: n * self._dt if name == "time" else world.reading(name), world.is_in
        )

    def _go(self, program: Program, thread: Thread, n: int, world: World, most: int) -> int:
        """Do instructions until one takes time; returns how many were done."""
        for used in range(1, most + 1):
            frame = thread.frames[-1]
            code = program.codes[frame.code]
            if frame.pc >= len(code):
                if not self._return(thread, nan):
                    return used
                continue
            step = code[frame.pc]
            if self.halts_at and self.halts_at == step.where.line and not step.where.file:
                if len(self.threads) == 1:
                    self.halted = True
                    return used
                self.passed = True
            frame.pc += 1
            self.touched[frame.code] = max(self.touched.get(frame.code, 0), frame.pc)
            self._do(program, thread, step, n, world)
            if thread.blocked is not None or self.ended:
                return used
        return most

    def _return(self, thread: Thread, value: float) -> bool:
        """Go back to where an own move was done; False if that was all of the thread."""
        if len(thread.frames) == 1:
            thread.ended = True
            return False
        done = thread.frames.pop()
        if done.result:
            thread.frames[-1].names[done.result] = value
        return True

    def _record(self, thread: Thread, step: Instruction, lane: str, n: int) -> int:
        if len(self.records) >= MAX_RECORDS:
            return -1
        self.records.append(
            StepRecord(
                thread.frames[-1].code, thread.frames[-1].pc - 1, self._line_of(thread, step), step.where.text, lane, n
            )
        )
        return len(self.records) - 1

    def _do(self, program: Program, thread: Thread, step: Instruction, n: int, world: World) -> None:  # noqa: C901, PLR0912, PLR0915 - a case for each instruction
        """Do one instruction."""
        frame, seen = thread.frames[-1], self._seen(thread, world, n)
        match step:
            case Jump():
                frame.pc += step.by - 1
            case JumpUnless():
                if not holds(step.cond, seen):
                    frame.pc += step.by - 1
            case Choose():
                value = value_of(step.value, seen)
                by = next((by for case, by in step.cases if abs(case - value) < 1e-9), step.otherwise)
                frame.pc += by - 1
            case BeginCount():
                frame.counts[step.slot] = round(number(step.times, seen, "how often"))
            case NextCount():
                frame.counts[step.slot] -= 1
                if frame.counts[step.slot] < 0:
                    frame.pc += step.by - 1
            case Assign():
                value = value_of(step.value, seen)
                if not isfinite(value) and step.otherwise is not None:
                    value = value_of(step.otherwise, seen)
                frame.names[step.name] = value
            case CallMove():
                self._call(program, thread, step, n, world)
            case GiveBack():
                value = nan if step.value is None else value_of(step.value, seen)
                if not isfinite(value) and step.otherwise is not None:
                    value = value_of(step.otherwise, seen)
                self._return(thread, value)
            case StopStep():
                self._finish(FINISHED, "", n, world)
            case SayStep() | ShowStep():
                self._tell(thread, step, n, seen)
            case Default():
                value = nan if step.value is None else number(step.value, seen, "the speed")
                world.set_default(step.what, value, step.kind, step.on)
            case HereStep():
                facing = None if step.facing is None else number(step.facing, seen, "facing")
                world.here(number(step.x, seen, "x"), number(step.y, seen, "y"), facing)
            case SwitchStep():
                self._record_point(thread, step, step.name, n)
                world.switch(step.name, step.on)
            case Fork():
                self._fork(program, thread, step, n, world)
            case _:
                blocked, lane = begin_step(step, n, world, seen, frame.code, self._dt)
                record = self._record(thread, step, lane, n)
                if blocked is not None:
                    blocked.record = record
                    if blocked.mark and record >= 0:
                        self.records[record].marks.append(blocked.mark)
                    thread.blocked = blocked
                elif record >= 0:
                    self.records[record].end = n

    def _tell(self, thread: Thread, step: SayStep | ShowStep, n: int, seen: Seen) -> None:
        frame = thread.frames[-1]
        if len(self.messages) >= MAX_MESSAGES:
            return
        place = frame.code, frame.pc - 1, self._line_of(thread, step), n
        if isinstance(step, SayStep):
            self.messages.append(RoutineMessage(*place, words=step.text))
        else:
            self.messages.append(
                RoutineMessage(*place, label=step.label, value=value_of(step.value, seen), kind=step.kind)
            )

    def _record_point(self, thread: Thread, step: Instruction, lane: str, n: int) -> None:
        at = self._record(thread, step, lane, n)
        if at >= 0:
            self.records[at].end = n

    def _call(self, program: Program, thread: Thread, call: CallMove, n: int, world: World) -> None:
        if len(thread.frames) > DEEPEST:
            raise FaultError(f'own moves do each other more than {DEEPEST} deep; does "{call.move}" do itself?')
        seen = self._seen(thread, world, n)
        given = {name: value_of(value, seen) for name, value in call.args}
        names = {}
        for name, default in program.params[call.move]:
            names[name] = given[name] if name in given else value_of(default, seen)
        thread.frames.append(Frame(call.move, 0, names, result=call.result, line=self._line_of(thread, call)))

    def _fork(self, program: Program, thread: Thread, step: Fork, n: int, world: World) -> None:
        frame, children = thread.frames[-1], []
        seconds = nan
        if step.mode == "together":
            seen = self._seen(thread, world, n)
            seconds = max(world.duration(program.codes[b][0], seen) for b in step.branches)
        for branch in step.branches:
            self.threads[self._next] = Thread([Frame(branch, 0, frame.names, line=self._line_of(thread, step))])
            world.slow(branch, seconds)
            children.append(self._next)
            self._next += 1
        if children:
            thread.blocked = Blocked("join", -1, children=tuple(children), mode=step.mode)
