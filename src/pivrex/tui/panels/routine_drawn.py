"""What Routine shows: the text's title, the field with the way of the routine, decisions side by side, the timeline."""

from __future__ import annotations

from math import degrees
from textwrap import wrap

import numpy as np

from pivrex.routine.thread import StepRecord
from pivrex.session.periods import COUNTED, Period
from pivrex.tui.documents.routine_document import Desk
from pivrex.tui.draw.cloud import draw_cloud
from pivrex.tui.draw.field_scale import FieldScale, scale_of
from pivrex.tui.draw.floor import field_ground
from pivrex.tui.draw.picture import Picture
from pivrex.tui.draw.route import Route, draw_route, draw_zones
from pivrex.tui.draw.step_bars import Bar, Timeline, draw_timeline
from pivrex.tui.jobs.number_solving import solving_job, solving_words
from pivrex.tui.jobs.previews import Preview, Seen
from pivrex.tui.jobs.rehearsals import rehearsal_job, rehearsal_rows, rehearsal_words, zone_of
from pivrex.tui.jobs.routine_made import Against, made_job
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.match_clock import period_words
from pivrex.tui.panels.routine_text import RoutineText
from pivrex.tui.view import View
from pivrex.units import wrap_deg

__all__ = ["RoutineDrawn"]

SMALL = 78
CLOSE, ROOMY = 11, 24
"""So many rows the close-up of a rehearsal has, where there are so many."""


class RoutineDrawn(View):
    """The text at the left, the field at the right, the timeline below both; one cursor in all three."""

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self.desk = Desk(model.folder.settings.match.alone_s)
        self.editor = RoutineText()
        self.t = 0.0
        """Where the cursor stands, in s of the routine."""
        self.beside = False
        """Whether a decision is shown for each value, side by side."""
        self.seen: Seen | None = None
        self.rehearsal = rehearsal_job()
        self.solving = solving_job()
        self.made = made_job()
        self.other: Against | None = None
        """Another version, that is held against this one."""
        self._ground: tuple[tuple[object, int, int], FieldScale, Picture] | None = None

    @property
    def preview(self) -> Preview | None:
        """What came of the text; of the one before while the newest is still played."""
        return self.seen.preview if self.seen is not None else None

    @property
    def line(self) -> int:
        """The line that the cursor stands on, from 1."""
        return self.editor.cursor_location[0] + 1

    def _steps_of(self, line: int) -> list[StepRecord]:
        return [s for s in self.preview.steps if s.line == line] if self.preview is not None else []

    def _split(self, width: int, height: int) -> tuple[int, int]:
        """Give the width of the text and the height of the timeline."""
        left = min(84, max(34, int(width * 0.48))) if width >= SMALL else width
        lanes = len(self._lanes())
        bottom = min(lanes + 1, max(2, height // 4))
        return left, bottom

    def _lanes(self) -> tuple[str, ...]:
        steps = self.preview.steps if self.preview is not None else ()
        used = dict.fromkeys(s.lane for s in steps)
        own = [n for n in self.model.rig.attachments if n in used]
        return ("motion", "wait", *(["sense"] if "sense" in used else []), *own)

    def draw(self, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        left, bottom = self._split(width, height)
        self._draw_title(picture, left)
        if width >= SMALL:
            self._draw_right(picture, left + 1, width - left - 2, height - bottom - 1)
        else:
            picture.right(width, 0, period_words(self.model)[0], "commanded")
        self._draw_timeline(picture, height - bottom, width, bottom)
        return picture

    def _draw_title(self, picture: Picture, left: int) -> None:
        desk = self.desk
        past = self.model.replay is not None
        if desk.path is None:
            said = (
                desk.title or "this run had no routine" if past else "no routine in this workspace's folder routines/"
            )
            picture.text(1, 0, said, "dim", left)
            return
        wrong = [m for m in desk.checked.mistakes if not m.warning] if desk.checked is not None else []
        warned = (len(desk.checked.mistakes) if desk.checked is not None else 0) - len(wrong)
        x = picture.text(1, 0, desk.title, "title", left - 2)
        state = "as the run had it" if past else "typing" if self.typing else "y types"
        x = picture.text(x + 2, 0, state, "commanded" if self.typing else "dim", max(0, left - x - 3))
        said = f"! {len(wrong)} mistake{'s' * (len(wrong) != 1)}" if wrong else "no mistakes"
        said += f", {warned} warning{'s' * (warned != 1)}" if warned else ""
        if x + len(said) + 2 < left:
            picture.right(left - 1, 0, said, "alarm" if wrong else "dim")

    def _draw_right(self, picture: Picture, x: int, width: int, height: int) -> None:
        words, named = period_words(self.model)
        rows = wrap(words, max(12, width))[: max(1, height // 3)]
        for y, row in enumerate(rows):
            picture.text(x, y, row.ljust(width) if named == "chosen" else row, named, width)
        y = len(rows)
        if self.beside and self.seen is not None and self.seen.values:
            self._draw_values(picture, x, y, width, height - y)
            return
        self._draw_end(picture, x, y, width)
        near = CLOSE if self.rehearsal.answer is not None and height >= ROOMY else 0
        if near:
            self._draw_cloud(picture, x, height - near, width, near)
            height -= near
        rehearsed = (
            rehearsal_words(self.rehearsal, self.model.folder.settings.field)
            if self.rehearsal.goes_on or not near
            else ""
        )
        if rehearsed:
            y += 1
            picture.text(x, y, rehearsed + self._stale_words(), "target", width)
        for said, role in (solving_words(self.solving), *self._beside_words()):
            for row in wrap(said, max(12, width))[: max(1, height // 4)]:
                y += 1
                picture.text(x, y, row, role, width)
        self._draw_map(picture, x, y + 1, width, height - y - 1)

    def _stale_words(self) -> str:
        return (
            ""
            if self.rehearsal.answered is None or self.rehearsal.answered.serial == self.desk.serial
            else " (of the text before)"
        )

    def _draw_cloud(self, picture: Picture, x: int, y: int, width: int, height: int) -> None:
        """Draw where the drives of a rehearsal ended from near, and say what came of them."""
        field, found = self.model.folder.settings.field, self.rehearsal.answer
        assert found is not None
        drawn = min(width // 2, 3 * height)
        picture.place(draw_cloud(found.poses, zone_of(found, field), drawn, height), x, y)
        rows = rehearsal_rows(found, field)
        rows[0] = (rows[0][0] + self._stale_words(), rows[0][1])
        for k, (text, named) in enumerate(rows[:height]):
            picture.text(x + drawn + 2, y + k, text, named, width - drawn - 2)

    def _beside_words(self) -> list[tuple[str, str]]:
        """Say what came of another version, sentence by sentence, or what is made beside the screen."""
        if self.made.goes_on and self.made.question is not None:
            return [(f"making {self.made.question.title} ...", "dim")]
        return [(one, "target") for one in self.other.found.sentences()] if self.other is not None else []

    def _draw_end(self, picture: Picture, x: int, y: int, width: int) -> None:
        preview = self.preview
        if preview is None:
            said = (
                "not played: mend the mistakes first"
                if self.desk.checked is not None and self.desk.program is None
                else "playing"
            )
            picture.text(x, y, said, "dim", width)
            return
        stale = self.seen is not None and self.seen.serial != self.desk.serial
        text, named = _end_words(preview, self._zone(preview))
        at = picture.text(x, y, text, named, width)
        if stale and at + 14 < x + width:
            picture.text(at + 2, y, "of the text before" if self.desk.program is None else "...", "dim")
        legend = "━ asked  · got"
        if at + len(legend) + 16 < x + width:
            picture.right(x + width, y, "· got", "measured")
            picture.right(x + width - 7, y, "━ asked", "commanded")

    def _zone(self, preview: Preview) -> str:
        px, py = preview.poses[-1][:2]
        zones = self.model.folder.settings.field.zones
        return next((z.name for z in zones if np.hypot(px - z.x_m, py - z.y_m) <= z.radius_m), "")

    def _map_ground(self, width: int, height: int) -> tuple[FieldScale, Picture]:
        field = self.model.folder.settings.field
        if self._ground is None or self._ground[0] != (field, width, height):
            scale = scale_of(field, width, height)
            ground = field_ground(field, scale, width, height)
            draw_zones(ground, field, scale)
            self._ground = ((field, width, height), scale, ground)
        return self._ground[1], self._ground[2]

    def _draw_map(self, picture: Picture, x: int, y: int, width: int, height: int) -> None:
        if width < 12 or height < 5:
            return
        scale, ground = self._map_ground(width, height)
        model, preview = self.model, self.preview
        live = None
        if model.status.match.period in COUNTED and model.row is not None:
            live = (model.value("truth", "x"), model.value("truth", "y"), model.value("truth", "heading"))
        if preview is None:
            picture.place(ground, x, y)
            return
        chosen = tuple((s.begin, s.end) for s in self._steps_of(self.line) if s.lane == "motion")
        marked = tuple((s.begin, s.end) for s in preview.steps if s.marks and s.lane == "motion")
        found = self.rehearsal.answer
        cloud = found.poses if found is not None else None
        other = self.other.poses if self.other is not None else None
        route = Route(preview.poses, preview.asked, chosen, marked, preview.tick(self.t), live, cloud, other)
        picture.place(draw_route(ground, scale, model.rig, route), x, y)

    def _draw_values(self, picture: Picture, x: int, y: int, width: int, height: int) -> None:
        assert self.seen is not None
        count = len(self.seen.values)
        columns = 2 if width >= 60 else 1
        rows = max(1, -(-count // columns))
        w, h = width // columns, height // rows
        field = self.model.folder.settings.field
        for k, (value, preview) in enumerate(self.seen.values):
            left, top = x + (k % columns) * w, y + (k // columns) * h
            text, named = _end_words(preview, self._zone(preview))
            shows = f"post shows {value:g}" if value else "post is silent"
            at = picture.text(left, top, shows, "title", w - 1)
            picture.text(at + 1, top, text, named, max(0, w - 2 - (at - left)))
            if h < 6:
                continue
            scale = scale_of(field, w - 1, h - 1)
            ground = field_ground(field, scale, w - 1, h - 1)
            draw_zones(ground, field, scale)
            route = Route(preview.poses, preview.asked, (), (), preview.tick(self.t))
            picture.place(draw_route(ground, scale, self.model.rig, route), left, top + 1)

    def _draw_timeline(self, picture: Picture, y: int, width: int, height: int) -> None:
        preview, status = self.preview, self.model.status.match
        bars: tuple[Bar, ...] = ()
        end = 0.0
        if preview is not None:
            dt, end = preview.dt_s, preview.time_s
            bars = tuple(Bar(s.lane, s.begin * dt, s.end * dt, s.line, s.text, tuple(s.marks)) for s in preview.steps)
        now = self.model.value("clock", "t") + status.from_s if status.period is Period.ALONE else -1.0
        limit = self.model.folder.settings.match.alone_s
        data = Timeline(self._lanes(), bars, limit, end, self.t, self.line, now)
        picture.place(draw_timeline(data, width - 2, height), 1, y)


def _end_words(preview: Preview, zone: str) -> tuple[str, str]:
    x, y, heading = preview.poses[-1]
    where = f"in {zone}" if zone else f"at {x:.2f} m, {y:.2f} m, {round(wrap_deg(degrees(float(heading))))} deg"
    if preview.ended == "finished":
        return f"{preview.time_s:.1f} s, ends {where}", "measured"
    if preview.ended == "stopped":
        return f"! stopped after {preview.time_s:.1f} s: {preview.why}", "alarm"
    return f"! cut off by the clock at {preview.time_s:.0f} s {where}", "alarm"
