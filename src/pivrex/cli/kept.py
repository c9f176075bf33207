"""Commands for kept runs: list, replay, compare, learn, report."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from pivrex.cli import completing
from pivrex.cli.options import Json, RigName, print_json, real
from pivrex.errors import LearnError, PivrexError, UnitError, UsageError

__all__ = ["compare", "export_comparison", "export_run", "learn", "replay", "report", "runs"]

RunName = Annotated[
    str,
    typer.Argument(
        metavar="RUN",
        help="A run of this workspace by name or a piece of it, last, last-1 ..., or its folder.",
        autocompletion=completing.runs,
    ),
]


def runs(
    season: Annotated[str, typer.Option(metavar="RIG", help="Show the figures of all runs of a rig over time.")] = "",
    of: Annotated[
        str, typer.Option(metavar="DRIVER", help="With --season: only runs that this driver or routine drove.")
    ] = "",
    thin: Annotated[
        bool, typer.Option("--thin", help="Delete details of old runs now, by the rule that is shown.")
    ] = False,
    as_json: Json = False,
) -> None:
    """List the runs of this workspace, the newest first, and the rule by which old ones are deleted."""
    from pivrex.rig import open_folder
    from pivrex.runs.shelf import Shelf

    if of and not season:
        raise UsageError(f'--of "{of}" chooses among the runs of a season: say --season RIG too')
    shelf = Shelf(Path() / "runs", open_folder(Path()).settings.keep)
    if thin:
        shelf.thin()
    found = shelf.runs()
    if season:
        _season(found, season, of or None, as_json)
        return
    if as_json:
        print_json({"rule": shelf.rule(), "runs": [_as_json(one, shelf.size(one)) for one in found]})
        return
    for one in found:
        f = one.facts
        if f is None:
            print(f"{one.name}  ! {one.problem}")
            continue
        seconds = f"{f.ticks / f.rate_hz:7.1f} s" if f.ended is not None else "  not ended"
        said = f"  {f.note}" if f.note else ""
        print(
            f"{one.name:<32}{f.robot:<12}{seconds}  {shelf.size(one) / 1e6:7.1f} MB  {f.kept}{'  thinned' * f.thinned}{said}"
        )
    print(f"{len(found)} runs; {shelf.rule()}", file=sys.stderr)


def _as_json(one: Any, size: int) -> dict[str, Any]:
    f = one.facts
    if f is None:
        return {"run": one.name, "problem": one.problem}
    return {
        "run": one.name, "robot": f.robot, "rig": f.rig, "began": f.began.isoformat(), "ended": f.ended.isoformat() if f.ended else None,
        "seconds": f.ticks / f.rate_hz, "rate_hz": f.rate_hz, "ticks": f.ticks, "lost_ticks": f.lost, "kept": f.kept,
        "drivers": list(f.drivers), "routine": f.routine, "note": f.note, "thinned": f.thinned, "bytes": size, "figures": f.figures,
    }  # fmt: skip


def _season(found: list[Any], rig: str, kind: str | None, as_json: bool) -> None:
    from pivrex.runs.season import season_of

    courses = season_of(found, rig, kind)
    if not courses:
        raise PivrexError(f"there are no two runs of {rig} here that were driven alike")
    if as_json:
        print_json({
            "rig": rig,
            "figures": [
                {"figure": c.figure.key, "unit": c.figure.unit, "runs": list(c.names), "values": list(c.values), "usual": c.usual,
                 "stands_out": c.stands_out}
                for c in courses
            ],
        })  # fmt: skip
        return
    for c in courses:
        last = "  ".join(f"{v:.{c.figure.digits}f}" for v in c.values[-8:])
        print(f"{'! ' * c.stands_out:<2}{c.figure.title:<24}{c.figure.unit:<5}{last}")
    for c in courses:
        if c.said:
            print(f"! {c.said}", file=sys.stderr)


def replay(
    run: RunName,
    at: Annotated[float | None, real("Explain the tick at this time, in s from the run's beginning.")] = None,
    wheel: Annotated[str, typer.Option(help="The wheel that the why is about; the first if left out.")] = "",
    as_json: Json = False,
) -> None:
    """Print what happened in a run, and with --at the why of one of its ticks. On the screen, the view Runs replays it."""
    from pivrex.line.why import ladder, sentence
    from pivrex.runs.run import Run
    from pivrex.runs.shelf import find_run

    found = Run(find_run(run, Path()))
    events = [e for e in found.events if e.row >= found.first]
    answer: dict[str, Any] = {
        "run": found.name, "robot": found.facts.robot, "seconds": len(found) * found.dt_s, "ticks": len(found),
        "events": [{"t_s": (e.row - found.first) * found.dt_s, "kind": e.kind, "text": e.text} for e in events],
    }  # fmt: skip
    if at is not None:
        row = found.first + round(at / found.dt_s)
        if not found.first <= row < found.end:
            raise UsageError(f"--at is {at:g} s, but the run lasts {len(found) * found.dt_s:.2f} s")
        line, tick = found.line(row), found.row(row)
        name = wheel or line.wheels[0]
        if name not in line.wheels:
            raise UsageError(f'--wheel is "{name}", but the wheels are {", ".join(line.wheels)}')
        answer["why"] = sentence(line, tick, name)
        answer["ladder"] = [
            {"stage": r.stage, "text": r.text, "setting": r.setting, "note": r.note} for r in ladder(line, tick, name)
        ]
        answer["tick"] = {t: None if v != v else v for t, v in zip(line.layout.titles, tick.tolist(), strict=True)}  # noqa: PLR0124
    answer["warnings"] = found.warnings
    if as_json:
        print_json(answer)
        return
    print(f"{found.name}: {answer['seconds']:.1f} s of {found.facts.robot}, {answer['ticks']} ticks")
    for e in answer["events"]:
        print(f"  {e['t_s']:8.2f} s  {e['kind']:<9}{e['text']}")
    if at is not None:
        print(answer["why"])
        for rung in answer["ladder"]:
            print(f"  {rung['stage']}: {rung['text']}" + (f"  ({rung['setting']})" if rung["setting"] else ""))
    for warning in found.warnings:
        print(f"! {warning}", file=sys.stderr)


def compare(
    run: RunName,
    others: Annotated[
        list[str] | None,
        typer.Argument(metavar="RUN...", help="The other one, or several; left out with --through.", autocompletion=completing.runs),
    ] = None,
    by: Annotated[str, typer.Option(help='Align them by start, motion, bump, "step N" (a routine\'s line), or a place "X,Y" in m.')] = "start",
    rig: Annotated[
        str, typer.Option("--through", help="Simulate the same driver with this rig, and compare with that.",
                          autocompletion=completing.rigs)
    ] = "",
    as_json: Json = False,
) -> None:  # fmt: skip
    """Compare two runs: their first difference, its stage, and the changed setting that caused it."""
    import tempfile

    from pivrex.rig import find_rig
    from pivrex.runs.comparing import compare as compared
    from pivrex.runs.run import Run
    from pivrex.runs.shelf import find_run
    from pivrex.runs.through import through

    if bool(others) == bool(rig):
        raise UsageError("say either another run, or --through RIG")
    one = Run(find_run(run, Path()))
    if others:
        found = [compared(one, Run(find_run(other, Path())), by) for other in others]
        if as_json and len(found) > 1:
            print_json({"compared": [each.as_json() for each in found]})
        else:
            for each in found:
                _tell(each, as_json)
        return
    path, _ = find_rig(rig, Path())
    with tempfile.TemporaryDirectory() as folder:
        # a real robot's drive is first driven by the simulated robot, so that only the rigs differ
        first = through(one, one.rig_file(one.first), Path(folder) / f"{one.name} as it was")
        second = through(one, path, Path(folder) / f"{one.name} through {path.stem}")
        _tell(compared(first, second, by), as_json)


def _tell(found: Any, as_json: bool) -> None:
    from pivrex.runs.comparing import sentence_of

    if as_json:
        print_json(found.as_json())
        return
    print(f"{found.runs[0].name} compared with {found.runs[1].name}:")
    print(sentence_of(found))
    for effect in found.effects:
        print(f"  {effect.said}")
    for line in found.routine:
        print(f"  {line}")
    for f, a, b in found.figures:
        values = "".join(f"{'–' if v != v else f'{v:.{f.digits}f}':>12}" for v in (a, b))  # noqa: PLR0124 - NaN is not itself
        print(f"  {f.title:<24}{values}  {f.unit}")
    if found.apart_m == found.apart_m:
        print(f"  at most {found.apart_m:.3f} m apart, at {found.apart_at_s:.1f} s")


def learn(
    rig: RigName,
    run: Annotated[str, typer.Argument(metavar="[RUN]", help="The run; left out with --drive.", autocompletion=completing.runs)] = "",
    drive: Annotated[bool, typer.Option("--drive", help="Print the learning drive: the routine from which most can be learned.")] = False,
    turned: Annotated[
        str | None, typer.Option(help='How far it really turned from rest to rest, such as "3 turns", to find the gyro\'s scale.')
    ] = None,
    within: Annotated[str, typer.Option(help="How exactly you know that.")] = "3 deg",
    write: Annotated[bool, typer.Option("--write", help="Write the learned values into the rig.")] = False,
    as_json: Json = False,
) -> None:  # fmt: skip
    """Learn a robot from a drive: each parameter with its interval, and what to drive for those that it cannot find."""
    from pivrex.rig import find_rig, read_rig
    from pivrex.rig.read import rig_text
    from pivrex.runs.learning import learn as learned
    from pivrex.runs.learning.routine import learning_drive
    from pivrex.runs.run import Run
    from pivrex.runs.shelf import find_run

    path, folder = find_rig(rig, Path())
    read = read_rig(path)
    if drive:
        print(learning_drive(read, path.stem, folder.settings.field), end="")
        return
    if not run:
        raise UsageError("say a run to learn from, or --drive for the routine that tells most")
    text = rig_text(path)
    turned_rad, within_rad = _angle("--turned", turned) if turned is not None else 0.0, _angle("--within", within)
    found = learned(Run(find_run(run, Path())), read, text, turned_rad, within_rad)
    _tell_learned(found, as_json)
    if write:
        _write_learned(found, path, text)


def _angle(option: str, text: str) -> float:
    """Read an angle of an option, in rad."""
    from pivrex.units import parse

    try:
        return parse(text, "angle")
    except UnitError as problem:
        raise UsageError(f"{option} {problem}") from None


def _tell_learned(found: Any, as_json: bool) -> None:
    if as_json:
        print_json(found.as_json())
    else:
        for p in found.learned:
            print(f"  {p.key:<28}{p.value:>10.4g} {p.unit:<6} {p.low:.4g} to {p.high:.4g}  {p.title}")
        if found.held_out is not None:
            h = found.held_out
            print(
                f"  held out {h.seconds:.0f} s: wheels off {h.before:.3f} m/s with the rig as it was, {h.after:.3f} m/s as learned"
            )
    for key, why in found.refused:
        print(f"{key}: not told: {why}", file=sys.stderr)
    for note in found.notes:
        print(note, file=sys.stderr)


def _write_learned(found: Any, path: Path, text: str) -> None:
    from pivrex.files import alone, write_atomically
    from pivrex.rig.read import rig_text
    from pivrex.runs.learning.to_rig import put_into

    with alone(path):
        if rig_text(path) != text:
            raise LearnError(f"{path} was changed meanwhile; nothing was written")
        write_atomically(path, put_into(text, found.changes))
    for change in found.changes:
        print(f"  {change}", file=sys.stderr)


def report(
    run: RunName,
    other: Annotated[
        str, typer.Argument(metavar="[RUN]", help="A second run, to compare with it.", autocompletion=completing.runs)
    ] = "",
    output: Annotated[
        list[Path] | None,
        typer.Option("--output", "-o", help="The file to write: .pdf, or .svg with a file for each page."),
    ] = None,
    by: Annotated[str, typer.Option(help="What two are aligned by; see compare.")] = "start",
    paper: Annotated[str, typer.Option(help="The size of the pages: A4 or letter.")] = "A4",
) -> None:
    """Write two pages for the engineering notebook: path, speeds, heading, events, figures, settings, and what changed."""
    from pivrex.export.paper import PAPERS
    from pivrex.export.report import write_report
    from pivrex.runs.comparing import compare as compared
    from pivrex.runs.run import Run
    from pivrex.runs.shelf import find_run

    if not output:
        raise UsageError("say the file with -o FILE.pdf")
    if paper not in PAPERS:
        raise UsageError(f"there is no paper {paper!r}; there is {' and '.join(PAPERS)}")
    for file in output:
        if file.suffix.lower() not in (".pdf", ".svg"):
            raise PivrexError(
                f"{file}: a report is written as .pdf or .svg, not as {file.suffix or 'a file without suffix'}"
            )
    one = Run(find_run(run, Path()))
    both = compared(one, Run(find_run(other, Path())), by) if other else None
    for file in output:
        for written in write_report(one, file, both, paper):
            print(written, file=sys.stderr)


def export_run(
    run: RunName,
    output: Annotated[
        list[Path],
        typer.Option("--output", "-o", help="The file to write: .csv for the table of all its ticks, .svg or .pdf."),
    ],
) -> None:
    """A run: the table of all its ticks as CSV, or its report."""
    from pivrex.export.report import write_report
    from pivrex.export.table import write_run
    from pivrex.runs.run import Run
    from pivrex.runs.shelf import find_run

    found = Run(find_run(run, Path()))
    for file in output:
        if file.suffix.lower() == ".csv" or str(file) == "-":
            write_run(found, file)
            written = [file]
        elif file.suffix.lower() in (".pdf", ".svg"):
            written = write_report(found, file)
        else:
            raise PivrexError(
                f"{file}: this is written as .csv, .svg or .pdf, not as {file.suffix or 'a file without suffix'}"
            )
        for one in written:
            if str(one) != "-":
                print(one, file=sys.stderr)


def export_comparison(
    run: RunName,
    other: Annotated[
        str, typer.Argument(metavar="RUN", help="The run to compare with it.", autocompletion=completing.runs)
    ],
    output: Annotated[list[Path], typer.Option("--output", "-o", help="The file to write: .svg or .pdf.")],
    by: Annotated[str, typer.Option(help="What they are aligned by; see compare.")] = "start",
) -> None:
    """The comparison of two runs, in two pages."""
    report(run, other, output, by)
