"""Tables of Ticks, written line by line."""

from __future__ import annotations

import io
import sys
from itertools import chain
from pathlib import Path
from typing import TextIO

from pivrex.files import writing
from pivrex.formats.recording import Recording
from pivrex.formats.ticks import tick_header, tick_lines
from pivrex.line import Line
from pivrex.rig import Field, Rig
from pivrex.runs import as_played, blocks_of_ticks
from pivrex.runs.run import Run

__all__ = ["write_run", "write_ticks"]


def write_ticks(rig: Rig, recording: Path, field: Field | None, path: Path | None, every_tick: bool) -> int:
    """Write the Ticks that a recording makes as CSV; returns the number of rows.

    A path that is left out or ``-`` is standard output. It streams: an hour needs no more memory than a minute. A file appears when it is whole.

    Raises
    ------
    RecordingError
        At the first line that cannot be played; a file is not written then.
    SaveError
        If the file cannot be written.
    """
    source = Recording(recording)
    if path is None or str(path) == "-":
        return _write(rig, source, field, sys.stdout, every_tick)
    with writing(path) as stream:
        text = io.TextIOWrapper(stream, "utf-8", newline="")
        try:
            count = _write(rig, source, field, text, every_tick)
        finally:
            text.detach()  # writes its buffer; the stream still belongs to its owner
    return count


def write_run(run: Run, path: Path) -> None:
    """Write all Ticks of a run as one CSV, piece by piece; a changed rig with other columns begins with a new header. A path ``-`` is
    standard output. Raises `RunError`, `SaveError`.
    """
    if str(path) == "-":
        _write_pieces(run, sys.stdout)
        return
    with writing(path) as stream:
        text = io.TextIOWrapper(stream, "utf-8", newline="")
        try:
            _write_pieces(run, text)
        finally:
            text.detach()


def _write_pieces(run: Run, stream: TextIO) -> None:
    header = ""
    for piece in run.pieces():
        now = tick_header(run.line(piece.first))
        if now != header:
            stream.write(now)
            header = now
        stream.write(tick_lines(piece.rows).decode("ascii"))


def _write(rig: Rig, recording: Recording, field: Field | None, stream: TextIO, every_tick: bool) -> int:
    # compute the first block before writing: a recording without a needed column leaves no header behind
    blocks = blocks_of_ticks(rig, recording, field, every_tick)
    first = next(blocks)
    stream.write(tick_header(Line(as_played(rig))))
    count = 0
    for block in chain([first], blocks):
        stream.write(tick_lines(block).decode("ascii"))
        count += len(block)
    return count
