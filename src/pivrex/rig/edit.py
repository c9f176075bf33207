"""An open rig file: changed key by key, saved at once, with undo, and watched for changes by other programs."""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pivrex.document import Document
from pivrex.errors import ChangedOutside
from pivrex.files import alone
from pivrex.rig.read import read_text, rig_text
from pivrex.rig.renamed import old_key
from pivrex.rig.rig import Rig

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

__all__ = ["RigFile", "set_key"]


class RigFile(Document[Rig]):
    """A rig with its file; see `Document`. ``rig`` is always a rig without mistakes."""

    def __init__(self, path: Path) -> None:
        super().__init__(lambda text, file: read_text(text, file, Rig), "rig", rig_text)
        self._data: dict[str, Any] = {}
        self._document: tuple[str, TOMLDocument] | None = None  # parsed with its comments, and the text that it is
        self.open(path)

    @property
    def rig(self) -> Rig:
        """The rig in use."""
        assert self.content is not None
        return self.content

    def _use(self, text: str, content: Rig) -> None:
        super()._use(text, content)
        self._data = tomllib.loads(text)

    def get(self, key: str) -> object:
        """Return what the file holds at a dotted key, as it is written; None if the file leaves it out."""
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
            Such as ``shaping.forward.dead_band``; tables that are missing are made.
        value : object
            As it should stand in the file, such as ``"7 %"``.
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
                    self.path, f"{key} was just changed by another program, to {now}; do it again to have {value}"
                )
            self.change(self._with(lambda document: set_key(document, key, value)), f"{key} = {value}", join)

    def edit(self, what: str, change: Callable[[TOMLDocument], None], join: bool = False) -> None:
        """Change several things as one step and save; raises like `put`. ``join`` extends a step of the same name."""
        with alone(self.path):
            found = self.look_outside()
            if found and not self.problem:
                raise ChangedOutside(self.path, f"{found}; do it again to go on")
            self.change(self._with(change), what, join)

    def _with(self, change: Callable[[TOMLDocument], None]) -> str:
        """Return the changed text, with comments and order kept.

        Parsing with comments takes 20 ms, so the document is kept for the next change; one that turns out to be a
        mistake is never the text in use, and is parsed again.
        """
        import tomlkit  # loaded with the first change, so that the first screen need not wait for it

        if self._document is None or self._document[0] != self.text:
            self._document = (self.text, tomlkit.parse(self.text))
        document = self._document[1]
        self._document = None
        change(document)
        changed = tomlkit.dumps(document)
        self._document = (changed, document)
        return changed


def _rename(at: Any, key: str, name: str) -> None:
    """Return an old key of a table its new name."""
    before = old_key(key)
    if before in at and name not in at:
        at[name] = at.pop(before)


def set_key(document: TOMLDocument, key: str, value: object) -> None:
    """Set a dotted key, or with None take it out; tables that are missing are made."""
    import tomlkit

    *parents, last = key.split(".")
    at: Any = document
    for k, part in enumerate(parents, 1):
        if isinstance(at, list):
            at = at[int(part)]
            continue
        _rename(at, ".".join(parents[:k]), part)
        if part not in at:
            at[part] = tomlkit.table()
        at = at[part]
    if isinstance(at, list):
        at[int(last)] = value
        return
    _rename(at, key, last)
    if value is None:
        at.pop(last, None)
    elif last in at and hasattr(at[last], "trivia"):
        item = tomlkit.item(value)
        item.trivia.comment_ws, item.trivia.comment = at[last].trivia.comment_ws, at[last].trivia.comment
        at[last] = item
    else:
        at[last] = value
