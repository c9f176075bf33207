"""Where robots believe to be, and what they felt since the tick before: from the Tick's odometry."""

from __future__ import annotations

from math import cos, nan, sin
from typing import Any

import numpy as np

from pivrex.line.landmarks import Mark, NoMarkError, take
from pivrex.line.line import Line, LineState
from pivrex.line.odometry import Odometry
from pivrex.line.se2 import along
from pivrex.line.stage import Floats
from pivrex.line.values import Ops, Value, ops_of, parts
from pivrex.routine.motion import Felt

__all__ = ["Belief"]


class Belief:
    """The believed poses of a batch.

    Attributes
    ----------
    x, y, heading : Value
        On the field, in m and rad, unwrapped.

    Notes
    -----
    A routine that says where it is moves the odometry along: at once for its next step, in the line from the next tick on.
    """

    def __init__(self, line: Line, batch: tuple[int, ...], start: Floats) -> None:
        self._batch = batch
        self._ops: Ops = ops_of(batch)
        layout = line.layout
        self._gyro, self._framed = layout.has("heading", "heading"), layout.has("frame", "heading")
        columns = [layout.at("odometry", n) for n in ("x", "y", "heading", "forward", "left", "turn")]
        columns += [layout.at("heading", "heading")] if self._gyro else []
        columns += [layout.at("frame", "heading")] if self._framed else []
        self._columns = np.array(columns, np.intp)
        self.x, self.y, self.heading = (self._value(start[..., k]) for k in range(3))
        self._heading: Value = self._value(np.full(batch, nan))
        self.felt: Felt | None = None
        self._said: tuple[tuple[int, Floats, Floats], ...] = ()
        """Who says to be somewhere else, since the last tick: where it believed to be, and where it says that it is."""
        self._marks: tuple[tuple[int, Mark], ...] = ()
        """Who is to be known by a mark from now on."""

    def copied(self) -> Belief:
        """Give a copy that goes its own way."""
        made = Belief.__new__(Belief)
        made.__dict__.update(self.__dict__)
        for name in ("x", "y", "heading"):
            value = getattr(self, name)
            setattr(made, name, value.copy() if self._batch else value)
        if self.felt is not None:
            made.felt = Felt(**self.felt.__dict__)
        return made

    def _value(self, array: Any) -> Value:
        return np.array(np.broadcast_to(array, self._batch), np.float64) if self._batch else float(array)

    def _pose(self, i: int) -> Floats:
        return np.array([v[i] if self._batch else v for v in (self.x, self.y, self.heading)])

    def put(self, i: int, x: float, y: float, heading: float | None) -> None:
        """Let one robot believe to be somewhere else."""
        was = self._pose(i)
        now = np.array([x, y, was[2] if heading is None else heading])
        self._said += ((i, was, now),)
        self._set(i, now)
        if self.felt is not None:
            self.felt.x, self.felt.y = self.x, self.y
            self.felt.offset = self.heading - self._heading

    def pose(self, i: int) -> Floats:
        """Where one robot believes to be, (3,)."""
        return self._pose(i)

    def mark(self, i: int, mark: Mark) -> None:
        """Let one robot be known by a mark, from the next tick on."""
        self._marks += ((i, mark),)

    def _set(self, i: int, pose: Floats) -> None:
        for name, value in zip(("x", "y", "heading"), pose.tolist(), strict=True):
            if self._batch:
                getattr(self, name)[i] = value
            else:
                setattr(self, name, value)

    def before(self, line: Line, state: LineState) -> tuple[LineState, list[int]]:
        """Give the line's state for this tick, with the odometry of those who said where they are, or are known by a mark; and to
        whom no mark has said anything.
        """
        stage = line.stages["odometry"]
        assert isinstance(stage, Odometry)
        for i, was, now in self._said:
            own = line.of(state, "odometry")
            moved = stage.moved(own, was, now)
            if self._batch:
                mask = np.zeros(self._batch, bool)
                mask[i] = True
                moved = type(own)(own.form, np.where(mask[..., None], moved.data, own.data))
            state = line.changed(state, "odometry", moved)
        missed = []
        for i, mark in self._marks:
            own = line.of(state, "odometry")
            try:
                after, _ = take(stage, own.take(i) if self._batch else own, mark)
            except NoMarkError:
                missed.append(i)
                continue
            if self._batch:
                many = own.data.copy()
                many[i] = after.data
                after = type(own)(own.form, many)
            state = line.changed(state, "odometry", after)
        self._marks = ()
        return state, missed

    def feel(self, row: Floats) -> Felt:
        """Take in the Tick before, B + (K,)."""
        seen = parts(row[..., self._columns])
        self.x, self.y, self.heading, forward, left, turn = seen[:6]
        for i, was, now in self._said:  # that Tick was made before the line knew of it
            self._set(i, _carried(self._pose(i), was, now))
        self._said = ()
        heading = seen[6] if self._gyro else self.heading
        ahead = seen[6 + self._gyro] if self._framed else heading
        self._heading = heading
        along_x, along_y = along(self.heading - turn, forward, left, turn)
        self.felt = Felt(forward, left, turn, along_x, along_y, self.x, self.y, heading, self.heading - heading, ahead)
        return self.felt


def _carried(pose: Floats, was: Floats, now: Floats) -> Floats:
    """Give a pose moved along with one that is somewhere else now."""
    turn = float(now[2] - was[2])
    dx, dy = pose[:2] - was[:2]
    return np.array(
        [now[0] + cos(turn) * dx - sin(turn) * dy, now[1] + sin(turn) * dx + cos(turn) * dy, pose[2] + turn]
    )
