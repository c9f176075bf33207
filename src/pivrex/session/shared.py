"""Shared memory between the session and the screen: a ring of Ticks one way, two heartbeats the other."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass
from multiprocessing.shared_memory import SharedMemory

import numpy as np
from numpy.typing import NDArray

from pivrex.session.ring_size import EXTRA, HEADER, NUMBERS, SLOTS

__all__ = ["Ring", "Row"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Row:
    """A Tick with how it came about.

    Attributes
    ----------
    serial : int
        Of the rig that made it.
    run : int
        Counts how often the robot was put back before it.
    late_s, work_s : float
        How late the tick began, and how long it took.
    values : (K,) float64
    """

    serial: int
    run: int
    late_s: float
    work_s: float
    values: Floats


class Ring:
    """One writer of rows of any width, any reader. A reader that is overtaken while it copies drops what was overwritten.

    Rows stand behind each other in a circle of numbers. For each, a table tells how many numbers had been written before
    it, and how wide it is. The writer says how far it will write before it does, so a reader knows what may be half new.
    """

    def __init__(self, memory: SharedMemory) -> None:
        self._memory = memory
        self._head = np.ndarray((HEADER,), np.int64, memory.buf)
        self._table = np.ndarray((SLOTS, 2), np.int64, memory.buf, offset=HEADER * 8)
        self._numbers = np.ndarray((NUMBERS,), np.float64, memory.buf, offset=(HEADER + 2 * SLOTS) * 8)

    @classmethod
    def attach(cls, name: str) -> Ring:
        """Use one that another process made. Its name goes at once, so that nothing stays behind whoever is killed."""
        memory = SharedMemory(name)
        with contextlib.suppress(OSError):
            memory.unlink()
        return cls(memory)

    @property
    def name(self) -> str:
        """The name by which another process attaches."""
        return self._memory.name

    @property
    def written(self) -> int:
        """How many rows have been written."""
        return int(self._head[0])

    @property
    def skipped(self) -> int:
        """How many ticks were skipped."""
        return int(self._head[2])

    def set_skipped(self, count: int) -> None:
        """Tell how many ticks were skipped."""
        self._head[2] = count

    def beat(self) -> None:
        """Report that the screen handles keys."""
        self._head[1] += 1

    @property
    def beats(self) -> int:
        """How often the screen has said that it handles keys."""
        return int(self._head[1])

    def live(self) -> None:
        """Report that the screen's process lives."""
        self._head[4] += 1

    @property
    def lives(self) -> int:
        """How often the screen's process has said that it lives."""
        return int(self._head[4])

    def write(self, row: Row) -> None:
        """Add a row; the count goes up only when it is whole. Raises `ValueError` if it is wider than the ring."""
        count, start, width = int(self._head[0]), int(self._head[3]), EXTRA + len(row.values)
        if width > NUMBERS:
            raise ValueError(f"a tick of {len(row.values)} numbers is wider than the ring")
        if start % NUMBERS + width > NUMBERS:
            start += NUMBERS - start % NUMBERS  # a row lies in one piece
        self._head[3] = start + width
        at = start % NUMBERS
        self._numbers[at : at + EXTRA] = row.serial, row.run, row.late_s, row.work_s
        self._numbers[at + EXTRA : at + width] = row.values
        self._table[count % SLOTS] = start, width
        self._head[0] = count + 1

    def since(self, count: int) -> tuple[int, list[Row]]:
        """Return the count now and the rows after ``count``, oldest first, at most what the ring still holds."""
        now = int(self._head[0])
        first = max(count, now - SLOTS + 1)
        copies = []
        for i in range(first, now):
            start, width = self._table[i % SLOTS].tolist()
            at = start % NUMBERS
            copies.append((i, start, self._numbers[at : at + width].copy()))
        # rows that the writer has reached meanwhile may be half new
        oldest, written = int(self._head[0]) - SLOTS + 1, int(self._head[3])
        rows = [
            Row(int(row[0]), int(row[1]), float(row[2]), float(row[3]), row[EXTRA:])
            for i, start, row in copies
            if i >= oldest and written - start <= NUMBERS
        ]
        return now, rows

    def close(self, unlink: bool = False) -> None:
        """Let it go; ``unlink`` takes it away for all."""
        del self._head, self._table, self._numbers
        self._memory.close()
        if unlink:
            with contextlib.suppress(OSError):  # it is gone as soon as the other process has it
                self._memory.unlink()
