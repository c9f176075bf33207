"""Field's instruments: the commanded and the achieved motion, the compass, and the most important numbers between them."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from math import degrees, isfinite

import numpy as np

from pivrex.line.layout import Floats, plain
from pivrex.rig.sensors import Ranger
from pivrex.scene.envelope import compass_scene, motion_scene
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.parts import number, slider
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.chassis_motion import ChassisMotion
from pivrex.tui.panels.field_numbers import estimate_error, estimated_of, hints
from pivrex.tui.panels.panel import Panel, View
from pivrex.units import wrap_deg

__all__ = ["FieldInstruments"]

MIN_DIAL_ROWS = 8
"""Rows of the dials and of the numbers between them."""

DIAL_W, TABLE_W = 16, 29
NOTHING = np.full(3, np.nan)


FINE = 0.02
"""Nothing smaller is seen on a dial: so much of full, and of a radian."""


def _rounded(values: Sequence[float] | Floats) -> tuple[float | None, ...]:
    return tuple(round(float(v) / FINE) * FINE if isfinite(v) else None for v in values)


def _known(value: float | None) -> float:
    return float("nan") if value is None else value


@lru_cache(maxsize=8)
def _compass(heading: float | None, target: float | None, true: float | None, height: int) -> Picture:
    return print_scene(compass_scene(_known(heading), _known(target), _known(true)), DIAL_W, height)


@lru_cache(maxsize=8)
def _motion(commanded: tuple[float | None, ...], does: tuple[float | None, ...], height: int) -> Picture:
    commanded_, does_ = (np.array([_known(v) for v in motion]) for motion in (commanded, does))
    return print_scene(motion_scene(commanded_, does_), DIAL_W, height)


class FieldInstruments(Panel):
    """Two dials with numbers between them; below them what is wrong, battery and sensors."""

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self._chassis = ChassisMotion(view.model)

    def rows(self, height: int) -> int:
        """Return how high it is in a column of a height."""
        wanted = MIN_DIAL_ROWS + 1 + self._battery() + len(self.model.rig.sensors)
        return min(wanted, height)

    def _battery(self) -> bool:
        return isfinite(self.model.value("truth", "battery"))

    def draw(self, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        dials = min(2, max(0, width - TABLE_W) // DIAL_W)
        drawn, model, shown = min(MIN_DIAL_ROWS, height), self.model, self._chassis.live()
        commanded, does = (NOTHING, NOTHING) if shown is None else (shown.commanded, shown.achieved)
        does = NOTHING if does is None else does
        if dials:
            true = model.value("truth", "heading")
            heading = model.value("heading", "heading")
            angles = (heading if isfinite(heading) else true, model.value("correction", "target"), true)
            picture.place(_compass(*_rounded(angles), drawn), width - DIAL_W, 0)
        if dials > 1:
            full = self._chassis.full()
            picture.place(_motion(_rounded(commanded / full), _rounded(does / full), drawn), 0, 0)
        self._table(picture, DIAL_W if dials > 1 else 0, drawn, commanded, does)
        said, named = next(iter(hints(self.model)), ("no contact, all tyres grip", "dim"))
        picture.text(0, drawn, said, named, width)
        for y, (name, share, text, role) in enumerate(self._gauges(), drawn + 1):
            picture.text(0, y, name, "dim", 9)
            bar = width - 28
            if bar >= 9 and isfinite(share):
                slider(picture, 10, y, bar, share, role)
            picture.right(width, y, text, role)
        return picture

    def _table(self, picture: Picture, x: int, height: int, commanded: Floats, does: Floats) -> None:
        """Write the motion as commanded and as measured, then where the robot is and how sure it is of that."""
        model = self.model
        rows: list[tuple[str, str, str]] = [("forward", number(float(commanded[0])), f"{number(float(does[0]))} m/s")]
        if model.rig.law.kind == "planar":
            rows.append(("left", number(float(commanded[1])), f"{number(float(does[1]))} m/s"))
        commanded_turn, does_turn = (number(degrees(float(v[2])), 0) for v in (commanded, does))
        rows.append(("turn left", commanded_turn, f"{does_turn} deg/s"))
        picture.text(x, 0, "motion", "title")
        picture.right(x + 16, 0, "commanded", "commanded")
        picture.text(x + 17, 0, "measured", "measured")
        y = 1
        for name, first, second in rows:
            picture.text(x, y, name, "dim")
            picture.right(x + 16, y, first, "commanded")
            picture.text(x + 17, y, second, "measured")
            y += 1
        for name, text, role in self._place():
            if y < height:
                picture.text(x, y, name, "dim")
                picture.text(x + 10, y, text, role)
                y += 1

    def _place(self) -> list[tuple[str, str, str]]:
        model, estimated = self.model, estimated_of(self.model)
        pose = tuple(model.value("truth", n) for n in ("x", "y", "heading"))
        if not all(map(isfinite, pose)):
            pose = estimated.pose if estimated is not None else pose
        x, y, heading = pose
        rows = [
            ("heading", f"{number(wrap_deg(degrees(heading)) if isfinite(heading) else heading, 0)} deg", "measured"),
            ("at", f"{number(x, 2, 5)} m {number(y, 2, 5)} m", "measured"),
        ]
        if estimated is not None:
            sigma, off = estimate_error(model, estimated)
            rows.append(("estimate", f"± {sigma * 100:4.1f} cm", "target"))
            if isfinite(off):
                rows.append(("off by", f"{off * 100:6.1f} cm", "alarm" if off > 3 * sigma + 0.02 else "rest"))
        return rows

    def _gauges(self) -> list[tuple[str, float, str, str]]:
        """Return battery and sensors: name, share of its range, what it says, role."""
        model, found = self.model, []
        if self._battery():
            volts, full = model.value("truth", "battery"), model.rig.battery.volts
            restart = model.value("truth", "restart")
            role = "alarm" if restart > 0 or volts < 0.8 * full else "rest"
            found.append(("battery", volts / full, f"{volts:.2f} V of {full:g} V", role))
        for name, sensor in model.rig.sensors.items():
            value = model.value("sensed", plain(name))
            if isinstance(sensor, Ranger):
                share = value / sensor.longest_m if value > 0 else float("nan")
                text = f"{value:.2f} m" if value > 0 else "no echo"
            else:
                share, text = float("nan"), f"reads {value:g}" if value > 0 else "sees nothing"
            found.append((name, share, text, "measured" if value > 0 else "dim"))
        return found
