"""What controls do, chosen on the screen: which one does it, what, when, and with which other; the same for every kind of source."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from pivrex.errors import UnitError
from pivrex.rig.actions import read_action, split_time
from pivrex.rig.base import counted
from pivrex.rig.channels import CHANNELS, describe_channel
from pivrex.rig.controls import LAWS, same_stick
from pivrex.rig.edit import set_key
from pivrex.rig.offered import offered, times_of
from pivrex.rig.patches import Patch, patches_of, source_channels
from pivrex.rig.sources import LettersSource
from pivrex.session.messages import Stop
from pivrex.session.report import SourceReport
from pivrex.tui.overlays.choices import Choice, Choices
from pivrex.tui.overlays.entry import ValueEntry
from pivrex.tui.views.view import View

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

    from pivrex.tui.model import ScreenModel

__all__ = ["Patching"]

MOVED = 0.5
"""A control that moves by this much is the one that is meant."""

TYPED = "type it ..."
OWN_KEY = "equals_sign"


class Patching(View):
    """The part of Driver that changes what controls do."""

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

    # --- what, when, with ---

    def act_type_value(self) -> None:
        """Lay what can be chosen about the selected function over the view."""
        patch, rows = self.chosen(), self._rows()

        def take(row: object) -> None:
            if isinstance(row, str):
                {
                    "does": self._choose_what, "when": self._choose_when, "with": self._choose_with, "channel": self.act_patch,
                    "law": self._choose_law, "lasts": self._choose_lasts, "remove": self.act_remove_binding,
                    "add": self.act_add_binding,
                }[row]()  # fmt: skip

        where = counted(patch.key)
        self.app.push_screen(Choices(f"{patch.function}, at {where}", lambda: rows, "", OWN_KEY), take)

    def _rows(self) -> list[Choice]:
        patch = self.chosen()
        rows: list[Choice] = []
        if patch.key.startswith("law."):
            rows.append(Choice("channel", f"control: {patch.channel}", "move it"))
            rows.append(Choice("law", f"law: {self.model.rig.law.kind}", "what the sticks mean"))
        elif patch.channel.startswith("letter "):
            lasts = (
                f"{patch.lasts_s * 1e3:.0f} ms"
                if patch.lasts_s
                else "until the next"
                if patch.action and patch.action.lasts
                else "once"
            )
            rows.append(Choice("does", f"what: {patch.function}", "from a list, or typed"))
            rows.append(Choice("lasts", f"how long: {lasts}"))
            rows.append(Choice("channel", f"letter: {patch.key.rpartition('.')[2]}", "type another"))
            rows.append(Choice("remove", "take the letter away"))
        else:
            if patch.binding is not None and patch.action is not None:
                when = patch.binding.when or times_of(patch.action)[0][1].partition(":")[0]
                rows.append(Choice("does", f"what: {patch.function}", "from a list, or typed"))
                rows.append(Choice("when", f"when: {when}"))
                rows.append(
                    Choice("with", f"with: {patch.binding.with_ or 'nothing else'}", "only while that is held too")
                )
            of = "whatever drives" if patch.source == "chosen" else patch.source
            rows.append(Choice("channel", f"control: {patch.channel} of {of}", "move it, or F1 to F12"))
            rows.append(Choice("remove", "take it away"))
        source = self.source()
        letters = source is not None and source.kind == "letters"
        rows.append(Choice("add", "a new letter ..." if letters else "a new binding ..."))
        return rows

    def _pick(self, title: str, choices: list[Choice], chosen: str, take: Callable[[str], object]) -> None:
        def taken(value: object) -> None:
            if isinstance(value, str):
                take(value)

        self.app.push_screen(Choices(title, lambda: choices, chosen, OWN_KEY), taken)

    def _ask(self, what: str, shown: str, allowed: str, take: Callable[[str], None]) -> None:
        self._entry = (what, shown, allowed, take)
        self.app.push_screen(ValueEntry(self))

    def entry(self) -> tuple[str, str, str]:
        return self._entry[:3]

    def type_in(self, text: str) -> None:
        """Take what was typed; raises `UnitError`."""
        self._entry[3](text)

    def _pick_action(self, title: str, now: str, take: Callable[[str], None]) -> None:
        """Let an action be chosen from a list, or typed."""
        choices = [Choice(text, text, what) for text, what in offered(self.model.rig)]
        choices.insert(0, Choice(TYPED, TYPED, "such as slow 35 %, boom to 55 deg"))
        if now and now not in [c.value for c in choices]:
            choices.insert(1, Choice(now, now, "as it is"))

        def chosen(value: str) -> None:
            if value == TYPED:
                names = ", ".join(f"{n} ..." for n in self.model.rig.attachments)
                self._ask(title, now, f"such as slow 40 %, turn left 60 %, {names or 'record, stop'}", take)
            else:
                self._taken(lambda: take(value))

        self._pick(title, choices, now, chosen)

    def _taken(self, act: Callable[[], None]) -> None:
        try:
            act()
        except UnitError as problem:
            self.model.say(str(problem), alarm=True)

    def _read(self, text: str) -> None:
        """Raise `UnitError` if a text is no action of this rig."""
        rig = self.model.rig
        read_action(text, rig.attachments, [v.name for v in rig.speed_levels.levels])

    def _choose_what(self) -> None:
        patch = self.chosen()
        if patch.binding is not None:

            def take(text: str) -> None:
                self._read(text)
                changes: list[tuple[str, object]] = [(f"{patch.key}.does", text)]
                if patch.binding is not None and patch.binding.when:
                    changes.append((f"{patch.key}.when", None))  # what it was may not fit; the usual does
                self._edit(f"{patch.channel} does {text}", changes)

            self._pick_action(f"{patch.channel} does", patch.binding.does, take)
            return

        def take_of_letter(text: str) -> None:
            self._read(split_time(text)[0])
            self._edit(f"{patch.channel} does {text}", [(patch.key, text)])

        self._pick_action(f"{patch.channel} does", patch.function, take_of_letter)

    def _choose_when(self) -> None:
        patch = self.chosen()
        if patch.action is None or patch.binding is None:
            return
        choices = [
            Choice(value, value or what.partition(":")[0], what.partition(": ")[2] or what)
            for value, what in times_of(patch.action)
        ]
        self._pick(
            f"{patch.channel} does {patch.function}", choices, patch.binding.when,
            lambda value: self._edit(f"{patch.function} when {value or 'usual'}", [(f"{patch.key}.when", value or None)]),
        )  # fmt: skip

    def _choose_with(self) -> None:
        patch = self.chosen()
        if patch.binding is None:
            return
        there = source_channels(self.model.rig, patch.source) or CHANNELS
        buttons = [
            c for c in there if c.startswith(("button_", "left_trigger", "right_trigger")) and c != patch.channel
        ]
        choices = [
            Choice("", "nothing else"),
            *(Choice(c, c, describe_channel(c) if c in CHANNELS else "") for c in buttons),
        ]
        self._pick(
            f"{patch.function}: only while this is held too", choices, patch.binding.with_,
            lambda value: self._edit(f"{patch.function} with {value or 'nothing'}", [(f"{patch.key}.with", value or None)]),
        )  # fmt: skip

    def _choose_law(self) -> None:
        rig = self.model.rig
        choices = [Choice(kind, kind, ", ".join(f"{r} by {c}" for r, c in axes.items())) for kind, axes in LAWS.items()]

        def take(kind: str) -> None:
            def change(document: TOMLDocument) -> None:
                for role in rig.law.axes():  # another law has functions of its own, read from their usual channels
                    set_key(document, f"law.{role}", None)
                set_key(document, "law.kind", kind)

            if kind != rig.law.kind:
                self.model.edit(f"law {kind}", change)

        self._pick("what the sticks mean", choices, rig.law.kind, take)

    def _choose_lasts(self) -> None:
        patch = self.chosen()
        if patch.action is None or not patch.action.lasts:
            self.model.say(f"{patch.function} is done once")
            return
        choices = [Choice("", "until the next letter that moves the same")]
        choices += [Choice(t, t) for t in ("200 ms", "400 ms", "800 ms", "1.5 s", "3 s")]

        def take(time: str) -> None:
            text = patch.function + (f" for {time}" if time else "")
            self._edit(f"{patch.channel} does {text}", [(patch.key, text)])

        self._pick(f"{patch.channel} does {patch.function}", choices, "", take)

    def _take_letter(self, text: str) -> None:
        patch = self.chosen()
        letter = text.strip()
        self._check_letter(letter, patch.source)
        words = self.model.file.get(patch.key)

        def change(document: TOMLDocument) -> None:
            set_key(document, patch.key, None)
            set_key(document, f"{patch.key.rpartition('.')[0]}.{letter}", words)

        self.model.edit(f"letter {letter} does {patch.function}", change)

    def _check_letter(self, letter: str, source: str) -> None:
        spec = self.model.rig.sources.get(source)
        if len(letter) != 1 or not letter.isascii() or not letter.isprintable() or letter in " .":
            raise UnitError(f'is "{letter}", but should be one letter, digit or sign, and no dot')
        if isinstance(spec, LettersSource) and letter in spec.letters:
            raise UnitError(f'is "{letter}", which does {spec.letters[letter]} already')

    # --- new ones, and away with them ---

    def act_add_binding(self) -> None:
        """Choose what shall be done, and then the control or the letter that does it."""
        source = self.source()
        if source is not None and source.kind == "letters":
            self._pick_action(
                f"a new letter of {source.name} does", "", lambda text: self._add_letter(source.name, text)
            )
            return

        def take(text: str) -> None:
            self._read(text)
            self.model.ask(Stop("a control is being patched"))
            self._learning, self._action = {}, text
            self.model.say(f"press the control that shall do: {text}, or F1 to F12. Backspace leaves it")

        self._pick_action("a new binding does", "", take)

    def _add_letter(self, source: str, text: str) -> None:
        self._read(split_time(text)[0])

        def take(letter: str) -> None:
            self._check_letter(letter.strip(), source)
            self._edit(f"letter {letter.strip()} does {text}", [(f"sources.{source}.letters.{letter.strip()}", text)])

        # the entry that asked for the action may still be closing
        self.call_later(self._ask, "letter", "", f"one letter, digit or sign for: {text}", take)

    def act_remove_binding(self) -> None:
        patch = self.chosen()
        if patch.key.startswith("law."):
            self.model.say(f"{patch.function} is a function of the law; it stands at {counted(patch.key)}")
        elif patch.binding is None:
            self._edit(f"{patch.function} removed", [(patch.key, None)])
        else:
            number = int(patch.key.rpartition(".")[2])
            self.model.edit(f"{patch.function} removed", lambda d: d["bindings"].pop(number))

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
