"""The gate of a stick: its travel, and the measured dead band."""

from __future__ import annotations

import numpy as np

from pivrex.scene.response import GateData, gate_scene
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.parts import wrapped
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.panel import Panel
from pivrex.tui.panels.response_curve import MIRRORED

__all__ = ["StickGate"]

GATE_TICKS = 45
MEASURES = {
    "axis": "each axis by itself",
    "stick": "the stick's distance from its centre",
    "sum": "the magnitudes of both axes added",
}
AFTER = {
    "from zero": "motion begins from zero outside the dead band",
    "with a jump": "motion jumps to its value outside it",
}


class StickGate(Panel):
    """The first stick of the law, before and after shaping."""

    def draw(self, width: int, height: int) -> Picture:
        model = self.model
        line = model.line
        # the stick that moves: with the law planar its other axis goes sideways, else it turns
        up, across = line.functions[0], "sideways" if "sideways" in line.functions else line.functions[-1]
        layout = line.layout
        rows = model.history[-GATE_TICKS:]
        # right is drawn to the right, and turning left is positive
        sign = -1.0 if across in MIRRORED else 1.0

        def points(stage: str) -> np.ndarray:
            tall = rows[:, layout.at(stage, up)]
            if up == "ahead":
                tall = tall - rows[:, layout.at(stage, "back")]
            return np.stack([sign * rows[:, layout.at(stage, across)], tall], axis=1)

        shaping = line.rig.shaping
        together = line.stages["band"].settings.together
        one_stick = len(line.functions) > 1 and bool(together[0, line.functions.index(across)])
        data = GateData(
            points("axes"),
            points("rate"),
            shaping.of(across).dead_band,
            shaping.of(up).dead_band,
            shaping.measure if one_stick else "axis",
        )
        picture = Picture(width, height)
        picture.text(1, 0, "the stick's gate", "title")
        high = min(height - 3, (width - 4) // 2)
        if high < 4:
            return picture
        left = max(2, (width - 2 * high) // 2)
        picture.place(print_scene(gate_scene(data), 2 * high, high), left, 1)
        caption = "○ stick  ● shaped"
        if width >= 52:
            caption += f"   up {up if up != 'ahead' else 'ahead − back'}, across {across}"
        picture.text(max(1, min(left, width - len(caption) - 1)), 1 + high, caption, "dim", width - 2)
        row = high + 3
        for word, text in (
            (shaping.measure, MEASURES[shaping.measure]),
            (shaping.after_dead_band, AFTER[shaping.after_dead_band]),
        ):
            lines = wrapped(text, width - left - 14)
            if row + len(lines) <= height:
                picture.text(left, row, word, "target")
                for part in lines:
                    picture.text(left + 13, row, part, "dim")
                    row += 1
        return picture
