"""The person's own editor: which it is, and how to open it at a line."""

from __future__ import annotations

import os
import shlex
import shutil
from collections.abc import Mapping
from pathlib import Path

__all__ = ["editor_words"]

USUAL = ("nano", "micro", "vim", "vi", "notepad")

_AT_LINE = {
    "code": ("--wait", "--goto", "{file}:{line}"), "codium": ("--wait", "--goto", "{file}:{line}"),
    "subl": ("--wait", "{file}:{line}"), "hx": ("{file}:{line}",), "helix": ("{file}:{line}",),
    "kate": ("--block", "--line", "{line}", "{file}"), "gedit": ("--wait", "+{line}", "{file}"), "notepad": ("{file}",),
}  # fmt: skip
"""How those that do not know ``+LINE FILE`` are called."""


def editor_words(path: Path, line: int, env: Mapping[str, str] | None = None) -> list[str]:
    """Return the command that opens a file at a line (counted from 1); empty if no editor is there.

    ``VISUAL`` comes before ``EDITOR``, and these before those that are usually there.
    """
    env = os.environ if env is None else env
    asked = env.get("VISUAL") or env.get("EDITOR") or next((e for e in USUAL if shutil.which(e)), "")
    words = shlex.split(asked, posix=os.name != "nt")
    if not words:
        return []
    form = _AT_LINE.get(Path(words[0]).stem.lower(), ("+{line}", "{file}"))
    return words + [part.format(line=max(1, line), file=path) for part in form]
