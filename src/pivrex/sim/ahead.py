"""Commands that are known beforehand: the stand-in's steps for many ticks at once, with the same bits."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from pivrex.line.se2 import move_along
from pivrex.line.stage import Floats
from pivrex.sim.stand_in import StandIn, StandInState

__all__ = ["drive_through"]


def drive_through(
    model: StandIn, robot: StandInState, told: Floats, counts: Sequence[bool], dt_s: float
) -> tuple[StandInState, StandInState]:
    """Let one robot obey commands that are known beforehand.

    Parameters
    ----------
    model : StandIn
    robot : StandInState
    told : (N, V) float64
    counts : sequence of N bool
        A command that does not count moves nothing.
    dt_s : float

    Returns
    -------
    StandInState, StandInState
        The states before each command, as a batch of shape (N,), and the one after them all.
    """
    counted = np.flatnonzero(counts)
    states: list[StandInState] = []
    at, waits, patience, window = 0, 0, 1, len(counted)
    freely = model.rolls_freely(robot, told)
    while at < len(counted):
        # one that stands against something is not asked at every tick whether it is free again
        free = _free(model, robot, told[counted[at : at + window]], dt_s) if freely and not waits else None
        waits = max(0, waits - 1)
        if free is not None and len(free.blocked) == 1:
            waits, patience = patience, min(2 * patience, 64)
        if free is not None and len(free.blocked) > 1:
            # one that has just run into something may soon do so again: not so far ahead is looked then
            patience, window = 1, max(16, 2 * (len(free.blocked) - 1))
            states.append(StandInState(*(part[:-1] for part in free)))
            robot = StandInState(*(part[-1] for part in free))
            at += len(free.blocked) - 1
            continue
        states.append(StandInState(*(part[None] for part in robot)))
        robot = model.step(robot, told[counted[at]], dt_s)
        at += 1
    # one that does not count finds the robot as the next that does
    states.append(StandInState(*(part[None] for part in robot)))
    whole = StandInState(*(np.concatenate(parts) for parts in zip(*states, strict=True)))
    before = np.concatenate(([0], np.cumsum(counts)))[:-1]
    return StandInState(*(part[before] for part in whole)), robot


def _free(model: StandIn, robot: StandInState, told: Floats, dt_s: float) -> StandInState:
    """Give the states before and after each command until one leads into something, the first that of now; (n + 1,).

    What a step adds up is added up here in the same order, by running sums; the wheels' lag alone needs a loop.
    """
    target, decay, memory = model.targets(robot, told, dt_s)
    rolled, speeds = np.empty_like(target), np.empty((len(target) + 1, target.shape[1]))
    speeds[0] = robot.speed
    for w, column in enumerate(target.T.tolist()):
        speed, ways, after = float(robot.speed[w]), [], []
        for wanted in column:
            gap = speed - wanted
            ways.append(wanted * dt_s + gap * memory)
            speed = wanted + gap * decay
            after.append(speed)
        rolled[:, w], speeds[1:, w] = ways, after
    twist = model.twist_of(rolled)
    poses = move_along(robot.pose, twist)
    hit = np.flatnonzero(model.touches(poses[1:]))
    n = int(hit[0]) if len(hit) else len(target)
    none = np.zeros(n + 1)

    def summed(start: Floats, added: Floats) -> Floats:
        return np.add.accumulate(np.concatenate((start[None], added[:n])))

    def same(part: Floats) -> Floats:
        return np.broadcast_to(part, (n + 1, *part.shape))

    return robot._replace(
        travel=summed(robot.travel, rolled),
        speed=speeds[: n + 1],
        pose=poses[: n + 1],
        blocked=np.concatenate((robot.blocked[None], none[1:])),
        gyro=summed(robot.gyro, twist[:, 2]),
        **{
            name: same(getattr(robot, name))
            for name in ("angle", "turning", "begin", "lifted", "upside_down", "attached")
        },
    )
