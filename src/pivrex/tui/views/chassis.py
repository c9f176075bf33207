"""Chassis: motions nudged, dragged and typed, wheels changed in place, the shakedown opened; shown by `chassis_panels`."""

from __future__ import annotations

from math import degrees, hypot, radians

import numpy as np
from numpy.typing import NDArray

from pivrex.errors import UnitError
from pivrex.rig.nudge import COARSE
from pivrex.rig.wheels import KINDS, added, moved, of_kind, removed
from pivrex.tui.guide import Guide
from pivrex.tui.views.chassis_panels import MOTION, ChassisPanels
from pivrex.units import parse, split

__all__ = ["ChassisView"]

Floats = NDArray[np.float64]

STEPS = (0.02, 0.02, radians(5))
"""A fine nudge of the motion, in m/s and rad/s."""

TWICE = 1.6
"""How far beyond what the chassis can do a motion may be nudged, so that the limits are seen at work."""


class ChassisView(ChassisPanels):
    """The handling of what `ChassisPanels` shows."""

    name_ = "chassis"
    digit = "3"

    def _nudge(self, steps: int) -> None:
        key = self.chosen
        if key.startswith("motion."):
            self._nudge_motion([k for k, _ in MOTION].index(key), steps)
        elif key == "figure.angle":
            self._angle = max(-3600.0, min(3600.0, self._angle + 5 * steps))
        elif key == "wheel.kind":
            i = self._index
            now = KINDS.index(self.model.rig.chassis.wheels[i].kind)
            kind = KINDS[(now + (1 if steps > 0 else -1)) % len(KINDS)]
            self.model.edit(f"{self.model.wheel_name} is {kind}", of_kind(self.model.rig, i, kind))
        else:
            self.model.nudge(key, steps)

    def _begin_own(self) -> Floats:
        if self._own is None:
            shown = self._live()
            start = shown.commanded if shown is not None else np.zeros(3)
            steps = np.array(STEPS)
            self._own = np.round(np.asarray(start) / steps) * steps if np.abs(start).max() > 0.02 else np.zeros(3)
        return self._own

    def _nudge_motion(self, part: int, steps: int) -> None:
        own = self._begin_own().copy()
        # left is +, and a key that points right moves to the right
        way = 1 if part == 0 else -1
        moved_to = round(own[part] / STEPS[part] + way * steps) * STEPS[part]
        own[part] = np.clip(moved_to, -TWICE * self._full()[part], TWICE * self._full()[part])
        self._own = own

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
        self._own = None if self._own is not None else self._begin_own()

    def act_still(self) -> None:
        """Bring one's own motion to rest."""
        self._own = np.zeros(3)

    def act_add_wheel(self) -> None:
        name, change = added(self.model.rig, self._index)
        if self.model.edit(f"{name} added", change):
            self.model.wheel = len(self.model.line.wheels) - 1

    def act_remove_wheel(self) -> None:
        self.model.edit(f"{self.model.wheel_name} removed", removed(self.model.rig, self._index))

    def act_shakedown(self) -> None:
        """Open or close the shakedown's guide."""
        self.guide = Guide(self.model) if self.guide is None else None

    def take_key(self, key: str) -> bool:
        return self.guide is not None and self.guide.take_key(key)

    def entry(self) -> tuple[str, str, str]:
        key = self.chosen
        if key == "wheel.kind":
            return key, self.model.rig.chassis.wheels[self._index].kind, ", ".join(KINDS)
        if key == "figure.angle":
            return key, f"{self._angle:g} deg", "left is +"
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
            self.model.edit(f"{self.model.wheel_name} is {text}", of_kind(self.model.rig, self._index, text))
        elif key == "figure.angle":
            size, written = split(text)
            self._angle = degrees(parse(f"{size:g} {written or 'deg'}", "angle"))
        elif key.startswith("motion."):
            part = [k for k, _ in MOTION].index(key)
            kind, unit = ("turn rate", "deg/s") if part == 2 else ("speed", "m/s")
            size, written = split(text)
            value = parse(f"{size:g} {written or unit}", kind)
            most = TWICE * float(self._full()[part])
            if abs(value) > most:
                raise UnitError(f"is {text}, more than {TWICE:g} times what the wheels can")
            own = self._begin_own().copy()
            own[part] = value
            self._own = own
        else:
            super().type_in(text)

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
            full, span = self._full(), self._scale.reach_m * 0.8
            own = self._begin_own().copy()
            own[:2] = np.clip([ahead / span, left / span], -TWICE, TWICE) * full[:2]
            if hypot(ahead, left) < 2 / self._scale.per_m:
                own[:2] = 0.0
            self._own = own
        elif self._moving.startswith("wheel ") and phase == "drag":
            i = int(self._moving.split()[1])
            what = f"place of {self.model.line.wheels[i]}"
            self.model.edit(what, moved(i, ahead, left), join=True)
        elif self._moving.startswith("motion."):
            _, _, start, width = next(b for b in self._bars if b[0] == self._moving)
            part = [k for k, _ in MOTION].index(self._moving)
            share = 2 * (x - start) / max(1, width - 1) - 1
            own = self._begin_own().copy()
            own[part] = np.clip(share if part == 0 else -share, -1, 1) * self._full()[part]
            self._own = own

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
                "commanded solid amber, measured dotted teal: an arrow for each wheel, one for the body, an arc for its turn",
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
