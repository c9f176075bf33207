"""The state of the view Runs: the list, the selected and the compared run, and the answers so far."""

from __future__ import annotations

import contextlib
import shutil
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

from pivrex.errors import PivrexError, SaveError
from pivrex.files import resolved
from pivrex.rig.field import Keep
from pivrex.runs.facts import UNMARKED, read_facts, write_facts
from pivrex.runs.learning import Learning
from pivrex.runs.shelf import Shelved, gone_folder
from pivrex.session.keeping import BY_KEY
from pivrex.tui.jobs.run_questions import ComparedRuns, Listed, OpenRun, Report, Went, run_job

__all__ = ["RunSelection"]

LOOK_EVERY_S = 1.0


class RunSelection:
    """The runs of a workspace, and the process in the background that reads them.

    Attributes
    ----------
    listed : Listed or None
        None before the first answer.
    went : dict of str to Went
        For small pictures.
    run_shown, compared, learned, report : the newest answers
    selected, marked : str
        Names of runs; empty for none. ``marked`` is the first of those that lie over each other.
    also : list of str
        More runs that lie under them.
    by : str
        What two are lined up by.
    find : str
        What is searched for in names, notes, robots, drivers.
    problem : str
        Why the last question could not be answered.
    """

    def __init__(self, folder: Path, settings: Keep) -> None:
        self.folder = folder
        self._job = run_job(folder, settings)
        self.listed: Listed | None = None
        self.went: dict[str, Went] = {}
        self.run_shown: OpenRun | None = None
        self.compared: ComparedRuns | None = None
        self.learned: Learning | None = None
        self.report: Report | None = None
        self.learned_of: tuple[Any, ...] = ()
        self.selected = self.marked = self.find = ""
        self.also: list[str] = []
        self.by = "start"
        self.problem = ""
        self.new = ""
        """A run that was made here since the last look."""
        self._looked_s = -LOOK_EVERY_S
        self._gone: list[str] = []

    # --- asking ---

    def look(self, wants: list[str]) -> None:
        """Take answers, look again at the folder, and ask for the small pictures of runs that are seen."""
        for question, answer in self._job.poll():
            self._take(question, answer)
        if self._job.problem:
            refused, why, self._job.problem = self._job.refused, self._job.problem, ""
            self.problem = self.problem if refused and refused[0] == "went" else why
        now = time.monotonic()
        if now - self._looked_s >= LOOK_EVERY_S:
            self._looked_s = now
            self.ask("list")
        for name in wants:
            if name not in self.went:
                self.ask("went", self.folder / name)

    def ask(self, *question: Any) -> None:
        """Ask something, unless that is asked already."""
        self._job.ask(question)

    def waits_for(self, word: str) -> bool:
        """Return whether an answer of a kind is still to come."""
        return self._job.awaits(word)

    def _take(self, question: tuple[Any, ...], answer: object) -> None:
        if isinstance(answer, Listed):
            self._take_list(answer)
        elif isinstance(answer, Went):
            self.went[answer.name] = answer
        else:
            self.problem = ""
            self._take_answer(question, answer)

    def _take_answer(self, question: tuple[Any, ...], answer: object) -> None:
        if isinstance(answer, OpenRun):
            self.run_shown = answer
        elif isinstance(answer, ComparedRuns):
            self.compared = answer
        elif isinstance(answer, Report):
            self.report = answer
        elif isinstance(answer, Learning):
            self.learned, self.learned_of = answer, question
        elif isinstance(answer, tuple):
            self.marked, self.selected = answer
            self.new = answer[1]

    def _take_list(self, listed: Listed) -> None:
        before = {r.name: r for r in self.listed.runs} if self.listed is not None else {}
        for run in listed.runs:
            if run.name in before and before[run.name] != run:
                self.went.pop(run.name, None)  # it has grown
        self.listed = listed
        shown = self.shown()
        if self.selected not in [
            r.name for r in shown
        ]:  # rather what was just driven than the minutes that have begun since
            ended = [r for r in shown if r.facts is not None and r.facts.ended is not None]
            self.selected = next((r.name for r in ended or shown), "")

    # --- the list ---

    def shown(self) -> list[Shelved]:
        """Return the runs that are searched for, the newest first."""
        runs = list(self.listed.runs) if self.listed is not None else []
        words = self.find.lower().split()
        return [r for r in runs if all(word in _words_of(r) for word in words)]

    def walk(self, steps: int) -> None:
        """Select another."""
        names = [r.name for r in self.shown()]
        if names:
            at = names.index(self.selected) if self.selected in names else 0
            self.selected = names[min(max(0, at + steps), len(names) - 1)]

    def run(self, name: str) -> Shelved | None:
        """Return a run of the list by its name."""
        return next((r for r in self.listed.runs if r.name == name), None) if self.listed is not None else None

    def mark(self) -> str:
        """Make the selected run the first to compare, or one more; again removes it. Returns a message."""
        name = self.selected
        if self._unmark(name):
            return f"{name} is no longer there"
        if self.marked:
            self.also.append(name)
            return f"{name} lies there too"
        self.marked = name
        return f"{name} is the first: select another to compare"

    def _unmark(self, name: str) -> bool:
        """Remove a run from the comparison; returns whether it was one of them."""
        if name in self.also:
            self.also.remove(name)
        elif name and name == self.marked:
            self.marked = self.also.pop(0) if self.also else ""
        else:
            return False
        return True

    # --- what is changed of a run ---

    def note(self, text: str) -> None:
        """Write a note next to the selected run. Raises `PivrexError`."""
        folder = self.folder / self.selected
        write_facts(folder, replace(read_facts(folder), note=" ".join(text.split())))
        self._looked_s = -LOOK_EVERY_S

    def stay(self) -> str:
        """Let the selected run stay, or no longer if only a key let it; says which. Raises `PivrexError`."""
        folder = self.folder / self.selected
        facts = read_facts(folder)
        stays = {UNMARKED: BY_KEY, BY_KEY: UNMARKED}.get(facts.kept, facts.kept)
        write_facts(folder, replace(facts, kept=stays))
        self._looked_s = -LOOK_EVERY_S
        return f"{self.selected} stays" if stays != UNMARKED else f"{self.selected} makes room for newer ones"

    def delete_run(self) -> str:
        """Delete the selected run, so that it can be brought back; returns its name. Raises `PivrexError`."""
        name = self.selected
        facts = self.run(name)
        if facts is None:
            return ""
        if facts.facts is not None and facts.facts.ended is None and _is_fresh(self.folder / name):
            raise PivrexError(f"{name} is still being written")
        try:
            (self.folder / name).rename(gone_folder(self.folder) / name)
        except OSError as problem:
            raise PivrexError(f"{name} cannot be deleted: {problem.strerror}") from None
        self.walk(1)
        if self.selected == name:
            self.walk(-1)
        self._gone.append(name)
        self._unmark(name)
        self._looked_s = -LOOK_EVERY_S
        return name

    def restore_run(self) -> str:
        """Bring back what was taken away last; returns its name, empty if nothing was. Raises `PivrexError`."""
        if not self._gone:
            return ""
        name = self._gone.pop()
        try:
            (gone_folder(self.folder) / name).rename(self.folder / name)
        except OSError as problem:
            raise PivrexError(f"{name} cannot be brought back: {problem.strerror}") from None
        self.selected = name
        self._looked_s = -LOOK_EVERY_S
        return name

    def close(self) -> None:
        """End the process next to, and let go of what was taken away."""
        self._job.close()
        if self._gone:
            with contextlib.suppress(OSError, SaveError):
                gone = gone_folder(self.folder)
                for name in self._gone:
                    shutil.rmtree(gone / name, ignore_errors=True)
                gone.rmdir()


def _is_fresh(folder: Path) -> bool:
    with contextlib.suppress(OSError):
        return time.time() - max(p.stat().st_mtime for p in resolved(folder).iterdir()) < 60
    return False


def _words_of(run: Shelved) -> str:
    f = run.facts
    said = [run.name, run.problem]
    if f is not None:
        said += [f.robot, f.rig, f.kept, f.note, f.routine, *f.drivers, f"{f.began.astimezone():%d %B %Y %a}"]
    return " ".join(said).lower()
