"""The map: the floor from above with the robot, where it went and where it believes to be; a path may be drawn on it."""

from __future__ import annotations

from math import isfinite

import numpy as np

from pivrex.line.beginning import start_of
from pivrex.line.questions.preview import doing
from pivrex.session.messages import Believe, Push
from pivrex.session.periods import Period
from pivrex.tui.draw.field_scale import FieldScale, scale_of, window_of
from pivrex.tui.draw.floor import draw_field, field_ground
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.field_numbers import SLIDES_M_S, believed_of, of_wheels
from pivrex.tui.panels.panel import Panel, View
from pivrex.tui.panels.path_editor import PathEditor
from pivrex.tui.panels.standings import standing_of

__all__ = ["FieldMap"]

WINDOWS_M = (0.0, 2.0, 1.0)
"""How high what is shown of the floor is; 0 for all of it."""

WAYS = "→↗↑↖←↙↓↘"
PUSH_NS_PER_M = 0.6
"""The knock for a metre that the robot is dragged."""


class FieldMap(Panel):
    """The map. The mouse knocks the robot, or moves the points of the path that is open."""

    def __init__(self, view: View, paths: PathEditor) -> None:
        super().__init__(view)
        self.paths = paths
        self._ground: tuple[tuple[object, int, int], FieldScale, Picture] | None = None
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

    def draw(self, width: int, height: int) -> Picture:
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
            self.paths.drawn.draw_on(picture, scale)
        self._mark_forward(picture, scale)
        return picture

    def _scale(self, width: int, height: int) -> FieldScale:
        """The whole floor, or a window that follows the robot."""
        field, high = self.model.folder.settings.field, WINDOWS_M[self._window]
        if not high:
            return scale_of(field, width, height)
        believed = believed_of(self.model)
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
            _points(model.trace.trail, pose) if trails else _points([]),
            _points(model.trace.ghost) if trails else _points([]),
            model.value("truth", "blocked") == 1,
            doing(model.line, model.row).angles,
            np.array([slip > SLIDES_M_S for slip in of_wheels(model, "slip")]),
            believed_of(self.model),
            standing_of(model) if self._window else None,
        )

    def _push(self, x: int, y: int, phase: str) -> None:
        """Take the mouse where the robot is: dragged and let go, it is knocked that way."""
        model = self.model
        if self._ground is None or model.row is None:
            return
        scale = self._ground[1]
        at = scale.metres(x, y)
        px, py, heading = (model.value("truth", n) for n in ("x", "y", "heading"))
        if phase == "press":
            reach = max(model.rig.chassis.length_m, model.rig.chassis.width_m) / 2 + 2 / scale.per_m
            near = isfinite(px) and np.hypot(at[0] - px, at[1] - py) < reach
            self._grabbed = at if near else None
        if self._grabbed is None:
            return
        if phase == "release":
            (gx, gy), self._grabbed = self._grabbed, None
            c, s = np.cos(heading), np.sin(heading)
            dx, dy = (at[0] - gx) * PUSH_NS_PER_M, (at[1] - gy) * PUSH_NS_PER_M
            forward, left = float(c * dx + s * dy), float(c * dy - s * dx)
            centre = model.rig.chassis.mass_centre
            lx, ly = c * (gx - px) + s * (gy - py) - centre.x_m, c * (gy - py) - s * (gx - px) - centre.y_m
            if abs(forward) + abs(left) > 1e-6:
                model.ask(Push(forward, left, float(lx * left - ly * forward)))

    def point(self, x: int, y: int, phase: str) -> None:
        if not self.paths.open:
            self._push(x, y, phase)
        elif self._ground is not None:
            self.paths.point_on(self._ground[1], x, y, phase)


def _copied(ground: Picture) -> Picture:
    picture = Picture(ground.width, ground.height)
    picture.place(ground, 0, 0)
    return picture


def _points(trail: list[tuple[float, float]], last: tuple[float, float, float] | None = None) -> np.ndarray:
    points = trail if last is None else [*trail, last[:2]]
    return np.array(points, float).reshape(-1, 2)
