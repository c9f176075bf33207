"""Routine: the text, the path on the field and a timeline, with one cursor in all three; and the match clock."""

from __future__ import annotations

from collections.abc import Iterable

from textual.message import Message
from textual.widget import Widget
from textual.widgets import TextArea

from pivrex.session.messages import StartPeriod
from pivrex.session.periods import COUNTED, Period
from pivrex.tui.commands import Command
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.match_clock import MatchClock
from pivrex.tui.panels.open_routine import OpenRoutine
from pivrex.tui.panels.panel import Place, Rect, View
from pivrex.tui.panels.routine_helpers import RoutineHelpers
from pivrex.tui.panels.routine_map import RoutineMap
from pivrex.tui.panels.routine_timeline import RoutineTimeline
from pivrex.tui.panels.routine_title import RoutineTitle

__all__ = ["ROUTINE_COMMANDS", "RoutineView"]

SMALL = 78

ROUTINE_COMMANDS = (
    Command("edit_text", "type", "Lets you type in the text; Esc leaves it.", ("y",), foot=2),
    Command("choose_routine", "routine", "Lists the routines of this workspace: opens, makes, renames, duplicates or deletes one.",
            ("c",), foot=3),
    Command("alone", "play", "Runs the routine now, for the period alone.", ("G", "shift+g", "upper_g"), foot=2),
    Command("from_here", "from here", "Gets ready at the cursor's line, with the pose and the variables that it would have there; "
            "G runs on from it, M runs the rest of the match.", ("H", "shift+h", "upper_h"), foot=6),
    Command("one_step", "one step", "Plays on until another step begins, then pauses.", ("S", "shift+s", "upper_s"), foot=5),
    Command("pause", "pause", "Pauses the clock and the routine, or goes on.", ("P", "shift+p", "upper_p"), foot=4,
            available=lambda m: m.status.match.period in COUNTED, needs="no period runs"),
    Command("driven", "driven", "Starts the driven period alone.", ("D", "shift+d", "upper_d"),
            asks=StartPeriod(Period.DRIVEN, only=True)),
    Command("skip_line", "skip line", "Skips the line at the cursor without deleting it; again includes it.",
            ("full_stop", "."), ".", foot=5),
    Command("rehearse", "rehearse", "Plays it 200 times, each drive a little different, and shows where it ends; again stops it.",
            ("R", "shift+r", "upper_r"), foot=4),
    Command("solve", "solve number", "Finds the number at the cursor that gives the result that you type; again cancels.",
            ("N", "shift+n", "upper_n"), foot=6),
    Command("write_number", "write it", "Writes the number that was found into the text.", ("K", "shift+k", "upper_k")),
    Command("make_move", "own move", "Makes an own move of the selected lines: numbers become parameters, similar lines become calls of "
            "it, and Pivrex proves that the routine does the same.", ("W", "shift+w", "upper_w"), foot=8),
    Command("back", "way back", "Makes a routine that drives back the same way, opens it, and says how near it comes to the start.",
            ("T", "shift+t", "upper_t")),
    Command("against", "compare", "Compares it with another routine, or with this one as you opened it: where they differ, which is "
            "faster, which is more reliable; again ends it.", ("A", "shift+a", "upper_a"), foot=7),
    Command("values", "each value", "Shows the drive for each number that the post can show; again shows one.", ("v",), foot=5),
    Command("earlier", "time", "Moves the cursor back in time.", ("left",), "← →", foot=6),
    Command("later", "later", "Moves the cursor forward in time.", ("right",)),
    Command("much_earlier", "a second back", "Moves the cursor back by a second.", ("shift+left",)),
    Command("much_later", "a second on", "Moves the cursor forward by a second.", ("shift+right",)),
)  # fmt: skip


class RoutineView(View):
    """The text at the left, the field at the right, the timeline below both."""

    NEEDS_CHASSIS = True
    HELP = """
    ━  where the robot is commanded to be
    ·  where the simulated robot drives
    ▼  the cursor: one line, its time and its place; drag it along the timeline
    !  a step that was limited, slipped, bumped, waited too long or was cut off
    ┃  in the timeline: where the clock cuts the routine off, and where it is now
    ·  in lilac: where it ended in each drive of a rehearsal, and dashed the zones that it should reach
    ^  below a line: what is wrong there, and how to fix it
    """

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self.routine = OpenRoutine(self)
        self.helpers = RoutineHelpers(self.routine)
        self.clock = MatchClock(self.routine)
        self._title, self._timeline = RoutineTitle(self.routine), RoutineTimeline(self.routine)
        self._map = RoutineMap(self.routine, self.helpers)
        self._text_at = Rect(0, 0, 0, 0)
        self.panels = (self.routine, self.helpers, self.clock, self._title, self._timeline)

    def inner(self) -> Iterable[Widget]:
        yield self.routine.editor

    def heard(self, message: Message) -> None:
        if isinstance(message, TextArea.Changed | TextArea.SelectionChanged):
            self.routine.text_changed(message)

    def update(self) -> None:
        super().update()
        left, bottom = self._split(*self.size)
        at = Rect(1, 1, left - 2, max(1, self.size.height - bottom - 2))
        if at != self._text_at and self.size.width:
            self._text_at, styles = at, self.routine.editor.styles
            styles.offset, styles.width, styles.height = (at.x, at.y), at.width, at.height

    def _split(self, width: int, height: int) -> tuple[int, int]:
        """Return the width of the text and the height of the timeline."""
        left = min(84, max(34, int(width * 0.48))) if width >= SMALL else width
        return left, self._timeline.data(max(2, height // 4)).lines

    def places(self, width: int, height: int) -> Iterable[Place]:
        left, bottom = self._split(width, height)
        yield self._title, Rect(0, 0, left, 1)
        if width >= SMALL:
            x, w, h = left + 1, width - left - 2, height - bottom - 1
            clock = len(self.clock.lines(w, h))
            yield self.clock, Rect(x, 0, w, clock)
            yield self._map, Rect(x, clock, w, h - clock)
        else:
            yield self.clock, Rect(width // 2, 0, width - width // 2, 1)
        yield self._timeline, Rect(0, height - bottom, width, bottom)
