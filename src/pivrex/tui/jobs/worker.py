"""A process for what takes too long to be reckoned between two frames. It ends with its parent, or when it is closed."""

from __future__ import annotations

import contextlib
import multiprocessing
import os
from collections.abc import Callable
from multiprocessing.connection import Connection

__all__ = ["WorkerProcess"]


class WorkerProcess:
    """A function in a process of its own, and the wire to it; what drives and what is drawn comes first.

    Parameters
    ----------
    name : str
        How the process is called.
    work : callable
        A function of a module, which takes the other end of the wire, then `args`. That the wire is closed ends it.
    args : objects
        What it takes; they are pickled.
    nice : int
        How much it stands back behind the interface, where the system knows of that.

    Attributes
    ----------
    wire : Connection
        This end of the wire. Once closed it raises OSError.
    """

    def __init__(self, name: str, work: Callable[..., None], *args: object, nice: int = 10) -> None:
        context = multiprocessing.get_context("spawn")
        self.wire, theirs = context.Pipe()
        self._process = context.Process(target=_begin, args=(nice, work, theirs, *args), daemon=True, name=name)
        self._process.start()
        theirs.close()

    def close(self) -> None:
        """Kill the process, whatever it does, and close the wire. Closing twice does no harm."""
        with contextlib.suppress(OSError, ValueError):
            self._process.kill()
            self._process.join(1)
        self.wire.close()


def _begin(nice: int, work: Callable[..., None], wire: Connection, *args: object) -> None:
    if hasattr(os, "nice"):
        os.nice(nice)
    with contextlib.suppress(EOFError, OSError, KeyboardInterrupt):
        work(wire, *args)
