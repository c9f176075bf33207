"""What every wheel must do for a motion, by the stages from the frame to the outputs."""

from __future__ import annotations

from collections.abc import Sequence
from math import degrees, radians
from typing import Any

import numpy as np

from pivrex.errors import MotionError, PivrexError
from pivrex.line import kinematics, limits, outputs, steering
from pivrex.line.frame import to_robot
from pivrex.line.layout import Floats
from pivrex.line.line import Line
from pivrex.rig.geometry import impossible_motion
from pivrex.rig.rig import Rig
from pivrex.units import wrap_deg

__all__ = ["ask_wheels"]

SLACK = 1e-9


def ask_wheels(
    rig: Rig,
    forward_m_s: float,
    left_m_s: float | None,
    turn_deg_s: float,
    heading_deg: float | None = None,
    fit: str = "",
    steer_deg: Sequence[float] | None = None,
) -> dict[str, Any]:
    """Compute the wheels of a motion.

    Parameters
    ----------
    rig : Rig
    forward_m_s, left_m_s : float
        Along the robot, or along the field if ``heading_deg`` is given. None to the left means that what moves sideways
        does not matter: a driven axle off the centre swings the centre sideways while it turns.
    turn_deg_s : float
        Counter-clockwise.
    heading_deg : float, optional
        The robot's heading on the field.
    fit : str
        "scale" or "clip"; the rig's own if empty.
    steer_deg : sequence of float, optional
        Where the steered wheels point now; straight ahead if left out. They decide which way is the short one. The
        speeds are those once the wheels have got where they should point.

    Returns
    -------
    dict
        ``wheels``, ``twist`` and ``limited``, ready for JSON.

    Raises
    ------
    MotionError
        If the chassis cannot follow: its wheels do not achieve the command.
    PivrexError
        If the number of angles is not the number of steered wheels.
    """
    requested = np.array([forward_m_s, left_m_s or 0.0, radians(turn_deg_s)])
    if heading_deg is not None:
        requested[:2] = to_robot(
            float(requested[0]), float(requested[1]), radians(heading_deg), float(requested[2]), 0.0, 0.0
        )
    geometry = rig.chassis.geometry
    _refuse(rig, requested, geometry.followed(requested), left_m_s is None and heading_deg is None)
    line = Line(rig)
    rule = line.of_rig["limits"]
    if fit:
        rule = rule._replace(clip=fit == "clip")
    maps = kinematics.kinematics_of(rig.chassis)
    needed, limited = limits.requested_and_limited(rule, requested)
    if not rig.steered:
        if steer_deg:
            raise PivrexError(f"{rig.name} has no steered wheels, so --steer has no meaning")
        speeds = limited
        lost, angles, wheels = float(np.abs(needed - speeds).max()), [], speeds
    else:
        speeds, pointing = _aimed(rig, line.of_rig["steering"], limited, steer_deg)
        angles = [wrap_deg(degrees(a)) + 0.0 for a, w in zip(pointing, rig.chassis.wheels, strict=True) if w.steered]
        lost, wheels = float(np.abs(needed - limited).max()), kinematics.vectors(speeds, pointing)
    achieved = kinematics.twist_of(maps, wheels)
    return {
        "wheels": _told(line, speeds, dict(zip(rig.steered, angles, strict=True))),
        "twist": {
            "forward_m_s": float(achieved[0]) + 0.0,
            "left_m_s": float(achieved[1]) + 0.0,
            "turn_deg_s": degrees(float(achieved[2])) + 0.0,
        },
        "limited": lost > SLACK,
    }


def _aimed(
    rig: Rig, settings: steering.SteerSettings, limited: Floats, steer_deg: Sequence[float] | None
) -> tuple[Floats, Floats]:
    """Return surface speeds and angles of all wheels by the short way from where they point, cosines left out."""
    present = np.array([w.drive_rad for w in rig.chassis.wheels])
    if steer_deg is not None:
        if len(steer_deg) != len(rig.steered):
            raise PivrexError(
                f"--steer has {len(steer_deg)} angles, but {rig.name} has {len(rig.steered)} steered wheels: "
                + ", ".join(rig.steered)
            )
        present[[w.steered for w in rig.chassis.wheels]] = np.radians(steer_deg)
    target, speeds = steering.short_ways(settings, present, limited)
    return speeds, target


def _told(line: Line, speeds: Floats, angles: dict[str, float]) -> list[dict[str, Any]]:
    rig, settings, named = line.rig, line.of_rig["outputs"], outputs.command_values(line.rig)
    drive = line.of_rig["drive"].share @ speeds
    others = np.zeros(len(settings.smallest) + len(settings.sign) - len(drive))
    commands = outputs.encode(settings, np.concatenate((drive, others)))
    wheels = []
    for w, wheel in enumerate(rig.chassis.wheels):
        name, motor = next((n, m) for n, m in rig.motors.items() if wheel.name in m.wheels)
        values = {v.name: float(commands[i]) for i, v in enumerate(named) if v.motor == name}
        wheels.append(
            {
                "name": wheel.name,
                "speed_m_s": float(speeds[w]) + 0.0,
                "speed_rad_s": float(speeds[w] / wheel.radius_m) + 0.0,
                "steer_deg": angles.get(wheel.name),
                "output": {"kind": motor.output.kind, **{_named(rig, name, k): v for k, v in values.items()}},
            }
        )
    return wheels


def _named(rig: Rig, motor: str, value: str) -> str:
    """Name a value with its unit, where it has one that its kind leaves open."""
    output = rig.motors[motor].output
    if output.kind == "speed":
        return "speed_mm_s" if output.unit == "mm/s" else "speed_m_s"
    return "pulse_us" if value == "pulse" else value


def _refuse(rig: Rig, requested: Floats, follows: Floats, sideways_is_free: bool) -> None:
    missing = requested - follows
    if sideways_is_free:
        missing[1] = 0.0
    words = []
    for value, name, unit in (
        (missing[0], "forward", "m/s"),
        (missing[1], "to the left", "m/s"),
        (degrees(missing[2]), "of turning", "deg/s"),
    ):
        if abs(value) > 1e-6 * max(1.0, float(np.abs(requested).max())):
            words.append(f"{value:+.3g} {unit} {name}")
    if words:
        raise MotionError(
            f"{rig.name} cannot follow this motion: its {rig.chassis.shape} chassis cannot do {' and '.join(words)}; "
            + can_do(rig)
        )


def can_do(rig: Rig) -> str:
    """Return in a clause which motions a chassis can do, and why no others."""
    geometry = rig.chassis.geometry
    if geometry.moves_in_plane and geometry.can(np.array([0.0, 0.0, 1.0])):
        return "it moves in any direction and turns"
    if geometry.drags:
        rolling = [rig.chassis.wheels[w].name for w in geometry.of_plain.tolist()]
        about = geometry.clean @ np.array([0.0, 0.0, 1.0])
        ahead, left = float(-about[1]) + 0.0, float(about[0]) + 0.0
        return (
            f"it moves the way its plain {'wheels roll' if len(rolling) > 1 else 'wheel rolls'} ({', '.join(rolling)}), and "
            f"turns about the point x {ahead * 1000:+.0f} mm, y {left * 1000:+.0f} mm; any farther to the side they would be dragged"
        )
    if rig.chassis.shape == "two-sided":
        x = {round(w.x_m, 9) for w in rig.chassis.wheels}
        if len(x) == 1 and abs(next(iter(x))) > SLACK:
            return (
                f"its wheels only roll straight ahead, so it moves forward and back, and turns about the middle of its axle, "
                f"{next(iter(x)) * 1000:+.0f} mm from the centre"
            )
        return "its wheels only roll straight ahead, so it moves forward and back and turns"
    _, sizes, ways = np.linalg.svd(np.eye(3) - geometry.follow)
    lost = [impossible_motion(way) for way, size in zip(ways, sizes, strict=True) if size > 1e-6]
    return f"its wheels cannot do {' nor '.join(lost)}"
