"""The part of a rig's line that a board needs, and its two files."""

from __future__ import annotations

import pickle
from dataclasses import dataclass
from math import prod
from typing import Any

import numpy as np

from pivrex.board.flat import flat_line
from pivrex.board.flat_program import FlatProgram
from pivrex.board.line_c import GOES_ON, line_header, line_source, structures
from pivrex.board.needed import needed
from pivrex.board.steps.routine import BoardRoutine
from pivrex.line.beginning import known_at
from pivrex.line.layout import Floats
from pivrex.line.line import Line

__all__ = ["LineParts", "line_parts"]

OUTPUTS = ("row.outputs.value", "row.outputs.coast", "row.bindings.value")
KEPT = 16
"""Flat programs: the newest."""
_made: dict[bytes, FlatProgram] = {}

OF_ROUTINE = ("kept.thoughts.on", "kept.thoughts.ended", "kept.thoughts.fault")


@dataclass(frozen=True)
class LineParts:
    """The part of a line that a board needs, and its memory before the first tick."""

    program: FlatProgram
    start: np.ndarray[Any, Any]

    def again(self, memory: Floats) -> Floats:
        """Return what is remembered as a routine begins, where ``memory`` was before: one that balances goes on standing."""
        found = self.start.copy()
        for stage, own in structures(self.program, "kept").items():
            for one in own if stage in GOES_ON else ():
                part = slice(one.at, one.at + prod(one.shape))
                found[part] = memory[part]
        return found

    def header(self, real: str) -> str:
        """Return `line.h`; ``real``: double or float."""
        return line_header(self.program, real)

    def source(self, traced: bool = False) -> str:
        """Return `line.c`."""
        return line_source(self.program, self.start, traced)


def line_parts(line: Line, at: Floats | None = None, routine: BoardRoutine | None = None) -> LineParts:
    """Return what of a line a board needs, and of a routine. ``at``: where the robot stands at the beginning, (3,)."""
    pose = np.zeros(3) if at is None else at
    start = known_at(line, line.start(), pose).memory.data
    if routine is not None:
        start = np.concatenate((start, routine.start(pose)))
    return LineParts(_program(line, routine), start)


def _program(line: Line, routine: BoardRoutine | None) -> FlatProgram:
    """Return the flat program; what was made for the same rig and routine before is taken again, for it takes half a second."""
    of_routine = (
        ()
        if routine is None
        else (routine.means.settings.data, routine.steps.settings.data, sorted(routine.steps.unused))
    )
    key = pickle.dumps((line.rig, of_routine))
    if key not in _made:
        whole = flat_line(line, routine)
        _made[key] = needed(whole, [n for n in OUTPUTS + OF_ROUTINE if n in whole.globals])
        if len(_made) > KEPT:
            del _made[next(iter(_made))]
    return _made[key]
