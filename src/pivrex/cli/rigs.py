"""Commands about a rig: its mistakes, its description, its wheels."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from pivrex.cli.options import LARGEST, Json, RigName, RigOfAll, here_or_demo, print_json, read_number, real
from pivrex.errors import Mistake, RigError, RoutineError, UnitError
from pivrex.files import resolved

if TYPE_CHECKING:
    from pivrex.line import Line
    from pivrex.rig import Folder

__all__ = ["check", "describe", "sums", "wheels", "wire"]


def check(
    files: Annotated[
        list[Path],
        typer.Argument(metavar="FILE...", help="Rigs, routines, paths, floors, recordings or a workspace.toml."),
    ],
) -> int:
    """Read files and print every mistake, one per line, as FILE:LINE: what; and the warnings of files without mistakes."""
    from pivrex.errors import RecordingError

    wrong = 0
    for file in files:
        warnings: list[Mistake] = []
        try:
            warnings = _read(file)
        except (RigError, RoutineError) as problem:
            wrong += 1
            print("\n".join(problem.lines()))
        except RecordingError as problem:
            wrong += 1
            print(problem)
        else:
            print(f"{file}: no mistakes")
            if said := _traction(file):
                print(f"{file}: {said}")
            for warning in warnings:
                print(f"{file}:{warning.line}: warning: {warning}")
    return 1 if wrong else 0


def _traction(file: Path) -> str:
    """Return why the robot of a rig's file has traction; empty for other files, and for a rig that says nothing of its body."""
    from pivrex.rig import read_rig
    from pivrex.sim.traction import traction_of

    if file.suffix != ".toml" or file.name == "workspace.toml" or resolved(file).parent.name in ("floors", "paths"):
        return ""
    rig = read_rig(file)
    return "" if rig.is_bench or rig.body is None else traction_of(rig).said


def _read(file: Path) -> list[Mistake]:
    """Read a file of any kind; returns its warnings. Raises with every mistake."""
    from pivrex.devices.worries import warnings_in
    from pivrex.formats.recording import Recording
    from pivrex.path.files import read_path
    from pivrex.rig import read_rig, read_workspace_file
    from pivrex.rig.read import read_floor

    if file.suffix == ".txt":
        return _check_routine(file)
    if file.suffix == ".csv":
        for _ in Recording(file).readings():
            pass
    elif file.name == "workspace.toml":
        _check_pins(file, read_workspace_file(file).pins)
    elif resolved(file).parent.name == "floors":
        read_floor(file)
    elif resolved(file).parent.name == "paths":
        read_path(file)
    else:
        return warnings_in(read_rig(file), file)
    return []


def _check_pins(file: Path, pins: dict[str, dict[str, str]]) -> None:
    """Hold what is pinned against the rigs that it is for. Raises `RigError` with every mistake."""
    from pivrex.line import Line
    from pivrex.rig import read_rig
    from pivrex.rig.place import find_places
    from pivrex.rig.read import rig_text
    from pivrex.routine.pins import read_pin

    found: list[Mistake] = []
    for name, of_rig in pins.items():
        places = find_places(rig_text(file))
        path = file.parent / "rigs" / f"{name}.toml"
        if not path.is_file():
            found.append(Mistake(places.get(("pins", name), 0), f"pins.{name}", f"rigs/ holds no {name}.toml"))
            continue
        line = Line(read_rig(path))
        for pin, text in of_rig.items():
            try:
                read_pin(pin, text, line)
            except UnitError as problem:
                found.append(Mistake(places.get(("pins", name, pin), 0), f"pins.{name}.{pin}", str(problem)))
    if found:
        raise RigError(file, found)


def _check_routine(file: Path) -> list[Mistake]:
    """Read a routine for the rig that it is for; returns its warnings. Raises `RoutineError` with every mistake."""
    from pivrex.routine.files import read_for
    from pivrex.routine.mistakes import as_mistakes

    checked, _ = read_for(file)
    if checked.wrong:
        raise RoutineError(file, as_mistakes(checked.wrong))
    return as_mistakes(checked.mistakes)


def describe(
    rig: RigName,
    turn: Annotated[float, real("The turn for which to compute the wheel travel, in deg; left is +.")] = 90.0,
    as_json: Json = False,
) -> None:
    """Print what a rig is: its law and its wheels."""
    import math

    from pivrex.rig import find_rig, read_rig
    from pivrex.units import wrap_deg

    read = read_rig(find_rig(rig, Path())[0])
    wheels: list[dict[str, Any]] = [
        {
            "name": w.name,
            "x_m": w.x_m,
            "y_m": w.y_m,
            "drive_deg": wrap_deg(math.degrees(w.drive_rad)),
            "roller_deg": None if w.rollers_rad is None else math.degrees(w.rollers_rad) + 0.0,
            "steered": w.steered,
            "radius_m": w.radius_m,
            "top_speed_m_s": read.wheel_top_m_s(w.name),
        }
        for w in (() if read.is_bench else read.chassis.wheels)
    ]
    if as_json:
        print_json({"name": read.name, "law": read.law.kind, "wheels": wheels})
        return
    from pivrex.line.questions.ask import can_do
    from pivrex.line.questions.figures import side, travel_for, wheel_figures

    if read.is_bench:
        print(f"{read.name}: {read.about}\na bench: no chassis, each motor has a channel of its own")
        for motor, channel in read.law.axes().items():
            top = read.motors[motor].wheel_top_rad_s * 30 / math.pi
            print(f"  motor {motor}: by {channel}, top {top:.0f} rpm, output {read.motors[motor].output.kind}")
        return
    across = f", full left {read.full_left_m_s:.2f} m/s" if read.law.kind == "planar" else ""
    print(f"{read.name}: {read.about}\nlaw {read.law.kind}, full forward {read.full_forward_m_s:.2f} m/s{across}, "
          f"full turn {math.degrees(read.full_turn_rad_s):.0f} deg/s\n{read.chassis.shape} chassis: {can_do(read)}")  # fmt: skip
    spot, pivot = travel_for(read, math.radians(turn)), travel_for(read, math.radians(turn), side(read, left=True))
    for wheel, w, f, rolled, pivoted in zip(read.chassis.wheels, wheels, wheel_figures(read), spot, pivot, strict=True):
        counts = f", {f.counts_per_metre:.0f} counts/m" if f.counts_per_metre else ""
        print(f"  wheel {w['name']}: {read.chassis.describe_wheel(wheel)}, x {w['x_m'] * 1e3:+.0f} mm, "
              f"y {w['y_m'] * 1e3:+.0f} mm, radius {w['radius_m'] * 1e3:.0f} mm, top {w['top_speed_m_s']:.2f} m/s")  # fmt: skip
        print(f"    a turn of it: {f.metres_per_turn * 1e3:.1f} mm{counts}, turns the robot {f.degrees_per_turn:.1f} deg on "
              f"the spot; turned {turn:+g} deg: {rolled * 1e3:+.1f} mm on the spot, {pivoted * 1e3:+.1f} mm about its left side")  # fmt: skip


def wire(rig: RigName, as_json: Json = False) -> None:
    """Print the values on the wire between laptop and robot: the hash, the commands, and the values that come back; of a board that
    drives by itself, its telemetry. See docs/wire.md.
    """
    from pivrex.devices.robot_sentences import back_columns, wire_hash
    from pivrex.line import Line
    from pivrex.rig import find_rig, read_rig

    path, folder = find_rig(rig, Path())
    line = Line(read_rig(path))
    if line.rig.board.mode == "alone":
        _print_values(line, folder, as_json)
        return
    out = [{"of": v.motor, "name": v.name, "unit": v.unit} for v in line.outputs.values]
    sensed = [{"name": c.name, "unit": c.unit} for c in back_columns(line)]
    if as_json:
        print_json({"hash": wire_hash(line), "out": out, "sensed": sensed})
        return
    print(f"hash {wire_hash(line)}")
    for i, value in enumerate(out, 1):
        print(f"  out {i}: {value['of']} {value['name']}{' in ' + value['unit'] if value['unit'] else ''}")
    for i, value in enumerate(sensed, 1):
        print(f"  back {i}: {value['name']}{' in ' + value['unit'] if value['unit'] else ''}")


def _print_values(line: Line, folder: Folder, as_json: bool) -> None:
    """Print the telemetry of a board that drives by itself, in the order of its bytes."""
    from pivrex.board.alone import Alone
    from pivrex.board.steps import Task
    from pivrex.line.beginning import start_of

    field = folder.settings.field if (folder.path / "workspace.toml").exists() else None
    alone = Alone.of(line, start_of(field), Task.of(line.rig, folder))
    sensed = line.stages["sensed"].columns
    values = [{"name": line.channels[k], "as": "number"} for k in alone.telemetry.sticks]
    values += [{"name": line.channels[k], "as": "bit"} for k in alone.telemetry.buttons]
    values += [
        {"name": sensed[k].name, "as": "count" if k in alone.telemetry.counted else "number"}
        for k in alone.telemetry.sensed
    ]
    if as_json:
        print_json(
            {"hash": alone.hash, "values": values, "bytes": alone.telemetry.size, "state_bytes": alone.sizes()[1].size},
            told="values",
        )
        return
    print(f"hash {alone.hash}; a tick tells {alone.telemetry.size} bytes, the state is {alone.sizes()[1].size}")
    for i, value in enumerate(values, 1):
        print(f"  value {i}: {value['name']}, a {value['as']}")


def wheels(
    rig: RigName,
    forward: Annotated[float, real("m/s")] = 0.0,
    left: Annotated[float | None, real("m/s; left out, what moves sideways does not matter")] = None,
    turn: Annotated[float, real("deg/s, counter-clockwise")] = 0.0,
    field: Annotated[bool, typer.Option("--field", help="Take forward and left along the field.")] = False,
    heading: Annotated[float, real("The robot's heading in deg, with --field.")] = 0.0,
    steer: Annotated[str, typer.Option(help="Current angles of steered wheels in deg, A,B,...")] = "",
    fit: Annotated[str, typer.Option(help="scale or clip; the rig's own if left out.")] = "",
    as_json: Json = False,
) -> None:
    """Compute what every wheel must do for a motion."""
    from pivrex.line.questions.ask import ask_wheels
    from pivrex.rig import find_rig, read_rig

    if fit not in ("", "scale", "clip"):
        raise typer.BadParameter("--fit is scale or clip")
    read = read_rig(find_rig(rig, Path())[0]).must_drive()
    answer = ask_wheels(read, forward, left, turn, heading if field else None, fit, _angles(steer))
    if as_json:
        print_json(answer)
        return
    for wheel in answer["wheels"]:
        values = ", ".join(f"{k} {v:g}" for k, v in wheel["output"].items() if k != "kind")
        points = "" if wheel["steer_deg"] is None else f"points {wheel['steer_deg']:+.1f} deg, "
        print(f"  {wheel['name']}: {points}{wheel['speed_m_s']:+.3f} m/s, {wheel['speed_rad_s']:+.2f} rad/s, {values}")
    twist = answer["twist"]
    print(f"  achieves forward {twist['forward_m_s']:+.3f} m/s, left {twist['left_m_s']:+.3f} m/s, "
          f"turn {twist['turn_deg_s']:+.1f} deg/s" + ("  ! limited" if answer["limited"] else ""))  # fmt: skip


def _angles(text: str) -> list[float] | None:
    if not text:
        return None
    try:
        return [read_number(part, float, -LARGEST, LARGEST) for part in text.split(",")]
    except UnitError as problem:
        raise typer.BadParameter(f"--steer {problem}; it takes angles in deg with commas between") from None


def sums(
    name: Annotated[str, typer.Argument(metavar="[NAME]", help="The sum; all are listed if left out.")] = "",
    given: Annotated[
        list[str] | None, typer.Argument(metavar="[KEY=VALUE ...]", help="The inputs; the rest comes from the rig.")
    ] = None,
    rig: RigOfAll = "",
    as_json: Json = False,
) -> None:
    """Compute bench sums: divider, echo, counts, gear, PWM, battery, turn, with the values of the rig."""
    from pivrex.errors import UsageError
    from pivrex.rig import find_rig, open_folder, read_rig
    from pivrex.sums import SUMS, computed

    read = read_rig(here_or_demo(rig) if rig else _first_or_demo(open_folder, find_rig))
    one = next((s for s in SUMS if s.name == name), None)
    if not name:
        if as_json:
            print_json(
                {"sums": [{"name": s.name, "title": s.title, "inputs": [g.key for g in s.given]} for s in SUMS]},
                given="inputs",
            )
        else:
            for s in SUMS:
                print(f"{s.name:<10}{s.title}; takes {', '.join(g.key for g in s.given)}")
        return
    if one is None:
        raise UsageError(f'there is no bench sum "{name}"; there are {", ".join(s.name for s in SUMS)}')
    pairs = [word.partition("=") for word in given or []]
    if any(not mark for _, mark, _ in pairs):
        raise UsageError("write inputs as KEY=VALUE, such as pin=3.3V")
    values, results = computed(one, read, {key: text for key, _, text in pairs})
    if as_json:
        print_json({
            "sum": one.name, "rig": read.name, "inputs": values,
            "results": [{"key": r.key, "value": r.value, "unit": r.unit, "wrong": r.wrong or None} for r in results],
            "rig_keys": dict(one.writes(read, values)),
        }, given="inputs")  # fmt: skip
        return
    for g in one.given:
        print(f"  {g.title:<42}{g.shown(values[g.key]):>14}")
    print("  " + "; ".join(one.formula))
    for r in results:
        print(f"  {r.title:<42}{r.shown:>14}{f'  ! {r.wrong}' if r.wrong else ''}")


def _first_or_demo(open_folder: Any, find_rig: Any) -> Path:
    """The first rig here, or where there is none the demo's: a sum needs no workspace."""
    from pivrex.errors import RigError

    try:
        return Path(open_folder(Path()).first_rig())
    except RigError:
        return Path(find_rig("plover", Path(__file__).parent.parent / "demo")[0])
