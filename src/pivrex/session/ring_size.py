"""The size of the shared memory between session and screen, in a file of its own so that its creator loads nothing else."""

from __future__ import annotations

__all__ = ["EXTRA", "HEADER", "NUMBERS", "RING_BYTES", "SLOTS"]

HEADER = 8
"""Whole numbers at the head of the ring."""

SLOTS = 2048
"""Ticks that the ring holds at most: 34 s at 60 Hz. A screen that sleeps longer misses some."""

EXTRA = 4
"""Numbers before each Tick."""

NUMBERS = SLOTS * 256
"""Numbers that the ring holds. Ticks are as wide as the rig's layout makes them; of wide ones it holds fewer."""

RING_BYTES = (HEADER + 2 * SLOTS + NUMBERS) * 8
