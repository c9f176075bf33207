"""The headless commands, one per row. Scripts use them, so the output of --json is stable."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from difflib import get_close_matches
from functools import cache
from typing import Annotated, Any

import typer

from pivrex.cli import (
    beginning,
    boards,
    completing,
    ends,
    exports,
    here,
    kept,
    loops,
    paths,
    rehearsals,
    rigs,
    routines,
    runs,
    secrets,
)
from pivrex.cli.examples import shown
from pivrex.cli.opening import SUMMARIES, WORDS, open_by_words
from pivrex.cli.options import seed_option

__all__ = ["app", "commands"]

HELP = {"help_option_names": ["-h", "--help"]}


def main(version: Annotated[bool, typer.Option("--version", help="Print the version.")] = False) -> None:
    """See, adjust and test the whole line from the stick to the wheels of a student robot.

    `pivrex demo` opens a demo; `pivrex [DIR]` opens a workspace.
    """
    if version:
        from pivrex import __version__

        print(f"pivrex {__version__}")


def print_manual() -> None:
    """Print the page of the manual, for man(1)."""
    from pivrex.cli.manual import write_manual

    print(write_manual(commands()), end="")


def reference() -> None:
    """Print the rig reference."""
    from pivrex.path import Path as DrivenPath
    from pivrex.rig.reference import write_reference

    print(write_reference(DrivenPath), end="")


def glossary(term: Annotated[str, typer.Argument(help="The term; all of them if left out.")] = "") -> None:
    """Explain a term of the screen and the files."""
    from pivrex.errors import PivrexError
    from pivrex.glossary import TERMS, glossary_text

    known = {one.label.lower(): one for one in TERMS.values() if one.label} | {
        name.lower(): one for name, one in TERMS.items()
    }
    if not term:
        print(glossary_text(), end="")
        return
    found = known.get(term.lower())
    if found is None:
        near = get_close_matches(term.lower(), known, 1)
        raise PivrexError(f'"{term}" is not in the glossary{f"; there is {known[near[0]].name}" if near else ""}')
    print(f"{found.name}: {found.says}")
    rows = {"unit": found.unit, "formula": found.formula, "too small": found.small, "too large": found.large}
    print("\n".join(f"  {word}: {text}" for word, text in (rows | {"more": f"docs/{found.more}"}).items() if text))


def _views(incomplete: str) -> list[str]:
    return [
        v for v in ("driver", "shaping", "chassis", "heading", "field", "routine", "runs") if v.startswith(incomplete)
    ]


def _themes(incomplete: str) -> list[str]:
    return [t for t in ("dusk", "noon", "plain") if t.startswith(incomplete)]


def _opening(name: str) -> Callable[..., int]:
    """The command ``name`` of those that lead to the screen, for help, the manual and Tab. Its words are read by `opening`,
    before this library is loaded.
    """

    def command(
        folder: str = "",
        rig: Annotated[str, typer.Option(help=WORDS["rig"], autocompletion=completing.rigs)] = "",
        view: Annotated[str, typer.Option(help=WORDS["view"], autocompletion=_views)] = "",
        theme: Annotated[str, typer.Option(help=WORDS["theme"], autocompletion=_themes)] = "",
        pad: Annotated[bool, typer.Option("--pad", help=WORDS["pad"])] = False,
        fault: Annotated[str, typer.Option(help=WORDS["fault"])] = "",
        seed: Annotated[int, seed_option(WORDS["seed"])] = 0,
        link: Annotated[str, typer.Option(help=WORDS["link"])] = "",
    ) -> int:
        said = {"rig": rig, "view": view, "theme": theme, "fault": fault, "seed": str(seed), "link": link}
        words = [word for key, value in said.items() if value for word in (f"--{key}", value)]
        return open_by_words([name, *([folder] if folder else []), *words, *(["--pad"] if pad else [])])

    says = WORDS["folder" if name == "open" else "demo folder"]
    command.__annotations__["folder"] = Annotated[str, typer.Argument(metavar="DIR", help=says)]
    command.__doc__ = SUMMARIES[name]
    return command


HEADLESS: tuple[tuple[str, Callable[..., Any]], ...] = (
    ("demo", _opening("demo")),
    ("open", _opening("open")),
    ("new", beginning.new),
    ("check", rigs.check),
    ("describe", rigs.describe),
    ("wire", rigs.wire),
    ("board", boards.board),
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
    ("sums", rigs.sums),
    ("glossary", glossary),
    ("runs", kept.runs),
    ("replay", kept.replay),
    ("compare", kept.compare),
    ("learn", kept.learn),
    ("report", kept.report),
    ("remote", ends.remote),
    ("simulator", ends.simulator),
    ("here", here.here),
    ("completion", completing.completion),
    ("manual", print_manual),
)
PAPER: tuple[tuple[str, Callable[..., Any]], ...] = (
    ("curve", exports.export_curve),
    ("path", exports.export_path),
    ("plan", exports.export_plan),
    ("following", exports.export_following),
    ("ticks", exports.export_ticks),
    ("run", kept.export_run),
    ("comparison", kept.export_comparison),
    ("patches", exports.export_patches),
    ("wiring", exports.export_wiring),
    ("chassis", exports.export_chassis),
    ("envelope", exports.export_envelope),
    ("response", exports.export_response),
    ("routine", exports.export_routine),
)
PATHS: tuple[tuple[str, Callable[..., Any]], ...] = (("check", paths.check), ("time", paths.time))
GROUPS = {
    "export": ("Draw or write something for the notebook.", PAPER),
    "path": ("Whether a robot can drive a path, and how long it takes.", PATHS),
}


def app(words: Sequence[str]) -> Any:
    """Run a command line, as `pivrex.cli.main.run` does. The library describes each command first: only the one that is meant is."""
    known = [*(name for name, _ in HEADLESS), *GROUPS]
    only = words[0] if words and words[0] in known else ""
    return _library(only)(list(words), standalone_mode=False, prog_name="pivrex")


@cache
def _library(only: str = "") -> Any:
    """Return the library's command with one subcommand, or with all."""
    whole = typer.Typer(
        name="pivrex",
        help="See, adjust and test the whole line from the stick to the wheels of a student robot.",
        add_completion=False,
        no_args_is_help=False,
        pretty_exceptions_enable=False,
        context_settings=HELP,
    )
    whole.callback(invoke_without_command=True)(main)
    for name, command in HEADLESS:
        if only in ("", name):
            whole.command(name, epilog=_examples(name))(command)
    whole.command("reference", hidden=True)(reference)
    for name, (says, rows) in GROUPS.items():
        if only in ("", name):
            group = typer.Typer(help=says, no_args_is_help=True)
            for part, command in rows:
                group.command(part, epilog=_examples(name))(command)
            whole.add_typer(group, name=name)
    return typer.main.get_command(whole)


def _examples(name: str) -> str:
    return "\n\n".join(shown(name).splitlines())


def commands() -> list[tuple[str, Any]]:
    """Return every command that is shown, by its words, with the library's own description of it."""
    found: list[tuple[str, Any]] = []
    for name, one in _library().commands.items():
        if not one.hidden:
            inner = getattr(one, "commands", {})
            found += [(f"{name} {n}", c) for n, c in inner.items()] or [(name, one)]
    return found
