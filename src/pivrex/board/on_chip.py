"""The line on the chip itself: emulated, tick by tick, with its time, its flash and its memory."""

from __future__ import annotations

import struct
import subprocess
from dataclasses import asdict, dataclass
from math import prod
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
from numpy.typing import NDArray

from pivrex.board.avr import FLAGS
from pivrex.board.chips import CHIPS
from pivrex.board.emulated import built_emulator, run_avr, symbols_of
from pivrex.board.line_parts import LineParts, line_parts
from pivrex.board.printing import structures
from pivrex.board.proving import Ticks
from pivrex.errors import PivrexError
from pivrex.line.line import Line

__all__ = ["SEALED_STACK", "STACK", "OnChip", "run_on_chip", "sizes_of"]

STACK, SEALED_STACK = 200, 450
"""Bytes of memory that the stack of a program that obeys needs; with a key. The deepest that were measured are 125 and 405."""

SIZES = {"f": ("f", 4), "i": ("h", 2), "b": ("B", 1)}


@dataclass(frozen=True)
class OnChip:
    """What a chip made of ticks.

    Attributes
    ----------
    chip : str
    ticks, differ : int
        Ticks, and those of them with an output that differs from what float C gives.
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
    parts, board = line_parts(line), line.rig.board
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
        row, kept = _Packed(parts, "row"), _Packed(parts, "kept")
        words = [
            str(folder / "line.elf"), board.chip, f"{board.clock_Hz:.0f}", "memory", str(at["due"]), str(at["_end"]),
            f"in:{at['row']}:{row.size}", f"in:{at['kept']}:{kept.size}", f"out:{at['row']}:{row.size}",
        ]  # fmt: skip
        sent = b"".join(
            row.packed(r, True) + kept.packed(m, False) for r, m in zip(ticks.rows, ticks.memories, strict=True)
        )
        emulator = built_emulator(folder)
        ran = subprocess.run([str(emulator), *words], input=sent, capture_output=True, check=False).stdout
    each = 8 + row.size
    if len(ran) != each * len(ticks.rows):
        raise PivrexError(f"the emulated {board.chip} stopped after {len(ran) // each} ticks")
    heads = [struct.unpack_from("<II", ran, k * each) for k in range(len(ticks.rows))]
    told = line.outputs.told
    made = np.array(
        [row.unpacked(ran[k * each + 8 : (k + 1) * each], ticks.rows.shape[1])[told] for k in range(len(heads))]
    )
    whole = (line.outputs.settings.is_whole != 0) | (line.outputs.settings.level != 0)
    near = np.where(
        np.append(whole, np.ones(made.shape[1] - len(whole), bool)), 0.0, 1e-5 * (1 + np.abs(floats[:, told]))
    )
    cycles = np.array([h[0] for h in heads]) / board.clock_Hz * 1e6
    left = min(h[1] for h in heads)
    return OnChip(
        board.chip, len(heads), int((np.abs(made - floats[:, told]) > near).any(axis=1).sum()), float(cycles.mean()), float(cycles.max()),
        flash, ram, chip.ram - ram - left,
    )  # fmt: skip


class _Packed:
    """How a struct of the line stands in the chip's memory: one number after the other."""

    def __init__(self, parts: LineParts, root: str) -> None:
        self.fields = [g for own in structures(parts.program, root).values() for g in own]
        self.size = sum(max(1, prod(g.shape)) * SIZES[g.kind][1] for g in self.fields)

    def packed(self, numbers: NDArray[np.float64], is_row: bool) -> bytes:
        made = b""
        for g in self.fields:
            many = max(1, prod(g.shape))
            given = not is_row or g.name.split(".")[1] in ("clock", "sensed", "raw")
            values = numbers[g.at : g.at + many].tolist() if given and 0 not in g.shape else [0.0] * many
            code = SIZES[g.kind][0]
            made += struct.pack(f"<{many}{code}", *(v if code == "f" else int(v) for v in map(_in_float, values)))
        return made

    def unpacked(self, data: bytes, width: int) -> NDArray[np.float64]:
        found, at = np.full(width, np.nan), 0
        for g in self.fields:
            code, size = SIZES[g.kind]
            many = max(1, prod(g.shape))
            if 0 not in g.shape:
                found[g.at : g.at + many] = struct.unpack_from(f"<{many}{code}", data, at)
            at += many * size
        return found


def _in_float(value: float) -> float:
    return float(np.float32(value))
