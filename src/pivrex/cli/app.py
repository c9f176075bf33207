"""The headless commands. People script them: what they print with --json is stable."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from pivrex.errors import PivrexError, RigError

__all__ = ["app"]

app = typer.Typer(
    name="pivrex",
    help="See, adjust and test the whole line from the stick to the wheels of a student robot.",
    add_completion=False,
    no_args_is_help=False,
    pretty_exceptions_enable=False,
)

Json = Annotated[bool, typer.Option("--json", help="Print one JSON object and nothing else.")]
RigName = Annotated[str, typer.Argument(metavar="RIG", help="A rig of this workspace by name, or a path.")]
Output = Annotated[
    list[Path], typer.Option("--output", "-o", help="Where to; the suffix says what: .svg, .pdf or .csv.")
]


@app.callback(invoke_without_command=True)
def main(version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False) -> None:
    """See, adjust and test the whole line from the stick to the wheels of a student robot.

    `pivrex demo` opens a demo; `pivrex [DIR]` opens a workspace.
    """
    if version:
        from pivrex import __version__

        print(f"pivrex {__version__}")


@app.command()
def demo(
    folder: Annotated[
        Path | None, typer.Argument(metavar="[DIR]", help="Where the demo workspace goes; a fresh folder if left out.")
    ] = None,
    rig: Annotated[str, typer.Option(help="The robot to open, by name.")] = "",
    view: Annotated[str, typer.Option(help="driver, shaping, chassis or field.")] = "field",
    theme: Annotated[str, typer.Option(help="dusk, noon or plain.")] = "dusk",
    pad: Annotated[bool, typer.Option("--pad", help="Listen for stand-in gamepads.")] = False,
    fault: Annotated[
        str, typer.Option(help="Faults of the stand-in's wiring to practise on: random, swap A/B, ...")
    ] = "",
    seed: Annotated[int, typer.Option(help="For random faults.")] = 0,
    link: Annotated[
        str,
        typer.Option(help="Command the robot behind the rig's link, or behind this wire: udp:HOST:PORT, serial:PORT."),
    ] = "",
) -> None:
    """Copy the demo workspace and open it, with the recorded driver playing."""


@app.command("open")
def open_(
    folder: Annotated[Path, typer.Argument(metavar="[DIR]", help="The workspace.")] = Path(),
    rig: Annotated[str, typer.Option(help="The rig to open, by name or path.")] = "",
    view: Annotated[str, typer.Option(help="driver, shaping, chassis or field.")] = "field",
    theme: Annotated[str, typer.Option(help="dusk, noon or plain.")] = "dusk",
    pad: Annotated[bool, typer.Option("--pad", help="Listen for stand-in gamepads.")] = False,
    fault: Annotated[
        str, typer.Option(help="Faults of the stand-in's wiring to practise on: random, swap A/B, ...")
    ] = "",
    seed: Annotated[int, typer.Option(help="For random faults.")] = 0,
    link: Annotated[
        str,
        typer.Option(help="Command the robot behind the rig's link, or behind this wire: udp:HOST:PORT, serial:PORT."),
    ] = "",
) -> None:
    """Open a workspace; `pivrex [DIR]` does the same."""


@app.command()
def check(
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="Rigs, recordings or a workspace.toml.")],
) -> int:
    """Read files and print every mistake in them, one a line: FILE:LINE: what."""
    from pivrex.errors import RecordingError
    from pivrex.formats.recording import Recording
    from pivrex.rig import read_rig, read_workspace_file

    wrong = 0
    for file in files:
        try:
            if file.suffix == ".csv":
                for _ in Recording(file).readings():
                    pass
            elif file.name == "workspace.toml":
                read_workspace_file(file)
            else:
                read_rig(file)
        except RigError as problem:
            wrong += 1
            print("\n".join(problem.lines()), file=sys.stderr)
        except RecordingError as problem:
            wrong += 1
            print(problem, file=sys.stderr)
        else:
            print(f"{file}: no mistakes")
    return 1 if wrong else 0


@app.command()
def describe(
    rig: RigName,
    turn: Annotated[float, typer.Option(help="The turn whose wheel travel is told, in deg; left is +.")] = 90.0,
    as_json: Json = False,
) -> None:
    """Say what a rig is: its law and its wheels."""
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
        for w in read.chassis.wheels
    ]
    if as_json:
        _print_json({"name": read.name, "law": read.law.kind, "wheels": wheels})
        return
    from pivrex.line.questions.ask import can_do
    from pivrex.line.questions.figures import side, travel_for, wheel_figures

    aside = f", full left {read.full_left_m_s:.2f} m/s" if read.law.kind == "planar" else ""
    print(f"{read.name}: {read.about}\nlaw {read.law.kind}, full forward {read.full_forward_m_s:.2f} m/s{aside}, "
          f"full turn {math.degrees(read.full_turn_rad_s):.0f} deg/s\n{read.chassis.shape} chassis: {can_do(read)}")  # fmt: skip
    spot, pivot = travel_for(read, math.radians(turn)), travel_for(read, math.radians(turn), side(read, left=True))
    for wheel, w, f, rolled, pivoted in zip(read.chassis.wheels, wheels, wheel_figures(read), spot, pivot, strict=True):
        counts = f", {f.counts_per_metre:.0f} counts/m" if f.counts_per_metre else ""
        print(f"  wheel {w['name']}: {read.chassis.describe_wheel(wheel)}, x {w['x_m'] * 1e3:+.0f} mm, "
              f"y {w['y_m'] * 1e3:+.0f} mm, radius {w['radius_m'] * 1e3:.0f} mm, top {w['top_speed_m_s']:.2f} m/s")  # fmt: skip
        print(f"    a turn of it: {f.metres_per_turn * 1e3:.1f} mm{counts}, turns the robot {f.degrees_per_turn:.1f} deg on "
              f"the spot; turned {turn:+g} deg: {rolled * 1e3:+.1f} mm on the spot, {pivoted * 1e3:+.1f} mm about its left side")  # fmt: skip


@app.command()
def wire(rig: RigName, as_json: Json = False) -> None:
    """Say what a robot's own end must agree on: the hash, what leaves for it, and what comes back. See docs/wire.md."""
    from pivrex.devices.link import back_columns, wire_hash
    from pivrex.line import Line
    from pivrex.rig import find_rig, read_rig

    line = Line(read_rig(find_rig(rig, Path())[0]))
    out = [{"of": v.motor, "name": v.name, "unit": v.unit} for v in line.outputs.values]
    sensed = [{"name": c.name, "unit": c.unit} for c in back_columns(line)]
    if as_json:
        _print_json({"hash": wire_hash(line), "out": out, "sensed": sensed})
        return
    print(f"hash {wire_hash(line)}")
    for i, value in enumerate(out, 1):
        print(f"  out {i}: {value['of']} {value['name']}{' in ' + value['unit'] if value['unit'] else ''}")
    for i, value in enumerate(sensed, 1):
        print(f"  back {i}: {value['name']}{' in ' + value['unit'] if value['unit'] else ''}")


@app.command()
def wheels(
    rig: RigName,
    forward: Annotated[float, typer.Option(help="m/s")] = 0.0,
    left: Annotated[float | None, typer.Option(help="m/s; left out, what moves aside does not matter")] = None,
    turn: Annotated[float, typer.Option(help="deg/s, counter-clockwise")] = 0.0,
    field: Annotated[bool, typer.Option("--field", help="Take forward and left along the field.")] = False,
    heading: Annotated[float, typer.Option(help="The robot's heading in deg, with --field.")] = 0.0,
    steer: Annotated[str, typer.Option(help="Present angles of steered wheels in deg, A,B,...")] = "",
    fit: Annotated[str, typer.Option(help="scale or clip; the rig's own if left out.")] = "",
    as_json: Json = False,
) -> None:
    """Compute what every wheel must do for a motion."""
    from pivrex.line.questions.ask import ask_wheels
    from pivrex.rig import find_rig, read_rig

    if fit not in ("", "scale", "clip"):
        raise typer.BadParameter("--fit is scale or clip")
    for name, value in (("--forward", forward), ("--left", left), ("--turn", turn), ("--heading", heading)):
        if value is not None and not abs(value) < 1e6:
            raise typer.BadParameter(f"{name} is {value}, but must be a number below a million")
    read = read_rig(find_rig(rig, Path())[0])
    answer = ask_wheels(read, forward, left, turn, heading if field else None, fit, _angles(steer))
    if as_json:
        _print_json(answer)
        return
    for wheel in answer["wheels"]:
        told = ", ".join(f"{k} {v:g}" for k, v in wheel["output"].items() if k != "kind")
        points = "" if wheel["steer_deg"] is None else f"points {wheel['steer_deg']:+.1f} deg, "
        print(f"  {wheel['name']}: {points}{wheel['speed_m_s']:+.3f} m/s, {wheel['speed_rad_s']:+.2f} rad/s, {told}")
    twist = answer["twist"]
    print(f"  achieves forward {twist['forward_m_s']:+.3f} m/s, left {twist['left_m_s']:+.3f} m/s, "
          f"turn {twist['turn_deg_s']:+.1f} deg/s" + ("  ! limited" if answer["limited"] else ""))  # fmt: skip


def _angles(text: str) -> list[float] | None:
    if not text:
        return None
    try:
        angles = [float(part) for part in text.split(",")]
    except ValueError:
        raise typer.BadParameter(f'--steer is "{text}", but must be angles in deg with commas between') from None
    if not all(abs(a) < 1e6 for a in angles):
        raise typer.BadParameter(f'--steer is "{text}"; an angle must be a number below a million')
    return angles


@app.command()
def shakedown(
    rig: RigName,
    fault: Annotated[
        str, typer.Option(help="random, none, or with commas: swap A/B, reverse A, encoder A, gyro.")
    ] = "random",
    seed: Annotated[int, typer.Option(help="For random faults; the same one gives the same faults.")] = 0,
    by: Annotated[str, typer.Option(help="Who says what was seen: sensors or person.")] = "sensors",
    place: Annotated[str, typer.Option("--on", help="Where the robot stands: floor or up.")] = "floor",
    as_json: Json = False,
) -> None:
    """Practise: give the stand-in faults, and let the shakedown find and correct every one of them."""
    from pivrex.diagnosis.practice import practise
    from pivrex.rig import find_rig, read_rig
    from pivrex.sim.wiring import faulty

    if by not in ("sensors", "person"):
        raise typer.BadParameter("--by is sensors or person")
    if place not in ("floor", "up"):
        raise typer.BadParameter("--on is floor or up")
    path = find_rig(rig, Path())[0]
    read = read_rig(path)
    wiring = faulty(read, fault, seed)
    report = practise(read, path.read_text("utf-8"), path, wiring, place, by)  # type: ignore[arg-type]
    truth = {port: {"motor": motor, "reversed": sign < 0} for port, (motor, sign) in wiring.plugs.items()}
    if as_json:
        answer = {"rig": read.name, "fault": truth, "gyro_reversed": wiring.gyro < 0}
        answer["encoders_reversed"] = sorted(m for m, s in wiring.encoders.items() if s < 0)
        _print_json({**answer, **report.as_json()})
        return
    for said in report.steps:
        print(f"  {said}")
    for change in report.changes:
        print(f"  {change}")
    plural = "" if report.human_answers == 1 else "s"
    print(f"  {report.probes} probes, {report.human_answers} answer{plural} of a person: "
          f"{'corrected' if report.correct else 'not solved'}")  # fmt: skip


@app.command("map")
def map_(
    rig: RigName,
    recording: Annotated[
        Path, typer.Argument(metavar="INPUT.csv", help="Recorded raw readings: t in seconds, then the channels.")
    ],
    output: Annotated[
        Path | None, typer.Option("--output", "-o", help="Where to; standard output if left out or -.")
    ] = None,
    every_tick: Annotated[
        bool, typer.Option("--every-tick", help="A row for every tick, not for every reading.")
    ] = False,
) -> None:
    """Run recorded readings through the line; a row of every stage's values for each."""
    from pivrex.export.table import write_ticks
    from pivrex.rig import find_rig, read_rig

    path, folder = find_rig(rig, Path())
    field = folder.settings.field if (folder.path / "workspace.toml").exists() else None
    count = write_ticks(read_rig(path), recording, field, output, every_tick)
    if output is not None and str(output) != "-":
        print(f"{output}: {count} rows", file=sys.stderr)


export = typer.Typer(help="Draw or write something for the notebook.", no_args_is_help=True)
app.add_typer(export, name="export")


@export.command("curve")
def export_curve(
    rig: RigName,
    output: Output,
    function: Annotated[str, typer.Option("--function", "-f", help="Only this function.")] = "",
) -> None:
    """The response curves: what the stick says, and what is asked for."""
    from pivrex.export.curve import write_curve
    from pivrex.rig import find_rig, read_rig

    _each(output, lambda file: write_curve(read_rig(find_rig(rig, Path())[0]), file, function))


@export.command("path")
def export_path(rig: RigName, recording: Annotated[Path, typer.Argument(metavar="INPUT.csv")], output: Output) -> None:
    """The path that a recording drives, or that a table of positions holds, on the field."""
    from pivrex.export.path import write_path
    from pivrex.rig import find_rig, read_rig

    path, folder = find_rig(rig, Path())
    _each(output, lambda file: write_path(read_rig(path), folder.settings.field, recording, file))


@export.command("ticks")
def export_ticks(
    rig: RigName,
    recording: Annotated[Path, typer.Argument(metavar="INPUT.csv")],
    output: Output,
) -> None:
    """The table of all ticks that a recording makes, as CSV."""
    from pivrex.export.table import write_ticks
    from pivrex.rig import find_rig, read_rig

    path, folder = find_rig(rig, Path())
    field = folder.settings.field if (folder.path / "workspace.toml").exists() else None
    _each(output, lambda file: write_ticks(read_rig(path), recording, field, file, True), (".csv",))


@export.command("patches")
def export_patches(rig: RigName, output: Output) -> None:
    """What every control does: source, channel, action."""
    from pivrex.export.patches import write_patches
    from pivrex.rig import find_rig, read_rig

    _each(output, lambda file: write_patches(read_rig(find_rig(rig, Path())[0]), file), (".csv", ".svg", ".pdf"))


@export.command("wiring")
def export_wiring(rig: RigName, output: Output) -> None:
    """The wiring: port, pin, and what it drives."""
    from pivrex.export.wiring import write_wiring
    from pivrex.rig import find_rig, read_rig

    _each(output, lambda file: write_wiring(read_rig(find_rig(rig, Path())[0]), file), (".csv", ".svg", ".pdf"))


@export.command("chassis")
def export_chassis(rig: RigName, output: Output) -> None:
    """The robot from above, to scale, with the equation of every wheel."""
    from pivrex.export.chassis import write_chassis
    from pivrex.rig import find_rig, read_rig

    _each(output, lambda file: write_chassis(read_rig(find_rig(rig, Path())[0]), file))


@export.command("envelope")
def export_envelope(rig: RigName, output: Output) -> None:
    """The speed envelope: how fast it goes in every direction, and while it turns."""
    from pivrex.export.envelope import write_envelope
    from pivrex.rig import find_rig, read_rig

    _each(output, lambda file: write_envelope(read_rig(find_rig(rig, Path())[0]), file))


@app.command()
def remote(
    rig: Annotated[str, typer.Argument(metavar="[RIG", help="A rig of this workspace by name, or a path.")] = "",
    source: Annotated[str, typer.Argument(metavar="SOURCE]", help="One of its sources.")] = "",
    pad: Annotated[bool, typer.Option("--pad", help="Be a gamepad of a Pivrex that runs here with --pad.")] = False,
    port: Annotated[int, typer.Option(help="Of --pad: where Pivrex listens; found by itself if left out.")] = 0,
    at: Annotated[
        Path | None, typer.Option(help="Where the serial line shall be; what the rig says if left out.")
    ] = None,
    rate: Annotated[float, typer.Option(min=1, max=2000, help="How often a second a stream talks, in Hz.")] = 50.0,
    play: Annotated[Path | None, typer.Option(help="Move as a recording says.")] = None,
    script: Annotated[Path | None, typer.Option(help="Do what a file says, line by line.")] = None,
    keys: Annotated[bool, typer.Option("--keys", help="Drive by single keys.")] = False,
) -> None:
    """Be a stand-in for a remote: of a rig's source (letters, packets, bits, a bare stick), or with --pad a gamepad.

    Without --play, --script or --keys it does what is typed, such as "left_y -0.6".
    """
    from pivrex.cli.remote import be_a_pad, be_a_remote
    from pivrex.rig import read_rig

    if pad:
        be_a_pad(port, play, script, keys)
    elif rig and source:
        be_a_remote(read_rig(_here_or_demo(rig)), source, at, rate, play, script, keys)
    else:
        raise typer.BadParameter("say which RIG and which SOURCE of it, or --pad")


def _here_or_demo(rig: str) -> Path:
    """Find a rig here, or else among the demo's: its stand-ins work in any folder."""
    from pivrex.rig import find_rig

    try:
        return find_rig(rig, Path())[0]
    except RigError:
        demo = Path(__file__).parent.parent / "demo"
        if not any(p.stem == rig.lower() for p in (demo / "rigs").glob("*.toml")):
            raise
        return find_rig(rig, demo)[0]


@app.command("stand-in")
def stand_in(
    rig: RigName,
    udp: Annotated[str, typer.Option(help="The UDP port it listens on, HOST:PORT or PORT.")] = "",
    serial: Annotated[Path | None, typer.Option(help="Instead: where its serial line shall be.")] = None,
    log: Annotated[Path | None, typer.Option(help="A CSV of what its motors were given, by its own clock.")] = None,
    fault: Annotated[str, typer.Option(help="A fault that its motor driver complains of.")] = "",
) -> int:
    """Be a robot at the other end of a link, with the stand-in's physics; it speaks as docs/wire.md says."""
    from pivrex.cli.stand_in import be_a_robot
    from pivrex.rig import find_rig, read_rig
    from pivrex.rig.transports import SerialTransport

    path, folder = find_rig(str(_here_or_demo(rig)), Path())
    read = read_rig(path)
    if not udp and serial is None:
        if read.link is None:
            raise PivrexError(f"{path}: the rig has no table [link]; say --udp PORT or --serial PATH")
        wire = read.link.wire
        if isinstance(wire, SerialTransport):
            serial = Path(wire.port)
        else:
            udp = f"{wire.host}:{wire.port}"
    return be_a_robot(read, folder.settings.field, udp, serial, log, fault)


@app.command(hidden=True)
def reference() -> None:
    """Print the rig reference."""
    from pivrex.rig.reference import write_reference

    print(write_reference(), end="")


def _each(files: list[Path], write: Any, allowed: tuple[str, ...] = (".svg", ".pdf")) -> None:
    for file in files:
        if file.suffix.lower() not in allowed and not (".csv" in allowed and str(file) == "-"):
            raise PivrexError(
                f"{file}: this is written as {', '.join(allowed)}, not as {file.suffix or 'a file without suffix'}"
            )
    for file in files:
        write(file)
        if str(file) != "-":
            print(file, file=sys.stderr)


def _print_json(answer: object) -> None:
    print(json.dumps(answer, indent=2, allow_nan=False))
