"""Editing a path in the Field view: its keys, the mouse, and the numbers next to it."""

from __future__ import annotations

from collections.abc import Callable
from math import hypot
from pathlib import Path as FilePath

import numpy as np
from numpy.typing import NDArray

from pivrex.errors import PivrexError, UnitError
from pivrex.path.edit import added, changed, looking_so, mirrored, removed, reversed_, segment_near
from pivrex.path.files import path_text
from pivrex.routine.trial import program_following
from pivrex.scene.scene import Placing
from pivrex.session.messages import StartPeriod
from pivrex.session.periods import Period
from pivrex.tui.commands import Command
from pivrex.tui.documents.path_document import PathDocument, first_path
from pivrex.tui.draw.picture import Picture
from pivrex.tui.jobs.path_trial import PathTrial, ToTry
from pivrex.tui.model import ScreenModel
from pivrex.tui.overlays.choices import Choice
from pivrex.tui.panels.file_list import FileList, Kind
from pivrex.tui.panels.panel import Changes, Panel, View
from pivrex.tui.panels.path_drawing import PathDrawing

__all__ = ["PATH_COMMANDS", "PathEditor"]

Floats = NDArray[np.float64]

STEP_M, FINE_M = 0.05, 0.01
REACH_CELLS = 2
ARROWS = {"left": (-1, 0), "right": (1, 0), "up": (0, 1), "down": (0, -1)}
SEED = 1
LOOKS = {
    "along": "along the path",
    "fixed": "always the same way",
    "towards": "towards a place",
    "evenly": "turning evenly from its start to its end",
    "points": "as its points say",
}


CLOSED = "no path is open; P opens one"


def _drawing(model: ScreenModel) -> bool:
    return model.drawing is not None


PATH_COMMANDS = (
    Command("path", "path", "Opens a path on the field, to draw, check and drive it; again closes it.", ("P", "shift+p", "upper_p"),
            foot=4),
    Command("path_choose", "which path", "Lists the paths of this workspace: opens, makes, renames, duplicates or deletes one.",
            ("c",), foot=2, available=_drawing, needs=CLOSED),
    Command("path_next", "next point", "Chooses the path's next point.", ("full_stop", "."), ". ,", foot=2, available=_drawing, needs=CLOSED),
    Command("path_previous", "point before", "Chooses the path's previous point.", ("comma", ","), ",", available=_drawing, needs=CLOSED),
    Command("path_move", "move", "Moves the chosen point by 5 cm, with shift by 1 cm; so does dragging it. The other keys of a list "
            "are the path's too while it is open.", (), "←↑↓→", foot=2, available=_drawing, needs=CLOSED),
    Command("path_add", "add", "Adds a point half way to the next; a click on the floor adds one there.", ("plus", "+"), "+", foot=2,
            available=_drawing, needs=CLOSED),
    Command("path_remove", "delete", "Deletes the chosen point.", ("minus", "-"), "-", foot=2, available=_drawing, needs=CLOSED),
    Command("path_type", "type it", "Types the chosen point's place and direction, such as 1.20 m, 0.75 m, 90 deg.", ("y",), foot=2,
            available=_drawing, needs=CLOSED),
    Command("path_limits", "limits", "Lists the top speed, acceleration and turn of the path, and its slow zones, to change them.",
            ("A", "shift+a", "upper_a"), foot=2, available=_drawing, needs=CLOSED),
    Command("path_stop", "stop there", "Turns a stop at the chosen point on or off.", ("T", "shift+t", "upper_t"),
            available=_drawing, needs=CLOSED),
    Command("path_reverse", "reverse", "Reverses the path.", ("v",), available=_drawing, needs=CLOSED),
    Command("path_look", "face", "Chooses which way the robot faces along the path.", ("G", "shift+g", "upper_g"),
            available=_drawing, needs=CLOSED),
    Command("path_mirror", "mirror", "Mirrors the path, for the other side of the floor.", ("V", "shift+v", "upper_v"), foot=2,
            available=_drawing, needs=CLOSED),
    Command("path_corrections", "corrections off", "Simulates it without the corrections, or with them; the previous run stays as a ghost.",
            ("C", "shift+c", "upper_c"), foot=2, available=_drawing, needs=CLOSED),
    Command("path_planned", "planned off", "Simulates it without the planned motion, by corrections alone, or with it.",
            ("O", "shift+o", "upper_o"), available=_drawing, needs=CLOSED),
    Command("path_drive", "drive it", "Lets the robot drive the path alone.", ("D", "shift+d", "upper_d"), foot=2,
            available=_drawing, needs=CLOSED),
)  # fmt: skip


class PathEditor(Panel):
    """A path of the workspace, drawn on the field, with its figures next to it. Open or not, it keeps its path.

    Attributes
    ----------
    open : bool
    document : PathDocument
    trying : PathTrial
    drawn : PathDrawn
    feeds : (bool, bool)
        Whether the planned motion counts in what is tried, and whether the corrections do.
    """

    def __init__(self, view: View) -> None:
        super().__init__(view)
        self.document, self.trying = PathDocument(), PathTrial()
        self.drawn = PathDrawing(self.model, self.document, self.trying)
        self.open = False
        self.feeds = (True, True)
        self._held = False
        kind = Kind("path", "paths", ".toml", lambda _: path_text(first_path(self.model.folder.settings.field)))
        self.files = FileList(view, kind, self._open)

    def depends(self) -> tuple[object, ...] | None:
        if self.model.drives_alone:
            return None
        document, trying = self.document, self.trying
        tried = trying.now, trying.before, trying.goes_on, self.feeds
        return (
            document.content,
            document.mark,
            document.held,
            document.problem,
            *tried,
            self.model.serial,
            self.model.folder.settings.field,
        )

    def draw(self, width: int, height: int) -> Picture:
        picture = Picture(width, height)
        self.drawn.draw_side_by_side(picture, 0, width, height)
        return picture

    # --- open and closed ---

    def act_path(self) -> None:
        """Open it, with the first path of the workspace, or close it."""
        paths = self.model.folder.paths()
        if not self.open and not self.document.is_open and not paths:
            self.files.ask_new()  # it opens once it is there
            return
        self.open = not self.open
        if self.open and not self.document.is_open:
            self.document.open(next(iter(paths.values())))
        self._tell()

    def _tell(self) -> None:
        self.model.drawing = self.document.path if self.open else None

    def close(self) -> None:
        self.trying.close()

    def act_path_choose(self) -> None:
        """Ask which path."""
        self.files.choose(self.document.path if self.document.is_open else None, "c")

    def _open(self, path: FilePath) -> None:
        self.document.open(path)
        self.open = True
        self._tell()
        self._say_wrong()

    def _say_wrong(self) -> None:
        if self.document.problem:
            self.model.say(self.document.problem, alarm=True)

    def update(self) -> None:
        if not self.open:
            return
        if not self.model.drives_alone:
            found = self.document.look_outside()
            if found:
                self.model.say(found, alarm=bool(self.document.problem))
        self.trying.want(self._job())
        self.trying.poll()
        self._tell()

    def _job(self) -> ToTry | None:
        path, rig, field = self.document.content, self.model.rig, self.model.folder.settings.field
        if path is None or self.document.held:
            return None
        if any(hard for hard, _ in self.document.troubles(rig, field)):
            return None
        return ToTry(path, rig, field, self.feeds, SEED)

    # --- changes ---

    def _take(self, problem: str, done: str = "") -> None:
        if problem:
            self.model.say(problem, alarm=True)
        elif done:
            self.model.say(done)

    def take_key(self, key: str) -> bool:
        """Take the keys that mean the path while it is open, and something else while it is not."""
        if not self.open:
            return False
        fine, name = key.startswith("shift+"), key.removeprefix("shift+")
        if name in ARROWS:
            self.nudge(*ARROWS[name], FINE_M if fine else STEP_M)
        elif key == "u":
            self._walk_steps(self.document.undo, "nothing of this path can be undone")
        elif key in ("U", "shift+u", "upper_u"):
            self._walk_steps(self.document.redo, "nothing of this path can be redone")
        else:
            return False
        return True

    def changes(self) -> Changes | None:
        if not self.open or self.document.content is None:
            return None
        return self.document, lambda at: self._walk_steps(lambda: self.document.go_to(at), "it is so already")

    def _walk_steps(self, step: Callable[[], str], none: str) -> None:
        try:
            self._take("" if self.document.content is not None and step() else none)
        except PivrexError as problem:
            self._take(str(problem))

    def nudge(self, right: int, up: int, by_m: float) -> None:
        """Move the chosen point."""
        document = self.document
        if document.content is None:
            return
        p = document.content.points[document.mark]
        x, y = round(p.x_m + right * by_m, 3), round(p.y_m + up * by_m, 3)
        self._take(document.put(changed(document.content, document.mark, x_m=x, y_m=y)))

    def act_path_move(self) -> None:
        self.model.say("the arrows move the chosen point by 5 cm, with shift by 1 cm; so does dragging it")

    def _walk(self, by: int) -> None:
        if self.document.content is not None:
            self.document.mark = (self.document.mark + by) % len(self.document.content.points)

    def act_path_next(self) -> None:
        self._walk(1)

    def act_path_previous(self) -> None:
        self._walk(-1)

    def act_path_add(self) -> None:
        """Add a point half way to the next, or behind the last."""
        document = self.document
        plan = document.plan(self.model.rig)
        if document.content is None or plan is None:
            return
        k = document.mark
        if k + 1 < len(document.content.points):
            middle = (plan.curve.of[k] + plan.curve.of[k + 1]) // 2
            x, y = float(plan.curve.x[middle]), float(plan.curve.y[middle])
        else:
            angle = plan.curve.angle[-1]
            p = document.content.points[k]
            x, y = p.x_m + 0.5 * float(np.cos(angle)), p.y_m + 0.5 * float(np.sin(angle))
        self._take(document.put(added(document.content, k, round(x, 3), round(y, 3)), k + 1))

    def act_path_remove(self) -> None:
        document = self.document
        if document.content is not None:
            self._take(document.put(removed(document.content, document.mark), max(0, document.mark - 1)))

    def act_path_reverse(self) -> None:
        document = self.document
        if document.content is not None:
            self._take(
                document.put(reversed_(document.content), len(document.content.points) - 1 - document.mark),
                "run the other way",
            )

    def act_path_stop(self) -> None:
        document = self.document
        if document.content is not None:
            stops = not document.content.points[document.mark].stop
            self._take(
                document.put(changed(document.content, document.mark, stop=stops)),
                "it stops there" if stops else "it does not stop there",
            )

    def act_path_mirror(self) -> None:
        """Ask where to, and mirror it."""
        choices = [
            Choice("end", "to the other end", "left and right of this drawing change places"),
            Choice("side", "to the other side", "top and bottom change places"),
        ]

        def take(chosen: str) -> None:
            document = self.document
            if document.content is not None:
                made = mirrored(document.content, self.model.folder.settings.field, chosen)
                self._take(document.put(made), "mirrored; u undoes it")

        self.view.choose("mirror the path", lambda: choices, "end", "V", take)

    def act_path_look(self) -> None:
        """Ask which way the robot looks along it."""
        plan = self.document.plan(self.model.rig)
        if self.document.content is None or plan is None:
            return
        choices = [Choice(kind, kind, what) for kind, what in LOOKS.items()]

        def take(chosen: str) -> None:
            document = self.document
            if document.content is not None:
                ends = float(plan.curve.angle[0]), float(plan.curve.angle[-1])
                made = looking_so(document.content, chosen, *ends, self.model.folder.settings.field)
                self._take(document.put(made), f"it faces {chosen}; the numbers stand in its file")

        self.view.choose("which way does the robot face?", lambda: choices, self.document.content.heading, "G", take)

    def act_path_type(self) -> None:
        """Ask for the chosen point's place."""
        if self.document.content is not None:
            self.view.ask(
                f"point {self.document.mark + 1}",
                self.document.as_typed(),
                "X, Y [, DIRECTION] [facing HEADING]",
                self._typed,
            )

    def _typed(self, text: str) -> None:
        problem = self.document.put(self.document.typed(text))
        if problem:
            raise UnitError(problem)

    def act_path_corrections(self) -> None:
        self._switch(1)

    def act_path_planned(self) -> None:
        self._switch(0)

    def _switch(self, half: int) -> None:
        """Leave the planned motion (0) or the corrections (1) out of what is tried, or take them in again."""
        feeds = list(self.feeds)
        feeds[half] = not feeds[half]
        if not any(feeds):
            self.model.say("one of the two must be left: nothing would move", alarm=True)
            return
        self.feeds = (feeds[0], feeds[1])

    def act_path_drive(self) -> None:
        """Let the robot drive it, alone and by the clock."""
        document, model = self.document, self.model
        if document.content is None:
            return
        hard = [what for kept, what in document.troubles(model.rig, model.folder.settings.field) if kept]
        if hard:
            model.say(f"it cannot be driven: {hard[0]}", alarm=True)
            return
        name = document.path.stem if document.is_open else "path"
        model.choose_routine(program_following(document.content, model.rig, name, self.feeds), document)
        model.ask(StartPeriod(Period.ALONE, only=True))

    def point_on(self, placing: Placing, x: int, y: int, phase: str) -> None:
        """Take the mouse: a point that is taken is dragged; a click on the floor adds one there."""
        document = self.document
        if document.content is None:
            return
        at_x, at_y = placing.units(x, y)
        if phase == "press":
            cells = [placing.cell(p.x_m, p.y_m) for p in document.content.points]
            away = [hypot(cx - x, 2 * (cy - y)) for cx, cy in cells]
            k = int(np.argmin(away))
            self._held = away[k] <= REACH_CELLS
            if self._held:
                document.mark = k
            elif placing.holds(x, y):
                segment, _ = segment_near(document.content, at_x, at_y)
                ends = document.content.points[0], document.content.points[-1]
                reach = [hypot(p.x_m - at_x, p.y_m - at_y) for p in ends]
                plan = document.plan(self.model.rig)
                near = plan is not None and float(np.hypot(plan.curve.x - at_x, plan.curve.y - at_y).min()) < min(reach)
                behind = segment if near else (-1 if reach[0] < reach[1] else len(document.content.points) - 1)
                self._take(document.put(added(document.content, behind, round(at_x, 3), round(at_y, 3)), behind + 1))
            return
        if self._held and phase == "release":
            self._held = False
            self._take(document.drop())
        elif self._held:
            document.drag(at_x, at_y)
