"""The field with the path of a routine: commanded, driven, and the ends of rehearsals; or each decision side by side."""

from __future__ import annotations

from math import degrees
from textwrap import wrap

import numpy as np

from pivrex.scene.floor import field_scene, whole
from pivrex.scene.route import Route, add_route, cloud_scene
from pivrex.scene.scene import Scene
from pivrex.session.periods import COUNTED
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.picture import Picture
from pivrex.tui.jobs.previews import Preview
from pivrex.tui.jobs.rehearsals import rehearsal_rows, rehearsal_words, zone_of
from pivrex.tui.panels.open_routine import OpenRoutine
from pivrex.tui.panels.panel import Panel
from pivrex.tui.panels.routine_helpers import RoutineHelpers
from pivrex.units import wrap_deg

__all__ = ["RoutineMap"]

CLOSE, ROOMY = 11, 24
"""How many rows the close-up of a rehearsal has, where there are so many."""


class RoutineMap(Panel):
    """The map, and above it in words what came of the routine."""

    def __init__(self, routine: OpenRoutine, helpers: RoutineHelpers) -> None:
        super().__init__(routine.view)
        self._routine, self._helpers = routine, helpers

    def depends(self) -> tuple[object, ...] | None:
        routine, helpers, model = self._routine, self._helpers, self.model
        if model.status.match.period in COUNTED:
            return None
        jobs = helpers.rehearsal.answer, helpers.rehearsal.share, helpers.rehearsal.goes_on, helpers.other
        text = routine.seen, routine.compares, routine.document.serial, routine.line, routine.t
        return *text, *jobs, tuple(helpers.words()), model.serial, model.folder.settings.field

    def draw(self, width: int, height: int) -> Picture:
        picture, y = Picture(width, height), 0
        seen, helpers = self._routine.seen, self._helpers
        if self._routine.compares and seen is not None and seen.values:
            self._draw_values(picture, 0, 0, width, height)
            return picture
        self._draw_end(picture, 0, 0, width)
        near = CLOSE if helpers.rehearsal.answer is not None and height >= ROOMY else 0
        if near:
            self._draw_cloud(picture, 0, height - near, width, near)
            height -= near
        field = self.model.folder.settings.field
        rehearsed = rehearsal_words(helpers.rehearsal, field) if helpers.rehearsal.goes_on or not near else ""
        if rehearsed:
            y += 1
            picture.text(0, y, rehearsed + self._stale_words(), "target", width)
        for said, role in helpers.words():
            for row in wrap(said, max(12, width))[: max(1, height // 4)]:
                y += 1
                picture.text(0, y, row, role, width)
        self._draw_map(picture, 0, y + 1, width, height - y - 1)
        return picture

    def _stale_words(self) -> str:
        return (
            ""
            if self._helpers.rehearsal.answered is None
            or self._helpers.rehearsal.answered.serial == self._routine.document.serial
            else " (of the text before)"
        )

    def _draw_cloud(self, picture: Picture, x: int, y: int, width: int, height: int) -> None:
        """Draw where the drives of a rehearsal ended from near, and say what came of them."""
        field, found = self.model.folder.settings.field, self._helpers.rehearsal.answer
        assert found is not None
        drawn = min(width // 2, 3 * height)
        picture.place(print_scene(cloud_scene(found.poses, zone_of(found, field)), drawn, height), x, y)
        rows = rehearsal_rows(found, field)
        rows[0] = (rows[0][0] + self._stale_words(), rows[0][1])
        for k, (text, named) in enumerate(rows[:height]):
            picture.text(x + drawn + 2, y + k, text, named, width - drawn - 2)

    def _draw_end(self, picture: Picture, x: int, y: int, width: int) -> None:
        preview = self._routine.preview
        if preview is None:
            said = (
                "not played: fix the mistakes first"
                if self._routine.document.content is not None and self._routine.document.program is None
                else "playing"
            )
            picture.text(x, y, said, "dim", width)
            return
        stale = self._routine.seen is not None and self._routine.seen.serial != self._routine.document.serial
        text, named = _end_words(preview, self._zone(preview))
        at = picture.text(x, y, text, named, width)
        if stale and at + 14 < x + width:
            picture.text(at + 2, y, "of the text before" if self._routine.document.program is None else "...", "dim")
        legend = "━ commanded  · reached"
        if at + len(legend) + 16 < x + width:
            picture.right(x + width, y, "· reached", "measured")
            picture.right(x + width - 11, y, "━ commanded", "commanded")

    def _zone(self, preview: Preview) -> str:
        px, py = preview.poses[-1][:2]
        zones = self.model.folder.settings.field.zones
        return next((z.name for z in zones if np.hypot(px - z.x_m, py - z.y_m) <= z.radius_m), "")

    def _field(self) -> Scene:
        field = self.model.folder.settings.field
        return field_scene(field, whole(field), zones=True)

    def _draw_map(self, picture: Picture, x: int, y: int, width: int, height: int) -> None:
        if width < 12 or height < 5:
            return
        scene = self._field()
        model, preview = self.model, self._routine.preview
        live = None
        if model.status.match.period in COUNTED and model.row is not None:
            live = (model.value("truth", "x"), model.value("truth", "y"), model.value("truth", "heading"))
        if preview is None:
            picture.place(print_scene(scene, width, height), x, y)
            return
        chosen = tuple((s.begin, s.end) for s in self._routine.steps_of(self._routine.line) if s.lane == "motion")
        marked = tuple((s.begin, s.end) for s in preview.steps if s.marks and s.lane == "motion")
        found = self._helpers.rehearsal.answer
        cloud = found.poses if found is not None else None
        other = self._helpers.other.poses if self._helpers.other is not None else None
        route = Route(
            preview.poses, preview.commanded, chosen, marked, preview.tick(self._routine.t), live, cloud, other
        )
        add_route(scene, model.rig, route)
        picture.place(print_scene(scene, width, height), x, y)

    def _draw_values(self, picture: Picture, x: int, y: int, width: int, height: int) -> None:
        assert self._routine.seen is not None
        count = len(self._routine.seen.values)
        columns = 2 if width >= 60 else 1
        rows = max(1, -(-count // columns))
        w, h = width // columns, height // rows
        for k, (value, preview) in enumerate(self._routine.seen.values):
            left, top = x + (k % columns) * w, y + (k // columns) * h
            text, named = _end_words(preview, self._zone(preview))
            shows = f"post shows {value:g}" if value else "post is silent"
            at = picture.text(left, top, shows, "title", w - 1)
            picture.text(at + 1, top, text, named, max(0, w - 2 - (at - left)))
            if h < 6:
                continue
            scene = self._field()
            route = Route(preview.poses, preview.commanded, (), (), preview.tick(self._routine.t))
            add_route(scene, self.model.rig, route)
            picture.place(print_scene(scene, w - 1, h - 1), left, top + 1)


def _end_words(preview: Preview, zone: str) -> tuple[str, str]:
    x, y, heading = preview.poses[-1]
    where = f"in {zone}" if zone else f"at {x:.2f} m, {y:.2f} m, {round(wrap_deg(degrees(float(heading))))} deg"
    if preview.ended == "finished":
        return f"{preview.time_s:.1f} s, ends {where}", "measured"
    if preview.ended == "stopped":
        return f"! stopped after {preview.time_s:.1f} s: {preview.why}", "alarm"
    return f"! cut off by the clock at {preview.time_s:.0f} s {where}", "alarm"
