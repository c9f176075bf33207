"""Commands for routines: played on the simulated robot, without a screen."""

from __future__ import annotations

import math
import os
import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from pivrex.cli import completing
from pivrex.cli.options import Json, RigOfRoutine, RoutineName, print_json, real, seed_option, whole
from pivrex.cli.rehearsals import How, found_routine, rehearsed
from pivrex.errors import PivrexError

__all__ = ["back", "play", "solve"]


def play(
    routine: RoutineName,
    rig: RigOfRoutine = "",
    seed: Annotated[int, seed_option("The seed of the simulated robot's noise.")] = 0,
    limit: Annotated[float, real("The time limit in s; the workspace's period alone if 0.", least=0, most=3600)] = 0.0,
    body: Annotated[
        str, typer.Option(help="The simulated robot's physics: realistic or ideal; the rig's own if left out.")
    ] = "",
    as_json: Json = False,
) -> None:
    """Play a routine on the simulated robot until it ends or the clock ends it, and print where the robot is then."""
    from pivrex.rig import read_rig
    from pivrex.routine import play as played
    from pivrex.routine.files import field_of, program_of
    from pivrex.routine.kinds import unit_of
    from pivrex.units import wrap_deg

    if body not in ("", "realistic", "ideal", "real", "perfect"):
        raise typer.BadParameter("--body is realistic or ideal")
    body = {"real": "realistic", "perfect": "ideal"}.get(body, body)  # as they were called, for one version
    path, rig_path, folder = found_routine(routine, rig)
    read = read_rig(rig_path)
    read = read.with_body(body) if body else read
    program = program_of(path, read)
    made = played(program, read, field_of(program, folder), limit or folder.settings.match.alone_s, seed)
    x, y, heading = (float(v) for v in made.pose)
    answer: dict[str, Any] = {
        "ended": made.ended,
        "why": made.why,
        "time_s": round(made.time_s, 4),
        "pose": {"x_m": round(x, 5), "y_m": round(y, 5), "heading_deg": round(wrap_deg(math.degrees(heading)), 3)},
        "steps": [
            {
                "line": s.line,
                "text": s.text,
                "start_s": round(s.begin * made.dt_s, 4),
                "end_s": round(s.end * made.dt_s, 4),
                "lane": s.lane,
                "marks": s.marks,
            }
            for s in made.steps
        ],
        "messages": [
            {"t_s": round(t.n * made.dt_s, 4), "line": t.line, "text": t.text}
            | ({"shows": t.label, "value": _or_none(t.shown), "unit": unit_of(t.kind)} if t.label else {})
            for t in made.messages
        ],
    }
    if as_json:
        print_json(answer, told="messages")
        return
    rows = [((s["start_s"], 1), f"{s['start_s']:6.2f} to {s['end_s']:6.2f} s  line {s['line']:>3}  {s['text']}"
             + "".join(f"  ! {m}" for m in s["marks"])) for s in answer["steps"]]  # fmt: skip
    rows += [
        ((t["t_s"], 0), f"{'':10}{t['t_s']:6.2f} s  line {t['line']:>3}    {t['text']}") for t in answer["messages"]
    ]
    for _, row in sorted(rows, key=lambda r: r[0]):
        print(f"  {row}")
    why = f", {made.why}" if made.why else ""
    p = answer["pose"]
    print(
        f"{made.ended}{why} after {made.time_s:.2f} s at x {p['x_m']:.3f} m, y {p['y_m']:.3f} m, heading {p['heading_deg']:.1f} deg"
    )


def solve(
    goal: Annotated[
        str,
        typer.Option(
            "--for",
            help="The result to reach: at X, Y; facing, turned ANGLE; driven LENGTH; "
            'NAME there; fastest. "at last" before it means at the end of the routine.',
        ),
    ],
    routine: Annotated[
        str,
        typer.Argument(
            metavar="[ROUTINE]",
            help="A routine of this workspace by name, or a path.",
            autocompletion=completing.routines,
        ),
    ] = "",
    line: Annotated[int, whole("The line with the number.", least=1)] = 1,
    number: Annotated[int, whole("Which number of that line.", least=1)] = 1,
    text: Annotated[str, typer.Option(help='Instead of a routine: one line, such as "turn left for 1 s".')] = "",
    rig: RigOfRoutine = "",
    write: Annotated[bool, typer.Option("--write", help="Write the number into the routine.")] = False,
    as_json: Json = False,
) -> None:
    """Find the number in a routine that gives the result that you want, on the simulated robot, with its standard deviation.

    pivrex solve --text "turn left for 1 s" --for "turned 180 deg" --rig plover finds the time for a turn of 180 degrees.
    """
    from pivrex.files import read_persons, write_atomically
    from pivrex.rig import find_rig, read_rig
    from pivrex.routine.files import field_of, program_of, shared_next_to
    from pivrex.routine.goals import read_goal
    from pivrex.routine.numbers import numbers_in, replaced
    from pivrex.routine.reading import LARGEST_FILE
    from pivrex.routine.solving import solve as solved

    path = None
    if bool(text) == bool(routine):
        raise typer.BadParameter("say which ROUTINE, or give one line with --text")
    if text:
        rig_path, folder = find_rig(rig, Path()) if rig else _first_here()
        whole, field = text, None
    else:
        path, rig_path, folder = found_routine(routine, rig)
        whole, field = read_persons(path, LARGEST_FILE), None
    read = read_rig(rig_path)
    if path is not None:
        field = field_of(program_of(path, read), folder)  # report its own mistakes first
    plain = whole.removeprefix("\ufeff").replace("\r\n", "\n").replace("\r", "\n")
    there = numbers_in(plain, line)
    if number > len(there):
        where = f"{path}:{line}" if path is not None else "--text"
        raise PivrexError(f"{where}: {len(there) or 'no'} number{'s' * (len(there) != 1)} on this line")
    limit = folder.settings.match.alone_s

    def tell(tried: str) -> bool:
        if sys.stderr.isatty():
            print(f"\r  {tried:<50}", end="", file=sys.stderr, flush=True)
        return True

    shared = shared_next_to(path) if path is not None else None
    found = solved(plain, there[number - 1], read_goal(goal, tuple(read.attachments)), read, field, shared, limit, tell)
    assert found is not None
    if sys.stderr.isatty():
        print("\r", " " * 52, end="\r", file=sys.stderr)
    if write and path is not None and found.found:
        ends = "\r\n" if "\r\n" in whole else "\n"
        mark = "\ufeff" if whole.startswith("\ufeff") else ""
        write_atomically(path, mark + replaced(plain, found.number, found.value).replace("\n", ends))
    if as_json:
        print_json({
            "line": line, "number": found.number.text, "goal": found.goal.said, "value": found.written,
            "value_si": float(f"{found.value:.9g}"), "found": found.found, "off": float(f"{found.off:.6g}"),
            "near_enough": _or_none(found.share), "sigma_si": _or_none(found.sigma), "plays": found.plays,
            "written": write and path is not None and found.found,
        })  # fmt: skip
        return
    print(found.said)


def _or_none(value: float) -> float | None:
    return float(f"{value:.6g}") if math.isfinite(value) else None


def _first_here() -> tuple[Path, Any]:
    from pivrex.rig import open_folder

    folder = open_folder(Path())
    return folder.first_rig(), folder


def back(
    routine: RoutineName,
    rig: RigOfRoutine = "",
    output: Annotated[
        Path | None, typer.Option("--output", "-o", help="Write the routine that goes back into this file.")
    ] = None,
    times: Annotated[int, whole("The number of drives that differ; 0 for none.", least=0, most=100000)] = 20,
    seed: Annotated[int, seed_option("The seed of the first of them.")] = 1,
    as_json: Json = False,
) -> None:
    """Make a routine that drives back the way of another, and print how near the start it ends."""
    import numpy as np

    from pivrex.files import write_atomically
    from pivrex.rig import read_rig
    from pivrex.routine import check_text
    from pivrex.routine import play as played
    from pivrex.routine.backwards import backwards, there_and_back
    from pivrex.routine.files import field_of, program_of, shared_next_to
    from pivrex.units import wrap_rad

    path, rig_path, folder = found_routine(routine, rig)
    read, limit = read_rig(rig_path), folder.settings.match.alone_s
    program = program_of(path, read)
    field = field_of(program, folder)
    there = played(program, read, field, limit)
    text = backwards(program, read, there)
    both = check_text(there_and_back(program, read, there), read, program.name, shared_next_to(path)).program
    if both is None:
        raise PivrexError(f"{path}: cannot be run there and back: it ends before its last line")
    home = played(both, read, field, 4 * limit)
    poses = home.pose[None]
    if times:
        poses = rehearsed((both, read, field, 4 * limit), How(seed, times, os.cpu_count() or 1)).poses
    off = poses - there.poses[0]
    away, turned = np.hypot(off[:, 0], off[:, 1]), np.array([abs(wrap_rad(float(a))) for a in off[:, 2]])
    own = home.pose - there.poses[0]
    answer: dict[str, Any] = {
        "text": text, "ended": home.ended, "time_s": round(home.time_s, 3), "times": times,
        "error_m": round(float(np.hypot(own[0], own[1])), 5), "error_deg": round(abs(math.degrees(wrap_rad(float(own[2])))), 3),
        "mean_error_m": round(float(away.mean()), 5), "max_error_m": round(float(away.max()), 5),
        "mean_error_deg": round(math.degrees(float(turned.mean())), 3),
    }  # fmt: skip
    if output is not None:
        write_atomically(output, text)
    if as_json:
        print_json(answer, off_m="error_m", off_deg="error_deg", mean_off_m="mean_error_m", worst_off_m="max_error_m",
                   mean_off_deg="mean_error_deg")  # fmt: skip
        return
    print(text if output is None else f"{output}")
    print(f"there and back takes {home.time_s:.1f} s ({home.ended}) and ends {answer['error_m'] * 100:.1f} cm and "
          f"{answer['error_deg']:.1f} deg off its start")  # fmt: skip
    if times:
        print(f"in {times} drives that differ {away.mean() * 100:.1f} cm and {answer['mean_error_deg']:.1f} deg on average, "
              f"{away.max() * 100:.1f} cm at worst")  # fmt: skip
