"""The first hour on the screen: the open task, the measured state of its goal, and the progress."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import tomlkit

from pivrex.errors import PivrexError
from pivrex.files import alone, read_persons, write_atomically
from pivrex.line import Line
from pivrex.rig import Folder, read_text
from pivrex.rig.edit import set_key
from pivrex.rig.rig import Rig
from pivrex.routine.rehearsal import Rehearsed
from pivrex.session.first_hour import BENCH, TASKS, Task, Verdict, bench_reached
from pivrex.session.messages import ChooseSource, Rewire
from pivrex.session.periods import Period
from pivrex.session.places import config_folder
from pivrex.tui.canvas import Canvas
from pivrex.tui.draw.parts import wrapped
from pivrex.tui.draw.picture import Picture
from pivrex.tui.model import ScreenModel
from pivrex.tui.overlays.choices import Choice, Choices
from pivrex.tui.panels.panel import View
from pivrex.tui.views.routine import RoutineView
from pivrex.tui.views.runs import RunsView

if TYPE_CHECKING:
    from textual.app import App

    _Base = App[int]
else:
    _Base = object

__all__ = ["FirstHour", "FirstHourActs"]

DEMO = Path(__file__).parent.parent / "demo"
JUDGED_EVERY_S = 0.3
LARGEST_FILE = 10_000
HIGH_FROM = 30
"""On a screen of fewer lines, goal and help share a place."""

NEEDS = f'the first hour needs the demo\'s robots and its {BENCH}: "pivrex demo" opens them'
OFFER = (
    "New here? The first hour has nine short tasks, from a stick that drifts to a robot on a link: Ctrl+T lists them."
)


class FirstHour:
    """At most one task is open. It works on a copy of a robot, ``rigs/first-hour-N.toml``.

    Attributes
    ----------
    number : int
        Of the open task, from 1; 0 for none.
    verdict : Verdict
        What its goal measures now.
    helps : str
        What is shown of it: "look", "hint" or "answer".
    """

    def __init__(self, model: ScreenModel) -> None:
        self._model = model
        self.number = 0
        self.verdict = Verdict(False, "")
        self.helps = "look"
        self._goal = 0
        """How many of its goals were reached."""
        self._judged_s = 0.0
        self._unheard = 0
        """How many Ticks there were when no robot on a link was heard last."""
        self.done = _read()

    @property
    def task(self) -> Task | None:
        """The open task."""
        return TASKS[self.number - 1] if self.number else None

    @property
    def next(self) -> int:
        """The first task that is not done; 0 if all are."""
        return next((n for n in range(1, len(TASKS) + 1) if n not in self.done), 0)

    def choices(self) -> list[Choice]:
        """List the tasks."""
        said = dict.fromkeys(self.done, "done") | ({self.number: "open"} if self.number else {})
        return [Choice(str(n), f"{n}  {task.name}", said.get(n, "")) for n, task in enumerate(TASKS, 1)]

    # --- beginning and leaving ---

    def begin(self, number: int, again: bool = False) -> str:
        """Open a task, as it was left, or again from its start. Returns the view in which it begins; empty if it cannot."""
        model, task = self._model, TASKS[number - 1]
        refusal = self._refusal()
        if refusal:
            model.say(refusal, alarm=True)
            return ""
        try:
            path = _made(model.folder, number, task, again)
        except (PivrexError, OSError) as problem:
            model.say(str(problem), alarm=True)
            return ""
        model.lay_out("")
        if not model.open_rig(path):
            return ""
        self.number, self._goal, self.helps, self.verdict = number, 0, "look", Verdict(False, "")
        model.ask(Rewire(task.fault))
        model.ask(ChooseSource(f"recording {task.recording}" if task.recording else "keys"))
        return task.view

    def _refusal(self) -> str:
        status, zones = self._model.status, self._model.folder.settings.field
        if zones is None or BENCH not in [z.name for z in zones.zones]:
            return NEEDS
        if status.live or status.linked != "off":
            return "the first hour begins on the simulated robot: Esc stops, and h changes back to it"
        if status.match.period is not Period.OFF:
            return "the first hour waits for the end of the match: L leaves it"
        return ""

    def leave(self) -> None:
        """Close the task; its files stay as they are."""
        if self.number:
            self.number = 0
            self._model.ask(Rewire())

    # --- the goal ---

    def update(self, rehearsed: Rehearsed | None) -> None:
        """Judge the newest Ticks, or the newest rehearsal."""
        task, model, now = self.task, self._model, time.monotonic()
        if model.status.linked != "heard":
            self._unheard = model.trace.newest
        if task is None or model.replay is not None or now - self._judged_s < JUDGED_EVERY_S:
            return
        self._judged_s = now
        if model.file.path.stem != f"first-hour-{self.number}":  # another robot was opened
            self.leave()
            return
        if self._goal >= max(1, len(task.goals)):
            return
        self.verdict = self._judge(task, rehearsed)
        if self.verdict.reached:
            self._goal += 1
            if self._goal >= len(task.goals):
                self._reach()

    def _judge(self, task: Task, rehearsed: Rehearsed | None) -> Verdict:
        model, trace = self._model, self._model.trace
        if not task.goals:
            floor = model.folder.settings.field
            if rehearsed is None or floor is None:
                return Verdict(False, "waits for a rehearsal of the routine")
            return bench_reached(rehearsed, floor)
        count = min(trace.alike, trace.newest - self._unheard if task.linked else trace.alike, len(model.history))
        rows = model.history[len(model.history) - count :]
        if len(rows) < 2 or trace.serial != model.serial:
            return Verdict(False, "waits for a robot on the link" if task.linked else "waits for the robot")
        verdict = task.goals[self._goal](model.line, rows)
        stands = model.status.held and verdict.waits
        return replace(verdict, says=f"{verdict.says}; the robot is stopped, g lets it go on") if stands else verdict

    def _reach(self) -> None:
        self.helps = "answer"
        self.done = {*_read(), *self.done, self.number}
        _write(self.done)
        self._model.say(f"task {self.number} of {len(TASKS)} is done: {TASKS[self.number - 1].name}")

    # --- drawing ---

    def draw(self, width: int, screen: int) -> Picture | None:
        """Draw the strip for a screen that is so high: the task, its goal and what is measured; None without a task."""
        task = self.task
        if task is None:
            return None
        done = self._goal >= max(1, len(task.goals))
        steps = f" ({self._goal + 1} of {len(task.goals)})" if len(task.goals) > 1 and not done else ""
        helps = getattr(task, self.helps).replace("{rig}", str(self._model.file.path))
        lines = [("goal", task.goal, "rest"), ("look at" if self.helps == "look" else self.helps, helps, "target")]
        if screen < HIGH_FROM:
            lines = lines[:1] if self.helps == "look" else lines[1:]
        lines.append(("done" if done else f"now{steps}", self.verdict.says, "measured" if done else "rest"))
        rows = [
            (name if k == 0 else "", text, role)
            for name, said, role in lines
            for k, text in enumerate(wrapped(said, width - 16) or [""])
        ]
        picture = Picture(width, len(rows) + 1)
        picture.across(0, 0, width, "─", "frame")
        keys = " Ctrl+T: hint, answer, other tasks " if width >= 78 else " Ctrl+T "
        title = f" first hour, task {self.number} of {len(TASKS)}: {task.name} "
        picture.text(2, 0, title, "title", width - len(keys) - 4)
        picture.right(width - 2, 0, keys, "dim")
        for y, (name, text, role) in enumerate(rows, 1):
            picture.text(1, y, name, "dim")
            picture.text(14, y, ("✓ " if done and name == "done" else "") + text, role, width - 14)
        return picture


class FirstHourActs(_Base):
    """For the application: lists the tasks, and shows the open one below the view."""

    model: ScreenModel
    views: dict[str, View]
    hour: FirstHour
    newcomer: bool
    """Whether the first hour is offered, until the first key."""
    _parts: dict[str, Canvas]
    show_view: Callable[[str], None]
    _lay_over: Callable[..., None]
    _key_of: Callable[[str], str]

    def follow_hour(self) -> None:
        """Judge the open task."""
        view, found = self.views["routine"], None
        assert isinstance(view, RoutineView)
        job, document = view.helpers.rehearsal, view.routine.document
        own = document.is_open and document.path.stem == self.model.file.path.stem
        if own and job.answered is not None and job.answered.rig is self.model.rig:
            found = job.answer
        self.hour.update(found)

    def show_hour(self, width: int, height: int) -> None:
        """Show the strip of the open task, or the offer."""
        part = self._parts["task"]
        picture = self.hour.draw(width, height) or (_offer(width) if self.newcomer and self.hour.next else None)
        part.display = picture is not None
        if picture is not None:
            part.styles.height = picture.height
            part.show(picture)

    def act_first_hour(self) -> None:
        """List the tasks; one of them is begun, helped with or left."""
        hour = self.hour

        def take(said: str | None) -> None:
            word, _, number = (said or "").rpartition(" ")
            if said in ("hint", "answer"):
                hour.helps = said if hour.number else hour.helps
            elif said == "leave":
                hour.leave()
            elif number.isdigit():
                view = hour.begin(int(number), word == "again")
                if view:
                    self.show_view(view)
                    self._select_today(TASKS[int(number) - 1])
                    for key in self.views[view].setting_keys()[:1]:
                        self.views[view].select(key)

        keys = {"n": "again {}", "h": "hint", "a": "answer", "l": "leave"}
        self._lay_over(
            Choices(
                "first hour", hour.choices, str(hour.number or hour.next or 1), self._key_of("first_hour"), _keys, keys
            ),
            take,
        )

    def _select_today(self, task: Task) -> None:
        """Select today's run of a task that compares two: the drives that go on meanwhile are kept above it."""
        from pivrex.runs.shelf import Shelf

        runs = self.views["runs"]
        if task.before and isinstance(runs, RunsView):
            for run in reversed(Shelf(self.model.folder.path / "runs").runs()):
                if (
                    run.facts is not None
                    and run.facts.rig == self.model.file.path.stem
                    and run.facts.note.startswith("today")
                ):
                    runs.selection.selected = run.name


def _keys() -> str:
    return "Enter begins, n from its start, h hint, a answer, l leaves the task"


def _offer(width: int) -> Picture:
    """Draw the hint for a newcomer that there is a first hour."""
    rows = wrapped(OFFER, width - 4)
    picture = Picture(width, len(rows))
    for y, text in enumerate(rows):
        picture.text(2, y, text, "title")
    return picture


def _made(folder: Folder, number: int, task: Task, again: bool) -> Path:
    """Return the task's rig, made with what belongs to it if it is not there. Raises `PivrexError`."""
    name = f"first-hour-{number}"
    from pivrex.runs.shelf import Shelf  # the first screen need not wait for it

    path, routine = folder.path / "rigs" / f"{name}.toml", folder.path / "routines" / f"{name}.txt"
    if again or not path.exists():
        write_atomically(path, _rig_text(task, task.edits))
    if task.routine and (again or not routine.exists()):
        routine.parent.mkdir(exist_ok=True)
        write_atomically(routine, task.routine)
    if task.before and not any(
        run.facts is not None and run.facts.rig == name for run in Shelf(folder.path / "runs").runs()
    ):
        _keep_days(folder, name, task)
    return path


def _rig_text(task: Task, edits: dict[str, object]) -> str:
    document = tomlkit.parse((DEMO / "rigs" / f"{task.robot}.toml").read_text("utf-8"))
    for key, value in edits.items():
        set_key(document, key, value)
    return tomlkit.dumps(document)


def _keep_days(folder: Folder, name: str, task: Task) -> None:
    """Keep two runs of the same driver: one through yesterday's rig, one through today's."""
    from pivrex.formats.recording import Recording
    from pivrex.runs.facts import Facts
    from pivrex.runs.through import keep_rows
    from pivrex.runs.ticks import play_through

    now = datetime.now().astimezone().replace(microsecond=0)
    recording = Recording(folder.path / "inputs" / f"{task.recording}.csv")
    days = (
        (now - timedelta(days=1), {**task.edits, **task.before}, "yesterday: it stops as it should"),
        (now - timedelta(minutes=5), task.edits, "today: it rolls on after the stick is let go"),
    )
    for began, edits, note in days:
        text = _rig_text(task, edits)
        rig = read_text(text, folder.path / "rigs" / f"{name}.toml", Rig)
        rows = play_through(rig, recording, folder.settings.field, every_tick=True, own_body=True)
        line = Line(rig)
        facts = Facts(
            rig.name, name, began, round(1 / line.dt_s, 6), drivers=(f"recording {task.recording}",), note=note
        )
        keep_rows(
            folder.path / "runs" / f"{began:%Y%m%d-%H%M%S}-{name}", facts, line, text, folder.settings.field, rows
        )


def _file() -> Path:
    return config_folder() / "first-hour.txt"


def _read() -> set[int]:
    """Return the tasks that are done. A file that cannot be read is as good as none."""
    with suppress(PivrexError, OSError, ValueError):
        return {int(word) for word in read_persons(_file(), LARGEST_FILE).split() if 0 < int(word) <= len(TASKS)}
    return set()


def _write(done: set[int]) -> None:
    """Keep which tasks are done. Where that cannot be written they are forgotten; driving goes on."""
    with suppress(PivrexError, OSError):
        _file().parent.mkdir(parents=True, exist_ok=True)
        with alone(_file()):
            write_atomically(_file(), " ".join(str(n) for n in sorted(done)) + "\n")
