"""The line of a rig as a board has it: what of it is needed, and its two files."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from pivrex.board.flat import flat_line
from pivrex.board.flat_program import FlatProgram
from pivrex.board.line_c import line_header, line_source
from pivrex.board.needed import needed
from pivrex.line.beginning import begun
from pivrex.line.layout import Floats
from pivrex.line.line import Line

__all__ = ["LineParts", "line_parts"]

OUTPUTS = ("row.outputs.value", "row.outputs.coast", "row.bindings.value")


@dataclass(frozen=True)
class LineParts:
    """What of a line a board needs, and what it remembers before the first tick."""

    program: FlatProgram
    start: np.ndarray[Any, Any]

    def header(self, real: str) -> str:
        """Return `line.h`; ``real``: double or float."""
        return line_header(self.program, real)

    def source(self, traced: bool = False) -> str:
        """Return `line.c`."""
        return line_source(self.program, self.start, traced)


def line_parts(line: Line, at: Floats | None = None) -> LineParts:
    """Return what of a line a board needs. ``at``: where the robot stands at the beginning, (3,)."""
    whole = flat_line(line)
    start = begun(line, np.zeros(3) if at is None else at)
    return LineParts(needed(whole, [n for n in OUTPUTS if n in whole.globals]), start.memory.data)
