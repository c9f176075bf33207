"""Each channel of a source with its travel, its noise and its calibration."""

from __future__ import annotations

from math import isfinite

from pivrex.rig.channels import CHANNELS, is_one_sided
from pivrex.rig.patches import Patch
from pivrex.session.report import SourceReport
from pivrex.tui.draw.parts import number
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.panel import Panel
from pivrex.tui.panels.patch_list import PRESSED, PatchList
from pivrex.tui.panels.source_list import SourceList

__all__ = ["ChannelBars", "shown_channels"]


def shown_channels(source: SourceReport, patches: list[Patch], drives: bool, room: int) -> list[str]:
    """Choose the channels that are drawn: those with sticks or patches first, in the order of the layout."""
    patched = {
        p.channel for p in patches if p.source in (source.name, source.kind) or (drives and p.source == "chosen")
    }
    there = [c for c in CHANNELS if c in source.readings or c in patched]
    there += sorted(c for c in source.readings if c not in CHANNELS)
    wanted = [
        c for c in there if not is_one_sided(c) or c in patched or c.endswith("trigger") or c.startswith("letter ")
    ]
    wanted += [c for c in there if c not in wanted and source.readings.get(c)]
    wanted = wanted[:room]
    return [c for c in there if c in wanted]


MANY = 1000
"""More rows than there are channels."""


class ChannelBars(Panel):
    """The channels of the selected source.

    Attributes
    ----------
    rows : dict of str to int
        In which row each channel was drawn.
    """

    def __init__(self, sources: SourceList, patches: PatchList) -> None:
        super().__init__(sources.view)
        self._sources, self._patches = sources, patches
        self.rows: dict[str, int] = {}

    def draw(self, width: int, height: int) -> Picture:
        picture, model, source = Picture(width, height), self.model, self._sources.source()
        if source is None:
            picture.text(2, 1, "listening to the sources ...", "dim")
            return picture
        patches, drives = self._patches.patches(), source.name == model.status.source
        channels = shown_channels(source, patches, drives, height - 1)
        whole = len(shown_channels(source, patches, drives, MANY))
        some = f", {len(channels)} of {whole}" if len(channels) < whole else ""
        picture.text(1, 0, f"channels of {source.name}{some}", "title", width - 2)
        names = max([len(c) for c in channels] or [0])
        numbers = 16
        bar = width - names - numbers - 5
        if width > 44:
            picture.right(width - 1, 0, "now       noise", "dim")
        step = 2 if height > 2 * len(channels) + 3 else 1
        self.rows = {}
        for i, channel in enumerate(channels):
            row = 2 + i * step if height > len(channels) + 3 else 1 + i
            if row >= height:
                break
            self.rows[channel] = row
            value = source.readings.get(channel)
            travel = source.travel.get(channel)
            one_sided = channel in CHANNELS and is_one_sided(channel)
            button = channel.startswith(("button_", "letter "))
            pressed = value is not None and value >= PRESSED
            picture.text(2, row, channel.removeprefix("letter "), "commanded" if button and pressed else "rest")
            at = names + 4
            if button:
                picture.text(at, row, "■ pressed" if pressed else "□", "commanded" if pressed else "frame")
                continue
            if bar >= 8:
                _bar(picture, at, row, bar, one_sided, value, travel, model.rig.axis_of(source.name, channel))
            picture.right(width - 8, row, number(value if value is not None else float("nan"), 3, 7), "measured")
            if travel is not None:
                picture.right(width - 1, row, f"±{travel.noise / 2:.3f}", "dim")
        return picture


def _bar(
    picture: Picture, x: int, y: int, width: int, one_sided: bool, value: float | None, travel: object, axis: object
) -> None:
    low = 0.0 if one_sided else -1.0

    def cell(v: float) -> int:
        return x + round((min(max(v, low), 1.0) - low) / (1.0 - low) * (width - 1))

    picture.across(y, x, x + width, "╌", "frame")
    if travel is not None:
        a, b = cell(travel.low), cell(travel.high)  # type: ignore[attr-defined]
        picture.text(a, y, "━" * (b - a + 1), "ghost")
    centre = axis.centre  # type: ignore[attr-defined]
    picture.text(cell(axis.minimum), y, "├", "target")  # type: ignore[attr-defined]
    picture.text(cell(axis.maximum), y, "┤", "target")  # type: ignore[attr-defined]
    if centre is not None:
        for end in centre:
            picture.text(cell(end), y, "╎", "target")
    elif not one_sided:
        picture.text(cell(0.0), y, "┼", "frame")
    if value is not None and isfinite(value):
        picture.text(cell(value), y, "●", "commanded")
