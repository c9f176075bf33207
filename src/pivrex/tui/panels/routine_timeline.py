"""The timeline of a routine: a lane for each thing that is done beside others, and the cursor."""

from __future__ import annotations

from pivrex.scene.placing import Placing
from pivrex.scene.timeline import Bar, Timeline, timeline_scene
from pivrex.session.periods import Period
from pivrex.tui.draw.cells import placing_of, print_scene
from pivrex.tui.draw.picture import Picture
from pivrex.tui.panels.open_routine import OpenRoutine
from pivrex.tui.panels.panel import Panel

__all__ = ["RoutineTimeline"]

NUDGE_S, COARSE_S = 0.1, 1.0


class RoutineTimeline(Panel):
    """The cursor is walked by keys and dragged with the mouse."""

    def __init__(self, routine: OpenRoutine) -> None:
        super().__init__(routine.view)
        self._routine = routine
        self._placing: Placing | None = None

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
        data = data._replace(lanes=data.lanes[: max(1, height - 1)])
        scene = timeline_scene(data, width)
        self._placing = placing_of(scene, width, height)
        return print_scene(scene, width, height)

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
        if phase != "release" and self._routine.preview is not None and self._placing is not None:
            self._routine.go_to(self._placing.units(x, y)[0])
