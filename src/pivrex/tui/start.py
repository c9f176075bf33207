"""From a workspace and a starting session to the first screen."""

from __future__ import annotations

import contextlib
import gc
import logging
import os
import sys
from pathlib import Path

from pivrex.devices.terminal import pictures_here
from pivrex.errors import UsageError
from pivrex.rig import Folder
from pivrex.rig.transports import Link
from pivrex.session.client import SessionClient
from pivrex.session.places import config_folder, log_file

__all__ = ["make", "show"]

PICTURES_WAIT_S = 0.25
"""How long a terminal has to say what pictures it can show."""


def show(
    client: SessionClient,
    folder: Folder,
    rig_path: Path,
    source: str,
    *,
    view: str = "field",
    theme: str = "",
    newcomer: bool = False,
    pads: bool = False,
    fault: str = "",
    practice: str = "",
    seed: int = 0,
    link: Link | None = None,
) -> int:
    """Show a workspace until the person leaves; returns the exit code. The session starts before the screen loads."""
    logging.basicConfig(filename=log_file(), format="%(asctime)s %(name)s %(levelname)s %(message)s")
    # a lone Esc is known for one after this many ms; a slow link may need more, so a person's own value wins
    os.environ.setdefault("ESCDELAY", "25")
    from pivrex.tui.model import ScreenModel

    model = ScreenModel(folder, rig_path, client)
    model.practice = practice
    model.open_session(source, listen_for_pads=pads, fault=fault, seed=seed, link=link)

    from pivrex.tui.app import PivrexApp
    from pivrex.tui.canvas import Canvas
    from pivrex.tui.commands import Commands
    from pivrex.tui.draw.cells import draws_dots
    from pivrex.tui.keys import read_keys, wants_pictures
    from pivrex.tui.stills import NO_PICTURES
    from pivrex.tui.views.view_table import VIEWS

    names = [row.name for row in VIEWS]
    if view not in names:
        raise UsageError(f"--view is {view}, but the views are {', '.join(names)}")
    own = config_folder() / "settings.toml"
    keys = read_keys(own, Commands(VIEWS).all)
    pictures = pictures_here(os.environ, PICTURES_WAIT_S) if wants_pictures(own) and not draws_dots() else NO_PICTURES
    Canvas.ascii_only = not _is_unicode()
    gc.freeze()
    gc.enable()
    chosen = _theme(theme)
    return int(PivrexApp(model, view=view, newcomer=newcomer, theme=chosen, keys=keys, pictures=pictures).run() or 0)


def _is_unicode() -> bool:
    """Return whether the terminal claims to show more than ASCII; characters that it cannot show raise no error."""
    for stream in (sys.__stdout__, sys.__stderr__):
        with contextlib.suppress(AttributeError, ValueError):
            stream.reconfigure(errors="replace")  # type: ignore[union-attr]
    encoding = (getattr(sys.__stdout__, "encoding", "") or "").lower()
    wanted = os.environ.get("LC_ALL") or os.environ.get("LC_CTYPE") or os.environ.get("LANG") or ""
    # Python takes the C locale for UTF-8; a terminal in it may not
    plain = wanted in ("C", "POSIX") or ("." in wanted and "utf" not in wanted.lower())
    return encoding.startswith("utf") and not plain


def make(folder: Path) -> Path | None:
    """Let someone choose a robot of their own on the screen; returns its file, None if they left without one."""
    from pivrex.tui.canvas import Canvas
    from pivrex.tui.maker.maker_app import MakerApp

    os.environ.setdefault("ESCDELAY", "25")
    Canvas.ascii_only = not _is_unicode()
    return MakerApp(folder, _theme("")).run()


def _theme(asked: str) -> str:
    return asked or ("plain" if os.environ.get("NO_COLOR") else "dusk")
