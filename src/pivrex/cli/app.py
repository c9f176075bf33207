"""The headless commands, a row each. People script them: what they print with --json is stable."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any

import typer

from pivrex.cli import ends, exports, loops, paths, rehearsals, rigs, routines, runs, secrets
from pivrex.cli.opening import SUMMARIES, open_by_words

__all__ = ["app"]

ANY_WORDS = {"ignore_unknown_options": True, "allow_extra_args": True}

app = typer.Typer(
    name="pivrex",
    help="See, adjust and test the whole line from the stick to the wheels of a student robot.",
    add_completion=False,
    no_args_is_help=False,
    pretty_exceptions_enable=False,
)
export = typer.Typer(help="Draw or write something for the notebook.", no_args_is_help=True)
path = typer.Typer(help="Whether a robot can drive a path, and how long it takes.", no_args_is_help=True)


@app.callback(invoke_without_command=True)
def main(version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False) -> None:
    """See, adjust and test the whole line from the stick to the wheels of a student robot.

    `pivrex demo` opens a demo; `pivrex [DIR]` opens a workspace.
    """
    if version:
        from pivrex import __version__

        print(f"pivrex {__version__}")


def reference() -> None:
    """Print the rig reference."""
    from pivrex.rig.reference import write_reference

    print(write_reference(), end="")


def _opens(name: str) -> Callable[[typer.Context], int]:
    def command(context: typer.Context) -> int:
        return open_by_words([name, *context.args])

    return command


for name, summary in SUMMARIES.items():
    # these two read their words themselves, before this library is loaded; see `opening`
    app.command(name, help=summary, add_help_option=False, context_settings=ANY_WORDS)(_opens(name))
HEADLESS: tuple[tuple[str, Callable[..., Any]], ...] = (
    ("check", rigs.check),
    ("describe", rigs.describe),
    ("wire", rigs.wire),
    ("key", secrets.key),
    ("wheels", rigs.wheels),
    ("map", runs.map_),
    ("shakedown", runs.shakedown),
    ("play", routines.play),
    ("rehearse", rehearsals.rehearse),
    ("solve", routines.solve),
    ("back", routines.back),
    ("heading", loops.heading),
    ("tune", loops.tune),
    ("gyro", loops.gyro),
    ("remote", ends.remote),
    ("stand-in", ends.stand_in),
)
PAPER: tuple[tuple[str, Callable[..., Any]], ...] = (
    ("curve", exports.export_curve),
    ("path", exports.export_path),
    ("plan", exports.export_plan),
    ("following", exports.export_following),
    ("ticks", exports.export_ticks),
    ("patches", exports.export_patches),
    ("wiring", exports.export_wiring),
    ("chassis", exports.export_chassis),
    ("envelope", exports.export_envelope),
    ("response", exports.export_response),
    ("routine", exports.export_routine),
)
PATHS: tuple[tuple[str, Callable[..., Any]], ...] = (("check", paths.check), ("time", paths.time))
for group, rows in ((app, HEADLESS), (export, PAPER), (path, PATHS)):
    for name, command in rows:
        group.command(name)(command)
app.command("reference", hidden=True)(reference)
app.add_typer(export, name="export")
app.add_typer(path, name="path")
