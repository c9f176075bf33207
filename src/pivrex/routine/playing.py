"""Plays a routine on the simulated robot, from its start to its end or until the clock ends it: every Tick, and every step."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from pivrex.line import Line
from pivrex.line.beginning import begun, start_of
from pivrex.line.stage import Floats
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.routine.drives import Drives
from pivrex.routine.interpreter import Interpreter
from pivrex.routine.marks import mark_steps
from pivrex.routine.program import Program
from pivrex.routine.thread import RoutineMessage, StepRecord
from pivrex.sim.model import AnySimulator
from pivrex.sim.sampled import placed_by, sampled, simulator_under

__all__ = ["ALONE_S", "OUT_OF_TIME", "Play", "Player", "play", "start_pose"]

ALONE_S = 25.0
"""How long a robot is alone, where the workspace says nothing else."""

OUT_OF_TIME = "out of time"

KEPT = 64
"""How many Ticks are made at once."""

REST_S = 0.5
"""How long a robot that has ended is watched coming to rest."""


def start_pose(program: Program, field: Field | None) -> Floats:
    """Return where a routine begins, (3,): where it says, else the field's start."""
    return np.array(program.start) if program.start is not None else start_of(field)


@dataclass
class Play:
    """The result of playing a routine.

    Attributes
    ----------
    rows : (N, K) float64
        The Ticks; those after the end, in which the robot comes to rest, too.
    ended : str
        "finished", "stopped", or "out of time".
    why : str
        What stopped it; empty otherwise.
    time_s : float
        When it ended.
    steps : list of StepRecord
    poses : (N + 1, 3) float64
        Where the robot was before each Tick, and at last.
    estimated : (N, 3) float64
        Its estimated pose before each Tick.
    names : dict of str to float
        What the routine keeps at its end.
    messages : tuple of Told
        What it said and showed.
    """

    rows: Floats
    ended: str
    why: str
    time_s: float
    steps: list[StepRecord]
    poses: Floats
    estimated: Floats
    dt_s: float
    names: dict[str, float] = field(default_factory=dict)
    messages: tuple[RoutineMessage, ...] = ()

    @property
    def pose(self) -> Floats:
        """Where the robot came to rest, (3,): x and y in m, heading in rad."""
        return self.poses[-1]


@dataclass(frozen=True)
class _Mark:
    """A moment to go on from: so many Ticks were made."""

    n: int
    drives: Drives
    touched: dict[str, int]


class Player:
    """Plays one routine after another for one robot; it continues from the last step that a changed text shares.

    Parameters
    ----------
    rig : Rig
    field : Field or None
    seed : int
        Of the simulated robot's chance, and of how it differs from the rig; 0 for the robot as the rig says.
    """

    def __init__(self, rig: Rig, field: Field | None, seed: int = 0) -> None:
        self._field, self.line = field, Line(rig)
        self._seed = np.array(seed, np.uint64)
        self._drawn = sampled(rig, self._seed)
        self._model: AnySimulator = simulator_under(rig, field, self._drawn)
        self._program: Program | None = None
        self._marks: list[_Mark] = []
        self._rows: Floats = np.zeros((0, self.line.form.size))
        self._estimated: Floats = np.zeros((0, 3))

    def play(
        self,
        program: Program,
        limit_s: float = ALONE_S,
        given_up: Callable[[], bool] = lambda: False,
        enough: Callable[[list[StepRecord], int], bool] | None = None,
    ) -> Play | None:
        """Play it for at most so long. None if ``given_up`` said so. ``enough`` gets the steps and the tick, and may say that no
        more need be played: it is out of time then.
        """
        mark = self._begin(program)
        line, drives = self.line, mark.drives.copied()
        runner = drives.runners[0]
        runner.program = self._program = program
        most, interpreter = max(1, round(limit_s / line.dt_s)), runner.interpreter
        rows, estimated = [self._rows], [self._estimated]

        def keep() -> None:
            made = drives.kept(0)
            rows.append(made[0])
            estimated.append(made[1])

        def thought(_: int) -> None:
            if not interpreter.ended and len(interpreter.records) != steps[0]:
                steps[0] = len(interpreter.records)
                self._marks.append(_Mark(int(drives.ticks[0]), drives.copied(), dict(interpreter.touched)))

        steps, looks = [len(interpreter.records)], 64 if enough is None else 8
        while not drives.ended and drives.ticks[0] < most:
            n = int(drives.ticks[0])
            drives.run(min(n + ((looks - 1 - n) % looks or looks), most), thought, keep)
            n = int(drives.ticks[0])
            if given_up():
                self._rows, self._estimated = np.concatenate(rows), np.concatenate(estimated)
                return None
            if enough is not None and not interpreter.ended and n % 8 == 7 and enough(interpreter.records, n):
                break
        n = int(min(drives.ticks[0], drives.ended_at[0]))
        ended, why = (interpreter.ended, interpreter.why) if interpreter.ended else (OUT_OF_TIME, "")
        if not interpreter.ended:
            interpreter.close(n, "cut off")
        drives.cut_off()
        drives.run(np.inf, made=keep)  # everything off
        table, believes = np.concatenate(rows), np.concatenate(estimated)
        self._rows, self._estimated = table[:n], believes[:n]
        self._renumber(interpreter)
        mark_steps(line, self._rows, interpreter.records)
        names = dict(interpreter.threads[0].frames[0].names)
        poses = table[:, line.layout.these("truth", ("x", "y", "heading"))]
        poses = np.concatenate((poses, drives.robot().pose))
        return Play(
            table,
            ended,
            why,
            n * line.dt_s,
            interpreter.records,
            poses,
            believes,
            line.dt_s,
            names,
            tuple(interpreter.messages),
        )

    def _begin(self, program: Program) -> _Mark:
        """Return the latest moment up to which the program does what the one before did."""
        before = self._program
        alike = before is not None and before.start == program.start
        while self._marks and not (
            alike and before is not None and _same_so_far(before, program, self._marks[-1].touched)
        ):
            self._marks.pop()
        if self._marks:
            mark = self._marks[-1]
        else:
            pose, line = start_pose(program, self._field), self.line
            robot = placed_by(self._model, self._seed, pose, self._drawn).widened((1,))
            drives = Drives(
                program, line, self._model, begun(line, pose, (1,)), robot, pose, self._field, KEPT, round(REST_S / line.dt_s)
            )  # fmt: skip
            mark = _Mark(0, drives, {})
            self._marks = [mark]
        self._rows, self._estimated = self._rows[: mark.n], self._estimated[: mark.n]
        if before is not None:
            self._say_new_lines(before, program, mark)
        return mark

    def _say_new_lines(self, before: Program, now: Program, mark: _Mark) -> None:
        """Let Ticks that were played before say the lines of the text as it is now."""
        lines = {
            float(old.where.line): float(new.where.line)
            for code, upto in mark.touched.items()
            for old, new in zip(before.codes[code][:upto], now.codes[code][:upto], strict=True)
            if not old.where.file
        }
        if all(old == new for old, new in lines.items()):
            return
        for one in self._marks:
            one.drives.runners[0].renumber(lines)
        at = self.line.layout.at("routine", "line")
        self._rows = self._rows.copy()
        self._rows[:, at] = [lines.get(line, line) for line in self._rows[:, at].tolist()]

    def _renumber(self, interpreter: Interpreter) -> None:
        """Let steps that were played before say the lines of the text as it is now."""
        program = self._program
        assert program is not None
        for record in interpreter.records:
            step = program.codes[record.code][record.at]
            if not step.where.file:
                record.line, record.text = step.where.line, step.where.text


def _same_so_far(before: Program, now: Program, touched: dict[str, int]) -> bool:
    """Return whether two programs are the same up to the last step that was played."""
    for code, upto in touched.items():
        mine, theirs = before.codes.get(code, ()), now.codes.get(code, ())
        if mine[:upto] != theirs[:upto] or min(len(mine), upto) > len(theirs):
            return False
        if upto >= len(mine) and len(mine) != len(theirs):
            return False  # it had ended
        if before.params.get(code) != now.params.get(code):
            return False
    return True


def play(program: Program, rig: Rig, field: Field | None, limit_s: float = ALONE_S, seed: int = 0) -> Play:
    """Play a routine once."""
    made = Player(rig, field, seed).play(program, limit_s)
    assert made is not None
    return made
