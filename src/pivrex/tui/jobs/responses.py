"""Answers are reckoned in a process of its own, so that no frame waits for them; only what was asked for last counts."""

from __future__ import annotations

from multiprocessing.connection import Connection
from typing import NamedTuple, Protocol

import numpy as np

from pivrex.rig import Rig
from pivrex.tui.jobs.worker import WorkerProcess
from pivrex.tuning import Answers, Bench, Experiment, Gains, loop_named

__all__ = ["AtOnce", "Beside", "Question", "Reckoning"]


MOST_KNOWN = 64


class Question(NamedTuple):
    """What some gain sets of a loop answer to an experiment."""

    rig: Rig
    loop: str
    experiment: Experiment
    sets: tuple[Gains, ...]

    @property
    def setting(self) -> tuple[Rig, str, Experiment]:
        """All but the gains."""
        return loop_named(self.loop).without_gains(self.rig), self.loop, self.experiment


class Memory:
    """Answers that are known: a nudged gain changes one gain set of several."""

    def __init__(self) -> None:
        self._setting: tuple[Rig, str, Experiment] | None = None
        self._known: dict[Gains, Answers] = {}

    def answered(self, question: Question) -> Answers:
        """Give the answers, reckoning those that are not known."""
        if question.setting != self._setting:
            self._setting, self._known = question.setting, {}
        new = [g for g in question.sets if g not in self._known]
        if new:
            bench = Bench(question.rig, loop_named(question.loop))
            for gains in new:
                self._known[gains] = bench.run(question.experiment, gains, np.array(0, np.uint64))
        if len(self._known) > MOST_KNOWN:
            self._known = {g: self._known[g] for g in question.sets}
        return Answers.of([self._known[g] for g in question.sets])


class Reckoning(Protocol):
    """Something that answers questions."""

    def ask(self, question: Question) -> None:
        """Ask; what was asked before counts no more."""
        ...

    def take(self) -> tuple[Question, Answers] | None:
        """Give what has been answered since the last call; None if nothing has."""
        ...

    def close(self) -> None:
        """Let go of what works."""
        ...


class AtOnce:
    """Answers where it is asked: for whoever may wait."""

    def __init__(self) -> None:
        self._found: tuple[Question, Answers] | None = None
        self._memory = Memory()

    def ask(self, question: Question) -> None:
        self._found = question, self._memory.answered(question)

    def take(self) -> tuple[Question, Answers] | None:
        found, self._found = self._found, None
        return found

    def close(self) -> None:
        self._found = None


class Beside:
    """Answers in a process of its own, begun with the first question and kept; it ends with its parent."""

    def __init__(self) -> None:
        self._worker: WorkerProcess | None = None
        self._busy = False
        self._waiting: Question | None = None

    def ask(self, question: Question) -> None:
        self._waiting = question
        self._go_on()

    def _go_on(self) -> None:
        if self._busy or self._waiting is None:
            return
        if self._worker is None:
            self._worker = WorkerProcess("pivrex-answers", _answer, nice=5)
        question, self._waiting = self._waiting, None
        try:
            self._worker.wire.send(question)
            self._busy = True
        except (OSError, ValueError):
            self.close()

    def take(self) -> tuple[Question, Answers] | None:
        if self._worker is None or not self._busy:
            return None
        found: tuple[Question, Answers] | None = None
        try:
            if not self._worker.wire.poll():
                return None
            found = self._worker.wire.recv()
        except (EOFError, OSError):
            self.close()
        self._busy = False
        self._go_on()
        return found

    def close(self) -> None:
        worker, self._worker = self._worker, None
        self._busy, self._waiting = False, None
        if worker is not None:
            worker.close()


def _answer(wire: Connection) -> None:
    memory = Memory()
    while True:
        question = wire.recv()
        wire.send((question, memory.answered(question)))
