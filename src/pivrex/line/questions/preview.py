"""What a motion needs from the wheels, without a stick and without time, and what wheels are doing in a Tick."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from pivrex.line import kinematics, limits, steering
from pivrex.line.layout import Floats, plain
from pivrex.line.line import Line

__all__ = ["Doing", "Preview", "doing", "preview"]


@dataclass(frozen=True)
class Preview:
    """A motion and what the wheels make of it once they have got there.

    Attributes
    ----------
    twist : (3,) float64
        The part of the command that the chassis can follow.
    missing : (3,) float64
        What it cannot follow.
    angles : (W,) float64
        Where the wheels point, in rad, by the short way from straight ahead.
    requested, limited : (W,) float64
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
    requested: Floats
    limited: Floats
    achieved: Floats
    scrub: float
    residual: float


def preview(line: Line, twist: Floats) -> Preview:
    """Work a motion out: forward m/s, left m/s, turn rad/s, relative to the robot."""
    rig, maps = line.rig, kinematics.kinematics_of(line.rig.chassis)
    followed = rig.chassis.geometry.followed(twist)
    requested, possible = limits.requested_and_limited(line.of_rig["limits"], followed)
    angles = np.array([w.drive_rad for w in rig.chassis.wheels])
    if "steering" not in line.of_rig:
        speeds, limited, wheels = requested, possible, possible
    else:
        angles, limited = steering.short_ways(line.of_rig["steering"], angles, possible)
        speeds = np.where(limited < 0, -1.0, 1.0) * np.hypot(requested[:, 0], requested[:, 1])
        wheels = kinematics.vectors(limited, angles)
    motion = kinematics.motion_of(maps, wheels)
    scrub = float(np.abs(motion.scrub).max()) if motion.scrub.size else 0.0
    return Preview(
        followed, twist - followed, angles, speeds, limited, motion.twist, scrub, float(np.abs(motion.residual).max())
    )


@dataclass(frozen=True)
class Doing:
    """The motion of the wheels in a Tick.

    Attributes
    ----------
    angles : (W,) float64
        Where the wheels point, in rad.
    targets : (W,) float64
        Where they should point.
    requested, limited, measured : (W,) float64
        Surface speeds in m/s.
    commanded, achieved : (3,) float64
        The motion that the commanded speeds make, and the one that the measured speeds make.
    residual, scrub : float
        How far the commanded wheels disagree, and the greatest side slip, in m/s.
    """

    angles: Floats
    targets: Floats
    requested: Floats
    limited: Floats
    measured: Floats
    commanded: Floats
    achieved: Floats
    residual: float
    scrub: float


def doing(line: Line, row: Floats) -> Doing:
    """Take out of a Tick what the wheels do, and work out the motion that their measured speeds make."""
    layout = line.layout
    names = [plain(w) for w in line.wheels]
    measured = row[layout.these("sensed", [f"{w}_speed" for w in names])]
    requested = row[layout.these("wheels", [f"{w}_requested" for w in names])]
    motion = layout.stage("motion").start
    angles = targets = np.array([w.drive_rad for w in line.rig.chassis.wheels])
    rolled = measured
    if "steering" in line.stages:
        angles = row[layout.stage("pointing")]
        targets, way = (row[layout.these("steering", [f"{w}_{k}" for w in names])] for k in ("target", "way"))
        requested = requested * way
        rolled = kinematics.vectors(measured, angles)
    upside_down = layout.has("heading", "upside_down") and row[layout.at("heading", "upside_down")] > 0
    maps = kinematics.kinematics_of(line.rig.chassis, upside_down=upside_down)
    return Doing(
        angles,
        targets,
        requested,
        row[line.speeds],
        measured,
        row[motion : motion + 3],
        kinematics.twist_of(maps, rolled),
        float(row[motion + 3]),
        float(row[motion + 4]),
    )
