"""A routine on the stand-in, from its start to its end or until the clock ends it: every Tick, and every step."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from pivrex.line import Line
from pivrex.line.beginning import begun, start_of
from pivrex.line.line import LineState
from pivrex.line.stage import Floats
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.routine.marks import mark_steps
from pivrex.routine.program import Program
from pivrex.routine.runner import Runner
from pivrex.routine.thread import StepRecord
from pivrex.sim.driving import drive
from pivrex.sim.model import AnyStandIn
from pivrex.sim.spread import drawn, placed_by, stand_in_under

__all__ = ["ALONE_S", "OUT_OF_TIME", "Play", "Player", "play", "start_pose"]

ALONE_S = 25.0
"""How long a robot is alone, where the workspace says nothing else."""

OUT_OF_TIME = "out of time"

REST_S = 0.5
"""So long a robot that has ended is watched coming to rest."""


def start_pose(program: Program, field: Field | None) -> Floats:
    """Give where a routine begins, (3,): where it says, else the field's start."""
    return np.array(program.start) if program.start is not None else start_of(field)


@dataclass
class Play:
    """What came of a routine.

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
    believed : (N, 3) float64
        Where it believed to be before each Tick.
    names : dict of str to float
        What the routine keeps at its end.
    """

    rows: Floats
    ended: str
    why: str
    time_s: float
    steps: list[StepRecord]
    poses: Floats
    believed: Floats
    dt_s: float
    names: dict[str, float] = field(default_factory=dict)

    @property
    def pose(self) -> Floats:
        """Where the robot came to rest, (3,): x and y in m, heading in rad."""
        return self.poses[-1]


@dataclass(frozen=True)
class _Mark:
    """A moment to go on from: before tick ``n``."""

    n: int
    state: LineState
    robot: Any
    runner: Runner
    touched: dict[str, int]


class Player:
    """Plays one routine after another for one robot, going on from where a changed text still does the same.

    Parameters
    ----------
    rig : Rig
    field : Field or None
    seed : int
        Of the stand-in's chance, and of how it differs from the rig; 0 for the robot as the rig says.
    """

    def __init__(self, rig: Rig, field: Field | None, seed: int = 0) -> None:
        self._field, self.line = field, Line(rig)
        self._seed = np.array(seed, np.uint64)
        self._drawn = drawn(rig, self._seed)
        self._model: AnyStandIn = stand_in_under(rig, field, self._drawn)
        self._raw = self.line.rest()
        self._program: Program | None = None
        self._marks: list[_Mark] = []
        self._rows: list[Floats] = []
        self._believed: list[tuple[float, float, float]] = []

    def play(
        self,
        program: Program,
        limit_s: float = ALONE_S,
        given_up: Callable[[], bool] = lambda: False,
        enough: Callable[[list[StepRecord], int], bool] | None = None,
    ) -> Play | None:
        """Play it for at most so long. None if ``given_up`` said so. ``enough`` is told the steps and the tick, and may say that no
        more need be played: it is out of time then.
        """
        mark = self._begin(program)
        line, model = self.line, self._model
        runner, state, robot = mark.runner.copied(), mark.state, mark.robot
        runner.program = program
        self._program = program
        n, most = mark.n, max(1, round(limit_s / line.dt_s))
        row = self._rows[-1] if n else None
        steps = len(runner.minds[0].records)
        while n < most and not runner.ended:
            if enough is not None and n % 8 == 7 and enough(runner.minds[0].records, n):
                break
            if n % 64 == 63 and given_up():
                self._marks = [m for m in self._marks if m.n <= n]
                return None
            if len(runner.minds[0].records) != steps:
                steps = len(runner.minds[0].records)
                self._marks.append(_Mark(n, state, robot, runner.copied(), dict(runner.minds[0].touched)))
            state = runner.before(state)
            entry = runner.tick(row)
            if runner.ended:
                break
            belief = runner.belief
            self._believed.append((float(belief.x), float(belief.y), float(belief.heading)))
            state, robot, row = drive(line, model, state, robot, self._raw, entry=entry)
            self._rows.append(row)
            n += 1
        mind = runner.minds[0]
        ended, why = (mind.ended, mind.why) if mind.ended else (OUT_OF_TIME, "")
        if not mind.ended:
            mind.close(n, "cut off")
        rows, believed = list(self._rows), list(self._believed)
        for _ in range(round(REST_S / line.dt_s)):  # everything off
            state, robot, row = drive(line, model, state, robot, self._raw, 1.0)
            rows.append(row)
            believed.append(believed[-1])
        self._renumber(mind.records)
        mark_steps(line, np.array(self._rows), mind.records)
        names = dict(mind.threads[0].frames[0].names)
        table = np.array(rows)
        poses = np.concatenate((table[:, line.layout.these("truth", ("x", "y", "heading"))], robot.pose[None]))
        return Play(table, ended, why, n * line.dt_s, mind.records, poses, np.array(believed), line.dt_s, names)

    def _begin(self, program: Program) -> _Mark:
        """Give the latest moment up to which the program does what the one before did."""
        before = self._program
        alike = before is not None and before.start == program.start
        while self._marks and not (
            alike and before is not None and _same_so_far(before, program, self._marks[-1].touched)
        ):
            self._marks.pop()
        if self._marks:
            mark = self._marks[-1]
        else:
            pose = start_pose(program, self._field)
            robot = placed_by(self._model, self._seed, pose, self._drawn)
            mark = _Mark(0, begun(self.line, pose), robot, Runner(program, self.line, pose, (), self._field), {})
            self._marks = [mark]
        del self._rows[mark.n :], self._believed[mark.n :]
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
            one.runner.renumber(lines)
        at = self.line.layout.at("routine", "line")
        for k, row in enumerate(self._rows):
            line = lines.get(float(row[at]), float(row[at]))
            if line != row[at]:
                self._rows[k] = row.copy()
                self._rows[k][at] = line

    def _renumber(self, records: list[StepRecord]) -> None:
        """Let steps that were played before say the lines of the text as it is now."""
        program = self._program
        assert program is not None
        for record in records:
            step = program.codes[record.code][record.at]
            if not step.where.file:
                record.line, record.text = step.where.line, step.where.text


def _same_so_far(before: Program, now: Program, touched: dict[str, int]) -> bool:
    """Tell whether two programs are alike as far as one has been done."""
    for code, upto in touched.items():
        mine, theirs = before.codes.get(code, ()), now.codes.get(code, ())
        if mine[:upto] != theirs[:upto] or min(len(mine), upto) > len(theirs):
            return False
        if upto >= len(mine) and len(mine) != len(theirs):
            return False  # it had come to its end
        if before.params.get(code) != now.params.get(code):
            return False
    return True


def play(program: Program, rig: Rig, field: Field | None, limit_s: float = ALONE_S, seed: int = 0) -> Play:
    """Play a routine once."""
    made = Player(rig, field, seed).play(program, limit_s)
    assert made is not None
    return made
