"""A path that is open: its file, its plan, what was changed, and what can be taken back."""

from __future__ import annotations

from math import degrees
from pathlib import Path
from typing import NamedTuple

from pivrex.errors import PivrexError, UnitError
from pivrex.files import read_persons
from pivrex.path import Path as DrivenPath
from pivrex.path import PathPoint
from pivrex.path.edit import changed
from pivrex.path.files import read_path, save_path
from pivrex.path.plan import Plan, plan_of, troubles
from pivrex.rig import Field, Rig
from pivrex.units import parse

__all__ = ["PathDesk", "Step", "first_path"]

LARGEST = 4_000_000
KEEPS = 200


class Step(NamedTuple):
    """A path as it was, and the point that was chosen."""

    path: DrivenPath
    at: int


class PathDesk:
    """One path of a workspace.

    Attributes
    ----------
    file : Path or None
    path : DrivenPath or None
    at : int
        The chosen point.
    wrong : str
        Why the file cannot be read; empty if it can.
    """

    def __init__(self) -> None:
        self.file: Path | None = None
        self.path: DrivenPath | None = None
        self.at = 0
        self.wrong = ""
        self._undo: list[Step] = []
        self._redo: list[Step] = []
        self._text = ""
        self._plan: tuple[DrivenPath, Rig, Plan] | None = None
        self._troubles: tuple[Plan, Field, list[tuple[bool, str]]] | None = None
        self.dragged: Step | None = None
        """What was before a point was taken hold of."""

    def open(self, file: Path) -> None:
        """Open a path; what is wrong with it is said."""
        self.file, self.at = file, 0
        self._undo, self._redo, self.dragged = [], [], None
        self._read()

    def _read(self) -> None:
        assert self.file is not None
        try:
            self._text = read_persons(self.file, LARGEST)
            self.path, self.wrong = read_path(self.file), ""
            self.at = min(self.at, len(self.path.points) - 1)
        except PivrexError as problem:
            self.path, self.wrong = None, f"{problem}".splitlines()[0]

    @property
    def text(self) -> str:
        """What the file says."""
        return self._text

    def look_again(self) -> bool:
        """Read the file again if somebody else changed it; tells whether that was so. What was here can be taken back."""
        if self.file is None or self.dragged is not None:
            return False
        try:
            text = read_persons(self.file, LARGEST)
        except PivrexError:
            return False
        if text == self._text:
            return False
        before = self.path
        self._read()
        if before is not None and self.path is not None and before != self.path:
            self._undo.append(Step(before, self.at))
        return True

    # --- what it comes to ---

    def plan(self, rig: Rig) -> Plan | None:
        """Give its plan for a rig."""
        if self.path is None:
            return None
        if self._plan is None or self._plan[0] is not self.path or self._plan[1] is not rig:
            self._plan = (self.path, rig, plan_of(self.path, rig))
        return self._plan[2]

    def troubles(self, rig: Rig, field: Field) -> list[tuple[bool, str]]:
        """Give what is wrong with it; see `pivrex.path.plan.troubles`."""
        plan = self.plan(rig)
        if plan is None:
            return []
        if self._troubles is None or self._troubles[0] is not plan or self._troubles[1] is not field:
            self._troubles = (plan, field, troubles(plan, rig, field, field.name))
        return self._troubles[2]

    # --- changes ---

    def change(self, path: DrivenPath, at: int | None = None) -> str:
        """Take a changed path and save it; gives what is wrong with it, empty if nothing is: then nothing has changed."""
        if self.path is None or self.file is None:
            return "there is no path"
        problem = _mistake(path)
        if problem:
            return problem
        before = self.dragged or Step(self.path, self.at)
        self.dragged = None
        return self._keep(path, self.at if at is None else at, before)

    def _keep(self, path: DrivenPath, at: int, before: Step | None) -> str:
        assert self.file is not None
        try:
            save_path(path, self.file)
        except PivrexError as problem:
            return f"{problem}"
        self._text = read_persons(self.file, LARGEST)
        if before is not None and before.path != path:
            self._undo = [*self._undo[-KEEPS:], before]
            self._redo = []
        self.path, self.at = path, min(max(at, 0), len(path.points) - 1)
        return ""

    def drag(self, x_m: float, y_m: float) -> None:
        """Move the chosen point while it is held: nothing is saved yet."""
        if self.path is None:
            return
        self.dragged = self.dragged or Step(self.path, self.at)
        moved = changed(self.path, self.at, x_m=round(x_m, 3), y_m=round(y_m, 3))
        if not _mistake(moved):
            self.path = moved

    def drop(self) -> str:
        """Let go of the point; gives what is wrong."""
        return self.change(self.path) if self.path is not None and self.dragged is not None else ""

    def undo(self) -> bool:
        """Take the last change back."""
        return self._walk(self._undo, self._redo)

    def redo(self) -> bool:
        """Bring it back."""
        return self._walk(self._redo, self._undo)

    def _walk(self, back: list[Step], there: list[Step]) -> bool:
        if not back or self.path is None:
            return False
        here, step = Step(self.path, self.at), back[-1]
        if self._keep(step.path, step.at, None):
            return False
        back.pop()
        there.append(here)
        return True

    def typed(self, text: str) -> DrivenPath:
        """Give the path with the chosen point as somebody types it: X, Y [, DIRECTION] [facing HEADING]. Raises `UnitError`."""
        assert self.path is not None
        place, _, facing = text.partition(" facing ")
        words = [w.strip() for w in place.split(",")]
        if len(words) not in (2, 3):
            raise UnitError(
                "write a place such as 1.20 m, 0.75 m, with a direction behind it if it shall have one: , 90 deg"
            )
        x, y = (parse(w, "length") for w in words[:2])
        angle = parse(words[2], "angle") if len(words) == 3 else None
        for value in (x, y):
            if not abs(value) <= 1000:
                raise UnitError("lies more than 1000 m away")
        heading = parse(facing.strip(), "angle") if facing else None
        return changed(self.path, self.at, x_m=x, y_m=y, direction_rad=angle, heading_rad=heading)

    def as_typed(self) -> str:
        """Give the chosen point as it would be typed."""
        if self.path is None:
            return ""
        p = self.path.points[self.at]
        more = "" if p.direction_rad is None else f", {degrees(p.direction_rad):.4g} deg"
        if p.heading_rad is not None:
            more += f" facing {degrees(p.heading_rad):.4g} deg"
        return f"{p.x_m:.3f} m, {p.y_m:.3f} m{more}"


def _mistake(path: DrivenPath) -> str:
    """Give the first thing that makes it no path."""
    if len(path.points) < 2:
        return "a path has at least two points"
    found = path.mistakes()
    if not found:
        return ""
    where, _, number = found[0][0].partition(".")
    return f"{f'point {int(number) + 1}' if number else where} {found[0][1]}"


def first_path(field: Field) -> DrivenPath:
    """Give a path to begin with: two points ahead of the field's start."""
    x, y = field.start.x_m, field.start.y_m
    points = (PathPoint.model_construct(x_m=x, y_m=y), PathPoint.model_construct(x_m=x + 1.0, y_m=y))
    return DrivenPath.model_construct(points=points, floor="")
