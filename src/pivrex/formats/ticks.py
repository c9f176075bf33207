"""A table of Ticks as CSV: a column for each number, every bit of it kept."""

from __future__ import annotations

import re

import numpy as np
import orjson

from pivrex.line.layout import Floats
from pivrex.line.line import Line

__all__ = ["present_title", "read_ticks", "tick_header", "tick_lines"]


_RENAMED = [
    (re.compile(rf"({before})$"), after)
    for before, after in (
        (r"(wheels\..+)_asked_m_s", r"\2_requested_m_s"),
        (r"(limits\..+)_given_m_s", r"\2_limited_m_s"),
        (r"(control\..+)_wanted", r"\2_setpoint"),
        (r"correction\.given_rad_s", "correction.output_rad_s"),
        (r"(following|helping)\.off_rad", r"\2.heading_error_rad"),
        (r"(following|helping)\.across_(.+)", r"\2.cross_track_\3"),
        (r"following\.along_(?!track)(.+)", r"following.along_track_\2"),
        (r"following\.back_(.+)", r"following.correction_\2"),
        (r"helping\.away_m", "helping.distance_m"),
    )
]
"""Columns that had other names in runs of version 0.1."""


def present_title(title: str) -> str:
    """Return the title that a column of an older version has now."""
    for pattern, after in _RENAMED:
        if pattern.match(title):
            return pattern.sub(after, title)
    return title


def tick_header(line: Line) -> str:
    """Return the first line of a table of Ticks."""
    return ",".join(line.layout.titles) + "\n"


def tick_lines(rows: Floats) -> bytes:
    """Write Ticks, (N, K), as lines. Each number is the shortest that reads back as the same, a whole one without its
    point; what is not there is an empty cell.
    """
    if not len(rows):
        return b""
    # a library for another format writes exact numbers ten times as fast as Python
    text = (
        orjson.dumps(np.ascontiguousarray(rows), option=orjson.OPT_SERIALIZE_NUMPY)[2:-2].replace(b"],[", b"\n") + b"\n"
    )
    text = text.replace(b".0,", b",").replace(b".0\n", b"\n")
    if b"null" not in text:
        return text
    if np.isinf(rows).any():
        return b"".join(",".join(map(_cell, row)).encode() + b"\n" for row in rows.tolist())
    return text.replace(b"null", b"")


def _cell(value: float) -> str:
    return "" if value != value else repr(value).removesuffix(".0")  # noqa: PLR0124 - NaN is not itself


def read_ticks(text: bytes, width: int) -> Floats:
    """Read lines of a table of Ticks, (N, K), without its header: every bit of what `tick_lines` wrote.

    Raises
    ------
    ValueError
        Where a line has not ``width`` cells or a cell is no number; its first argument is the line's place from 0, its
        second what is wrong.
    """
    if not text:
        return np.empty((0, width))
    if not text.endswith(b"\n"):
        text += b"\n"
    cells = text
    if b",," in text or b"\n," in text or b",\n" in text or text.startswith(b","):
        cells = cells.replace(b",,", b",null,").replace(b",,", b",null,").replace(b",\n", b",null\n")
        cells = (b"null" if text.startswith(b",") else b"") + cells.replace(b"\n,", b"\nnull,")
    # a whole number has no sign of zero
    cells = cells.replace(b"-0,", b"-0.0,").replace(b"-0\n", b"-0.0\n")
    try:
        rows = np.array(orjson.loads(b"[[" + cells[:-1].replace(b"\n", b"],[") + b"]]"), np.float64)
        if rows.shape[1:] == (width,):
            return rows
    except (orjson.JSONDecodeError, ValueError, TypeError):
        pass
    return _line_by_line(text, width)


def _line_by_line(text: bytes, width: int) -> Floats:
    rows = []
    for at, line in enumerate(text.splitlines()):
        row = line.split(b",")
        if len(row) != width:
            raise ValueError(at, f"has {len(row)} cells, but the header has {width}")
        try:
            rows.append([float(cell) if cell else np.nan for cell in row])
        except ValueError:
            wrong = next(cell for cell in row if cell and not _is_number(cell))
            raise ValueError(at, f"has {wrong[:40].decode('utf-8', 'replace')!r} where a number should stand") from None
    return np.array(rows, np.float64).reshape(-1, width)


def _is_number(cell: bytes) -> bool:
    try:
        float(cell)
    except ValueError:
        return False
    return True
