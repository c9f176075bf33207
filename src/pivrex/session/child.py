"""The first that the session's process runs: little, so that whoever starts it need load no more."""

from __future__ import annotations

import gc
from multiprocessing.connection import Connection

__all__ = ["RING_BYTES", "be_the_session"]

HEADER = 8
"""Whole numbers at the head of the ring."""

SLOTS = 2048
"""Ticks that the ring holds at most: 34 s at 60 Hz. A screen that sleeps longer misses some."""

EXTRA = 4
"""Numbers before each Tick."""

NUMBERS = SLOTS * 256
"""Numbers that the ring holds. Ticks are as wide as the rig's layout makes them; of wide ones it holds fewer."""

RING_BYTES = (HEADER + 2 * SLOTS + NUMBERS) * 8


def be_the_session(wire: Connection, ring_name: str) -> None:
    """Be the session until the screen hangs up."""
    gc.disable()  # until start-up is over, see `process`
    from pivrex.session.process import run

    run(wire, ring_name)
