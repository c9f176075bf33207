"""The commands that open the screen: `pivrex [DIR]` and `pivrex demo [DIR]`."""

from __future__ import annotations

import argparse
import contextlib
import gc
import os
import shutil
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from pivrex.cli.examples import shown
from pivrex.errors import PivrexError, UsageError
from pivrex.files import is_file, resolved
from pivrex.lower import reason

if TYPE_CHECKING:
    from pivrex.rig.transports import Link

__all__ = ["SUMMARIES", "WORDS", "copy_demo", "open_by_words", "opening_parser", "show_maker", "sweep_copies"]

NOT_A_TERMINAL = "pivrex needs a terminal to draw on; for scripts there are check, describe, wheels, map, play, export and others: pivrex --help"


SUMMARIES = {
    "demo": "Copy the demo workspace and open it, with the recorded driver playing.",
    "open": "Open a workspace, or a rig file of one; `pivrex [DIR|RIG.toml]` does the same, and `pivrex` alone opens the last one.",
}
"""What the commands that lead to the screen do."""

WORDS = {
    "folder": "the workspace, or a rig file of it; left out, this folder, or the workspace that was open last",
    "demo folder": "where the demo workspace goes; a fresh folder if left out",
    "rig": "the rig to open, by name or path",
    "view": "driver, shaping, chassis, heading, field, routine or runs",
    "theme": "the colours: dusk, noon or plain",
    "pad": "listen for simulated gamepads",
    "fault": "faults of the simulated robot's wiring to practise on: random, swap A/B, reverse A, encoder A, gyro",
    "seed": "for random faults",
    "link": "command the robot behind the rig's link, or behind this wire: udp:HOST:PORT, serial:PORT",
}
"""What their words mean."""


def _seed(text: str) -> int:
    from pivrex.cli.options import LARGEST_SEED, read_number
    from pivrex.errors import UnitError

    try:
        return int(read_number(text, int, 0, LARGEST_SEED))
    except UnitError as problem:
        raise argparse.ArgumentTypeError(str(problem)) from None


def opening_parser(command: str) -> argparse.ArgumentParser:
    """The words of the two commands. Not read by the library of the others: the screen need not wait for it."""
    parser = argparse.ArgumentParser(
        prog=f"pivrex {command}",
        description=SUMMARIES[command].replace("`", ""),
        epilog=shown(command),
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument(
        "folder", nargs="?", metavar="DIR", help=WORDS["folder" if command == "open" else "demo folder"]
    )
    parser.add_argument("--rig", default="", help=WORDS["rig"])
    parser.add_argument("--view", default="", help=WORDS["view"])
    parser.add_argument("--theme", choices=("dusk", "noon", "plain"), default="", help=WORDS["theme"])
    parser.add_argument("--pad", action="store_true", help=WORDS["pad"])
    parser.add_argument("--fault", default="", help=WORDS["fault"])
    parser.add_argument("--seed", type=_seed, default=0, help=WORDS["seed"])
    parser.add_argument("--link", nargs="?", const="rig", default="", help=WORDS["link"])
    return parser


def open_by_words(words: Sequence[str]) -> int:
    """Open a workspace as the command line says; returns the exit code."""
    command, *rest = words
    options = opening_parser(command).parse_args(rest)
    if options.fault and options.link:
        raise UsageError("--fault is for the simulated robot; it does not work together with --link")
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        print(NOT_A_TERMINAL, file=sys.stderr)
        return 2
    gc.disable()  # start-up makes many objects and deletes none; `tui.start` switches collection on again
    demo = command == "demo"
    # the session's process comes up while the rig is read and the screen's library is loaded
    from pivrex.session.client import SessionClient

    client = SessionClient()
    try:
        if demo or options.fault:
            sweep_copies()
        if demo:
            folder = copy_demo(Path(options.folder) if options.folder else None)
        else:
            folder, options.rig = _asked_for(options.folder, options.rig)
        return _open(client, folder, options, demo)
    finally:
        client.close()


def _asked_for(words: str | None, rig: str) -> tuple[Path, str]:
    """Return the workspace that is meant, and the rig."""
    from pivrex.rig import find_rig
    from pivrex.session.remembered import last_workspace

    if words and Path(words).suffix == ".toml":
        path, home = find_rig(words, Path())
        return home.path, str(path)
    if words:
        return Path(words), rig
    here = Path()
    if (here / "rigs").is_dir() or (here / "workspace.toml").exists():
        return here, rig
    last = last_workspace()
    if last is None:
        raise PivrexError(
            "this folder holds no rigs, and no workspace was open before: pivrex demo shows one, pivrex new makes one"
        )
    return last, rig


def show_maker(folder: Path) -> Path | None:
    """Let someone choose a robot of their own on the screen; returns its file, None if they left."""
    from pivrex.tui.start import make

    return make(folder)


DEMO = Path(__file__).parent.parent / "demo"
OF_DEMO, OF_PRACTICE = "pivrex-demo-", "pivrex-practice-"
IN_USE, COPY_OF = ".in-use", ".copy-of"
STALE_S = 24 * 3600.0
"""Where no lock says that a program has a demo open, it counts as open for so long."""


COPIED = ("*.toml", "*.key", "rigs/*", "inputs/*", "routines/*", "paths/*", "floors/*")
"""What a copy of a workspace has to practise on."""


def sweep_copies() -> None:
    """Remove the temporary workspaces of earlier starts: those that no program has open and in which nothing is a person's."""
    temporary = Path(tempfile.gettempdir())
    for folder in [*temporary.glob(f"{OF_DEMO}*"), *temporary.glob(f"{OF_PRACTICE}*")]:
        with contextlib.suppress(OSError):
            if folder.is_symlink() or not (folder / IN_USE).is_file() or kept_in(folder):
                continue
            descriptor = _held(folder)
            if descriptor is not None:
                shutil.rmtree(folder, ignore_errors=True)
                os.close(descriptor)


def kept_in(folder: Path) -> bool:
    """Return whether a copy of a workspace holds a person's work: a changed or new file, or a marked run. In a copy for practice, rigs do
    not count: they hold corrections of invented faults.
    """
    from pivrex.runs.shelf import Shelf

    practice = folder.name.startswith(OF_PRACTICE)
    source = Path((folder / COPY_OF).read_text("utf-8")) if practice else DEMO
    ignored = {"runs", IN_USE, COPY_OF} | ({"rigs"} if practice else set())
    for path in folder.rglob("*"):
        name = path.relative_to(folder)
        if name.parts[0] in ignored or path.is_dir():
            continue
        shipped = source / name
        if not shipped.is_file() or shipped.read_bytes() != path.read_bytes():
            return True
    return any(run.facts is not None and run.facts.stays for run in Shelf(folder / "runs").runs())


def _held(folder: Path) -> int | None:
    """Mark a demo workspace as open for as long as this process lives; None if another has it open."""
    mark = folder / IN_USE
    descriptor = os.open(mark, os.O_RDWR | os.O_CREAT)
    try:
        import fcntl

        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except ImportError:  # a system without such locks
        if 0 < time.time() - mark.stat().st_mtime < STALE_S and os.fstat(descriptor).st_size:
            os.close(descriptor)
            return None
    except BlockingIOError:
        os.close(descriptor)
        return None
    os.ftruncate(descriptor, 0)
    os.write(descriptor, b"open\n")
    return descriptor


def copy_demo(folder: Path | None) -> Path:
    """Copy the demo workspace to ``folder``, a fresh temporary one by default, which the next start removes unless a person keeps
    something there; files that are there already stay as they are.
    """
    source = DEMO
    target = folder or Path(tempfile.mkdtemp(prefix=OF_DEMO))
    try:
        for path in sorted(source.rglob("*")):
            place = target / path.relative_to(source)
            if path.is_dir():
                place.mkdir(parents=True, exist_ok=True)
            elif not place.exists() and "__pycache__" not in path.parts:
                place.parent.mkdir(parents=True, exist_ok=True)
                shutil.copyfile(path, place)
        if folder is None:
            _held(target)
    except OSError as problem:
        raise PivrexError(f"{target}: the demo cannot be copied there: {reason(problem)}") from None
    return target


def copy_to_practise(folder: Path) -> Path:
    """Copy a workspace to a temporary folder, so that faults that are practised on end in no rig of the person's."""
    target = Path(tempfile.mkdtemp(prefix=OF_PRACTICE))
    try:
        (target / COPY_OF).write_text(str(folder.resolve()), "utf-8")
        for path in (p for pattern in COPIED for p in folder.glob(pattern) if is_file(p)):
            place = target / path.relative_to(folder)
            place.parent.mkdir(exist_ok=True)
            shutil.copy(path, place)  # with its rights: a key is its owner's
        _held(target)
    except OSError as problem:
        raise PivrexError(f"{target}: the workspace cannot be copied there: {reason(problem)}") from None
    return target


def _open(client: object, path: Path, options: argparse.Namespace, demo: bool) -> int:
    from pivrex.rig import find_rig, open_folder
    from pivrex.session.client import SessionClient
    from pivrex.session.remembered import recall

    assert isinstance(client, SessionClient)
    folder = open_folder(path)
    folder.sweep()
    chosen = recall(path)
    remembered = next((p for p in folder.rigs() if p.stem == chosen.rig), None)
    rig_path = find_rig(options.rig, path)[0] if options.rig else remembered or folder.first_rig()
    recording = folder.demo_recording(rig_path)
    source = f"recording {recording.stem}" if demo and recording is not None else chosen.source or "keys"
    from pivrex.tui.start import show

    source = "keys" if options.link else source
    practice = ""
    if options.fault:
        from pivrex.rig import read_rig
        from pivrex.sim.wiring import faulty

        # report wrong words before the screen opens
        faulty(read_rig(rig_path), options.fault, options.seed)
        practice, copy = f"{rig_path.name} of {path.resolve()}", copy_to_practise(path)
        rig_path = copy / resolved(rig_path).relative_to(resolved(path))
        folder = open_folder(copy)
    result = show(
        client,
        folder,
        rig_path,
        source,
        view=options.view or chosen.view or "field",
        theme=options.theme or chosen.theme,
        newcomer=demo,
        pads=options.pad,
        fault=options.fault,
        practice=practice,
        seed=options.seed,
        link=_link(options.link, rig_path),
    )
    if demo and not options.folder and kept_in(path):
        print(f"what you changed in the demo is kept in {path}")
    if practice and kept_in(folder.path):
        print(f"what you changed while you practised is kept in {folder.path}")
    elif practice:
        shutil.rmtree(folder.path, ignore_errors=True)
    return result


def _link(words: str, rig_path: Path) -> Link | None:
    """Return the requested link: the rig's own, or one over another wire."""
    from pivrex.rig import read_rig
    from pivrex.rig.transports import Link, TcpTransport, read_transport

    if not words:
        return None
    if words == "rig":
        link = read_rig(rig_path).link
        if link is None:
            raise PivrexError(
                f"{rig_path}: has no table [link]; say where the robot is, such as --link udp:127.0.0.1:5810"
            )
        return link
    try:
        wire = read_transport(words)
    except ValueError as problem:
        raise PivrexError(f"--link: {problem}") from None
    if isinstance(wire, TcpTransport):
        raise PivrexError("--link: a robot is commanded over serial or udp")
    return Link(wire=wire)
