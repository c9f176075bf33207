"""The robot's estimated pose, and what it measured since the tick before: from the Tick's odometry."""

from __future__ import annotations

from pivrex.kernels.records import Numbers
from pivrex.kernels.subset import kernel
from pivrex.line.landmarks import Mark, NoMarkError, take
from pivrex.line.line import Line
from pivrex.line.odometry import Odometry
from pivrex.line.se2 import displaced
from pivrex.line.stage import Floats
from pivrex.line.tick import LineMemory, Tick
from pivrex.routine.profile import Measured

__all__ = ["known_by", "measure_tick", "moved_to"]


@kernel
def measure_tick(t: Tick, has_gyro: bool, has_frame: bool, pose: Numbers, measured: Measured) -> None:
    """Write what a robot measured in a tick, and its estimated pose now."""
    o = t.odometry
    for i in range(3):
        pose[i] = o.pose[i]
    measured.forward, measured.left, measured.turn = o.forward, o.left, o.turn
    measured.x, measured.y = pose[0], pose[1]
    measured.heading = t.heading.heading[0] if has_gyro else pose[2]
    measured.ahead = t.frame.heading if has_frame else measured.heading
    measured.offset = pose[2] - measured.heading
    measured.along_x, measured.along_y = displaced(pose[2] - o.turn, o.forward, o.left, o.turn)


def moved_to(line: Line, memory: LineMemory, was: Floats, now: Floats) -> LineMemory:
    """Return what the line of one robot remembers, with the robot at ``now`` instead of ``was``, (3,) each."""
    stage = line.stages["odometry"]
    assert isinstance(stage, Odometry)
    return memory._replace(odometry=stage.moved(memory.part("odometry"), was, now))


def known_by(line: Line, memory: LineMemory, mark: Mark) -> LineMemory | None:
    """Return what the line of one robot remembers, once it is known by a mark; None if that does not fit."""
    stage = line.stages["odometry"]
    assert isinstance(stage, Odometry)
    try:
        after, _ = take(stage, memory.part("odometry"), mark)
    except NoMarkError:
        return None
    return memory._replace(odometry=after)
