"""The lines from channels to their actions."""

from __future__ import annotations

import numpy as np

from pivrex.scene.scene import Box, Scene
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.picture import Picture
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
        model, source = self.model, self._sources.source()
        if source is None:
            return Picture(width, height)
        patches, chosen = self._patches.patches(), self._patches.chosen()
        scene = Scene(Box(0.0, -height, 1.0, 0.0), equal=False)
        drawn: list[tuple[int, np.ndarray, str]] = []
        t = np.linspace(0.0, 1.0, 40)
        ease = t * t * (3 - 2 * t)
        for i, row in self._patches.rows.items():
            if i >= len(patches):
                continue  # of another rig
            patch = patches[i]
            if patch.channel not in self._channels.rows or not listens(patch, source, model):
                continue
            a, b = self._channels.rows[patch.channel] + 0.5, row + 0.5
            active = acts(patch, source, model)
            named = "commanded" if active else "title" if patch is chosen else "frame"
            drawn.append((2 * active + (patch is chosen), np.stack((t, -a - (b - a) * ease), axis=1), named))
        for _, points, named in sorted(drawn, key=lambda one: one[0]):
            scene.line(points, named, 0.4 if named != "frame" else 0.3)
        return print_scene(scene, width, height)
