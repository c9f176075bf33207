"""Commands that simulate the other end of a wire: a remote, a robot."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from pivrex.cli.options import RigName, here_or_demo, real, whole
from pivrex.errors import PivrexError

__all__ = ["remote", "simulator"]


def remote(
    rig: Annotated[str, typer.Argument(metavar="[RIG", help="A rig of this workspace by name, or a path.")] = "",
    source: Annotated[str, typer.Argument(metavar="SOURCE]", help="One of its sources.")] = "",
    pad: Annotated[bool, typer.Option("--pad", help="Be a gamepad of a Pivrex that runs here with --pad.")] = False,
    match: Annotated[
        bool, typer.Option("--match", help="Be the desk that starts a match, on the wire of this workspace.")
    ] = False,
    port: Annotated[
        int, whole("With --pad: the port where Pivrex listens; found automatically if left out.", most=65535)
    ] = 0,
    at: Annotated[Path | None, typer.Option(help="The path of the serial line; the rig's own if left out.")] = None,
    rate: Annotated[float, real("How many packets a stream sends each second, in Hz.", least=1, most=2000)] = 50.0,
    play: Annotated[Path | None, typer.Option(help="Replay a recording.")] = None,
    script: Annotated[Path | None, typer.Option(help="Run a script, line by line.")] = None,
    keys: Annotated[bool, typer.Option("--keys", help="Drive by single keys.")] = False,
) -> None:
    """Simulate a remote: of a rig's source (letters, packets, bits, a bare stick), with --pad a gamepad, with --match the desk
    that starts a match.

    Without --play, --script or --keys it does what is typed, such as "left_y -0.6".
    """
    from pivrex.cli.remote import be_a_desk, be_a_pad, be_a_remote
    from pivrex.rig import open_folder, read_rig

    if match:
        be_a_desk(open_folder(Path()).settings.match, read_rig(here_or_demo(rig)) if rig else None, at, script)
    elif pad:
        be_a_pad(port, play, script, keys)
    elif rig and source:
        be_a_remote(read_rig(here_or_demo(rig)), source, at, rate, play, script, keys)
    else:
        raise typer.BadParameter("say which RIG and which SOURCE of it, or --pad, or --match")


def simulator(
    rig: RigName,
    udp: Annotated[str, typer.Option(help="The UDP port it listens on, HOST:PORT or PORT.")] = "",
    serial: Annotated[Path | None, typer.Option(help="Use a serial line at this path instead.")] = None,
    log: Annotated[
        Path | None, typer.Option(help="Write the motor commands to this CSV file, with the robot's own clock.")
    ] = None,
    fault: Annotated[str, typer.Option(help="A fault that its motor driver reports.")] = "",
    board: Annotated[
        bool, typer.Option("--board", help="Run the program that pivrex board writes, in an emulated chip.")
    ] = False,
) -> int:
    """Be a robot at the other end of a link, with the simulated robot's physics; it speaks as docs/wire.md says."""
    from pivrex.board.steps import Task
    from pivrex.cli.simulator import be_a_robot
    from pivrex.rig import find_rig, read_rig
    from pivrex.rig.transports import SerialTransport

    path, folder = find_rig(str(here_or_demo(rig)), Path())
    read = read_rig(path)
    if not udp and serial is None:
        if read.link is None:
            raise PivrexError(f"{path}: the rig has no table [link]; say --udp PORT or --serial PATH")
        wire = read.link.wire
        if isinstance(wire, SerialTransport):
            serial = Path(wire.port)
        else:
            udp = f"{wire.host}:{wire.port}"
    task = Task.of(read, folder) if board and read.board.mode == "alone" else None
    return be_a_robot(read, folder.settings.field, udp, serial, log, fault, board, task)
