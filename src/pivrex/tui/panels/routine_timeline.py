"""The timeline of a routine: a lane for each thing that runs at once, and the cursor."""

from __future__ import annotations

from pivrex.scene.placing import Placing
from pivrex.scene.timeline import CURVE, Bar, Curve, Timeline, timeline_scene
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

    def data(self, most: int) -> Timeline:
        """Return what is drawn on at most so many lines."""
        routine = self._routine
        preview, status = routine.preview, self.model.status.match
        bars: tuple[Bar, ...] = ()
        end = 0.0
        if preview is not None:
            dt, end = preview.dt_s, preview.time_s
            bars = tuple(Bar(s.lane, s.begin * dt, s.end * dt, s.line, s.text, tuple(s.marks)) for s in preview.steps)
        now = self.model.value("clock", "t") + status.from_s if status.period is Period.ALONE else -1.0
        limit = self.model.folder.settings.match.alone_s
        curves = []
        for label, shown in routine.curves().items():
            past = [s for s in shown if s.t_s <= routine.t + 1e-6]
            brief = past[-1].brief if past else ""
            curves.append(Curve(label, tuple(s.t_s for s in shown), tuple(s.value for s in shown), brief))
        lanes = self.lanes()[: max(1, most - 1)]
        some = tuple(curves[: max(0, (most - 1 - len(lanes)) // CURVE)])
        return Timeline(lanes, bars, limit, end, routine.t, routine.line, now, some)

    def draw(self, width: int, height: int) -> Picture:
        scene = timeline_scene(self.data(height), width)
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
