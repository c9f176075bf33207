"""The view Chassis: motions nudged, dragged and typed, wheels changed in place, the shakedown opened."""

from __future__ import annotations

from math import degrees, hypot, radians

import numpy as np

from pivrex.errors import UnitError
from pivrex.line.layout import Floats
from pivrex.rig.nudge import COARSE
from pivrex.rig.wheels import KINDS, added, moved, of_kind, removed
from pivrex.tui.commands import Command
from pivrex.tui.draw.picture import Picture
from pivrex.tui.draw.robot_drawing import RobotScale, robot_scale
from pivrex.tui.guides.shakedown_guide import ShakedownGuide
from pivrex.tui.guides.shakedown_picture import draw_guide
from pivrex.tui.jobs.setting_worth import Worth
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.chassis_shown import MOTION, ShownChassis
from pivrex.tui.panels.motion_bars import draw_motion
from pivrex.tui.panels.robot_from_above import draw_from_above
from pivrex.tui.panels.settings_list import SETTINGS_COMMANDS, SettingsView, draw_choices
from pivrex.tui.panels.speed_envelope import draw_how_fast
from pivrex.tui.panels.wheel_equations import draw_wheels, whole_equation
from pivrex.tui.panels.wheel_figures import draw_figures
from pivrex.units import parse, split

__all__ = ["CHASSIS_COMMANDS", "ChassisView"]

STEPS = (0.02, 0.02, radians(5))
"""A fine nudge of the motion, in m/s and rad/s."""

TWICE = 1.6
"""How far beyond what the chassis can do a motion may be nudged, so that the limits are seen at work."""

CHASSIS_COMMANDS = (
    *SETTINGS_COMMANDS,
    Command("follow", "your motion", "Changes between the robot's motion and one of your own, to see what it asks of the wheels.",
            ("v",), foot=8),
    Command("still", "no motion", "Brings your own motion to rest.", ("0",)),
    Command("shakedown", "shakedown", "Opens the guide that finds crossed wires, and closes it.", ("c",), foot=4),
    Command("add_wheel", "add a wheel", "Adds a wheel like the selected one, with a motor of its own.", ("plus", "+")),
    Command("remove_wheel", "remove the wheel", "Takes the selected wheel away, with its motor.", ("backspace", "delete")),
    Command("calibrate_steering", "set the steering",
            "Asks you to point all steered wheels straight ahead; again reads their sensors and writes the offsets.",
            ("f",), available=lambda m: m.rig.steering is not None),
)  # fmt: skip


class ChassisView(SettingsView):
    """The robot at the left, motion, wheels, figures and envelope at the right; or the shakedown's guide."""

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self.chassis = ShownChassis(model)
        self.worth = Worth()
        self.guide: ShakedownGuide | None = None
        self._scale: RobotScale | None = None
        self._moving = ""
        self._bars: list[tuple[str, int, int, int]] = []

    # --- what there is ---

    def columns(self) -> list[list[tuple[str, str]]]:
        rig, i = self.model.rig, self.chassis.wheel
        wheel, here = rig.chassis.wheels[i], f"chassis.wheels.{i}"
        wheels = [("wheel.kind", "kind"), (f"{here}.x", "x"), (f"{here}.y", "y")]
        if not wheel.steered:
            wheels.append((f"{here}.drive", "drives"))
        if wheel.rollers_rad is not None:
            wheels.append((f"{here}.rollers", "rollers"))
        wheels.append((f"{here}.radius", "radius"))
        if wheel.steered:
            motor = f"steering.wheels.{wheel.name}"
            wheels += [(f"{motor}.p", "loop p"), (f"{motor}.i", "loop i"), (f"{motor}.d", "loop d")]
        rules = [("limits.fit", "too much"), ("limits.first", "gives way")]
        if rig.law.kind == "planar":
            rules += [("plane.straight", "straight"), ("plane.lead", "lead")]
        if rig.steering is not None:
            rules += [("steering.cosine", "cosine"), ("steering.threshold", "threshold")]
        rules.append(("figure.angle", "to turn"))
        return [list(MOTION), wheels, rules]

    def has(self, key: str) -> bool:
        return self._wheel_of(key) >= 0 or super().has(key)

    def select(self, key: str) -> None:
        wheel = self._wheel_of(key)
        if wheel >= 0:
            self.model.wheel = wheel
        super().select(key)

    def _wheel_of(self, key: str) -> int:
        """The wheel that a setting belongs to; -1 if to none."""
        parts = key.split(".")
        if parts[:2] == ["chassis", "wheels"] and int(parts[2]) < len(self.model.line.wheels):
            return int(parts[2])
        if parts[:2] == ["steering", "wheels"] and parts[2] in self.model.rig.steered:
            return self.model.line.wheels.index(parts[2])
        return -1

    # --- drawing ---

    def update(self) -> None:
        self.worth.update(self.model.rig, self.model.serial)
        if self.guide is not None:
            self.guide.update()

    def close(self) -> None:
        self.worth.close()

    def draw(self, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        chassis, shown = self.chassis, self.chassis.now()
        left = min(height * 2, width // 2) if width >= 90 else width * 2 // 5
        self._scale = robot_scale(self.model.rig, left, height)
        picture.place(draw_from_above(chassis, shown, self._scale, left, height), 0, 0)
        picture.down(left, 0, height)
        x, w = left + 2, width - left - 3
        self._bars = []
        if self.guide is not None:
            picture.place(draw_guide(self.guide, w, height), x, 0)
            return picture
        y, self._bars = draw_motion(picture, chassis, shown, self.chosen, x, w)
        y = draw_wheels(picture, chassis, shown, x, y + 1, w, height)
        room = height - y - 1
        columns = self.columns()
        half = max(w * 11 // 20, 42) if w >= 66 else w
        rows = max(len(columns[1]), len(columns[2])) if half < w else len(columns[1])
        if room > rows:
            whole = whole_equation(chassis, w)
            if whole and room > rows + 1:
                picture.text(x, y, whole, "rest", w)
                y += 1
            picture.text(x, y + 1, f"wheel {self.model.wheel_name}", "title", half - 1)
            self._rows(picture, columns[1], x, y + 2, half - 1)
            if half < w:
                picture.text(x + half, y + 1, "rules", "title")
                self._rows(picture, columns[2], x + half, y + 2, w - half)
            y += rows + 2
        room = height - y - 1
        if room >= 9:
            each = min(w // 2, room * 2 + 8) if half < w else w
            picture.place(draw_how_fast(chassis, shown, each - 1, room), x, y + 1)
            if half < w:
                draw_figures(picture, chassis, self.worth.of_rig, x + each + 1, y + 1, w - each - 1, room)
        return picture

    def _rows(self, picture: Picture, settings: list[tuple[str, str]], x: int, y: int, width: int) -> None:
        model = self.model
        for row, (key, name) in enumerate(settings, y):
            here = key == self.chosen
            picture.spot(x, row, width, "setting", key)
            picture.text(x, row, "▸" if here else " ", "commanded")
            picture.text(x + 2, row, name, "title" if here else "dim")
            if key == "figure.angle":
                picture.text(x + 12, row, f" {self.chassis.angle_deg:g} deg ", "chosen" if here else "rest")
                continue
            if key == "wheel.kind":
                kind = model.rig.chassis.wheels[self.chassis.wheel].kind
                draw_choices(picture, key, KINDS, kind, x + 10, row, width - 10, here)
                continue
            setting = model.setting(key)
            if setting.choices:
                value = str(setting.value(model.rig))
                draw_choices(picture, key, setting.choices, value, x + 12, row, width - 12, here)
            else:
                at = x + 10 + 2 * (settings[0][0] == "limits.fit")
                picture.text(at, row, f" {model.shown(key)} ", "chosen" if here else "rest")

    # --- handling ---

    def _nudge(self, steps: int) -> None:
        key = self.chosen
        if key.startswith("motion."):
            self._nudge_motion([k for k, _ in MOTION].index(key), steps)
        elif key == "figure.angle":
            self.chassis.angle_deg = max(-3600.0, min(3600.0, self.chassis.angle_deg + 5 * steps))
        elif key == "wheel.kind":
            i = self.chassis.wheel
            now = KINDS.index(self.model.rig.chassis.wheels[i].kind)
            kind = KINDS[(now + (1 if steps > 0 else -1)) % len(KINDS)]
            self.model.edit(f"{self.model.wheel_name} is {kind}", of_kind(self.model.rig, i, kind))
        else:
            self.model.nudge(key, steps)

    def _begin_own(self) -> Floats:
        if self.chassis.own is None:
            shown = self.chassis.live()
            start = shown.commanded if shown is not None else np.zeros(3)
            steps = np.array(STEPS)
            self.chassis.own = (
                np.round(np.asarray(start) / steps) * steps if np.abs(start).max() > 0.02 else np.zeros(3)
            )
        return self.chassis.own

    def _nudge_motion(self, part: int, steps: int) -> None:
        own = self._begin_own().copy()
        # left is +, and a key that points right moves to the right
        way = 1 if part == 0 else -1
        moved_to = round(own[part] / STEPS[part] + way * steps) * STEPS[part]
        own[part] = np.clip(moved_to, -TWICE * self.chassis.full()[part], TWICE * self.chassis.full()[part])
        self.chassis.own = own

    def act_nudge_down(self) -> None:
        self._nudge(-1)

    def act_nudge_up(self) -> None:
        self._nudge(1)

    def act_nudge_down_coarse(self) -> None:
        self._nudge(-COARSE)

    def act_nudge_up_coarse(self) -> None:
        self._nudge(COARSE)

    def act_follow(self) -> None:
        """Follow the robot again, or begin a motion of one's own."""
        self.chassis.own = None if self.chassis.own is not None else self._begin_own()

    def act_calibrate_steering(self) -> None:
        """Set the offsets of the steering's sensors."""
        self.model.calibrate_steering()

    def act_still(self) -> None:
        """Bring one's own motion to rest."""
        self.chassis.own = np.zeros(3)

    def act_add_wheel(self) -> None:
        name, change = added(self.model.rig, self.chassis.wheel)
        if self.model.edit(f"{name} added", change):
            self.model.wheel = len(self.model.line.wheels) - 1

    def act_remove_wheel(self) -> None:
        self.model.edit(f"{self.model.wheel_name} removed", removed(self.model.rig, self.chassis.wheel))

    def act_shakedown(self) -> None:
        """Open or close the shakedown's guide."""
        self.guide = ShakedownGuide(self.model) if self.guide is None else None

    def take_key(self, key: str) -> bool:
        return self.guide is not None and self.guide.take_key(key)

    def entry(self) -> tuple[str, str, str]:
        key = self.chosen
        if key == "wheel.kind":
            return key, self.model.rig.chassis.wheels[self.chassis.wheel].kind, ", ".join(KINDS)
        if key == "figure.angle":
            return key, f"{self.chassis.angle_deg:g} deg", "left is +"
        if not key.startswith("motion."):
            return super().entry()
        own = self._begin_own()
        part = [k for k, _ in MOTION].index(key)
        if part == 2:
            return key, f"{degrees(own[2]):g} deg/s", "left is +"
        return key, f"{own[part]:g} m/s", "left is +" if part == 1 else "m/s"

    def type_in(self, text: str) -> None:
        key = self.chosen
        if key == "wheel.kind":
            if text not in KINDS:
                raise UnitError(f'is "{text}", but should be one of {", ".join(KINDS)}')
            self.model.edit(f"{self.model.wheel_name} is {text}", of_kind(self.model.rig, self.chassis.wheel, text))
        elif key == "figure.angle":
            size, written = split(text)
            self.chassis.angle_deg = degrees(parse(f"{size:g} {written or 'deg'}", "angle"))
        elif key.startswith("motion."):
            part = [k for k, _ in MOTION].index(key)
            kind, unit = ("turn rate", "deg/s") if part == 2 else ("speed", "m/s")
            size, written = split(text)
            value = parse(f"{size:g} {written or unit}", kind)
            most = TWICE * float(self.chassis.full()[part])
            if abs(value) > most:
                raise UnitError(f"is {text}, more than {TWICE:g} times what the wheels can")
            own = self._begin_own().copy()
            own[part] = value
            self.chassis.own = own
        else:
            super().type_in(text)

    def press(self, what: str, value: str) -> bool:
        if what == "wheel":
            self.model.wheel = int(value)
            return True
        if what in ("answer", "go on") and self.guide is not None:
            self.guide.click(int(value or 0) if what == "answer" else None)
            return True
        return super().press(what, value)

    def choose(self, key: str, choice: str) -> None:
        if key == "wheel.kind":
            self.model.edit(
                f"{self.model.wheel_name} is {choice}",
                of_kind(self.model.rig, self.chassis.wheel, KINDS[KINDS.index(choice)]),
            )
        else:
            super().choose(key, choice)

    def point(self, x: int, y: int, phase: str) -> None:
        if self._scale is None:
            return
        if phase == "press":
            self._press(x, y)
        if not self._moving or phase == "release":
            self._moving = "" if phase == "release" else self._moving
            return
        ahead, left = self._scale.metres(x, y)
        if self._moving == "motion":
            full, span = self.chassis.full(), self._scale.reach_m * 0.8
            own = self._begin_own().copy()
            own[:2] = np.clip([ahead / span, left / span], -TWICE, TWICE) * full[:2]
            if hypot(ahead, left) < 2 / self._scale.per_m:
                own[:2] = 0.0
            self.chassis.own = own
        elif self._moving.startswith("wheel ") and phase == "drag":
            i = int(self._moving.split()[1])
            what = f"place of {self.model.line.wheels[i]}"
            self.model.edit(what, moved(i, ahead, left), join=True)
        elif self._moving.startswith("motion."):
            bar = next((b for b in self._bars if b[0] == self._moving), None)
            if bar is None:
                return  # the window has become too narrow for it
            _, _, start, width = bar
            part = [k for k, _ in MOTION].index(self._moving)
            share = 2 * (x - start) / max(1, width - 1) - 1
            own = self._begin_own().copy()
            own[part] = np.clip(share if part == 0 else -share, -1, 1) * self.chassis.full()[part]
            self.chassis.own = own

    def _press(self, x: int, y: int) -> None:
        assert self._scale is not None
        self._moving = ""
        bar = next((b for b in self._bars if b[1] == y and b[2] <= x < b[2] + b[3]), None)
        if bar is not None:
            self._moving = self._chosen = bar[0]
            return
        if x >= self._scale.centre[0]:
            return  # the drawing's width in cells is its centre in dots
        ahead, left = self._scale.metres(x, y)
        near = 1.5 * max(w.radius_m for w in self.model.rig.chassis.wheels)
        away = [hypot(w.x_m - ahead, w.y_m - left) for w in self.model.rig.chassis.wheels]
        closest = int(np.argmin(away))
        if away[closest] < near:
            self.model.wheel, self._moving = closest, f"wheel {closest}"
        else:
            self._moving = "motion"

    def help_lines(self) -> list[tuple[str, str]]:
        return [
            (
                "━ ·",
                "commanded amber, measured teal, side by side for each wheel and the body; what lies between is dark; arcs are turns",
            ),
            (
                "╱",
                "rollers where they touch the ground; a dashed ring and spoke: a steered wheel and where it shall point",
            ),
            ("⊕ ×", "where the weight sits; other points to turn about"),
            (
                "motion",
                "select forward, left or turn and nudge: the wheels show what that asks of them; v follows the robot again",
            ),
            ("=", "each wheel's equation; x, y and turn are the robot's own, turn in rad/s"),
            (
                "wheel",
                "n goes to the next wheel; its kind and place are changed in place, + adds one, Backspace removes it",
            ),
            (
                "envelope",
                "how fast it goes in every direction, ┄ while it turns as now; ● commanded, ○ measured, thin: before",
            ),
            (
                "figures",
                "what is else found by trial: mm and counts for a turn, how far the wheel rolls for a turn of the robot",
            ),
            ("c", "the shakedown: finds swapped plugs, reversed motors, encoders and gyro, and puts the rig right"),
        ]
