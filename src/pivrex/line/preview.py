"""What a motion asks of the wheels without a stick and without time, and what wheels are doing in a Tick."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.line import kinematics, steering
from pivrex.line.line import Line

__all__ = ["Doing", "Preview", "doing", "preview"]

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
    residual : float
        How far the given wheels disagree with the body's motion, at most, in m/s.
    """

    twist: Floats
    missing: Floats
    angles: Floats
    asked: Floats
    given: Floats
    achieved: Floats
    scrub: float
    residual: float


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
    return Preview(
        followed, twist - followed, angles, speeds, limited, motion.twist, scrub, float(np.abs(motion.residual).max())
    )


@dataclass(frozen=True)
class Doing:
    """What the wheels are doing in a Tick.

    Attributes
    ----------
    angles : (W,) float64
        Where the wheels point, in rad.
    targets : (W,) float64
        Where they shall point.
    asked, given, measured : (W,) float64
        Surface speeds in m/s.
    commanded, achieved : (3,) float64
        The motion that the commanded speeds make, and the one that the measured speeds make.
    residual, scrub : float
        How far the commanded wheels disagree, and the greatest side slip, in m/s.
    """

    angles: Floats
    targets: Floats
    asked: Floats
    given: Floats
    measured: Floats
    commanded: Floats
    achieved: Floats
    residual: float
    scrub: float


def doing(line: Line, row: Floats) -> Doing:
    """Take out of a Tick what the wheels do, and work out the motion that their measured speeds make."""
    layout, count = line.layout, len(line.wheels)
    sensed = layout.stage("sensed").start
    measured = row[sensed + count : sensed + 2 * count]
    wheels = layout.stage("wheels")
    limits = layout.stage("limits").start
    motion = layout.stage("motion").start
    angles = targets = np.array([w.drive_rad for w in line.rig.chassis.wheels])
    rolled = measured
    if line.steering is not None:
        steer = layout.stage("steering").start
        angles, targets = row[steer : steer + count], row[steer + count : steer + 2 * count]
        rolled = kinematics.vectors(measured, angles)
    over = layout.has("frame", "over") and row[layout.at("frame", "over")] > 0
    maps = line.kinematics_over if over and line.kinematics_over is not None else line.kinematics
    return Doing(
        angles,
        targets,
        row[wheels],
        row[limits : limits + count],
        measured,
        row[motion : motion + 3],
        kinematics.twist_of(maps, rolled),
        float(row[motion + 3]),
        float(row[motion + 4]),
    )
