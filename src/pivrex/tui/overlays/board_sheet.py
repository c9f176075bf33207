"""The program of the robot's board, written from the open rig: what fits, the pins, and how to load it."""

from __future__ import annotations

from pathlib import Path
from textwrap import wrap

from pivrex.board.report import BoardReport, reported
from pivrex.board.steps import Task
from pivrex.line.beginning import start_of
from pivrex.rig import Field
from pivrex.rig.rig import Rig
from pivrex.tui.draw.picture import Picture
from pivrex.tui.jobs.job import Job, Progress
from pivrex.tui.model import ScreenModel
from pivrex.tui.overlays.sheet import Sheet

__all__ = ["BoardWriting", "board_sheet", "draw_board"]

BAR = 24
WIDE = 74
"""From here on the pins stand in two columns."""


Question = tuple[Rig, Path, Field | None, Task | None]


def _write(question: Question, progress: Progress) -> BoardReport:
    rig, folder, field, task = question
    return reported(rig, folder, "avr", start_of(field), task)


class BoardWriting:
    """Writes the program in another process, and draws the result.

    Attributes
    ----------
    report : BoardReport or None
        None while it is being written.
    """

    def __init__(self, model: ScreenModel) -> None:
        self._job: Job[Question, BoardReport] = Job("pivrex-board", _write, patient=False)
        folder, task = model.folder, model.documents.task(model.rig, model.say)
        self._job.ask((model.rig, folder.path / "boards" / model.rig_name, folder.settings.field, task))
        self.report: BoardReport | None = None

    def drawn(self, width: int) -> Picture:
        for _, report in self._job.poll():
            self.report = report
            self.close()
        return draw_board(self.report, self._job.problem, width)

    def close(self, _result: object = None) -> None:
        self._job.close()


def board_sheet(writing: BoardWriting, key: str) -> Sheet:
    """Return the sheet that shows it."""
    return Sheet("the robot's board", key, writing.drawn, goes_on=True)


def draw_board(report: BoardReport | None, problem: str, width: int) -> Picture:
    """Draw what was written, as high as it is; None while it is being written."""
    if report is None:
        picture = Picture(width, 3)
        picture.text(1, 1, problem or "writing and building the program ...", "alarm" if problem else "dim", width - 2)
        return picture
    lines = [(line, named) for text, named in _said(report) for line in wrap(text, width - 3, subsequent_indent="  ")]
    bars = (2 + (report.fit.busy is not None)) if report.fit is not None and report.fit.flash_of else 0
    halves = -(-len(report.pins) // 2) if width >= WIDE else len(report.pins)
    picture = Picture(
        width, len(lines) + 1 + (bars + 2 if report.fit is not None else 0) + (halves + 3 if report.pins else 0) + 3
    )
    y = 1
    for text, named in lines:
        picture.text(1, y, text, named, width - 2)
        y += 1
    if report.fit is not None:
        y = _fit(picture, report, y + 1)
    if report.pins:
        y = _pins(picture, report, y + 1, halves)
    if not report.wrong:
        picture.text(1, y + 1, "onto the board:", "title")
        picture.text(1, y + 2, report.how, "chosen", width - 2)
    return picture


def _said(report: BoardReport) -> list[tuple[str, str]]:
    """Return what was written, or why nothing was, each with its role."""
    if report.wrong:
        head = f"The {report.chip} cannot be this robot's board as the rig has it; nothing was written:"
        return [(head, "alarm"), *((f"! {what}", "alarm") for what in report.wrong)]
    said = [(f"{len(report.files)} files in {report.folder}, rig hash {report.hash}; it {report.does}", "rest")]
    said += [("mine.c stays as it was: it is yours", "dim")] if report.kept else []
    return said + [(what, "dim") for what in report.missing]


def _fit(picture: Picture, report: BoardReport, y: int) -> int:
    fit = report.fit
    assert fit is not None
    if not fit.flash_of:
        picture.text(1, y, fit.said, "alarm" if fit.refused else "dim", picture.width - 2)
        return y + 1
    rows = [(name, used / of, f"{used:,} of {of:,} bytes") for name, used, of in (
        ("flash", fit.flash, fit.flash_of), ("memory", fit.ram, fit.ram_of))]  # fmt: skip
    if fit.busy is not None:
        rows.append(("time", fit.busy, f"{100 * fit.busy:.0f} % of each tick, at full speed"))
    for name, share, said in rows:
        picture.text(1, y, name, "title")
        filled = min(BAR, round(BAR * share))
        picture.text(9, y, "█" * filled, "alarm" if fit.refused else "measured")
        picture.text(9 + filled, y, "░" * (BAR - filled), "dim")
        picture.text(10 + BAR, y, said, "rest", picture.width - 12 - BAR)
        y += 1
    return y


def _pins(picture: Picture, report: BoardReport, y: int, halves: int) -> int:
    """Draw the chip as a block with its pins at both sides, each with what sits on it."""
    two = halves < len(report.pins)
    left = picture.width // 2 - 9 if two else 1
    picture.text(left, y, f"┌{report.chip:─^16}┐" if two else report.chip, "frame")
    for k in range(halves):
        y += 1
        name, use = report.pins[k]
        if not two:
            picture.text(1, y, f"{name:>3}  {use or 'free'}", "rest" if use else "dim", picture.width - 2)
            continue
        shown = use[: left - 3]
        picture.text(left - 2 - len(shown), y, shown, "rest")
        picture.text(left, y, f"┤{name:<8}", "title" if use else "dim")
        name, use = report.pins[halves + k] if halves + k < len(report.pins) else ("", "")
        picture.text(left + 9, y, f"{name:>8}{'├' if name else '│'}", "title" if use else "dim")
        picture.text(left + 20, y, use, "rest", picture.width - left - 21)
    if two:
        y += 1
        picture.text(left, y, f"└{'─' * 16}┘", "frame")
    return y + 1
