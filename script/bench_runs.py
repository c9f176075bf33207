"""How quick runs are: kept next to a tick, opened, compared, learned from."""

from __future__ import annotations

import shutil
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np

from pivrex.line import Entry, Line
from pivrex.rig import open_folder, read_rig
from pivrex.rig.read import rig_text
from pivrex.runs.comparing import compare
from pivrex.runs.facts import Facts
from pivrex.runs.learning import learn
from pivrex.runs.run import Run
from pivrex.runs.through import keep_rows
from pivrex.session import messages as ask
from pivrex.session.clock import Clock
from pivrex.session.core import Session
from pivrex.session.keeping import Keeping
from pivrex.sim.body import RealisticBody
from pivrex.sim.rollout import Rollout

__all__ = ["keeping", "ten_minutes"]

DEMO = Path(__file__).parent.parent / "src" / "pivrex" / "demo"
PLOVER = DEMO / "rigs" / "plover.toml"


def keeping(seconds: float = 12.0) -> dict[str, Any]:
    """What keeping adds to a tick, and how late ticks begin with it and without, turn about; ratios of one run."""
    folder = open_folder(DEMO)
    late: dict[bool, list[float]] = {True: [], False: []}
    adds: list[float] = []
    with tempfile.TemporaryDirectory() as place:
        for keeps in (False, True, False, True):
            setup = ask.SetUp(
                read_rig(PLOVER), folder.settings.field, tuple(folder.recordings()), "recording watering",
                runs=Path(place) if keeps else None, rig_name="plover", rig_text=rig_text(PLOVER),
            )  # fmt: skip
            session = Session(setup)
            keeper = Keeping(setup, session, session.board.note, session.board.set)
            clock = Clock(session.dt_s)
            for _ in range(round(seconds / 2 / session.dt_s)):
                late[keeps].append(clock.wait())
                row = session.tick(time.perf_counter())
                before = time.perf_counter()
                keeper.add(row)
                if keeps:
                    adds.append(time.perf_counter() - before)
            keeper.close()
            session.close(0.0)
    p99 = {keeps: float(np.percentile(values, 99)) for keeps, values in late.items()}
    return {
        "keep_tick_us": {
            "median": round(float(np.median(adds)) * 1e6, 2),
            "p99": round(float(np.percentile(adds, 99)) * 1e6, 2),
        },
        "late_p99_ms": {"without": round(p99[False] * 1e3, 3), "with": round(p99[True] * 1e3, 3)},
        "late_p99_ratio": round(p99[True] / max(p99[False], 1e-9), 2),
    }


def _driven(seconds: float, chance: np.random.Generator) -> tuple[Line, np.ndarray]:
    rig = read_rig(PLOVER)
    line = Line(rig)
    rollout = Rollout(line, RealisticBody(rig))
    top = float(line.top_m_s.min())
    rows, twist = [], np.zeros(3)
    for i in range(round(seconds / line.dt_s)):
        if i % 80 == 0:
            twist = (
                np.zeros(3)
                if i < 400
                else np.array([chance.uniform(-0.9, 0.9) * top, 0.0, chance.uniform(-2, 2) * (chance.random() < 0.4)])
            )
        rows.append(rollout.tick(line.rest(), entry=Entry(twist=twist)))
    return line, np.array(rows)


def ten_minutes() -> dict[str, float]:
    """A run of ten minutes opened to its first Tick, two of them compared, two minutes learned from."""
    place = Path(tempfile.mkdtemp())
    try:
        text = rig_text(PLOVER)
        for name, seed in (("a", 1), ("b", 2)):
            line, rows = _driven(150.0, np.random.default_rng(seed))
            # the same two and a half minutes four times over: what is timed is reading them
            whole = np.concatenate([rows] * 4)
            keep_rows(place / name, Facts("Plover", "plover", datetime.now(UTC), 60.0), line, text, None, list(whole))
        keep_rows(
            place / "two",
            Facts("Plover", "plover", datetime.now(UTC), 60.0),
            line,
            text,
            None,
            list(rows[: round(120 / line.dt_s)]),
        )
        found: dict[str, list[float]] = {
            "open_run_s": [],
            "read_all_s": [],
            "compare_s": [],
            "compare_same_s": [],
            "learn_s": [],
        }
        for _ in range(3):
            for key, work in (
                ("open_run_s", lambda: Run(place / "a").row(0)),
                ("read_all_s", lambda: [len(p.rows) for p in Run(place / "a").pieces()]),
                ("compare_s", lambda: compare(Run(place / "a"), Run(place / "b"))),
                ("compare_same_s", lambda: compare(Run(place / "a"), Run(place / "a"))),
                ("learn_s", lambda: learn(Run(place / "two"), read_rig(PLOVER), text)),
            ):
                before = time.perf_counter()
                work()
                found[key].append(time.perf_counter() - before)
        return {key: round(float(np.median(values)), 3) for key, values in found.items()}
    finally:
        shutil.rmtree(place, ignore_errors=True)
