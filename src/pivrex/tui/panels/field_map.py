"""The map: the floor from above with the robot, its driven path and its estimated pose; you may draw a path on it."""

from __future__ import annotations

from math import isfinite

import numpy as np

from pivrex.line.beginning import start_of
from pivrex.line.questions.preview import doing
from pivrex.scene.floor import add_estimate, add_trail, field_scene, floor_of, whole
from pivrex.scene.robot import add_robot
from pivrex.scene.scene import Box, Placing, Scene
from pivrex.session.messages import Believe, Push
from pivrex.session.periods import Period
from pivrex.tui.draw.cells import placing_of, print_scene
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.field_numbers import SLIDES_M_S, estimated_of, of_wheels
from pivrex.tui.panels.panel import Panel, View
from pivrex.tui.panels.path_editor import PathEditor
from pivrex.tui.panels.standings import standing_of

__all__ = ["FieldMap"]

BY_ITSELF, WHOLE = -1.0, 0.0
MIN_LETTERS = 3.5
"""A robot that would be drawn shorter than this on the whole floor is shown in its surroundings, the whole floor in a corner."""

NEAR_LETTERS = 12.0
"""How long it is drawn then."""

CORNER_W, CORNER_H = 22, 9
AHEAD_S = 3.0
"""How long ago begins the way that was commanded."""

WAYS = "→↗↑↖←↙↓↘"
PUSH_NS_PER_M = 0.6
"""The push for a metre that the robot is dragged."""


class FieldMap(Panel):
    """The map. The mouse pushes the robot, or moves the points of the path that is open."""

    def __init__(self, view: View, paths: PathEditor) -> None:
        super().__init__(view)
        self.paths = paths
        self._placing: Placing | None = None
        self._window_m = BY_ITSELF
        """How high what is shown of the floor is."""
        self._grabbed: tuple[float, float] | None = None
        """Where on the field the robot was taken hold of, to be pushed."""

    def act_believe(self) -> None:
        """Report where the robot is: the simulated robot where it truly is, a real one at the field's start."""
        pose = tuple(self.model.value("truth", n) for n in ("x", "y", "heading"))
        known = all(map(isfinite, pose))
        if not known:
            pose = tuple(start_of(self.model.folder.settings.field).tolist())
        self.model.ask(Believe((pose[0], pose[1], pose[2])))
        self.model.say(
            "the estimated pose is set "
            + ("to where the robot is" if known else "to the field's start: put the robot there")
        )

    def draw(self, width: int, height: int) -> Picture:
        model = self.model
        field = model.folder.settings.field
        whole_box = whole(field)
        high_m = self._high_m(width, height)
        box = self._surroundings(high_m, width, height) if high_m else whole_box
        scene = field_scene(field, box)
        self._placing = placing = placing_of(scene, width, height)
        if model.row is not None:
            self._add_robot(scene, bool(high_m), placing.letter / placing.across)
            self._mark_forward(scene)
        if self.paths.open:
            self.paths.drawn.draw_on(scene)
        picture = print_scene(scene, width, height)
        if model.row is not None and high_m and width >= 2.5 * CORNER_W and height >= 2.5 * CORNER_H:
            corner = Scene(whole_box, below=floor_of(field, whole_box, named=False))
            self._add_robot(corner, False, 1.0)
            picture.place(print_scene(corner, CORNER_W, CORNER_H), width - CORNER_W - 1, 2)
        return picture

    def _high_m(self, width: int, height: int) -> float:
        """Return how high the window is, in m; 0 for the whole floor."""
        if self._window_m != BY_ITSELF:
            return self._window_m
        field, chassis = self.model.folder.settings.field, self.model.rig.chassis
        placing = placing_of(floor_of(field, whole(field)), width, height)
        length = max(chassis.length_m, chassis.width_m)
        if self.paths.open or length * placing.across / placing.letter >= MIN_LETTERS:
            return WHOLE
        return length / NEAR_LETTERS * placing.rows * placing.line / placing.letter

    def _surroundings(self, high_m: float, width: int, height: int) -> Box:
        """Return a window around the robot; it moves in steps, so that the floor is not drawn again in every frame."""
        estimated = estimated_of(self.model)
        x, y = (self.model.value("truth", n) for n in ("x", "y"))
        if not isfinite(x + y):
            start = self.model.folder.settings.field.start
            x, y = estimated.pose[:2] if estimated is not None else (start.x_m, start.y_m)
        step = high_m / 8
        x, y = round(x / step) * step, round(y / step) * step
        wide_m = high_m * width / max(1, 2 * (height - 2))
        return Box(x - wide_m / 2, y - high_m / 2, x + wide_m / 2, y + high_m / 2)

    def _mark_forward(self, scene: Scene) -> None:
        """Report which way the field's forward is, where it matters: what the gyro calls 0 as seen from above."""
        model = self.model
        if not model.line.layout.has("heading", "heading") or model.rig.law.kind != "planar":
            return
        true, said = model.value("truth", "heading"), model.value("heading", "heading")
        if isfinite(true + said):
            way = round(float(np.degrees(true - said)) / 45) % 8
            scene.caption(f"field's forward {WAYS[way]}", "commanded", "top right")

    def act_zoom(self) -> None:
        """Go on to the next window."""
        windows = (BY_ITSELF, 2.0, 1.0, WHOLE)
        self._window_m = windows[(windows.index(self._window_m) + 1) % len(windows)]
        said = {BY_ITSELF: "as large as the robot can be seen", WHOLE: "the whole floor"}
        self.model.say(said.get(self._window_m, f"a window of {self._window_m:g} m that follows the robot"))

    def _add_robot(self, scene: Scene, near: bool, min_m: float) -> None:
        """Draw the robot, where it went, where it would be by its commands, and its estimated pose."""
        model = self.model
        assert model.row is not None
        pose = (model.value("truth", "x"), model.value("truth", "y"), model.value("truth", "heading"))
        known = bool(np.isfinite(pose).all())
        # next to a path only an automatic drive leaves a trail: it may be of the path itself
        if not self.paths.open or model.status.match.period is Period.ALONE:
            scene.line(_points(model.trace.ghost), "ghost", 0.3, 0.8)
            scene.line(self._commanded_way(), "command fill", 0.35)
            add_trail(scene, _points(model.trace.trail, pose))
        estimated = estimated_of(model)
        shown = pose if known or estimated is None else estimated.pose
        sliding = np.array([slip > SLIDES_M_S for slip in of_wheels(model, "slip")])
        hull = "limit" if model.value("truth", "blocked") == 1 else "hull"
        attachments = standing_of(model) if near else ()
        add_robot(scene, model.rig, shown, doing(model.line, model.row).angles, hull, sliding, attachments)
        if estimated is not None:
            add_estimate(scene, model.rig, estimated, pose, 0.5 * min_m)

    def _commanded_way(self) -> np.ndarray:
        """Return where the robot would have gone in the last seconds, had it followed its commands: (N, 2) in m.

        Notes
        -----
        Each tick's commanded motion is put onto the pose before it, along the heading in the middle of the tick.
        """
        rows, layout = self.model.history, self.model.line.layout
        t = rows[:, layout.at("clock", "t")]
        rows = rows[t >= t[-1] - AHEAD_S] if len(t) else rows
        if len(rows) < 2 or not isfinite(float(rows[0, layout.at("truth", "x")])):
            return np.zeros((0, 2))
        x, y, heading = (float(rows[0, layout.at("truth", n)]) for n in ("x", "y", "heading"))
        steps = np.diff(rows[:, layout.at("clock", "t")]).clip(0.0, 0.1)
        twist = rows[1:, layout.these("motion", ("forward", "left", "turn"))] * steps[:, None]
        middle = heading + np.cumsum(twist[:, 2]) - twist[:, 2] / 2
        c, s = np.cos(middle), np.sin(middle)
        way = np.cumsum(
            np.stack((c * twist[:, 0] - s * twist[:, 1], s * twist[:, 0] + c * twist[:, 1]), axis=1), axis=0
        )
        return np.concatenate(([[x, y]], way + np.array([x, y])))

    def _push(self, x: int, y: int, phase: str) -> None:
        """Take the mouse where the robot is: dragged and let go, it is pushed that way."""
        model = self.model
        if self._placing is None or model.row is None:
            return
        at = self._placing.units(x, y)
        px, py, heading = (model.value("truth", n) for n in ("x", "y", "heading"))
        if phase == "press":
            reach = (
                max(model.rig.chassis.length_m, model.rig.chassis.width_m) / 2
                + self._placing.letter / self._placing.across
            )
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
        elif self._placing is not None:
            self.paths.point_on(self._placing, x, y, phase)


def _points(trail: list[tuple[float, float]], last: tuple[float, float, float] | None = None) -> np.ndarray:
    points = trail if last is None else [*trail, last[:2]]
    return np.array(points, float).reshape(-1, 2)
