"""Where robots believe to be, and what they felt since the tick before: from the Tick's odometry."""

from __future__ import annotations

import copy
from math import cos, sin

import numpy as np

from pivrex.kernels.engines import Call
from pivrex.kernels.records import Form, Numbers
from pivrex.kernels.subset import kernel
from pivrex.line.landmarks import Mark, NoMarkError, take
from pivrex.line.line import Line, LineState
from pivrex.line.odometry import Odometry
from pivrex.line.se2 import displaced
from pivrex.line.stage import Floats
from pivrex.line.tick import Tick
from pivrex.routine.profile import Felt

__all__ = ["Belief"]


@kernel
def feel_tick(t: Tick, pose: Numbers, has_gyro: float, has_frame: float, felt: Felt) -> None:
    """Write what a robot measured in a tick; ``pose`` is where it believes to be now."""
    o = t.odometry
    felt.forward, felt.left, felt.turn = o.forward, o.left, o.turn
    felt.x, felt.y, felt.heading = pose[0], pose[1], pose[2]
    if has_gyro > 0.0:
        felt.heading = t.heading.heading[0]
    felt.ahead = t.frame.heading if has_frame > 0.0 else felt.heading
    felt.offset = pose[2] - felt.heading
    felt.along_x, felt.along_y = displaced(pose[2] - o.turn, o.forward, o.left, o.turn)


_FEEL = Call(feel_tick, ("felt",))


class Belief:
    """The believed poses of a batch.

    Attributes
    ----------
    poses : batch + (3,) float64
        Where each believes to be: x and y in m, heading in rad, unwrapped.

    Notes
    -----
    A routine that says where it is moves the odometry along: at once for its next step, in the line from the next tick on.
    """

    def __init__(self, line: Line, batch: tuple[int, ...], start: Floats) -> None:
        self._batch, self._line = batch, line
        layout = line.layout
        self._pose_at = layout.these("odometry", ("x", "y", "heading"))
        self._has = float(layout.has("heading", "heading")), float(layout.has("frame", "heading"))
        self.poses: Floats = np.array(np.broadcast_to(start, (*batch, 3)), np.float64)
        self.felt: Felt | None = None
        self._said: tuple[tuple[int, Floats, Floats], ...] = ()
        """Who says to be somewhere else, since the last tick: where it believed to be, and where it says that it is."""
        self._marks: tuple[tuple[int, Mark], ...] = ()
        """Who is to be known by a mark from now on."""

    @property
    def x(self) -> Floats:
        """Where it believes to be, in m."""
        return self.poses[..., 0]

    @property
    def y(self) -> Floats:
        """The same along the field's y."""
        return self.poses[..., 1]

    @property
    def heading(self) -> Floats:
        """How it looks, in rad, unwrapped."""
        return self.poses[..., 2]

    def copied(self) -> Belief:
        """Return a copy that goes its own way."""
        made = copy.copy(self)
        made.poses = self.poses.copy()
        made.felt = self.felt._replace() if self.felt is not None else None
        return made

    def _pose(self, i: int) -> Floats:
        return self.poses[(i,) if self._batch else ()].copy()

    def put(self, i: int, x: float, y: float, heading: float | None) -> None:
        """Let one robot believe to be somewhere else."""
        was = self._pose(i)
        now = np.array([x, y, was[2] if heading is None else heading])
        self._said += ((i, was, now),)
        self._set(i, now)
        if self.felt is not None:
            self.felt = self.felt._replace(x=self.x, y=self.y, offset=self.heading - self.felt.heading)

    def pose(self, i: int) -> Floats:
        """Where one robot believes to be, (3,)."""
        return self._pose(i)

    def mark(self, i: int, mark: Mark) -> None:
        """Let one robot be known by a mark, from the next tick on."""
        self._marks += ((i, mark),)

    def _set(self, i: int, pose: Floats) -> None:
        self.poses[(i,) if self._batch else ()] = pose

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
        self.poses = row[..., self._pose_at].copy()
        for i, was, now in self._said:  # that Tick was made before the line knew of it
            self._set(i, _carried(self._pose(i), was, now))
        self._said = ()
        self.felt = felt = Form(Felt).start(self._batch)
        _FEEL(self._batch, Tick(self._line.form, row), self.poses, *self._has, felt)
        return felt


def _carried(pose: Floats, was: Floats, now: Floats) -> Floats:
    """Give a pose moved along with one that is somewhere else now."""
    turn = float(now[2] - was[2])
    dx, dy = pose[:2] - was[:2]
    return np.array(
        [now[0] + cos(turn) * dx - sin(turn) * dy, now[1] + sin(turn) * dx + cos(turn) * dy, pose[2] + turn]
    )
