"""Commanded next to measured for each wheel, as bars and over the last seconds; the sticks' readings in the same way."""

from __future__ import annotations

from dataclasses import replace
from math import isfinite

import numpy as np

from pivrex.line.layout import Floats, plain
from pivrex.scene.chart import Series, chart
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.parts import RPM, commanded_and_achieved, speed_of
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.field_numbers import LIFTS_N, SLIDES_M_S
from pivrex.tui.panels.panel import Panel

__all__ = ["MIN_STRIP", "StickStrip", "WheelBars", "WheelStrips", "since_started", "strip_depends"]

SECONDS = 8.0
EVERY_S = 1 / 12
"""A strip moves on so often."""

MIN_STRIP = 7
"""Rows: lower than that a strip says nothing."""


class WheelBars(Panel):
    """A bar for each wheel, and where there is room its load below it."""

    def rows(self, height: int) -> int:
        """Return how high it is in a column of a height."""
        wheels = len(self.model.line.wheels)
        return 1 + wheels * (1 + (wheels <= 2 and height - 8 >= 2 * wheels))

    def draw(self, width: int, height: int) -> Picture:
        picture, model = Picture(width, height), self.model
        line, y = model.line, 0
        picture.text(0, 0, "motors" if model.rig.is_bench else "wheels", "title")
        picture.right(width, 0, "measured", "measured")
        picture.right(width - 10, 0, "commanded", "commanded")
        top = float(line.top_m_s.max())
        names = max(len(w) for w in line.wheels)
        bar = width - names - 22
        bar -= 1 - bar % 2
        room = height > 1 + len(line.wheels)
        for wheel in line.wheels:
            y += 1
            commanded = model.commanded(wheel)
            real = model.value("sensed", f"{plain(wheel)}_speed")
            limited = abs(model.value("limits", f"{plain(wheel)}_lost")) > 0.0005
            here = wheel == model.wheel_name
            picture.spot(0, y, width, "wheel", wheel, 1 + room)
            picture.text(0, y, wheel, "title" if here else "rest")
            picture.right(
                width - 12,
                y,
                f"{'!' if limited else ' '}{speed_of(model.rig, commanded).split()[0]}",
                "alarm" if limited else "commanded",
            )
            picture.right(width, y, speed_of(model.rig, real), "measured")
            if bar >= 9:
                commanded_and_achieved(picture, names + 1, y, bar, commanded / top, real / top)
            if room:
                y += 1
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


def moment_of(model: ScreenModel) -> int:
    """Return which of the moments `EVERY_S` apart the newest Tick belongs to: a strip moves on from one to the next."""
    t = model.value("clock", "t")
    return int(t / EVERY_S) if isfinite(t) else -1


def since_started(model: ScreenModel) -> tuple[Floats, Floats]:
    """Return the last Ticks since the clock began, up to the present moment, and their times in s before that: a recording that begins
    again has a clock that begins again.
    """
    rows, clock = model.history, model.line.layout.at("clock", "t")
    t = rows[:, clock]
    start = int(np.flatnonzero(np.diff(t) < 0)[-1]) + 1 if len(t) > 1 and (np.diff(t) < 0).any() else 0
    rows = rows[start:][t[start:] <= moment_of(model) * EVERY_S]
    return rows, rows[:, clock] - rows[-1, clock] if len(rows) else rows[:, clock]


def strip_depends(model: ScreenModel) -> tuple[object, ...]:
    """Return what a strip depends on: it is drawn again from moment to moment, which are shorter than a column is wide."""
    return model.serial, model.line, model.trace, model.wheel_name, moment_of(model)


class WheelStrips(Panel):
    """The last seconds of each wheel; where only one has room, of the one that the why is about."""

    def depends(self) -> tuple[object, ...]:
        return strip_depends(self.model)

    def draw(self, width: int, height: int) -> Picture:
        picture, model, y = Picture(width, height), self.model, 0
        line = model.line
        wheels: tuple[str, ...] = line.wheels
        if height // len(wheels) < MIN_STRIP:
            wheels = (model.wheel_name,)
        each = min(height // len(wheels), 18 if model.rig.is_bench else 11)
        if each < MIN_STRIP:
            return picture
        rows, ago = since_started(model)
        for wheel in wheels:
            i = line.wheels.index(wheel)
            measured = rows[:, line.layout.at("sensed", f"{plain(wheel)}_speed")]
            series = [
                Series("measured", measured, "measured"),
                Series("commanded", rows[:, line.speeds.start + i], "commanded"),
            ]
            top = float(line.top_m_s[i]) * 1.05
            title, unit = f"{wheel} wheel", "m/s"
            if model.rig.is_bench:
                title, unit, top = f"motor {wheel}", "rpm", top * RPM
                series = [replace(s, values=s.values * RPM) for s in series]
            scene = chart(title, ago, series, (-top, top), (unit, "s"), (width, each),
                          ("commanded", "measured"), (-SECONDS, 0.0))  # fmt: skip
            picture.place(print_scene(scene, width, each), 0, y)
            y += each
        return picture


class StickStrip(Panel):
    """The readings of the law's controls over the last seconds."""

    def depends(self) -> tuple[object, ...]:
        return strip_depends(self.model)

    def draw(self, width: int, height: int) -> Picture:
        if height < MIN_STRIP:
            return Picture(width, height)
        model, line = self.model, self.model.line
        rows, ago = since_started(model)
        channels = line.channels[: len(line.functions)]
        looks = (("measured", 0.0), ("target", 0.0), ("other", 0.0), ("rest", 0.0))
        series = [
            Series(channel, rows[:, line.layout.at("raw", channel)], *look)
            for channel, look in zip(channels, looks, strict=False)
        ]
        scene = chart(
            "what drives", ago, series[::-1], (-1.05, 1.05), ("", "s"), (width, height), reach=(-SECONDS, 0.0)
        )
        return print_scene(scene, width, height)
