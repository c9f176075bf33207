"""The newest sealed numbers, kept for the next start of the program, so that a recorded message cannot drive later."""

from __future__ import annotations

import re
from hashlib import sha256
from pathlib import Path

from pivrex.devices.seal import Seal
from pivrex.devices.transports.background import Background
from pivrex.errors import PivrexError
from pivrex.files import read_persons, write_atomically

__all__ = ["SealBook"]

EVERY_S = 5.0
LARGEST_FILE = 200_000
MAX_ROWS = 500
_ROW = re.compile(r"([0-9a-f]{32}) (\d{1,10}) (\d{1,10})")


class SealBook:
    """How far the numbers of each sender have gone, in a file with a row for each. Without a path it forgets at the end.

    A file that cannot be read counts as empty, one that cannot be written is tried again: both are said in ``problem``.
    """

    def __init__(self, path: Path | None) -> None:
        self._path = path
        self._seals: dict[str, Seal] = {}
        self._rows: dict[str, tuple[int, int]] = {}
        self._saved: dict[str, tuple[int, int]] = {}
        self._saving: Background | None = None
        self._next_s = 0.0
        self.problem = ""
        if path is not None and path.exists():
            try:
                found = map(_ROW.fullmatch, read_persons(path, LARGEST_FILE).splitlines())
                self._rows = {m[1]: (int(m[2]), int(m[3])) for m in found if m}
            except PivrexError as problem:
                self.problem = str(problem)

    def seal(self, key: bytes, source: str) -> Seal:
        """Return the seal of a source of a rig: where it was heard before it goes on."""
        who = sha256(key + source.encode("utf-8")).hexdigest()[:32]  # reveals nothing of the key
        if who not in self._seals:
            self._seals[who] = Seal(key)
            self._seals[who].newest = self._rows.get(who, (-1, -1))
        return self._seals[who]

    def keep(self, now_s: float) -> None:
        """Write what is new, now and then, in the background."""
        if self._path is None or now_s < self._next_s or (self._saving is not None and not self._saving.done):
            return
        self._next_s = now_s + EVERY_S
        if self._note():
            self._saving = Background(self._save)

    def close(self) -> None:
        """Write what is new."""
        if self._path is not None and self._note():
            self._save()

    def _note(self) -> bool:
        heard = {who: seal.newest for who, seal in self._seals.items() if seal.newest[0] >= 0}
        self._rows = dict([*self._rows.items(), *heard.items()][-MAX_ROWS:])
        return self._rows != self._saved

    def _save(self) -> None:
        assert self._path is not None
        rows = dict(self._rows)
        try:
            self._path.parent.mkdir(parents=True, exist_ok=True)
            write_atomically(self._path, "".join(f"{who} {s} {n}\n" for who, (s, n) in rows.items()))
            self._saved = rows
        except (PivrexError, OSError) as problem:
            self.problem = str(problem)
