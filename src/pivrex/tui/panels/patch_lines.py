"""The lines from channels to what they do."""

from __future__ import annotations

import numpy as np

from pivrex.tui.draw.picture import Dots, Picture
from pivrex.tui.panels.channel_bars import ChannelBars
from pivrex.tui.panels.panel import Panel
from pivrex.tui.panels.patch_list import PatchList, acts, listens
from pivrex.tui.panels.source_list import SourceList

__all__ = ["PatchLines"]


class PatchLines(Panel):
    """Stands between both, as high as they are, and is drawn after them."""

    def __init__(self, sources: SourceList, channels: ChannelBars, patches: PatchList) -> None:
        super().__init__(sources.view)
        self._sources, self._channels, self._patches = sources, channels, patches

    def depends(self) -> tuple[object, ...]:
        source, patches = self._sources.source(), self._patches.patches()
        drawn = tuple(self._channels.rows.items()), tuple(self._patches.rows.items())
        act = tuple(acts(p, source, self.model) for p in patches) if source is not None else ()
        return self.model.serial, source and source.name, self.model.status.source, drawn, act, self._patches.chosen()

    def draw(self, width: int, height: int) -> Picture:
        picture, model, source = Picture(width, height), self.model, self._sources.source()
        if source is None:
            return picture
        patches, chosen = self._patches.patches(), self._patches.chosen()
        dots = Dots(width, height)
        idle, active, here = dots.layer("frame"), dots.layer("commanded"), dots.layer("title")
        t = np.linspace(0.0, 1.0, 40)
        ease = t * t * (3 - 2 * t)
        for i, row in self._patches.rows.items():
            if i >= len(patches):
                continue  # of another rig
            patch = patches[i]
            if patch.channel not in self._channels.rows or not listens(patch, source, model):
                continue
            a, b = self._channels.rows[patch.channel] * 4 + 1.5, row * 4 + 1.5
            layer = active if acts(patch, source, model) else here if patch is chosen else idle
            dots.path(layer, 1 + t * (width * 2 - 3), a + (b - a) * ease)
        dots.onto(picture, 0, 0)
        return picture
