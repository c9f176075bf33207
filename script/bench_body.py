"""How quick the simulated robot with a real body is, alone and by the thousand, and what is tuned on it."""

from __future__ import annotations

import shutil
import time
from pathlib import Path

import numpy as np

from pivrex.kernels.engines import Engine, wait_for_it, with_engine
from pivrex.line import Entry, Line
from pivrex.line.input_stages import NOWHERE
from pivrex.rig import RigFile, open_folder, read_rig
from pivrex.scene.chart import Series, chart, span_of
from pivrex.sim import Rollout
from pivrex.sim.body import RealisticBody
from pivrex.sim.driving import drive_through
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.jobs.responses import Question, response_job
from pivrex.tuning import LOOPS, Gains
from pivrex.tuning.search import search

__all__ = ["batch", "inside", "realtime", "responses_ms", "tune_s", "yardstick_ms"]

DEMO = Path(__file__).parent.parent / "src" / "pivrex" / "demo"


def yardstick_ms() -> float:
    """What this machine takes now for a hundred thousand sums in Python: a scale for the other figures."""
    best = float("inf")
    for _ in range(5):
        before, total = time.perf_counter(), 0.0
        for k in range(100_000):
            total = total * 0.5 + k
        best = min(best, time.perf_counter() - before)
    return round(best * 1e3, 2)


def realtime(name: str) -> float:
    """How many seconds one robot drives in a second, line and body together, correction and wheel loop at work."""
    rig = read_rig(DEMO / "rigs" / f"{name}.toml")
    line = Line(rig)
    rollout = Rollout(line, RealisticBody(rig, open_folder(DEMO).settings.field))
    rest, best, full = line.rest(), float("inf"), rig.full_forward_m_s
    for _ in range(6):
        before = time.perf_counter()
        for k in range(120):
            twist = np.array([0.3 * full * np.sin(k / 20), 0.0, 0.0])
            rollout.tick(rest, entry=Entry(twist=twist, aim=np.array(1.57)))
        best = min(best, time.perf_counter() - before)
    return round(120 * line.dt_s / best, 1)


def batch(name: str, robots: int = 1000) -> dict[str, float]:
    """How many robot seconds a second a batch drives: the body alone, and with its line."""
    rig = read_rig(DEMO / "rigs" / f"{name}.toml")
    line, model = Line(rig), RealisticBody(rig)
    chance = np.random.default_rng(1)
    commands = np.array([line.resting()] * robots)
    raw = chance.uniform(-1, 1, (robots, len(line.channels)))
    rollout = Rollout(line, model, line.start((robots,)), model.start((robots,), np.arange(robots, dtype=np.uint64)))
    for _ in range(3):
        row = rollout.tick(raw)
    commands = line.commands(row)
    found = {}
    for what in ("body", "with_line"):
        best = float("inf")
        for _ in range(4):
            before = time.perf_counter()
            for _ in range(12):
                if what == "body":
                    rollout.robot = model.step(rollout.robot, commands, line.dt_s)
                else:
                    rollout.tick(raw)
            best = min(best, time.perf_counter() - before)
        found[what] = round(robots * 12 * line.dt_s / best)
    return found


def inside(name: str) -> dict[str, float]:
    """How many seconds one robot drives in a second where all its ticks are one call, how long a tick takes in Python, and the ratio."""
    rig = read_rig(DEMO / "rigs" / f"{name}.toml")
    line, model, found = Line(rig), RealisticBody(rig, open_folder(DEMO).settings.field), {}
    raw = np.random.default_rng(1).uniform(-0.6, 0.6, (4, len(line.channels))).repeat(1500, axis=0)
    for engine, ticks in ((Engine("plain", None, ""), 120), (wait_for_it(), len(raw))):
        best = float("inf")
        for _ in range(3):
            rows = line.begin(np.arange(float(ticks)), raw[:ticks], np.zeros(()), 0.0, 0.0, NOWHERE)
            given = np.full((ticks, len(line.stages["sensed"].columns)), np.nan)
            with with_engine(engine):
                before = time.perf_counter()
                drive_through(line, model, line.start(), model.start(), rows, given, [True] * ticks)
                best = min(best, (time.perf_counter() - before) / ticks)
        found[engine.name] = best
    python, c = found["plain"], found[wait_for_it().name]
    return {
        "times_real_time": round(line.dt_s / c),
        "python_tick_us": round(python * 1e6, 1),
        "ratio": round(python / c, 1),
    }


def tune_s() -> float:
    """A search over 500 candidates under 8 conditions of 2 s each."""
    before = time.perf_counter()
    found = search(read_rig(DEMO / "rigs" / "plover.toml"), LOOPS["heading"], "quick", 500)
    assert found is not None and found.tried == 500
    return round(time.perf_counter() - before, 1)


def responses_ms(folder: Path, count: int = 24) -> dict[str, float]:
    """From a nudged gain, saved to its file, to three answers that are drawn again."""
    path = folder / "plover.toml"
    shutil.copy(DEMO / "rigs" / "plover.toml", path)
    file, loop, work, took = RigFile(path), LOOPS["heading"], response_job(), []
    for k in range(count + 2):
        before = time.perf_counter()
        file.put("correction.p", f"{10 + k * 0.25:g} /s")
        now = loop.gains(file.rig)
        work.ask(
            Question(
                file.rig, "heading", loop.experiment(file.rig, "step"), (now, Gains(now.p, 0, 0), Gains(6.0, 10.0, 0.1))
            )
        )
        while not (found := work.poll()):
            time.sleep(0.001)
        a = found[-1][1]
        series = [Series("", values, "measured") for values in np.degrees(a.value)]
        print_scene(chart("", a.t_s, series, span_of(series, 1.0), ("deg", "s"), (96, 22)), 96, 22)
        took.append((time.perf_counter() - before) * 1e3)
    work.close()
    kept = took[2:]  # the first ones start the process
    return {"median": round(float(np.median(kept)), 1), "p95": round(float(np.percentile(kept, 95)), 1)}
