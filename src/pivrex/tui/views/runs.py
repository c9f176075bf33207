"""Runs: the list at the left; at the right the selected run, two over each other, or what one tells of its robot."""

from __future__ import annotations

from collections.abc import Iterable

from pivrex.tui.commands import Command
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.panel import Place, Rect, Rule, View
from pivrex.tui.panels.run_list import RunList
from pivrex.tui.panels.run_sheet import LOOK_KEY, RunSheet
from pivrex.tui.panels.runs_desk import RunsDesk

__all__ = ["RUNS_COMMANDS", "RunsView", "runs_bars", "runs_exports"]


class RunsView(View):
    """What was kept of every drive. ↑ ↓ select, c plays, + lays another beside."""

    HELP = """
    ▌        the selected run: c or a second click plays it again in every view, with a time line below
    +        makes the selected run the first: the next that is selected is laid over it, × where they part; more lie grey below
    ━ ╍      the first solid teal, the second dashed amber; stage by stage when the line parted, and what each changed setting does
    usual    the median of the runs before that were driven alike; ! where this one is worse than they differ among themselves
    v        what the run tells of its robot, each value with the interval that holds it 95 times in 100; W writes it into the rig
    thinned  its ticks made room for newer runs; figures and track are there still
    """

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self.desk = RunsDesk(model.folder.path / "runs", model.folder.settings.keep)
        self._list, self.sheet, self._rule = RunList(self, self.desk), RunSheet(self, self.desk), Rule(self)
        self.panels = (self._list, self.sheet)

    def places(self, width: int, height: int) -> Iterable[Place]:
        side = max(38, min(56, width // 3)) if width >= 78 else 0
        yield self._list, Rect(0, 0, side or width, height)
        if side:
            yield self._rule, Rect(side, 0, 1, height)
            yield self.sheet, Rect(side + 2, 0, width - side - 2, height)


RUNS_COMMANDS = (
    Command("open_run", "play again", "Plays the selected run again: every view shows it, with a time line.", ("c",), foot=1),
    Command("mark_run", "lay over", "Makes the selected run the first of two; again takes that back.", ("plus", "+"), foot=2),
    Command("by", "lined up by", "Lines the two up by their start, their first motion or their first bump.", ("v",), foot=5),
    Command("by_said", "lined up by ...", "Types what they are lined up by, such as a line or a place.", ("V", "shift+v", "upper_v")),
    Command("sheet", "learn, season", "Walks from the run to what it tells of its robot, and to all runs like it.", ("y",), foot=3),
    Command("type_value", "note", "Types a note for the selected run; then it stays.", ("equals_sign", "="), foot=4),
    Command("find", "find", "Finds runs by words of their robot, driver, day or note.", ("slash",), foot=4),
    Command("stay", "stays", "Lets the selected run stay, or make room again.", ("S", "shift+s", "upper_s"), foot=6),
    Command("through", "through this rig", "Drives the same driver through the open rig on the simulated robot, and lays both over each other.",
            ("O", "shift+o", "upper_o"), foot=7),
    Command("learning_drive", "learning drive", "Writes the routine that tells most of a robot, and lets it drive.",
            ("G", "shift+g", "upper_g"), foot=8),
    Command("turned", "it turned", "Types how far the robot truly turned in the selected run: that tells the gyro's scale.",
            ("T", "shift+t", "upper_t"), foot=9),
    Command("write_learnt", "write into the rig", "Writes what was learnt into the open rig, as one step that undo takes back.",
            ("W", "shift+w", "upper_w"), foot=5),
    Command("look", "report", "Shows the report of the selected run, or of the two that lie over each other, as x would write it.",
            (LOOK_KEY, "shift+r", "upper_r"), foot=4),
    Command("take_away", "delete", "Deletes the selected run.", ("delete",), foot=10),
    Command("bring_back", "bring back", "Brings back the run that was taken away last.", ("backspace",)),
)  # fmt: skip


def runs_bars(model: ScreenModel) -> tuple[tuple[str, float, str, str], ...]:
    """How much is kept of what is driven now: the instrument of this view's cell."""
    status, last_s = model.status, model.folder.settings.keep.last_s
    t = model.value("clock", "t") - status.kept_from_s
    if status.cannot_keep:
        return (("kept", 0.0, "! not now", "alarm"),)
    if t != t:  # noqa: PLR0124 - NaN is not itself
        return (("kept", 0.0, "–", "dim"),)
    t = max(0.0, t)
    share = min(1.0, t / last_s)
    return (
        (
            "kept",
            share,
            "all of it" if status.keeping else f"{min(t, last_s):4.0f} s",
            "commanded" if status.keeping else "measured",
        ),
    )


def runs_exports(model: ScreenModel) -> list[list[str]]:
    """The report of what is selected: set by the view, which knows."""
    return [list(model.report_words)] if model.report_words else []
