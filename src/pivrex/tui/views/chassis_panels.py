"""What the Chassis view shows: the robot from above, equations, envelope, figures. How it is handled stands in `chassis`."""

from __future__ import annotations

from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from math import degrees, radians

import numpy as np
from numpy.typing import NDArray

from pivrex.line.equations import equation, point_equation
from pivrex.line.questions.ask import can_do
from pivrex.line.questions.envelope import Envelope
from pivrex.line.questions.figures import side, travel_for, wheel_figures
from pivrex.line.questions.preview import doing, preview
from pivrex.rig import Rig
from pivrex.rig.wheels import KINDS
from pivrex.sim.compare import Compared, compare_cosine, compare_lead, compare_straight
from pivrex.tui.draw.envelope import EnvelopeData, draw_envelope
from pivrex.tui.draw.parts import centred_bar, number, turning, wrapped
from pivrex.tui.draw.picture import Picture
from pivrex.tui.draw.robot import RobotData, RobotScale, draw_robot, robot_scale
from pivrex.tui.guide import Guide
from pivrex.tui.model import ScreenModel
from pivrex.tui.views.settings import SettingsView
from pivrex.units import wrap_deg

__all__ = ["MOTION", "ChassisPanels"]

Floats = NDArray[np.float64]

MOTION = (("motion.forward", "forward"), ("motion.left", "left"), ("motion.turn", "turn"))


@dataclass(frozen=True)
class _Shown:
    """What the drawings show in this frame, live or of your own motion."""

    angles: Floats
    targets: Floats
    asked: Floats
    given: Floats
    measured: Floats | None
    commanded: Floats
    achieved: Floats | None
    scrub: float
    residual: float


class ChassisPanels(SettingsView):
    """The robot at the left, motion, wheels, figures and envelope at the right; or the shakedown's guide."""

    def __init__(self, model: ScreenModel) -> None:
        super().__init__(model)
        self._own: Floats | None = None
        self._angle = 90.0
        self._scale: RobotScale | None = None
        self._moving = ""
        self._bars: list[tuple[str, int, int, int]] = []
        self._kept: tuple[int, Envelope, Floats, Floats | None] | None = None
        self._worth: tuple[int, Future[dict[str, Compared | None]]] | None = None
        self._pool: ThreadPoolExecutor | None = None
        self.guide: Guide | None = None

    # --- what there is ---

    @property
    def _index(self) -> int:
        return self.model.wheel % len(self.model.line.wheels)

    def columns(self) -> list[list[tuple[str, str]]]:
        rig, i = self.model.rig, self._index
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

    def _live(self) -> _Shown | None:
        row = self.model.row
        if row is None:
            return None
        d = doing(self.model.line, row)
        return _Shown(d.angles, d.targets, d.asked, d.given, d.measured, d.commanded, d.achieved, d.scrub, d.residual)

    def _shown(self) -> _Shown | None:
        if self._own is None:
            return self._live()
        p = preview(self.model.line, self._own)
        return _Shown(p.angles, p.angles, p.asked, p.given, None, p.achieved, None, p.scrub, p.residual)

    def _envelope(self) -> tuple[Envelope, Floats, Floats | None]:
        """The envelope of the rig in use, its edge, and the edge before the last change."""
        if self._kept is None or self._kept[0] != self.model.serial:
            envelope = Envelope(self.model.rig)
            before = self.model.before.rig if self.model.before is not None else None
            ghost = None
            if before is not None and before.chassis != self.model.rig.chassis and before.name == self.model.rig.name:
                other = Envelope(before)
                ghost = _edge(other, 0.0) if other.planar == envelope.planar else None
            self._kept = (self.model.serial, envelope, _edge(envelope, 0.0), ghost)
        return self._kept[1:]

    def _full(self) -> Floats:
        """The greatest forward, left and turn by themselves."""
        envelope, rig = self._envelope()[0], self.model.rig
        full = np.array([rig.fastest((1, 0, 0)), rig.fastest((0, 1, 0)), envelope.fastest_turn_rad_s])
        return np.where(full > 0, full, full.max())

    # --- drawing ---

    def draw(self, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        left = min(height * 2, width // 2) if width >= 90 else width * 2 // 5
        self._scale = robot_scale(self.model.rig, left, height)
        shown = self._shown()
        picture.place(self._robot(shown, left, height), 0, 0)
        picture.down(left, 0, height)
        x, w = left + 2, width - left - 3
        self._bars = []
        if self.guide is not None:
            picture.place(self.guide.draw(w, height), x, 0)
            return picture
        y = self._motion(picture, shown, x, w)
        y = self._wheels(picture, shown, x, y + 1, w, height)
        room = height - y - 1
        columns = self.columns()
        half = max(w * 11 // 20, 42) if w >= 66 else w
        rows = max(len(columns[1]), len(columns[2])) if half < w else len(columns[1])
        if room > rows:
            wheel = self.model.wheel_name
            whole = self._whole_equation(w)
            if whole and room > rows + 1:
                picture.text(x, y, whole, "rest", w)
                y += 1
            picture.text(x, y + 1, f"wheel {wheel}", "title", half - 1)
            self._rows(picture, columns[1], x, y + 2, half - 1)
            if half < w:
                picture.text(x + half, y + 1, "rules", "title")
                self._rows(picture, columns[2], x + half, y + 2, w - half)
            y += rows + 2
        room = height - y - 1
        if room >= 9:
            each = min(w // 2, room * 2 + 8) if half < w else w
            picture.place(self._draw_envelope(shown, each - 1, room), x, y + 1)
            if half < w:
                self._figures(picture, x + each + 1, y + 1, w - each - 1, room)
        return picture

    def _robot(self, shown: _Shown | None, width: int, height: int) -> Picture:
        model, line = self.model, self.model.line
        none = np.zeros(len(line.wheels))
        assert self._scale is not None
        angles = shown.angles if shown is not None else np.array([w.drive_rad for w in model.rig.chassis.wheels])
        full = self._full()
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
                int(model.value("frame", "point")) if planar else 0,
                upside_down,
            ),
            self._scale,
            width,
            height,
        )
        whose = "your motion" if self._own is not None else "live"
        at = picture.text(1, 0, "from above", "title")
        picture.text(at + 2, 0, whose, "commanded" if self._own is not None else "measured")
        picture.right(width - 1, 0, self._ruler(), "dim")
        if upside_down:
            picture.text(1, 1, "! on its back", "alarm")
        foot = "drag from the centre for a motion, a wheel to place it"
        if len(foot) < width - 2:
            picture.text(1, height - 1, foot, "dim")
        return picture

    def _ruler(self) -> str:
        chassis = self.model.rig.chassis
        return f"{chassis.length_m * 1000:.0f} × {chassis.width_m * 1000:.0f} mm"

    def _motion(self, picture: Picture, shown: _Shown | None, x: int, width: int) -> int:
        twist = self._own if self._own is not None else shown.commanded if shown is not None else np.zeros(3)
        at = picture.text(x, 0, "motion", "title")
        picture.text(at + 2, 0, "yours; v follows the robot again" if self._own is not None else "the robot's; ←→ makes it yours",
                     "dim", x + width - at - 2)  # fmt: skip
        full, bar = self._full(), max(0, width - 34)
        bar -= 1 - bar % 2
        for row, ((key, name), value, top) in enumerate(zip(MOTION, twist.tolist(), full.tolist(), strict=True), 1):
            here = key == self.chosen
            picture.text(x, row, "▸" if here else " ", "commanded")
            picture.text(x + 2, row, f"{name:<8}", "title" if here else "dim")
            shown_value = turning(degrees(value), 0, "deg/s", 4) if name == "turn" else f"{number(value)} m/s"
            if name == "left":
                way = turning(value, 2, "").partition(" ")[2]
                shown_value = f" {abs(value):5.2f} m/s {way}"
            if bar >= 9:
                centred_bar(picture, x + 10, row, bar, (-value if name != "forward" else value) / top, "commanded")
                self._bars.append((key, row, x + 10, bar))
            picture.text(
                x + 12 + max(bar, 0),
                row,
                f"{shown_value:<19}",
                "chosen" if here and self._own is not None else "commanded",
            )
        y = 4
        # rows are kept for remarks, so that nothing below jumps when there is one
        rows = 3 if picture.height >= 38 else 2 if picture.height >= 34 else 1
        lines = [(line, named) for text, named in self._remarks(shown) for line in wrapped(text, width)]
        for row, (line, named) in enumerate(lines[:rows], y):
            picture.text(x, row, line, named)
        return y + rows

    def _remarks(self, shown: _Shown | None) -> list[tuple[str, str]]:
        """What there is to say about the motion: what cannot be, what is lost, what scrubs."""
        model = self.model
        found = []
        if self._own is not None:
            missing = preview(model.line, self._own).missing
            words = [
                f"{abs(missing[i]):.2f} m/s {('forward', 'sideways')[i]}" for i in range(2) if abs(missing[i]) > 1e-6
            ]
            if words and not (model.rig.law.kind != "planar" and abs(self._own[1]) < 1e-9):
                found.append((f"! it cannot do {' and '.join(words)}: {can_do(model.rig)}", "alarm"))
        if shown is None:
            return found
        limited = np.abs(shown.asked) > model.line.top_m_s * 1.0005
        if limited.any():
            many = f"{int(limited.sum())} of {len(limited)} wheels too fast"
            found.append((f"! {many}: {model.rig.limits.fit} leaves {self._left(shown)}", "alarm"))
        if shown.residual > 0.01:
            found.append((f"! the wheels disagree by {shown.residual:.2f} m/s: some of them must slip", "alarm"))
        if shown.scrub > 0.005:
            found.append((f"tyres scrub sideways at {shown.scrub:.2f} m/s", "target"))
        return found

    def _left(self, shown: _Shown) -> str:
        """What the limits leave of a motion, in words."""
        forward, left, turn = shown.commanded
        parts = [f"{abs(forward):.2f} m/s {'ahead' if forward >= 0 else 'back'}"]
        if abs(left) > 0.005:
            parts.append(turning(left, 2, "m/s"))
        if abs(turn) > 0.005:
            parts.append(turning(degrees(turn), 0, "deg/s"))
        return ", ".join(parts)

    def _wheels(self, picture: Picture, shown: _Shown | None, x: int, y: int, width: int, height: int) -> int:
        model, line = self.model, self.model.line
        chassis = model.rig.chassis
        picture.text(x, y, "wheels", "title")
        picture.right(x + width, y, "turn in rad/s   commanded  measured", "dim")
        names = max(len(w) for w in line.wheels)
        two = height >= 34 and len(line.wheels) <= 6
        y += 1
        for i, wheel in enumerate(chassis.wheels):
            if y >= height:
                break
            here = wheel.name == model.wheel_name
            at = picture.text(x, y, f"{wheel.name:<{names}}", "title" if here else "rest")
            asked = shown.given[i] if shown is not None else 0.0
            real = shown.measured[i] if shown is not None and shown.measured is not None else float("nan")
            limited = shown is not None and abs(shown.asked[i]) > line.top_m_s[i] * 1.0005
            text = equation(chassis, i)
            picture.text(at, y, f" = {text}", "rest" if here else "dim", width - names - 19)
            picture.right(
                x + width - 10, y, f"{'!' if limited else ' '}{number(asked)}", "alarm" if limited else "commanded"
            )
            picture.right(x + width, y, f"{number(real)} m/s", "measured")
            y += 1
            if two and shown is not None:
                if wheel.steered:
                    angle, target = (number(wrap_deg(degrees(v[i])), 0, 4) for v in (shown.angles, shown.targets))
                    points = f"points {angle} deg, shall {target} deg"
                    picture.text(x + names + 1, y, points, "target")
                else:
                    picture.text(x + names + 1, y, f"= {self._numbers(i, shown)} m/s", "dim")
                y += 1
        return y

    def _whole_equation(self, width: int) -> str:
        """The selected wheel's equation, where its row is too short for it."""
        text = equation(self.model.rig.chassis, self._index)
        names = max(len(w) for w in self.model.line.wheels)
        return f"= {text}" if len(text) + 3 > width - names - 19 else ""

    def _numbers(self, wheel: int, shown: _Shown) -> str:
        """A wheel's equation with the present numbers."""
        geometry = self.model.rig.chassis.geometry
        twist = self._own if self._own is not None else shown.commanded
        row = geometry.rows[geometry.of_wheel == wheel][0]
        return point_equation(row, *(float(v) for v in twist))

    def _rows(self, picture: Picture, settings: list[tuple[str, str]], x: int, y: int, width: int) -> None:
        model = self.model
        for row, (key, name) in enumerate(settings, y):
            here = key == self.chosen
            picture.text(x, row, "▸" if here else " ", "commanded")
            picture.text(x + 2, row, name, "title" if here else "dim")
            if key == "figure.angle":
                picture.text(x + 12, row, f" {self._angle:g} deg ", "chosen" if here else "rest")
                continue
            if key == "wheel.kind":
                self._choices(picture, KINDS, model.rig.chassis.wheels[self._index].kind, x + 10, row, width - 10, here)
                continue
            setting = model.setting(key)
            if setting.choices:
                self._choices(picture, setting.choices, str(setting.value(model.rig)), x + 12, row, width - 12, here)
            else:
                picture.text(
                    x + 10 + 2 * (settings[0][0] == "limits.fit"),
                    row,
                    f" {model.shown(key)} ",
                    "chosen" if here else "rest",
                )

    def _draw_envelope(self, shown: _Shown | None, width: int, height: int) -> Picture:
        envelope, full, ghost = self._envelope()
        commanded = shown.commanded if shown is not None else np.zeros(3)
        achieved = shown.achieved if shown is not None else None
        tops = self._full()
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

    def _figures(self, picture: Picture, x: int, y: int, width: int, room: int) -> None:
        model, i = self.model, self._index
        rig = model.rig
        figures = wheel_figures(rig)[i]
        turn = radians(self._angle)
        way = "left" if self._angle >= 0 else "right"
        left = side(rig, left=True)
        lines: list[tuple[str, str, str]] = [
            (f"a turn of {figures.name}", "", "title"),
            ("rolls", f"{figures.metres_per_turn * 1000:.1f} mm", "rest"),
            ("encoder", f"{figures.counts_per_metre:.0f} counts/m" if figures.counts_per_metre else "none", "rest"),
            ("turns the robot", f"{figures.degrees_per_turn:.1f} deg", "rest"),
            (f"to turn {abs(self._angle):g} deg {way}", "", "title"),
            ("on the spot", f"{travel_for(rig, turn)[i] * 1000:+.1f} mm".replace("-", "−"), "rest"),
            ("about the left side", f"{travel_for(rig, turn, left)[i] * 1000:+.1f} mm".replace("-", "−"), "rest"),
        ]
        worth = self._worth_now()
        if worth.get("straight") or worth.get("cosine"):
            lines.append(("gets aside", "on      off", "title"))
        for name, words in (("straight", "spinning across"), ("lead", "same, with lag"), ("cosine", "at a sharp bend")):
            compared = worth.get(name)
            if compared is not None:
                lines.append((words, f"{compared.on_m * 1000:4.0f} mm {compared.off_m * 1000:4.0f} mm", "rest"))
        for row, (name, value, named) in enumerate(lines[: max(0, room)], y):
            picture.text(x, row, name, "title" if named == "title" else "dim", width)
            picture.right(x + width, row, value, "dim" if named == "title" else "rest")

    def _worth_now(self) -> dict[str, Compared | None]:
        """What settings are worth, simulated beside the screen once a rig has stood for a moment."""
        rig = self.model.rig
        if rig.law.kind != "planar":
            return {}
        if self._worth is None or self._worth[0] != self.model.serial:
            if self._worth is not None and not self._worth[1].done():
                return {}
            if self._pool is None:
                self._pool = ThreadPoolExecutor(1)
            self._worth = (self.model.serial, self._pool.submit(_compare, rig))
        return self._worth[1].result() if self._worth[1].done() and not self._worth[1].exception() else {}


def _edge(envelope: Envelope, turn: float) -> Floats:
    if envelope.planar:
        return envelope.outline(turn)
    corners = envelope.speed_and_turn()
    return np.vstack((corners, corners[:1])) if len(corners) else corners


def _compare(rig: Rig) -> dict[str, Compared | None]:
    return {"straight": compare_straight(rig), "lead": compare_lead(rig), "cosine": compare_cosine(rig)}
