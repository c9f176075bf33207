"""Driver: sources and their health, each raw channel live, what is patched to what, and what remotes say."""

from __future__ import annotations

from math import isfinite
from typing import TYPE_CHECKING

from pivrex.rig.actions import read_action
from pivrex.rig.base import counted
from pivrex.rig.controls import same_stick
from pivrex.rig.edit import set_key
from pivrex.rig.patches import Patch, patches_of
from pivrex.session.messages import ChooseSource, Stop, WatchSources
from pivrex.session.report import Report, SourceReport
from pivrex.tui.commands import Command
from pivrex.tui.draw.parts import number
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.overlays.entry import ValueEntry
from pivrex.tui.views.driver.channels import draw_channels, shown_channels
from pivrex.tui.views.driver.messages import draw_messages
from pivrex.tui.views.driver.patches import draw_patches, draw_wires
from pivrex.tui.views.driver.sources import draw_sources
from pivrex.tui.views.guides.calibration import CalibrationGuide
from pivrex.tui.views.view import View

if TYPE_CHECKING:
    from tomlkit import TOMLDocument

__all__ = ["DRIVER_COMMANDS", "DriverView", "driver_bars"]

MOVED = 0.5
"""A control that moves by this much is the one that is meant."""

WIDE = 128


DRIVER_COMMANDS = (
    Command("previous_source", "source", "Selects the source before.", ("left",), "←→", foot=7),
    Command("next_source", "next source", "Selects the next source.", ("right",)),
    Command("patch", "patch", "Waits for the control that shall do the selected function, and writes it into the rig.",
            ("v",), foot=4),
    Command("calibrate", "calibrate", "Calibrates the selected source by doing: let go, roll, press, push.", ("c",), foot=4),
    Command("drive", "let it drive", "Lets the selected source drive.", ("y",), foot=5),
    Command("type_value", "type", "Types what the selected binding does.", ("equals_sign", "="), foot=8),
    Command("add_binding", "add a binding", "Asks what shall be done, such as slow 40 %, and then for the control that does it.",
            ("plus", "+"), foot=6),
    Command("remove_binding", "remove the binding", "Takes the selected binding away.", ("backspace", "delete")),
)  # fmt: skip


class DriverView(View):
    """The driver's end. ↑ ↓ walk the functions, ← → the sources."""

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self._source = ""
        self._patch = 0
        self._guide: CalibrationGuide | None = None
        self._learning: dict[tuple[str, str], float] | None = None
        self._new = False
        self._action = ""

    @property
    def report(self) -> Report | None:
        """What the session reported last."""
        return self.model.client.report

    def on_show(self) -> None:
        super().on_show()
        self.model.ask(WatchSources(True))

    def on_hide(self) -> None:
        self.model.ask(WatchSources(False))
        self._learning = None

    def sources(self) -> list[SourceReport]:
        """Give the sources, the robot's link last."""
        report = self.report
        if report is None:
            return []
        return [*report.sources, *([report.link] if report.link is not None else [])]

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

    # --- what goes on ---

    def update(self) -> None:
        source = self.source()
        if self._guide is not None and source is not None:
            self._guide.step(source if source.name == self._guide.source else None)
            if self._guide.done:
                self._guide = None
        if self._learning is not None:
            self._learn()

    # --- drawing ---

    def draw(self, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        source = self.source()
        if source is None:
            picture.text(2, 1, "listening to the sources ...", "dim")
            return picture
        wide = width >= WIDE
        sources, patches = self.sources(), self.patches()
        needed = max(len(patches), 17, 4 * len(sources) if wide else 0) + 3
        spoken = 4 if height < 30 else min(max(7, height - needed), height // 2)
        left = 38 if wide else 0
        # narrow: the sources stand above, in a row each
        top = 0 if wide else min(len(sources) + 1, max(3, height // 4))
        body = height - spoken - 1 - top
        draw_sources(
            picture, sources, source.name, self.model, left - 2 if wide else width, height - spoken - 1 if wide else top
        )
        channels = shown_channels(source, patches, source.name == self.model.status.source, body - 1)
        rest = width - left
        right = max(28, round(rest * 0.36))
        gutter = max(8, round(rest * 0.12))
        middle = rest - right - gutter
        places = draw_channels(picture, left, top, middle, body, source, channels, self.model)
        x = left + middle
        if self._guide is not None:
            picture.place(self._guide.draw(right + gutter - 3, body, source), x + 2, top)
        else:
            spots = draw_patches(
                picture,
                x + gutter,
                top,
                right,
                body,
                patches,
                self._patch,
                source,
                self.model,
                self._learning is not None,
            )
            draw_wires(picture, x, top, gutter, body, places, spots, patches, self._patch, source, self.model)
        if left:
            picture.down(left - 1, 0, height - spoken - 1)
        draw_messages(picture, 0, height - spoken - 1, width, spoken + 1, source, self.report)
        return picture

    # --- patching ---

    def _learn(self) -> None:
        """Wait for the control that shall do the selected function."""
        assert self._learning is not None
        for source in self.sources():
            for channel, value in source.readings.items():
                before = self._learning.setdefault((source.name, channel), value)
                if abs(value - before) >= MOVED:
                    self._learning = None
                    self._put(self.chosen(), source, channel)
                    return

    def _put(self, patch: Patch, source: SourceReport, channel: str) -> None:
        model = self.model
        # the source that drives, whichever it is; any other is named
        own = source.name in model.rig.sources
        name = "chosen" if source.name == model.status.source else source.name if own else source.kind
        if self._action:
            action, self._action = self._action, ""
            model.edit(f"{action} by {channel}", lambda d: _add(d, channel, action, name))
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

        def put(document: TOMLDocument) -> None:
            for key, value in changes:
                set_key(document, key, value)

        if model.edit(f"{patch.function} by {channel}", put):
            model.say(
                f"{patch.function} is done by {channel}"
                + (f" of {name}" if name != "chosen" else "")
                + "; let go, then g"
            )

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

    # --- keys ---

    def take_key(self, key: str) -> bool:
        if self._guide is not None and self._guide.key(key, self.source()):
            return True
        if self._learning is not None and key in ("backspace", "v"):
            self.cancel()
            self.model.say("the patch stays as it is")
            return True
        return False

    def cancel(self) -> None:
        self._learning = self._guide = None
        self._new, self._action = False, ""

    def act_previous_setting(self) -> None:
        self._patch = max(0, self._patch - 1)

    def act_next_setting(self) -> None:
        self._patch += 1
        self.chosen()

    def _walk(self, steps: int) -> None:
        names = [s.name for s in self.sources()]
        source = self.source()
        if source is not None:
            self._source = names[(names.index(source.name) + steps) % len(names)]

    def act_previous_source(self) -> None:
        self._walk(-1)

    def act_next_source(self) -> None:
        self._walk(1)

    def act_patch(self) -> None:
        """Wait for the control; the robot is stopped meanwhile."""
        if self.chosen().channel.startswith("letter "):
            self.model.say(f"letters are written in the rig: {counted(self.chosen().key)}")
            return
        self.model.ask(Stop("a control is being patched"))
        self._learning = {}
        self.model.say(f"move the control that shall do: {self.chosen().function}. Backspace leaves it as it is")

    def act_add_binding(self) -> None:
        """What is typed next is a new binding."""
        self._new = True
        self.app.push_screen(ValueEntry(self))

    def entry(self) -> tuple[str, str, str]:
        """Give what typing an action needs."""
        patch = self.chosen()
        allowed = "such as slow 40 %, turn left 60 %, record, stop" + "".join(
            f", {n} ..." for n in self.model.rig.attachments
        )
        if self._new or patch.binding is None:
            self._new = True
            return "a new binding does", "", allowed
        return f"{patch.channel} does", patch.binding.does, allowed

    def type_in(self, text: str) -> None:
        """Take an action: of the selected binding, or of a new one, which then waits for its control."""
        model, rig = self.model, self.model.rig
        read_action(text, rig.attachments, [v.name for v in rig.speed_levels.levels])
        patch = self.chosen()
        if not self._new:
            model.edit(f"{patch.channel} does {text}", lambda d: set_key(d, f"{patch.key}.does", text))
            return
        self._new = False
        model.ask(Stop("a control is being patched"))
        self._learning, self._action = {}, text
        model.say(f"press the control that shall do: {text}. Backspace leaves it")

    def act_remove_binding(self) -> None:
        patch = self.chosen()
        if patch.binding is None:
            self.model.say(f"{patch.function} is no binding; it stands at {counted(patch.key)}")
            return
        number = int(patch.key.rpartition(".")[2])
        self.model.edit(f"{patch.function} removed", lambda d: d["bindings"].pop(number))

    def chosen_key(self) -> str:
        return self.chosen().key

    def act_calibrate(self) -> None:
        source = self.source()
        if source is None or not source.can.calibrates:
            self.model.say("select a gamepad or a remote with sticks first, with ← →")
        elif not source.readings:
            self.model.say(f"{source.name} says nothing yet", alarm=True)
        else:
            self._guide = CalibrationGuide(self.model, source)

    def act_drive(self) -> None:
        source = self.source()
        if source is not None:
            self.model.ask(ChooseSource(source.name))

    def press(self, what: str, value: str) -> bool:
        if what == "source":
            self._source = value
        elif what == "patch":
            if int(value) == self._patch:
                self.act_patch()
            self._patch = int(value)
        elif what == "go on" and self._guide is not None:
            self._guide.key("enter", self.source())
        return True

    def help_lines(self) -> list[tuple[str, str]]:
        return [
            ("▸", "the selected source (← →), and the selected function (↑ ↓)"),
            ("●", "where a control is now, as the device says it"),
            ("━", "how far it has travelled since it was last measured"),
            ("├ ╎╎ ┤", "its calibration: the ends, and the range in which it may rest"),
            ("± ", "how much it trembled in the last second"),
            ("lines", "which channel does what; solid where it acts now"),
            ("!", "a message that moved nothing, with the reason; none of them stops the clock"),
            ("stream", "lost after a time of silence; event: lost when its connection is"),
            ("lost", "the robot rests until it is heard again and let go"),
            ("age", "since the last good message; jitter: how unevenly they come"),
        ]


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


def driver_bars(model: ScreenModel) -> tuple[tuple[str, float, str, str], ...]:
    """What the law's own channels read, as the device says it: the instrument of this view's cell."""
    channels = model.line.channels[: len(model.line.functions)]
    values = [model.value("raw", c) for c in channels]
    named = [c.rpartition(".")[2] for c in channels]
    return tuple(
        (n, v if isfinite(v) else 0.0, number(v, 2, 5), "measured") for n, v in zip(named, values, strict=True)
    )
