"""The line: the stages joined. Reads like the path of the data, from raw readings to what the motors are told."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from pivrex.line import axes, kinematics, levels, limits, outputs, shaping
from pivrex.line.laws import LAW_FUNCTIONS
from pivrex.line.layout import Column, Layout, plain
from pivrex.rig.rig import Rig

__all__ = ["Line", "LineState", "sensed_columns"]

Floats = NDArray[np.float64]

TWIST = (("forward", "m/s"), ("left", "m/s"), ("turn", "rad/s"))


@dataclass(frozen=True)
class LineState:
    """What the line remembers from one tick to the next, for a batch of shape B.

    Attributes
    ----------
    tick : float
        How many ticks have been.
    rate : B + (C,) float64
        The rate limiter's last values.
    level : B float64
        The speed level's index.
    buttons : B + (2,) float64
        What the level buttons read last.
    """

    tick: int
    rate: Floats
    level: Floats
    buttons: Floats


def sensed_columns(rig: Rig) -> list[Column]:
    """Give the columns of what comes back from the robot: each wheel's travel and speed, the pose, a bump flag."""
    wheels = [plain(w.name) for w in rig.chassis.wheels]
    return [
        *(Column("sensed", f"{w}_travel", "m") for w in wheels),
        *(Column("sensed", f"{w}_speed", "m/s") for w in wheels),
        Column("sensed", "x", "m"),
        Column("sensed", "y", "m"),
        Column("sensed", "heading", "rad"),
        Column("sensed", "blocked"),
    ]


class Line:
    """Every stage of one rig, with the layout of its Ticks.

    Attributes
    ----------
    rig : Rig
    functions : tuple of str
        The law's functions in order; C of them.
    channels : tuple of str
        The raw readings that the line wants, in order; R of them, the functions' first.
    layout : Layout
        K columns.
    """

    def __init__(self, rig: Rig) -> None:
        self.rig = rig
        self.dt_s = rig.dt_s
        axis_names = rig.law.axes()
        self.functions = tuple(axis_names)
        both = (rig.speed_levels.up, rig.speed_levels.down)
        buttons = [b for b in both if b]
        self.channels = tuple(dict.fromkeys([*(rig.channel(a) for a in axis_names.values()), *buttons]))
        # of each channel: "chosen", or the kind of source that it always listens to
        fixed = {rig.channel(a): rig.axis(a).source for a in axis_names.values()}
        self.fixed_sources = tuple(fixed.get(c, "chosen") for c in self.channels)
        self.wheels = tuple(w.name for w in rig.chassis.wheels)
        # functions come first and each has its own channel, see Rig.mistakes
        self._of_function = slice(0, len(self.functions))
        self._of_button = [self.channels.index(b) if b else -1 for b in both]
        self.axes = axes.settings_of(rig, list(axis_names.values()))
        self.shaping = shaping.settings_of(rig)
        self.law = LAW_FUNCTIONS[rig.law.kind]
        full = (rig.full_forward_m_s, 0.0, rig.full_turn_rad_s)
        self.levels = np.array(
            [
                (v.moving * full[0], v.moving * full[1], v.turning * full[2], i, v.moving, v.turning)
                for i, v in enumerate(rig.speed_levels.levels)
            ]
        )
        """For each level: the twist that fractions of 1 ask for, the level's index and its two shares."""
        self.kinematics = kinematics.kinematics_of(rig.chassis)
        self.top_m_s = np.array([rig.wheel_top_m_s(w) for w in self.wheels])
        self.fit = limits.scale_all if rig.limits.fit == "scale" else limits.clip_each
        self.outputs = outputs.settings_of(rig)
        self.layout = Layout(self._columns())
        start = self.layout.stage("outputs").start
        self._told = slice(start, start + len(self.outputs.values))

    def _columns(self) -> list[Column]:
        wheels = [plain(w) for w in self.wheels]
        told = [Column("outputs", f"{plain(v.motor)}_{v.name}", v.unit) for v in self.outputs.values]
        return [
            Column("clock", "tick"),
            Column("clock", "t", "s"),
            Column("clock", "stopped"),
            *sensed_columns(self.rig),
            *(Column("raw", c) for c in self.channels),
            *(Column(stage, f) for stage in ("axes", "band", "curve", "scale", "rate") for f in self.functions),
            *(Column("law", name, unit) for name, unit in TWIST),
            Column("law", "level"),
            Column("law", "moving_share"),
            Column("law", "turning_share"),
            *(Column("wheels", f"{w}_asked", "m/s") for w in wheels),
            *(Column("limits", f"{w}_given", "m/s") for w in wheels),
            *(Column("limits", f"{w}_lost", "m/s") for w in wheels),
            *(Column("motion", name, unit) for name, unit in TWIST),
            *told,
            *(Column("outputs", f"{plain(m)}_hums") for m in self.rig.motors),
        ]

    def start(self, batch: tuple[int, ...] = ()) -> LineState:
        """Give the state before the first tick, for a batch of shape ``batch``."""
        return LineState(
            tick=0,
            rate=np.zeros((*batch, len(self.functions))),
            level=np.full(batch, float(self.rig.speed_levels.start_index)),
            buttons=np.zeros((*batch, 2)),
        )

    def rest(self, batch: tuple[int, ...] = ()) -> Floats:
        """Give the raw readings, B + (R,), of controls that nobody touches."""
        resting = np.zeros((*batch, len(self.channels)))
        resting[..., self._of_function] = (self.axes.low + self.axes.high) / 2
        return resting

    def step(self, state: LineState, raw: Floats, sensed: Floats, stop: bool = False) -> tuple[LineState, Floats]:
        """Make one tick.

        Parameters
        ----------
        state : LineState
        raw : B + (R,) float64
            The readings of ``channels``; NaN where there is none, which counts as rest.
        sensed : B + (S,) float64
            What came back before this tick, as `sensed_columns` says.
        stop : bool
            Whether the robot must stand still: then every motor is told to rest, round all rate limits.

        Returns
        -------
        LineState, B + (K,) float64
            The state after the tick, and the Tick's row.
        """
        shaped = self.shape(raw)
        after, rated = self.pace(state, raw, shaped[-1], stop)
        clock = np.empty((*state.level.shape, 3))
        clock[..., 0], clock[..., 1], clock[..., 2] = state.tick, state.tick * self.dt_s, stop
        return after, self.drive(clock, sensed, raw, shaped, rated, after.level)

    def shape(self, raw: Floats) -> tuple[Floats, Floats, Floats, Floats]:
        """The stages before the rates, which remember nothing: fractions, banded, curved and scaled, B + (C,) each."""
        fractions = axes.to_fractions(self.axes, raw[..., self._of_function])
        banded = shaping.dead_band(self.shaping, fractions)
        curved = shaping.curve(self.shaping, banded)
        return fractions, banded, curved, curved * self.shaping.scale

    def pace(self, state: LineState, raw: Floats, scaled: Floats, stop: bool = False) -> tuple[LineState, Floats]:
        """The stages that remember: rates and speed levels. Gives the state after the tick and the rated, B + (C,)."""
        rated = np.zeros_like(scaled) if stop else shaping.rate_limit(self.shaping, state.rate, scaled)
        level, buttons = self._walk_levels(state, raw)
        return LineState(state.tick + 1, rated, level, buttons), rated

    def drive(
        self, clock: Floats, sensed: Floats, raw: Floats, shaped: tuple[Floats, ...], rated: Floats, level: Floats
    ) -> Floats:
        """The stages after the rates, from the law to the outputs; gives the whole row, B + (K,)."""
        chosen = self.levels[level.astype(np.intp)]
        twist = self.law(rated) * chosen[..., :3]

        asked = kinematics.wheel_speeds(self.kinematics, twist)
        given = self.fit(asked, self.top_m_s)
        motion = kinematics.twist_of(self.kinematics, given)

        drive = outputs.drive_of(self.outputs, given)
        told = outputs.encode(self.outputs, drive)
        hums = outputs.hums(self.outputs, drive)
        return np.concatenate(
            (
                clock,
                sensed,
                raw,
                *shaped,
                rated,
                twist,
                chosen[..., 3:],
                asked,
                given,
                asked - given,
                motion,
                told,
                hums,
            ),
            axis=-1,
        )

    def told(self, row: Floats) -> Floats:
        """Take what the motor drivers are told, B + (V,), out of a Tick."""
        return row[..., self._told]

    def choose_level(self, state: LineState, steps: int) -> LineState:
        """Give the state with the level walked by ``steps``, as a key on the screen does."""
        top = len(self.levels) - 1.0
        return replace(state, level=np.minimum(np.maximum(state.level + steps, 0.0), top))

    def _walk_levels(self, state: LineState, raw: Floats) -> tuple[Floats, Floats]:
        up, down = self._of_button
        if up < 0 and down < 0:
            return state.level, state.buttons
        if up >= 0 and down >= 0:
            now = raw[..., up : down + 1]  # the buttons follow the functions, up before down
        else:
            now = np.zeros((*state.level.shape, 2))
            now[..., int(up < 0)] = raw[..., max(up, down)]
        return levels.walk(state.level, state.buttons, now, len(self.levels)), now
