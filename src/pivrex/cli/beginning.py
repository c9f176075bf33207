"""Commands that make a workspace and your own rig."""

from __future__ import annotations

import sys
from collections.abc import Collection, Iterable
from pathlib import Path
from typing import Annotated

import typer

from pivrex.cli import completing
from pivrex.errors import PivrexError, UnitError

__all__ = ["new"]


def new(
    folder: Annotated[str, typer.Argument(metavar="DIR", help="The workspace; this folder if left out.")] = ".",
    name: Annotated[str | None, typer.Option(help="What the robot is called.")] = None,
    wheels: Annotated[str, typer.Option(help="The wheels, such as four mecanum.")] = "",
    law: Annotated[str, typer.Option(help="What the sticks mean, such as tank.")] = "",
    output: Annotated[str, typer.Option(help="The output of its motors, such as two pins.")] = "",
    source: Annotated[
        list[str] | None, typer.Option(help="A source in addition to keys and gamepads, such as letters.")
    ] = None,
    extra: Annotated[list[str] | None, typer.Option(help="Other parts, such as arm.")] = None,
    sizes: Annotated[
        str,
        typer.Option(help="Body length, body width, wheel diameter, track, such as '260 mm, 240 mm, 70 mm, 180 mm'."),
    ] = "",
    names: Annotated[
        str, typer.Option(help="Names of the attachments, with commas between, such as 'arm, claw'.")
    ] = "",
    yes: Annotated[bool, typer.Option("--yes", help="Write into a folder that holds other things too.")] = False,
    port: Annotated[str, typer.Option(help="The serial port of such a source.")] = "",
    copy: Annotated[str, typer.Option(help="Copy this rig instead.", autocompletion=completing.rigs)] = "",
) -> int:
    """Begin a workspace, or another robot in one: choose on the screen, or with the options here."""
    from dataclasses import replace

    from pivrex.files import resolved
    from pivrex.rig.making import check_name, foreign
    from pivrex.rig.new_robot import NewRobot, read_names, read_sizes

    if not folder.strip():
        raise typer.BadParameter("DIR is empty; leave it out for this folder")
    said = any((name, wheels, law, output, source, extra, sizes, names, port, copy))
    try:
        called = check_name(name) if name is not None else ""
    except UnitError as problem:
        raise typer.BadParameter(f"--name {problem}") from None
    if not said and sys.stdin.isatty() and sys.stdout.isatty():
        from pivrex.cli.opening import open_by_words, show_maker

        made = show_maker(Path(folder))
        return 0 if made is None else open_by_words(["open", str(made)])
    robot_text = NewRobot(
        name=called or "Mine",
        wheels=wheels or NewRobot.wheels,
        law=law,
        output=output or NewRobot.output,
        sources=tuple(source or ()),
        extras=tuple(extra) if extra is not None else NewRobot.extras,
        port=port or NewRobot.port,
    )
    try:
        robot_text = replace(robot_text, sizes=read_sizes(sizes)) if sizes else robot_text
        robot_text = replace(robot_text, names=read_names(names, robot_text)) if names else robot_text
    except UnitError as problem:
        raise typer.BadParameter(str(problem)) from None
    question = "" if yes else foreign(Path(folder))
    if question and not (sys.stdin.isatty() and typer.confirm(f"{question}. Write into it?")):
        raise PivrexError(f"{question}; --yes writes into it")
    path = resolved(_made(Path(folder), robot_text, copy))
    print(f"{path}: made; pivrex {path} opens it")
    return 0


def _made(folder: Path, robot_text: object, copy: str) -> Path:
    from dataclasses import replace

    from pivrex.cli.options import here_or_demo
    from pivrex.rig.making import begin
    from pivrex.rig.new_robot import EXTRAS, OUTPUTS, SOURCES, WHEELS, NewRobot, laws_of

    assert isinstance(robot_text, NewRobot)
    _one_of("--wheels", [robot_text.wheels], WHEELS)
    laws = laws_of(robot_text.wheels)
    robot_text = replace(robot_text, law=robot_text.law or next(iter(laws)))
    _one_of("--law", [robot_text.law], laws)
    _one_of("--output", [robot_text.output], OUTPUTS)
    _one_of("--source", robot_text.sources, SOURCES)
    _one_of("--extra", robot_text.extras, EXTRAS)
    try:
        return begin(folder, robot_text, here_or_demo(copy) if copy else None)
    except OSError as problem:
        raise PivrexError(f"{folder}: cannot be made: {problem.strerror or problem}") from None


def _one_of(option: str, given: Iterable[str], known: Collection[str]) -> None:
    wrong = next((word for word in given if word not in known), None)
    if wrong is not None:
        raise typer.BadParameter(f'{option} is "{wrong}", but may be {", ".join(known)}')
