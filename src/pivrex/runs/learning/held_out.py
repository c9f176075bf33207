"""How well a learned rig predicts a part of the drive that was not used to learn."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from pivrex.errors import RigError
from pivrex.line.layout import Floats
from pivrex.rig.read import read_text
from pivrex.rig.rig import Rig
from pivrex.runs.learning.drive import Drive
from pivrex.runs.run import Run
from pivrex.sim.body import Conditions, RealisticBody

__all__ = ["HeldOut", "held_out"]

MIN_S, MAX_S = 5.0, 20.0
WINDOW_S = 0.25
FULL, NEARLY = 1.06, 0.95
"""A battery's voltage next to its nominal one when it is full, and at a tenth."""


class HeldOut(NamedTuple):
    """How far the simulated robot's wheels are off those of the robot, root mean square in m/s, over so many seconds: with the rig as it was,
    and as it was learned.
    """

    seconds: float
    before: float
    after: float


def held_out(run: Run, drive: Drive, rig: Rig, learned_text: str, begin: int) -> HeldOut | None:
    """Return the robot's commands of a part of the drive to both simulated robots; None if that part is too short.

    ``begin`` is its first tick; it begins when the robot stands, if it does.
    """
    part = drive.part(_where_it_stands(drive, begin), len(drive))
    part = part.part(0, min(len(part), round(MAX_S / drive.dt_s)))
    if len(part) * drive.dt_s < MIN_S:
        return None
    try:
        learned = read_text(learned_text, run.folder / "rig.toml", Rig)
    except RigError:
        return None
    return HeldOut(len(part) * drive.dt_s, _off(rig, part), _off(learned, part))


def _where_it_stands(drive: Drive, begin: int) -> int:
    still = round(0.3 / drive.dt_s)
    for at in range(begin, max(begin, len(drive) - round(MIN_S / drive.dt_s)), still):
        if at >= still and np.abs(drive.travel[at] - drive.travel[at - still]).max() < 1e-3:
            return at
    return begin


def _off(rig: Rig, part: Drive) -> float:
    """Return how far the wheels' speeds of a rig's simulated robot are off, root mean square in m/s."""
    under = Conditions()
    if part.senses_volts:
        # charged as the highest voltage shows: that is the one with the least load
        share = float(part.volts.max()) / rig.battery.volts
        under = Conditions(charge=float(np.clip(0.1 + 0.9 * (share - NEARLY) / (FULL - NEARLY), 0.1, 1.0)))
    body = RealisticBody(rig if rig.has_realistic_physics else rig.with_body("realistic"), None, under=under)
    state = body.start()
    commands: Floats = part.commands
    rolled = np.empty_like(part.travel)
    for i in range(len(part)):
        rolled[i] = state.travel
        state = body.step(state, commands[i], part.dt_s)
    step = round(WINDOW_S / part.dt_s)
    mine, theirs = (np.diff(t[::step], axis=0) / (step * part.dt_s) for t in (rolled, part.travel))
    return float(np.sqrt(np.mean((mine - theirs) ** 2)))
