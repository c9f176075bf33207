"""What every wheel must do for a motion: the stages from the frame to the outputs, asked once."""

from __future__ import annotations

from math import degrees, radians
from typing import Any

import numpy as np

from pivrex.errors import MotionError
from pivrex.line import kinematics, limits, outputs
from pivrex.line.frame import to_robot
from pivrex.rig.rig import Rig

__all__ = ["ask_wheels"]

SLACK = 1e-9


def ask_wheels(
    rig: Rig, forward_m_s: float, left_m_s: float, turn_deg_s: float, heading_deg: float | None = None, fit: str = ""
) -> dict[str, Any]:
    """Compute the wheels of a motion.

    Parameters
    ----------
    rig : Rig
    forward_m_s, left_m_s : float
        Along the robot, or along the field if ``heading_deg`` is given.
    turn_deg_s : float
        Counter-clockwise.
    heading_deg : float, optional
        The robot's heading on the field.
    fit : str
        "scale" or "clip"; the rig's own if empty.

    Returns
    -------
    dict
        ``wheels``, ``twist`` and ``limited``, ready for JSON.

    Raises
    ------
    MotionError
        If the chassis cannot follow: what its wheels achieve is not what was asked for.
    """
    asked = np.array([forward_m_s, left_m_s, radians(turn_deg_s)])
    if heading_deg is not None:
        asked = to_robot(asked, radians(heading_deg))
    maps = kinematics.kinematics_of(rig.chassis)
    speeds = kinematics.wheel_speeds(maps, asked)
    follows = kinematics.twist_of(maps, speeds)
    _refuse(rig, asked, follows)
    top = np.array([rig.wheel_top_m_s(w.name) for w in rig.chassis.wheels])
    given = (limits.clip_each if (fit or rig.limits.fit) == "clip" else limits.scale_all)(speeds, top)
    settings = outputs.settings_of(rig)
    told = outputs.encode(settings, outputs.drive_of(settings, given))
    achieved = kinematics.twist_of(maps, given)
    wheels = []
    for w, wheel in enumerate(rig.chassis.wheels):
        name, motor = next((n, m) for n, m in rig.motors.items() if wheel.name in m.wheels)
        values = {v.name: float(told[i]) for i, v in enumerate(settings.values) if v.motor == name}
        wheels.append(
            {
                "name": wheel.name,
                "speed_m_s": float(given[w]),
                "speed_rad_s": float(given[w] / wheel.radius_m),
                "steer_deg": None,
                "output": {"kind": motor.output.kind, **{_named(rig, name, k): v for k, v in values.items()}},
            }
        )
    return {
        "wheels": wheels,
        "twist": {
            "forward_m_s": float(achieved[0]) + 0.0,
            "left_m_s": float(achieved[1]) + 0.0,
            "turn_deg_s": degrees(float(achieved[2])) + 0.0,
        },
        "limited": bool((np.abs(speeds - given) > SLACK).any()),
    }


def _named(rig: Rig, motor: str, value: str) -> str:
    """Name a value with its unit, where it has one that its kind leaves open."""
    output = rig.motors[motor].output
    if output.kind == "speed":
        return "speed_mm_s" if output.unit == "mm/s" else "speed_m_s"
    return "pulse_us" if value == "pulse" else value


def _refuse(rig: Rig, asked: np.ndarray, follows: np.ndarray) -> None:
    missing = asked - follows
    words = []
    for value, name, unit in (
        (missing[0], "forward", "m/s"),
        (missing[1], "to the left", "m/s"),
        (degrees(missing[2]), "of turning", "deg/s"),
    ):
        if abs(value) > 1e-6 * max(1.0, float(np.abs(asked).max())):
            words.append(f"{value:+.3g} {unit} {name}")
    if words:
        raise MotionError(
            f"{rig.name} cannot follow this motion: its {rig.chassis.kind} chassis cannot do {' and '.join(words)}; "
            "its wheels only roll straight ahead, so it moves forward and back and turns"
        )
