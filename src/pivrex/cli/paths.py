"""Commands for paths: whether a robot can drive one, and how long it takes."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import typer

from pivrex.cli.options import Json, PathName, RigOfAll, print_json

__all__ = ["check", "planned", "time"]


def planned(name: str, rig: str) -> tuple[Any, Any, Any, Path]:
    """Return the plan, the rig, the field and the file. Raises `RigError`, `ReadError`."""
    from pivrex.errors import Mistake, RigError
    from pivrex.files import resolved
    from pivrex.path.files import find_path, read_path
    from pivrex.path.plan import plan_of
    from pivrex.rig import find_rig, open_folder, read_rig

    file = find_path(name, open_folder(Path()))
    path = read_path(file)
    home = resolved(file).parent
    home = home.parent if home.name == "paths" else home
    folder = open_folder(home)
    rig_path, _ = find_rig(rig, home) if rig else (folder.first_rig(), folder)
    field = folder.settings.field
    if path.floor and path.floor != field.name:
        if path.floor not in folder.floors():
            known = ", ".join(f'"{n}"' for n in (field.name, *folder.floors()))
            raise RigError(file, [Mistake(1, "floor", f'is "{path.floor}", and this workspace has {known}')])
        field = folder.floor(path.floor)
    read = read_rig(rig_path).must_drive()
    return plan_of(path, read), read, field, file


def check(path: PathName, rig: RigOfAll = "", as_json: Json = False) -> None:
    """Check whether a robot can drive a path, and how far its outline keeps from everything; exits 1 if it cannot."""
    import numpy as np

    from pivrex.path.plan import troubles

    plan, read, field, file = planned(path, rig)
    kept = plan.clearance(read, field)
    k = int(kept.away.argmin())
    wrong = troubles(plan, read, field)
    answer: dict[str, Any] = {
        "path": file.stem,
        "rig": read.name,
        "length_m": round(plan.length_m, 5),
        "points": len(plan.path.points),
        "tightest_radius_m": _rounded(1 / max(float(np.abs(plan.curve.bend).max()), 1e-9)),
        "clearance_m": round(float(kept.away[k]), 5),
        "clearance_to": kept.names[kept.what[k]],
        "clearance_at": {
            "along_m": round(float(plan.curve.s[k]), 4),
            "x_m": round(float(plan.curve.x[k]), 4),
            "y_m": round(float(plan.curve.y[k]), 4),
        },
        "can": not any(hard for hard, _ in wrong),
        "clear": bool(kept.away[k] >= 0),
        "mistakes": [what for _, what in wrong],
    }
    if as_json:
        print_json(answer)
    else:
        print(f"{file}: {answer['length_m']:.2f} m through {answer['points']} points, for {read.name}")
        at = answer["clearance_at"]
        how = f"keeps {answer['clearance_m'] * 100:.1f} cm from" if answer["clear"] else "touches"
        print(
            f"  {how} {answer['clearance_to']} at {at['along_m']:.2f} m of its way ({at['x_m']:.2f} m, {at['y_m']:.2f} m)"
        )
        for what in answer["mistakes"]:
            print(f"  ! {what}")
    if wrong:
        raise typer.Exit(1)


def _rounded(radius_m: float) -> float | None:
    return round(radius_m, 4) if radius_m < 1e3 else None


def time(path: PathName, rig: RigOfAll = "", as_json: Json = False) -> None:
    """Print how long a robot needs for a path, and which limit holds it where."""
    from pivrex.errors import PivrexError
    from pivrex.path.plan import troubles

    plan, read, field, file = planned(path, rig)
    hard = [what for kept, what in troubles(plan, read, field) if kept]
    if hard:
        raise PivrexError("\n".join(f"{file}: {what}" for what in hard))
    shares: dict[str, float] = {}
    stretches = plan.held_by()
    for stretch in stretches:
        shares[stretch.what] = shares.get(stretch.what, 0.0) + stretch.to_m - stretch.from_m
    answer = {
        "path": file.stem,
        "rig": read.name,
        "length_m": round(plan.length_m, 5),
        "time_s": round(plan.time_s, 5),
        "fastest_m_s": round(float(plan.law.speed.max()), 4),
        "fastest_turn_deg_s": round(math.degrees(float(abs(plan.looks.turns * plan.law.speed).max())), 2),
        "limits": [{"from_m": round(s.from_m, 4), "to_m": round(s.to_m, 4), "by": s.what} for s in stretches],
    }
    if as_json:
        print_json(answer)
        return
    print(
        f"{file}: {plan.length_m:.2f} m in {plan.time_s:.2f} s for {read.name}, at most {answer['fastest_m_s']:.2f} m/s and "
        f"{answer['fastest_turn_deg_s']:.0f} deg/s"
    )
    for s in stretches:
        if s.to_m - s.from_m > 0.005:
            print(f"  {s.from_m:6.2f} to {s.to_m:6.2f} m  {s.what}")
