"""The parts of the table of a routine on a board: its steps as numbers, and the records of its kernels."""

from __future__ import annotations

from pivrex.kernels.records import Flag, Flags, Number, Numbers, Record, Whole, Wholes, field

__all__ = ["StepTable", "ThinkScratch", "Thoughts"]

# the words of the table, in addition to the steps of a watch: values,
LOCAL, GOAL, PLACE, OWN, LOOKS, HEARS = 28, 29, 30, 31, 32, 33
# operations on the last one,
WRAP, COSINE, SINE, THERE = 34, 35, 36, 37
# or makes one of two; what looks at the last one, and jumps by it
ANGLE_OF, AWAY, CHECK, DROP, CASE, IF_FINITE, AND_THEN, OR_ELSE = 38, 39, 40, 41, 42, 43, 44, 45
# steps: jumps,
JUMP, UNLESS, NEXT, CALL, GIVE, FORK, STORE, COUNT, END, STOP, FAULT = 46, 47, 48, 49, 50, 51, 52, 53, 54, 55, 56
# waits,
SINCE, LIMIT, WAIT = 57, 58, 59
# and the robot's actions
DRIVE, TURN, GYRO, MOTION, WHEEL, WHEELS, HERE, ZERO, ATTACH, SWITCH, RUN, CALLED, HOME, HUSH = (
    60, 61, 62, 63, 64, 65, 66, 67, 68, 69, 70, 71, 72, 73
)  # fmt: skip

STEPS = 74
"""How many steps there are."""

WAIT_WORDS = 6
"""WAIT, what for, an attachment, where it goes on, and where once its limit is reached; and whether a condition stands behind it."""

OF_MOTION, OF_LIMITED_MOTION, OF_TIME, OF_CONDITION, OF_PLACE, OF_GYRO, OF_REST, OF_STOP, OF_ALL, OF_ONE = (
    0, 1, 2, 3, 4, 5, 6, 7, 8, 9
)  # fmt: skip
"""What a thread waits for."""

OWN_DRIVE, OWN_TURN = 0, 1
"""How fast the robot drives and turns where a step says nothing."""

FREE, GOES, BLOCKED, ENDED = 0, 1, 2, 3
"""What a thread is."""

BY_ZERO, BY_ROOT, BY_NOTHING, BY_LIMIT = 1, 2, 3, 4
"""What ended a routine: see `FAULTS` in `pivrex.board.steps`."""

RETURNS_TO, BASE_BEFORE, RESULT_INTO, HEADER = 0, 1, 2, 3
"""What a frame begins with; its names and counts stand behind."""

AT_ONCE = 40
"""How many steps that take no time are done in one tick; what goes on for ever goes on in the next."""


class StepTable(Record):
    """A routine.

    Attributes
    ----------
    code : steps, each with what belongs to it
    value : the numbers in it, in SI
    depth : so many places has each thread
    has, waits : which steps there are, and which kinds of waiting; what does others is left out of a board's program
    changes, joins, turns, measures, jumps : whether there are steps of these kinds
    """

    is_settings = True

    code: Wholes = field("words")
    value: Numbers = field("values")
    depth: Whole = field()
    has: Flags = field("kinds")
    waits: Flags = field("waits")
    changes: Flag = field()
    joins: Flag = field()
    turns: Flag = field()
    measures: Flag = field()
    jumps: Flag = field()


class Thoughts(Record):
    """One robot in the middle of a routine.

    Attributes
    ----------
    on : whether the routine drives
    ended, fault : whether it has ended, and what ended it too early; 0 for nothing
    drive, turn : how fast it goes where a step says nothing, in m/s and rad/s
    zero_requested : the tick in which the gyro was to be zeroed
    off : sensors that are switched off, by their columns
    pc, base : where a thread stands in the table, and its frame among the places
    state, parent : what it is, and which thread began it
    since, limit : the tick from which on, or until which, it waits
    order, many, at, last : the threads that there are, in the order in which they began, and how far a pass through them is
    slot : names, counts and where own moves go back to
    """

    on: Flag = field()
    ended: Flag = field()
    fault: Whole = field()
    drive: Number = field(unit="m/s")
    turn: Number = field(unit="rad/s")
    zero_requested: Number = field()
    off: Flags = field("columns")
    pc: Wholes = field("threads")
    base: Wholes = field("threads")
    state: Wholes = field("threads")
    parent: Wholes = field("threads")
    since: Numbers = field("threads")
    limit: Numbers = field("threads")
    order: Wholes = field("threads")
    many: Whole = field()
    at: Whole = field()
    last: Whole = field()
    slot: Numbers = field("slots")


class ThinkScratch(Record):
    """The values that wait for their sign, or for a step."""

    is_scratch = True

    top: Whole = field()
    stack: Numbers = field("deep")
