"""What settings are worth, simulated in a process of its own: it takes seconds, and no frame may wait for it."""

from __future__ import annotations

from collections.abc import Mapping
from multiprocessing.connection import Connection
from typing import Protocol

from pivrex.rig import Rig
from pivrex.tui.jobs.worker import WorkerProcess
from pivrex.tuning.setting_trials import Compared, compare_cosine, compare_lead, compare_straight

__all__ = ["Beside", "Comparing", "Worth", "compare"]

Compares = Mapping[str, Compared | None]

STANDS = 15
"""Frames for which a rig must have stood as it is: while one is dragged there is no use in comparing."""


def compare(rig: Rig) -> dict[str, Compared | None]:
    """Compare each of a rig's settings that straighten its way, on and off."""
    return {"straight": compare_straight(rig), "lead": compare_lead(rig), "cosine": compare_cosine(rig)}


class Comparing(Protocol):
    """A comparison that goes on somewhere."""

    def take(self) -> Compares | None:
        """Give what came of it; None while it goes on, nothing at all if it failed."""
        ...

    def stop(self) -> None:
        """Give it up."""
        ...


class Beside:
    """A comparison in a process of its own, which ends with it. One whose parent has been killed ends by itself."""

    def __init__(self, rig: Rig) -> None:
        self._worker = WorkerProcess("pivrex-compare", _compare, rig)

    def take(self) -> Compares | None:
        if self._worker.wire.poll():
            try:
                found: Compares = self._worker.wire.recv()
            except (EOFError, OSError):
                found = {}
            self.stop()
            return found
        return None

    def stop(self) -> None:
        self._worker.close()


def _compare(wire: Connection, rig: Rig) -> None:
    wire.send(compare(rig))


class Worth:
    """Comparisons of the rig in use, one at a time.

    Attributes
    ----------
    of_rig : mapping
        What is known of the rig in use; empty until it has been compared.
    begin : callable
        Begins a comparison.
    """

    begin: type[Comparing] = Beside

    def __init__(self) -> None:
        self._serial = -1
        self._stood = 0
        self._work: Comparing | None = None
        self.of_rig: Compares = {}

    def update(self, rig: Rig, serial: int) -> None:
        """Once a frame: ask for what is not known yet, and take what is."""
        if serial != self._serial or rig.law.kind != "planar":
            self.close()
            self._serial, self._stood, self.of_rig = serial, 0, {}
            if rig.law.kind != "planar":
                return
        self._stood += 1
        if self._stood == STANDS:
            self._work = self.begin(rig)  # type: ignore[call-arg]
        if self._work is not None and (found := self._work.take()) is not None:
            self._work, self.of_rig = None, found

    def close(self) -> None:
        """Give up what goes on."""
        if self._work is not None:
            self._work.stop()
            self._work = None
