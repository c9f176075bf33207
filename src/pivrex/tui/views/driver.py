"""Driver: sources and their health, each raw channel live, what is patched to what, and what remotes say."""

from __future__ import annotations

from math import isfinite

from pivrex.session.messages import ChooseSource, WatchSources
from pivrex.session.report import Report, SourceReport
from pivrex.tui.commands import Command
from pivrex.tui.draw.parts import number
from pivrex.tui.draw.picture import Picture
from pivrex.tui.guides.calibration_guide import CalibrationGuide
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.attachment_rows import draw_attached
from pivrex.tui.panels.channel_bars import draw_channels, shown_channels
from pivrex.tui.panels.message_log import draw_messages
from pivrex.tui.panels.patch_choices import Patching
from pivrex.tui.panels.patch_lines import draw_patches, draw_wires
from pivrex.tui.panels.source_list import draw_sources
from pivrex.tui.panels.standings import standing_of

__all__ = ["DRIVER_COMMANDS", "DriverView", "driver_bars"]

WIDE = 128


DRIVER_COMMANDS = (
    Command("previous_source", "source", "Selects the source before.", ("left",), "←→", foot=7),
    Command("next_source", "next source", "Selects the next source.", ("right",)),
    Command("patch", "patch", "Waits for the control that shall do the selected function, and writes it into the rig.",
            ("v",), foot=4),
    Command("calibrate", "calibrate", "Calibrates the selected source by doing: let go, roll, press, push.", ("c",), foot=4),
    Command("drive", "let it drive", "Lets the selected source drive.", ("y",), foot=5),
    Command("type_value", "choose", "Chooses what the selected control does, when, with which other, and which control it is.",
            ("equals_sign", "="), foot=4),
    Command("add_binding", "add a binding", "Chooses what shall be done, such as slow 40 %, and then the control or letter that does it.",
            ("plus", "+"), foot=6),
    Command("remove_binding", "remove the binding", "Takes the selected binding away.", ("backspace", "delete")),
)  # fmt: skip


class DriverView(Patching):
    """The driver's end. ↑ ↓ walk the functions, ← → the sources."""

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self._guide: CalibrationGuide | None = None

    @property
    def report(self) -> Report | None:
        """What the session reported last."""
        return self.model.client.report

    def opened(self) -> None:
        self.model.ask(WatchSources(True))

    def closed(self) -> None:
        self.model.ask(WatchSources(False))
        self._learning = None

    def sources(self) -> list[SourceReport]:
        """Give the sources, the robot's link last."""
        report = self.report
        if report is None:
            return []
        return [*report.sources, *([report.link] if report.link is not None else [])]

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
        standings = standing_of(self.model) if height >= 34 else []
        attached = 2 + len(standings) * (2 if height >= 34 + 2 * len(standings) else 1) if standings else 0
        heard = any(s.health is not None for s in sources) or self.model.rig.link is not None
        needed = max(len(patches), 17, 4 * len(sources) if wide else 0) + 3 + attached
        spoken = (4 if height < 30 else min(max(7, height - needed), height // 2)) if heard else 2
        left = 38 if wide else 0
        # narrow: the sources stand above, in a row each
        top = 0 if wide else min(len(sources) + 1, max(3, height // 4))
        body = height - spoken - 1 - top - attached
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
        if standings:
            draw_attached(picture, left, top + body, width - left, attached, standings)
        if left:
            picture.down(left - 1, 0, height - spoken - 1)
        draw_messages(picture, 0, height - spoken - 1, width, spoken + 1, source, self.report)
        return picture

    # --- keys ---

    def take_key(self, key: str) -> bool:
        if self._guide is not None and self._guide.key(key, self.source()):
            return True
        return self.take_learning_key(key)

    def cancel(self) -> None:
        super().cancel()
        self._guide = None

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


def driver_bars(model: ScreenModel) -> tuple[tuple[str, float, str, str], ...]:
    """What the law's own channels read, as the device says it: the instrument of this view's cell."""
    channels = model.line.channels[: len(model.line.functions)]
    values = [model.value("raw", c) for c in channels]
    named = [c.rpartition(".")[2] for c in channels]
    return tuple(
        (n, v if isfinite(v) else 0.0, number(v, 2, 5), "measured") for n, v in zip(named, values, strict=True)
    )
