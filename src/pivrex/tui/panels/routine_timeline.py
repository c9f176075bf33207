"""The timeline of a routine: a lane for each thing that is done beside others, and the cursor."""

from __future__ import annotations

from pivrex.session.periods import Period
from pivrex.tui.draw.picture import Picture
from pivrex.tui.draw.step_bars import LABEL, Bar, Timeline, draw_timeline
from pivrex.tui.panels.open_routine import OpenRoutine
from pivrex.tui.panels.panel import Panel

__all__ = ["RoutineTimeline"]

NUDGE_S, COARSE_S = 0.1, 1.0


class RoutineTimeline(Panel):
    """The cursor is walked by keys and dragged with the mouse."""

    def __init__(self, routine: OpenRoutine) -> None:
        super().__init__(routine.view)
        self._routine = routine

    def lanes(self) -> tuple[str, ...]:
        """Return the lanes that there are."""
        steps = self._routine.preview.steps if self._routine.preview is not None else ()
        used = dict.fromkeys(s.lane for s in steps)
        own = [n for n in self.model.rig.attachments if n in used]
        return ("motion", "wait", *(["sense"] if "sense" in used else []), *own)

    def draw(self, width: int, height: int) -> Picture:
        routine = self._routine
        preview, status = routine.preview, self.model.status.match
        bars: tuple[Bar, ...] = ()
        end = 0.0
        if preview is not None:
            dt, end = preview.dt_s, preview.time_s
            bars = tuple(Bar(s.lane, s.begin * dt, s.end * dt, s.line, s.text, tuple(s.marks)) for s in preview.steps)
        now = self.model.value("clock", "t") + status.from_s if status.period is Period.ALONE else -1.0
        limit = self.model.folder.settings.match.alone_s
        data = Timeline(self.lanes(), bars, limit, end, routine.t, routine.line, now)
        picture = Picture(width, height)
        picture.place(draw_timeline(data, width - 2, height), 1, 0)
        return picture

    def _walk(self, by: int) -> None:
        routine = self._routine
        routine.editor.to_line(routine.line + by)
        steps = routine.steps_of(routine.line)
        if steps and routine.preview is not None:
            routine.t = steps[0].begin * routine.preview.dt_s

    def act_previous_setting(self) -> None:
        self._walk(-1)

    def act_next_setting(self) -> None:
        self._walk(1)

    def act_earlier(self) -> None:
        self._routine.go_to(self._routine.t - NUDGE_S)

    def act_later(self) -> None:
        self._routine.go_to(self._routine.t + NUDGE_S)

    def act_much_earlier(self) -> None:
        self._routine.go_to(self._routine.t - COARSE_S)

    def act_much_later(self) -> None:
        self._routine.go_to(self._routine.t + COARSE_S)

    def point(self, x: int, y: int, phase: str) -> None:
        preview = self._routine.preview
        if phase == "release" or preview is None:
            return
        room = max(10, self.view.size.width - 2 - LABEL - 1)
        whole = max(self.model.folder.settings.match.alone_s, preview.time_s, 1.0)
        self._routine.go_to((x - 1 - LABEL + 0.5) / room * whole)
