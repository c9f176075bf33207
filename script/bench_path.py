"""Speeds of paths: making a plan, and a tick with odometry and following, compared with one without."""

from __future__ import annotations

import statistics
import time
from pathlib import Path

import numpy as np

from pivrex.line import Line
from pivrex.line.beginning import begun
from pivrex.path.files import read_path
from pivrex.path.plan import plan_of
from pivrex.path.points import Path as DrivenPath
from pivrex.rig import read_rig
from pivrex.routine.runner import Runner
from pivrex.routine.trial import program_following
from pivrex.sim.model import simulator_of

__all__ = ["follow_tick_us", "path_time_ms"]

DEMO = Path(__file__).parent.parent / "src" / "pivrex" / "demo"
ROUND = DEMO / "paths" / "round.toml"
TWELVE = 12


def _ms(run: object, times: int) -> float:
    took = []
    for _ in range(times):
        before = time.perf_counter()
        run()  # type: ignore[operator]
        took.append(time.perf_counter() - before)
    return round(statistics.median(took) * 1e3, 2)


def path_time_ms() -> dict[str, float]:
    """Spline and time law of a path of twelve points on Avocet, and of one of a thousand."""
    rig, path = read_rig(DEMO / "rigs" / "avocet.toml"), read_path(ROUND)
    twelve = path.model_copy(update={"points": path.points[:TWELVE]})
    chance = np.random.default_rng(1)
    way = np.cumsum(chance.uniform(-0.2, 0.5, (1000, 2)), axis=0)
    many = DrivenPath.model_validate({"points": [{"x": f"{x:.3f} m", "y": f"{y:.3f} m"} for x, y in way]})
    plan_of(twelve, rig)
    return {
        "twelve_points": _ms(lambda: plan_of(twelve, rig), 40),
        "a_thousand_points": _ms(lambda: plan_of(many, rig), 3),
    }


def follow_tick_us(name: str = "avocet") -> dict[str, float]:
    """The line's tick on the demo's path; the same without a plan; and the routine's own part of a tick."""
    rig = read_rig(DEMO / "rigs" / f"{name}.toml").with_body("perfect")
    line, model = Line(rig), simulator_of(rig)
    program = program_following(read_path(ROUND), rig, "round")
    assert program.start is not None
    start = np.array(program.start)
    robot, state, runner = model.placed(model.start(), start), begun(line, start), Runner(program, line, start)
    raw, row = line.rest(), None
    took: dict[str, list[float]] = {"no_plan": [], "with": [], "runner": []}
    for _ in range(600):
        before = time.perf_counter()
        entry = runner.tick(row)
        took["runner"].append(time.perf_counter() - before)
        sensed, truth = model.sense(robot), model.truth(robot)
        bare = entry._replace(plan=None)
        for kind, one in (("no_plan", bare), ("with", entry)):
            before = time.perf_counter()
            after, made = line.step(state, raw, sensed, 0.0, 0.0, truth, one)
            took[kind].append(time.perf_counter() - before)
        state, row = after, made
        robot = model.step(robot, line.commands(row), line.dt_s)
    us = {kind: round(statistics.median(values) * 1e6, 1) for kind, values in took.items()}
    return {**us, "ratio": round(us["with"] / us["no_plan"], 2)}
