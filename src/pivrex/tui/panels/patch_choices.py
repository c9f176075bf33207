"""Chooses on the screen what controls do: the control, the action, the condition, and another control; the same for every kind of source."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from pivrex.errors import UnitError
from pivrex.rig.actions import read_action, split_time
from pivrex.rig.base import counted
from pivrex.rig.channels import CHANNELS, describe_channel
from pivrex.rig.controls import LAWS
from pivrex.rig.edit import set_key
from pivrex.rig.offered import offered, times_of
from pivrex.rig.patches import source_channels
from pivrex.tui.overlays.choices import Choice
from pivrex.tui.panels.panel import Panel
from pivrex.tui.panels.patch_list import PatchList
from pivrex.tui.panels.source_list import SourceList

if TYPE_CHECKING:
    from tomlkit import TOMLDocument


__all__ = ["PatchChoices"]

TYPED = "type it ..."
OWN_KEY = "equals_sign"


class PatchChoices(Panel):
    """The lists that change the selection of a `PatchList`, as overlays."""

    def __init__(self, sources: SourceList, patches: PatchList) -> None:
        super().__init__(sources.view)
        self._sources, self._patches = sources, patches

    # --- what, when, with ---

    def act_type_value(self) -> None:
        """Lay what can be chosen about the selected function over the view."""
        patch, rows = self._patches.chosen(), self._rows()

        def take(row: str) -> None:
            {
                "does": self._choose_what, "when": self._choose_when, "with": self._choose_with, "channel": self._patches.act_patch,
                "law": self._choose_law, "lasts": self._choose_lasts, "remove": self.act_remove_binding,
                "add": self.act_add_binding, "duplicate": self._duplicate,
            }[row]()  # fmt: skip

        where = counted(patch.key)
        self._pick(f"{patch.function}, at {where}", rows, "", take)

    def _rows(self) -> list[Choice]:
        patch = self._patches.chosen()
        rows: list[Choice] = []
        if patch.key.startswith("law."):
            rows.append(Choice("channel", f"control: {patch.channel}", "take another"))
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
            rows.append(Choice("remove", "delete the letter"))
        else:
            if patch.binding is not None and patch.action is not None:
                when = patch.binding.when or times_of(patch.action)[0][1].partition(":")[0]
                rows.append(Choice("does", f"what: {patch.function}", "from a list, or typed"))
                rows.append(Choice("when", f"when: {when}"))
                rows.append(
                    Choice("with", f"with: {patch.binding.with_ or 'nothing else'}", "only while that is held too")
                )
            of = "whatever drives" if patch.source == "chosen" else patch.source
            rows.append(Choice("channel", f"control: {patch.channel} of {of}", "take another, or F1 to F12"))
            rows.append(Choice("duplicate", "duplicate it", "the same, by another control"))
            rows.append(Choice("remove", "delete it"))
        source = self._sources.source()
        letters = source is not None and source.kind == "letters"
        rows.append(Choice("add", "a new letter ..." if letters else "a new binding ..."))
        return rows

    def _pick(self, title: str, choices: list[Choice], chosen: str, take: Callable[[str], object]) -> None:
        self.view.choose(title, lambda: choices, chosen, OWN_KEY, take)

    def _pick_action(self, title: str, now: str, take: Callable[[str], None]) -> None:
        """Let an action be chosen from a list, or typed."""
        choices = [Choice(text, text, what) for text, what in offered(self.model.rig)]
        choices.insert(0, Choice(TYPED, TYPED, "such as slow 35 %, boom to 55 deg"))
        if now and now not in [c.value for c in choices]:
            choices.insert(1, Choice(now, now, "as it is"))

        def chosen(value: str) -> None:
            if value == TYPED:
                names = ", ".join(f"{n} ..." for n in self.model.rig.attachments)
                self.view.ask(title, now, f"such as slow 40 %, turn left 60 %, {names or 'record, stop'}", take)
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
        patch = self._patches.chosen()
        if patch.binding is not None:

            def take(text: str) -> None:
                self._read(text)
                changes: list[tuple[str, object]] = [(f"{patch.key}.does", text)]
                if patch.binding is not None and patch.binding.when:
                    changes.append((f"{patch.key}.when", None))  # what it was may not fit; the usual does
                self._patches.put(f"{patch.channel} does {text}", changes)

            self._pick_action(f"{patch.channel} does", patch.binding.does, take)
            return

        def take_of_letter(text: str) -> None:
            self._read(split_time(text)[0])
            self._patches.put(f"{patch.channel} does {text}", [(patch.key, text)])

        self._pick_action(f"{patch.channel} does", patch.function, take_of_letter)

    def _choose_when(self) -> None:
        patch = self._patches.chosen()
        if patch.action is None or patch.binding is None:
            return
        choices = [
            Choice(value, value or what.partition(":")[0], what.partition(": ")[2] or what)
            for value, what in times_of(patch.action)
        ]
        self._pick(
            f"{patch.channel} does {patch.function}", choices, patch.binding.when,
            lambda value: self._patches.put(f"{patch.function} when {value or 'usual'}", [(f"{patch.key}.when", value or None)]),
        )  # fmt: skip

    def _choose_with(self) -> None:
        patch = self._patches.chosen()
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
            lambda value: self._patches.put(f"{patch.function} with {value or 'nothing'}", [(f"{patch.key}.with", value or None)]),
        )  # fmt: skip

    def _choose_law(self) -> None:
        rig = self.model.rig
        choices = [
            Choice(kind, kind, ", ".join(f"{r} by {c}" for r, c in axes.items()))
            for kind, axes in LAWS.items()
            if (kind == "each") == rig.is_bench
        ]

        def take(kind: str) -> None:
            def change(document: TOMLDocument) -> None:
                for role in rig.law.axes():  # another law has functions of its own, read from their usual channels
                    set_key(document, f"law.{role}", None)
                set_key(document, "law.kind", kind)

            if kind != rig.law.kind:
                self.model.edit(f"law {kind}", change)

        self._pick("what the sticks mean", choices, rig.law.kind, take)

    def _choose_lasts(self) -> None:
        patch = self._patches.chosen()
        if patch.action is None or not patch.action.lasts:
            self.model.say(f"{patch.function} is done once")
            return
        choices = [Choice("", "until the next letter that moves the same")]
        choices += [Choice(t, t) for t in ("200 ms", "400 ms", "800 ms", "1.5 s", "3 s")]

        def take(time: str) -> None:
            text = patch.function + (f" for {time}" if time else "")
            self._patches.put(f"{patch.channel} does {text}", [(patch.key, text)])

        self._pick(f"{patch.channel} does {patch.function}", choices, "", take)

    # --- new ones, and away with them ---

    def act_add_binding(self) -> None:
        """Choose what should be done, and then the control or the letter that does it."""
        source = self._sources.source()
        if source is not None and source.kind == "letters":
            self._pick_action(
                f"a new letter of {source.name} does", "", lambda text: self._add_letter(source.name, text)
            )
            return

        def take(text: str) -> None:
            self._read(text)
            self._learn(text)

        self._pick_action("a new binding does", "", take)

    def _duplicate(self) -> None:
        self._learn(self._patches.chosen().function)

    def _learn(self, action: str) -> None:
        self._patches.learn(action)
        self.model.say(f"press the control for {action}, or F1 to F12. Backspace cancels")

    def _add_letter(self, source: str, text: str) -> None:
        self._read(split_time(text)[0])

        def take(letter: str) -> None:
            self._patches.check_letter(letter.strip(), source)
            self._patches.put(
                f"letter {letter.strip()} does {text}", [(f"sources.{source}.letters.{letter.strip()}", text)]
            )

        # the entry that asked for the action may still be closing
        self.view.canvas.call_later(self.view.ask, "letter", "", f"one letter, digit or sign for: {text}", take)

    def act_remove_binding(self) -> None:
        patch = self._patches.chosen()
        if patch.key.startswith("law."):
            self.model.say(f"{patch.function} is a function of the law; it stands at {counted(patch.key)}")
        elif patch.binding is None:
            self._patches.put(f"{patch.function} removed", [(patch.key, None)])
        else:
            number = int(patch.key.rpartition(".")[2])
            self.model.edit(f"{patch.function} removed", lambda d: d["bindings"].pop(number))
