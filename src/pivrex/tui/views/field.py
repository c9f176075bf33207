"""Field: the greenhouse from above, commanded beside measured for each wheel, pose, sensors and the last seconds."""

from __future__ import annotations

from math import isfinite

import numpy as np

from pivrex.line.beginning import start_of
from pivrex.line.layout import plain
from pivrex.line.questions.preview import doing
from pivrex.session.messages import Believe, LetGo, MoveSticks, Push, TakeMark
from pivrex.session.periods import Period
from pivrex.tui.commands import PUSHES, Command
from pivrex.tui.draw.attachment_bar import draw_standing, name_width
from pivrex.tui.draw.field_scale import FieldScale, scale_of, window_of
from pivrex.tui.draw.floor import draw_field, field_ground
from pivrex.tui.draw.parts import number, two_bars
from pivrex.tui.draw.picture import Picture
from pivrex.tui.draw.stick import draw_stick
from pivrex.tui.draw.strip import draw_strip
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.field_numbers import LIFTS_N, SLIDES_M_S, FieldNumbers
from pivrex.tui.panels.path_acts import PATH_COMMANDS, PathActs
from pivrex.tui.panels.standings import standing_of

__all__ = ["FIELD_COMMANDS", "FieldView", "field_bars", "field_exports"]

SECONDS = 8.0
WINDOWS_M = (0.0, 2.0, 1.0)
"""How high what is shown of the floor is; 0 for all of it."""

WAYS = "→↗↑↖←↙↓↘"
LEAST_STRIP = 7
"""Rows: lower than that a strip says nothing."""

STICK_H = 7
STICK_W = 15
PUSH_NS_PER_M = 0.6
"""The knock for a metre that the robot is dragged."""


class FieldView(PathActs, FieldNumbers):
    """The map at the left, the instruments at the right, two sticks to drag below them."""

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self._ground: tuple[tuple[object, int, int], FieldScale, Picture] | None = None
        self._sticks: dict[str, tuple[int, int]] = {}
        self._held = ""
        self._window = 0
        self._grabbed: tuple[float, float] | None = None
        """Where on the field the robot was taken hold of, to be pushed."""

    def act_believe(self) -> None:
        """Say where the robot is: the stand-in where it truly is, a real one at the field's start."""
        pose = tuple(self.model.value("truth", n) for n in ("x", "y", "heading"))
        known = all(map(isfinite, pose))
        if not known:
            pose = tuple(start_of(self.model.folder.settings.field).tolist())
        self.model.ask(Believe((pose[0], pose[1], pose[2])))
        self.model.say(
            "the belief begins anew " + ("where the robot is" if known else "at the field's start: put the robot there")
        )

    def act_mark(self) -> None:
        """Let the robot know where it is by a wall that it touches, or by a ranger."""
        self.model.ask(TakeMark())

    def draw(self, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        side = max(38, min(64, width * 2 // 5)) if width >= 78 else 0
        picture.place(self._map(width - side, height), 0, 0)
        if side and self.paths.open:
            self.paths.draw_beside(picture, width - side + 1, side - 2, height)
        elif side:
            self._instruments(picture, width - side + 1, side - 2, height)
        return picture

    def _map(self, width: int, height: int) -> Picture:
        model = self.model
        field = model.folder.settings.field
        scale = self._scale(width, height)
        if self._ground is None or self._ground[0] != (field, width, height) or self._ground[1] != scale:
            self._ground = ((field, width, height), scale, field_ground(field, scale, width, height))
        _, scale, ground = self._ground
        if model.row is None and not self.paths.open:
            return ground
        picture = self._robot(ground, scale) if model.row is not None else _copied(ground)
        if self.paths.open:
            self.paths.draw_on(picture, scale)
        self._mark_forward(picture, scale)
        return picture

    def _scale(self, width: int, height: int) -> FieldScale:
        """The whole floor, or a window that follows the robot."""
        field, high = self.model.folder.settings.field, WINDOWS_M[self._window]
        if not high:
            return scale_of(field, width, height)
        believed = self._believed()
        x, y = (self.model.value("truth", n) for n in ("x", "y"))
        if not isfinite(x + y):
            x, y = believed.pose[:2] if believed is not None else (field.start.x_m, field.start.y_m)
        return window_of(field, width, height, high, x, y)

    def _mark_forward(self, picture: Picture, scale: FieldScale) -> None:
        """Say which way the field's forward is, where it matters: what the gyro calls 0 as seen from above."""
        model = self.model
        if not model.line.layout.has("heading", "heading") or model.rig.law.kind != "planar" or model.row is None:
            return
        true, said = model.value("truth", "heading"), model.value("heading", "heading")
        if not isfinite(true + said):
            return
        way = round(float(np.degrees(true - said)) / 45) % 8
        said_way = f" field's forward {WAYS[way]} "
        picture.text(max(0, scale.left + scale.cells[0] - len(said_way)), 0, said_way, "commanded")

    def act_zoom(self) -> None:
        """Go on to the next window."""
        self._window = (self._window + 1) % len(WINDOWS_M)
        high = WINDOWS_M[self._window]
        self.model.say(f"a window of {high:g} m that follows the robot" if high else "the whole floor")

    def _robot(self, ground: Picture, scale: FieldScale) -> Picture:
        model = self.model
        assert model.row is not None
        pose = (model.value("truth", "x"), model.value("truth", "y"), model.value("truth", "heading"))
        # beside a path only what is driven alone leaves a trail: the path itself, it may be
        trails = not self.paths.open or model.status.match.period is Period.ALONE
        return draw_field(
            ground,
            scale,
            model.rig,
            pose,
            _points(model.trail, pose) if trails else _points([]),
            _points(model.ghost) if trails else _points([]),
            model.value("truth", "blocked") == 1,
            doing(model.line, model.row).angles,
            np.array([slip > SLIDES_M_S for slip in self._of_wheels("slip")]),
            self._believed(),
            standing_of(model) if self._window else None,
        )

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
        y += 1
        standings = standing_of(model)
        for one in standings if height - y > len(standings) + 14 else ():
            y += 1
            draw_standing(picture, x, y, width, one, name_width(standings, width))
        y += 1 + bool(standings)
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

    def _draw_strips(self, picture: Picture, x: int, y: int, width: int, room: int) -> int:
        model = self.model
        line = model.line
        wheels: tuple[str, ...] = line.wheels
        if room // len(wheels) < LEAST_STRIP:
            wheels = (model.wheel_name,)  # where only one has room, it is the one that the why is about
        each = room // len(wheels)
        if each < LEAST_STRIP:
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
        at = scale.metres(x, y)
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
        if self.paths.open:
            if self._ground is not None:
                self.paths.point(self._ground[1], x, y, phase)
            return
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
            (
                "━ ·",
                "commanded solid amber, measured dotted teal: for each wheel, in the bars and in the strips; the area is the gap",
            ),
            ("trail", "dotted where the robot went, fainter where it went the time before (r puts it back)"),
            ("wedge", "the amber wedge is its front; its body turns coral when the robot stands against something"),
            ("sensed", "what the robot says: raw encoder counts and what they mean"),
            ("!", "a wheel was asked for more than it can; the why says how much is lost"),
            (
                "belief",
                "dashed teal: where it believes to be by wheels and gyro; lilac: how sure it is of that, 2 sigma. H sets it anew, J by a wall",
            ),
            ("felt", "what the wheels say of the motion; true: what the stand-in really does. Coral wheels slide"),
            ("N", "the load on each wheel of a real body; f and F knock it, so does dragging it with the mouse"),
            (
                "path ◆",
                "P opens a path: amber where it runs, coral where the robot touches something, teal where the stand-in went on it, "
                "grey the run before. Letters say what holds its speed there, and stand for the words beside it",
            ),
            ("sticks", "drag one with the mouse: it drives while you hold it and springs back"),
        ]


def _copied(ground: Picture) -> Picture:
    picture = Picture(ground.width, ground.height)
    picture.place(ground, 0, 0)
    return picture


FIELD_COMMANDS = (
    Command("zoom", "nearer", "Walks between the whole floor and windows of 2 m and 1 m that follow the robot.", ("z",), foot=6),
    Command("believe", "here", "Says where the robot is, so that its belief begins anew: the stand-in where it truly is, a real one at the "
            "field's start.", ("H", "shift+h", "upper_h"), foot=9),
    Command("mark", "by a mark", "The robot knows where it is by a wall that it touches squarely, or by how far its ranger sees one: what "
            "was measured, what was believed, and how far the belief went over to it (the gain).", ("J", "shift+j", "upper_j"), foot=12),
    *PATH_COMMANDS,
    *PUSHES,
)  # fmt: skip


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
    """The path that is open, and how it is followed; else the one that was driven, which is saved first."""
    if model.drawing is not None:
        by = [str(model.drawing), "--rig", str(model.file.path)]
        return [["plan", *by], ["following", *by]]
    return [["path", str(model.file.path), str(model.save_path())]]
