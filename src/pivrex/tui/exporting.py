"""Exports begun on the screen: drawn on paper in a process of their own, so that the screen and its heartbeat go on."""

from __future__ import annotations

import asyncio
import sys

from pivrex.errors import SaveError
from pivrex.tui.model import ScreenModel
from pivrex.tui.views.view_row import ViewRow

__all__ = ["export_view"]


async def export_view(model: ScreenModel, view: ViewRow) -> None:
    """Draw what a view exports, as SVG and PDF, into the workspace; says what came of it."""
    try:
        drawings = view.exports(model)
    except SaveError as problem:
        model.say(str(problem), alarm=True)
        return
    if not drawings:
        model.say(f"there is nothing of {view.name} to export")
        return
    saved = []
    for words in drawings:
        files = [model.export_name(words[0], suffix) for suffix in (".svg", ".pdf")]
        model.say("drawing ...")
        wrong = await _on_paper([*words, *(word for file in files for word in ("-o", str(file)))])
        if wrong:
            model.say(wrong, alarm=True)
            return
        saved.append(files[0].name)
    model.say(f"saved exports/{' and '.join(saved)}, and .pdf")


async def _on_paper(words: list[str]) -> str:
    """Export; gives what went wrong, empty if nothing did."""
    process = await asyncio.create_subprocess_exec(
        sys.executable, "-m", "pivrex", "export", *words,
        stdout=asyncio.subprocess.DEVNULL, stderr=asyncio.subprocess.PIPE,
    )  # fmt: skip
    _, said = await process.communicate()
    return (said.decode("utf-8", "replace").strip() or "the export failed") if process.returncode else ""
