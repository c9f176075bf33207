"""Wheels that mirror each other, and wheels far outside the body, for a change of a chassis."""

from __future__ import annotations

import re
from math import hypot

from pivrex.rig.rig import Rig

__all__ = ["far_wheel", "mirrored_key"]

SAME_M = 1e-6
FAR = 2.0
"""A wheel that lies more than this many times half of the body's diagonal away from its centre is likely a slip."""


def mirrored_key(rig: Rig, key: str, value: object) -> tuple[str, object] | None:
    """Return what changes with a wheel's place or radius on the other side of the robot: its key and value; None for nothing."""
    found = re.fullmatch(r"chassis\.wheels\.(\d+)\.(x|y|radius)", key)
    if found is None or int(found[1]) >= len(rig.chassis.wheels):
        return None
    here, field = rig.chassis.wheels[int(found[1])], found[2]
    for k, wheel in enumerate(rig.chassis.wheels):
        same = abs(wheel.x_m - here.x_m) < SAME_M and abs(wheel.radius_m - here.radius_m) < SAME_M
        if (
            wheel is not here
            and same
            and abs(here.y_m) > SAME_M
            and abs(wheel.y_m + here.y_m) < SAME_M
            and wheel.kind == here.kind
        ):
            text = str(value).strip()
            other = text if field != "y" else text[1:].strip() if text.startswith("-") else f"-{text}"
            return f"chassis.wheels.{k}.{field}", other
    return None


def far_wheel(rig: Rig) -> str:
    """Return what is odd about a wheel that lies far outside of the body; empty if none does."""
    chassis = rig.chassis
    half = hypot(chassis.length_m or 0.0, chassis.width_m or 0.0) / 2
    for wheel in chassis.wheels:
        away = hypot(wheel.x_m, wheel.y_m)
        if half and away > FAR * half:
            return f"wheel {wheel.name} would be {away:.2f} m from the centre of a body that reaches {half:.2f} m"
    return ""
