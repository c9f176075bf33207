"""Entry: the requests of any part but the controls, between the two halves of the line."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import numpy as np

from pivrex.line.stage import Floats, Stage

__all__ = ["Entry", "enter", "entered"]


class Entry(NamedTuple):
    """Commands that do not come from the controls: a routine, a comparison, a shakedown.

    Attributes
    ----------
    twist : B + (3,) float64 or None
        In the law's place: forward and left in m/s, turn in rad/s.
    requests : B + (A, 3) float64 or None
        To the attachments, as `pivrex.line.attachments.obey` has them: share, to, by.
    probe : B + (2,) float64 or None
        Which motor alone gets a command, from 1, and its duty; see `pivrex.line.probe`.
    aim : B float64 or None
        The heading that the correction should keep in this tick, in rad, unwrapped; NaN for none.
    moves : B float64 or None
        The rate at which that target moves, in rad/s; the twist's turn if left out.
    plan : B + (11,) float64 or None
        What is followed; see `pivrex.line.following.COMMANDED`.
    routine : B + (3 + W + 3·P,) float64 or None
        Of which line of a routine it is, whose forward counts, shares of wheels, and how positions are homed; see
        `pivrex.line.routine_stage`.
    """

    twist: Floats | None = None
    requests: Floats | None = None
    probe: Floats | None = None
    aim: Floats | None = None
    moves: Floats | None = None
    routine: Floats | None = None
    plan: Floats | None = None


def entered(stages: Mapping[str, Stage], row: Floats) -> Entry:
    """Return what entered in a Tick, (K,), in place of the controls; all but probes."""
    twist = row[stages["law"].entry] if row[stages["law"].entered] else None
    aim = moves = None
    if "aim" in stages and row[stages["aim"].entered]:
        aim, moves = row[stages["aim"].entry]
    requests = row[stages["attachments"].entry].reshape(-1, 3) if "attachments" in stages else None
    routine, plan = row[stages["routine"].entry], row[stages["following"].entry]
    return Entry(twist=twist, requests=requests, aim=aim, moves=moves, routine=routine, plan=plan)


def enter(stages: Mapping[str, Stage], row: Floats, entry: Entry) -> None:
    """Put an entry in the place of the controls' requests, in rows, B + (K,). A robot that is stopped obeys no twist."""
    if entry.twist is not None:
        stopped = row[..., stages["clock"].entry, None] != 0
        row[..., stages["law"].entry] = np.where(stopped, 0.0, entry.twist)
        row[..., stages["law"].entered] = 1.0
    if entry.requests is not None and "attachments" in stages:
        row[..., stages["attachments"].entry] = entry.requests.reshape((*row.shape[:-1], -1))
    if entry.routine is not None:
        row[..., stages["routine"].entry] = entry.routine
    if entry.plan is not None:
        row[..., stages["following"].entry] = np.where(row[..., stages["clock"].entry, None] != 0, 0.0, entry.plan)
    if entry.probe is not None:
        row[..., stages["probe"].entry] = entry.probe
    if entry.aim is not None and "aim" in stages:
        at = stages["aim"].entry
        row[..., at.start] = entry.aim
        if entry.moves is not None:
            row[..., at.start + 1] = entry.moves
        elif entry.twist is not None:
            row[..., at.start + 1] = entry.twist[..., 2]
        row[..., stages["aim"].entered] = 1.0
