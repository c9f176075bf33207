"""Scale: what is left of a function at full stick."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout
from pivrex.line.stage import Floats, Rung, Stage, named
from pivrex.line.told import Told
from pivrex.rig.rig import Rig

__all__ = ["Scale", "ScaleSettings", "settings_of"]


@dataclass(frozen=True)
class ScaleSettings:
    """``scale``, (C,) float64: each channel's own scale times the overall one."""

    scale: Floats


def settings_of(rig: Rig) -> ScaleSettings:
    """Take the scales of the functions of a rig's law; where the push keeps its direction, forward's counts for both."""
    roles = [("forward" if rig.keeps_direction and f == "sideways" else f) for f in rig.law.axes()]
    return ScaleSettings(np.array([rig.shaping.of(role).scale * rig.shaping.overall for role in roles]))


class Scale(Stage):
    """The scales of the law's functions."""

    name = "scale"
    reads = ("curve",)

    def __init__(self, rig: Rig, functions: tuple[str, ...]) -> None:
        self.functions = functions
        self._rig = rig
        self.settings: ScaleSettings = settings_of(rig)
        self.columns = named("scale", *((f, "") for f in functions))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Scale:
        return cls(rig, inputs.functions)

    def place(self, layout: Layout) -> None:
        self._in, self._out = layout.stage("curve"), layout.stage("scale")

    def step(self, state: object, row: Floats) -> object:
        row[..., self._out] = row[..., self._in] * self.settings.scale
        return state

    def phrases(self, told: Told) -> list[str]:
        if not told.by_stick or self.settings.scale[self.functions.index(told.main)] == 1:
            return []
        return [f"scale {told.of_function('scale')[0]:.2f}"]

    def rungs(self, told: Told) -> list[Rung]:
        found = []
        shaping = self._rig.shaping
        for function in self.functions:
            by = "forward" if self._rig.keeps_direction and function == "sideways" else function
            text = (
                f"{function}: {told('curve', function):+.3f}, {shaping.of(by).scale * 100:g} % · overall "
                f"{shaping.overall * 100:g} % → {told('scale', function):+.3f}"
            )
            found.append(Rung("scale", text, f"shaping.{by}.scale"))
        return found
