"""The records of a line in a board's memory: one number after the other, without gaps, the low byte first."""

from __future__ import annotations

import struct
from math import prod

import numpy as np
from numpy.typing import NDArray

from pivrex.board.flat_program import FlatProgram
from pivrex.board.line_c import structures

__all__ = ["Packed"]

Floats = NDArray[np.float64]

SIZES = {"f": ("f", 4), "i": ("h", 2), "b": ("B", 1)}


class Packed:
    """One record of a flat program.

    Attributes
    ----------
    fields : list of Global
    size : int
        Bytes.
    """

    def __init__(self, program: FlatProgram, root: str) -> None:
        self.fields = [g for own in structures(program, root).values() for g in own]
        self.size = sum(max(1, prod(g.shape)) * SIZES[g.kind][1] for g in self.fields)

    def packed(self, numbers: Floats) -> bytes:
        """Return the bytes of numbers that stand where the line has them, (N,)."""
        made = b""
        for g in self.fields:
            many = max(1, prod(g.shape))
            values = numbers[g.at : g.at + many].tolist() if 0 not in g.shape else [0.0] * many
            code = SIZES[g.kind][0]
            values = np.array(values, np.float32).tolist()
            made += struct.pack(f"<{many}{code}", *(v if code == "f" else int(v) for v in values))
        return made

    def unpacked(self, data: bytes, width: int) -> Floats:
        """Return the numbers where the line has them, (width,); NaN where the board keeps none."""
        found, at = np.full(width, np.nan), 0
        for g in self.fields:
            code, size = SIZES[g.kind]
            many = max(1, prod(g.shape))
            if 0 not in g.shape:
                found[g.at : g.at + many] = struct.unpack_from(f"<{many}{code}", data, at)
            at += many * size
        return found
