"""The wheels with their equations, commanded next to measured; and figures that are otherwise found by trial: the distance of a wheel's
turn, the roll for a turn of the robot, the effect of settings.
"""

from __future__ import annotations

from math import degrees, radians

from pivrex.errors import UnitError
from pivrex.line.equations import equation, point_equation
from pivrex.line.questions.figures import side, travel_for, wheel_figures
from pivrex.rig.changes import put_changes
from pivrex.rig.wheels import KINDS, added, of_kind, removed
from pivrex.session.messages import MoveSimulated, Stop
from pivrex.sim.traction import traction_of
from pivrex.tui.draw.parts import number
from pivrex.tui.draw.picture import Picture
from pivrex.tui.jobs.setting_worth import Worth
from pivrex.tui.panels.chassis_motion import ChassisMotion
from pivrex.tui.panels.panel import Panel, View
from pivrex.tui.panels.settings_list import OwnSetting
from pivrex.units import wrap_deg

__all__ = ["WheelEquations", "WheelFigures"]


class WheelEquations(Panel):
    """A row or two for each wheel; below them the selected one's equation where its row is too short for it."""

    def __init__(self, view: View, chassis: ChassisMotion) -> None:
        super().__init__(view)
        self._chassis = chassis
        self._pointing = False
        """Whether someone is pointing the steered wheels straight ahead."""

    def rows(self, roomy: bool, width: int) -> int:
        """Return how high it is: with the present numbers below each wheel where there is room."""
        wheels = len(self.model.line.wheels)
        return 1 + wheels * (1 + (roomy and wheels <= 6)) + bool(self._whole(width))

    def _whole(self, width: int) -> str:
        text = equation(self.model.rig.chassis, self._chassis.wheel)
        names = max(len(w) for w in self.model.line.wheels)
        return f"= {text}" if len(text) + 3 > width - names - 19 else ""

    def draw(self, width: int, height: int) -> Picture:
        picture, chassis, shown = Picture(width, height), self._chassis, self._chassis.now()
        model, line = chassis.model, chassis.model.line
        body = model.rig.chassis
        picture.text(0, 0, "wheels", "title")
        picture.right(width, 0, "turn in rad/s   commanded  measured", "dim")
        names = max(len(w) for w in line.wheels)
        two = height - 1 >= 2 * len(line.wheels)
        y = 1
        for i, wheel in enumerate(body.wheels):
            if y >= height:
                break
            here = wheel.name == model.wheel_name
            picture.spot(0, y, width, "wheel", str(i), 1 + two)
            at = picture.text(0, y, f"{wheel.name:<{names}}", "title" if here else "rest")
            speed = shown.limited[i] if shown is not None else 0.0
            real = shown.measured[i] if shown is not None and shown.measured is not None else float("nan")
            limited = shown is not None and abs(shown.requested[i]) > line.top_m_s[i] * 1.0005
            text = equation(body, i)
            picture.text(at, y, f" = {text}", "rest" if here else "dim", width - names - 19)
            mark = "!" if limited else " "
            picture.right(width - 10, y, f"{mark}{number(speed)}", "alarm" if limited else "commanded")
            picture.right(width, y, f"{number(real)} m/s", "measured")
            y += 1
            if two and shown is not None:
                if wheel.steered:
                    angle, target = (number(wrap_deg(degrees(v[i])), 0, 4) for v in (shown.angles, shown.targets))
                    picture.text(names + 1, y, f"points {angle} deg, target {target} deg", "target")
                else:
                    picture.text(names + 1, y, f"= {self._numbers(i)} m/s", "dim")
                y += 1
        picture.text(0, y, self._whole(width), "rest", width)
        return picture

    def _numbers(self, wheel: int) -> str:
        """A wheel's equation with the present numbers."""
        geometry = self.model.rig.chassis.geometry
        row = geometry.rows[geometry.of_wheel == wheel][0]
        return point_equation(row, *(float(v) for v in self._chassis.twist))

    # --- wheels are selected, added, removed, and get another kind ---

    def _wheel_of(self, key: str) -> int:
        """The wheel that a setting belongs to; -1 if to none."""
        parts = key.split(".")
        if parts[:2] == ["chassis", "wheels"] and int(parts[2]) < len(self.model.line.wheels):
            return int(parts[2])
        if parts[:2] == ["steering", "wheels"] and parts[2] in self.model.rig.steered:
            return self.model.line.wheels.index(parts[2])
        return -1

    def has(self, key: str) -> bool:
        return self._wheel_of(key) >= 0

    def select(self, key: str) -> None:
        wheel = self._wheel_of(key)
        if wheel >= 0:
            self.model.wheel = wheel

    def press(self, what: str, value: str) -> bool:
        if what == "wheel":
            self.model.wheel = int(value)
        return what == "wheel"

    def kind(self) -> OwnSetting:
        """Return the selected wheel's kind, which you select and change like a setting."""

        def shown() -> str:
            return self.model.rig.chassis.wheels[self._chassis.wheel].kind

        def nudge(steps: int) -> None:
            type_in(KINDS[(KINDS.index(shown()) + (1 if steps > 0 else -1)) % len(KINDS)])

        def type_in(text: str) -> None:
            kind = next((k for k in KINDS if k == text), None)
            if kind is None:
                raise UnitError(f'is "{text}", but should be one of {", ".join(KINDS)}')
            self.model.edit(f"{self.model.wheel_name} is {kind}", of_kind(self.model.rig, self._chassis.wheel, kind))

        return OwnSetting(shown, nudge, type_in, ", ".join(KINDS), KINDS)

    def act_add_wheel(self) -> None:
        name, change = added(self.model.rig, self._chassis.wheel)
        if self.model.edit(f"{name} added", change):
            self.model.wheel = len(self.model.line.wheels) - 1

    def act_remove_wheel(self) -> None:
        self.model.edit(f"{self.model.wheel_name} removed", removed(self.model.rig, self._chassis.wheel))

    def act_calibrate_steering(self) -> None:
        """Ask for steered wheels that point straight ahead; the second time read their sensors and write the offsets."""
        from pivrex.diagnosis.offsets import offset_changes

        model = self.model
        if not self._pointing or model.row is None:
            self._pointing = True
            # stopped, because motors that hold an angle would turn the wheels back
            model.ask(Stop("point all steered wheels straight ahead, then press f again to read them"))
            model.ask(MoveSimulated("point ahead"))
            return
        self._pointing = False
        changes = offset_changes(model.rig, model.row[model.line.layout.stage("sensed")])
        if not changes:
            model.say("the steering's offsets are right already")
        elif model.edit("steering read straight ahead", lambda d: put_changes(d, changes)):
            model.say("; ".join(str(c).partition("wheels.")[2] for c in changes))


class WheelFigures(Panel):
    """Figures that are otherwise found by trial, as many as fit."""

    def __init__(self, view: View, chassis: ChassisMotion) -> None:
        super().__init__(view)
        self._chassis, self._worth = chassis, Worth()

    def update(self) -> None:
        self._worth.update(self.model.rig, self.model.serial)

    def close(self) -> None:
        self._worth.close()

    def depends(self) -> tuple[object, ...]:
        return self.model.serial, self._chassis.wheel, self._chassis.angle_deg, self._worth.of_rig

    def draw(self, width: int, height: int) -> Picture:
        picture, chassis = Picture(width, height), self._chassis
        rig, i = chassis.model.rig, chassis.wheel
        figures = wheel_figures(rig)[i]
        turn = radians(chassis.angle_deg)
        way = "left" if chassis.angle_deg >= 0 else "right"
        left = side(rig, left=True)
        lines: list[tuple[str, str, str]] = [
            (f"a turn of {figures.name}", "", "title"),
            ("rolls", f"{figures.metres_per_turn * 1000:.1f} mm", "rest"),
            ("encoder", f"{figures.counts_per_metre:.0f} counts/m" if figures.counts_per_metre else "none", "rest"),
            ("turns the robot", f"{figures.degrees_per_turn:.1f} deg", "rest"),
            (f"to turn {abs(chassis.angle_deg):g} deg {way}", "", "title"),
            ("on the spot", f"{travel_for(rig, turn)[i] * 1000:+.1f} mm".replace("-", "−"), "rest"),
            ("about the left side", f"{travel_for(rig, turn, left)[i] * 1000:+.1f} mm".replace("-", "−"), "rest"),
        ]
        traction = traction_of(rig)
        lines += [
            ("traction", "", "title"),
            ("load on the driven wheels", f"{traction.share * 100:.0f} %", "rest"),
            ("acceleration before slip", f"{traction.ahead:.1f} m/s²", "rest"),
            (
                "motor-limited acceleration",
                f"{traction.pushed:.1f} m/s²{' !' * traction.spins}",
                "alarm" if traction.spins else "rest",
            ),
        ]
        lines += [("slew up without slip", f"{traction.slew:.2g} /s", "rest")] if traction.spins else []
        if self._worth.of_rig.get("straight") or self._worth.of_rig.get("cosine"):
            lines.append(("sideways loss", "on      off", "title"))
        for name, words in (("straight", "spinning across"), ("lead", "same, with lag"), ("cosine", "at a sharp bend")):
            compared = self._worth.of_rig.get(name)
            if compared is not None:
                lines.append((words, f"{compared.on_m * 1000:4.0f} mm {compared.off_m * 1000:4.0f} mm", "rest"))
        for row, (name, value, named) in enumerate(lines[:height]):
            picture.text(0, row, name, "title" if named == "title" else "dim", width)
            picture.right(width, row, value, "dim" if named == "title" else named)
        return picture
