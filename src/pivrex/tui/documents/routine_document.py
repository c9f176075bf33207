"""An open routine: its text on disk and on the screen, and its check."""

from __future__ import annotations

import threading
from collections import deque
from itertools import count
from math import inf
from pathlib import Path

from pivrex.document import Document
from pivrex.errors import PivrexError, ReadError
from pivrex.files import free_name, is_file, read_persons, write_atomically
from pivrex.rig import Rig
from pivrex.routine import Checked, Program, check_text
from pivrex.routine.files import floors_next_to, shared_next_to
from pivrex.routine.reading import LARGEST_FILE

__all__ = ["RoutineDocument", "Saver"]


class Saver:
    """Saves the newest text in the background, at once and one after another; never over what someone else has written."""

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


class RoutineDocument(Document[Checked]):
    """The open routine; its text always counts, also with mistakes, and is saved in the background while someone types.

    Attributes
    ----------
    title : str
        What it is called on the screen.
    opened : str
        The text as it was when it was opened.
    rig : Rig or None
        For which the text was checked.
    serial : int
        Another for each text and rig, of whatever document; previews say by it what they are of.
    """

    def __init__(self, alone_s: float = inf) -> None:
        super().__init__(self._checked, "text", self._decoded)
        self.alone_s = alone_s
        self.title = ""
        self._home: Path | None = None
        self.opened = ""
        self.serial = 0
        self.saver = Saver()
        self._disk = ""
        self._ends, self._bom = "\n", ""
        self.rig: Rig | None = None

    @property
    def program(self) -> Program | None:
        """The program; None while there is a mistake."""
        return self.content.program if self.content is not None else None

    def _decoded(self, path: Path) -> str:
        """Read a file; its line ends and the mark at its top are put back when it is saved."""
        raw = read_persons(path, LARGEST_FILE)
        return raw.removeprefix("\ufeff").replace("\r\n", "\n").replace("\r", "\n")

    def _checked(self, text: str, path: Path) -> Checked:
        assert self.rig is not None
        home = self._home or path
        return check_text(text, self.rig, home.stem, shared_next_to(home), self.alone_s, floors_next_to(home))

    def _use(self, text: str, content: Checked) -> None:
        super()._use(text, content)
        self.serial = next(_SERIALS)

    def lay(self, path: Path, rig: Rig, home: Path | None = None) -> None:
        """Open another one. Raises `ReadError`; what was open stays so then.

        ``home`` is where it lay when it lies elsewhere now: what it takes from files next to it is looked for there.
        """
        raw = read_persons(path, LARGEST_FILE)
        self.saver.wait()
        self._home, self.rig = home or path, rig
        self.title = self._home.stem
        self.open(path)
        self._take(raw)
        self.opened = self.text

    def _take(self, raw: str) -> None:
        """The file says this now."""
        self._disk = raw
        self._bom = "\ufeff" if raw.startswith("\ufeff") else ""
        self._ends = "\r\n" if "\r\n" in raw else "\n"
        self.saver.written, self.saver.conflict = raw, False
        self.saver.ours.clear()

    def typed(self, text: str) -> None:
        """Take a changed text: it is saved and checked."""
        if self.is_open and text != self.text:
            lines, before = text.split("\n"), self.text.split("\n")
            alike = next(
                (n for n, (a, b) in enumerate(zip(lines, before, strict=False)) if a != b), min(len(lines), len(before))
            )
            self.change(text, f"typed in line {alike + 1}", join=True)

    def _became(self, text: str) -> str:
        wrong = [m for m in self._checked(text, self.path).mistakes if not m.warning]
        mistake = f" and has mistakes ({wrong[0].line}: {wrong[0].what})" if wrong else ""
        return super()._became(text) + mistake

    def _save(self) -> None:
        self.saver.save(self.path, self.raw(), self._disk)
        self._known = self.text

    def look_outside(self) -> str:
        self.saver.wait()
        return super().look_outside()

    def raw(self) -> str:
        """Return the text as it stands in its file."""
        return self._bom + self.text.replace("\n", self._ends)

    def check(self, rig: Rig) -> None:
        """Check the text for a rig."""
        self.rig = rig
        self._use(self.text, self._checked(self.text, self.path))

    def outside(self) -> str:
        """Check whether another program has changed the file: "same", "changed" while ours was saved, or "both"."""
        if not self.is_open:
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

    def take_theirs(self, keep_mine: bool = True) -> Path | None:
        """Take the file's text; ours goes into a file next to it, whose path is returned. Raises `PivrexError`."""
        raw = read_persons(self.path, LARGEST_FILE)
        kept = self._keep_copy("mine", self.raw()) if keep_mine else None
        self._take(raw)
        self.look_outside()
        return kept

    def keep_ours(self) -> Path:
        """Save ours; theirs goes into a file next to it, whose path is returned. Raises `PivrexError`."""
        kept = self._keep_copy("theirs", read_persons(self.path, LARGEST_FILE))
        write_atomically(self.path, self.raw())
        self._take(self.raw())
        self._known = self.text
        return kept

    def _keep_copy(self, whose: str, raw: str) -> Path:
        kept = free_name(self.path.parent, f"{self.path.stem}-{whose}", self.path.suffix)
        write_atomically(kept, raw)
        return kept

    def close(self) -> None:
        """Wait until all is saved."""
        self.saver.wait()
