"""The line: a rig's stages joined. Each stage has its own file; `pivrex.line.order` holds their order."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from pivrex.kernels.engines import Call
from pivrex.kernels.records import Form, Record
from pivrex.line.entry import Entry, enter
from pivrex.line.input_stages import NOWHERE
from pivrex.line.inputs import Inputs
from pivrex.line.law import Law
from pivrex.line.layout import Layout, plain
from pivrex.line.motion import speeds_at
from pivrex.line.order import ASKING, FOLLOWING
from pivrex.line.outputs import Outputs
from pivrex.line.stage import Floats, Stage
from pivrex.line.tick import HeldColumns, LineMemory, LineScratch, LineSettings, Tick, line_step
from pivrex.rig.rig import Rig

__all__ = ["Line", "LineState"]


_STEP = Call(line_step, ("after", "t"))


class LineState(NamedTuple):
    """The memory of a batch of robots between ticks: the number of ticks, B, and every stage's state."""

    tick: Floats
    memory: LineMemory


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
    of_rig : dict of str to Record
        The settings of each stage, as the rig says them.
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
        self.form = Form(Tick, **{name: stage.form for name, stage in self.stages.items()})
        assert self.form.size == len(self.layout), "a stage's columns are not those that its kernel knows"
        held = {n: s.form for n, s in self.stages.items() if n in HeldColumns.fields} if rig.asks_every > 1 else None
        self._held = Form(HeldColumns, **held) if held is not None else None
        memories = {n: s.memory for n, s in self.stages.items() if s.memory is not None}
        self.memory = Form(LineMemory, **memories, **({"held": self._held} if self._held is not None else {}))
        self.scratch = Form(LineScratch, **{n: s.scratch for n, s in self.stages.items() if s.scratch is not None})
        self.of_rig = {n: s.settings for n, s in self.stages.items() if s.settings is not None}
        self.settings = self._settings()
        self._sensed, self._truth, self._raw = (self.layout.stage(n) for n in ("sensed", "truth", "raw"))
        self.wheels = tuple(w.name for w in rig.chassis.wheels)
        self.functions, self.channels = self.inputs.functions, self.inputs.names
        self.top_m_s = np.array([rig.wheel_top_m_s(w) for w in self.wheels])
        self.speeds = speeds_at(self.layout, [plain(w) for w in self.wheels])
        """Where the commanded wheel speeds stand."""
        law, outputs = self.stages["law"], self.stages["outputs"]
        assert isinstance(law, Law) and isinstance(outputs, Outputs)
        self.law, self.outputs = law, outputs

    def _settings(self) -> LineSettings:
        """Put the settings of all stages together; where one has a batch's, for each robot of it."""
        own = {n: s.settings for n, s in self.stages.items() if s.settings is not None}
        has = {f"has_{n}": 1.0 for n in self.stages if f"has_{n}" in LineSettings.fields}
        batch = np.broadcast_shapes(*(s.batch for s in own.values()))
        form = Form(LineSettings, **{n: s.form for n, s in own.items()})
        made: LineSettings = form.of(batch, **own, **has, every=self.rig.asks_every)
        return made

    def put(self, name: str, settings: Record) -> None:
        """Let a stage have other settings than its rig says (`of_rig`), of one robot or of a batch."""
        self.stages[name].settings = settings
        self.settings = self._settings()

    def start(self, batch: tuple[int, ...] = ()) -> LineState:
        """Return the state before the first tick, for a batch of shape ``batch``."""
        states = {name: stage.start(batch) for name, stage in self.stages.items() if stage.memory is not None}
        return LineState(np.zeros(batch), self.memory.of(batch, **states))

    def rest(self, batch: tuple[int, ...] = ()) -> Floats:
        """Return the raw readings, B + (R,), of controls that no one touches."""
        resting = np.zeros((*batch, len(self.inputs.names)))
        axes = self.stages["axes"].settings
        resting[..., : len(self.functions)] = axes.rest[0].mean(axis=0)
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
            What came back before this tick, as `pivrex.line.input_stages.sensed_columns` says.
        stop : B float64
            1 where the robot must stand still: then every motor is commanded to rest, round all rate limits.
        driving : B float64
            The source that drives, for those with a calibration of their own; see `source_number`.
        truth : B + (T,) float64
            What is true of a simulated robot, as `pivrex.line.input_stages.truth_columns` says; it is only recorded.
        entry : Entry, optional
            What someone else asks for.

        Returns
        -------
        LineState, B + (K,) float64
            The state after the tick, and the Tick's row.
        """
        row = self.begin(state.tick, raw, sensed, stop, driving, truth)
        after: LineMemory = self.memory.start(row.shape[:-1])
        if entry is None:
            self.pass_through(state.memory, after, row)
        else:
            self.pass_through(state.memory, after, row, follows=False)
            enter(self.stages, row, entry)
            self.pass_through(state.memory, after, row, asks=False)
        return LineState(state.tick + 1.0, after), row

    def pass_through(
        self,
        before: LineMemory,
        after: LineMemory,
        row: Floats,
        asks: bool = True,
        follows: bool = True,
        in_order: bool = False,
    ) -> None:
        """Write the columns and states of all stages, or of one half of them, for rows, B + (K,), with their inputs. ``in_order``: the rows
        are ticks of one robot.
        """
        tick = Tick(self.form, row)
        _STEP(
            row.shape[:-1],
            self.settings,
            self.scratch.scratch,
            before,
            after,
            tick,
            float(asks),
            float(follows),
            in_order=in_order,
        )

    def begin(
        self, tick: Floats, raw: Floats, sensed: Floats, stop: Floats | float, driving: Floats | float, truth: Floats
    ) -> Floats:
        """Return a row, B + (K,), with the inputs, and 0 everywhere else."""
        row = np.zeros((*raw.shape[:-1], len(self.layout)))
        row[..., 0], row[..., 1], row[..., 2] = tick, tick * self.dt_s, stop
        if self.inputs.calibrated:
            row[..., 3] = driving
        row[..., self._sensed], row[..., self._truth], row[..., self._raw] = sensed, truth, raw
        return row

    def source_number(self, name: str) -> float:
        """Return the number of the source that drives, where it has a calibration of its own; else 0."""
        return 1.0 + self.inputs.calibrated.index(name) if name in self.inputs.calibrated else 0.0

    def commands(self, row: Floats) -> Floats:
        """Take the robot's commands, B + (V,), out of a Tick."""
        return row[..., self.outputs.commands]

    def resting(self) -> Floats:
        """Return the commands with which the robot rests, (V,): motors without drive, attachments in their safe state."""
        return self.commands(
            self.step(self.start(), self.rest(), np.zeros(len(self.stages["sensed"].columns)), 1.0)[1]
        ).copy()

    def choose_level(self, state: LineState, steps: int) -> LineState:
        """Return the state with the speed level walked by ``steps``, as a key on the screen does."""
        return self.changed(state, "law", self.law.choose(self.of(state, "law"), steps))

    def of(self, state: LineState, stage: str) -> Any:
        """Return a stage's own state."""
        return state.memory.part(stage)

    def changed(self, state: LineState, stage: str, own: Any) -> LineState:
        """Return the state with that of one stage replaced."""
        return state._replace(memory=state.memory._replace(**{stage: own}))

    def keep(self, before: Line, state: LineState) -> LineState:
        """Return the next state, from the state of the line before the rig was changed."""
        batch = state.tick.shape
        kept = {
            name: stage.keep(before.stages[name], before.of(state, name), batch)
            if name in before.stages
            else stage.start(batch)
            for name, stage in self.stages.items()
            if stage.memory is not None
        }
        if self._held is not None and self._held is before._held:
            kept["held"] = before.of(state, "held")
        return LineState(state.tick, self.memory.of(batch, **kept))
