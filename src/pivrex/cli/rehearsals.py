"""Commands that play a routine many times: on this computer's cores or on a cluster, alone or compared with another version."""

from __future__ import annotations

import math
import os
import sys
from pathlib import Path
from typing import Annotated, Any, NamedTuple

import typer

from pivrex.cli.options import Json, RigOfRoutine, RoutineName, print_json, seed_option, whole

__all__ = ["How", "found_routine", "pose_of", "rehearse", "rehearsed"]


class How(NamedTuple):
    """How a rehearsal is made: the first seed, how many drives, by how many processes, on which cluster."""

    seed: int
    times: int
    workers: int
    on: str = ""


def rehearse(
    routine: RoutineName,
    rig: RigOfRoutine = "",
    times: Annotated[int, whole("How many drives.", least=1, most=1000000)] = 100,
    seed: Annotated[
        int, seed_option("The seed of the first drive; the others count up. 0 is the rig without differences.")
    ] = 1,
    workers: Annotated[int, whole("The number of processes; 0 for one per core.", least=0, most=256)] = 0,
    on: Annotated[
        str, typer.Option(help="A dask scheduler whose workers run the drives, such as tcp://10.0.0.5:8786.")
    ] = "",
    against: Annotated[str, typer.Option(help="Another version to compare with.")] = "",
    as_json: Json = False,
) -> None:
    """Play a routine many times, each drive a little different, and print how often it reaches each zone."""
    from pivrex.rig import read_rig
    from pivrex.routine.files import field_of, program_of
    from pivrex.routine.rehearsal import follows, reached

    path, rig_path, folder = found_routine(routine, rig)
    read = read_rig(rig_path)
    program, match = program_of(path, read), folder.settings.match
    field = field_of(program, folder) or folder.settings.field
    work = (program, read, field, match.alone_s)
    how = How(seed, times, workers or os.cpu_count() or 1, on)
    found = rehearsed(work, how)
    other = _against(against, path.stem, work, found, how, folder) if against else None
    sigma = [math.sqrt(v) for v in found.covariance.diagonal()]
    k = found.worst
    answer: dict[str, Any] = {
        "times": times,
        "reached": {name: round(share, 4) for name, share in reached(found, field).items()},
        "ended": {how: found.ended.count(how) for how in sorted(set(found.ended))},
        "time_s": {"mean": round(float(found.times_s.mean()), 3), "worst": round(float(found.times_s.max()), 3)},
        "mean": pose_of(found.mean),
        "standard_deviation": {
            "x_m": round(sigma[0], 5),
            "y_m": round(sigma[1], 5),
            "heading_deg": round(math.degrees(sigma[2]), 3),
        },
        "covariance": [[float(f"{v:.6g}") for v in row] for row in found.covariance],
        "worst": {"seed": int(found.seeds[k]), "pose": pose_of(found.poses[k]), "ended": found.ended[k]},
        "follows": [{"what": f.name, "of": f.of, "correlation": round(f.correlation, 3)} for f in follows(found)],
    }
    if other is not None:
        answer["against"] = other[0]
    if as_json:
        print_json(answer, spread="standard_deviation", scatter_m="standard_deviation_m", surer="more_reliable")
        return
    print(f"{path.stem} with {read.name}, {times} times")
    for name, share in answer["reached"].items():
        print(f"  {name:<16} {share * 100:5.1f} %")
    ended = ", ".join(f"{how} {count}" for how, count in answer["ended"].items())
    print(f"  ended: {ended}, after {answer['time_s']['mean']:.1f} s, at worst {answer['time_s']['worst']:.1f} s")
    p, s = answer["mean"], answer["standard_deviation"]
    print(f"  at x {p['x_m']:.3f} ± {s['x_m']:.3f} m, y {p['y_m']:.3f} ± {s['y_m']:.3f} m, "
          f"heading {p['heading_deg']:.1f} ± {s['heading_deg']:.1f} deg (one sigma)")  # fmt: skip
    print(f"  worst: seed {answer['worst']['seed']}; pivrex play {path.stem} --seed {answer['worst']['seed']} plays it")
    for f in answer["follows"][:3]:
        print(f"  {f['of']} correlates with {f['what']}, r {f['correlation']:+.2f}")
    for sentence in other[1] if other is not None else ():
        print(f"  {sentence}")


def _against(against: str, name: str, work: Any, found: Any, how: How, folder: Any) -> tuple[Any, list[str]]:
    """Compare with another version: with the same seeds, on the same robot and field."""
    from pivrex.routine import play as played
    from pivrex.routine.files import find_routine, program_of
    from pivrex.routine.versions import compared

    program, rig, field, limit = work
    path = find_routine(against, folder)
    theirs = program_of(path, rig)
    plays = played(program, rig, field, limit), played(theirs, rig, field, limit)
    made = compared((name, path.stem), plays, (found, rehearsed((theirs, rig, field, limit), how)), field)
    versions = [
        {"name": v.name, "time_s": round(v.time_s, 3), "standard_deviation_m": round(v.scatter_m, 5), "zone": v.zone, "share": round(v.share, 4),
         "line": v.line, "pose": pose_of(v.pose)}
        for v in (made.a, made.b)
    ]  # fmt: skip
    parts = None if math.isnan(made.at_s) else round(made.at_s, 4)
    return {
        "parts_s": parts,
        "faster": made.faster,
        "more_reliable": made.more_reliable,
        "versions": versions,
    }, made.sentences()


def pose_of(pose: Any) -> dict[str, float]:
    """Return a pose as it is printed."""
    from pivrex.units import wrap_deg

    x, y, heading = (float(v) for v in pose)
    return {"x_m": round(x, 5), "y_m": round(y, 5), "heading_deg": round(wrap_deg(math.degrees(heading)), 3)}


def rehearsed(work: Any, how: How) -> Any:
    """Rehearse in several processes, or on a cluster; each task is a batch of its own."""
    from concurrent.futures import ProcessPoolExecutor, as_completed
    from multiprocessing import get_context

    import numpy as np

    from pivrex.routine.cluster import batch, rehearse_on
    from pivrex.routine.rehearsal import split, together

    def report(done: int, whole: int) -> None:
        if sys.stderr.isatty():
            print(f"\r  {done} of {whole} batches ", end="\n" * (done == whole), file=sys.stderr, flush=True)

    seeds = np.arange(how.seed, how.seed + how.times, dtype=np.uint64)
    if how.on:
        return rehearse_on(how.on, work, seeds, report)
    tasks = split(seeds, how.workers)
    if len(tasks) == 1:
        return batch(work, seeds)
    found: dict[int, Any] = {}
    with ProcessPoolExecutor(min(how.workers, len(tasks)), get_context("spawn")) as pool:
        waiting = {pool.submit(batch, work, task): k for k, task in enumerate(tasks)}
        for future in as_completed(waiting):
            found[waiting[future]] = future.result()
            report(len(found), len(tasks))
    return together([found[k] for k in range(len(tasks))])


def found_routine(routine: str, rig: str) -> tuple[Path, Path, Any]:
    """Find a routine, its rig, and their workspace."""
    from pivrex.rig import find_rig, open_folder
    from pivrex.routine.files import find_routine, wanted_rig

    here = open_folder(Path())
    if rig:
        rig_path, folder = find_rig(rig, Path())
        return find_routine(routine, folder), rig_path, folder
    path = find_routine(routine, here)
    rig_path, folder = wanted_rig(path)
    return path, rig_path, folder
