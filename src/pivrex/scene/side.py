"""A robot from the side: its wheels on the floor, its leaning body, and the limits of the lean."""

from __future__ import annotations

from dataclasses import dataclass
from math import cos, degrees, isfinite, pi, sin

import numpy as np

from pivrex.rig.body import Body
from pivrex.rig.rig import Rig
from pivrex.scene.scene import Box, Margins, Scene

__all__ = ["SideData", "side_scene"]


@dataclass(frozen=True)
class SideData:
    """The data of the drawing; NaN for unknown values.

    Attributes
    ----------
    lean, wanted : float
        In rad, forward is positive; what the loops ask for.
    rolled : float
        How far the wheels have turned, in rad.
    speed, requested : float
        Shares of full speed.
    off : bool
        Whether a robot that balances has its drive off.
    """

    lean: float
    wanted: float
    rolled: float
    speed: float
    requested: float
    off: bool = False


def side_scene(rig: Rig, data: SideData) -> Scene:
    """Draw it; forward is right."""
    chassis, body = rig.chassis, rig.body or Body()
    wheels = {(w.x_m, w.radius_m) for w in chassis.wheels} | {(c.x_m, 0.012) for c in chassis.casters}
    centre, high = chassis.mass_centre.x_m, body.high_m(chassis)
    axle = max(wheels) if data.lean > 0 else min(wheels)
    pivot, radius = axle[0], max(r for x, r in wheels if x == axle[0])
    top, low = max(2 * high - radius, 2 * radius), 0.6 * radius
    # what leans all the way forward or back is inside too
    reach = max(top, chassis.length_m) * 0.75 + abs(pivot)
    scene = Scene(Box(-reach, -0.12 * top, reach, top * 1.1), margins=Margins(0, 0, 1, 1))
    lean = data.lean if isfinite(data.lean) else 0.0
    role = "limit" if data.off else "hull"

    def at(x: float, z: float, angle: float = lean) -> tuple[float, float]:
        """Where a point of the upright body is once it leans about its axle."""
        out, up = x - pivot, z - radius
        return pivot + out * cos(angle) + up * sin(angle), radius + up * cos(angle) - out * sin(angle)

    scene.area([(-9 * reach, -0.2 * top), (9 * reach, -0.2 * top), (9 * reach, 0.0), (-9 * reach, 0.0)], "floor")
    scene.line([(-9 * reach, 0.0), (9 * reach, 0.0)], "wall", 0.3)
    if rig.balance is not None:
        falls = rig.balance.falls_at_rad
        for edge in (-falls, falls):
            scene.line([at(pivot, radius, edge), at(pivot, top * 0.95, edge)], "alarm", 0.2, 0.9)
        scene.label(at(pivot, top, -falls), f"falls at {degrees(falls):.0f} deg", "dim", 1.0, "left above below")
    half = 0.32 * chassis.length_m if rig.balance is not None else 0.5 * chassis.length_m
    scene.area([at(-half, low), at(-half, top), at(half, top), at(half, low)], role)
    scene.line([at(half, top * 0.8), at(half, top)], "nose", 0.9)
    for x, r in sorted(wheels):
        where = at(x, r)
        scene.disc(where, r, "tyre")
        scene.circle(where, r, "rim", 0.4)
        turned = data.rolled if isfinite(data.rolled) else 0.0
        for spoke in (0.0, pi / 2):
            way = np.array([sin(turned + lean + spoke), cos(turned + lean + spoke)]) * r * 0.7
            scene.line([np.array(where) - way, np.array(where) + way], "rim", 0.3)
    if isfinite(data.wanted):
        scene.line([at(pivot, radius, data.wanted), at(pivot, top * 1.04, data.wanted)], "target", 0.5, 0.9)
    scene.line([at(pivot, radius), at(pivot, top * 1.04)], "measured", 0.5)
    scene.sign(at(centre, high), "⊕", "title")
    for share, named, height in ((data.requested, "commanded", -0.05), (data.speed, "measured", -0.1)):
        if isfinite(share) and abs(share) > 0.01:
            scene.arrow((0.0, height * top), (share * reach * 0.8, height * top), named, 0.5)
    return scene
