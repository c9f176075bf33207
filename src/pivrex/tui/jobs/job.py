"""One job: questions to a background process, its progress, and the last answer, which stays."""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import threading
from collections.abc import Callable
from multiprocessing.connection import Connection
from queue import SimpleQueue
from typing import Any, Generic, TypeVar

from pivrex.errors import PivrexError

__all__ = ["Job", "Progress", "serve"]

Q = TypeVar("Q")
A = TypeVar("A")

Key = tuple[int, object]
"""How soon a question is answered (the smallest number first), and its kind."""

TELLS = 0.02
"""Progress of less than this is not worth a message."""


def _one_kind(_question: object) -> Key:
    return 0, ""


class Progress:
    """Reports the progress of work: call it with a fraction from 0 to 1, and words. It returns whether to go on."""

    def __init__(self, tell: Callable[[float, str], None], newer: Callable[[], bool]) -> None:
        self._tell, self.newer = tell, newer
        self._told = (-1.0, "")

    def __call__(self, share: float, said: str = "") -> bool:
        if share > self._told[0] + TELLS or said != self._told[1]:
            self._told = (share, said)
            self._tell(share, said)
        return not self.newer()


class Job(Generic[Q, A]):
    """Work in a process of its own, so that no frame waits for it. The process begins with the first question and ends with
    its parent. Of questions of one kind the newest wins: what was asked before is not answered.

    Parameters
    ----------
    name : str
        How the process is called.
    work : callable
        A module's function that takes a question and a `Progress` and gives the answer, or None where it gave up for something
        newer. A `PivrexError` becomes the `problem`. Where it has to remember something: a class whose objects do that, made
        in the process with ``args``.
    args : objects
    key : callable
        Returns the `Key` of a question; without it all are of one kind.
    patient : bool
        Whether a new question waits for the one that is answered, because that is soon done or gives up by itself. If not,
        the process is killed for it, and ends after each answer.
    nice : int
        How much it stands back behind the interface, where the system knows of that.

    Attributes
    ----------
    question : Q or None
        What was asked last.
    answer : A or None
        The last one; it stays while another is awaited. ``answered`` is the question that it answers.
    share, said : float, str
        How far the question is, from 0 to 1 and in words.
    problem : str
        Why the question `refused` has no answer; empty while it may still have one.
    """

    def __init__(
        self,
        name: str,
        work: Callable[..., Any],
        *args: object,
        key: Callable[[Q], Key] = _one_kind,
        patient: bool = True,
        nice: int = 10,
    ) -> None:
        self._name, self._work, self._args, self._key, self._patient, self._nice = name, work, args, key, patient, nice
        self._process: multiprocessing.process.BaseProcess | None = None
        self._wire: Connection | None = None
        self._waiting: dict[Key, tuple[int, Q]] = {}
        self._count = 0
        self.question: Q | None = None
        self.answered: Q | None = None
        self.refused: Q | None = None
        self.answer: A | None = None
        self.share, self.said, self.problem = 0.0, "", ""

    @property
    def goes_on(self) -> bool:
        """Whether an answer is awaited."""
        return bool(self._waiting)

    def awaits(self, kind: object) -> bool:
        """Return whether an answer of a kind is awaited."""
        return any(key[1] == kind for key in self._waiting)

    def ask(self, question: Q) -> None:
        """Ask, unless just that is being answered."""
        key = self._key(question)
        if key in self._waiting and self._waiting[key][1] == question:
            return
        if not self._patient:
            self.stop()
        self._count += 1
        self._waiting[key] = (self._count, question)
        self.question, self.share, self.said, self.problem = question, 0.0, "", ""
        if self._wire is None:
            self._begin()
        assert self._wire is not None
        try:
            self._wire.send((self._count, key, question))
        except (OSError, ValueError):
            self._died()

    def poll(self) -> list[tuple[Q, A]]:
        """Take what has come; returns the questions that were answered, with their answers."""
        answered: list[tuple[Q, A]] = []
        try:
            while self._wire is not None and self._wire.poll():
                word, number, what = self._wire.recv()
                self._take(word, number, what, answered)
        except (EOFError, OSError):
            self._died()
        if not self._patient and not self._waiting:
            self.stop()
        return answered

    def _take(self, word: str, number: int, what: Any, answered: list[tuple[Q, A]]) -> None:
        key = next((k for k, (n, _) in self._waiting.items() if n == number), None)
        if key is None:
            return  # something newer of its kind was asked meanwhile
        if word == "progress":
            self.share, self.said = what
            return
        _, question = self._waiting.pop(key)
        if word == "refused":
            self.refused, self.problem = question, what
        else:
            self.answered, self.answer = question, what
            answered.append((question, what))

    def _died(self) -> None:
        awaited = bool(self._waiting)
        self.stop()
        if awaited:
            self.refused = self.question
            self.problem = f"{self._name.removeprefix('pivrex-')}: the process ended without an answer"

    def stop(self) -> None:
        """Give up what is asked: the process is killed. The last answer stays."""
        self._waiting.clear()
        self._end()

    close = stop

    def forget(self) -> None:
        """Give up what is asked, and the last answer too."""
        self.stop()
        self.question = self.answered = self.answer = None
        self.problem = ""

    # --- the process ---

    def _begin(self) -> None:
        context = multiprocessing.get_context("spawn")
        self._wire, theirs = context.Pipe()
        args = (self._nice, theirs, self._work, self._args)
        self._process = context.Process(target=_in_process, args=args, daemon=True, name=self._name)
        self._process.start()
        theirs.close()

    def _end(self) -> None:
        process, wire, self._process, self._wire = self._process, self._wire, None, None
        if process is not None:
            with contextlib.suppress(OSError, ValueError):
                process.kill()
                process.join(1)
        if wire is not None:
            wire.close()


def _in_process(nice: int, wire: Connection, work: Callable[..., Any], args: tuple[object, ...]) -> None:
    if hasattr(os, "nice"):
        os.nice(nice)
    with contextlib.suppress(OSError, KeyboardInterrupt):
        serve(wire, work, args, lambda: os._exit(0))


def serve(wire: Connection, work: Callable[..., Any], args: tuple[object, ...], ended: Callable[[], None]) -> None:
    """Answer the questions on a wire until it is closed; then call ``ended``, whatever work is running."""
    inbox = _Inbox(wire, ended)
    worker = work(*args) if isinstance(work, type) else work
    while inbox.hear():
        kind = min(inbox.waiting, key=lambda k: k[0])
        number, question = inbox.waiting.pop(kind)

        def tell(share: float, said: str, of: int = number) -> None:
            wire.send(("progress", of, (share, said)))

        try:
            answer = worker(question, Progress(tell, lambda kind=kind: inbox.newer(kind)))  # type: ignore[misc]
        except PivrexError as problem:
            wire.send(("refused", number, str(problem)))
        else:
            if answer is not None:
                wire.send(("answered", number, answer))


class _Inbox:
    """The waiting questions, by their kind; a thread of its own takes them from the wire."""

    def __init__(self, wire: Connection, ended: Callable[[], None]) -> None:
        self.waiting: dict[Key, tuple[int, Any]] = {}
        self._heard: SimpleQueue[tuple[int, Key, Any] | None] = SimpleQueue()
        threading.Thread(target=self._listen, args=(wire, ended), daemon=True, name="questions").start()

    def _listen(self, wire: Connection, ended: Callable[[], None]) -> None:
        with contextlib.suppress(EOFError, OSError):
            while True:
                self._heard.put(wire.recv())
        self._heard.put(None)
        ended()

    def hear(self) -> bool:
        """Take what was asked, waiting for something where nothing is; returns whether there will be more."""
        while not self.waiting or not self._heard.empty():
            came = self._heard.get()
            if came is None:
                return False
            number, key, question = came
            self.waiting[key] = (number, question)
        return True

    def newer(self, kind: Key) -> bool:
        """Return whether something newer of a kind was asked, or no one waits for an answer any more."""
        return kind in self.waiting or (not self._heard.empty() and (not self.hear() or kind in self.waiting))
