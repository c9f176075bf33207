"""The match clock in words, for the view, the head and the line."""

from __future__ import annotations

from math import degrees, isfinite
from textwrap import shorten, wrap

from pivrex.routine.midway import line_after
from pivrex.session.messages import LeaveMatch, MakeReady, PauseRoutine, StartPeriod, StepRoutine
from pivrex.session.periods import COUNTED, Period
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.open_routine import OpenRoutine
from pivrex.tui.panels.panel import Panel

__all__ = ["MatchClock", "left_s", "match_head", "period_words", "routine_bars", "routine_exports"]


def left_s(model: ScreenModel) -> float:
    """Return how much of the period is left by the newest Tick, in s."""
    match = model.status.match
    if match.period not in COUNTED or match.paused:
        return match.left_s
    t = model.value("clock", "t")
    return max(0.0, match.left_s - (t - match.at_t)) if isfinite(t) else match.left_s


def period_words(model: ScreenModel) -> tuple[str, str]:  # noqa: PLR0911 - a case for each period
    """Return where the match stands, and in which role: before its start what is chosen, for a wrong choice loses a match."""
    match = model.status.match
    x, y, heading = match.start
    start = f"starts at {x:.2f} m, {y:.2f} m, {round(degrees(heading))} deg"
    chosen = match.routine or "no routine"
    match match.period:
        case Period.OFF if model.replay is not None:
            return "this was not in a match", "dim"
        case Period.OFF:
            if match.waits:
                return f"no match any more  ! {match.waits}", "alarm"
            return f"no match yet: {chosen} · {model.rig.name} · {start}", "dim"
        case Period.READY:
            outside = f", or the desk on {match.wire}" if match.wire else ""
            keys = f"Nothing moves: M starts the match{outside}, G only this period, L leaves"
            chosen += f" from line {match.from_line}" if match.from_line else ""
            return f"READY  {chosen} · {model.rig.name} · {start} · alone {match.left_s:g} s. {keys}", "chosen"
        case Period.ALONE if match.ended:
            why = f": {match.why}" if match.why else ""
            return f"ALONE  {left_s(model):4.1f} s  the routine has {match.ended}{why}", "commanded"
        case Period.ALONE:
            paused = "  paused" if match.paused else ""
            line = model.number("routine", "line")
            return f"ALONE  {left_s(model):4.1f} s left{paused}, line {line} drives", "commanded"
        case Period.BETWEEN:
            return f"BETWEEN  {left_s(model):4.1f} s: nothing moves", "target"
        case Period.DRIVEN:
            waits = f"  ! {match.waits}" if match.waits else ""
            return f"DRIVEN  {left_s(model):5.1f} s left{waits}", "alarm" if match.waits else "commanded"
    return "OVER: nothing moves; M gets ready again, L leaves the match", "target"


def words(model: ScreenModel) -> tuple[str, str]:
    """Return the state of the match, and the workspace's messages for it."""
    said, named = period_words(model)
    says = model.status.match.says
    return (f"{said}  {says}" if says else said), named


def match_head(model: ScreenModel) -> str:
    """Say the period and what is left of it, for the head; without a match what the robot does alone, if anything."""
    match = model.status.match
    if match.period is Period.OFF:
        return f"alone: {model.status.experiment}" if model.status.experiment else ""
    said = f"{match.period} {left_s(model):.1f} s" if match.period in COUNTED else str(match.period)
    return f"{said}: {shorten(match.says, 40, placeholder=' …')}" if match.says else said


def routine_bars(model: ScreenModel) -> tuple[tuple[str, float, str, str], ...]:
    """Return the tiny instrument of the line's cell: the period and what is left of it."""
    match, periods = model.status.match, model.folder.settings.match
    whole = {Period.ALONE: periods.alone_s, Period.BETWEEN: periods.between_s, Period.DRIVEN: periods.driven_s}
    if match.period is Period.OFF:
        return (("match", 0.0, "none", "rest"),)
    left = left_s(model)
    line = model.value("routine", "line")
    share = left / whole[match.period] if whole.get(match.period) else 0.0
    text = f"{left:.1f} s" if match.period in COUNTED else ""
    drives = (("line", 0.0, f"{int(line)} drives", "commanded"),) if isfinite(line) and line > 0 else ()
    return ((str(match.period), share, text, "commanded" if match.period is Period.ALONE else "target"), *drives)


def routine_exports(model: ScreenModel) -> list[list[str]]:
    """Return what ``x`` draws: the routine that the session has, on this rig."""
    there = {p.stem: p for p in model.folder.routines()}
    path = there.get(model.status.match.routine)
    return [["routine", str(path), "--rig", str(model.file.path)]] if path is not None else []


class MatchClock(Panel):
    """Where the match stands in words, and what starts, pauses and ends it."""

    def __init__(self, routine: OpenRoutine) -> None:
        super().__init__(routine.view)
        self._routine = routine

    def lines(self, width: int, height: int) -> list[str]:
        """Return the words in lines, of a third of a height at most."""
        return wrap(words(self.model)[0], max(12, width))[: max(1, height // 3)]

    def draw(self, width: int, height: int) -> Picture:
        picture, named = Picture(width, height), period_words(self.model)[1]
        for y, row in enumerate(self.lines(width, 3 * height)):
            picture.text(0, y, row.ljust(width) if named == "chosen" else row, named, width)
        return picture

    def ready(self) -> None:
        """Make ready for a match, or start it if all is ready."""
        self._routine.prepare()
        status = self.model.status.match
        if status.period in (Period.OFF, Period.OVER):
            self.model.ask(MakeReady())
        elif status.period is Period.READY:
            self.model.ask(StartPeriod(Period.ALONE))

    def walk(self, steps: int) -> None:
        """Choose another routine, so many farther."""
        self._routine.walk(steps)

    def act_alone(self) -> None:
        self._routine.prepare()
        self.model.ask(StartPeriod(Period.ALONE, only=True))

    def act_from_here(self) -> None:
        """Ask for how things stand before the cursor's line."""
        program = self._routine.document.program
        line = line_after(program, self._routine.line) if program is not None else 0
        if program is None or not line:
            self.model.say("nothing is done on this line or below it" if program else "fix the mistakes first")
            return
        self._routine.begin_from(program, line)

    def act_pause(self) -> None:
        self.model.ask(PauseRoutine(not self.model.status.match.paused))

    def act_one_step(self) -> None:
        if self.model.status.match.period is not Period.ALONE:
            self.act_alone()
        self.model.ask(StepRoutine())

    def leave(self) -> None:
        """Count no longer."""
        self.model.ask(LeaveMatch())
