"""The response of a function: stick across, command up, and the present point."""

from __future__ import annotations

from dataclasses import replace
from textwrap import wrap

import numpy as np

from pivrex.line import Line
from pivrex.line.questions.response import respond
from pivrex.line.too_little import too_little
from pivrex.rig.channels import is_one_sided
from pivrex.scene.response import CurveData, curve_ground, curve_scene
from pivrex.scene.scene import Scene
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.panel import Panel, View

__all__ = ["MIRRORED", "ResponseCurve", "level_of"]

SAMPLES = np.linspace(-1.0, 1.0, 401)
MIRRORED = ("turn", "sideways")
"""Left is +, and is drawn to the left."""
ENDS = {"turn": ("left", "right"), "sideways": ("left", "right")}
HEIGHTS = {"turn": ("left", "right"), "sideways": ("left", "right"), "ahead": ("", "forward"), "back": ("", "back")}


def level_of(model: ScreenModel) -> int:
    """Return the speed level that is in use, or will be at the start."""
    levels = model.rig.speed_levels
    return min(model.number("law", "level", levels.start_index), len(levels.levels) - 1)


class ResponseCurve(Panel):
    """The curve of a function of the law.

    Parameters
    ----------
    view : View
    number : int
        Which function, in the order of the law.
    """

    def __init__(self, view: View, number: int) -> None:
        super().__init__(view)
        self._number = number
        self._ground: tuple[tuple[int, ...], CurveData, Scene] | None = None
        self._hums = ""
        """Why a full stick moves nothing."""

    def draw(self, width: int, height: int) -> Picture:
        model, i = self.model, self._number
        function = model.line.functions[i]
        live = None
        if model.row is not None:
            live = (model.value("axes", function), model.value("scale", function), model.value("rate", function))
        # the response stands still between changes, so it is drawn once for each
        now = (model.serial, level_of(model))
        if self._ground is None or self._ground[0] != now:
            one_sided = is_one_sided(model.rig.channel(model.rig.law.axes()[function]))
            data = self._curve_data(function, i, one_sided)
            self._ground = (now, data, curve_ground(data))
            hums = [t for t in too_little(model.line) if (t.function, t.level) == (function, level_of(model))]
            self._hums = hums[0].said if hums else ""
        _, data, ground = self._ground
        picture = print_scene(curve_scene(replace(data, live=live), ground), width, height)
        for k, row in enumerate(wrap(f"! {self._hums}", max(12, width // 2 - 8))[: height // 3] if self._hums else []):
            picture.text(9, 1 + k, row, "alarm", width - 10)
        return picture

    def _curve_data(self, function: str, i: int, one_sided: bool) -> CurveData:
        line, before = self.model.line, self.model.before
        x = SAMPLES[SAMPLES >= 0] if one_sided else SAMPLES
        ghost = None
        if before is not None and before.functions == line.functions:
            ghost = self._response(before, i, x)
        full, unit = line.law.full_of(function, level_of(self.model))
        return CurveData(
            title=function,
            x=x,
            y=self._response(line, i, x),
            ghost=ghost,
            dead_band=line.rig.shaping.of(function).dead_band,
            live=None,
            full=f"{full:.{2 if unit == 'm/s' else 0}f} {unit}",
            one_sided=one_sided,
            ends=("rest", "pressed") if one_sided else ENDS.get(function, ("back", "forward")),
            heights=HEIGHTS.get(function, ("back", "forward")),
            mirrored=function in MIRRORED,
        )

    @staticmethod
    def _response(line: Line, i: int, x: np.ndarray) -> np.ndarray:
        """The final value of a function while the other axes rest, by the same stages."""
        fractions = np.zeros((len(x), len(line.functions)))
        fractions[:, i] = x
        return respond(line, fractions)[:, i]
