"""The list of attachments: make one from an example, rename, duplicate or delete it, together with its bindings."""

from __future__ import annotations

import re
from collections.abc import Callable
from copy import deepcopy
from typing import TYPE_CHECKING, Any

from pivrex.tui.overlays.choices import Choice
from pivrex.tui.panels.file_list import EDITS, edits, named
from pivrex.tui.panels.panel import Panel

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

__all__ = ["AttachmentList"]

EXAMPLES: dict[str, tuple[str, dict[str, Any]]] = {
    "arm": ("a motor that moves while a button is held", {"kind": "motor", "output": {"kind": "duty"}}),
    "boom": ("a motor with an encoder that goes to an angle", {
        "kind": "position", "counts_per_turn": 1440, "minimum": "0 deg", "maximum": "90 deg", "top_speed": "90 deg/s", "safe": "hold",
        "output": {"kind": "duty"}}),
    "lift": ("a motor with an encoder and a drum that goes to a height", {
        "kind": "lift", "drum_radius": "12 mm", "counts_per_turn": 1440, "minimum": "0 mm", "maximum": "300 mm", "top_speed": "150 mm/s",
        "safe": "hold", "output": {"kind": "duty"}}),
    "claw": ("a servo between two angles", {"kind": "servo", "minimum": "0 deg", "maximum": "90 deg", "safe": "0 deg"}),
    "pump": ("something that is on or off: a pump, a lamp, a relay", {"kind": "switch"}),
}  # fmt: skip
"""What one may begin with, by the name that is suggested."""

KEY = "A"


class AttachmentList(Panel):
    """An overlay while you choose; it draws nothing below."""

    def act_attachments(self) -> None:
        rig = self.model.rig

        def choices() -> list[Choice]:
            there = [Choice(name, name, one.kind) for name, one in self.model.rig.attachments.items()]
            return [*there, Choice("new", "a new attachment ...")]

        def take(said: str) -> None:
            word, _, name = said.partition(" ")
            if said == "new":
                self.view.canvas.call_later(self._choose_example)
            elif word in ("rename", "duplicate", "delete") and name in rig.attachments:
                getattr(self, f"_{word}")(name)
            elif said in rig.attachments:
                self._rename(said)

        self.view.choose("what it carries", choices, next(iter(rig.attachments), "new"), KEY, take, edits, EDITS)

    def _choose_example(self) -> None:
        choices = [Choice(name, name, what) for name, (what, _) in EXAMPLES.items()]
        self.view.choose(
            "a new attachment: like which?",
            lambda: choices,
            "arm",
            KEY,
            lambda name: self._add(name, EXAMPLES[name][1]),
        )

    def _free(self, name: str) -> str:
        taken = self.model.rig.attachments
        return next(n for n in (name, *(f"{name} {k}" for k in range(2, 99))) if n not in taken)

    def _ask(self, what: str, shown: str, take: Callable[[str], None]) -> None:
        # the list may still be closing
        self.view.canvas.call_later(self.view.ask, what, shown, "letters, digits, spaces and -", take)

    def _add(self, like: str, table: dict[str, Any]) -> None:
        def take(text: str) -> None:
            name = named(text, self.model.rig.attachments.__contains__)

            def change(document: TOMLDocument) -> None:
                document.setdefault("attachments", {})[name] = deepcopy(table)

            if self.model.edit(f"{name} added", change):
                self.model.say(f"{name} is new; + binds a button to it, and its limits stand in the rig's file")

        self._ask("name of the new attachment", self._free(like), take)

    def _duplicate(self, name: str) -> None:
        table = dict(self.model.file.get(f"attachments.{name}"))  # type: ignore[call-overload]
        for key in ("pin", "port"):  # another one is mounted elsewhere
            table.get("output", {}).pop(key, None)
        self._add(name, table)

    def _rename(self, name: str) -> None:
        def take(text: str) -> None:
            new = named(text, lambda said: said != name and said in self.model.rig.attachments)
            if new == name:
                return

            def change(document: TOMLDocument) -> None:
                tables = document["attachments"]
                ordered = [(new if key == name else key, tables[key]) for key in list(tables)]
                for key in list(tables):
                    del tables[key]
                for key, table in ordered:
                    tables[key] = table
                for place, key, said in _actions(document):
                    place[key] = re.sub(rf"^{re.escape(name)}\b", new, said)

            self.model.edit(f"{name} is {new} now", change)

        self._ask(f"new name of {name}", name, take)

    def _delete(self, name: str) -> None:
        def change(document: TOMLDocument) -> None:
            del document["attachments"][name]
            for place, key, _ in [found for found in _actions(document) if re.match(rf"{re.escape(name)}\b", found[2])]:
                place.pop(key)
            if "bindings" in document:
                for at in reversed([k for k, one in enumerate(document["bindings"]) if "does" not in one]):
                    document["bindings"].pop(at)

        if self.model.edit(f"{name} deleted, with its bindings", change):
            self.model.say(f"{name} is deleted, with its bindings; u restores it")


def _actions(document: TOMLDocument) -> list[tuple[Any, str, str]]:
    """Return what controls do: the table, the key, and the words."""
    found = [(one, "does", str(one["does"])) for one in document.get("bindings", [])]
    for source in document.get("sources", {}).values():
        letters = source.get("letters", {})
        found += [(letters, key, str(words)) for key, words in letters.items()]
    return found
