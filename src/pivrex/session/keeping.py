"""Keeps runs: the session's ticks go to the disk in the background. A tick only queues its row; a thread does the rest."""

from __future__ import annotations

import logging
import threading
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import Protocol

import numpy as np

from pivrex.errors import SaveError
from pivrex.files import free_name
from pivrex.line import Line
from pivrex.line.layout import Floats
from pivrex.lower import reason
from pivrex.rig.field import Keep as KeepSettings
from pivrex.rig.secret import without_key
from pivrex.runs.events import Event
from pivrex.runs.facts import UNMARKED, Facts
from pivrex.runs.shelf import Shelf
from pivrex.runs.writing import RunWriter
from pivrex.session.journal import changes, happened
from pivrex.session.messages import ChooseRoutine, KeepRun, LayOut, SetUp, UseRig
from pivrex.session.periods import COUNTED
from pivrex.session.status import Status

__all__ = ["BY_KEY", "Keeping"]

BY_KEY = "by key"

log = logging.getLogger(__name__)

WRITE_EVERY_S = 0.25

MAX_WAITING_S = 30.0
"""How much of a drive waits in memory for a slow disk; what comes then is lost and counted."""

TRY_AGAIN_S = 20.0
"""A disk that was full is tried again after so long."""

LONGEST_UNMARKED_S = 3600.0
"""A run that only keeps the last minutes begins again after this, so that its events do not grow for ever."""

SHORTEST_S = 2.0
"""A run that no one marked and that is shorter than this, or in which nothing moved, is not kept."""


TAIL_S = 2.0
"""A run that was marked by what is over now goes on for so long: the robot rolls out."""


class Ticking(Protocol):
    """The part of a session that the keeper needs."""

    @property
    def status(self) -> Status: ...

    @property
    def line(self) -> Line: ...


@dataclass(frozen=True)
class _Rig:
    line: Line
    name: str
    text: str


class Keeping:
    """Keeps the last minutes, and what is marked: while live, in a period of a match, or by a key.

    Parameters
    ----------
    setup : SetUp
        Says where to; nowhere, and nothing is kept.
    session : Ticking
    say, tell : callables
        What says something once, and what sets fields of the status; both are called by `add` only.
    """

    def __init__(self, setup: SetUp, session: Ticking, say: Callable[[str], None], tell: Callable[..., None]) -> None:
        self._session, self._say, self._tell = session, say, tell
        self._folder = setup.runs
        self._texts = {0: (setup.rig_name, setup.rig_text)}
        self._line: Line | None = None
        self._status: Status | None = None
        self._waiting: deque[object] = deque()
        """What the thread has not taken yet: rows, and between them statuses, rigs and requests, in their order."""
        self._most = round(MAX_WAITING_S / session.line.dt_s)
        self._lost = 0
        self._writes: _Writes | None = None
        self._thread: threading.Thread | None = None
        if self._folder is not None:
            self._writes = _Writes(self._folder, setup, self._waiting)
            self._thread = threading.Thread(target=self._writes.run, daemon=True, name="keeper")
            self._thread.start()

    def take(self, request: object) -> None:
        """Look at what the screen asks: some of it belongs to a run."""
        if self._writes is None:
            if isinstance(request, KeepRun):
                self._say("there is no workspace to keep runs in")
        elif isinstance(request, UseRig):
            self._texts[request.serial] = request.name, request.text
        elif isinstance(request, LayOut | ChooseRoutine | KeepRun):
            self._waiting.append(request)

    def add(self, row: Floats) -> None:
        """Take a tick's row, which no one writes into any more, and say what the thread has to say."""
        writes = self._writes
        if writes is None:
            return
        session = self._session
        status, line = session.status, session.line
        if line is not self._line:
            self._line = line
            self._waiting.append(_Rig(line, *self._texts.get(status.serial, ("", ""))))
            self._texts = {k: t for k, t in self._texts.items() if k >= status.serial}
        if status is not self._status:
            self._status = status
            self._waiting.append(status)
        if len(self._waiting) < self._most:
            self._waiting.append(row)
        else:
            writes.lost += 1
        self.hear()

    def hear(self) -> None:
        """Report what the thread has to say."""
        writes = self._writes
        while writes is not None and writes.news:
            said, status_rows = writes.news.popleft()
            if status_rows:
                self._tell(**status_rows)
            if said:
                self._say(said)

    def close(self) -> None:
        """Write what is left and end, without waiting long for a slow disk."""
        if self._writes is not None and self._thread is not None:
            self._writes.ended.set()
            self._thread.join(3.0)


class _Writes:
    """The work of the thread."""

    def __init__(self, folder: Path, setup: SetUp, waiting: deque[object]) -> None:
        self._settings: KeepSettings = setup.keep
        self._shelf = Shelf(folder, self._settings)
        self._floor = setup.field
        self._waiting = waiting
        self._writer: RunWriter | None = None
        self._rig: _Rig | None = None
        self._status: Status | None = None
        self._routine: tuple[str, str] = ("", "")
        self._t = 0.0
        self._tail = 0
        """Ticks that are left of a run whose mark is over; 0 for none."""
        self._blocked_until = 0.0
        """Ticks of the clock that pass before a disk that failed is tried again."""
        self._problem = ""
        self.news: deque[tuple[str, dict[str, object]]] = deque()
        """Sentences to say, and changes of the status."""
        self.lost = 0
        """Ticks that came while too many waited."""
        self._said_lost = False
        self.ended = threading.Event()
        self.busy = threading.Lock()
        """Held while it writes."""

    def run(self) -> None:
        try:
            self._thin()
            while not self.ended.wait(WRITE_EVERY_S):
                with self.busy:
                    self._take_all()
            with self.busy:
                self._take_all()
                self._safely(self._end)
        except Exception:  # a fault of the keeper must never reach who drives
            log.exception("runs are no longer kept")
            self.news.append(("runs are no longer kept: the log has why", {"keeping": ""}))

    def _take_all(self) -> None:
        if self.lost and not self._said_lost:
            self._said_lost = True
            self.news.append(("the disk is too slow to keep every tick; driving goes on", {}))
        rows: list[Floats] = []
        while self._waiting:
            one = self._waiting.popleft()
            if isinstance(one, np.ndarray):
                # a clock that went back: the robot begins again, and so does its run
                if self._rig is not None and one[self._rig.line.layout.at("clock", "t")] < self._t:
                    self._put(rows)
                    rows = []
                    self._safely(self._end_what_may_end)
                if self._rig is not None:
                    self._t = float(one[self._rig.line.layout.at("clock", "t")])
                rows.append(one)
            else:
                self._put(rows)
                rows = []
                self._safely(partial(self._obey, one))
        self._put(rows)
        if self._writer is not None:
            self._safely(self._writer.flush)
        self._gone()

    def _safely(self, work: Callable[[], None]) -> None:
        """Do something that may fail: then this run ends, driving goes on, and a message says so once."""
        try:
            work()
        except SaveError as problem:
            self._fail(problem.reason)
        except OSError as problem:
            self._fail(reason(problem))

    def _fail(self, why: str) -> None:
        writer, self._writer = self._writer, None
        if writer is not None:
            writer.abandon()
        dt_s = self._rig.line.dt_s if self._rig is not None else 0.02
        self._blocked_until = round(TRY_AGAIN_S / dt_s)
        if why != self._problem:
            self._problem = why
            self.news.append((f"runs are not kept now: {why}; driving goes on", {"cannot_keep": why, "keeping": ""}))

    # --- new rows ---

    def _put(self, rows: list[Floats]) -> None:
        if not rows or self._rig is None:
            return
        if self._writer is None:
            self._blocked_until -= len(rows)
            if self._blocked_until > 0:
                return
            self._safely(self._begin)
        writer = self._writer
        if writer is not None:
            if not writer.rows:
                self.news.append(("", {"kept_from_s": float(rows[0][self._rig.line.layout.at("clock", "t")])}))
            self._safely(lambda: writer.add(np.array(rows)))
            if self._writer is not None and self._problem:
                self._problem = ""
                self.news.append(("runs are kept again", {"cannot_keep": ""}))
            if self._tail:
                self._tail = max(0, self._tail - len(rows))
            over = writer.facts.kept != UNMARKED and self._tail == 0 and not _marked_by(self._status)
            if over or (not writer.facts.stays and writer.rows * self._rig.line.dt_s > LONGEST_UNMARKED_S):
                self._safely(self._end)

    def _obey(self, one: object) -> None:
        if isinstance(one, Status):
            self._told(one)
        elif isinstance(one, _Rig):
            before, self._rig = self._rig, one
            if before is not None and one.name != before.name:
                self._end()  # another robot
            if self._writer is not None:
                self._writer.use(one.line, without_key(one.text))
        elif isinstance(one, LayOut):
            self._floor = one.field
            self._end_what_may_end()
        elif isinstance(one, ChooseRoutine):
            program = one.program
            self._routine = (program.name, program.text) if program is not None else ("", "")
            if self._writer is not None:
                self._writer.routine(*self._routine)
        elif isinstance(one, KeepRun):
            self._keep(one.note)

    def _told(self, status: Status) -> None:
        """Take another status: what happened is an event, and what it marks begins or ends a run."""
        before, self._status = self._status, status
        why, was = _marked_by(status), _marked_by(before)
        if before is not None:
            self._write_down(before, status)
        if why and why != was:
            self._end()
            self._begin()
            if before is not None:
                self._write_down(before, status)
        elif was and not why and self._rig is not None:
            self._tail = round(TAIL_S / self._rig.line.dt_s)
        elif before is not None and status.runs != before.runs:
            self._end_what_may_end()

    def _write_down(self, before: Status, status: Status) -> None:
        writer = self._writer
        if writer is not None:
            writer.status_rows(changes(before, status))
            for kind, text in happened(before, status):
                writer.event(Event(self._t, writer.rows, kind, text))
            writer.drives(_driver(status))

    def _keep(self, note: str) -> None:
        """Let what was kept until now stay."""
        writer = self._writer
        if self._gone():
            return
        if writer is None or not writer.rows:
            self.news.append((f"nothing to keep: {self._problem or 'no tick yet'}", {}))
            return
        assert self._rig is not None
        seconds = min(writer.rows * self._rig.line.dt_s, writer.longest_s)
        writer.event(Event(self._t, writer.rows, "mark", note or "marked by key"))
        if writer.facts.kept != UNMARKED:
            self.news.append((f"marked in {self._name}", {}))
            return
        writer.keep(BY_KEY)
        self.news.append((f"kept as runs/{self._name}: the last {_said(seconds)}", {}))
        self._end()

    # --- runs ---

    @property
    def _name(self) -> str:
        return self._writer.folder.name if self._writer is not None else ""

    def _begin(self) -> None:
        """Begin another run with the next Tick."""
        rig, status = self._rig, self._status
        if rig is None or status is None:
            return
        now = datetime.now().astimezone()
        why = _marked_by(status)
        facts = Facts(rig.line.rig.name, rig.name, now, round(1 / rig.line.dt_s, 6), kept=why or UNMARKED)
        folder = free_name(self._shelf.folder, f"{now:%Y%m%d-%H%M%S}-{facts.rig}", "")
        longest_s = np.inf if why else self._settings.last_s
        self._writer = RunWriter(folder, facts, rig.line, without_key(rig.text), self._floor, longest_s)
        if self._routine[0]:
            self._writer.routine(*self._routine)
        self._writer.status_rows(changes(None, status))
        self._writer.drives(_driver(status))
        self.news.append(("", {"keeping": self._name if why else ""}))

    def _gone(self) -> bool:
        """Return whether the run was deleted while it was written, and close it then. The next Tick begins a new one."""
        writer = self._writer
        if writer is None or writer.is_there():
            return False
        self._writer, self._tail = None, 0
        writer.abandon()
        self.news.append((f"runs/{writer.folder.name} was deleted; a new run begins", {"keeping": ""}))
        return True

    def _end_what_may_end(self) -> None:
        """End a run that nothing marks now: the robot begins again."""
        if self._writer is not None and not _marked_by(self._status):
            self._end()

    def _end(self) -> None:
        """End the run that is being written, if there is one; one that says nothing is taken away."""
        if self._gone():
            return
        writer, self._writer, self._tail = self._writer, None, 0
        if writer is None:
            return
        marked = writer.facts.kept != UNMARKED
        seconds = writer.rows / writer.facts.rate_hz
        writer.close(self.lost)
        self.lost, self._said_lost = 0, False
        if marked:
            said = "" if writer.facts.kept == BY_KEY else f"kept as runs/{writer.folder.name}: {_said(seconds)}"
            self.news.append((said, {"keeping": ""}))
        elif seconds < SHORTEST_S or not writer.figures.get("driven_s"):
            self._shelf.remove(writer.folder)
        self._thin()

    def _thin(self) -> None:
        """Let old runs make room; one that cannot go keeps no new one from being kept."""
        try:
            self._shelf.thin()
        except (SaveError, OSError) as problem:
            log.warning("old runs cannot be deleted: %s", problem)


def _marked_by(status: Status | None) -> str:
    """Return what marks a run by itself now; empty for nothing."""
    if status is None:
        return ""
    if status.match.period in COUNTED:
        return "a match" if not status.match.only else f"a period {status.match.period}"
    return "live" if status.live or status.watching else ""


def _driver(status: Status) -> str:
    return status.match.routine if status.match.period == "alone" else status.source


def _said(seconds: float) -> str:
    return f"{seconds:.0f} s" if seconds < 120 else f"{seconds / 60:.1f} min"
