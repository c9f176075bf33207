"""Drives a path by itself on the simulated robot, and measures the result."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from pivrex.line.line import Line
from pivrex.line.stage import Floats
from pivrex.path import Path
from pivrex.path.plan import Plan, plan_of
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.routine.playing import Play, play
from pivrex.routine.program import MAIN, FollowStep, Program, Where

__all__ = ["PARTS", "Trial", "program_following", "tried"]

PARTS = ("p", "i", "d")
SPARE_S = 6.0


class Trial(NamedTuple):
    """The result of a path, in the N ticks that followed it.

    Attributes
    ----------
    plan : Plan
    play : Play
    t : (N,) float64
        In s.
    truth, estimated : (N, 3) float64
    errors : (N, 3) float64
        Along and across, in m, and of the heading, in rad.
    parts : dict of str to (N, 3) float64
        What p, i and d of each of the three gave.
    planned, back : (N, 3) float64
        The planned motion, and what was added to it: forward and left in m/s, turn in rad/s.
    """

    plan: Plan
    play: Play
    t: Floats
    truth: Floats
    estimated: Floats
    errors: Floats
    parts: dict[str, Floats]
    planned: Floats
    back: Floats


def program_following(
    path: Path,
    rig: Rig,
    name: str,
    feeds: tuple[bool, bool] = (True, True),
    start: tuple[float, float, float] | None = None,
    plan: Plan | None = None,
) -> Program:
    """Return the program that follows a path, with its plan if it is known, from its beginning or from another start: (x, y) in m,
    heading in rad.
    """
    x, y, heading = (plan or plan_of(path, rig)).poses[0].tolist()
    text = f"follow {name}"
    step = FollowStep(Where(1, text), "follow", {}, path=path, feeds=feeds)
    return Program(name, text, "", start or (x, y, heading), {MAIN: (step,)}, {})


def tried(
    path: Path,
    rig: Rig,
    field: Field | None,
    feeds: tuple[bool, bool] = (True, True),
    seed: int = 0,
    start: tuple[float, float, float] | None = None,
    plan: Plan | None = None,
) -> Trial:
    """Drive a path, with its plan if it is known, on the simulated robot; ``seed`` draws how it differs, as in a rehearsal."""
    plan = plan or plan_of(path, rig)
    program = program_following(path, rig, "path", feeds, start, plan)
    made = play(program, rig, field, plan.time_s + SPARE_S, seed)
    layout = Line(rig).layout
    rows = made.rows[made.rows[:, layout.at("following", "mode")] > 0]

    def these(stage: str, *names: str) -> Floats:
        return rows[:, [layout.at(stage, n) for n in names]]

    errors = ("along_track", "cross_track", "heading")
    return Trial(
        plan, made, rows[:, layout.at("clock", "t")], these("truth", "x", "y", "heading"), these("odometry", "x", "y", "heading"),
        these("following", "along_track", "cross_track", "heading_error"),
        {p: these("following", *(f"{n}_{p}" for n in errors)) for p in PARTS},
        np.asarray(these("following", "plan_forward", "plan_left", "plan_turn")),
        these("following", "correction_forward", "correction_left", "correction_turn"),
    )  # fmt: skip
