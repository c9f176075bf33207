"""The list of controls and their actions; a control that you move is selected."""

from __future__ import annotations

from typing import TYPE_CHECKING

from pivrex.errors import UnitError
from pivrex.rig.channels import CHANNELS
from pivrex.rig.controls import same_stick
from pivrex.rig.edit import set_key
from pivrex.rig.patches import Patch, patches_of
from pivrex.rig.sources import LettersSource
from pivrex.session.messages import Stop
from pivrex.session.report import SourceReport
from pivrex.tui.draw.picture import Picture
from pivrex.tui.keys import key_name
from pivrex.tui.panels.panel import Panel
from pivrex.tui.panels.source_list import SourceList

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

    from pivrex.tui.model import ScreenModel

__all__ = ["PRESSED", "PatchList", "acts", "listens"]

PRESSED = 0.5

MOVED = 0.5
"""A control that moves by this much is the one that is meant."""


class PatchList(Panel):
    """The controls and their actions, one selected; and the wait for a control to be moved.

    Attributes
    ----------
    rows : dict of int to int
        In which row each patch was drawn.
    """

    def __init__(self, sources: SourceList) -> None:
        super().__init__(sources.view)
        self._sources = sources
        self._patch = 0
        self._known: tuple[tuple[object, ...], list[Patch]] | None = None
        """The patches, and of which rig and source."""
        self._learning: dict[tuple[str, str], float] | None = None
        self._action = ""
        """What a new binding should do that waits for its control."""
        self.rows: dict[int, int] = {}

    def patches(self) -> list[Patch]:
        """Return what is patched: of a source of letters these, else all that is done by moving something."""
        source = self._sources.source()
        now = self.model.serial, source and source.name
        if self._known is None or self._known[0] != now:
            self._known = now, self._patches_of(source)
        return self._known[1]

    def _patches_of(self, source: SourceReport | None) -> list[Patch]:
        found = [p for p in patches_of(self.model.rig) if p.source != "session"]
        letters = [p for p in found if source is not None and source.kind == "letters" and p.source == source.name]
        # none of them are there for a moment after another rig was opened
        return letters or [p for p in found if not p.channel.startswith("letter ")]

    def chosen(self) -> Patch:
        """Return the selected patch."""
        patches = self.patches()
        self._patch = min(self._patch, len(patches) - 1)
        return patches[self._patch]

    # --- which control ---

    def act_patch(self) -> None:
        """Wait for the control; the robot is stopped meanwhile."""
        patch = self.chosen()
        if patch.channel.startswith("letter "):
            self.view.ask("letter", patch.key.rpartition(".")[2], "one letter, digit or sign", self._take_letter)
            return
        self.learn()
        self.model.say(f"move the control for {patch.function}, or press F1 to F12. Backspace cancels")

    def learn(self, action: str = "") -> None:
        """Wait for the control of the selected function, or of a new binding that does an action; the robot is stopped meanwhile."""
        self.model.ask(
            Stop(f"waits for the control of {action or self.chosen().function}, or F1 to F12; Backspace cancels")
        )
        self._learning, self._action = {}, action

    def update(self) -> None:
        if self._learning is not None:
            self._learn()

    def _learn(self) -> None:
        """Wait for the control that does the selected function."""
        assert self._learning is not None
        for source in self._sources.sources():
            for channel, value in source.readings.items():
                before = self._learning.setdefault((source.name, channel), value)
                if abs(value - before) >= MOVED and not channel.startswith("letter "):
                    self._heard(source, channel)
                    return

    def _heard(self, source: SourceReport, channel: str, key: str = "", in_addition: bool = False) -> None:
        """Bind the moved control; if it already does something, say so and wait on."""
        taken = self._does_already(source, channel, in_addition)
        if taken:
            named = f"{key_name(key)} ({channel})" if key else channel
            self.model.say(f'{named} already does "{taken}"; choose another control. Backspace cancels', alarm=True)
            self._learning = {}
            return
        self._learning = None
        if key:
            self.model.gives_key(key, channel)
        self._put(self.chosen(), source, channel, in_addition)

    def _does_already(self, source: SourceReport, channel: str, in_addition: bool) -> str:
        """Return what a control of a source does already, if a binding may not share it; empty for nothing."""
        mine = "" if self._action else self.chosen().key
        if mine.startswith("law."):
            return ""  # functions of the law change places
        if mine and not _is_plain(self.chosen()):
            return ""  # a control may be shared; whether by these two the rig says
        for patch in self.patches():
            same = patch.source in ("chosen", source.name, source.kind) or in_addition
            if (
                patch.channel == channel
                and same
                and _is_plain(patch)
                and patch.key != mine
                and patch.action is not None
            ):
                return patch.function
        return ""

    def take_key(self, key: str) -> bool:
        """Take a key while a control is waited for: Backspace leaves all as it is, F1 to F12 stand for a button."""
        if self._learning is None:
            return False
        if key in ("backspace", "v"):
            self.cancel()
            self.model.say("nothing is changed")
            return True
        source = self._sources.source()
        if key[:1] == "f" and key[1:].isdecimal() and source is not None:
            used = {p.channel for p in patches_of(self.model.rig)}
            free = (c for c in CHANNELS if c.startswith("button_") and c not in used)
            channel = self.model.button_keys.get(key) or next(free, "button_0")
            keys = next((s for s in self._sources.sources() if s.name == "keys"), source)
            self._heard(keys, channel, key, in_addition=True)
            return True
        return False

    def cancel(self) -> None:
        self._learning, self._action = None, ""

    def closed(self) -> None:
        self._learning = None

    def act_previous_setting(self) -> None:
        self._patch = max(0, self._patch - 1)

    def act_next_setting(self) -> None:
        self._patch += 1
        self.chosen()

    def chosen_key(self) -> str:
        return self.chosen().key

    def press(self, what: str, value: str) -> bool:
        if what == "patch":
            if int(value) == self._patch:
                self.act_patch()
            self._patch = int(value)
        return what == "patch"

    def draw(self, width: int, height: int) -> Picture:
        picture, model, patches, source = Picture(width, height), self.model, self.patches(), self._sources.source()
        if source is None:
            return picture
        picture.text(1, 0, "what they do", "title")
        for hint in ("↑↓ select  v control  = choose", "v control  = choose", "= choose"):
            if width >= len(hint) + 17:
                picture.right(width - 1, 0, hint, "dim")
                break
        rows, new = height - 2, self._action if self._learning is not None else ""
        keys = {button: key_name(key) for key, button in model.button_keys.items()}
        at_work = len(patches) if new else self._patch
        first = max(0, min(at_work - rows // 2, len(patches) + bool(new) - rows))
        step = 2 if rows > 2 * (len(patches) + bool(new)) else 1
        self.rows = {}
        for i, patch in enumerate(patches[first : first + rows], first):
            row = 2 + (i - first) * step
            here = i == at_work
            self.rows[i] = row
            picture.spot(0, row, width, "patch", str(i))
            picture.text(0, row, "▸" if here else " ", "commanded")
            active = acts(patch, source, model)
            named = "chosen" if here else "commanded" if active else "rest"
            words = self._words(patch)
            at = picture.text(2, row, f"{words} ", named, width - 3)
            key = keys.get(patch.channel, "") if patch.action is not None and patch.source in ("chosen", "keys") else ""
            if key:
                picture.right(width - 1, row, key, "key")
            if here and self._learning is not None:
                picture.text(at + 1, row, "now its control ...", "target", max(0, width - at - 2))
            elif not listens(patch, source, model):
                who = patch.source if patch.source != "chosen" else model.status.source
                picture.text(at + 1, row, f"{patch.channel} of {who}", "dim", max(0, width - at - 3 - len(key)))
        hidden = len(patches) - first - rows
        if hidden > 0:
            picture.right(width - 1, 1, f"{hidden} more: ↓", "dim")
        if new:  # it has a row of its own while it waits for its control
            row = 2 + (len(patches) - first) * step
            picture.text(0, row, "▸", "commanded")
            at = picture.text(2, row, f"{new} ", "chosen", width - 3)
            picture.text(at + 1, row, "now its control ...", "target", max(0, width - at - 2))
        return picture

    def _words(self, patch: Patch) -> str:
        """Return what a patch does, when, and with what."""
        if patch.action is None and patch.key.startswith("law."):
            return f"{patch.function} (law {self.model.rig.law.kind})"
        when, with_ = (patch.binding.when, patch.binding.with_) if patch.binding is not None else ("", "")
        return patch.function + (f", {when}" if when not in ("", "held") else "") + (f", with {with_}" if with_ else "")

    def _put(self, patch: Patch, source: SourceReport, channel: str, in_addition: bool = False) -> None:
        model = self.model
        # the source that drives, whichever it is; any other is named
        own = source.name in model.rig.sources
        name = "chosen" if in_addition or source.name == model.status.source else source.name if own else source.kind
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
        if self.put(f"{patch.function} by {channel}", changes):
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
                changes.append((rig.law.key(role), axes[patch.function]))
                reads[role] = reads[patch.function]
        reads[patch.function] = channel
        if rig.law.kind in ("arcade", "split arcade"):
            kind = "arcade" if same_stick(reads["forward"], reads["turn"]) else "split arcade"
            if kind != rig.law.kind:
                changes.append(("law.kind", kind))
        return changes

    def _take_letter(self, text: str) -> None:
        patch = self.chosen()
        letter = text.strip()
        self.check_letter(letter, patch.source)
        words = self.model.file.get(patch.key)

        def change(document: TOMLDocument) -> None:
            set_key(document, patch.key, None)
            set_key(document, f"{patch.key.rpartition('.')[0]}.{letter}", words)

        self.model.edit(f"letter {letter} does {patch.function}", change)

    def check_letter(self, letter: str, source: str) -> None:
        spec = self.model.rig.sources.get(source)
        if len(letter) != 1 or not letter.isascii() or not letter.isprintable() or letter in " .":
            raise UnitError(f'is "{letter}", but should be one letter, digit or sign, and no dot')
        if isinstance(spec, LettersSource) and letter in spec.letters:
            raise UnitError(f'is "{letter}", which does {spec.letters[letter]} already')

    # --- typing, and writing the rig ---

    def put(self, what: str, changes: list[tuple[str, object]]) -> bool:
        def put(document: TOMLDocument) -> None:
            for key, value in changes:
                set_key(document, key, value)

        return self.model.edit(what, put)


def _is_plain(patch: Patch) -> bool:
    """Return whether a patch acts whenever its control is pressed: alone, and not by a number of presses."""
    return patch.binding is None or (not patch.binding.with_ and patch.binding.when in ("", "held"))


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


def listens(patch: Patch, source: SourceReport, model: ScreenModel) -> bool:
    """Return whether a patch listens to this source now."""
    return patch.source in (source.name, source.kind) or (
        patch.source == "chosen" and source.name == model.status.source
    )


def acts(patch: Patch, source: SourceReport, model: ScreenModel) -> bool:
    """Return whether what is patched acts now."""
    if patch.key.startswith("law.") and model.row is not None:
        return model.value("band", patch.function) != 0
    if not listens(patch, source, model):
        return False
    value = source.readings.get(patch.channel, 0.0)
    if patch.action is not None and patch.action.verb == "follow":
        return abs(value) > (patch.binding.dead_band if patch.binding is not None else 0.0)
    return value >= PRESSED
