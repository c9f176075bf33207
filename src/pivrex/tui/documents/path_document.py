"""An open path: its file, its plan, its changes with undo."""

from __future__ import annotations

from collections.abc import Callable
from math import degrees
from pathlib import Path

import tomlkit
from tomlkit import TOMLDocument

from pivrex.document import Document
from pivrex.errors import PivrexError, UnitError
from pivrex.files import alone
from pivrex.path import Path as DrivenPath
from pivrex.path import PathPoint
from pivrex.path.edit import changed
from pivrex.path.files import path_text
from pivrex.path.plan import Plan, plan_of, troubles
from pivrex.rig import Field, Rig, read_text
from pivrex.rig.read import rig_text
from pivrex.units import parse

__all__ = ["PathDocument", "first_path"]


class PathDocument(Document[DrivenPath]):
    """One path of a workspace; ``mark`` is the chosen point, ``content`` is None while its file has mistakes.

    Attributes
    ----------
    held : bool
        Whether a point is dragged: nothing is saved until it is let go.
    """

    def __init__(self) -> None:
        super().__init__(lambda text, file: read_text(text, file, DrivenPath), "path", rig_text)
        self.held = False
        self._plan: tuple[DrivenPath, Rig, Plan] | None = None
        self._troubles: tuple[Plan, Field, list[tuple[bool, str]]] | None = None

    def open(self, path: Path) -> None:
        """Open a path; what is wrong with it is the `problem`."""
        self.held = False
        try:
            super().open(path)
        except PivrexError as problem:
            self._path, self.content, self.text, self._known = path, None, "", ""
            self.steps, self.at, self.mark, self.problem = [], 0, 0, f"{problem}".splitlines()[0]

    def _use(self, text: str, content: DrivenPath) -> None:
        super()._use(text, content)
        self.mark = min(self.mark, len(content.points) - 1)

    def look_outside(self) -> str:
        return super().look_outside() if self.is_open and not self.held else ""

    # --- results ---

    def plan(self, rig: Rig) -> Plan | None:
        """Return its plan for a rig."""
        if self.content is None:
            return None
        if self._plan is None or self._plan[0] is not self.content or self._plan[1] is not rig:
            self._plan = (self.content, rig, plan_of(self.content, rig))
        return self._plan[2]

    def troubles(self, rig: Rig, field: Field) -> list[tuple[bool, str]]:
        """Return what is wrong with it; see `pivrex.path.plan.troubles`."""
        plan = self.plan(rig)
        if plan is None:
            return []
        if self._troubles is None or self._troubles[0] is not plan or self._troubles[1] is not field:
            self._troubles = (plan, field, troubles(plan, rig, field, field.name))
        return self._troubles[2]

    # --- changes ---

    def put(self, path: DrivenPath, at: int | None = None, what: str = "a point moved") -> str:
        """Take a changed path and save it; returns the mistake, empty if there is none. With a mistake nothing changes."""
        if self.content is None:
            return "there is no path"
        problem = _mistake(path)
        if problem:
            return problem
        self.held = False
        try:
            with alone(self.path):
                found = self.look_outside()
                if found and not self.problem:
                    return f"{found}; do it again to go on"
                self.change(path_text(path, self.text), what)
        except PivrexError as wrong:
            return f"{wrong}"
        self._use(self.text, self._understand(self.text, self.path))  # as written in the file
        self.mark = min(max(self.mark if at is None else at, 0), len(path.points) - 1)
        return self.problem

    def edit(self, what: str, change: Callable[[TOMLDocument], None]) -> str:
        """Change the text of its file as one step; returns the mistake, empty if there is none. With a mistake nothing changes."""
        if self.content is None:
            return "there is no path"
        document = tomlkit.parse(self.text)
        change(document)
        try:
            self.change(tomlkit.dumps(document), what)
        except PivrexError as wrong:
            mistakes = getattr(wrong, "mistakes", ())
            return "; ".join(str(m) for m in mistakes) or f"{wrong}"
        return self.problem

    def drag(self, x_m: float, y_m: float) -> None:
        """Move the chosen point while it is held: nothing is saved yet."""
        if self.content is None:
            return
        self.held = True
        moved = changed(self.content, self.mark, x_m=round(x_m, 3), y_m=round(y_m, 3))
        if not _mistake(moved):
            self.content = moved

    def drop(self) -> str:
        """Let go of the point; returns what is wrong."""
        return self.put(self.content) if self.content is not None and self.held else ""

    def typed(self, text: str) -> DrivenPath:
        """Return the path with the chosen point as someone types it: X, Y [, DIRECTION] [facing HEADING]. Raises `UnitError`."""
        assert self.content is not None
        place, _, facing = text.partition(" facing ")
        words = [w.strip() for w in place.split(",")]
        if len(words) not in (2, 3):
            raise UnitError(
                "write a place such as 1.20 m, 0.75 m, with a direction behind it if it should have one: , 90 deg"
            )
        x, y = (parse(w, "length") for w in words[:2])
        angle = parse(words[2], "angle") if len(words) == 3 else None
        for value in (x, y):
            if not abs(value) <= 1000:
                raise UnitError("lies more than 1000 m away")
        heading = parse(facing.strip(), "angle") if facing else None
        return changed(self.content, self.mark, x_m=x, y_m=y, direction_rad=angle, heading_rad=heading)

    def as_typed(self) -> str:
        """Return the chosen point as it would be typed."""
        if self.content is None:
            return ""
        p = self.content.points[self.mark]
        more = "" if p.direction_rad is None else f", {degrees(p.direction_rad):.4g} deg"
        if p.heading_rad is not None:
            more += f" facing {degrees(p.heading_rad):.4g} deg"
        return f"{p.x_m:.3f} m, {p.y_m:.3f} m{more}"


def _mistake(path: DrivenPath) -> str:
    """Return the first thing that makes it no path."""
    if len(path.points) < 2:
        return "a path has at least two points"
    found = path.mistakes()
    if not found:
        return ""
    where, _, number = found[0][0].partition(".")
    return f"{f'point {int(number) + 1}' if number else where} {found[0][1]}"


def first_path(field: Field) -> DrivenPath:
    """Return a path to begin with: two points ahead of the field's start."""
    x, y = field.start.x_m, field.start.y_m
    points = (PathPoint.model_construct(x_m=x, y_m=y), PathPoint.model_construct(x_m=x + 1.0, y_m=y))
    return DrivenPath.model_construct(points=points, floor="")
