"""Builds the line and the simulated robot of a changed rig in the background, because this takes longer than a tick."""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import NamedTuple, Protocol

import numpy as np

from pivrex.board.steps import Task
from pivrex.line.beginning import start_of
from pivrex.line.layout import Floats
from pivrex.line.line import Line
from pivrex.rig import Field, Rig
from pivrex.sim.model import AnySimulator
from pivrex.sim.sampled import Sampled, sampled, simulator_under
from pivrex.sim.wiring import Wiring, faulty

__all__ = ["AtOnce", "Background", "Builder", "Built", "Wired", "build"]


class Built(NamedTuple):
    """The result for a rig: its line, its simulated robot with its deviations, and the commands for rest; ``serial`` marks its rows."""

    line: Line
    model: AnySimulator
    found: Sampled
    neutral: Floats
    serial: int
    at: Floats
    """Where robots are put onto the floor, (3,)."""
    task: Task | None = None
    """The routine of a board that drives by itself."""


def build(
    rig: Rig, field: Field | None, wiring: Wiring | None, serial: int, seed: int = 0, task: Task | None = None
) -> Built:
    """Make a rig's line and simulated robot, and let each make a tick: what is loaded or computed once is then behind them.

    ``seed`` draws how the simulated robot differs from the rig, see `pivrex.sim.sampled`.
    """
    line, found = Line(rig), sampled(rig, np.array(seed, np.uint64))
    model = simulator_under(rig, field, found, wiring)
    start = model.start()
    _, row = line.step(line.start(), line.rest(), model.sense(start), 0.0, truth=model.truth(start))
    model.step(start, line.commands(row), line.dt_s)
    return Built(line, model, found, line.resting(), serial, start_of(field), task)


class Wired:
    """The faults of a simulated robot's wiring, to practise on. They stay while its rig is corrected, and go with it.

    Parameters
    ----------
    rig : Rig
    name : str
        Its file's name.
    words : str
        See `pivrex.sim.wiring.faulty`; empty for none.
    seed : int
    """

    def __init__(self, rig: Rig, name: str, words: str, seed: int) -> None:
        self._name, self._seed = name, seed
        self.wiring: Wiring | None = None
        self.be(rig, words)

    def be(self, rig: Rig, words: str) -> None:
        """Have these faults now."""
        self.wiring = faulty(rig, words, self._seed) if words else None

    def open(self, name: str) -> None:
        """Go on with the rig of a file: another robot has plugs of its own."""
        if name and name != self._name:
            self._name, self.wiring = name, None


class Builder(Protocol):
    """Does one piece of work after another; of those that wait only the newest counts."""

    def ask(self, work: Callable[[], Built]) -> None:
        """Do this."""
        ...

    def take(self) -> Built | None:
        """Return what has been made since the last call, once; None if nothing has. Raises what went wrong."""
        ...


class AtOnce:
    """Works where it is asked: for whoever may wait."""

    def __init__(self) -> None:
        self._built: Built | None = None

    def ask(self, work: Callable[[], Built]) -> None:
        self._built = work()

    def take(self) -> Built | None:
        built, self._built = self._built, None
        return built


class Background:
    """Works in a thread of its own."""

    def __init__(self) -> None:
        self._change = threading.Condition()
        self._waiting: Callable[[], Built] | None = None
        self._made: Built | Exception | None = None
        threading.Thread(target=self._work, daemon=True, name="builder").start()

    def ask(self, work: Callable[[], Built]) -> None:
        with self._change:
            self._waiting = work
            self._change.notify()

    def take(self) -> Built | None:
        with self._change:
            made, self._made = self._made, None
        if isinstance(made, Exception):
            raise made
        return made

    def _work(self) -> None:
        while True:
            with self._change:
                self._change.wait_for(lambda: self._waiting is not None)
                work, self._waiting = self._waiting, None
            assert work is not None
            made: Built | Exception
            try:
                made = work()
            except Exception as problem:
                made = problem
            with self._change:
                self._made = made
