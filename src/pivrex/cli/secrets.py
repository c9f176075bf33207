"""`pivrex key`: the key of a rig."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Annotated

import typer

from pivrex.cli.options import RigName
from pivrex.errors import PivrexError

__all__ = ["key"]

IGNORED = "*.key"


def key(
    rig: RigName,
    new: Annotated[bool, typer.Option("--new", help="Make another one; robot and radio need it then too.")] = False,
    show: Annotated[
        bool, typer.Option("--show", help="Write the rig's key for a program in C, and make none.")
    ] = False,
) -> None:
    """Make a rig's key: packets, framed letters, outputs and sensed values then count only if they are sealed with it."""
    from pivrex.rig import RigFile, find_rig
    from pivrex.rig.secret import make_key

    path = find_rig(rig, Path())[0]
    if new:
        with contextlib.suppress(PivrexError):  # a lost one is no reason to make no other
            make_key(path.parent / _named(path))
    file = RigFile(path)
    if show:
        if not file.rig.secret:
            raise PivrexError(f"{path}: has no key; pivrex key {rig} makes one")
        print(f"static const unsigned char KEY[16] = {{{', '.join(f'0x{b:02x}' for b in file.rig.secret)}}};")
        return
    if file.rig.key and not new:
        raise PivrexError(f"{path}: has a key already, {file.rig.key}; with --new it gets another one")
    name = file.rig.key or f"{path.stem}.key"
    if not file.rig.key:
        make_key(path.parent / name)
        file.put("key", name)
    _keep_out_of_git(path.parent)
    print(f"{path.parent / name}: a new key that only you may read, named in {path.name}; git passes it over")
    print(f"robot and radio need it too: pivrex key {rig} --show")


def _named(path: Path) -> str:
    """Return the name of the key in a rig's file, whether that key can be read or not."""
    from pivrex.rig.read import read_table, rig_text

    name = read_table(rig_text(path), path).get("key")
    if not isinstance(name, str) or not name or Path(name).name != name:
        raise PivrexError(f"{path}: names no key")
    return name


def _keep_out_of_git(folder: Path) -> None:
    from pivrex.files import read_persons, write_atomically

    file = folder / ".gitignore"
    text = read_persons(file, 1_000_000) if file.exists() else ""
    if IGNORED not in text.split():
        write_atomically(file, f"{text}{'' if not text or text.endswith(chr(10)) else chr(10)}{IGNORED}\n")
