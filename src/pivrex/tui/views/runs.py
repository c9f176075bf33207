"""Runs: the list at the left; at the right the selected run, two compared, or what one teaches about its robot."""

from __future__ import annotations

from collections.abc import Iterable

from pivrex.tui.commands import Command
from pivrex.tui.model import ScreenModel
from pivrex.tui.panels.panel import Place, Rect, Rule, View
from pivrex.tui.panels.run_list import RunList
from pivrex.tui.panels.run_selection import RunSelection
from pivrex.tui.panels.run_sheet import LOOK_KEY, RunSheet

__all__ = ["RUNS_COMMANDS", "RunsView", "runs_bars", "runs_exports"]


class RunsView(View):
    """The kept runs. ↑ ↓ select, c plays, + compares with another."""

    HELP = """
    ▌        the selected run: c or a second click replays it in every view, with a time line below
    +        selects the first of two runs: the next one is compared with it, × where they first differ; others are grey
    ━ ╍      the first solid teal, the second dashed amber; when each stage first differs, and what each changed setting does
    usual    the median of similar runs before; ! where this run is worse than these differ from each other
    y        what the run teaches about its robot, each value with its 95 % interval; W writes it into the rig
    thinned  its ticks were deleted to make space; figures and track are still there
    """

    def __init__(self, model: ScreenModel, name: str) -> None:
        super().__init__(model, name)
        self.selection = RunSelection(model.folder.path / "runs", model.folder.settings.keep)
        self._list, self.sheet, self._rule = RunList(self, self.selection), RunSheet(self, self.selection), Rule(self)
        self.panels = (self._list, self.sheet)

    def places(self, width: int, height: int) -> Iterable[Place]:
        side = max(38, min(56, width // 3)) if width >= 78 else 0
        yield self._list, Rect(0, 0, side or width, height)
        if side:
            yield self._rule, Rect(side, 0, 1, height)
            yield self.sheet, Rect(side + 2, 0, width - side - 2, height)


RUNS_COMMANDS = (
    Command("open_run", "play again", "Replays the selected run: every view shows it, with a time line.", ("c",), foot=1),
    Command("mark_run", "compare", "Selects the first of two runs to compare; again deselects it.", ("plus", "+"), foot=2),
    Command("by", "align by", "Aligns the two runs by their start, their first motion or their first bump.", ("v",), foot=5),
    Command("by_said", "align by ...", "Types what the runs are aligned by, such as a line or a place.", ("V", "shift+v", "upper_v")),
    Command("sheet", "learn, season", "Shows what the run teaches about its robot, then all similar runs.", ("y",), foot=3),
    Command("type_value", "note", "Types a note for the selected run; a run with a note is never deleted by itself.",
            ("equals_sign", "="), foot=4),
    Command("find", "find", "Finds runs by words of their robot, driver, day or note.", ("slash",), foot=4),
    Command("stay", "keep for ever", "Keeps the selected run for ever, or lets it be deleted when space is needed.",
            ("S", "shift+s", "upper_s"), foot=6),
    Command("through", "with this rig", "Simulates the same driver with the open rig, and compares both.",
            ("O", "shift+o", "upper_o"), foot=7),
    Command("learning_drive", "learning drive", "Writes the routine from which most can be learned about a robot, and runs it.",
            ("G", "shift+g", "upper_g"), foot=8),
    Command("turned", "it turned", "Types how far the robot really turned in the selected run, to find the gyro's scale.",
            ("T", "shift+t", "upper_t"), foot=9),
    Command("write_learned", "write into the rig", "Writes what was learned into the open rig, as one step that you can undo.",
            ("W", "shift+w", "upper_w"), foot=5),
    Command("look", "report", "Shows the report of the selected run, or of the two that are compared, as x would save it.",
            (LOOK_KEY, "shift+r", "upper_r"), foot=4),
    Command("delete_run", "delete", "Deletes the selected run.", ("delete",), foot=10),
    Command("restore_run", "restore", "Restores the run that you deleted last.", ("backspace",)),
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
