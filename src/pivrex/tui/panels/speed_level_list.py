"""The list of speed levels: change, make, rename, duplicate or delete one."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from pivrex.errors import UnitError
from pivrex.tui.overlays.choices import Choice
from pivrex.tui.panels.file_list import EDITS, edits, named
from pivrex.tui.panels.panel import Panel
from pivrex.units import parse

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

__all__ = ["SpeedLevelList"]

KEY = "v"
ALLOWED = "the shares of full speed for moving and turning: 40 %, 60 %"


class SpeedLevelList(Panel):
    """An overlay while you choose; it draws nothing below."""

    def act_speed_levels(self) -> None:
        def choices() -> list[Choice]:
            levels = self.model.rig.speed_levels.levels
            there = [
                Choice(v.name, v.name, f"moving {v.moving:.0%}, turning {v.turning:.0%}".replace("%", " %"))
                for v in levels
            ]
            return [*there, Choice("new", "a new speed level ...")]

        def take(said: str) -> None:
            names = [v.name for v in self.model.rig.speed_levels.levels]
            word, _, name = said.partition(" ")
            if said == "new":
                self._later(
                    "name of the new speed level", "", "such as slow", lambda text: self._new(text, "50 %, 60 %")
                )
            elif said in names:
                self._change(said)
            elif word in ("rename", "duplicate", "delete") and name in names:
                getattr(self, f"_{word}")(name)

        first = self.model.rig.speed_levels.levels[0].name
        self.view.choose("speed levels", choices, first, KEY, take, edits, EDITS)

    def _later(self, what: str, shown: str, allowed: str, take: Callable[[str], None]) -> None:
        # the list may still be closing
        self.view.canvas.call_later(self.view.ask, what, shown, allowed, take)

    def _there(self, name: str) -> bool:
        return name in [v.name for v in self.model.rig.speed_levels.levels]

    def _new(self, text: str, shown: str) -> None:
        name = named(text, self._there)
        self._later(
            f"speed level {name}", shown, ALLOWED, lambda shares: self._put(name, shares, f"speed level {name} added")
        )

    def _shares(self, name: str) -> str:
        level = next(v for v in self.model.rig.speed_levels.levels if v.name == name)
        return f"{level.moving * 100:g} %, {level.turning * 100:g} %"

    def _change(self, name: str) -> None:
        self._later(
            f"speed level {name}",
            self._shares(name),
            ALLOWED,
            lambda shares: self._put(name, shares, f"speed level {name}"),
        )

    def _duplicate(self, name: str) -> None:
        self._later(
            f"name of the copy of {name}", f"{name} 2", "such as slow", lambda text: self._new(text, self._shares(name))
        )

    def _put(self, name: str, shares: str, what: str) -> None:
        words = [w.strip() for w in shares.split(",")]
        if len(words) != 2:
            raise UnitError(f"write {ALLOWED}")
        moving = parse(words[0], "fraction")
        parse(words[1], "fraction")

        def change(document: TOMLDocument) -> None:
            levels = _levels(document)
            table: dict[str, Any] = {"name": name, "moving": words[0], "turning": words[1]}
            at = [k for k, one in enumerate(levels) if one["name"] == name]
            if at:
                levels[at[0]].update(table)
            else:  # the slowest is first
                faster = [
                    k for k, one in enumerate(levels) if parse(str(one.get("moving", "100 %")), "fraction") > moving
                ]
                levels.insert(faster[0] if faster else len(levels), table)

        if not self.model.edit(what, change) and self.model.message_alarm:
            raise UnitError(self.model.message)

    def _rename(self, name: str) -> None:
        def take(text: str) -> None:
            new = named(text, lambda said: said != name and self._there(said))

            def change(document: TOMLDocument) -> None:
                for one in _levels(document):
                    if one["name"] == name:
                        one["name"] = new
                if document["speed_levels"].get("start") == name:
                    document["speed_levels"]["start"] = new
                for binding in document.get("bindings", []):
                    if binding["does"] == f"level {name}":
                        binding["does"] = f"level {new}"

            self.model.edit(f"speed level {name} is {new} now", change)

        self._later(f"new name of {name}", name, "such as slow", take)

    def _delete(self, name: str) -> None:
        if len(self.model.rig.speed_levels.levels) == 1:
            self.model.say("the only speed level stays; Enter changes its shares")
            return

        def change(document: TOMLDocument) -> None:
            levels = _levels(document)
            levels.pop(next(k for k, one in enumerate(levels) if one["name"] == name))
            if document["speed_levels"].get("start") == name:
                document["speed_levels"].pop("start")

        if self.model.edit(f"speed level {name} deleted", change):
            self.model.say(f"speed level {name} is deleted; u restores it")


def _levels(document: TOMLDocument) -> Any:
    """Return the levels of a rig's file; the one that each rig has stands there if none did."""
    import tomlkit

    table = document.setdefault("speed_levels", tomlkit.table())
    if "levels" not in table:
        table["levels"] = tomlkit.aot()
        table["levels"].append(tomlkit.item({"name": "full", "moving": "100 %", "turning": "100 %"}))
    return table["levels"]
