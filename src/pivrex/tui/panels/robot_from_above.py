"""The robot from above, with the arrows of the motion that is shown."""

from __future__ import annotations

import numpy as np

from pivrex.tui.draw.picture import Picture
from pivrex.tui.draw.robot_drawing import RobotData, RobotScale, draw_robot
from pivrex.tui.panels.chassis_shown import Shown, ShownChassis
from pivrex.tui.panels.standings import standing_of

__all__ = ["draw_from_above"]


def draw_from_above(chassis: ShownChassis, shown: Shown | None, scale: RobotScale, width: int, height: int) -> Picture:
    """Draw the robot."""
    model, line = chassis.model, chassis.model.line
    none = np.zeros(len(line.wheels))
    angles = shown.angles if shown is not None else np.array([w.drive_rad for w in model.rig.chassis.wheels])
    full = chassis.full()
    upside_down = model.value("heading", "upside_down") == 1
    planar = "frame" in line.stages and model.row is not None
    picture = draw_robot(
        RobotData(
            model.rig,
            angles,
            shown.targets if shown is not None else angles,
            shown.given / line.top_m_s if shown is not None else none,
            shown.measured / line.top_m_s if shown is not None and shown.measured is not None else None,
            tuple((np.abs(shown.asked) > line.top_m_s * 1.0005).tolist()) if shown is not None else (),
            shown.commanded / full if shown is not None else None,
            shown.achieved / full if shown is not None and shown.achieved is not None else None,
            model.wheel_name,
            model.number("frame", "point") if planar else 0,
            upside_down,
            standings=tuple(standing_of(model)),
        ),
        scale,
        width,
        height,
    )
    own = chassis.own is not None
    at = picture.text(1, 0, "from above", "title")
    picture.text(at + 2, 0, "your motion" if own else "live", "commanded" if own else "measured")
    body = model.rig.chassis
    picture.right(width - 1, 0, f"{body.length_m * 1000:.0f} × {body.width_m * 1000:.0f} mm", "dim")
    if upside_down:
        picture.text(1, 1, "! on its back", "alarm")
    foot = "drag from the centre for a motion, a wheel to place it"
    if len(foot) < width - 2:
        picture.text(1, height - 1, foot, "dim")
    return picture
