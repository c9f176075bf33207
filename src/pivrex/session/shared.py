"""Shared memory between the session and the screen: a ring of Ticks one way, a heartbeat the other."""

from __future__ import annotations

from dataclasses import dataclass
from multiprocessing.shared_memory import SharedMemory

import numpy as np
from numpy.typing import NDArray

from pivrex.session.child import EXTRA, HEADER, SLOTS, WIDEST

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
    """One writer of rows, any reader. A reader that is overtaken while it copies drops what was overwritten."""

    def __init__(self, memory: SharedMemory) -> None:
        self._memory = memory
        self._head = np.ndarray((HEADER,), np.int64, memory.buf)
        self._slots = np.ndarray((SLOTS, EXTRA + WIDEST), np.float64, memory.buf, offset=HEADER * 8)

    @classmethod
    def attach(cls, name: str) -> Ring:
        """Use one that another process made."""
        return cls(SharedMemory(name))

    @property
    def name(self) -> str:
        """What another process attaches by."""
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
        """The screen is alive."""
        self._head[1] += 1

    @property
    def beats(self) -> int:
        """How often the screen has said so."""
        return int(self._head[1])

    def write(self, row: Row) -> None:
        """Add a row; the count goes up only when it is whole."""
        count = int(self._head[0])
        slot = self._slots[count % SLOTS]
        width = len(row.values)
        slot[:EXTRA] = row.serial, row.run, row.late_s, row.work_s, width
        slot[EXTRA : EXTRA + width] = row.values
        self._head[0] = count + 1

    def since(self, count: int) -> tuple[int, list[Row]]:
        """Give the count now and the rows after ``count``, oldest first, at most what the ring still holds."""
        now = int(self._head[0])
        first = max(count, now - SLOTS + 1)
        copies = [self._slots[i % SLOTS].copy() for i in range(first, now)]
        # what the writer has reached meanwhile may be half new
        safe = int(self._head[0]) - SLOTS + 1
        rows = []
        for i, slot in enumerate(copies, first):
            if i >= safe:
                width = int(slot[4])
                rows.append(Row(int(slot[0]), int(slot[1]), slot[2], slot[3], slot[EXTRA : EXTRA + width]))
        return now, rows

    def close(self, unlink: bool = False) -> None:
        """Let it go; ``unlink`` takes it away for all."""
        del self._head, self._slots
        self._memory.close()
        if unlink:
            self._memory.unlink()
