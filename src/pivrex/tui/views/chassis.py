"""Chassis: the robot from above, what a motion needs from its wheels, its top speed; or the shakedown's guide."""

from __future__ import annotations

from collections.abc import Iterable

from pivrex.tui.commands import Command
from pivrex.tui.guides.shakedown_guide import ShakedownGuide
from pivrex.tui.guides.shakedown_picture import ShakedownPanel
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.attachment_rows import AttachmentBars
from pivrex.tui.panels.chassis_motion import MOTION, ChassisMotion, MotionBars
from pivrex.tui.panels.motor_bench import bench_columns, bench_places
from pivrex.tui.panels.panel import Place, Rect, Rule, View
from pivrex.tui.panels.robot_from_above import RobotFromAbove, SpeedEnvelope
from pivrex.tui.panels.robot_from_side import RobotFromSide, leans
from pivrex.tui.panels.settings_list import SETTINGS_COMMANDS, Settings, SettingsColumn
from pivrex.tui.panels.wheel_bars import WheelBars, WheelStrips
from pivrex.tui.panels.wheel_equations import WheelEquations, WheelFigures

__all__ = ["CHASSIS_COMMANDS", "ChassisView", "chassis_exports"]

CHASSIS_COMMANDS = (
    *SETTINGS_COMMANDS,
    Command("follow", "your motion", "Changes between the robot's motion and a test motion of your own, to see the wheel speeds that it needs.",
            ("v",), foot=8),
    Command("still", "no motion", "Brings your own motion to rest.", ("0",)),
    Command("shakedown", "shakedown", "Opens the guide that finds crossed wires, and closes it.", ("c",), foot=4),
    Command("add_wheel", "add a wheel", "Adds a wheel like the selected one, with a motor of its own.", ("plus", "+")),
    Command("remove_wheel", "delete the wheel", "Deletes the selected wheel and its motor.", ("backspace", "delete")),
    Command("calibrate_steering", "set the steering",
            "Asks you to point all steered wheels straight ahead; again reads their sensors and writes the offsets.",
            ("f",), available=lambda m: m.rig.steering is not None, needs="this robot has no steered wheels"),
)  # fmt: skip


LEAST = 3
"""Rows: fewer show no setting and what else there is."""


class ChassisView(View):
    """The robot at the left, motion, wheels, figures and envelope at the right; or the shakedown's guide."""

    HELP = """
    ━ ·       arrows: commanded amber, outside; measured teal, inside; for each wheel and the body. Arcs are turns, coral is too fast
    ╱         rollers where they touch the ground; a circle: a steered wheel, lilac where it is commanded to point
    ⊕ ×       the centre of mass; other points to turn about
    motion    select forward, left or turn and nudge it: the wheels show the speeds that it needs; v shows the robot's motion again
    =         each wheel's equation; x, y and turn are the robot's own, turn in rad/s
    wheel     n selects the next wheel; change its kind and place here, + adds a wheel, Backspace deletes it
    envelope  how fast it goes in every direction, ┄ while it turns as now; ● commanded, ○ measured, thin: before
    travel    mm and counts for a turn of the wheel, and how far it rolls for a turn of the robot
    c         the shakedown: finds swapped plugs, reversed motors, encoders and gyro, and corrects the rig
    """

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self.chassis = ChassisMotion(model)
        self._wheels, self._figures = WheelEquations(self, self.chassis), WheelFigures(self, self.chassis)
        own = {**self.chassis.settings(), "wheel.kind": self._wheels.kind()}
        self.settings = Settings(self, self._columns, own)
        self._motion = MotionBars(self.chassis, self.settings)
        self._shakedown = ShakedownPanel(self)
        self.panels = (self._shakedown, self._wheels, self.settings, self._motion, self._figures)
        self._robot, self._rule = RobotFromAbove(self, self.chassis), Rule(self)
        self._side = RobotFromSide(self)
        self._wheel = SettingsColumn(
            self.settings, 1, lambda: f"{'motor' if model.rig.is_bench else 'wheel'} {model.wheel_name}", sliders=False
        )
        self._rules = SettingsColumn(self.settings, 2, lambda: "body and rules", sliders=False)
        self._envelope = SpeedEnvelope(self, self.chassis)
        self._strips, self._bars, self._attachments = WheelStrips(self), WheelBars(self), AttachmentBars(self)

    @property
    def guide(self) -> ShakedownGuide | None:
        """The shakedown that goes on."""
        return self._shakedown.guide

    def _columns(self) -> list[list[str]]:
        rig, i = self.model.rig, self.chassis.wheel
        if rig.is_bench:
            return bench_columns(self.model)
        wheel, here = rig.chassis.wheels[i], f"chassis.wheels.{i}"
        wheels = ["wheel.kind", f"{here}.x", f"{here}.y"]
        if not wheel.steered:
            wheels.append(f"{here}.drive")
        if wheel.rollers_rad is not None:
            wheels.append(f"{here}.rollers")
        wheels.append(f"{here}.radius")
        if wheel.steered:
            wheels += [f"steering.wheels.{wheel.name}.{gain}" for gain in "pid"]
        rules = ["chassis.length", "chassis.width", "limits.fit", "limits.first", "law.move_and_turn"]
        if rig.law.kind == "planar":
            rules += ["plane.straight", "plane.lead"]
        if rig.steering is not None:
            rules += ["steering.cosine", "steering.threshold"]
        rules.append("figure.angle")
        return [list(MOTION), wheels, rules]

    def places(self, width: int, height: int) -> Iterable[Place]:
        if self.model.rig.is_bench:
            open_guide = self._shakedown if self.guide is not None else None
            parts = (self._bars, self._strips, self._rule, open_guide, self._wheel, self._rules, self._attachments)
            yield from bench_places(parts, width, height)
            return
        left = min(height * 2, width // 2) if width >= 90 else width * 2 // 5
        side = height * 2 // 5 if leans(self.model) and height >= 24 else 0
        yield self._robot, Rect(0, 0, left, height - side)
        if side:
            yield self._side, Rect(0, height - side, left, side)
        yield self._rule, Rect(left, 0, 1, height)
        x, w = left + 2, width - left - 3
        if self.guide is not None:
            yield self._shakedown, Rect(x, 0, w, height)
            y = self._shakedown.used + 1
            yield self._strips, Rect(x, y, w, height - y)
            return
        # rows are kept for remarks, so that nothing below jumps when there is one
        motion = self._motion.HEIGHT + (3 if height >= 38 else 2 if height >= 34 else 1)
        yield self._motion, Rect(x, 0, w, motion)
        half = max(w * 11 // 20, 42) if w >= 66 else w
        wide = half < w
        rows = max(self._wheel.rows, self._rules.rows) if wide else self._wheel.rows
        y = motion + 1
        wheels = max(0, min(self._wheels.rows(height >= 34, w), height - y))
        yield self._wheels, Rect(x, y, w, wheels)
        y += wheels + 1
        rows = min(rows, height - y)
        if rows >= LEAST:
            walks_rules = not wide and self.settings.chosen in self._columns()[2]
            yield self._rules if walks_rules else self._wheel, Rect(x, y, half - 1, rows)
            if wide:
                yield self._rules, Rect(x + half, y, w - half, rows)
            y += rows + 1
        room = height - y
        if room >= 9:
            each = min(w // 2, room * 2 + 8) if wide else w
            yield self._envelope, Rect(x, y, each - 1, room)
            if wide:
                yield self._figures, Rect(x + each + 1, y, w - each - 1, room)


def chassis_exports(model: ScreenModel) -> list[list[str]]:
    """Return the robot and its envelope; of a bench its wiring."""
    drawings = ("wiring",) if model.rig.is_bench else ("chassis", "envelope")
    return [[drawing, str(model.file.path)] for drawing in drawings]
