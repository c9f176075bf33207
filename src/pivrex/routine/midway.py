"""Starts a routine in its middle, with the pose and the memory that it would have before one of its lines."""

from __future__ import annotations

from bisect import bisect_left
from dataclasses import dataclass

from pivrex.line import Line
from pivrex.line.beginning import begun
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.routine.drives import Drives
from pivrex.routine.memory import Memory
from pivrex.routine.playing import ALONE_S, start_pose
from pivrex.routine.program import Program
from pivrex.sim.model import simulator_of

__all__ = ["Midway", "before_line", "line_after"]

Pose = tuple[float, float, float]


@dataclass(frozen=True)
class Midway:
    """How things stand before a line is done.

    Attributes
    ----------
    text : str
        Of the routine that it is of.
    line : int
    n : int
        Ticks that have been.
    pose : (3,) of float
        Where the robot is, x and y in m, heading in rad.
    attached : tuple of float
        Where the attachments with an encoder are, in rad, as the simulated robot has them.
    memory : Memory
    """

    text: str
    line: int
    n: int
    pose: Pose
    attached: tuple[float, ...]
    memory: Memory


def line_after(program: Program, line: int) -> int:
    """Return the first line, from this one on, on which something is done; 0 if there is none."""
    lines = sorted({s.where.line for code in program.codes.values() for s in code if not s.where.file})
    k = bisect_left(lines, line)
    return lines[k] if k < len(lines) else 0


def before_line(
    program: Program, rig: Rig, field: Field | None, line: int, limit_s: float = ALONE_S
) -> tuple[Midway | None, str]:
    """Play a routine on the simulated robot up to a line. Returns how things stand before it, or why that cannot be said."""
    played, model = Line(rig), simulator_of(rig, field)
    start = start_pose(program, field)
    robots = model.placed(model.start((1,)), start)
    drives = Drives(program, played, model, begun(played, start, (1,)), robots, start, field)
    runner = drives.runners[0]
    interpreter = runner.interpreter
    interpreter.halts_at = line
    most = round(limit_s / played.dt_s)

    def halt(_: int) -> None:
        if interpreter.halted:
            drives.halt()

    drives.run(most, halt)
    if interpreter.halted:
        robot = drives.robot(before=True)
        x, y, heading = (float(v) for v in robot.pose[0])
        memory = runner.memory(drives.rows[0])
        return Midway(program.text, line, memory.n, (x, y, heading), tuple(robot.attached[0].tolist()), memory), ""
    if interpreter.passed:
        return None, f"line {line} is done at once with others: begin at the line above them"
    if interpreter.ended:
        return None, f"line {line} is not come to: the routine has {interpreter.ended} before"
    return None, f"line {line} is not come to within {limit_s:g} s"
