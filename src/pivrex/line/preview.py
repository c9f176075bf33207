"""What a motion would ask of the wheels, without a stick and without time: the stages from kinematics to limits."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.line import kinematics, steering
from pivrex.line.line import Line

__all__ = ["Preview", "preview"]

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Preview:
    """A motion and what the wheels make of it once they have got there.

    Attributes
    ----------
    twist : (3,) float64
        The motion that the chassis follows of what was asked.
    missing : (3,) float64
        What it cannot follow.
    angles : (W,) float64
        Where the wheels point, in rad, by the short way from straight ahead.
    asked, given : (W,) float64
        Surface speeds in m/s before and after the limits.
    achieved : (3,) float64
        The motion that the given speeds make.
    scrub : float
        The greatest side slip of a plain wheel, in m/s.
    """

    twist: Floats
    missing: Floats
    angles: Floats
    asked: Floats
    given: Floats
    achieved: Floats
    scrub: float


def preview(line: Line, twist: Floats) -> Preview:
    """Work a motion out: forward m/s, left m/s, turn rad/s, relative to the robot."""
    followed = line.rig.chassis.geometry.followed(twist)
    asked, given = line.fit(followed)
    settings = line.steering
    if settings is None:
        angles = np.array([w.drive_rad for w in line.rig.chassis.wheels])
        speeds, limited, wheels = asked, given, given
    else:
        none = np.zeros(len(settings.steered))
        ahead = steering.SteerState(True, none, settings.fixed, settings.fixed, none)
        state, aim = steering.aim(settings, ahead, given)
        angles = state.target
        speeds = aim.sign * np.hypot(asked[:, 0], asked[:, 1])
        limited = aim.sign * aim.size
        wheels = kinematics.vectors(limited, angles)
    motion = kinematics.motion_of(line.kinematics, wheels)
    scrub = float(np.abs(motion.scrub).max()) if motion.scrub.size else 0.0
    return Preview(followed, twist - followed, angles, speeds, limited, motion.twist, scrub)
