"""Shaping: a response curve for each function with its live point, the stick's gate, and settings in place."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from pivrex.line import Line
from pivrex.line.questions.response import respond
from pivrex.rig.channels import is_one_sided
from pivrex.tui.draw.curve import CurveData, draw_ground, draw_live
from pivrex.tui.draw.gate import GateData, draw_gate
from pivrex.tui.draw.parts import number, turning
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.settings_list import SettingsView

__all__ = ["ShapingView", "shaping_bars"]

SAMPLES = np.linspace(-1.0, 1.0, 401)
GATE_TICKS = 45

PER_FUNCTION = ("edge", "curve", "scale", "faster", "slower")
OVERALL = (
    ("law.kind", "law"),
    ("shaping.measure", "band measures"),
    ("shaping.onset", "onset"),
    ("shaping.overall", "overall scale"),
    ("limits.fit", "too much"),
)
MEASURES = {
    "axis": "each axis by itself",
    "stick": "the stick's distance from its centre",
    "sum": "the magnitudes of both axes added",
}
ONSETS = {"rescaled": "motion starts from 0 at the edge", "cut": "motion jumps to its value at the edge"}
MIRRORED = ("turn", "sideways")
"""Left is +, and is drawn to the left."""
ENDS = {"turn": ("left", "right"), "sideways": ("left", "right")}
HEIGHTS = {"turn": ("left", "right"), "sideways": ("left", "right"), "ahead": ("", "ahead"), "back": ("", "back")}


class ShapingView(SettingsView):
    """Curves, gate and settings. What the keys act on is marked by ▸."""

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self._grounds: dict[str, tuple[CurveData, Picture]] = {}
        self._grounds_of: tuple[int, ...] = ()

    def columns(self) -> list[list[tuple[str, str]]]:
        """Give the settings, (key, name), of each column: one for each function, then what counts for all."""
        columns = [[(f"shaping.{f}.{s}", s) for s in PER_FUNCTION] for f in self.model.line.functions]
        rest = list(OVERALL)
        if self.model.rig.law.kind == "planar":
            rest.insert(3, ("shaping.direction", "direction"))
        level = self._level()
        if self.model.file.get(f"speed_levels.levels.{level}") is not None:
            name = self.model.rig.speed_levels.levels[level].name
            rest += [
                (f"speed_levels.levels.{level}.moving", f"{name}: moving"),
                (f"speed_levels.levels.{level}.turning", f"{name}: turning"),
            ]
        return [*columns, rest]

    def _level(self) -> int:
        return min(
            self.model.number("law", "level", self.model.rig.speed_levels.start_index),
            len(self.model.rig.speed_levels.levels) - 1,
        )

    # --- drawing ---

    def draw(self, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        columns = self.columns()
        rows = max(len(c) for c in columns)
        panel = width // len(columns)
        upper = max(0, height - rows - 1)
        self.sliders = []
        for i, settings in enumerate(columns):
            x = i * panel
            w = width - x if i == len(columns) - 1 else panel - 1
            last = i == len(columns) - 1
            if upper >= 7:
                drawing = self._gate(w, upper) if last else self._curve(self.model.line.functions[i], w, upper)
                picture.place(drawing, x, 0)
            if i:
                picture.down(x - 1, 0, height)
            self.draw_settings(picture, settings, x, upper, w)
        return picture

    def _curve(self, function: str, width: int, height: int) -> Picture:
        model = self.model
        line = model.line
        i = line.functions.index(function)
        one_sided = is_one_sided(line.rig.channel(line.rig.law.axes()[function]))
        live = None
        if model.row is not None:
            live = (model.value("axes", function), model.value("scale", function), model.value("rate", function))
        # the response stands still between changes, so it is drawn once for each
        now = (model.serial, self._level(), width, height)
        if self._grounds_of != now:
            self._grounds, self._grounds_of = {}, now
        if function not in self._grounds:
            data = self._curve_data(function, i, one_sided)
            self._grounds[function] = (data, draw_ground(data, width, height))
        data, ground = self._grounds[function]
        return draw_live(ground, replace(data, live=live))

    def _curve_data(self, function: str, i: int, one_sided: bool) -> CurveData:
        line, before = self.model.line, self.model.before
        x = SAMPLES[SAMPLES >= 0] if one_sided else SAMPLES
        ghost = None
        if before is not None and before.functions == line.functions:
            ghost = self._response(before, i, x)
        level = line.law.settings.full[self._level()]
        return CurveData(
            title=function,
            x=x,
            y=self._response(line, i, x),
            ghost=ghost,
            edge=line.rig.shaping.of(function).edge,
            live=None,
            full=f"{np.degrees(level[2]):.0f} deg/s"
            if function == "turn"
            else f"{level[1 if function == 'sideways' else 0]:.2f} m/s",
            one_sided=one_sided,
            ends=("rest", "pressed") if one_sided else ENDS.get(function, ("near", "away")),
            heights=HEIGHTS.get(function, ("back", "ahead")),
            mirrored=function in MIRRORED,
        )

    @staticmethod
    def _response(line: Line, i: int, x: np.ndarray) -> np.ndarray:
        """What a function ends at while the other axes rest: a call of the same stages."""
        fractions = np.zeros((len(x), len(line.functions)))
        fractions[:, i] = x
        return respond(line, fractions)[:, i]

    def _gate(self, width: int, height: int) -> Picture:
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
                notes=(
                    (edges.measure, MEASURES[edges.measure]),
                    (edges.onset, ONSETS[edges.onset]),
                ),
            ),
            width,
            height,
        )

    def help_lines(self) -> list[tuple[str, str]]:
        return [
            ("━", "the response: stick across, what is asked for up; 1 is the speed beside the title"),
            ("╌", "thin: the response before your last change"),
            ("○ ●", "where the stick is on the curve, and where the rate limit lets it be by now"),
            ("┆", "the dead band's edge; in the gate its outline as it is measured"),
            ("edge", "inside it nothing happens; rescaled starts from 0 there, cut jumps"),
            ("curve", "0 % is straight, 100 % is the cube: gentle near the centre"),
            ("scale", "what is left at full stick: only this function slower"),
            ("faster", "how fast it may grow, in full strokes a second; slower: how fast it may shrink"),
            ("overall", "everything slower alike"),
            ("level", "[ and ] walk the speed levels; each has its share for moving and for turning"),
        ]


def shaping_bars(model: ScreenModel) -> tuple[tuple[str, float, str, str], ...]:
    """Each function before and after shaping: the instrument of this view's cell."""
    return tuple((f, *_shaped(model, f), "commanded") for f in model.line.functions)


def _shaped(model: ScreenModel, function: str) -> tuple[float, str]:
    """Give a function's bar and its numbers; left and right are told in words, and their bars go that way."""
    before, after = model.value("axes", function), model.value("rate", function)
    whole = len(model.line.functions) < 3  # where there are more, what comes out of shaping must do
    if function in MIRRORED:
        word = turning(after, 2, "").partition(" ")[2]
        return -after, f"{abs(before):4.2f}→" * whole + f"{abs(after):4.2f} {word:<5}"
    return after, f"{number(before, 2, 5)}→" * whole + number(after, 2, 5)
