"""What lies on the desk of the Routine view: the open routine, its text on disk and on the screen, what was found in it."""

from __future__ import annotations

import threading
from collections import deque
from itertools import count
from math import inf
from pathlib import Path

from pivrex.errors import PivrexError, ReadError
from pivrex.files import free_name, is_file, read_persons, write_atomically
from pivrex.rig import Rig
from pivrex.routine import Checked, Program, check_text
from pivrex.routine.files import floors_beside, shared_beside
from pivrex.routine.reading import LARGEST_FILE

__all__ = ["Desk", "Saver"]


class Saver:
    """Saves the newest text beside the screen, at once and one after another; never over what somebody else has written."""

    def __init__(self) -> None:
        self._change = threading.Condition()
        self._waiting: tuple[Path, str, str] | None = None
        self._busy = False
        self.problem = ""
        self.conflict = False
        """Whether the file said something else than what was read or written last: nothing was saved then."""
        self.written = ""
        self.ours: deque[str] = deque(maxlen=8)
        """The texts that were saved last, one that is just being saved among them: who reads the file meanwhile may find any."""
        self._thread: threading.Thread | None = None

    def save(self, path: Path, text: str, before: str) -> None:
        """Save a text, unless the file says something else than ``before``."""
        with self._change:
            self._waiting = (path, text, before)
            self._change.notify_all()
            if self._thread is None:
                self._thread = threading.Thread(target=self._work, daemon=True, name="saver")
                self._thread.start()

    def wait(self, longest_s: float = 5.0) -> None:
        """Wait until all is saved."""
        with self._change:
            self._change.wait_for(lambda: self._waiting is None and not self._busy, longest_s)

    def _work(self) -> None:
        while True:
            with self._change:
                self._change.wait_for(lambda: self._waiting is not None)
                assert self._waiting is not None
                path, text, before = self._waiting
                self._waiting, self._busy = None, True
            self._once(path, text, before)
            with self._change:
                self._busy = False
                self._change.notify_all()

    def _once(self, path: Path, text: str, before: str) -> None:
        try:
            now = read_persons(path, LARGEST_FILE) if is_file(path) else before
            if now not in (before, self.written, text):
                self.conflict = True
                return
            if now != text:
                self.ours.append(text)
                write_atomically(path, text)
            self.written, self.problem = text, ""
        except PivrexError as problem:
            self.problem = str(problem)


_SERIALS = count(1)


class Desk:
    """The open routine.

    Attributes
    ----------
    path : Path or None
    title : str
        What it is called on the screen.
    text : str
        As it is on the screen, with plain line ends.
    opened : str
        As it was when it was opened.
    checked : Checked or None
    serial : int
        Another for each text and rig, of whatever desk; previews say by it what they are of.
    """

    def __init__(self, alone_s: float = inf) -> None:
        self.alone_s = alone_s
        self.path: Path | None = None
        self.title = ""
        self._home: Path | None = None
        self.text = self.opened = ""
        self.checked: Checked | None = None
        self.serial = 0
        self.saver = Saver()
        self._disk = ""
        self._ends = "\n"
        self._bom = ""
        self.checked_for: Rig | None = None

    @property
    def program(self) -> Program | None:
        """What can be played; None while something is wrong."""
        return self.checked.program if self.checked is not None else None

    def open(self, path: Path, rig: Rig, home: Path | None = None) -> None:
        """Open another one. Raises `ReadError`; what was open stays so then.

        ``home`` is where it lay when it lies elsewhere now: what it takes from files beside it is looked for there.
        """
        raw = read_persons(path, LARGEST_FILE)
        self.saver.wait()
        self.path, self._home = path, home or path
        self.title = self._home.stem
        self._take(raw)
        self.opened = self.text
        self.check(rig)

    def _take(self, raw: str) -> None:
        self._disk = raw
        self._bom = "\ufeff" if raw.startswith("\ufeff") else ""
        self._ends = "\r\n" if "\r\n" in raw else "\n"
        self.text = raw.removeprefix("\ufeff").replace("\r\n", "\n").replace("\r", "\n")
        self.saver.written, self.saver.conflict = raw, False
        self.saver.ours.clear()

    def typed(self, text: str, rig: Rig) -> None:
        """Take a changed text: it is saved and checked."""
        if text == self.text or self.path is None:
            return
        self.text = text
        self.saver.save(self.path, self.raw(), self._disk)
        self.check(rig)

    def raw(self) -> str:
        """Return the text as it stands in its file."""
        return self._bom + self.text.replace("\n", self._ends)

    def check(self, rig: Rig) -> None:
        """Check the text for a rig."""
        self.checked_for = rig
        home = self._home
        shared = shared_beside(home) if home is not None else None
        floors = floors_beside(home) if home is not None else None
        self.checked = check_text(self.text, rig, self.title or "routine", shared, self.alone_s, floors)
        self.serial = next(_SERIALS)

    def outside(self) -> str:
        """Look whether somebody else has changed the file: "same", "changed" while ours was saved, or "both"."""
        if self.path is None:
            return "same"
        if self.saver.conflict:
            return "both"
        try:
            raw = read_persons(self.path, LARGEST_FILE)
        except ReadError:
            return "same"
        if raw in (self.saver.written, self._disk, self.raw()) or raw in list(self.saver.ours):
            return "same"
        self.saver.wait(0.2)
        return "changed" if self.saver.written == self.raw() else "both"

    def take_theirs(self, rig: Rig) -> Path | None:
        """Take the file's text; ours goes into a file beside it, which is given. Raises `PivrexError`."""
        assert self.path is not None
        raw = read_persons(self.path, LARGEST_FILE)
        beside = self._aside("mine", self.raw())
        self._take(raw)
        self.check(rig)
        return beside

    def keep_ours(self) -> Path | None:
        """Save ours; theirs goes into a file beside it, which is given. Raises `PivrexError`."""
        assert self.path is not None
        raw = read_persons(self.path, LARGEST_FILE)
        beside = self._aside("theirs", raw)
        write_atomically(self.path, self.raw())
        self._disk = self.saver.written = self.raw()
        self.saver.conflict = False
        self.saver.ours.clear()
        return beside

    def _aside(self, whose: str, raw: str) -> Path:
        assert self.path is not None
        beside = free_name(self.path.parent, f"{self.path.stem}-{whose}", self.path.suffix)
        write_atomically(beside, raw)
        return beside

    def close(self) -> None:
        """Wait until all is saved."""
        self.saver.wait()
