"""How quick routines are: checked, typed, previewed, rehearsed."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from pivrex.rig import open_folder, read_rig
from pivrex.routine import Player, check_text, play
from pivrex.routine.files import program_of, shared_next_to
from pivrex.routine.goals import read_goal
from pivrex.routine.numbers import numbers_in
from pivrex.routine.rehearsal import rehearse
from pivrex.routine.solving import solve

__all__ = ["check_ms", "preview_ms", "rehearsals", "solve_ms", "type_to_screen_ms"]

DEMO = Path(__file__).parent.parent / "src" / "pivrex" / "demo"
ROUTINE = DEMO / "routines" / "greenhouse-avocet.txt"


def _median(values: list[float]) -> float:
    return float(np.median(values))


def check_ms() -> dict[str, float]:
    """Two hundred lines checked: for the first time, and after a key has changed one of them."""
    rig = read_rig(DEMO / "rigs" / "avocet.toml")
    block = [line for line in ROUTINE.read_text().splitlines() if not line.startswith(("for ", "start ", "use "))]
    text = "use moves from greenhouse-moves\n" + "\n".join((block * 10)[:199])
    first, after = [], []
    for k in range(9):
        fresh = text.replace("0.8 m/s", f"0.{81 + k} m/s").replace("1.10 m", f"1.{11 + k} m")
        before = time.perf_counter()
        check_text(fresh, rig, "bench", shared_next_to(ROUTINE))
        first.append(time.perf_counter() - before)
        before = time.perf_counter()
        check_text(fresh + f"\nwait {k} s", rig, "bench", shared_next_to(ROUTINE))
        after.append(time.perf_counter() - before)
    return {"first": round(_median(first) * 1e3, 2), "a_key_later": round(_median(after) * 1e3, 2)}


def preview_ms() -> dict[str, float]:
    """The demo's routine of Avocet played again, and after a change in its last third."""
    rig, field = read_rig(DEMO / "rigs" / "avocet.toml"), open_folder(DEMO).settings.field
    text = ROUTINE.read_text()
    whole, last = [], []
    for k in range(7):
        player = Player(rig, field)
        for took, changed in ((whole, text), (last, text.replace("boom to 70 deg", f"boom to {60 + k} deg"))):
            before = time.perf_counter()
            program = check_text(changed, rig, "bench", shared_next_to(ROUTINE)).program
            assert program is not None
            player.play(program)
            took.append(time.perf_counter() - before)
    return {"whole": round(_median(whole) * 1e3), "last_third": round(_median(last) * 1e3)}


def rehearsals(times: int) -> dict[str, float]:
    """The same routine many times together, and one at a time."""
    rig, field = read_rig(DEMO / "rigs" / "avocet.toml"), open_folder(DEMO).settings.field
    program = program_of(ROUTINE, rig)
    before = time.perf_counter()
    rehearse(program, rig, field, np.arange(1, times + 1, dtype=np.uint64))
    many = times / (time.perf_counter() - before)
    before = time.perf_counter()
    for seed in (1, 2, 3):
        play(program, rig, field, seed=seed)
    single = 3 / (time.perf_counter() - before)
    return {"runs_per_s": round(many, 1), "one_at_a_time_per_s": round(single, 2), "ratio": round(many / single, 1)}


def solve_ms() -> float:
    """A turn's angle found so that it turns as far as is asked, and how sure that is."""
    rig = read_rig(DEMO / "rigs" / "plover.toml")
    text = "start at 1 m, 1 m\ndrive ahead 1 m at 0.4 m/s\nturn right 90 deg\ndrive ahead 50 cm\n"
    goal, took = read_goal("turned 80 deg", tuple(rig.attachments)), []
    for _ in range(3):
        before = time.perf_counter()
        solve(text, numbers_in(text, 3)[0], goal, rig, None)
        took.append(time.perf_counter() - before)
    return round(_median(took) * 1e3)


def type_to_screen_ms(screen: Any, percentiles: Callable[..., dict[str, float]]) -> dict[str, float]:
    """From a key in the text to the bytes that show it. ``screen`` has the Routine view open."""
    took = []
    screen.write(b"y")
    screen.drain(0.6)
    for i in range(60):
        letter = "zqxkvj"[i % 6].encode() * 2
        before = time.perf_counter()
        screen.write(letter)
        seen = b""
        while time.perf_counter() - before < 1.0:
            seen += screen.read(0.5)
            if letter[:1] in seen:
                took.append(time.perf_counter() - before)
                break
        screen.write(b"\x7f\x7f")
        screen.drain(0.25 + (i % 7) * 0.011)
    if len(took) < 50:
        raise SystemExit(f"only {len(took)} of 60 typed keys were seen on the screen")
    return percentiles(took, 50, 95, scale=1000)
