"""The list of runs with their small paths: select, find, note, keep or delete one."""

from __future__ import annotations

from collections.abc import Callable
from textwrap import wrap

import numpy as np

from pivrex.errors import PivrexError, UnitError
from pivrex.runs.facts import UNMARKED
from pivrex.runs.shelf import Shelved
from pivrex.scene.scene import Box, Scene
from pivrex.tui.draw.cells import print_scene
from pivrex.tui.draw.picture import Picture
from pivrex.tui.jobs.run_questions import Went
from pivrex.tui.panels.panel import Panel, View
from pivrex.tui.panels.run_selection import RunSelection

__all__ = ["RunList"]

EACH = 4
"""Rows of a run in the list."""

SMALL_W, SMALL_H = 9, 3

BYTES = 3.0
"""A number of a Tick takes about so many on the disk, once it is compressed."""


def first_shown(count: int, selected: int, room: int) -> int:
    """Return the first run of the list that is seen, so that the selected one is."""
    return min(max(0, selected - room // 2), max(0, count - room))


class RunList(Panel):
    """The runs that were kept. A click selects one, a second plays it."""

    def __init__(self, view: View, selection: RunSelection) -> None:
        super().__init__(view)
        self.selection = selection

    def update(self) -> None:
        selection = self.selection
        runs = selection.shown()
        room, names = room_for(self.view.size.height or 38), [r.name for r in runs]
        first = first_shown(len(runs), names.index(selection.selected) if selection.selected in names else 0, room)
        selection.look([r.name for r in runs[first : first + room] if r.facts is not None])
        if selection.new:
            self.model.say(f"simulated with {self.model.file.path.stem}: {selection.new}")
            selection.new = ""

    def close(self) -> None:
        self.selection.close()

    def draw(self, width: int, height: int) -> Picture:
        picture, selection, much = Picture(width, height), self.selection, self._much()
        runs = selection.shown()
        found = f", {len(runs)} found" if selection.find else ""
        total = len(selection.listed.runs) if selection.listed is not None else 0
        at = picture.text(1, 0, "runs", "title")
        picture.text(at + 2, 0, f"{total} kept{found}" if selection.listed is not None else "looking ...", "dim")
        if selection.find:
            picture.right(width - 1, 0, f"find: {selection.find}", "chosen")
        elif selection.listed is not None:
            picture.right(width - 1, 0, f"{selection.listed.size / 1e6:.1f} MB", "dim")
        rule = (
            wrap(selection.listed.rule, max(20, width - 2))[:3] if selection.listed is not None and height >= 24 else []
        )
        if rule and much and height >= 30:
            picture.text(1, height - 5, much, "dim", width - 2)
        room = room_for(height)
        names = [r.name for r in runs]
        selected = names.index(selection.selected) if selection.selected in names else 0
        first = first_shown(len(runs), selected, room)
        for k, run in enumerate(runs[first : first + room]):
            _entry(picture, 2 + k * EACH, width, run, selection)
        if not runs and selection.listed is not None:
            said = "nothing is found" if selection.find else "nothing was kept yet: drive, and it is"
            picture.text(1, 2, said, "rest", width - 2)
        if first + room < len(runs):
            picture.text(
                1,
                height - 6 if height >= 30 else height - 4 if rule else height - 1,
                f"↓ {len(runs) - first - room} more",
                "dim",
            )
        for k, line in enumerate(rule):
            picture.text(1, height - 3 + k, line, "dim", width - 2)
        return picture

    def _much(self) -> str:
        """Return how much the last minutes are, for this rig's rate and columns."""
        model = self.model
        columns, rate = len(model.line.layout), 1 / model.line.dt_s
        last_s = model.folder.settings.keep.last_s
        return (
            f"{last_s / 60:g} min here: {rate:g} Hz, {columns} columns, {columns * rate * last_s * BYTES / 1e6:.0f} MB"
        )

    # --- what is done with one ---

    def press(self, what: str, value: str) -> bool:
        if what == "run":
            if self.selection.selected == value:
                self.act_open_run()
            self.selection.selected = value
        return what == "run"

    def act_previous_setting(self) -> None:
        self.selection.walk(-1)

    def act_next_setting(self) -> None:
        self.selection.walk(1)

    def act_open_run(self) -> None:
        """Play the selected run in every view."""
        if self.selection.selected and self.model.run.open(self.selection.folder / self.selection.selected):
            self.view.app.show_view("field")

    def act_mark_run(self) -> None:
        if self.selection.selected:
            self.model.say(self.selection.mark())

    def act_stay(self) -> None:
        self._safely(self.selection.stay)

    def act_delete_run(self) -> None:
        def take() -> str:
            name = self.selection.delete_run()
            return f"{name} is deleted; Backspace brings it back" if name else ""

        self._safely(take)

    def act_restore_run(self) -> None:
        def back() -> str:
            name = self.selection.restore_run()
            return f"{name} is back" if name else "nothing was deleted"

        self._safely(back)

    def act_find(self) -> None:
        def take(text: str) -> None:
            self.selection.find = text.strip()
            self.selection.walk(0)

        allowed = "a robot, a driver, a day, a word of a note; empty shows all"
        self.view.ask("find", self.selection.find, allowed, take)

    def act_type_value(self) -> None:
        def take(text: str) -> None:
            try:
                self.selection.note(text)
            except PivrexError as problem:
                raise UnitError(str(problem)) from None

        run = self.selection.run(self.selection.selected)
        if run is not None:
            note = run.facts.note if run.facts is not None else ""
            self.view.ask("note", note, "is kept with the run, and lets it stay", take)

    def _safely(self, do: Callable[[], str]) -> None:
        try:
            said = do()
        except PivrexError as problem:
            self.model.say(str(problem), alarm=True)
        else:
            if said:
                self.model.say(said)


def room_for(height: int) -> int:
    """Return how many runs a list of a height shows."""
    return max(1, (height - (8 if height >= 30 else 6 if height >= 24 else 3)) // EACH)


def _entry(picture: Picture, y: int, width: int, run: Shelved, selection: RunSelection) -> None:
    here, marked = run.name == selection.selected, run.name == selection.marked or run.name in selection.also
    if here:
        picture.fill(0, y, width - 1, "floor", SMALL_H)
        for row in range(SMALL_H):
            picture.text(0, y + row, "▌", "chosen")
    picture.spot(0, y, width - 1, "run", run.name, SMALL_H)
    went = selection.went.get(run.name)
    if went is not None:
        _small(picture, 2, y, went, _role(run.name, selection))
    x = SMALL_W + 4
    room = max(0, width - x - 1)
    facts = run.facts
    if facts is None:
        picture.text(x, y, run.name, "title", room)
        picture.text(x, y + 1, f"! {run.problem}", "alarm", room)
        return
    name = f"{facts.robot}  {facts.began.astimezone():%d %b %H:%M:%S}"
    picture.text(x, y, ("+ " if marked else "") + name, "chosen" if here else "title", room)
    who = ", ".join(facts.drivers) or "no one"
    said = f"{facts.ticks / facts.rate_hz:.0f} s, {who}" if facts.ended is not None else "being written, or cut off"
    bumps = facts.figures.get("bumps", 0)
    picture.text(x, y + 1, said, "rest", room - 6 if bumps else room)
    if bumps:
        picture.right(width - 2, y + 1, f"▲ {bumps:.0f}", "alarm")
    kept = "the last minutes" if facts.kept == UNMARKED else facts.kept
    said = facts.note or (f"kept: {kept}" + (", thinned" if facts.thinned else ""))
    picture.text(x, y + 2, said, "rest" if facts.note else "dim", room)


def _role(name: str, selection: RunSelection) -> str:
    """Return the role in which a run is drawn: the same in the list as in a comparison."""
    if not selection.marked or selection.marked in {selection.selected, name}:
        return "measured"
    return "commanded" if name == selection.selected else "ghost"


def _small(picture: Picture, x: int, y: int, went: Went, named: str) -> None:
    if len(went.points):
        points = went.points
        low = np.minimum(points.min(axis=0), 0.0)
        high = np.maximum(points.max(axis=0), (went.length_m, went.width_m))
        scene = Scene(Box(*low.tolist(), *high.tolist()))
        scene.line(points, named, 0.4)
        picture.place(print_scene(scene, SMALL_W, SMALL_H), x, y)
