"""The first code of the session's process. It loads little, so that its parent need not load more."""

from __future__ import annotations

import gc
from multiprocessing.connection import Connection

__all__ = ["be_the_session"]


def be_the_session(wire: Connection, ring_name: str) -> None:
    """Be the session until the screen closes the connection."""
    gc.disable()  # until start-up is over, see `process`
    from pivrex.session.process import run

    run(wire, ring_name)
