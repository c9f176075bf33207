"""The robot from above, to scale: body, wheels, rollers, steering, mass centre, front, and arrows of what moves."""

from __future__ import annotations

from dataclasses import dataclass
from math import cos, hypot, isfinite, sin

import numpy as np
from numpy.typing import NDArray

from pivrex.rig import Rig
from pivrex.rig.chassis import Wheel
from pivrex.tui.draw.attachment_bar import Standing, lay_attachments
from pivrex.tui.draw.picture import Areas, Dots, Picture

__all__ = ["RobotData", "RobotScale", "draw_robot", "robot_scale"]

Floats = NDArray[np.float64]

WIDE = 0.7
LEAST_ARROW = 0.02
"""Shorter ones say nothing."""

ARROW = 0.75
"""A wheel at its top speed has an arrow of this share of the reach; so has the body."""


@dataclass(frozen=True)
class RobotData:
    """What the drawing shows.

    Attributes
    ----------
    rig : Rig
    angles : (W,) float64
        Where the wheels point, in rad.
    targets : (W,) float64
        Where steered wheels shall point.
    commanded, measured : (W,) float64 or None
        Shares of each wheel's top speed.
    limited : tuple of bool
        Wheels that were asked for more than they can.
    motion, moving : (3,) float64 or None
        Commanded and measured motion, as shares of the greatest forward, left and turn.
    chosen : str
        The wheel that the keys act on.
    point : int
        The turning point in use, 0 for the centre.
    upside_down : bool
        Whether the robot lies on its back.
    names : bool
        Whether wheels and front are named.
    standings : tuple of Standing
        What stands of its attachments.
    """

    rig: Rig
    angles: Floats
    targets: Floats
    commanded: Floats | None
    measured: Floats | None
    limited: tuple[bool, ...]
    motion: Floats | None
    moving: Floats | None
    chosen: str
    point: int = 0
    upside_down: bool = False
    names: bool = True
    standings: tuple[Standing, ...] = ()


@dataclass(frozen=True)
class RobotScale:
    """Where the robot lies in the picture: dots to the metre, its centre in dots, and how far the drawing reaches in m."""

    per_m: float
    centre: tuple[float, float]
    reach_m: float

    def dots(self, x_m: Floats, y_m: Floats) -> tuple[Floats, Floats]:
        """Dots across and down; the robot's front is up."""
        return self.centre[0] - np.asarray(y_m) * self.per_m, self.centre[1] - np.asarray(x_m) * self.per_m

    def cell(self, x_m: float, y_m: float) -> tuple[int, int]:
        """The cell that a point lies in."""
        x, y = self.dots(np.array(x_m), np.array(y_m))
        return int(x // 2), int(y // 4)

    def metres(self, x: int, y: int) -> tuple[float, float]:
        """The point, (forward, left) in m, in the middle of a cell."""
        return (self.centre[1] - (4 * y + 2)) / self.per_m, (self.centre[0] - (2 * x + 1)) / self.per_m


def robot_scale(rig: Rig, width: int, height: int) -> RobotScale:
    """Fit a robot into ``width`` × ``height`` cells, with room for arrows and names."""
    chassis = rig.chassis
    ahead = max([chassis.length_m / 2, *(abs(w.x_m) + w.radius_m for w in chassis.wheels)])
    aside = max([chassis.width_m / 2, *(abs(w.y_m) + w.radius_m for w in chassis.wheels)])
    reach = max(ahead, aside)
    per_m = max(
        1.0, min((width - 2) * 2 / (2 * (aside + 0.5 * reach)), (height - 2) * 4 / (2 * (ahead + 0.38 * reach)))
    )
    return RobotScale(per_m, (float(width), float(height * 2)), reach)


def draw_robot(data: RobotData, scale: RobotScale, width: int, height: int) -> Picture:
    """Draw it; arrows solid for what is commanded, dotted for what is measured."""
    picture = Picture(width, height)
    chassis = data.rig.chassis
    dots = Dots(width, height)
    half_l, half_w = chassis.length_m / 2, chassis.width_m / 2
    areas = Areas(width, height)
    corners = np.array([(half_l, half_w), (half_l, -half_w), (-half_l, -half_w), (-half_l, half_w)])
    areas.convex(areas.layer("limit" if data.upside_down else "hull"), *scale.dots(corners[:, 0], corners[:, 1]))
    front = np.array(
        [(half_l - 0.02, -half_w * 0.4), (half_l + 0.12 * scale.reach_m, 0.0), (half_l - 0.02, half_w * 0.4)]
    )
    areas.convex(areas.layer("nose"), *scale.dots(front[:, 0], front[:, 1]))
    tyres = areas.layer("tyre")
    for caster in chassis.casters:
        cx, cy = scale.dots(np.array(caster.x_m), np.array(caster.y_m))
        areas.disc(tyres, float(cx), float(cy), 0.06 * scale.reach_m * scale.per_m)
    for i, wheel in enumerate(chassis.wheels):
        areas.convex(tyres, *_corners(scale, wheel, float(data.angles[i])))
    arrows = _Arrows(areas, scale)
    for i in range(len(chassis.wheels)):
        arrows.wheel(data, i)
    arrows.body(data)
    lay_attachments(areas, scale.dots, scale.per_m, data.rig, list(data.standings))
    areas.onto(picture, 0, 0)
    for i, wheel in enumerate(chassis.wheels):
        _wheel(dots, scale, wheel, float(data.angles[i]), float(data.targets[i]), wheel.name == data.chosen)
    _turn(dots, scale, data.motion, "commanded", 1, 0.30)
    _turn(dots, scale, data.moving, "measured", 2, 0.24)
    dots.onto(picture, 0, 0)
    centre = chassis.mass_centre
    x, y = scale.cell(centre.x_m, centre.y_m)
    picture.text(x, y, "⊕", "target")
    for i, point in enumerate(data.rig.plane.points, 1):
        x, y = scale.cell(point.x_m, point.y_m)
        picture.text(x, y, "×", "commanded" if i == data.point else "dim")
        if i == data.point:
            picture.text(x + 2, y, point.name, "commanded")
    x, y = scale.cell(half_l + 0.12 * scale.reach_m, 0.0)
    if data.names:
        picture.text(x - 2, max(0, y - 1), "front", "rest")
        _names(picture, data, scale)
    return picture


def _corners(scale: RobotScale, wheel: Wheel, angle: float) -> tuple[Floats, Floats]:
    """The corners of a wheel as seen from above, in dots."""
    r, half, c, s = wheel.radius_m, wheel.radius_m * WIDE / 2, cos(angle), sin(angle)
    along, aside = np.array([r, r, -r, -r]), np.array([half, -half, -half, half])
    return scale.dots(wheel.x_m + along * c - aside * s, wheel.y_m + along * s + aside * c)


class _Arrows:
    """What each wheel and the body were told and do, as areas side by side, with what lies between the two."""

    def __init__(self, areas: Areas, scale: RobotScale) -> None:
        self._layers = {n: areas.layer(n) for n in ("gap", "measure fill", "command fill", "limit")}
        self._areas, self._scale = areas, scale
        self._wide = max(3.0, 0.16 * scale.reach_m * scale.per_m)
        self._length = ARROW * scale.reach_m

    def wheel(self, data: RobotData, i: int) -> None:
        wheel, angle = data.rig.chassis.wheels[i], float(data.angles[i])
        way = np.array([cos(angle), sin(angle)]) * self._length

        def of(values: Floats | None) -> Floats | None:
            known = values is not None and isfinite(values[i])
            return way * float(np.clip(values[i], -1.3, 1.3)) if values is not None and known else None

        self._both(
            np.array([wheel.x_m, wheel.y_m]),
            1.0 if wheel.y_m >= 0 else -1.0,
            of(data.commanded),
            of(data.measured),
            i < len(data.limited) and data.limited[i],
        )

    def body(self, data: RobotData) -> None:
        def of(twist: Floats | None) -> Floats | None:
            if twist is None or not np.isfinite(twist).all():
                return None
            size = hypot(twist[0], twist[1])
            return np.asarray(twist[:2]) * (self._length * 1.6 * min(1.0, 1.2 / size) if size else 0.0)

        self._both(np.zeros(2), 1.0, of(data.motion), of(data.moving), False)

    def _both(self, hub: Floats, side: float, asked: Floats | None, real: Floats | None, bad: bool) -> None:
        way = asked if asked is not None and hypot(*asked) > 1e-9 else real
        if way is None or hypot(*way) < 1e-9:
            return
        aside = np.array([-way[1], way[0]]) / hypot(*way) * side * self._wide / 2 / self._scale.per_m
        if asked is not None and real is not None and hypot(*(asked - real)) > 0.02 * self._length:
            self._lay("gap", hub + aside + real, hub + aside + asked)
        self._arrow("measure fill", hub + aside, real)
        self._arrow("limit" if bad else "command fill", hub - aside, asked)

    def _arrow(self, fill: str, start: Floats, way: Floats | None) -> None:
        """Lay a bar with a tip."""
        size = hypot(*way) if way is not None else 0.0
        if way is None or size <= LEAST_ARROW * self._length:
            return
        tip = min(size * 0.6, self._wide / self._scale.per_m)
        end, ahead = start + way, way / size
        neck, side = end - ahead * tip, np.array([-ahead[1], ahead[0]]) * self._wide * 0.8 / self._scale.per_m
        self._lay(fill, start, neck)
        corners = np.stack((neck + side, end, neck - side), axis=1)
        self._areas.convex(self._layers[fill], *self._scale.dots(corners[0], corners[1]))

    def _lay(self, named: str, start: Floats, end: Floats) -> None:
        x, y = self._scale.dots(*np.stack((start, end), axis=1))
        self._areas.thick(self._layers[named], (float(x[0]), float(x[1])), (float(y[0]), float(y[1])), self._wide)


def _names(picture: Picture, data: RobotData, scale: RobotScale) -> None:
    for wheel in data.rig.chassis.wheels:
        r = wheel.radius_m
        left = wheel.y_m > 1e-9
        x, y = scale.cell(wheel.x_m, wheel.y_m + (r * 1.25 if left else -r * 1.25))
        name = wheel.name
        below = abs(wheel.y_m) < 0.25 * scale.reach_m
        if below:
            x, y = scale.cell(wheel.x_m - r * 1.5, wheel.y_m)
            x, y = x - len(name) // 2, y + 1
        elif left:
            x -= len(name) + 1
        else:
            x += 2
        x = max(0, min(picture.width - len(name), x))
        picture.text(x, min(picture.height - 1, y), name, "title" if name == data.chosen else "dim")


def _wheel(dots: Dots, scale: RobotScale, wheel: Wheel, angle: float, target: float, chosen: bool) -> None:
    r, half = wheel.radius_m, wheel.radius_m * WIDE / 2
    c, s = cos(angle), sin(angle)

    def at(along: Floats, aside: Floats) -> tuple[Floats, Floats]:
        return scale.dots(wheel.x_m + along * c - aside * s, wheel.y_m + along * s + aside * c)

    if wheel.rollers_rad is not None:
        hatch = dots.layer("groove")
        dx, dy = cos(wheel.rollers_rad), sin(wheel.rollers_rad)
        reach = half / abs(dy) if abs(dy) > 0.5 else half * 0.9
        for along in np.linspace(-0.6 * r, 0.6 * r, 3) if abs(dy) > 0.5 else (0.0,):
            end = np.array([-1.0, 1.0]) * (reach * 0.9 if abs(dy) > 0.5 else r * 0.7)
            dots.path(hatch, *at(along + dx * end, dy * end))
    if wheel.steered:
        around = np.linspace(0, 2 * np.pi, 60)
        dots.path(dots.layer("frame"), *at(1.3 * r * np.cos(around), 1.3 * r * np.sin(around)), every=3)
        way = np.array([0.0, 1.0]) * 1.3 * r
        dots.path(
            dots.layer("target"), *scale.dots(wheel.x_m + way * cos(target), wheel.y_m + way * sin(target)), every=3
        )
    if chosen:
        corners = np.array([(r, half), (r, -half), (-r, -half), (-r, half), (r, half)])
        dots.path(dots.layer("title"), *at(corners[:, 0], corners[:, 1]))


def _turn(dots: Dots, scale: RobotScale, twist: Floats | None, named: str, every: int, radius: float) -> None:
    """The body's turn as an arc round its centre."""
    if twist is None or not np.isfinite(twist).all() or abs(twist[2]) <= 0.01:
        return
    share = float(np.clip(twist[2], -1, 1))
    mask = dots.layer(named)
    tip, way = share * np.pi * 1.5, np.sign(share)
    for r in (radius * scale.reach_m, radius * scale.reach_m - 1 / scale.per_m):
        angle = np.linspace(0, tip, 40)
        dots.path(mask, *scale.dots(r * np.cos(angle), r * np.sin(angle)), every=every)
    r = radius * scale.reach_m
    head = min(3.0 / scale.per_m, r)
    end = np.array([r * cos(tip), r * sin(tip)])
    along = np.array([-sin(tip), cos(tip)]) * way
    out = np.array([cos(tip), sin(tip)])
    barbs = np.stack((end - along * head + out * head * 0.7, end, end - along * head - out * head * 0.7), axis=1)
    dots.path(mask, *scale.dots(*barbs))
