"""The robot from above with the arrows of the motion that is shown, and how fast it can go in every direction."""

from __future__ import annotations

from math import degrees, hypot

import numpy as np

from pivrex.rig.wheels import moved
from pivrex.tui.draw.envelope_chart import EnvelopeData, draw_envelope
from pivrex.tui.draw.parts import turning
from pivrex.tui.draw.picture import Picture
from pivrex.tui.draw.robot_drawing import RobotData, RobotScale, draw_robot, robot_scale
from pivrex.tui.panels.chassis_motion import TWICE, ChassisMotion
from pivrex.tui.panels.panel import Panel, View
from pivrex.tui.panels.standings import standing_of

__all__ = ["RobotFromAbove", "SpeedEnvelope"]


class RobotFromAbove(Panel):
    """The robot. Dragged from its centre the mouse makes a motion; a wheel is dragged to its place."""

    def __init__(self, view: View, chassis: ChassisMotion) -> None:
        super().__init__(view)
        self._chassis = chassis
        self._scale: RobotScale | None = None
        self._held: int | None = None
        """The wheel that is dragged; none for a motion."""

    def draw(self, width: int, height: int) -> Picture:
        self._scale = robot_scale(self.model.rig, width, height)
        chassis, shown, scale = self._chassis, self._chassis.now(), self._scale
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

    def point(self, x: int, y: int, phase: str) -> None:
        scale, chassis, wheels = self._scale, self._chassis, self.model.rig.chassis.wheels
        if scale is None or phase == "release":
            return
        ahead, left = scale.metres(x, y)
        if phase == "press":
            away = [hypot(w.x_m - ahead, w.y_m - left) for w in wheels]
            closest = int(np.argmin(away))
            self._held = closest if away[closest] < 1.5 * max(w.radius_m for w in wheels) else None
            if self._held is not None:
                self.model.wheel = closest
        if self._held is None:
            full, span = chassis.full(), scale.reach_m * 0.8
            own = chassis.begin_own().copy()
            own[:2] = np.clip([ahead / span, left / span], -TWICE, TWICE) * full[:2]
            if hypot(ahead, left) < 2 / scale.per_m:
                own[:2] = 0.0
            chassis.own = own
        elif phase == "drag":
            what = f"place of {self.model.line.wheels[self._held]}"
            self.model.edit(what, moved(self._held, ahead, left), join=True)


class SpeedEnvelope(Panel):
    """How fast the robot goes in every direction; of one that only drives ahead, how fast against how it turns."""

    def __init__(self, view: View, chassis: ChassisMotion) -> None:
        super().__init__(view)
        self._chassis = chassis

    def draw(self, width: int, height: int) -> Picture:
        chassis, shown = self._chassis, self._chassis.now()
        envelope, full, ghost = chassis.envelope()
        commanded = shown.commanded if shown is not None else np.zeros(3)
        achieved = shown.achieved if shown is not None else None
        tops = chassis.full()
        turn = float(commanded[2])
        if envelope.planar:
            part = [0, 1]
            now = envelope.outline(turn, 72) if abs(turn) > 0.02 else np.zeros((0, 2))
            data = EnvelopeData(
                full, now, ghost, commanded[part], achieved[part] if achieved is not None else None,
                np.full(2, max(float(np.nanmax(np.abs(full))), 1e-6)) * 1.06, ("m/s", "m/s"), ("ahead", "left", "right"),
                f"┄ left while turning {turning(degrees(turn), 0, 'deg/s')}" if len(now) else "─ nothing else asked for",
            )  # fmt: skip
        else:
            scale = np.array([1.0, degrees(1.0)])
            data = EnvelopeData(
                full * scale, np.zeros((0, 2)), ghost * scale if ghost is not None else None, commanded[[0, 2]] * scale,
                achieved[[0, 2]] * scale if achieved is not None else None,
                np.array([tops[0], degrees(tops[2])]) * 1.06, ("m/s", "deg/s"), ("ahead", "turn left", "turn right"),
                "speed against turn",
            )  # fmt: skip
        return draw_envelope(data, width, height)
