"""The gate of a stick: where it goes, and the dead band as it is measured."""

from __future__ import annotations

import numpy as np

from pivrex.tui.draw.gate import GateData, draw_gate
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
ONSETS = {"rescaled": "motion starts from 0 at the edge", "cut": "motion jumps to its value at the edge"}


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

        edges = line.rig.shaping
        together = line.stages["band"].settings.together
        one_stick = len(line.functions) > 1 and bool(together[0, line.functions.index(across)])
        return draw_gate(
            GateData(
                raw=points("axes"),
                shaped=points("rate"),
                edge_across=edges.of(across).edge,
                edge_up=edges.of(up).edge,
                measure=edges.measure if one_stick else "axis",
                names=(across, up if up != "ahead" else "ahead − back"),
                notes=((edges.measure, MEASURES[edges.measure]), (edges.onset, ONSETS[edges.onset])),
            ),
            width,
            height,
        )
