"""The list of a workspace's routines, paths or floors: open, make, rename, duplicate or delete one."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from pivrex.errors import PivrexError, UnitError
from pivrex.files import free_name, resolved, write_atomically
from pivrex.lower import reason
from pivrex.tui.overlays.choices import Choice
from pivrex.tui.panels.panel import View

__all__ = ["EDITS", "FileList", "Kind", "edits", "named"]

EDITS = {
    "plus": "new",
    "+": "new",
    "f2": "rename {}",
    "D": "duplicate {}",
    "upper_d": "duplicate {}",
    "delete": "delete {}",
}
"""The keys of such a list, and what they give; ``{}`` stands for what is selected."""

DELETED = ".deleted"
LONGEST_NAME = 60


def edits() -> str:
    """Return what the keys of such a list do."""
    return "+ new, F2 rename, D duplicate, Delete"


def named(text: str, taken: Callable[[str], bool]) -> str:
    """Return a name as it is typed; raises `UnitError` for one that cannot be a file's, or is taken."""
    name = text.strip()
    if not re.fullmatch(r"[^\W_][\w .+-]*", name) or len(name) > LONGEST_NAME:
        raise UnitError("a name has letters, digits, spaces and -, and begins with a letter or a digit")
    if taken(name):
        raise UnitError(f'"{name}" is there already; choose another name')
    return name


class Kind(NamedTuple):
    """The kind of the files: its word, its folder in the workspace, the suffix, and a text to begin with, by name."""

    word: str
    folder: str
    suffix: str
    begin: Callable[[str], str]


class FileList:
    """The files of a kind; ``open`` gets the one that is chosen or made, ``renamed`` its name before and after."""

    def __init__(
        self,
        view: View,
        kind: Kind,
        open_: Callable[[Path], object],
        renamed: Callable[[str, str], None] = lambda _a, _b: None,
    ) -> None:
        self._view, self._kind, self._open, self._renamed = view, kind, open_, renamed

    _here = ""
    """Which one was open when the list was."""

    @property
    def _folder(self) -> Path:
        return self._view.model.folder.path / self._kind.folder

    def there(self) -> list[Path]:
        """Return them by name."""
        return sorted(self._folder.glob(f"*{self._kind.suffix}"))

    def choose(
        self, here: Path | None, key: str, first: Choice | None = None, take_first: Callable[[], object] = int
    ) -> None:
        """Lay the list over the view, with something else first if there is one."""
        at = self._here = str(resolved(here)) if here is not None else ""

        def choices() -> list[Choice]:
            paths = [resolved(p) for p in self.there()]
            listed = [Choice(str(p), p.stem, "open" if str(p) == at else "") for p in paths]
            return [*([first] if first is not None else []), *listed, Choice("new", f"a new {self._kind.word} ...")]

        def take(said: str) -> None:
            word, _, rest = said.partition(" ")
            if first is not None and said == first.value:
                take_first()
            elif said == "new":
                self.ask_new()
            elif word in ("rename", "duplicate", "delete"):
                path = Path(rest)
                if rest and path.suffix == self._kind.suffix:
                    getattr(self, f"_{word}")(path)
            else:
                self._open(Path(said))

        self._view.choose(f"which {self._kind.word}?", choices, at, key, take, edits, EDITS)

    # --- keys ---

    def _taken(self, name: str) -> bool:
        return (self._folder / f"{name}{self._kind.suffix}").exists()

    def _ask(self, what: str, shown: str, take: Callable[[str], None]) -> None:
        # the list may still be closing
        self._view.canvas.call_later(self._view.ask, what, shown, "letters, digits, spaces and -", take)

    def ask_new(self, name: str = "") -> None:
        """Ask for a name, and make one with a text to begin with."""
        free = free_name(self._folder, name or self._kind.word, self._kind.suffix).stem

        def take(text: str) -> None:
            new = named(text, self._taken)
            self._make(new, self._kind.begin(new))

        self._ask(f"name of the new {self._kind.word}", free, take)

    def _make(self, name: str, text: str) -> None:
        path = self._folder / f"{name}{self._kind.suffix}"
        try:
            self._folder.mkdir(exist_ok=True)
            write_atomically(path, text)
        except (OSError, PivrexError) as problem:
            raise UnitError(f"{path}: {reason(problem) if isinstance(problem, OSError) else problem}") from None
        self._open(path)
        self._view.model.say(f"{self._kind.folder}/{path.name} is new")

    def _duplicate(self, path: Path) -> None:
        free = free_name(self._folder, path.stem, self._kind.suffix).stem

        def take(text: str) -> None:
            try:
                content = path.read_text("utf-8")
            except (OSError, ValueError) as problem:
                raise UnitError(f"{path.name}: {problem}") from None
            self._make(named(text, self._taken), content)

        self._ask(f"name of the copy of {path.stem}", free, take)

    def _rename(self, path: Path) -> None:
        def take(text: str) -> None:
            name = named(text, lambda new: new != path.stem and self._taken(new))
            target = path.with_name(f"{name}{path.suffix}")
            if target == path:
                return
            try:
                path.rename(target)
            except OSError as problem:
                raise UnitError(f"{path.name}: {reason(problem)}") from None
            self._renamed(path.stem, name)
            self._open(target)
            still = self._named_in(path.stem)
            self._view.model.say(f"{path.stem} is {name} now" + (f"; {still} still says {path.stem}" if still else ""))

        self._ask(f"new name of {path.stem}", path.stem, take)

    def _delete(self, path: Path) -> None:
        try:
            target = free_name(self._gone(), path.stem, path.suffix)
            path.rename(target)
        except OSError as problem:
            self._view.model.say(f"{path.name}: {reason(problem)}", alarm=True)
            return
        if str(path) == self._here and self.there():
            self._open(self.there()[0])
        still = self._named_in(path.stem)
        self._view.model.say(
            f"{path.stem} is deleted; it lies in {self._kind.folder}/{DELETED}/{target.name}"
            + (f". {still} still says {path.stem}" if still else "")
        )

    def _gone(self) -> Path:
        folder = self._folder / DELETED
        folder.mkdir(exist_ok=True)
        return folder

    def _named_in(self, name: str) -> str:
        """Return a file of the workspace, with its line, that still names one in quotes; empty for none."""
        home = self._view.model.folder.path
        for path in (home / "workspace.toml", *sorted(home.glob("rigs/*.toml")), *sorted(home.glob("routines/*.txt"))):
            try:
                rows = path.read_text("utf-8").splitlines()
            except (OSError, ValueError):
                continue
            for number, row in enumerate(rows, 1):
                if f'"{name}"' in row.partition("#")[0]:
                    return f"{path.name}:{number}"
        return ""
