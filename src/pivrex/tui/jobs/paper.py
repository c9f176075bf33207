"""Exports from the screen, drawn on paper as by `pivrex export`."""

from __future__ import annotations

import subprocess
import sys

from pivrex.errors import PivrexError
from pivrex.tui.jobs.job import Job, Progress

__all__ = ["Drawing", "draw_on_paper", "paper_job"]

Drawing = tuple[str, ...]
"""The words behind ``pivrex export``, with the files that are to be made."""


def paper_job() -> Job[tuple[Drawing, ...], str]:
    """Return the job that draws on paper, and says which files there are then."""
    return Job("pivrex-paper", draw_on_paper, patient=False)


def draw_on_paper(drawings: tuple[Drawing, ...], progress: Progress) -> str | None:
    """Make each drawing; returns the names of their first files as a sentence. Raises `PivrexError` with what the command says."""
    saved = []
    for k, words in enumerate(drawings):
        if not progress(k / len(drawings), f"drawing {words[0]} ..."):
            return None
        command = [sys.executable, "-m", "pivrex", "export", *words]
        done = subprocess.run(
            command, check=False, stdin=subprocess.DEVNULL, capture_output=True, encoding="utf-8", errors="replace"
        )
        if done.returncode:
            raise PivrexError(done.stderr.strip() or "the export failed")
        saved.append(words[words.index("-o") + 1].replace("\\", "/").rpartition("/")[2])
    return f"saved exports/{' and '.join(saved)}, and .pdf"
