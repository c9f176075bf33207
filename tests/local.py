"""A session and its background work in this process, for tests of the screen that must not depend on time."""

from __future__ import annotations

import contextlib
import multiprocessing
import pickle
import threading
from collections.abc import Callable
from contextlib import AbstractContextManager, ExitStack
from pathlib import Path
from typing import Any
from unittest import mock

from pivrex.errors import PivrexError
from pivrex.rig import open_folder
from pivrex.session.core import Session
from pivrex.session.keeping import Keeping
from pivrex.session.messages import Request, SetUp
from pivrex.session.report import Report
from pivrex.session.shared import Row
from pivrex.session.status import Status
from pivrex.tui.jobs.job import Job, Progress, serve
from pivrex.tui.jobs.previews import Place, Seen, ToPlay
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.panel import Panel, Rect, View


class LocalClient:
    """Like a `SessionClient`, but every look at its rows makes a few ticks."""

    ticks = 3
    keeps = False
    """Whether runs are kept, as a session's process does."""

    def __init__(self) -> None:
        self.session: Session | None = None
        self.status = Status()
        self.now = 0.0
        self.alive = True
        self.skipped = 0
        self.asked: list[Request] = []
        self.keeping: Keeping | None = None

    def set_up(self, setup: SetUp) -> None:
        self.session = Session(setup)
        if self.keeps:
            self.keeping = Keeping(setup, self.session, self.session.board.note, self.session.board.set)

    def beat(self) -> None:
        pass

    def send(self, request: Request) -> None:
        assert self.session is not None
        self.asked.append(request)
        if self.keeping is not None:
            self.keeping.take(request)
        self.session.handle(request, self.now)

    def poll(self) -> bool:
        assert self.session is not None
        changed = self.session.status is not self.status
        self.status = self.session.status
        return changed

    def rows(self) -> list[Row]:
        assert self.session is not None
        rows = []
        for _ in range(self.ticks):
            self.now += self.session.dt_s
            values = self.session.tick(self.now)
            if self.keeping is not None:
                self.keeping.add(values)
            rows.append(Row(self.session.status.serial, self.session.status.runs, 0.001, 0.0002, values))
        return rows

    @property
    def report(self) -> Report | None:
        return self.session.report if self.session is not None else None

    def close(self) -> None:
        if self.session is not None:
            self.session.close(self.now)
        if self.keeping is not None:
            self.keeping.close()


def local_model(home: Path, source: str = "keys") -> ScreenModel:
    """Open a workspace with a session in this process."""
    folder = open_folder(home)
    model = ScreenModel(folder, folder.first_rig(), LocalClient())  # type: ignore[arg-type]
    model.open_session(source, listen_for_pads=False, gamepads=False)
    return model


def where(view: View, panel: Panel) -> Rect:
    """Return where a panel of a view stood when it was drawn last."""
    return next(at for one, at in view._stand if one is panel)


def work_in_threads() -> AbstractContextManager[object]:
    """Have each `Job` work in a thread of this process: the pilot's terminal has no files that a process could inherit."""

    def begin(job: Job[Any, Any]) -> None:
        job._wire, theirs = multiprocessing.Pipe()

        def run() -> None:
            with contextlib.suppress(OSError):
                serve(theirs, job._work, job._args, lambda: None)

        threading.Thread(target=run, daemon=True, name=job._name).start()

    return mock.patch.object(Job, "_begin", begin)


ALONE = Progress(lambda _share, _said: None, lambda: False)
"""Of work to which no one listens."""

_KNOWN: dict[bytes, Any] = {}


def answered(name: str, known: Callable[[Any], object] | None = None, never: bool = False) -> ExitStack:
    """Have the jobs of a name answer where they are asked, or ``never``.

    ``known`` gives what of a question its answer depends on: an answer that was given before in this process is taken then.
    """
    ask, poll = Job.ask, Job.poll

    def at_once(job: Job[Any, Any], question: Any) -> None:
        if job._name != name:
            ask(job, question)
        elif not never:
            job.question, job.problem = question, ""
            key = pickle.dumps((name, known(question))) if known is not None else b""
            if not known or key not in _KNOWN:
                worker = job.__dict__.setdefault(
                    "worker", job._work(*job._args) if isinstance(job._work, type) else job._work
                )
                try:
                    _KNOWN[key] = worker(question, ALONE)
                except PivrexError as problem:
                    job.refused, job.problem = question, str(problem)
                    return
            job.__dict__.setdefault("came", []).append((question, _KNOWN[key]))

    def taken(job: Job[Any, Any]) -> list[tuple[Any, Any]]:
        if job._name != name:
            return poll(job)
        came = job.__dict__.pop("came", [])
        for job.answered, job.answer in came:
            pass
        return came

    stack = ExitStack()
    stack.enter_context(mock.patch.object(Job, "ask", at_once))
    stack.enter_context(mock.patch.object(Job, "poll", taken))
    return stack


def previews_at_once() -> ExitStack:
    """Have previews answered at once; of one routine and rig all have the same answer but for its number."""

    def known(asked: ToPlay | Place) -> object:
        place = asked if isinstance(asked, Place) else None
        whole = asked.job if isinstance(asked, Place) else asked
        return place and place.line, whole._replace(serial=0)

    stack = answered("pivrex-preview", known)
    poll = Job.poll

    def numbered(job: Job[Any, Any]) -> list[tuple[Any, Any]]:
        return [(q, a._replace(serial=q.serial) if isinstance(a, Seen) else a) for q, a in poll(job)]

    stack.enter_context(mock.patch.object(Job, "poll", numbered))
    return stack
