"""Driver: sources and their health, each raw channel live, what each control does, and the messages of remotes."""

from __future__ import annotations

from collections.abc import Iterable
from math import isfinite

from pivrex.session.report import SourceReport
from pivrex.tui.commands import Command
from pivrex.tui.draw.parts import number
from pivrex.tui.guides.calibration_guide import CalibrationPanel
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.attachment_list import AttachmentList
from pivrex.tui.panels.attachment_rows import AttachmentRows
from pivrex.tui.panels.channel_bars import ChannelBars
from pivrex.tui.panels.message_log import MessageLog
from pivrex.tui.panels.panel import Place, Rect, Rule, View
from pivrex.tui.panels.patch_choices import PatchChoices
from pivrex.tui.panels.patch_lines import PatchLines
from pivrex.tui.panels.patch_list import PatchList
from pivrex.tui.panels.source_list import SourceList
from pivrex.tui.panels.wheel_bars import MIN_STRIP, StickStrip, WheelBars

__all__ = ["DRIVER_COMMANDS", "DriverView", "driver_bars"]

WIDE = 128


DRIVER_COMMANDS = (
    Command("previous_source", "source", "Selects the previous source.", ("left",), "←→", foot=7),
    Command("next_source", "next source", "Selects the next source.", ("right",)),
    Command("patch", "patch", "Waits until you move a control, and binds it to the selected function.",
            ("v",), foot=4),
    Command("calibrate", "calibrate", "Calibrates the selected source step by step: let go, roll the sticks, press the buttons.",
            ("c",), foot=4),
    Command("drive", "let it drive", "Lets the selected source drive.", ("y",), foot=5),
    Command("type_value", "choose", "Chooses what the selected control does, when, and together with which other control.",
            ("equals_sign", "="), foot=4),
    Command("add_binding", "add a binding", "Adds a binding: choose an action, such as slow 40 %, then move its control.",
            ("plus", "+"), foot=6),
    Command("attachments", "attachments", "Lists what the robot carries: makes, renames, duplicates or deletes one.",
            ("A", "shift+a", "upper_a"), foot=8),
    Command("remove_binding", "delete the binding", "Deletes the selected binding.", ("backspace", "delete")),
)  # fmt: skip


class DriverView(View):
    """The driver's end. ↑ ↓ walk the functions, ← → the sources."""

    HELP = """
    ▸       the selected source (← →), and the selected function (↑ ↓)
    ●       where a control is now, as the device says it
    ━       how far it has moved since the measurement began
    ├ ╎╎ ┤  its calibration: both ends, and the range in which it rests
    ±       its noise in the last second
    lines   which channel does what; solid where it acts now
    !       a message that was refused, with the reason
    stream  a source that sends all the time: lost when it is silent; event: lost when its connection is
    lost    the robot rests until it is heard again and let go
    age     of the last good message; jitter: how unevenly messages come
    """

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self._sources = sources = SourceList(self)
        self.patches = PatchList(sources)
        self._calibration = CalibrationPanel(sources)
        self._channels = ChannelBars(sources, self.patches)
        self._lines = PatchLines(sources, self._channels, self.patches)
        self._attachments, self._messages, self._rule = AttachmentRows(self), MessageLog(sources), Rule(self)
        self._strip, self._bars = StickStrip(self), WheelBars(self)
        self.panels = (
            self._calibration,
            self.patches,
            PatchChoices(sources, self.patches),
            AttachmentList(self),
            sources,
        )

    def source(self) -> SourceReport | None:
        """Return the selected source."""
        return self._sources.source()

    def places(self, width: int, height: int) -> Iterable[Place]:
        sources, attachments = self._sources.sources(), len(self.model.rig.attachments) if height >= 34 else 0
        wide = width >= WIDE
        attached = 2 + attachments * (2 if height >= 34 + 2 * attachments else 1) if attachments else 0
        heard = any(s.health is not None for s in sources) or self.model.rig.link is not None
        needed = max(len(self.patches.patches()), 17, 4 * len(sources) if wide else 0) + 3 + attached
        spoken = (4 if height < 30 else min(max(7, height - needed), height // 2)) if heard else 2
        upper = height - spoken - 1
        left = 38 if wide else 0
        # narrow: the sources stand above, in a row each
        top = 0 if wide else min(len(sources) + 1, max(3, height // 4))
        body = upper - top - attached
        listed = max(len(self.patches.patches()) + 3, 19)
        strip = min(12, body - listed) if wide and body - listed > MIN_STRIP else 0
        least = max(len(self.patches.patches()) + 3, 10)
        bars = self._bars.rows(0) + 1 if self.model.rig.is_bench and body - strip > least else 0
        body -= strip + bars
        rest = width - left
        right, gutter = max(28, round(rest * 0.36)), max(8, round(rest * 0.12))
        middle = rest - right - gutter
        x = left + middle
        yield self._sources, Rect(0, 0, left - 2 if wide else width, upper if wide else top)
        yield self._channels, Rect(left, top, middle, body)
        if self._calibration.guide is not None:
            yield self._calibration, Rect(x + 2, top, right + gutter - 3, body)
        else:
            yield self.patches, Rect(x + gutter, top, right, body)
            yield self._lines, Rect(x, top, gutter, body)
        if bars:
            yield self._bars, Rect(left + 1, top + body, rest - 2, bars - 1)
        body += bars
        if strip:
            yield self._strip, Rect(left + 1, top + body, rest - 1, strip - 1)
        if attached:
            yield self._attachments, Rect(left, top + body + strip, rest, attached)
        if left:
            yield self._rule, Rect(left - 1, 0, 1, upper)
        yield self._messages, Rect(0, upper, width, spoken + 1)


def driver_bars(model: ScreenModel) -> tuple[tuple[str, float, str, str], ...]:
    """The readings of the law's own channels, as the device sends them: the instrument of this view's cell."""
    channels = model.line.channels[: len(model.line.functions)]
    values = [model.value("raw", c) for c in channels]
    named = [c.rpartition(".")[2] for c in channels]
    return tuple(
        (n, v if isfinite(v) else 0.0, number(v, 2, 5), "measured") for n, v in zip(named, values, strict=True)
    )
