"""Field: the greenhouse from above, commanded beside measured for each wheel, pose, sensors and the last seconds."""

from __future__ import annotations

from math import isfinite

import numpy as np

from pivrex.line.layout import plain
from pivrex.line.moves import felt_motion
from pivrex.line.questions.preview import doing
from pivrex.session.messages import LetGo, MoveSticks, Push
from pivrex.tui.draw.field import FieldScale, draw_field, field_ground, scale_of
from pivrex.tui.draw.parts import number, turning, two_bars
from pivrex.tui.draw.picture import Picture
from pivrex.tui.draw.stick import draw_stick
from pivrex.tui.draw.strip import draw_strip
from pivrex.tui.model import ScreenModel
from pivrex.tui.views.view import View
from pivrex.units import wrap_deg

__all__ = ["FieldView", "field_bars", "field_exports"]

SECONDS = 8.0
STICK_H = 7
STICK_W = 15
SLIDES_M_S = 0.08
"""A tyre that is dragged faster than this is said to slide."""

LIFTS_N = 0.02
PUSH_NS_PER_M = 0.6
"""The knock for a metre that the robot is dragged."""


class FieldView(View):
    """The map at the left, the instruments at the right, two sticks to drag below them."""

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self._ground: tuple[tuple[int, int], FieldScale, Picture] | None = None
        self._sticks: dict[str, tuple[int, int]] = {}
        self._held = ""
        self._grabbed: tuple[float, float] | None = None
        """Where on the field the robot was taken hold of, to be pushed."""

    def draw(self, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        side = max(38, min(64, width * 2 // 5)) if width >= 78 else 0
        picture.place(self._map(width - side, height), 0, 0)
        if side:
            self._instruments(picture, width - side + 1, side - 2, height)
        return picture

    def _map(self, width: int, height: int) -> Picture:
        model = self.model
        field = model.folder.settings.field
        if self._ground is None or self._ground[0] != (width, height):
            scale = scale_of(field, width, height)
            self._ground = ((width, height), scale, field_ground(field, scale, width, height))
        _, scale, ground = self._ground
        if model.row is None:
            return ground
        pose = (model.value("truth", "x"), model.value("truth", "y"), model.value("truth", "heading"))
        return draw_field(
            ground,
            scale,
            model.rig,
            pose,
            _points(model.trail, pose),
            _points(model.ghost),
            model.value("truth", "blocked") == 1,
            doing(model.line, model.row).angles,
            np.array([slip > SLIDES_M_S for slip in self._of_wheels("slip")]),
        )

    def _of_wheels(self, what: str) -> list[float]:
        """What is true of each wheel of a real body; NaN of others."""
        return [self.model.value("truth", f"{plain(w)}_{what}") for w in self.model.line.wheels]

    def _instruments(self, picture: Picture, x: int, width: int, height: int) -> None:
        model = self.model
        line = model.line
        y = 0
        picture.text(x, y, "wheels", "title")
        picture.right(x + width, y, "━ commanded  · measured", "dim")
        top = float(line.top_m_s.max())
        names = max(len(w) for w in line.wheels)
        bar = width - names - 12
        bar -= 1 - bar % 2
        room = height - 8 >= 2 * len(line.wheels)
        for wheel in line.wheels:
            y += 1
            asked = model.commanded(wheel)
            real = model.value("sensed", f"{plain(wheel)}_speed")
            lost = model.value("limits", f"{plain(wheel)}_lost")
            limited = abs(lost) > 0.0005
            here = wheel == model.wheel_name
            picture.spot(x, y, width, "wheel", wheel, 1 + room)
            picture.text(x, y, wheel, "title" if here else "rest")
            picture.right(
                x + width, y, f"{'!' if limited else ' '}{number(asked)} m/s", "alarm" if limited else "commanded"
            )
            if bar >= 9:
                two_bars(picture, x + names + 1, y, bar, asked / top, real / top)
            if room:
                y += 1
                picture.right(x + width, y, f"{number(real)} m/s", "measured")
                self._draw_tyre(picture, x, y, wheel)
        y += 2
        rows = self._rows()
        for name, values in rows:
            if y >= height:
                return
            picture.text(x, y, f"{name:<8}", "dim")
            at = x + 8
            for text, named in values:
                if at + len(text) > x + width and at > x + 8:
                    y, at = y + 1, x + 8  # what does not fit goes on in the next row
                at = picture.text(at, y, text, named) + 2
            y += 1
        sticks = height - y >= STICK_H + 6 and width >= 2 * STICK_W + 2
        strips = height - y - (STICK_H + 3 if sticks else 0)
        y = self._draw_strips(picture, x, y + 1, width, strips - 1)
        self._sticks = {}
        if sticks:
            self._draw_sticks(picture, x, height - STICK_H - 2, width)

    def _draw_tyre(self, picture: Picture, x: int, y: int, wheel: str) -> None:
        """Draw the load on a wheel below its name, or that its tyre slides."""
        load, slip = (self.model.value("truth", f"{plain(wheel)}_{what}") for what in ("load", "slip"))
        if not isfinite(load):
            return
        if load < LIFTS_N:
            picture.text(x, y, "! lifts", "alarm")
        elif slip > SLIDES_M_S:
            picture.text(x, y, f"! {slip:.2f}", "alarm")
        else:
            picture.text(x, y, f"{load:.1f} N", "dim")

    def _floor(self) -> list[tuple[str, list[tuple[str, str]]]]:
        """What a real body does: how it moves over the floor beside what the wheels feel, slip, battery."""
        model = self.model
        rows = model.history
        if (
            not model.rig.has_real_body
            or model.row is None
            or len(rows) < 2
            or not isfinite(model.value("truth", "battery"))
        ):
            return []
        layout = model.line.layout
        place = layout.these("truth", ("x", "y", "heading"))
        now, before = rows[-1, place], rows[-min(len(rows), 4), place]
        t = float(rows[-1, layout.at("clock", "t")] - rows[-min(len(rows), 4), layout.at("clock", "t")])
        moved = (now - before) / t if t > 0 else np.zeros(3)
        c, s = np.cos(now[2]), np.sin(now[2])
        forward, left = float(c * moved[0] + s * moved[1]), float(c * moved[1] - s * moved[0])
        felt = felt_motion(model.line, model.row)
        wheels = model.line.wheels
        sliding = [(w, v) for w, v in zip(wheels, self._of_wheels("slip"), strict=True) if v > SLIDES_M_S]
        lifting = [w for w, v in zip(wheels, self._of_wheels("load"), strict=True) if v < LIFTS_N]
        volts, restart = model.value("truth", "battery"), model.value("truth", "restart")
        aside = [(f"aside {turning(left, 2, 'm/s')}", "rest")] if model.rig.law.kind == "planar" else []
        found = [
            ("felt", [(f"forward {number(float(felt[0]))} m/s", "measured"),
                      (f"turn {turning(float(np.degrees(felt[2])), 0, 'deg/s', 3)}", "measured")]),
            ("true", [(f"forward {number(forward)} m/s", "rest"), *aside,
                      (f"turn {turning(float(np.degrees(moved[2])), 0, 'deg/s', 3)}", "rest")]),
        ]  # fmt: skip
        if lifting and not model.status.lifted:
            found.append(("load", [(f"! {' and '.join(lifting)} lift{'s' * (len(lifting) == 1)}", "alarm")]))
        elif sliding:
            worst = max(sliding, key=lambda one: one[1])
            found.append(("tyres", [(f"! {worst[0]} slides {worst[1]:.2f} m/s", "alarm")]))
        else:
            found.append(("tyres", [("all hold", "dim")]))
        said = [(f"{volts:.2f} V of {model.rig.battery.volts:g} V", "rest")]
        if restart > 0:
            said = [(f"! sagged: electronics start again, {restart:.1f} s", "alarm")]
        found.append(("battery", said))
        for name, sensor in model.rig.sensors.items():
            value = model.value("sensed", plain(name))
            if sensor.kind == "ranger":
                found.append(
                    (name[:7], [(f"{value:.2f} m" if value > 0 else "no echo", "measured" if value > 0 else "dim")])
                )
            else:
                found.append(
                    (
                        name[:7],
                        [(f"reads {value:g}" if value > 0 else "sees nothing", "measured" if value > 0 else "dim")],
                    )
                )
        return found

    def _aside(self) -> list[tuple[str, str]]:
        if self.model.rig.law.kind != "planar":
            return []
        left = self.model.value("motion", "left")
        return [(f"aside {turning(left, 2, 'm/s')}", "commanded")]

    def _rows(self) -> list[tuple[str, list[tuple[str, str]]]]:
        model = self.model
        line = model.line
        heading = wrap_deg(float(np.degrees(model.value("truth", "heading")))) if model.row is not None else 0.0
        rows: list[tuple[str, list[tuple[str, str]]]] = [
            (
                "motion",
                [
                    (f"forward {number(model.value('motion', 'forward'))} m/s", "commanded"),
                    *self._aside(),
                    (f"turn {turning(float(np.degrees(model.value('motion', 'turn'))), 0, 'deg/s', 3)}", "commanded"),
                ],
            ),
            (
                "pose",
                [
                    (f"x {number(model.value('truth', 'x'), 2, 5)} m", "measured"),
                    (f"y {number(model.value('truth', 'y'), 2, 5)} m", "measured"),
                    (f"heading {number(heading, 0, 4)} deg", "measured"),
                ],
            ),
        ]
        rows += self._floor()
        for i, wheel in enumerate(line.wheels):
            motor = next(m for m in model.rig.motors.values() if wheel in m.wheels)
            travel = model.value("sensed", f"{plain(wheel)}_travel")
            values = [(f"{wheel} rolled {number(travel, 2, 7)} m", "measured")]
            if motor.counts_per_turn and isfinite(travel):
                counts = motor.counts(travel, model.rig.chassis.wheels[i].radius_m)
                values.append((f"= {counts:+7.0f} counts".replace("-", "−"), "rest"))
            if "steering" in model.line.stages and model.rig.chassis.wheels[i].steered:
                angle = wrap_deg(float(np.degrees(model.value("pointing", f"{plain(wheel)}_angle"))))
                values.append((f"points {number(angle, 0, 4)} deg", "measured"))
            rows.append(("sensed", values))
        if line.layout.has("heading", "heading") and model.row is not None:
            gyro = wrap_deg(float(np.degrees(model.value("sensed", "gyro"))))
            ahead = wrap_deg(float(np.degrees(model.value("heading", "heading"))))
            rows.append(
                (
                    "gyro",
                    [
                        (f"says {number(gyro, 0, 4)} deg", "measured"),
                        (f"{number(ahead, 0, 4)} deg from the field's forward", "rest"),
                    ],
                )
            )
        if line.layout.has("sensed", "up") and model.row is not None:
            side = "on its back" if model.value("heading", "upside_down") == 1 else "on its wheels"
            rows.append(("side", [(f"up {number(model.value('sensed', 'up'))} g", "measured"), (side, "rest")]))
        humming = [m for m in model.rig.motors if model.value("outputs", f"{plain(m)}_hums") == 1]
        if humming:
            rows.append(
                (
                    "motors",
                    [
                        (f"! {' and '.join(humming)} only hum{'s' * (len(humming) == 1)}", "alarm"),
                        ("too little to turn", "alarm"),
                    ],
                )
            )
        if model.value("truth", "blocked") == 1:
            rows.append(("bump", [("! it stands against something", "alarm")]))
        else:
            rows.append(("bump", [("nothing in the way", "dim")]))
        return rows

    def _draw_strips(self, picture: Picture, x: int, y: int, width: int, room: int) -> int:
        model = self.model
        line = model.line
        wheels: tuple[str, ...] = line.wheels
        if room // len(wheels) < 4:
            wheels = (model.wheel_name,)  # where only one has room, it is the one that the why is about
        each = room // len(wheels)
        if each < 4:
            return y
        each = min(each, 11)
        layout = line.layout
        rows = model.history
        t = rows[:, layout.at("clock", "t")]
        # a recording that began again has a clock that began again
        start = int(np.flatnonzero(np.diff(t) < 0)[-1]) + 1 if len(t) > 1 and (np.diff(t) < 0).any() else 0
        for wheel in wheels:
            name = plain(wheel)
            i = line.wheels.index(wheel)
            commanded = rows[start:, line.speeds.start + i]
            measured = rows[start:, layout.at("sensed", f"{name}_speed")]
            strip = draw_strip(
                f"{wheel} wheel", t[start:], commanded, measured, float(line.top_m_s[i]), SECONDS, "m/s", width, each
            )
            picture.place(strip, x, y)
            y += each
        return y

    def _draw_sticks(self, picture: Picture, x: int, y: int, width: int) -> None:
        model = self.model
        picture.text(x, y, "sticks", "title")
        hint = "drag with the mouse, or w a s d and i j k l" if width >= 54 else "drag, or w a s d"
        picture.right(x + width, y, hint, "dim")
        for i, side in enumerate(("left", "right")):
            left = x + i * (STICK_W + 3)
            at = {}
            for axis in ("x", "y"):
                channel = f"{side}_{axis}"
                used = channel in model.line.channels
                at[axis] = model.value("raw", channel) if used and model.row is not None else 0.0
            used = any(f"{side}_{a}" in model.line.channels for a in "xy")
            picture.place(draw_stick(at["x"], at["y"], STICK_W, STICK_H, used, side), left, y + 1)
            self._sticks[side] = (left, y + 1)
        text = x + 2 * (STICK_W + 3)
        for row, channel in enumerate(model.line.channels):
            if row < STICK_H and text + 20 <= x + width:
                shown = number(model.value("raw", channel), 3, 7)
                picture.text(text, y + 1 + row, f"{channel:<13}", "dim")
                picture.text(text + 13, y + 1 + row, shown, "rest")

    def press(self, what: str, value: str) -> bool:
        if what == "wheel" and value in self.model.line.wheels:
            self.model.wheel = self.model.line.wheels.index(value)
        return what == "wheel"

    def _push(self, x: int, y: int, phase: str) -> bool:
        """Take the mouse where the robot is: dragged and let go, it is knocked that way. Tells whether that is all."""
        model = self.model
        if self._ground is None or model.row is None:
            return False
        scale = self._ground[1]
        at = (x + 0.5 - scale.left) * 2 / scale.per_m, scale.width_m - (y + 0.5 - scale.top) * 4 / scale.per_m
        px, py, heading = (model.value("truth", n) for n in ("x", "y", "heading"))
        if phase == "press":
            reach = max(model.rig.chassis.length_m, model.rig.chassis.width_m) / 2 + 2 / scale.per_m
            near = isfinite(px) and np.hypot(at[0] - px, at[1] - py) < reach
            self._grabbed = at if near else None
        if self._grabbed is None:
            return False
        if phase == "release":
            (gx, gy), self._grabbed = self._grabbed, None
            c, s = np.cos(heading), np.sin(heading)
            dx, dy = (at[0] - gx) * PUSH_NS_PER_M, (at[1] - gy) * PUSH_NS_PER_M
            forward, left = float(c * dx + s * dy), float(c * dy - s * dx)
            centre = model.rig.chassis.mass_centre
            lx, ly = c * (gx - px) + s * (gy - py) - centre.x_m, c * (gy - py) - s * (gx - px) - centre.y_m
            if abs(forward) + abs(left) > 1e-6:
                model.ask(Push(forward, left, float(lx * left - ly * forward)))
        return True

    def point(self, x: int, y: int, phase: str) -> None:
        if self._push(x, y, phase):
            return
        if phase == "press":
            self._held = next(
                (
                    s
                    for s, (left, top) in self._sticks.items()
                    if left <= x < left + STICK_W and top <= y < top + STICK_H
                ),
                "",
            )
        if not self._held:
            return
        if phase == "release":
            self.model.ask(LetGo())
            self._held = ""
            return
        left, top = self._sticks.get(self._held, (0, 0))
        across = (x - left - STICK_W // 2) / (STICK_W // 2 - 1)
        down = (y - top - STICK_H // 2) / (STICK_H // 2 - 0.5)
        self.model.ask(MoveSticks({f"{self._held}_x": across, f"{self._held}_y": down}))

    def help_lines(self) -> list[tuple[str, str]]:
        return [
            ("━ ·", "commanded solid amber, measured dotted teal: for each wheel, in the bars and in the strips"),
            ("trail", "dotted where the robot went, fainter where it went the time before (r puts it back)"),
            ("nose", "the amber line points ahead; the outline turns coral when the robot stands against something"),
            ("sensed", "what the robot says: raw encoder counts and what they mean"),
            ("!", "a wheel was asked for more than it can; the why says how much is lost"),
            ("felt", "what the wheels say of the motion; true: what the stand-in really does. Coral wheels slide"),
            ("N", "the load on each wheel of a real body; f and F knock it, so does dragging it with the mouse"),
            ("sticks", "drag one with the mouse: it drives while you hold it and springs back"),
        ]


def _points(trail: list[tuple[float, float]], last: tuple[float, float, float] | None = None) -> np.ndarray:
    points = trail if last is None else [*trail, last[:2]]
    return np.array(points, float).reshape(-1, 2)


def field_bars(model: ScreenModel) -> tuple[tuple[str, float, str, str], ...]:
    """Each wheel as it is given and as it rolls: the instrument of this view's cell."""
    return tuple(
        (w, model.commanded(w) / float(top), f"{number(model.value('sensed', f'{plain(w)}_speed'))} m/s", "measured")
        for w, top in zip(model.line.wheels, model.line.top_m_s, strict=True)
    )


def field_exports(model: ScreenModel) -> list[list[str]]:
    """The path that was driven; it is saved first."""
    return [["path", str(model.file.path), str(model.save_path())]]
