"""The session's own process: its clock and its loop, from the first neutral output to the last."""

from __future__ import annotations

import contextlib
import gc
import logging
import os
import signal
import sys
import threading
import time
import warnings
from multiprocessing.connection import Connection
from typing import TYPE_CHECKING

from pivrex.errors import SaveError
from pivrex.session.building import Background
from pivrex.session.clock import Clock
from pivrex.session.core import Session
from pivrex.session.inputs import pad_names
from pivrex.session.keeping import Keeping
from pivrex.session.messages import Leave, SetUp, Stop
from pivrex.session.on_board import advance
from pivrex.session.places import log_file, runtime_folder
from pivrex.session.screen_watch import ScreenWatch
from pivrex.session.shared import Ring, Row
from pivrex.session.status import Status
from pivrex.session.terminal import Terminal

if TYPE_CHECKING:
    from pivrex.devices.pads import Pads
    from pivrex.devices.simulated_pad import PadServer
    from pivrex.session.report import Report

__all__ = ["run"]

AFTER_START_S = 0.5

SWITCH_S = 0.0005
"""What works in the background gives way to it after so long."""

FROZEN_S = 0.15
"""A program that stood still for longer was left alone by its robot too, whose watchdog has this time."""

log = logging.getLogger(__name__)


def run(wire: Connection, ring_name: str) -> None:
    """Be the session until the screen closes the connection. The first message on the wire is the `SetUp`."""
    terminal = Terminal()
    _detach_from_terminal()
    _come_first()
    sys.setswitchinterval(SWITCH_S)
    try:
        ring = Ring.attach(ring_name)
        setup = wire.recv()
        if not isinstance(setup, SetUp):
            return  # the screen closed before it sent a set-up
        loop = _Loop(wire, ring, setup)
        loop.run()
        if not loop.goodbye:
            terminal.restore()  # the screen was killed and could not do it
    except EOFError:
        pass
    except Exception:
        log.exception("the session ended")
        raise


def _detach_from_terminal() -> None:
    """Nothing in this process may print onto the screen or be stopped by the keys that stop the screen."""
    descriptor = os.open(log_file(), os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o644)
    os.dup2(descriptor, 1)
    os.dup2(descriptor, 2)
    os.close(descriptor)
    logging.basicConfig(stream=sys.stderr, format="%(asctime)s %(name)s %(levelname)s %(message)s")
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    for name in ("SIGHUP", "SIGTSTP", "SIGTTOU"):
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), signal.SIG_IGN)


def _come_first() -> None:
    """Ask to run before other programs, so that ticks are on time; most systems let only administrators."""
    if hasattr(os, "setpriority"):
        with contextlib.suppress(OSError):
            os.setpriority(os.PRIO_PROCESS, 0, -10)


class _Loop:
    def __init__(self, wire: Connection, ring: Ring, setup: SetUp) -> None:
        self._wire, self._ring = wire, ring
        self._session = Session(setup, Background())
        self._session.rest()  # before anything else is computed, the robot has been commanded to rest
        board = self._session.board
        self._keeping = Keeping(setup, self._session, board.note, board.set)
        self._pads: Pads | None = None
        self._loading = _PadsLoader() if setup.gamepads else None
        self._server: PadServer | None = None
        self._told: Status | None = None
        self._watch = ScreenWatch()
        self._ended = False
        self._ticked_s = time.perf_counter()
        self._reported: Report | None = None
        self.goodbye = False
        """Whether the screen said that it leaves."""

    def run(self) -> None:
        gc.enable()
        gc.freeze()  # what start-up made stays; collections in the loop have little left to look at
        clock = Clock(self._session.dt_s)
        try:
            while not self._ended:
                late = clock.wait()
                began = time.perf_counter()
                period = self._session.dt_s
                self._once(began, late)
                if self._session.dt_s != period:
                    clock.set_period(self._session.dt_s)
                self._ring.set_skipped(clock.skipped)
        finally:
            self._session.close(time.perf_counter())
            self._keeping.close()
            self._close()

    def _once(self, now_s: float, late_s: float) -> None:
        try:
            if now_s - self._ticked_s > FROZEN_S and self._session.robots.drives_a_real_one:
                self._session.handle(Stop(f"the program stood still for {now_s - self._ticked_s:.2f} s"), now_s)
            self._ticked_s = now_s
            self._listen(now_s)
            self._look_at_pads_safely()
            if self._waits_for_the_screen(now_s):
                return
            rows = advance(self._session, now_s)
            status = self._session.status
            for row in rows:
                self._keeping.add(row)
                self._ring.write(Row(status.serial, status.runs, late_s, time.perf_counter() - now_s, row))
            self._tell()
        except EOFError:
            self._ended = True
        except Exception as problem:  # whatever it is, the robot must stand still and the clock go on
            self._session.fail(problem)
            with contextlib.suppress(Exception):
                self._tell()

    def _listen(self, now_s: float) -> None:
        try:
            while self._wire.poll():
                request = self._wire.recv()
                if isinstance(request, Leave):
                    self.goodbye = True
                else:
                    self._keeping.take(request)
                    self._session.handle(request, now_s)
        except OSError:
            raise EOFError from None

    def _look_at_pads_safely(self) -> None:
        """A fault of the gamepads' library must not stop the clock: they are unplugged, the rest goes on."""
        try:
            self._look_at_pads()
        except Exception:
            log.exception("gamepads are given up")
            self._pads = self._server = None
            self._session.pads_are({})

    def _look_at_pads(self) -> None:
        if self._loading is not None and self._loading.ready:
            self._pads, self._loading = self._loading.open(), None
        if self._pads is None:
            return
        if self._session.wants_pads and self._server is None:
            self._listen_for_pads()
        if self._server is not None:
            self._server.update()
        self._pads.names = pad_names(self._session.line.rig)
        self._session.pads_are({pad.name: pad for pad in self._pads.update()})

    def _listen_for_pads(self) -> None:
        from pivrex.devices.simulated_pad import PadServer, write_port_file

        assert self._pads is not None
        self._server = PadServer(self._pads.sdl)
        with contextlib.suppress(SaveError):
            write_port_file(runtime_folder(), self._server.port, self._server.token)
        self._session.tell_pad_port(self._server.port)

    def _waits_for_the_screen(self, now_s: float) -> bool:
        """Stop a real robot whose screen is silent; return whether a simulated one waits for it."""
        session = self._session
        found = self._watch.look(
            now_s, self._ring.lives, self._ring.beats, session.status.live, session.by_hand, session.robots.link is None
        )
        if found.stop:
            session.handle(Stop(found.stop), now_s)
        if found.waited_s:
            session.board.note(f"waited for {found.waited_s:.1f} s: this computer was too busy")
        return found.paused

    def _tell(self) -> None:
        if self._session.status is not self._told:
            self._told = self._session.status
            try:
                self._wire.send(self._told)
            except OSError:
                self._ended = True

        report = self._session.report
        if report is not self._reported:
            self._reported = report
            try:
                self._wire.send(report)
            except OSError:
                self._ended = True

    def _close(self) -> None:
        if self._server is not None:
            self._server.close()
        if self._pads is not None:
            self._pads.close()
        self._ring.close()


class _PadsLoader:
    """Loads SDL next to the running clock: it takes a fifth of a second, and nothing needs it for the first screen."""

    def __init__(self) -> None:
        self._thread = threading.Thread(target=self._load, daemon=True)
        self._thread.start()

    @property
    def ready(self) -> bool:
        return not self._thread.is_alive()

    @staticmethod
    def _load() -> None:
        time.sleep(AFTER_START_S)
        with contextlib.suppress(ImportError), warnings.catch_warnings():
            warnings.simplefilter("ignore")  # on import the binding prints which library it found
            import sdl2  # noqa: F401

    @staticmethod
    def open() -> Pads | None:
        try:
            from pivrex.devices.pads import Pads

            return Pads()
        except (OSError, ImportError) as problem:
            log.warning("no gamepads: %s", problem)
            return None
