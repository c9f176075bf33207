"""A rig file that is open: changed key by key, saved at once, undone, and watched for changes from outside."""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pivrex.errors import ChangedOutside, RigError, SaveError
from pivrex.files import alone, free_name, sweep, write_atomically
from pivrex.rig.read import read_text, rig_text
from pivrex.rig.rig import Rig
from pivrex.rig.workspace import SET_ASIDE

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

__all__ = ["RigFile", "Step", "set_key"]

LONGEST_UNDO = 500


@dataclass(frozen=True)
class Step:
    """One change that can be undone: the whole text before and after, and what it was."""

    before: str
    after: str
    what: str


class RigFile:
    """A rig with its file.

    Every change is checked before it counts, then saved at once. ``rig`` is always a rig without mistakes.
    Steps hold whole texts, so that undo brings back comments and order too.

    Attributes
    ----------
    path : Path
        The file.
    rig : Rig
        What is in use.
    problem : str
        Why the last save failed or why an outside change was not taken in; empty when all is well.
    news : str
        What was found when somebody else's change was taken in; whoever tells the person empties it.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        sweep(path.parent, path.name)
        self._known = rig_text(path)
        self._text = ""
        self._use(self._known)
        self._document: tuple[str, TOMLDocument] | None = None  # parsed with its comments, and the text that it is
        self.problem = ""
        self.news = ""
        self._done: list[Step] = []
        self._undone: list[Step] = []

    @property
    def text(self) -> str:
        """The TOML text in use."""
        return self._text

    @property
    def can_undo(self) -> bool:
        """Whether there is a change to undo."""
        return bool(self._done)

    @property
    def can_redo(self) -> bool:
        """Whether there is an undone change to bring back."""
        return bool(self._undone)

    def get(self, key: str) -> object:
        """Give what the file holds at a dotted key, as it is written; None if the file leaves it out."""
        at: object = self._data
        for part in key.split("."):
            if isinstance(at, list):
                at = at[int(part)] if part.isdigit() and int(part) < len(at) else None
            elif isinstance(at, dict):
                at = at.get(part)
        return at

    def put(self, key: str, value: object, join: bool = False) -> None:
        """Set a dotted key (entries of lists by index from 0) and save.

        Parameters
        ----------
        key : str
            Such as ``shaping.forward.edge``; tables that are missing are made.
        value : object
            As it shall stand in the file, such as ``"7 %"``.
        join : bool
            Whether it goes on with the last change (a drag), so that one undo takes both back.

        Raises
        ------
        RigError
            If the rig would have mistakes; nothing changes.
        ChangedOutside
            If another program has just changed the same key; the change does not count, theirs does.
        SaveError
            If the file could not be written; the change counts, and ``problem`` says so.
        """
        with alone(self.path):
            before = self.get(key)
            if self.look_outside() and not self.problem and self.get(key) != before:
                now = "left out" if self.get(key) is None else self.get(key)
                raise ChangedOutside(
                    self.path, f"{key} was just changed outside, to {now}; do it again to have {value}"
                )
            changed = self._with(lambda document: set_key(document, key, value))
            if changed == self._text:
                return
            what = f"{key} = {value}"
            if join and self._done and self._done[-1].what.partition(" = ")[0] == key:
                step = Step(self._done.pop().before, changed, what)
            else:
                step = Step(self._text, changed, what)
            self._use(changed)
            self._done = [*self._done[-LONGEST_UNDO:], step]
            self._undone = []
            self._save()

    def edit(self, what: str, change: Callable[[TOMLDocument], None], join: bool = False) -> None:
        """Change several things as one step and save; raises like `put`. ``join`` goes on with a step of the same name."""
        with alone(self.path):
            found = self.look_outside()
            if found and not self.problem:
                raise ChangedOutside(self.path, f"{found}; do it again to go on")
            changed = self._with(change)
            if changed == self._text:
                return
            before = self._done.pop().before if join and self._done and self._done[-1].what == what else self._text
            step = Step(before, changed, what)
            self._use(changed)
            self._done = [*self._done[-LONGEST_UNDO:], step]
            self._undone = []
            self._save()

    def undo(self) -> str:
        """Take the last change back and save; gives what it was, empty if there is none."""
        return self._walk(self._done, self._undone, back=True)

    def redo(self) -> str:
        """Bring the last undone change back and save; gives what it was, empty if there is none."""
        return self._walk(self._undone, self._done, back=False)

    def _walk(self, take: list[Step], give: list[Step], back: bool) -> str:
        with alone(self.path):
            found = self.look_outside()
            if found and not self.problem:
                # what was just taken in is on top of what can be undone, and nobody has seen it yet
                raise ChangedOutside(self.path, f"{found}; do it again to undo that")
            if not take:
                return ""
            step = take.pop()
            self._use(step.before if back else step.after)
            give.append(step)
            self._save()
            return step.what

    def look_outside(self) -> str:
        """Notice a change of the file from outside and take it in.

        Returns
        -------
        str
            What was found, in a sentence; empty when nothing changed. A file with mistakes is left alone: the rig
            in use stays, and saves go beside it until it is mended (see ``problem``).
        """
        try:
            outside = rig_text(self.path)
        except RigError as problem:
            if not self.problem:
                why = problem.mistakes[0].what.removeprefix("cannot be read: ")
                self.problem = f"{self.path.name} cannot be read any more ({why}); the rig in use stays"
                return self.problem
            return ""
        if outside == self._known:
            return ""
        self._known = outside
        if outside == self._text:
            self.problem = ""
            return f"{self.path.name} is in step again"
        try:
            rig = read_text(outside, self.path, Rig)
        except RigError as mistakes:
            where = f"line {mistakes.mistakes[0].line}: " if mistakes.mistakes[0].line else ""
            self.problem = (
                f"{self.path.name} was edited outside and has mistakes ({where}{mistakes.mistakes[0]}); "
                f"the rig in use stays, changes made here go to {self._aside().name}"
            )
            return self.problem
        self._done.append(Step(self._text, outside, "the edit from outside"))
        self._undone = []
        self._text, self._data, self.rig, self.problem = outside, tomllib.loads(outside), rig, ""
        self.news = f"{self.path.name} was edited outside; taken in, undo brings yours back"
        return self.news

    def _use(self, text: str) -> None:
        self.rig = read_text(text, self.path, Rig)
        self._text, self._data = text, tomllib.loads(text)

    def _with(self, change: Callable[[TOMLDocument], None]) -> str:
        """Give the text as a change leaves it, comments and order kept.

        Parsing with comments takes 20 ms, so the document is kept for the next change; one that turns out to be a
        mistake is never the text in use, and is parsed anew.
        """
        import tomlkit  # loaded with the first change: the first screen need not wait for it

        if self._document is None or self._document[0] != self._text:
            self._document = (self._text, tomlkit.parse(self._text))
        document = self._document[1]
        self._document = None
        change(document)
        changed = tomlkit.dumps(document)
        self._document = (changed, document)
        return changed

    def _save(self) -> None:
        if self.problem and self._outside_is_broken():
            write_atomically(self._aside(), self._text)
            return
        try:
            write_atomically(self.path, self._text)
        except SaveError as problem:
            self.problem = str(problem)
            raise
        self._known, self.problem = self._text, ""

    def _outside_is_broken(self) -> bool:
        try:
            read_text(rig_text(self.path), self.path, Rig)
        except RigError:
            return self.path.exists() or self.path.is_symlink()
        return False

    def _aside(self) -> Path:
        if not hasattr(self, "_aside_path"):
            stamp = datetime.now().strftime("%Y%m%d-%H%M%S")
            self._aside_path = free_name(self.path.parent, f"{self.path.stem}{SET_ASIDE}{stamp}", ".toml")
        return self._aside_path


def set_key(document: TOMLDocument, key: str, value: object) -> None:
    """Set a dotted key, or with None take it out; tables that are missing are made."""
    import tomlkit

    *parents, last = key.split(".")
    at: Any = document
    for part in parents:
        if isinstance(at, list):
            at = at[int(part)]
            continue
        if part not in at:
            at[part] = tomlkit.table()
        at = at[part]
    if isinstance(at, list):
        at[int(last)] = value
    elif value is None:
        at.pop(last, None)
    elif last in at and hasattr(at[last], "trivia"):
        item = tomlkit.item(value)
        item.trivia.comment_ws, item.trivia.comment = at[last].trivia.comment_ws, at[last].trivia.comment
        at[last] = item
    else:
        at[last] = value
