"""Shows what works on this computer and in this terminal, and how to fix what does not."""

from __future__ import annotations

import os
import platform
import re
import sys
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from pivrex.cli.options import Json, print_json
from pivrex.devices.key_window import has_display
from pivrex.devices.terminal import asked, pictures_here

__all__ = ["Found", "here", "of_answers", "of_colours", "of_date", "of_serial"]

EARLIEST = 2026
"""No earlier year can be now: a board without a clock that runs on begins long before."""

ASK = "\x1b[?u\x1b[?1004$p\x1b[?1006$p\x1b[c"
"""Which keyboard flags are set, whether focus and the mouse are known; the last question every terminal answers."""

_FLAGS, _MODE = re.compile(r"\x1b\[\?\d+u"), re.compile(r"\x1b\[\?(\d+);(\d)\$y")


class Found(NamedTuple):
    """One thing: whether it works (None: not known), what was found, and how to fix it."""

    what: str
    works: bool | None
    said: str
    remedy: str = ""


def here(as_json: Json = False) -> int:
    """Check what works here of keys held, focus, colours, mouse, gamepads, serial lines and dates, and how to fix what does not."""
    found = list(_all())
    if as_json:
        print_json(
            {f.what: {"works": f.works, "said": f.said, "remedy": f.remedy, "mend": f.remedy} for f in found}
        )  # mend: for one version
        return 0
    wide = max(len(f.what) for f in found)
    for f in found:
        sign = {True: "works", False: "LACKS", None: "?    "}[f.works]
        print(f"  {sign}  {f.what:<{wide}}  {f.said}")
        if f.remedy and not f.works:
            print(f"         {'':<{wide}}  fix: {f.remedy}")
    return 0


def _all() -> Iterator[Found]:
    system = f"{platform.system()} {platform.release()}, Python {platform.python_version()}"
    yield Found("system", sys.version_info >= (3, 11), system, "Pivrex needs Python 3.11 or newer")
    yield _engine()
    yield from _terminal()
    yield _gamepads()
    try:
        ports = _ports()
    except ImportError as problem:
        yield Found("serial", False, f"the serial library does not load: {problem}", "pip install pyserial")
    else:
        yield from of_serial(ports)
    yield of_date(datetime.now().astimezone())
    yield from _folders()


def _engine() -> Found:
    """Return what computes: the kernels in C, or in Python."""
    from pivrex.kernels.engines import wait_for_it

    found = wait_for_it()
    said = {"built": "C, built with the package", "cached": "C, built for this machine", "plain": "Python"}[found.name]
    remedy = "install a C compiler (on Debian: sudo apt-get install gcc libc6-dev), then start again"
    return Found("engine", found.name != "plain" or None, f"{said}: {found.said}", remedy)


# --- the terminal ---


def _terminal() -> Iterator[Found]:
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        yield Found("terminal", None, "this is none; ask again on the screen where Pivrex should run")
        return
    size = os.get_terminal_size()
    yield Found(
        "window", size.columns >= 100 and size.lines >= 30, f"{size.columns} x {size.lines} cells",
        "100 x 30 show a view whole, 80 x 24 the most of it",
    )  # fmt: skip
    unicode = (sys.stdout.encoding or "").lower().startswith("utf")
    yield Found("drawing signs", unicode, sys.stdout.encoding or "unknown", "export LANG=C.UTF-8")
    yield of_colours(dict(os.environ))
    yield from of_answers(asked(ASK), dict(os.environ))
    pictures = pictures_here(os.environ)
    yield Found("pixels", bool(pictures.kind) or None, pictures.said)


def of_colours(env: dict[str, str]) -> Found:
    """Return how many colours there are, from what the environment says of the terminal."""
    if env.get("NO_COLOR"):
        return Found("colours", True, "none wanted (NO_COLOR): the theme plain needs none")
    if env.get("COLORTERM", "").lower() in ("truecolor", "24bit"):
        return Found("colours", True, "24 bits")
    many = "256" in env.get("TERM", "")
    said = f"{'256' if many else '16'} by TERM={env.get('TERM', '')}; every state is also shown without colour"
    return Found("colours", many, said, "if the terminal shows more: export COLORTERM=truecolor")


def of_answers(answers: str | None, env: dict[str, str]) -> Iterator[Found]:
    """Return what a terminal's answers to `ASK` mean."""
    if answers is None:
        yield Found("terminal's answers", None, "this system gives no way to ask the terminal")
        return
    inside = "tmux passes no releases on: without it, " if env.get("TMUX") else ""
    held = bool(_FLAGS.search(answers))
    yield Found(
        "keys held", held, "releases are reported: keys drive while they are held" if held else
        "releases are not reported: keys are latched, or drive for a short time (m)",
        f"{inside}use a terminal with the kitty keyboard protocol, or a gamepad",
    )  # fmt: skip
    if not held:
        display = has_display(env)
        yield Found(
            "window for keys", display, "a display is there: o opens a window that sees keys come up" if display else
            "no display here: each press drives for a short time (m changes that)",
            "run Pivrex on the computer that you sit at, or use a gamepad",
        )  # fmt: skip
    modes = {int(mode): state in "123" for mode, state in _MODE.findall(answers)}
    focus = modes.get(1004, False)
    yield Found(
        "focus", focus, "losing the focus stops a live robot" if focus else "losing the focus is not noticed",
        "in tmux: set -g focus-events on" if env.get("TMUX") else "use a terminal that reports focus (mode 1004)",
    )  # fmt: skip
    mouse = modes.get(1006)
    yield Found(
        "mouse", mouse, {True: "clicks and drags are reported", False: "is not reported", None: "the terminal did not say"}[mouse],
        "in tmux: set -g mouse on",
    )  # fmt: skip


# --- devices ---


def _gamepads() -> Found:
    from pivrex.devices.pads import Pads

    try:
        pads = Pads()
        names = [pad.title for pad in pads.update()]
        pads.close()
    except Exception as problem:  # whatever SDL or its wheel lacks here
        return Found("gamepads", False, f"the gamepads' library does not load: {problem}", "pip install pysdl2-dll")
    blocked = [p for p in Path("/dev/input").glob("event*") if not os.access(p, os.R_OK)] if _is("Linux") else []
    if names:
        return Found("gamepads", True, ", ".join(names))
    if blocked:
        return Found(
            "gamepads", False, f"none; {len(blocked)} input devices may not be read",
            "if yours is among them: sudo usermod -aG input $USER, then log in again",
        )  # fmt: skip
    return Found("gamepads", True, "the library loads; none is plugged in")


class _Port(NamedTuple):
    name: str
    about: str
    may: bool


def _ports() -> list[_Port]:
    from serial.tools.list_ports import comports

    may: Callable[[str], bool] = (
        (lambda name: os.access(name, os.R_OK | os.W_OK)) if os.name == "posix" else lambda _: True
    )
    return [_Port(p.device, p.description, may(p.device)) for p in sorted(comports())]


def of_serial(ports: list[_Port]) -> Iterator[Found]:
    """Return which serial ports there are, and whether they may be opened."""
    if not ports:
        yield Found("serial", True, "no port is there; once you plug one in, it is found")
    for port in ports:
        group = "dialout" if not Path("/etc/arch-release").exists() else "uucp"
        yield Found(
            "serial", port.may, f"{port.name}, {port.about}{'' if port.may else ': you may not open it'}",
            f"sudo usermod -aG {group} $USER, then log in again",
        )  # fmt: skip


# --- dates and folders ---


def of_date(now: datetime) -> Found:
    """Return whether the date can be right: recordings, exports and runs are named by it."""
    return Found(
        "date", now.year >= EARLIEST, f"{now:%Y-%m-%d %H:%M %Z}; recordings and exports are named by it",
        "set the clock: sudo timedatectl set-ntp true, or date -s",
    )  # fmt: skip


def _folders() -> Iterator[Found]:
    from pivrex.session.places import config_folder, log_file
    from pivrex.session.remembered import last_workspace

    folder = config_folder()
    place = next((p for p in (folder, *folder.parents) if p.exists()), folder)
    may = os.access(place, os.W_OK)
    yield Found("settings", may, f"{folder / 'settings.toml'}", f"make {place} writable, else nothing is remembered")
    try:
        log = str(log_file())
        yield Found("log", True, log)
    except OSError as problem:
        yield Found("log", False, str(problem), "make that folder writable")
    last = last_workspace()
    yield Found("workspace", True, f"{last} was open last" if last else "none was open yet: pivrex new makes one")


def _is(system: str) -> bool:
    return platform.system() == system
