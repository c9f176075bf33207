"""The first that the session's process runs: little, so that whoever starts it need load no more."""

from __future__ import annotations

import gc
from multiprocessing.connection import Connection

__all__ = ["RING_BYTES", "be_the_session"]

HEADER = 8
"""Whole numbers at the head of the ring."""

SLOTS = 2048
"""Ticks that the ring holds: 34 s at 60 Hz. A screen that sleeps longer misses some."""

WIDEST = 250
"""The most columns a Tick may have."""

EXTRA = 5
"""Numbers in a slot before the Tick."""

RING_BYTES = (HEADER + SLOTS * (EXTRA + WIDEST)) * 8


def be_the_session(wire: Connection, ring_name: str) -> None:
    """Be the session until the screen hangs up."""
    gc.disable()  # until start-up is over, see `process`
    from pivrex.session.process import run

    run(wire, ring_name)
