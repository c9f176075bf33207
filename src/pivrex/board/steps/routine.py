"""A routine that a board drives by itself: its table, and its start."""

from __future__ import annotations

from dataclasses import dataclass
from math import inf
from pathlib import Path
from typing import NamedTuple

import numpy as np

from pivrex.board.steps import words as b
from pivrex.board.steps.making import StepWriter
from pivrex.board.steps.words import StepTable, ThinkScratch, Thoughts
from pivrex.errors import Mistake, RoutineError
from pivrex.kernels.records import Form
from pivrex.line.layout import Floats
from pivrex.line.line import Line
from pivrex.rig.rig import Rig
from pivrex.rig.workspace import Folder
from pivrex.routine import watching as w
from pivrex.routine.files import find_routine, program_of
from pivrex.routine.means import Means
from pivrex.routine.playing import ALONE_S
from pivrex.routine.program import MAIN, Program

__all__ = ["FAULTS", "BoardRoutine", "Steps", "Task"]


FAULTS = {
    b.BY_ZERO: "divides by 0",
    b.BY_ROOT: "takes the root of something below 0",
    b.BY_NOTHING: "a value is missing: nothing was sensed",
    b.BY_LIMIT: "a step reached its limit, and says stop then",
}
"""Why a routine on a board stops before its end; as the desktop says it."""


LONGEST = 32000
"""Words of a table: a small chip counts to no more."""

CHANGES: dict[str, set[int | str]] = {
    "profile.planned": set(),
    **{f"profile.{name}": {name} for name in ("spins", "field", "arc", "raw")},
    **{f"attached.{name}": {"over"} for name in ("ticks", "first", "last", "begin")},
    **{f"attached.{name}": {b.HOME} for name in ("homes", "push", "found_as", "stuck")},
    **{f"attached.{name}": {b.HOME, b.CALLED} for name in ("is_called", "called")},
    "attached.share": {b.RUN},
}
"""What of `RoutineState` is changed by which steps only, or by which kinds of motions; a board follows no plan."""


@dataclass
class Steps:
    """A routine as a board has it.

    Attributes
    ----------
    settings : StepTable
    start : Thoughts
        Before its first tick.
    scratch : Form
        Of `ThinkScratch`.
    unused : set of str
        What of `RoutineState` stays 0, because no step of it is one that changes it: a board need not know it.
    lines : dict of int to int
        By the place in the table at which each step begins: the routine's line; 0 for one of another file.
    """

    settings: StepTable
    start: Thoughts
    scratch: Form
    unused: set[str]
    lines: dict[int, int]

    @classmethod
    def of(cls, program: Program, means: Means, places: str = "") -> Steps:
        """Return the table of a routine.

        Parameters
        ----------
        program : Program
        means : Means
        places : str
            Why this board does not know where on the field it is; empty if it does.

        Raises
        ------
        RoutineError
            For what a board cannot do, each with its line.
        """
        table = StepWriter(program, means, places)
        if table.wrong:
            raise RoutineError(Path(program.name), sorted(set(table.wrong)))
        code, threads = table.linked(), 1 + table.max_at_once(MAIN)
        if len(code) > LONGEST:
            raise RoutineError(
                Path(program.name), [Mistake(0, "", f"is too long for a board: {len(code)} words, of {LONGEST}")]
            )
        depth = max([table.places_of(MAIN), *(table.called_in(c) for c in table.owners)])
        settings: StepTable = Form(StepTable, words=len(code), kinds=b.STEPS, waits=b.OF_ONE + 1, values=max(1, len(table.numbers))).of(
            code=code, value=list(table.numbers) or [0.0], depth=depth, has=[k in table.has for k in range(b.STEPS)],
            waits=[k in table.waits for k in range(b.OF_ONE + 1)], changes=any(w.NEGATIVE <= k < w.PLUS for k in table.has),
            joins=any(w.PLUS <= k < b.LOCAL for k in table.has), turns=any(b.WRAP <= k < b.THERE for k in table.has),
            measures=bool(table.has & {b.ANGLE_OF, b.AWAY}), jumps=bool(table.has & {b.IF_FINITE, b.AND_THEN, b.OR_ELSE}),
        )  # fmt: skip
        columns = len(means.places) if table.switches else 1
        start: Thoughts = Form(Thoughts, columns=columns, threads=threads, slots=threads * depth).of(
            drive=means.planner.drive, turn=means.planner.turn, zero_requested=-inf, limit=np.full(threads, inf)
        )
        unused = {name for name, changed_by in CHANGES.items() if not changed_by & (table.has | table.ways)}
        return cls(settings, start, Form(ThinkScratch, deep=table.deep), unused, table.lines)


class Task(NamedTuple):
    """A routine that a board drives on command, and for how long at most."""

    program: Program
    period_s: float = ALONE_S

    @classmethod
    def of(cls, rig: Rig, folder: Folder, name: str = "") -> Task | None:
        """Return that of a rig in its workspace, or another by its ``name``; None if the rig has none.

        Raises
        ------
        RoutineError
            If there is none of that name, or it has mistakes.
        ReadError
            If its file cannot be read.
        """
        wanted = name or rig.board.routine
        if not wanted:
            return None
        return cls(program_of(find_routine(wanted, folder), rig), folder.settings.match.alone_s)


@dataclass(frozen=True)
class BoardRoutine:
    """A routine as one board has it.

    Attributes
    ----------
    task : Task
    means : Means
    steps : Steps
    """

    task: Task
    means: Means
    steps: Steps

    @classmethod
    def of(cls, task: Task, line: Line, places: str = "") -> BoardRoutine:
        """Return it for a line; see `Steps.of`."""
        means = Means(line)
        return cls(task, means, Steps.of(task.program, means, places))

    def start(self, pose: Floats) -> Floats:
        """Return what is remembered of it before its first tick; the robot stands at a pose, (3,)."""
        made: Floats = np.concatenate((self.means.start(pose).data, self.steps.start.data))
        return made

    def _thoughts(self, memory: Floats) -> Thoughts:
        """Return what is remembered of the steps; 0 where a board keeps nothing because nothing needs it."""
        return Thoughts(self.steps.start.form, np.nan_to_num(memory[-self.steps.start.form.size :]))

    def line_in(self, memory: Floats) -> int:
        """Return which line of the routine is done: a motion's, if there is one; 0 for none. ``memory`` is what a board remembers, (M,)."""
        k, code, found = self._thoughts(memory), self.steps.settings.code, 0
        # with one thread alone a board keeps no order
        for th in [0] if len(k.order) == 1 else k.order[: int(k.get("many"))].astype(int).tolist():
            pc = int(k.pc[th])
            if k.state[th] != b.BLOCKED or code[pc + 1] >= b.OF_ALL:
                continue
            line = self._line_at(k, th, pc)
            if code[pc + 1] in (b.OF_MOTION, b.OF_LIMITED_MOTION, b.OF_REST):
                return line
            found = found or line
        return found

    def _line_at(self, k: Thoughts, th: int, pc: int) -> int:
        """Return the line of the routine's own text that a thread is in: of a step in another file that of its call."""
        lines, base = self.steps.lines, int(k.base[th])
        while not (line := lines[max(at for at in lines if at <= pc)]) and k.slot[base + b.RETURNS_TO]:
            pc, base = int(k.slot[base + b.RETURNS_TO]) - 1, int(k.slot[base + b.BASE_BEFORE])
        return line

    def ended_in(self, memory: Floats) -> str:
        """Return how the routine ended; empty while it goes on."""
        k = self._thoughts(memory)
        if not k.get("ended") > 0:
            return ""
        if not k.get("fault") > 0:
            return "the routine has finished"
        goes = [th for th, state in enumerate(k.state.tolist()) if state == b.GOES] or [0]
        return f"the routine stopped in line {self._line_at(k, goes[0], int(k.pc[goes[0]]))}: {FAULTS[int(k.get('fault'))]}"
