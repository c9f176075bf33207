"""Which control does what: the list of it, and a control that is moved to be taken for it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from pivrex.rig.channels import CHANNELS
from pivrex.rig.controls import same_stick
from pivrex.rig.edit import set_key
from pivrex.rig.patches import Patch, patches_of
from pivrex.session.messages import Stop
from pivrex.session.report import SourceReport
from pivrex.tui.overlays.entry import ValueEntry
from pivrex.tui.view import View

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

    from pivrex.tui.model import ScreenModel

__all__ = ["Controls"]

MOVED = 0.5
"""A control that moves by this much is the one that is meant."""


class Controls(View):
    """The part of Driver that knows what controls do, and waits for one that shall do something."""

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self._source = ""
        self._patch = 0
        self._learning: dict[tuple[str, str], float] | None = None
        self._action = ""
        """What a new binding shall do that waits for its control."""
        self._entry: tuple[str, str, str, Callable[[str], None]] = ("", "", "", lambda _: None)

    def sources(self) -> list[SourceReport]:
        """Give the sources, the robot's link last."""
        raise NotImplementedError

    def source(self) -> SourceReport | None:
        """Give the selected source; the one that drives until another is selected."""
        name = self._source or self.model.status.source
        found = self.sources()
        return next((s for s in found if s.name == name), found[0] if found else None)

    def patches(self) -> list[Patch]:
        """Give what is patched: of a source of letters these, else all that is done by moving something."""
        source = self.source()
        found = [p for p in patches_of(self.model.rig) if p.source != "session"]
        letters = [p for p in found if source is not None and source.kind == "letters" and p.source == source.name]
        # none of them are there for a moment after another rig was opened
        return letters or [p for p in found if not p.channel.startswith("letter ")]

    def chosen(self) -> Patch:
        """Give the selected patch."""
        patches = self.patches()
        self._patch = min(self._patch, len(patches) - 1)
        return patches[self._patch]

    # --- which control ---

    def act_patch(self) -> None:
        """Wait for the control; the robot is stopped meanwhile."""
        patch = self.chosen()
        if patch.channel.startswith("letter "):
            self._ask("letter", patch.key.rpartition(".")[2], "one letter, digit or sign", self._take_letter)
            return
        self.model.ask(Stop("a control is being patched"))
        self._learning = {}
        self.model.say(
            f"move the control that shall do: {patch.function}, or press F1 to F12. Backspace leaves it as it is"
        )

    def _learn(self) -> None:
        """Wait for the control that shall do the selected function."""
        assert self._learning is not None
        for source in self.sources():
            for channel, value in source.readings.items():
                before = self._learning.setdefault((source.name, channel), value)
                if abs(value - before) >= MOVED and not channel.startswith("letter "):
                    self._learning = None
                    self._put(self.chosen(), source, channel)
                    return

    def take_learning_key(self, key: str) -> bool:
        """Take a key while a control is waited for: Backspace leaves all as it is, F1 to F12 stand for a button."""
        if self._learning is None:
            return False
        if key in ("backspace", "v"):
            self.cancel()
            self.model.say("the patch stays as it is")
            return True
        source = self.source()
        if key[:1] == "f" and key[1:].isdecimal() and source is not None:
            used = {p.channel for p in patches_of(self.model.rig)}
            free = (c for c in CHANNELS if c.startswith("button_") and c not in used)
            channel = self.model.button_keys.get(key) or next(free, "button_0")
            self._learning = None
            keys = next((s for s in self.sources() if s.name == "keys"), source)
            self._put(self.chosen(), keys, channel, beside=True)
            return True
        return False

    def cancel(self) -> None:
        self._learning, self._action = None, ""

    def _put(self, patch: Patch, source: SourceReport, channel: str, beside: bool = False) -> None:
        model = self.model
        # the source that drives, whichever it is; any other is named
        own = source.name in model.rig.sources
        name = "chosen" if beside or source.name == model.status.source else source.name if own else source.kind
        if self._action:
            action, self._action = self._action, ""
            if model.edit(f"{action} by {channel}", lambda d: _add(d, channel, action, name)):
                self._patch = len(
                    [p for p in self.patches() if p.key.startswith(("law.", "speed_levels", "plane", "steering"))]
                )
                self._patch += len(model.rig.bindings) - 1
                model.say(f"{channel} does {action} now; let go, then g")
            return
        if patch.key.startswith("law."):
            changes = self._law_changes(patch, channel)
            if name != model.rig.axis(channel).source:
                changes.append((f"axes.{channel}.source", name))
        elif patch.binding is not None:
            changes = [(f"{patch.key}.channel", channel)]
            if name != patch.source:
                changes.append((f"{patch.key}.source", name))
        else:
            changes = [(patch.key, channel)]
        if self._edit(f"{patch.function} by {channel}", changes):
            by = f" of {name}" if name != "chosen" else ""
            model.say(f"{patch.function} is done by {channel}{by}; let go, then g")

    def _law_changes(self, patch: Patch, channel: str) -> list[tuple[str, object]]:
        """Let a function of the law read another channel. One that read it before gets this one's; arcade becomes split
        arcade, and back, as the sticks are.
        """
        rig = self.model.rig
        axes = rig.law.axes()
        changes: list[tuple[str, object]] = [(patch.key, channel)]
        reads = {role: rig.channel(axis) for role, axis in axes.items()}
        for role, other in reads.items():
            if other == channel and role != patch.function:
                changes.append((f"law.{role}", axes[patch.function]))
                reads[role] = reads[patch.function]
        reads[patch.function] = channel
        if rig.law.kind in ("arcade", "split arcade"):
            kind = "arcade" if same_stick(reads["forward"], reads["turn"]) else "split arcade"
            if kind != rig.law.kind:
                changes.append(("law.kind", kind))
        return changes

    def _take_letter(self, text: str) -> None:
        """Give the selected letter's action to another letter."""
        raise NotImplementedError

    # --- typing, and writing the rig ---

    def _ask(self, what: str, shown: str, allowed: str, take: Callable[[str], None]) -> None:
        self._entry = (what, shown, allowed, take)
        self.app.push_screen(ValueEntry(self))

    def entry(self) -> tuple[str, str, str]:
        return self._entry[:3]

    def type_in(self, text: str) -> None:
        """Take what was typed; raises `UnitError`."""
        self._entry[3](text)

    def _edit(self, what: str, changes: list[tuple[str, object]]) -> bool:
        def put(document: TOMLDocument) -> None:
            for key, value in changes:
                set_key(document, key, value)

        return self.model.edit(what, put)


def _add(document: TOMLDocument, channel: str, action: str, source: str) -> None:
    """Add a binding to a rig's file."""
    import tomlkit

    table = tomlkit.table()
    table.update({"channel": channel, "does": action})
    if source != "chosen":
        table["source"] = source
    if "bindings" not in document:
        document["bindings"] = tomlkit.aot()
    document["bindings"].append(table)
