"""Commands that test a loop of the line on the simulated robot, and find its gains."""

from __future__ import annotations

import math
import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from pivrex.cli.options import Json, RigName, print_json, real, seed_option, whole
from pivrex.errors import PivrexError

__all__ = ["gyro", "heading", "tune"]

Gain = Annotated[float | None, real("The gain, instead of the rig's own.", least=0)]


MOST = 1e4
"""More than this no robot turns, drives or withstands."""


def heading(
    rig: RigName,
    turn: Annotated[float | None, real("Turn by this angle, in deg; left is +.")] = None,
    straight: Annotated[float | None, real("Drive straight for this distance, in m; backward is -.")] = None,
    push: Annotated[
        float | None, real("Hold the heading against this push at the front, in N·s; from the right is +.")
    ] = None,
    p: Gain = None,
    i: Gain = None,
    d: Gain = None,
    seed: Annotated[int, seed_option("The seed of the simulated robot's noise.")] = 0,
    body: Annotated[
        str, typer.Option(help="The simulated robot's physics: realistic or ideal; the rig's own if left out.")
    ] = "",
    as_json: Json = False,
) -> None:
    """Turn, drive straight or hold the heading by the gyro on the simulated robot, and print the step response."""
    from pivrex.rig import find_rig, read_rig

    asked = [("turn", turn), ("straight", straight), ("push", push)]
    given = [(n, v) for n, v in asked if v is not None]
    if len(given) != 1:
        raise typer.BadParameter("say one of --turn DEG, --straight M and --push NS")
    if body not in ("", "realistic", "ideal", "real", "perfect"):
        raise typer.BadParameter("--body is realistic or ideal")
    body = {"real": "realistic", "perfect": "ideal"}.get(body, body)  # as they were called, for one version
    kind, amount = given[0]
    if abs(amount) > MOST:
        raise typer.BadParameter(f"--{kind} {amount:g} is no amount that a robot could do")
    read = read_rig(find_rig(rig, Path())[0]).must_drive()
    answer = _tried(read.with_body(body) if body else read, kind, amount, (p, i, d), seed)
    if as_json:
        print_json(answer, way_m="distance_m")
        return
    print(f"{read.name}: {kind} {amount:g}")
    for name, value in answer.items():
        print(f"  {name.replace('_', ' '):<20} {'never' if value is None else value}")


def _tried(rig: Any, kind: str, amount: float, gains: tuple[float | None, ...], seed: int) -> dict[str, Any]:
    import numpy as np

    from pivrex.tuning import LOOPS, Bench, Experiment, Gains

    loop = LOOPS["heading"]
    tried = loop.of(rig)
    if tried is None:
        raise PivrexError(f"{rig.name} has no gyro; add a table [gyro] to its rig")
    own = loop.gains(tried)
    chosen = Gains(*(mine if own_ is None else own_ for mine, own_ in zip(own, gains, strict=True)))
    bench = Bench(tried, loop)
    c = tried.correction
    assert c is not None
    if kind == "turn":
        most = c.turn_rate_rad_s or tried.full_turn_rad_s / 2
        angle = math.radians(amount)
        experiment = Experiment("turn", angle, abs(angle) / most + most / c.turn_acceleration_rad_s2 + 4.0)
    elif kind == "straight":
        speed = tried.full_forward_m_s / 2
        experiment = Experiment("straight", amount, abs(amount) / speed + speed / c.drive_acceleration_m_s2 + 4.0)
    else:
        experiment = Experiment("push", amount, 3.0, amount)
    a = bench.run(experiment, chosen, np.array(seed, np.uint64))
    f = a.figures
    over = not math.isnan(float(a.done_s[0]))
    until = round(float(a.done_s[0]) / bench.line.dt_s) if over and kind != "push" else a.ticks

    def number(value: float, digits: int = 4) -> float | None:
        return round(float(value), digits) if math.isfinite(float(value)) else None

    end = min(until, a.ticks) - 1
    return {
        "rise_s": number(f.rise_s[0]),
        "overshoot_deg": number(math.degrees(f.overshoot[0])),
        "settle_s": number(f.settle_s[0]),
        "final_error_deg": number(math.degrees(f.final[0])),
        "drift_m": number(a.sideways_m[0, end]),
        "distance_m": number(a.way_m[0, end]),
        **({"end_error_m": number(amount - a.way_m[0, end])} if kind == "straight" else {}),
        "effort_deg_s": number(math.degrees(f.effort[0])),
        "unstable": bool(a.unstable[0]),
        "finished": over,
        "ticks": int(until),
    }


def gyro(
    rig: RigName,
    seconds: Annotated[float, real("How long the drive is.", least=1, most=600)] = 8.0,
    as_json: Json = False,
) -> None:
    """Compare a gyro that is mounted firmly, loosely and next to a motor: drift and noise."""
    from pivrex.rig import find_rig, read_rig
    from pivrex.tuning.placement import placements

    read = read_rig(find_rig(rig, Path())[0]).must_drive()
    if read.gyro is None:
        raise PivrexError(f"{read.name} has no gyro; add a table [gyro] to its rig")
    found = placements(read, seconds)
    if as_json:
        print_json(
            {
                p.mounting: {
                    "drift_deg": round(math.degrees(p.drift_rad), 4),
                    "worst_deg": round(math.degrees(p.worst_rad), 4),
                    "noise_deg_s": round(math.degrees(p.noise_rad_s), 4),
                }
                for p in found
            }
        )
        return
    print(f"{read.name}: the gyro after {seconds:g} s of hard driving")
    for p in found:
        drift, worst, noise = (math.degrees(v) for v in (p.drift_rad, p.worst_rad, p.noise_rad_s))
        print(f"  {p.mounting:<12} {drift:6.2f} deg off (worst {worst:.2f}), noise {noise:.2f} deg/s")


def tune(
    rig: RigName,
    loop: Annotated[
        str, typer.Option(help="heading, wheel, steering; of a robot that balances rate, lean, speed, place.")
    ] = "heading",
    goal: Annotated[str, typer.Option(help="quick, calm or robust.")] = "quick",
    candidates: Annotated[int, whole("How many gain sets are tried.", least=8, most=20000)] = 500,
    seed: Annotated[int, seed_option("The seed.")] = 0,
    by: Annotated[
        str,
        typer.Option(help="search; relay: from the ultimate gain and period; lqr: all loops of a robot that balances."),
    ] = "search",
    as_json: Json = False,
) -> None:
    """Find gains for a loop on the simulated robot, under several charges, grips, loads and noises."""
    from pivrex.rig import find_rig, read_rig
    from pivrex.tuning import LOOPS
    from pivrex.tuning.search import GOALS

    if goal == "sure":
        print("--goal sure is called robust now; the old name goes in the next version", file=sys.stderr)
        goal = "robust"
    for name, value, known in (("loop", loop, LOOPS), ("goal", goal, GOALS), ("by", by, ("search", "relay", "lqr"))):
        if value not in known:
            raise typer.BadParameter(f"--{name} is {', '.join(known)}, not {value}")
    read = read_rig(find_rig(rig, Path())[0]).must_drive()
    if LOOPS[loop].of(read) is None:
        lacks = {"heading": "no gyro", "wheel": "motors without encoders", "steering": "no steered wheels"}.get(
            loop, "no table [balance]"
        )
        raise PivrexError(f"{read.name} has {lacks}, so it has no loop {loop}")
    ways = {
        "lqr": lambda: _by_lqr(read),
        "relay": lambda: _by_relay(read, loop, goal),
        "search": lambda: _by_search(read, loop, goal, candidates, seed),
    }
    answer = ways[by]()
    if as_json:
        print_json(answer)
        return
    print(f"{read.name}, loop {loop}, goal {goal}")
    for name, value in answer.items():
        shown = ", ".join(f"{k} {v}" for k, v in value.items()) if isinstance(value, dict) else value
        print(f"  {name.replace('_', ' '):<18} {shown}")


def _by_lqr(rig: Any) -> dict[str, Any]:
    from pivrex.tuning.balancing import biggest_push, lqr_of, plant_of

    if rig.balance is None:
        raise PivrexError(f"{rig.name} has no table [balance]: LQR is for a robot that balances")
    found, plant = lqr_of(rig), plant_of(rig)
    return {
        "gains": found.changes,
        "feedback": [round(float(v), 4) for v in found.feedback],
        "poles_per_s": sorted([round(float(p.real), 3), round(float(p.imag), 3)] for p in found.poles),
        "catches_deg": round(math.degrees(plant.catches_rad), 2),
        "biggest_push_Ns": round(float(biggest_push(rig)[0]), 3),
    }


def _by_relay(rig: Any, loop: str, goal: str) -> dict[str, Any]:
    from pivrex.tuning import LOOPS
    from pivrex.tuning.relay import gains_by, relay_on

    found = relay_on(rig, LOOPS[loop])
    if found is None:
        raise PivrexError(f"{rig.name}: the loop {loop} does not swing evenly under the relay; friction holds it")
    gains = {n: float(f"{v:.3g}") for n, v in gains_by(found, goal, LOOPS[loop], rig)._asdict().items()}
    return {"gains": gains, "ultimate_gain": round(found.gain, 4), "ultimate_period_s": round(found.period_s, 4)}


def _by_search(rig: Any, loop: str, goal: str, candidates: int, seed: int) -> dict[str, Any]:
    from pivrex.tuning import LOOPS
    from pivrex.tuning.balance_loops import WHOLE
    from pivrex.tuning.search import search

    kind = LOOPS[loop]
    shown = sys.stderr.isatty()

    def progress(done: int, whole: int) -> bool:
        if shown:
            print(f"\r  {done} of {whole} candidates ", end="", file=sys.stderr, flush=True)
        return False

    found = search(rig, kind, goal, candidates, seed, progress)
    if shown:
        print(file=sys.stderr)
    assert found is not None

    def both(pair: tuple[float, float], scale: float = 1.0) -> dict[str, float]:
        return {"mean": round(pair[0] * scale, 4), "worst": round(pair[1] * scale, 4)}

    shown = WHOLE if rig.balance is not None and loop != "heading" else kind  # whose overshoot is printed
    unit = {"% of top speed": "percent", "m/s": "m_s"}.get(shown.unit, shown.unit)
    return {
        "gains": {n: float(f"{v:.3g}") for n, v in found.gains._asdict().items()},
        "tried": found.tried,
        "rise_s": both(found.rise_s),
        "settle_s": both(found.settle_s),
        f"overshoot_{unit}": both(found.beyond, shown.scale),
        "back_s": both(found.back_s),
        f"turned_{unit}": both(found.turned, shown.scale),
        f"left_over_{unit}": both(found.final, shown.scale),
        **({"biggest_push_Ns": both(found.push_Ns)} if found.push_Ns is not None else {}),
    }
