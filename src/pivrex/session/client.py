"""The screen's end of a session: starts its process, sends requests, reads its Ticks."""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import secrets
import threading
from multiprocessing.connection import Connection
from multiprocessing.shared_memory import SharedMemory
from pathlib import Path
from typing import TYPE_CHECKING

from pivrex.errors import SessionError
from pivrex.session.child import be_the_session
from pivrex.session.ring_size import RING_BYTES

if TYPE_CHECKING:
    from pivrex.session.messages import Request, SetUp
    from pivrex.session.report import Report
    from pivrex.session.shared import Ring, Row
    from pivrex.session.status import Status

__all__ = ["SessionClient"]


LIVES_EVERY_S = 0.02
"""How often this process says that it lives; see `pivrex.session.screen_watch`."""

PREFIX = "pivrex-"
MEMORIES = Path("/dev/shm")
"""Where Linux shows shared memory."""


def _sweep() -> None:
    """Delete the shared memory of programs that were killed before their session had it."""
    with contextlib.suppress(OSError):
        for path in MEMORIES.glob(f"{PREFIX}*-*"):
            pid = path.name.removeprefix(PREFIX).partition("-")[0]
            if pid.isdecimal() and not Path(f"/proc/{pid}").exists():
                with contextlib.suppress(OSError):
                    path.unlink()


class SessionClient:
    """A running session in a process of its own.

    The process is spawned, not forked, so it works the same on every system. It is started without its `SetUp`, so
    that the rig can be read and the screen be built while it comes up; for the same reason this module loads nothing
    large before it has started it.
    """

    def __init__(self) -> None:
        context = multiprocessing.get_context("spawn")
        _sweep()
        name = f"{PREFIX}{os.getpid()}-{secrets.token_hex(4)}"
        memory = SharedMemory(name, create=True, size=RING_BYTES)  # new memory is all zeros, as the ring needs it
        self._wire: Connection
        self._wire, theirs = context.Pipe()
        self._process = context.Process(
            target=be_the_session, args=(theirs, memory.name), daemon=True, name="pivrex-session"
        )
        self._process.start()
        theirs.close()

        from pivrex.session.shared import Ring
        from pivrex.session.status import Status

        self._ring: Ring = Ring(memory)
        self._over = threading.Event()
        self._heart = threading.Thread(target=self._live, daemon=True, name="pivrex-heartbeat")
        self._heart.start()
        self._seen = 0
        self.status: Status = Status()
        self.report: Report | None = None
        self._closed = False

    def set_up(self, setup: SetUp) -> None:
        """Tell it what to run; its clock starts."""
        try:
            self._wire.send(setup)
        except OSError:
            raise SessionError("the session's process is gone") from None

    @property
    def alive(self) -> bool:
        """Whether its process runs."""
        return not self._closed and self._process.is_alive()

    @property
    def process_id(self) -> int:
        """Its process."""
        return self._process.pid or 0

    @property
    def skipped(self) -> int:
        """Ticks that were skipped."""
        return self._ring.skipped

    def beat(self) -> None:
        """Report that the screen handles keys; its event loop calls it many times a second."""
        self._ring.beat()

    def _live(self) -> None:
        """Report that this process lives, whatever its event loop is busy with: a process that is stopped or killed says nothing."""
        while not self._over.wait(LIVES_EVERY_S):
            self._ring.live()

    def send(self, request: Request) -> None:
        """Ask for something; a session that is gone is noticed by `alive`."""
        with contextlib.suppress(OSError):
            self._wire.send(request)

    def poll(self) -> bool:
        """Take new statuses; returns whether `status` changed."""
        from pivrex.session.report import Report

        changed = False
        try:
            while self._wire.poll():
                news = self._wire.recv()
                if isinstance(news, Report):
                    self.report = news
                else:
                    self.status, changed = news, True
        except (EOFError, OSError):
            pass
        return changed

    def rows(self) -> list[Row]:
        """Return the Ticks since the last call, oldest first."""
        self._seen, rows = self._ring.since(self._seen)
        return rows

    def close(self) -> None:
        """Close the connection: the session commands the robot to rest and ends."""
        if self._closed:
            return
        self._closed = True
        from pivrex.session.messages import Leave

        self.send(Leave())
        self._wire.close()
        self._process.join(2)
        if self._process.is_alive():
            self._process.kill()
            self._process.join(1)
        self._over.set()
        self._heart.join(1)
        self._ring.close(unlink=True)
