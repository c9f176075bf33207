"""The line: the stages joined. Reads like the path of the data, from raw readings to what the motors are told."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.line import attachments, axes, bindings, frame, kinematics, levels, limits, outputs, shaping, steering
from pivrex.line.laws import LAW_FUNCTIONS
from pivrex.line.layout import Column, Layout, plain
from pivrex.rig.patches import patches_of
from pivrex.rig.rig import Rig

__all__ = ["Line", "LineState", "sensed_columns"]

Floats = NDArray[np.float64]

TWIST = (("forward", "m/s"), ("left", "m/s"), ("turn", "rad/s"))
FRAME = (("heading", "rad"), ("field", ""), ("point", ""), ("over", ""))
STEER = (("angle", "rad"), ("target", "rad"), ("share", ""))


class LineState(NamedTuple):
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
    frame : FrameState or None
        For a robot that moves in the plane or may lie on its back.
    steer : SteerState or None
        For one with steered wheels.
    bound : BindingState or None
        Where buttons, letters or bits do something.
    attached : AttachmentState or None
        Where there are attachments.
    """

    tick: int
    rate: Floats
    level: Floats
    buttons: Floats
    frame: frame.FrameState | None = None
    steer: steering.SteerState | None = None
    bound: bindings.BindingState | None = None
    attached: attachments.AttachmentState | None = None


def sensed_columns(rig: Rig) -> list[Column]:
    """Give the columns of what comes back from the robot, in the signs that the rig says.

    Each wheel's travel and speed; of a steered one how far it has turned since the robot was switched on, and what its
    absolute sensor reads; the pose, a bump flag; the gyro's own heading and the upward acceleration where the rig has
    such sensors; where attachments with an encoder are.
    """
    wheels = [plain(w.name) for w in rig.chassis.wheels]
    steered = [plain(w) for w in rig.steered]
    return [
        *(Column("sensed", f"{w}_travel", "m") for w in wheels),
        *(Column("sensed", f"{w}_speed", "m/s") for w in wheels),
        *(Column("sensed", f"{w}_turned", "rad") for w in steered),
        *(Column("sensed", f"{w}_absolute") for w in steered),
        Column("sensed", "x", "m"),
        Column("sensed", "y", "m"),
        Column("sensed", "heading", "rad"),
        Column("sensed", "blocked"),
        *([Column("sensed", "gyro", "rad")] if rig.gyro is not None else []),
        *([Column("sensed", "up", "g")] if rig.upside_down is not None else []),
        *(Column("sensed", f"{plain(n)}_at", "rad") for n, a in rig.attachments.items() if a.kind == "position"),
    ]


class Line:
    """Every stage of one rig, with the layout of its Ticks.

    Attributes
    ----------
    rig : Rig
    functions : tuple of str
        The law's functions in order; C of them.
    inputs : tuple of (str, str)
        The raw readings that the line wants, R of them, the functions' first: source ("chosen" for the one that drives)
        and channel.
    channels : tuple of str
        Their names in a Tick and in recordings: the channel, with the source before it if that is not the chosen one.
    layout : Layout
        K columns.
    """

    def __init__(self, rig: Rig) -> None:
        self.rig = rig
        self.dt_s = rig.dt_s
        axis_names = rig.law.axes()
        self.functions = tuple(axis_names)
        buttons = rig.buttons()
        both = [buttons.get(key, "") for key in ("speed_levels.up", "speed_levels.down")]
        wanted = [(rig.axis(a).source, rig.channel(a)) for a in axis_names.values()]
        wanted += [("chosen", b) for b in buttons.values()]
        for patch in patches_of(rig):
            wanted.append((patch.source, patch.channel))
            if patch.binding is not None and patch.binding.with_:
                wanted.append((patch.source, patch.binding.with_))
        self.inputs = tuple(dict.fromkeys(wanted))
        self.channels = tuple(plain(c if s == "chosen" else f"{s}.{c}") for s, c in self.inputs)
        self.wheels = tuple(w.name for w in rig.chassis.wheels)
        # functions come first and each has its own channel, see Rig.mistakes
        self._of_function = slice(0, len(self.functions))
        self._of_button = [self.channels.index(b) if b else -1 for b in both]
        self.axes = axes.settings_of(rig, list(axis_names.values()))
        own = [name for name, source in rig.sources.items() if source.axes]
        self.calibrated = {name: axes.settings_of(rig, list(axis_names.values()), name) for name in own}
        """The calibration while a source that has its own drives; `axes` is that of all others."""
        self.shaping = shaping.settings_of(rig)
        self.law = LAW_FUNCTIONS[rig.law.kind]
        full = (rig.full_forward_m_s, rig.full_left_m_s if rig.law.kind == "planar" else 0.0, rig.full_turn_rad_s)
        self.levels = np.array(
            [
                (v.moving * full[0], v.moving * full[1], v.turning * full[2], i, v.moving, v.turning)
                for i, v in enumerate(rig.speed_levels.levels)
            ]
        )
        """For each level: the twist that fractions of 1 ask for, the level's index and its two shares."""
        self.kinematics = kinematics.kinematics_of(rig.chassis)
        self.kinematics_over = kinematics.kinematics_of(rig.chassis, over=True) if rig.upside_down is not None else None
        self._achieve = self.kinematics.all_of
        self._achieve_over = self.kinematics_over.all_of if self.kinematics_over is not None else None
        self.steering = steering.settings_of(rig)
        self.frame = frame.settings_of(rig) if rig.law.kind == "planar" or rig.upside_down is not None else None
        self._of_frame = np.array([self.channels.index(buttons[k]) for k in frame.BUTTONS if k in buttons], np.intp)
        self._of_hold = self.channels.index(buttons["steering.hold"]) if "steering.hold" in buttons else -1
        self.top_m_s = np.array([rig.wheel_top_m_s(w) for w in self.wheels])
        self.outputs = outputs.settings_of(rig)
        self.bindings = bindings.settings_of(rig, list(self.inputs))
        self.coasts = self.bindings is not None and "coast" in self.bindings.of
        titles = [c.name for c in sensed_columns(rig)]
        at_of = {n: titles.index(f"{plain(n)}_at") for n, a in rig.attachments.items() if a.kind == "position"}
        self.attachments = attachments.settings_of(rig, list(self.inputs), self.bindings, at_of)
        self.values = (
            *self.outputs.values,
            *(self.attachments.values if self.attachments is not None else ()),
            *([outputs.Value("robot", "coast", "")] if self.coasts else []),
        )
        """What leaves for the robot, V of them: the motors' values, the attachments', and whether it coasts."""
        self.layout = Layout(self._columns())
        start = self.layout.stage("outputs").start
        self._told = slice(start, start + len(self.values))
        self.motor_values = slice(start, start + len(self.outputs.values))
        first = self.layout.stage("sensed").start
        self._sensed = {}
        for name in ("turned", "absolute"):
            at = [self.layout.at("sensed", f"{plain(w)}_{name}") - first for w in rig.steered]
            self._sensed[name] = slice(at[0], at[-1] + 1) if at else slice(0, 0)
        self._gyro, self._up = (
            self.layout.at("sensed", name) - first if self.layout.has("sensed", name) else -1 for name in ("gyro", "up")
        )
        more = self.bindings is not None or self.attachments is not None
        self.reads_sensed = self.frame is not None or self.steering is not None or more
        """Whether some stage reads what came back, or remembers something after the rates."""

    def _columns(self) -> list[Column]:
        wheels = [plain(w) for w in self.wheels]
        framed = self.frame is not None
        steered = wheels if self.steering is not None else []
        return [
            Column("clock", "tick"),
            Column("clock", "t", "s"),
            Column("clock", "stopped"),
            *([Column("clock", "source")] if self.calibrated else []),
            *sensed_columns(self.rig),
            *(Column("raw", c) for c in self.channels),
            *(Column(stage, f) for stage in ("axes", "band", "curve", "scale", "rate") for f in self.functions),
            *(
                Column("bindings", n)
                for n in ([t for t, _ in TWIST] + list(bindings.FLAGS)) * (self.bindings is not None)
            ),
            *(Column("law", name, unit) for name, unit in TWIST),
            Column("law", "level"),
            Column("law", "moving_share"),
            Column("law", "turning_share"),
            *(Column("frame", name, unit) for name, unit in (*FRAME, *TWIST) if framed),
            *(Column("wheels", f"{w}_asked", "m/s") for w in wheels),
            *(Column("steering", f"{w}_{part}", unit) for part, unit in STEER for w in steered),
            *(Column("limits", f"{w}_given", "m/s") for w in wheels),
            *(Column("limits", f"{w}_lost", "m/s") for w in wheels),
            *(Column("motion", name, unit) for name, unit in (*TWIST, ("residual", "m/s"), ("scrub", "m/s"))),
            *(attachments.columns(self.attachments) if self.attachments is not None else []),
            *(Column("outputs", _named(v), v.unit) for v in self.values),
            *(Column("outputs", f"{plain(m)}_hums") for m in outputs.motor_names(self.rig)),
        ]

    def start(self, batch: tuple[int, ...] = ()) -> LineState:
        """Give the state before the first tick, for a batch of shape ``batch``."""
        return LineState(
            tick=0,
            rate=np.zeros((*batch, len(self.functions))),
            level=np.full(batch, float(self.rig.speed_levels.start_index)),
            buttons=np.zeros((*batch, 2)),
            frame=frame.start(self.frame, batch) if self.frame is not None else None,
            steer=steering.start(self.steering, batch) if self.steering is not None else None,
            bound=bindings.start(self.bindings, batch) if self.bindings is not None else None,
            attached=attachments.start(self.attachments, batch) if self.attachments is not None else None,
        )

    def rest(self, batch: tuple[int, ...] = ()) -> Floats:
        """Give the raw readings, B + (R,), of controls that nobody touches."""
        resting = np.zeros((*batch, len(self.channels)))
        resting[..., self._of_function] = (self.axes.low + self.axes.high) / 2
        return resting

    def clock(self, tick: float, batch: tuple[int, ...] = (), stop: bool = False, driving: str = "") -> Floats:
        """Give the first columns of a Tick for a batch."""
        clock = np.empty((*batch, 4 if self.calibrated else 3))
        clock[..., 0], clock[..., 1], clock[..., 2] = tick, tick * self.dt_s, stop
        if self.calibrated:
            clock[..., 3] = 1 + list(self.rig.sources).index(driving) if driving in self.calibrated else 0
        return clock

    def step(
        self, state: LineState, raw: Floats, sensed: Floats, stop: bool = False, driving: str = ""
    ) -> tuple[LineState, Floats]:
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
        driving : str
            The source that drives, for those with a calibration of their own.

        Returns
        -------
        LineState, B + (K,) float64
            The state after the tick, and the Tick's row.
        """
        shaped = self.shape(raw, driving)
        after, rated = self.pace(state, raw, shaped[-1], stop)
        clock = self.clock(state.tick, state.level.shape, stop, driving)
        return self.drive(after, clock, sensed, raw, shaped, rated)

    def shape(self, raw: Floats, driving: str = "") -> tuple[Floats, Floats, Floats, Floats]:
        """The stages before the rates, which remember nothing: fractions, banded, curved and scaled, B + (C,) each."""
        calibration = self.calibrated.get(driving, self.axes) if self.calibrated else self.axes
        fractions = axes.to_fractions(calibration, raw[..., self._of_function])
        banded = shaping.dead_band(self.shaping, fractions)
        curved = shaping.curve(self.shaping, banded)
        return fractions, banded, curved, curved * self.shaping.scale

    def pace(self, state: LineState, raw: Floats, scaled: Floats, stop: bool = False) -> tuple[LineState, Floats]:
        """The stages that remember: rates and speed levels. Gives the state after the tick and the rated, B + (C,)."""
        rated = np.zeros_like(scaled) if stop else shaping.rate_limit(self.shaping, state.rate, scaled)
        level, buttons = self._walk_levels(state, raw)
        return state._replace(tick=state.tick + 1, rate=rated, level=level, buttons=buttons), rated

    def drive(
        self, state: LineState, clock: Floats, sensed: Floats, raw: Floats, shaped: tuple[Floats, ...], rated: Floats
    ) -> tuple[LineState, Floats]:
        """The stages after the rates, from the law to the outputs.

        Gives the state with what frame and steering remember, and the whole row, B + (K,).
        """
        orders: bindings.Orders | None = None
        stop = clock[..., 2]
        if self.bindings is not None:
            state, orders, rated = self._obey(state, raw, rated, stop)
        chosen = self.levels[state.level.astype(np.intp)]
        if orders is None or orders.idle:
            twist = self.law(rated) * chosen[..., :3]
            asked_by = [orders.twist, orders.flags] if orders is not None else []
            parts = [clock, sensed, raw, *shaped, rated, *asked_by, twist, chosen[..., 3:]]
        else:
            fractions = self.law(rated)
            # the sticks go first: a button moves the robot where no stick does
            fractions = np.where(fractions == 0, orders.twist, fractions)
            halted = (orders.flags[..., 1:2] != 0) | (orders.flags[..., 2:3] != 0)
            twist = np.where(halted, 0.0, fractions * chosen[..., :3] * orders.flags[..., :1])
            parts = [clock, sensed, raw, *shaped, rated, orders.twist, orders.flags, twist, chosen[..., 3:]]

        over: Floats | None = None
        if self.frame is not None and state.frame is not None:
            oriented = frame.orient(self.frame, state.frame, *self._orientation(sensed, raw))
            if orders is not None and self.bindings is not None and not orders.idle:
                about = (oriented.field, oriented.zero, oriented.point, oriented.heading)
                points = len(self.frame.points)
                field, zero, point = bindings.turn_frame(self.bindings, orders, *about, points)
                oriented = oriented._replace(field=field, zero=zero, point=point)
            asked_twist = twist
            if self.rig.law.kind == "planar":
                asked_twist = frame.robot_twist(self.frame, oriented, twist, self.dt_s)
            heading = oriented.heading - oriented.zero
            told = np.empty((*heading.shape, 4))
            told[..., 0], told[..., 1], told[..., 2], told[..., 3] = (
                heading,
                oriented.field,
                oriented.point,
                oriented.over,
            )
            parts += [told, asked_twist]
            state = state._replace(frame=oriented)
            twist = asked_twist
            over = oriented.over if self.kinematics_over is not None else None

        if self.steering is not None and state.steer is not None:
            steer, wheels, drive = self._steer(state.steer, sensed, raw, twist, over, clock[..., 2] != 0)
            state = state._replace(steer=steer)
            parts += wheels
        else:
            asked, given = self.fit(twist, over)
            motion = self._motion(given, over)
            parts += [asked, given, asked - given, motion]
            drive = outputs.drive_of(self.outputs, given)
        leaving = [outputs.encode(self.outputs, drive)]
        if self.attachments is not None and state.attached is not None:
            attached, drives, values = attachments.act(self.attachments, state.attached, orders, raw, sensed, stop)
            state = state._replace(attached=attached)
            parts += [attached.told, drives]
            leaving.append(values)
        if self.coasts and orders is not None:
            leaving.append(orders.flags[..., 2:3])
        return state, np.concatenate((*parts, *leaving, outputs.hums(self.outputs, drive)), axis=-1)

    def _obey(
        self, state: LineState, raw: Floats, rated: Floats, stop: Floats
    ) -> tuple[LineState, bindings.Orders, Floats]:
        """Let buttons, letters and bits act: state, what they ask for, and the rates after a brake."""
        assert self.bindings is not None and state.bound is not None
        bound, orders = bindings.act(self.bindings, state.bound, raw, stop)
        if orders.idle:
            return state._replace(bound=bound), orders, rated
        names = [v.name for v in self.rig.speed_levels.levels]
        level = bindings.walk_levels(self.bindings, orders, state.level, names)
        rated = np.where(orders.flags[..., 1:2] != 0, 0.0, rated)
        return state._replace(bound=bound, level=level, rate=rated), orders, rated

    def resting(self) -> Floats:
        """Give what the robot is told to rest, (V,): motors without drive, attachments in their safe state."""
        row = self.step(self.start(), self.rest(), np.zeros(len(sensed_columns(self.rig))), stop=True)[1]
        return self.told(row).copy()

    def _orientation(self, sensed: Floats, raw: Floats) -> tuple[Floats, Floats, Floats]:
        """What the frame's buttons, the gyro and the side sensor read."""
        gyro = sensed[..., self._gyro] if self._gyro >= 0 else np.zeros(raw.shape[:-1])
        up = sensed[..., self._up] if self._up >= 0 else gyro
        return raw[..., self._of_frame], gyro, up

    def _asked(self, twist: Floats, over: Floats | None) -> Floats:
        """What a twist asks of the wheels: speeds, or velocity vectors where wheels are steered."""
        needs = kinematics.wheel_speeds if self.steering is None else kinematics.hub_velocities
        asked = needs(self.kinematics, twist)
        if over is not None and self.kinematics_over is not None and np.count_nonzero(over):
            flag = over[..., None] if self.steering is None else over[..., None, None]
            asked = np.where(flag > 0, needs(self.kinematics_over, twist), asked)
        return asked

    def fit(self, twist: Floats, over: Floats | None = None) -> tuple[Floats, Floats]:
        """Give what a twist asks of the wheels, and what of it they can."""
        asked = self._asked(twist, over)
        rule = self.rig.limits
        if rule.fit == "clip":
            return asked, (limits.clip_each if self.steering is None else limits.clip_vectors)(asked, self.top_m_s)
        if rule.first == "both":
            return asked, (limits.scale_all if self.steering is None else limits.scale_vectors)(asked, self.top_m_s)
        turning = np.array(twist)
        turning[..., :2] = 0.0
        turn = self._asked(turning, over)
        kept, yielding = (asked - turn, turn) if rule.first == "turning" else (turn, asked - turn)
        flat = (kept[..., None], yielding[..., None]) if self.steering is None else (kept, yielding)
        k, share = limits.give_way(*flat, self.top_m_s)
        shape = (..., None) if self.steering is None else (..., None, None)
        given: Floats = kept * k[shape] + yielding * share[shape]
        return asked, given

    def _motion(self, wheels: Floats, over: Floats | None) -> Floats:
        """What the wheels achieve: the twist, how far they disagree, and the greatest side slip, B + (5,)."""
        found = np.einsum("kw,...w->...k", self._achieve, wheels)
        if over is not None and self._achieve_over is not None and np.count_nonzero(over):
            found = np.where(over[..., None] > 0, np.einsum("kw,...w->...k", self._achieve_over, wheels), found)
        n = 3 + wheels.shape[-1]
        motion = np.empty((*wheels.shape[:-1], 5))
        motion[..., :3] = found[..., :3]
        motion[..., 3] = np.maximum.reduce(np.abs(found[..., 3:n]), axis=-1)
        motion[..., 4] = np.maximum.reduce(np.abs(found[..., n:]), axis=-1) if found.shape[-1] > n else 0.0
        return motion

    def _steer(
        self,
        before: steering.SteerState,
        sensed: Floats,
        raw: Floats,
        twist: Floats,
        over: Floats | None,
        stopped: Floats | NDArray[np.bool_],
    ) -> tuple[steering.SteerState, list[Floats], Floats]:
        """Kinematics, steering and limits of steered wheels: state, the row's parts, and all motors' drives."""
        settings = self.steering
        assert settings is not None
        asked, given = self.fit(twist, over)
        seen = steering.look(
            settings, before, sensed[..., self._sensed["turned"]], sensed[..., self._sensed["absolute"]]
        )
        hold = raw[..., self._of_hold] >= levels.PRESSED if self._of_hold >= 0 else False
        aimed, wheels = steering.aim(settings, seen, given, hold)
        after, turning = steering.loop(settings, aimed, before, self.dt_s, bool(np.count_nonzero(stopped)))
        full = wheels.sign * np.hypot(asked[..., 0], asked[..., 1])
        motion = self._motion(wheels.vectors.reshape(*full.shape[:-1], -1), over)
        drive = np.concatenate((outputs.drive_of(self.outputs, wheels.speed), turning), axis=-1)
        lost = full - wheels.sign * wheels.size
        return after, [full, seen.angle, aimed.target, wheels.share, wheels.speed, lost, motion], drive

    def told(self, row: Floats) -> Floats:
        """Take what the motor drivers are told, B + (V,), out of a Tick."""
        return row[..., self._told]

    def choose_level(self, state: LineState, steps: int) -> LineState:
        """Give the state with the level walked by ``steps``, as a key on the screen does."""
        top = len(self.levels) - 1.0
        return state._replace(level=np.minimum(np.maximum(state.level + steps, 0.0), top))

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


def _named(value: outputs.Value) -> str:
    return f"{plain(value.motor)}_{value.name}"
