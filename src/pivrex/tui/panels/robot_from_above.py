"""The robot from above with the arrows of its motion, and its top speed in every direction."""

from __future__ import annotations

from math import degrees, hypot, pi

import numpy as np

from pivrex.rig.chassis import Wheel
from pivrex.rig.wheels import moved
from pivrex.scene.envelope import EnvelopeData, envelope_scene
from pivrex.scene.robot import RobotMotion, add_motion, add_robot, chassis_box, reach_of
from pivrex.scene.scene import Placing, Scene
from pivrex.tui.draw.cells import placing_of, print_scene
from pivrex.tui.draw.parts import number, turning
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.chassis_motion import TWICE, ChassisMotion, Shown
from pivrex.tui.panels.panel import Panel, View
from pivrex.tui.panels.standings import standing_of

__all__ = ["RobotFromAbove", "SpeedEnvelope"]


UP = (0.0, 0.0, pi / 2)
"""The pose of a robot that looks up."""


class RobotFromAbove(Panel):
    """The robot. Dragged from its centre the mouse makes a motion; a wheel is dragged to its place."""

    def __init__(self, view: View, chassis: ChassisMotion) -> None:
        super().__init__(view)
        self._chassis = chassis
        self._placing: Placing | None = None
        self._picture = Picture(0, 0)
        self._held: int | None = None
        """The wheel that is dragged; none for a motion."""

    def draw(self, width: int, height: int) -> Picture:
        chassis, shown, model = self._chassis, self._chassis.now(), self.model
        upside_down = model.value("heading", "upside_down") == 1
        scene = self._scene(shown, upside_down)
        self._placing = placing_of(scene, width, height)
        self._picture = picture = print_scene(scene, width, height)
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

    def _scene(self, shown: Shown | None, upside_down: bool) -> Scene:
        """The robot, which looks up, with the commanded and the achieved motion."""
        chassis, model, line = self._chassis, self.model, self.model.line
        rig, full = model.rig, chassis.full()
        scene = Scene(chassis_box(rig))
        rest = np.array([w.drive_rad for w in rig.chassis.wheels])
        angles = shown.angles if shown is not None else rest
        hull = "limit" if upside_down else "hull"
        add_robot(scene, rig, UP, angles, hull, (), standing_of(model), model.wheel_name, detail=True)
        if shown is not None:
            known = shown.measured is not None
            add_motion(scene, rig, UP, RobotMotion(
                angles, shown.targets, shown.limited / line.top_m_s,
                shown.measured / line.top_m_s if known else None,
                tuple((np.abs(shown.requested) > line.top_m_s * 1.0005).tolist()),
                shown.commanded / full, shown.achieved / full if shown.achieved is not None else None,
            ))  # fmt: skip
        centre = rig.chassis.mass_centre
        scene.sign((-centre.y_m, centre.x_m), "⊕", "target")
        in_use = model.number("frame", "point") if "frame" in line.stages and model.row is not None else 0
        for k, point in enumerate(rig.plane.points, 1):
            scene.sign((-point.y_m, point.x_m), "×", "commanded" if k == in_use else "dim")
            if k == in_use:
                scene.label((-point.y_m, point.x_m), point.name, "commanded", 4.0, "right left above below")
        reach = max(reach_of(rig.chassis))
        scene.label((0.0, rig.chassis.length_m * 0.61), "front", "rest", 3.0, "above right")
        for k, wheel in enumerate(rig.chassis.wheels):
            self._name(scene, k, wheel, reach, shown)
            at, half = np.array([-wheel.y_m, wheel.x_m]), 1.2 * wheel.radius_m
            scene.spot([at - half, at + half], "wheel", wheel.name)
        return scene

    def _name(self, scene: Scene, k: int, wheel: Wheel, reach: float, shown: Shown | None) -> None:
        """Write a wheel's name next to it, with its commanded and measured speeds."""
        out = (1.4 if wheel.steered else 0.5) * wheel.radius_m
        side, x, y = ("left", -wheel.y_m - out, wheel.x_m) if wheel.y_m > 0 else ("right", -wheel.y_m + out, wheel.x_m)
        if abs(wheel.y_m) < 0.25 * reach:
            side, x, y = "over", -wheel.y_m, wheel.x_m - 1.5 * wheel.radius_m
        weight = 5.0 if wheel.name == self.model.wheel_name else 2.0
        scene.label((x, y), wheel.name, "title" if weight > 2 else "dim", weight, f"{side} {side}-above {side}-below")
        if shown is None:
            return
        scene.label((x, y), f"{number(float(shown.limited[k]))} m/s", "commanded", weight - 0.1, f"{side}-below")
        if shown.measured is not None:
            said = f"{number(float(shown.measured[k]))} m/s"
            scene.label((x, y), said, "measured", weight - 0.2, f"{side}-below-below")

    def point(self, x: int, y: int, phase: str) -> None:
        placing, chassis, wheels = self._placing, self._chassis, self.model.rig.chassis.wheels
        if placing is None or phase == "release":
            return
        right, ahead = placing.units(x, y)
        left = -right
        if phase == "press":
            spot = self._picture.spot_at(x, y)
            self._held = [w.name for w in wheels].index(spot.value) if spot is not None else None
            if self._held is not None:
                self.model.wheel = self._held
        if self._held is None:
            full, span = chassis.full(), max(reach_of(self.model.rig.chassis)) * 0.8
            own = chassis.begin_own().copy()
            own[:2] = np.clip([ahead / span, left / span], -TWICE, TWICE) * full[:2]
            if hypot(ahead, left) < placing.letter / placing.across:
                own[:2] = 0.0
            chassis.own = own
        elif phase == "drag":
            what = f"place of {self.model.line.wheels[self._held]}"
            self.model.edit(what, moved(self._held, ahead, left), join=True)


class SpeedEnvelope(Panel):
    """How fast the robot goes in every direction; of one that only drives forward and back, how fast against how it turns."""

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
                np.full(2, max(float(np.nanmax(np.abs(full))), 1e-6)) * 1.06, ("m/s", "m/s"), ("forward", "left", "right"),
                f"┄ left while turning {turning(degrees(turn), 0, 'deg/s')}" if len(now) else "─ nothing else commanded",
            )  # fmt: skip
        else:
            scale = np.array([1.0, degrees(1.0)])
            data = EnvelopeData(
                full * scale, np.zeros((0, 2)), ghost * scale if ghost is not None else None, commanded[[0, 2]] * scale,
                achieved[[0, 2]] * scale if achieved is not None else None,
                np.array([tops[0], degrees(tops[2])]) * 1.06, ("m/s", "deg/s"), ("forward", "turn left", "turn right"),
                "speed against turn",
            )  # fmt: skip
        return print_scene(envelope_scene(data), width, height)
