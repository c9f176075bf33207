"""The line: its stages in order, and their joining. It reads like the path of the data, and knows nothing of any stage."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from pivrex.line.attachments import Attachments
from pivrex.line.axes import Axes
from pivrex.line.band import Band
from pivrex.line.bindings import Bindings
from pivrex.line.curve import Curve
from pivrex.line.drive import Drive
from pivrex.line.frame import Frame
from pivrex.line.heading import Heading
from pivrex.line.inputs import NOWHERE, Clock, Given, Inputs, Raw, Sensed, Truth
from pivrex.line.kinematics import Wheels
from pivrex.line.law import Law
from pivrex.line.layout import Layout, plain
from pivrex.line.limits import Limits
from pivrex.line.motion import WheelsMotion, speeds_at
from pivrex.line.outputs import Outputs
from pivrex.line.pointing import Pointing
from pivrex.line.probe import Probe
from pivrex.line.rate import Rate
from pivrex.line.scale import Scale
from pivrex.line.stage import Floats, Stage
from pivrex.line.steering import Steering
from pivrex.line.told import Told
from pivrex.rig.rig import Rig

__all__ = ["ASKING", "FOLLOWING", "STAGES", "Entry", "Line", "LineState"]

ASKING: tuple[type[Stage], ...] = (
    Clock, Sensed, Truth, Raw, Heading, Pointing, Axes, Band, Curve, Scale, Bindings, Rate, Law, Probe,
)  # fmt: skip
"""What is asked for: from readings to a twist and requests to attachments."""

FOLLOWING: tuple[type[Stage], ...] = (Frame, Wheels, Limits, Steering, WheelsMotion, Drive, Attachments, Outputs)
"""What follows from a twist and requests."""

STAGES = tuple(stage.name for stage in ASKING + FOLLOWING)
"""The names of all stages, in the order of the line."""


class Entry(NamedTuple):
    """What is asked for by somebody else than the controls; it enters between the two halves, NaN where it says nothing.

    Attributes
    ----------
    twist : B + (3,) float64 or None
        In the law's place: forward and left in m/s, turn in rad/s.
    requests : B + (A, 3) float64 or None
        To the attachments, as `pivrex.line.attachments.obey` has them: share, to, by.
    probe : B + (2,) float64 or None
        Which motor alone is told something, from 1, and its duty; see `pivrex.line.probe`.
    """

    twist: Floats | None = None
    requests: Floats | None = None
    probe: Floats | None = None


class LineState(NamedTuple):
    """What a batch of robots remembers from one tick to the next: how many ticks have been, B, and every stage's state."""

    tick: Floats
    stages: tuple[Any, ...]


class Line:
    """Every stage of one rig, with the layout of its Ticks.

    Attributes
    ----------
    rig : Rig
    inputs : Inputs
        The readings that it wants.
    stages : dict of str to Stage
        Those that this rig has, in order.
    layout : Layout
        K columns.
    """

    def __init__(self, rig: Rig) -> None:
        self.rig = rig
        self.dt_s = rig.dt_s
        self.inputs = Inputs(rig)
        made = [stage.of(rig, self.inputs) for stage in ASKING + FOLLOWING]
        self.stages: dict[str, Stage] = {stage.name: stage for stage in made if stage is not None}
        self.layout = Layout(column for stage in self.stages.values() for column in stage.columns)
        for stage in self.stages.values():
            stage.place(self.layout)
        self._order = tuple(self.stages.values())
        first = sum(stage in ASKING for stage in map(type, self._order))
        working = [(k, s.step) for k, s in enumerate(self._order) if not isinstance(s, Given)]
        self._asking = [(k, step) for k, step in working if k < first]
        self._following = [(k, step) for k, step in working if k >= first]
        self._given = [self.layout.stage(n) for n in ("sensed", "truth", "raw")]
        self.wheels = tuple(w.name for w in rig.chassis.wheels)
        self.functions, self.channels = self.inputs.functions, self.inputs.names
        self.top_m_s = np.array([rig.wheel_top_m_s(w) for w in self.wheels])
        self.speeds = speeds_at(self.layout, [plain(w) for w in self.wheels])
        """Where the commanded wheel speeds stand."""
        law, outputs = self.stages["law"], self.stages["outputs"]
        assert isinstance(law, Law) and isinstance(outputs, Outputs)
        self.law, self.outputs = law, outputs

    def start(self, batch: tuple[int, ...] = ()) -> LineState:
        """Give the state before the first tick, for a batch of shape ``batch``."""
        return LineState(np.zeros(batch), tuple(stage.start(batch) for stage in self._order))

    def rest(self, batch: tuple[int, ...] = ()) -> Floats:
        """Give the raw readings, B + (R,), of controls that nobody touches."""
        resting = np.zeros((*batch, len(self.inputs.names)))
        axes = self.stages["axes"].settings
        resting[..., : len(self.functions)] = (axes.low[0] + axes.high[0]) / 2
        return resting

    def step(
        self,
        state: LineState,
        raw: Floats,
        sensed: Floats,
        stop: Floats | float = 0.0,
        driving: Floats | float = 0.0,
        truth: Floats = NOWHERE,
        entry: Entry | None = None,
    ) -> tuple[LineState, Floats]:
        """Make one tick.

        Parameters
        ----------
        state : LineState
        raw : B + (R,) float64
            The readings of ``inputs``; NaN where there is none, which counts as rest.
        sensed : B + (S,) float64
            What came back before this tick, as `pivrex.line.inputs.sensed_columns` says.
        stop : B float64
            1 where the robot must stand still: then every motor is told to rest, round all rate limits.
        driving : B float64
            The source that drives, for those with a calibration of their own; see `source_number`.
        truth : B + (4,) float64
            What is true of a stand-in; it is only recorded.
        entry : Entry, optional
            What somebody else asks for.

        Returns
        -------
        LineState, B + (K,) float64
            The state after the tick, and the Tick's row.
        """
        row = self.begin(state.tick, raw, sensed, stop, driving, truth)
        after = list(state.stages)
        for k, step in self._asking:
            after[k] = step(after[k], row)
        if entry is not None:
            self._enter(row, entry)
        for k, step in self._following:
            after[k] = step(after[k], row)
        return LineState(state.tick + 1.0, tuple(after)), row

    def begin(
        self, tick: Floats, raw: Floats, sensed: Floats, stop: Floats | float, driving: Floats | float, truth: Floats
    ) -> Floats:
        """Give a row, B + (K,), with what goes in, all else open."""
        row = np.empty((*raw.shape[:-1], len(self.layout)))
        row[..., 0], row[..., 1], row[..., 2] = tick, tick * self.dt_s, stop
        if self.inputs.calibrated:
            row[..., 3] = driving
        for place, values in zip(self._given, (sensed, truth, raw), strict=True):
            row[..., place] = values
        return row

    def _enter(self, row: Floats, entry: Entry) -> None:
        """Let somebody else ask. A robot that is stopped obeys nobody."""
        if entry.twist is not None:
            stopped = row[..., self.layout.at("clock", "stopped"), None] != 0
            row[..., self.law.twist] = np.where(stopped, 0.0, entry.twist)
            row[..., self.law.entered] = 1.0
        attachments = self.stages.get("attachments")
        if entry.requests is not None and isinstance(attachments, Attachments):
            row[..., attachments.requests] = entry.requests.reshape((*row.shape[:-1], -1))
        if entry.probe is not None:
            row[..., self.layout.stage("probe")] = entry.probe

    def source_number(self, name: str) -> float:
        """Give the number of the source that drives, where it has a calibration of its own; else 0."""
        return 1.0 + self.inputs.calibrated.index(name) if name in self.inputs.calibrated else 0.0

    def told(self, row: Floats) -> Floats:
        """Take what the robot is told, B + (V,), out of a Tick."""
        return row[..., self.outputs.told]

    def resting(self) -> Floats:
        """Give what the robot is told to rest, (V,): motors without drive, attachments in their safe state."""
        return self.told(
            self.step(self.start(), self.rest(), np.zeros(len(self.stages["sensed"].columns)), 1.0)[1]
        ).copy()

    def choose_level(self, state: LineState, steps: int) -> LineState:
        """Give the state with the speed level walked by ``steps``, as a key on the screen does."""
        return self.changed(state, "law", self.law.choose(self.of(state, "law"), steps))

    def of(self, state: LineState, stage: str) -> Any:
        """Give a stage's own state."""
        return state.stages[list(self.stages).index(stage)]

    def changed(self, state: LineState, stage: str, own: Any) -> LineState:
        """Give the state with that of one stage replaced."""
        k = list(self.stages).index(stage)
        return state._replace(stages=(*state.stages[:k], own, *state.stages[k + 1 :]))

    def keep(self, before: Line, state: LineState) -> LineState:
        """Give the state to go on with, from that of the line that the rig had before it was changed."""
        batch = state.tick.shape
        kept = (
            stage.keep(before.stages[name], before.of(state, name), batch)
            if name in before.stages
            else stage.start(batch)
            for name, stage in self.stages.items()
        )
        return LineState(state.tick, tuple(kept))

    def by_motion(self, told: Told) -> bool:
        """Tell whether a wheel is derived from the whole motion, where the functions do not simply add up."""
        frame = self.stages.get("frame")
        turned = isinstance(frame, Frame) and frame.turns(told)
        return bool(told("law", "entered") or "steering" in self.stages or turned or told.get("heading", "over"))
