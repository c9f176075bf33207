"""Commanded beside measured for each wheel: as bars, and over the last seconds."""

from __future__ import annotations

from math import isfinite

import numpy as np

from pivrex.line.layout import plain
from pivrex.scene.chart import Series, chart
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.parts import number, two_bars
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.field_numbers import LIFTS_N, SLIDES_M_S
from pivrex.tui.panels.panel import Panel

__all__ = ["WheelBars", "WheelStrips"]

SECONDS = 8.0
LEAST_STRIP = 7
"""Rows: lower than that a strip says nothing."""


class WheelBars(Panel):
    """A bar for each wheel, and where there is room its load below it."""

    def rows(self, height: int) -> int:
        """Return how high it is in a column of a height."""
        wheels = len(self.model.line.wheels)
        return 1 + wheels * (1 + (height - 8 >= 2 * wheels))

    def draw(self, width: int, height: int) -> Picture:
        picture, model = Picture(width, height), self.model
        line, y = model.line, 0
        picture.text(0, 0, "wheels", "title")
        picture.right(width, 0, "━ commanded  · measured", "dim")
        top = float(line.top_m_s.max())
        names = max(len(w) for w in line.wheels)
        bar = width - names - 12
        bar -= 1 - bar % 2
        room = height > 1 + len(line.wheels)
        for wheel in line.wheels:
            y += 1
            asked = model.commanded(wheel)
            real = model.value("sensed", f"{plain(wheel)}_speed")
            limited = abs(model.value("limits", f"{plain(wheel)}_lost")) > 0.0005
            here = wheel == model.wheel_name
            picture.spot(0, y, width, "wheel", wheel, 1 + room)
            picture.text(0, y, wheel, "title" if here else "rest")
            mark = "!" if limited else " "
            picture.right(width, y, f"{mark}{number(asked)} m/s", "alarm" if limited else "commanded")
            if bar >= 9:
                two_bars(picture, names + 1, y, bar, asked / top, real / top)
            if room:
                y += 1
                picture.right(width, y, f"{number(real)} m/s", "measured")
                self._draw_tyre(picture, 0, y, wheel)
        return picture

    def press(self, what: str, value: str) -> bool:
        if what == "wheel" and value in self.model.line.wheels:
            self.model.wheel = self.model.line.wheels.index(value)
        return what == "wheel"

    def _draw_tyre(self, picture: Picture, x: int, y: int, wheel: str) -> None:
        """Draw the load on a wheel below its name, or that its tyre slides."""
        load, slip = (self.model.value("truth", f"{plain(wheel)}_{what}") for what in ("load", "slip"))
        if not isfinite(load):
            return
        if load < LIFTS_N:
            picture.text(x, y, "! lifts", "alarm")
        elif slip > SLIDES_M_S:
            picture.text(x, y, f"! {slip:.2f}", "alarm")
        else:
            picture.text(x, y, f"{load:.1f} N", "dim")


class WheelStrips(Panel):
    """The last seconds of each wheel; where only one has room, of the one that the why is about."""

    def draw(self, width: int, height: int) -> Picture:
        picture, model, y = Picture(width, height), self.model, 0
        line = model.line
        wheels: tuple[str, ...] = line.wheels
        if height // len(wheels) < LEAST_STRIP:
            wheels = (model.wheel_name,)  # where only one has room, it is the one that the why is about
        each = height // len(wheels)
        if each < LEAST_STRIP:
            return picture
        each = min(each, 11)
        layout = line.layout
        rows = model.history
        t = rows[:, layout.at("clock", "t")]
        # a recording that began again has a clock that began again
        start = int(np.flatnonzero(np.diff(t) < 0)[-1]) + 1 if len(t) > 1 and (np.diff(t) < 0).any() else 0
        for wheel in wheels:
            name = plain(wheel)
            i = line.wheels.index(wheel)
            commanded = rows[start:, line.speeds.start + i]
            measured = rows[start:, layout.at("sensed", f"{name}_speed")]
            series = [Series("measured", measured, "measured"), Series("commanded", commanded, "commanded")]
            top = float(line.top_m_s[i]) * 1.05
            scene = chart(f"{wheel} wheel", t[start:] - t[-1] if len(t) else t, series, (-top, top), ("m/s", "s"), (width, each),
                          ("commanded", "measured"), (-SECONDS, 0.0))  # fmt: skip
            picture.place(print_scene(scene, width, each), 0, y)
            y += each
        return picture
