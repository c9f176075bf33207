"""What robots in the middle of a routine wait for, as numbers: a kernel checks in every tick which of them must go on."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from pivrex.kernels.maths import div, inf, is_nan, larger, mod, nan, pi, smaller, sqrt
from pivrex.kernels.records import Form, Number, Numbers, Record, Whole, Wholes, field
from pivrex.kernels.subset import kernel
from pivrex.routine.nodes import Binary, Compare, Condition, Expression, Group, IsState, Not, Quantity
from pivrex.routine.nodes import Call as Function
from pivrex.routine.thread import Blocked, Thread

__all__ = [
    "AND", "ANGLE", "COLUMN", "HEARD", "IS", "KNOWN", "LEAST", "LESS", "MINUS", "MORE", "MORE_SAME", "MOST", "NEGATION", "NEGATIVE", "OVER",
    "PLUS", "POSE", "RESTED", "ROOT", "SAME", "SENSOR", "SIGNS", "SIZE", "STEADY_TICKS", "STUCK", "STUCK_TICKS", "TICK", "TIME", "TIMES",
    "WATCH", "WATCH_SCRATCH", "NoWatchError", "Step", "Watch", "WatchScratch", "Witnessed", "changed", "is_finite", "joined", "look",
    "watch_of",
]  # fmt: skip

LONGEST, DEEPEST = 32, 10
"""How many steps has a condition at most, and so many values that wait for their sign; a longer one is computed by the interpreter."""

STEADY_TICKS = 6
"""How many ticks in a row a robot must rest."""

STUCK_TICKS, STUCK_SHARE = 15, 1 / 35
"""What is driven against its stop is there once it has come no farther than this share of its `Reach.near` for so long; the way to
a real robot and back takes some of it.
"""

SAME = 1e-9
"""Numbers that are no farther apart are the same."""

# the steps of a condition: a value for the stack,
KNOWN, COLUMN, SENSOR, TIME, TICK, POSE, ANGLE, RESTED, STUCK = 0, 1, 2, 3, 4, 5, 6, 7, 8
# operations on the last one,
NEGATIVE, SIZE, ROOT, NEGATION, HEARD = 9, 10, 11, 12, 13
# or makes one of the last two
PLUS, MINUS, TIMES, OVER, LEAST, MOST, LESS, LESS_SAME = 14, 15, 16, 17, 18, 19, 20, 21
MORE, MORE_SAME, IS, IS_NOT, AND, OR = 22, 23, 24, 25, 26, 27

SIGNS = {
    "+": PLUS, "-": MINUS, "*": TIMES, "/": OVER, "<": LESS, "<=": LESS_SAME, ">": MORE, ">=": MORE_SAME, "is": IS, "is not": IS_NOT,
}  # fmt: skip


class Watch(Record):
    """The events that one robot waits for.

    Attributes
    ----------
    wakes : float
        The tick at which something is over by itself; -inf to look at every tick, inf for never.
    length : int
        How many steps its condition has; 0 for none.
    does, place, value
        Each step: what it does, with which column and which number.
    """

    wakes: Number = field()
    length: Whole = field()
    does: Wholes = field("steps")
    place: Wholes = field("steps")
    value: Numbers = field("steps")


class Witnessed(Record):
    """The inputs of a watch.

    Attributes
    ----------
    n, time : tick of the routine, and when that is, in s
    pose : the robot's estimated pose, in m and rad
    rested : for how many ticks it has rested
    column : what rangers, lamps and the battery say, where attachments with an encoder are, the targets of all others, and how far
        zeroing is
    stuck : for how many ticks each attachment has come no farther
    """

    n: Number = field()
    time: Number = field(unit="s")
    pose: Numbers = field(3, unit="m, m, rad")
    rested: Number = field()
    column: Numbers = field("columns")
    stuck: Numbers = field("attached")


class WatchScratch(Record):
    """The values that wait for their sign."""

    is_scratch = True

    stack: Numbers = field("deep")


@kernel
def is_finite(x: float) -> bool:
    """Return whether it is neither infinite nor NaN."""
    return -inf < x < inf


@kernel
def changed(does: int, a: float) -> float:
    """Return what a step makes of one value."""
    if does == NEGATIVE:
        return -a
    if does == NEGATION:
        return 0.0 if a > 0.0 else 1.0
    if does == HEARD:
        return 0.0 if is_nan(a) else 1.0
    if not is_finite(a):
        return nan
    return sqrt(a) if does == ROOT else abs(a)


@kernel
def compared(does: int, a: float, b: float) -> bool:  # noqa: PLR0911 - a case for each sign
    """Return whether a comparison of two values, or a pair of conditions, holds; one with NaN does not."""
    if does == LESS:
        return a < b
    if does == LESS_SAME:
        return a <= b
    if does == MORE:
        return a > b
    if does == MORE_SAME:
        return a >= b
    if does == IS:
        return abs(a - b) < SAME
    if does == IS_NOT:
        return abs(a - b) >= SAME
    if does == AND:
        return a > 0.0 and b > 0.0
    return a > 0.0 or b > 0.0


@kernel
def joined(does: int, a: float, b: float) -> float:  # noqa: PLR0911 - a case for each sign
    """Return what a step makes of two values."""
    if does == PLUS:
        return a + b
    if does == MINUS:
        return a - b
    if does == TIMES:
        return a * b
    if does == OVER:
        return div(a, b)
    if LEAST <= does <= MOST:
        if not is_finite(a) or not is_finite(b):
            return nan
        return smaller(a, b) if does == LEAST else larger(a, b)
    return 1.0 if compared(does, a, b) else 0.0


@kernel
def put(w: Watch, k: int, x: Witnessed) -> float:  # noqa: PLR0911 - a case for each value
    """Return the value that step k puts on the stack."""
    does, place = w.does[k], w.place[k]
    if does == COLUMN:
        return x.column[place]
    if does == SENSOR:  # a sensor without a value gives 0
        return x.column[place] if x.column[place] > 0.0 else nan
    if does == POSE:
        return x.pose[place]
    if does == ANGLE:  # within (-π, π]
        return pi - mod(pi - x.pose[place], 2.0 * pi)
    if does == TICK:
        return x.n
    if does == RESTED:
        return x.rested
    if does == STUCK:
        return x.stuck[place]
    return x.time if does == TIME else w.value[k]


@kernel
def look(w: Watch, c: WatchScratch, x: Witnessed) -> bool:
    """Return whether the interpreter must go on with a robot: its time has come, its condition holds, or the condition divides by 0 or
    takes the root of something below 0.
    """
    woken = x.n >= w.wakes
    top = 0
    for k in range(w.length):
        does = w.does[k]
        if does < NEGATIVE:
            c.stack[top] = put(w, k, x)
            top += 1
        elif does < PLUS:
            if does == ROOT and c.stack[top - 1] < 0.0:
                woken = True
            c.stack[top - 1] = changed(does, c.stack[top - 1])
        else:
            top -= 1
            if does == OVER and c.stack[top] == 0.0:
                woken = True
            c.stack[top - 1] = joined(does, c.stack[top - 1], c.stack[top])
    return woken or (top > 0 and c.stack[0] > 0.0)


WATCH, WATCH_SCRATCH = Form(Watch, steps=LONGEST), Form(WatchScratch, deep=DEEPEST)

Step = tuple[int, int, float]

Source = Callable[[str, str], list[Step]]
"""Returns the steps that read a name, or, with a state, that say whether it is in that; raises `NoWatchError`."""


class NoWatchError(Exception):
    """Something that only the interpreter can tell."""


def watch_of(threads: Mapping[int, Thread], source: Source) -> tuple[float, list[Step]]:
    """Return the tick at which something is over by itself, -inf while every tick must be looked at, and the steps of a condition that is
    true when something else is over.
    """
    first, steps = inf, list[Step]()
    try:
        for thread in threads.values():
            b = thread.blocked
            if thread.ended:
                continue
            if b is None or _has_joined(b, threads):
                return -inf, []
            first = min(first, b.until_n, b.limit_n)
            own = _waited_for(b, source)
            if b.cond is not None:
                own = _condition(b.cond, thread, source)
            steps += [*own, (OR, 0, 0.0)] if steps and own else own
    except NoWatchError:
        return -inf, []
    if len(steps) > LONGEST or _deepest(steps) > DEEPEST:
        return -inf, []
    return first, steps


def _waited_for(b: Blocked, source: Source) -> list[Step]:
    """Return the steps that say whether what it waits for by itself has come."""
    if b.kind == "there":
        return source(b.name, "there")
    if b.kind == "zero":
        return source("zeroing", "done")
    if b.kind == "home":
        return [*source(b.name, "stuck"), (KNOWN, 0, STUCK_TICKS), (MORE, 0, 0.0)]
    if b.kind == "settle":
        at_least = (MORE_SAME, 0, 0.0)
        steady = [(RESTED, 0, 0.0), (KNOWN, 0, STEADY_TICKS), at_least]
        return [*steady, (TICK, 0, 0.0), (KNOWN, 0, b.begin + STEADY_TICKS), at_least, (AND, 0, 0.0)]
    return []


def _has_joined(b: Blocked, threads: Mapping[int, Thread]) -> bool:
    """Return whether what went on at once is over, but has not been ended yet; else it ends when a branch goes on."""
    ends = [threads[c].ended for c in b.children]
    return any(ends) and (b.mode == "one" or all(ends))


def _deepest(steps: list[Step]) -> int:
    now = most = 0
    for does, _, _ in steps:
        now += 1 if does < NEGATIVE else -1 if does >= PLUS else 0
        most = max(most, now)
    return most


def _condition(cond: Condition, thread: Thread, source: Source) -> list[Step]:
    match cond:
        case Not():
            return [*_condition(cond.of, thread, source), (NEGATION, 0, 0.0)]
        case Group():
            sign = AND if cond.word == "and" else OR
            return [*_condition(cond.a, thread, source), *_condition(cond.b, thread, source), (sign, 0, 0.0)]
        case IsState():
            return source(cond.of.name, cond.state)  # type: ignore[union-attr] # only names have states
        case Compare():
            return [*_value(cond.a, thread, source), *_value(cond.b, thread, source), (SIGNS[cond.sign], 0, 0.0)]


def _value(value: Expression, thread: Thread, source: Source) -> list[Step]:
    match value:
        case Quantity():
            return [(KNOWN, 0, value.value)]
        case Function():
            return _called(value, [_value(a, thread, source) for a in value.args])
        case Binary():
            if value.sign == "neg":
                return [*_value(value.a, thread, source), (NEGATIVE, 0, 0.0)]
            return [*_value(value.a, thread, source), *_value(value.b, thread, source), (SIGNS[value.sign], 0, 0.0)]
    names = thread.frames[-1].names
    return [(KNOWN, 0, names[value.name])] if value.name in names else source(value.name, "")


def _called(call: Function, args: list[list[Step]]) -> list[Step]:
    if call.name in ("least", "most"):
        sign = LEAST if call.name == "least" else MOST
        args = args * 2 if len(args) == 1 else args  # with one value too, only a finite one counts
        return args[0] + [step for arg in args[1:] for step in (*arg, (sign, 0, 0.0))]
    return [*args[0], (SIZE if call.name == "size" else ROOT, 0, 0.0)]
