"""The line on the emulated chip, tick by tick, with its time, its flash and its memory."""

from __future__ import annotations

import struct
import subprocess
from dataclasses import asdict, dataclass
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pivrex.board.avr import FLAGS
from pivrex.board.chips import CHIPS
from pivrex.board.emulated import built_emulator, run_avr, symbols_of
from pivrex.board.packing import Packed
from pivrex.board.proving import Ticks
from pivrex.errors import PivrexError
from pivrex.line.line import Line

__all__ = ["SEALED_STACK", "STACK", "OnChip", "run_on_chip", "sizes_of"]

STACK, SEALED_STACK = 200, 400
"""Bytes of memory that a program's stack needs; with a key. The deepest that were measured are 164 and 360."""


@dataclass(frozen=True)
class OnChip:
    """The results of ticks on a chip.

    Attributes
    ----------
    chip : str
    ticks, differ : int
        Ticks, and those of them with a column that differs by a bit from what float C gives.
    us_mean, us_most : float
        How long a tick takes, in us.
    flash, ram, stack : int
        Bytes: of the program, of its data, and of the stack at its deepest.
    """

    chip: str
    ticks: int
    differ: int
    us_mean: float
    us_most: float
    flash: int
    ram: int
    stack: int

    def as_json(self) -> dict[str, Any]:
        return asdict(self)


_MAIN = """\
#include "line.h"
volatile unsigned char due;
int main(void) {
    line_begin();
    for (;;) {
        while (!due) {
        }
        line_tick();
        due = 0;
    }
}
"""


def sizes_of(program: Path) -> tuple[int, int]:
    """Return how much flash and memory a program for a chip takes, in bytes."""
    said = run_avr(["avr-size", "-B", str(program)], program.parent).splitlines()[1].split()
    return int(said[0]) + int(said[1]), int(said[1]) + int(said[2])


def run_on_chip(line: Line, ticks: Ticks, floats: NDArray[np.float64]) -> OnChip:
    """Run the ticks of a line on its rig's chip, each from the same state, and compare with ``floats``, (N, K): what float C gives.

    Raises
    ------
    PivrexError
        If avr-gcc or simavr is not here, or the line does not fit: what to do about it.
    """
    parts, board = ticks.parts(line), line.rig.board
    chip = CHIPS[board.chip]
    with TemporaryDirectory(prefix="pivrex-chip-") as made_here:
        folder = Path(made_here)
        for name, text in (("line.h", parts.header("float")), ("line.c", parts.source()), ("main.c", _MAIN)):
            (folder / name).write_text(text, encoding="utf-8")
        run_avr(["avr-gcc", *FLAGS, f"-mmcu={board.chip}", "-o", "line.elf", "main.c", "line.c", "-lm"], folder)
        flash, ram = sizes_of(folder / "line.elf")
        if ram + 64 > chip.ram:
            raise PivrexError(f"the line alone takes {ram} bytes of memory, and the {chip.name} has {chip.ram}")
        at = symbols_of(folder / "line.elf")
        row, kept = Packed(parts.program, "row"), Packed(parts.program, "kept")
        words = [
            str(folder / "line.elf"), board.chip, f"{board.clock_Hz:.0f}", "memory", str(at["due"]), str(at["_end"]),
            f"in:{at['row']}:{row.size}", f"in:{at['kept']}:{kept.size}", f"out:{at['row']}:{row.size}",
        ]  # fmt: skip
        sent = b"".join(row.packed(r) + kept.packed(m) for r, m in zip(ticks.fed(line), ticks.memories, strict=True))
        emulator = built_emulator()
        ran = subprocess.run([str(emulator), *words], input=sent, capture_output=True, check=False).stdout
    each = 8 + row.size
    if len(ran) != each * len(ticks.rows):
        raise PivrexError(f"the emulated {board.chip} stopped after {len(ran) // each} ticks")
    heads = [struct.unpack_from("<II", ran, k * each) for k in range(len(ticks.rows))]
    made = np.array([row.unpacked(ran[k * each + 8 : (k + 1) * each], ticks.rows.shape[1]) for k in range(len(heads))])
    same = (made == floats) | np.isnan(made) & np.isnan(floats)
    cycles = np.array([h[0] for h in heads]) / board.clock_Hz * 1e6
    left = min(h[1] for h in heads)
    return OnChip(
        board.chip, len(heads), int((~same).any(axis=1).sum()), float(cycles.mean()), float(cycles.max()),
        flash, ram, chip.ram - ram - left,
    )  # fmt: skip
