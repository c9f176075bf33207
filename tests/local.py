"""A session and its background work in this process, for tests of the screen that must not depend on time."""

from __future__ import annotations

import contextlib
import multiprocessing
import pickle
import threading
from collections.abc import Callable
from contextlib import AbstractContextManager
from pathlib import Path
from typing import ClassVar
from unittest import mock

from pivrex.rig import open_folder
from pivrex.session.core import Session
from pivrex.session.keeping import Keeping
from pivrex.session.messages import Request, SetUp
from pivrex.session.report import Report
from pivrex.session.shared import Row
from pivrex.session.status import Status
from pivrex.tui.jobs.previews import Found, Job, Place, PreviewAtOnce, Seen
from pivrex.tui.jobs.worker import WorkerProcess
from pivrex.tui.model import ScreenModel


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


def work_in_threads() -> AbstractContextManager[object]:
    """Have each `WorkerProcess` work in a thread of this process: the pilot's terminal has no files that a process could inherit."""

    def begin(self: WorkerProcess, name: str, work: Callable[..., None], *args: object, nice: int = 0) -> None:
        self.wire, theirs = multiprocessing.Pipe()

        def run() -> None:
            with contextlib.suppress(OSError, EOFError):
                work(theirs, *args)

        threading.Thread(target=run, daemon=True, name=name).start()

    return mock.patch.multiple(WorkerProcess, __init__=begin, close=lambda self: self.wire.close())


class PreviewKept(PreviewAtOnce):
    """Previews at once; what was asked before in this process is known: the same job has the same answer to the bit."""

    _known: ClassVar[dict[bytes, Seen | Found | None]] = {}

    def ask(self, job: Job | Place) -> None:
        place = job if isinstance(job, Place) else None
        serial, whole = job.serial if isinstance(job, Job) else 0, job.job if isinstance(job, Place) else job
        key = pickle.dumps((place and place.line, whole._replace(serial=0)))
        if key not in self._known:
            super().ask(job)
            self._known[key] = self._seen
        seen = self._known[key]
        self._seen = seen._replace(serial=serial) if isinstance(seen, Seen) else seen
