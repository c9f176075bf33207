"""Queries a terminal's abilities."""

from __future__ import annotations

import os
import re
import sys
import time
from collections.abc import Mapping
from typing import NamedTuple

__all__ = ["ASK_PICTURES", "WAIT_S", "Pictures", "asked", "pictures_here", "pictures_of"]

WAIT_S = 0.6

ASK_PICTURES = "\x1b_Gi=31,s=1,v=1,a=q,t=d,f=24;AAAA\x1b\\\x1b[16t\x1b[c"
"""Whether it knows the kitty graphics protocol, how many pixels a cell has, and what it is: an answer with 4 knows sixels."""

_KITTY, _CELL = re.compile(r"\x1b_Gi=31;OK\x1b\\"), re.compile(r"\x1b\[6;(\d+);(\d+)t")
_WHO = re.compile(r"\x1b\[\?([\d;]*)c")


class Pictures(NamedTuple):
    """How a terminal shows pictures ("kitty", "sixel" or "" for not at all), the size of its cells in pixels, and why it is so."""

    kind: str
    cell: tuple[int, int]
    said: str


def pictures_of(answers: str | None, cell: tuple[int, int] = (0, 0)) -> Pictures:
    """Return what a terminal's answers to `ASK_PICTURES` mean; ``cell`` is the size of its cells where it does not say that."""
    if answers is None:
        return Pictures("", (0, 0), "this system gives no way to ask the terminal")
    cell_size, who = _CELL.search(answers), _WHO.search(answers)
    kind = "kitty" if _KITTY.search(answers) else "sixel" if who and "4" in who[1].split(";")[1:] else ""
    if not kind:
        return Pictures("", (0, 0), "the terminal shows characters only: drawings are made of them")
    size = (int(cell_size[2]), int(cell_size[1])) if cell_size else cell
    if not (4 <= size[0] <= 100 and 4 <= size[1] <= 200):
        return Pictures("", (0, 0), f"{kind} graphics, but the terminal does not say how large its cells are")
    name = {"kitty": "the kitty graphics protocol", "sixel": "sixels"}[kind]
    return Pictures(kind, size, f"{name}: what stands still is drawn sharp, {size[0]} x {size[1]} pixels a cell")


def pictures_here(env: Mapping[str, str], wait_s: float = WAIT_S) -> Pictures:
    """Ask the terminal, where it may be asked, what pictures it can show."""
    if env.get("TMUX") or env.get("STY"):
        return Pictures("", (0, 0), "not inside tmux or screen, which would not take them away")
    if env.get("TERM", "") in ("", "dumb", "linux"):
        return Pictures("", (0, 0), "the terminal shows characters only: drawings are made of them")
    return pictures_of(asked(ASK_PICTURES, wait_s), cell_pixels())


def cell_pixels() -> tuple[int, int]:
    """Return how many pixels a cell is wide and high, as the system knows it of the window; zeros where it does not."""
    try:
        import fcntl
        import struct
        import termios

        assert sys.__stdout__ is not None
        rows, columns, wide, high = struct.unpack(
            "4H", fcntl.ioctl(sys.__stdout__.fileno(), termios.TIOCGWINSZ, b"\0" * 8)
        )
    except (ImportError, AssertionError, OSError, ValueError):
        return 0, 0
    return wide // max(1, columns), high // max(1, rows)


def asked(question: str, wait_s: float = WAIT_S) -> str | None:
    """Ask the terminal something, and return what it answers until it has said what it is; None where that cannot be done."""
    try:
        import select
        import termios
        import tty
    except ImportError:
        return None
    if not (sys.__stdin__ is not None and sys.__stdin__.isatty() and sys.__stdout__ is not None):
        return None
    fd = sys.__stdin__.fileno()
    before = termios.tcgetattr(fd)
    answer = ""
    try:
        tty.setcbreak(fd)
        sys.__stdout__.write(question)
        sys.__stdout__.flush()
        until = time.monotonic() + wait_s
        while not _WHO.search(answer) and time.monotonic() < until:
            if select.select([fd], [], [], max(0.0, until - time.monotonic()))[0]:
                answer += os.read(fd, 1024).decode("ascii", "replace")
    finally:
        termios.tcsetattr(fd, termios.TCSADRAIN, before)
    return answer
