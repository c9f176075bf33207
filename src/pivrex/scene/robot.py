"""A robot from above, to scale: body, wheels, front, attachments, and arrows of what moves. Every drawing of a robot is this one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import cos, hypot, isfinite, pi, sin
from typing import Protocol

import numpy as np
from numpy.typing import ArrayLike, NDArray

from pivrex.rig import Rig
from pivrex.rig.chassis import Chassis, Wheel
from pivrex.scene.scene import Box, Scene
from pivrex.scene.stamps import stamp_of

__all__ = ["Posed", "RobotMotion", "add_motion", "add_outline", "add_robot", "chassis_box", "reach_of"]

Floats = NDArray[np.float64]

WIDE = 0.7
"""A wheel's width as a share of its radius."""

MIN_ARROW = 0.02
"""Shorter ones say nothing."""

ARROW = 0.75
"""A wheel at its top speed has an arrow of this share of the reach."""

SMALL = 8.0
"""Letters: of a robot that is drawn shorter than this a stamp is taken."""


class Posed(Protocol):
    """An attachment as it stands: where it is, in rad (NaN for what has no angle), and whether it does something."""

    @property
    def name(self) -> str: ...

    @property
    def angle_rad(self) -> float: ...

    @property
    def acts(self) -> bool: ...


def reach_of(chassis: Chassis) -> tuple[float, float]:
    """Return how far a robot reaches ahead of its centre and to its sides, in m."""
    ahead = max([chassis.length_m / 2, *(abs(w.x_m) + w.radius_m for w in chassis.wheels)])
    across = max([chassis.width_m / 2, *(abs(w.y_m) + w.radius_m for w in chassis.wheels)])
    return ahead, across


def chassis_box(rig: Rig) -> Box:
    """Return what is shown of a robot that looks up, with room for arrows and names."""
    ahead, across = reach_of(rig.chassis)
    reach = max(ahead, across)
    return Box(-across - 0.5 * reach, -ahead - 0.38 * reach, across + 0.5 * reach, ahead + 0.38 * reach)


def _at(pose: Sequence[float], points: ArrayLike) -> Floats:
    """Return where points of a robot, (N, 2) forward and left in m, lie at a pose (m, m, rad)."""
    x, y, heading = pose
    c, s = cos(heading), sin(heading)
    of = np.asarray(points, float)
    return np.stack((x + c * of[..., 0] - s * of[..., 1], y + s * of[..., 0] + c * of[..., 1]), axis=-1)


def _box(length: float, width: float) -> Floats:
    return np.array([(length, width), (-length, width), (-length, -width), (length, -width), (length, width)])


def _wheel_points(wheel: Wheel, angle: float, along: ArrayLike, across: ArrayLike) -> Floats:
    """Return points of the robot from points of a wheel, along where it points and to the left of that, in m."""
    return _at((wheel.x_m, wheel.y_m, angle), np.stack(np.broadcast_arrays(along, across), axis=-1))


def add_outline(scene: Scene, rig: Rig, pose: Sequence[float], named: str, dash: float = 0.0) -> None:
    """Draw a robot's outline and its front, for where it was, is by its estimate, or would be."""
    if not np.isfinite(pose).all():
        return
    length, width = rig.chassis.length_m / 2, rig.chassis.width_m / 2
    scene.line(_at(pose, _box(length, width)), named, 0.3, dash)
    scene.line(_at(pose, [(length, width * 0.6), (length * 1.3, 0.0), (length, -width * 0.6)]), named, 0.3, dash)


def add_robot(
    scene: Scene,
    rig: Rig,
    pose: Sequence[float],
    angles: Floats | None = None,
    hull: str = "hull",
    sliding: Sequence[bool] | NDArray[np.bool_] = (),
    attachments: Sequence[Posed] = (),
    chosen: str = "",
    detail: bool = False,
) -> None:
    """Draw a robot at a pose (m, m, rad), if that is known.

    Parameters
    ----------
    scene : Scene
        In metres.
    rig : Rig
    pose : sequence of 3 floats
    angles : (W,) float64, optional
        Where the wheels point, in rad.
    hull : str
        The role of its body.
    sliding : (W,) bool
        Which tyres slide.
    attachments : sequence of Posed
        Those that are drawn, if they have a place.
    chosen : str
        The wheel that the keys act on.
    detail : bool
        Whether rims, rollers, casters and the circles of steered wheels are drawn, and never a stamp.
    """
    if not np.isfinite(pose).all():
        return
    chassis = rig.chassis
    length, width = chassis.length_m / 2, chassis.width_m / 2
    large = Scene(scene.box)
    large.area(_at(pose, _box(length, width)), hull)
    base, half = (0.8, 0.42) if detail else (0.45, 0.6)
    front = [(length * base, width * half), (length * 1.22, 0.0), (length * base, -width * half)]
    large.area(_at(pose, front), "nose")
    for caster in chassis.casters if detail else ():
        large.disc(_at(pose, (caster.x_m, caster.y_m)), 0.06 * max(length, width), "tyre")
    for k, wheel in enumerate(chassis.wheels):
        angle = float(angles[k]) if angles is not None else wheel.drive_rad
        slides = k < len(sliding) and bool(sliding[k])
        _add_wheel(large, pose, wheel, angle, "limit" if slides else "tyre", wheel.name == chosen, detail)
    _add_attachments(large, rig, pose, attachments)
    if detail:
        scene.marks += large.marks
    else:
        scene.stamped((pose[0], pose[1]), 2 * max(length, width), SMALL, large.marks, stamp_of(pose[2], hull))


def _add_wheel(
    scene: Scene, pose: Sequence[float], wheel: Wheel, angle: float, fill: str, chosen: bool, detail: bool
) -> None:
    r, half = wheel.radius_m, wheel.radius_m * WIDE / 2
    corners = _at(pose, _wheel_points(wheel, angle, *_box(r, half).T))
    scene.area(corners, fill)
    if not detail:
        return
    if wheel.rollers_rad is not None:
        dx, dy = cos(wheel.rollers_rad), sin(wheel.rollers_rad)
        slanted = abs(dy) > 0.5
        end = np.array([-1.0, 1.0]) * (half / abs(dy) * 0.9 if slanted else r * 0.7)
        for along in np.linspace(-0.6 * r, 0.6 * r, 3) if slanted else (0.0,):
            scene.line(_at(pose, _wheel_points(wheel, angle, along + dx * end, dy * end)), "dim", 0.25)
    if wheel.steered:
        x, y = _at(pose, (wheel.x_m, wheel.y_m)).tolist()
        scene.circle((x, y), 1.3 * r, "frame", 0.25)
    scene.line(corners, "title" if chosen else "rim", 0.55 if chosen else 0.35)


def _add_attachments(scene: Scene, rig: Rig, pose: Sequence[float], attachments: Sequence[Posed]) -> None:
    """Draw those that have a place: an arm from where it sits, turned to where it is; a disc that fills while it is on."""
    for one in attachments:
        a = rig.attachments[one.name]
        if a.x_m is None or a.y_m is None:
            continue
        named = "commanded" if one.acts else "dim"
        turned = a.points_rad + (one.angle_rad if isfinite(one.angle_rad) else 0.0)
        ends = _at(pose, [(a.x_m, a.y_m), (a.x_m + a.reach_m * cos(turned), a.y_m + a.reach_m * sin(turned))])
        if a.reach_m:
            scene.line(ends, named, 0.9)
        scene.dots(ends[:1], named, 0.8)


@dataclass(frozen=True)
class RobotMotion:
    """The commanded and the achieved motion.

    Attributes
    ----------
    angles, targets : (W,) float64
        Where the wheels point, and are commanded to point, in rad.
    commanded, measured : (W,) float64 or None
        Shares of each wheel's top speed.
    limited : tuple of bool
        Wheels that were asked for more than they can.
    motion, moving : (3,) float64 or None
        Commanded and measured motion, as shares of the greatest forward, left and turn.
    """

    angles: Floats
    targets: Floats
    commanded: Floats | None
    measured: Floats | None
    limited: tuple[bool, ...] = ()
    motion: Floats | None = None
    moving: Floats | None = None


def add_motion(scene: Scene, rig: Rig, pose: Sequence[float], data: RobotMotion) -> None:
    """Draw what each wheel and the body are commanded and achieve: arrows side by side, and the turn as an arc."""
    reach = max(reach_of(rig.chassis))
    for k, wheel in enumerate(rig.chassis.wheels):
        hub = np.array([wheel.x_m, wheel.y_m])
        if wheel.steered:
            way = np.array([0.0, 1.3 * wheel.radius_m])
            turned = np.stack((wheel.x_m + way * cos(data.targets[k]), wheel.y_m + way * sin(data.targets[k])), axis=1)
            scene.line(_at(pose, turned), "target", 0.35)
        ahead = np.array([cos(data.angles[k]), sin(data.angles[k])]) * ARROW * reach
        requested, real = (
            ahead * float(np.clip(of[k], -1.3, 1.3)) if of is not None and isfinite(of[k]) else None
            for of in (data.commanded, data.measured)
        )
        bad = k < len(data.limited) and data.limited[k]
        _add_pair(scene, pose, hub, (requested, real), reach, "alarm" if bad else "commanded", 0.75, wheel.y_m < 0)
    commanded, does = (_body_way(of, reach) for of in (data.motion, data.moving))
    _add_pair(scene, pose, np.zeros(2), (commanded, does), reach, "commanded", 1.1, False)
    _add_turn(scene, pose, data.motion, "commanded", 0.36 * reach)
    _add_turn(scene, pose, data.moving, "measured", 0.26 * reach)


def _body_way(twist: Floats | None, reach: float) -> Floats | None:
    if twist is None or not np.isfinite(twist).all():
        return None
    size = hypot(twist[0], twist[1])
    return np.asarray(twist[:2]) * (ARROW * 1.5 * reach * min(1.0, 1.2 / size) if size else 0.0)


def _add_pair(
    scene: Scene, pose: Sequence[float], hub: Floats, ways: tuple[Floats | None, Floats | None], reach: float, commanded: str,
    width: float, right: bool,
) -> None:  # fmt: skip
    """Draw the commanded and the measured arrow side by side; the commanded one outside."""
    for way, named, side in zip(ways, (commanded, "measured"), (-1.0, 1.0) if right else (1.0, -1.0), strict=True):
        if way is not None and hypot(*way) > MIN_ARROW * reach:
            # an arrow backwards has its left on the other side
            back = -1.0 if float(way[0]) < 0 else 1.0
            scene.arrow(_at(pose, hub), _at(pose, hub + way), named, width, side * back * width * 1.05)


def _add_turn(scene: Scene, pose: Sequence[float], twist: Floats | None, named: str, radius: float) -> None:
    """Draw the body's turn as an arc round its centre, with a head."""
    if twist is None or not np.isfinite(twist).all() or abs(twist[2]) <= 0.01:
        return
    tip = float(np.clip(twist[2], -1, 1)) * pi * 1.5
    angle = np.linspace(0, tip, 40)
    scene.line(_at(pose, np.stack((radius * np.cos(angle), radius * np.sin(angle)), axis=1)), named, 0.5)
    way = 1.0 if tip > 0 else -1.0
    start = np.array([radius * cos(tip), radius * sin(tip)])
    ahead = np.array([-sin(tip), cos(tip)]) * way * 0.35 * radius
    scene.arrow(_at(pose, start - ahead * 0.2), _at(pose, start + ahead), named, 0.8)
