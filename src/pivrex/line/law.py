"""The law: the meaning of the sticks at the present speed level, or a motion that buttons request. It gives a twist."""

from __future__ import annotations

import numpy as np

from pivrex.kernels.maths import clamp, div, hypot, larger, whole
from pivrex.kernels.records import Flag, Form, Number, Numbers, Record, Whole, field
from pivrex.kernels.subset import kernel
from pivrex.line.bindings import BindingsColumns, column_of
from pivrex.line.inputs import Inputs
from pivrex.line.kinematics import kinematics_of
from pivrex.line.laws import LAWS, requested_by_law
from pivrex.line.layout import Layout, plain
from pivrex.line.stage import Floats, Fractions, Rung, Stage, named
from pivrex.line.wheel_tick import NOTHING, WheelTick, turning
from pivrex.rig.rig import Rig

__all__ = ["HALTS", "Law", "LawColumns", "LawSettings", "LawState", "are_halted", "halts", "law_step"]

EACH, SIDES, DISTANCE = 0, 1, 2

SHOWN = 0.005
"""What two digits show."""

TWIST = (("forward", "m/s"), ("left", "m/s"), ("turn", "rad/s"))


class LawSettings(Record):
    """The speeds of fractions of 1 at each of L levels.

    Attributes
    ----------
    law, kind : int
        Which law; how a level's shares act. EACH: on moving and turning by themselves. SIDES: on both sides alike, for tank.
        DISTANCE: on the stick's distance, so that a push keeps its direction.
    full : (L, 3)
        The twist that fractions of 1 ask for: forward and left in m/s, turn in rad/s, the levels' shares in them.
    lever : float
        How fast a wheel at a side rolls for a turn of 1 rad/s, in m.
    pivots : (2,)
        The turn in rad/s for each m/s of the centre while the left, or the right, wheels stand.
    own : (L, W)
        On a bench, what a fraction of 1 asks of each motor, in rad/s.
    start : int
        The level at the start.
    forward, pivot, slow, level_to, level_by, brake, coast : int
        The columns of the bindings, -1 for none.
    """

    is_settings = True

    law: Whole = field()
    kind: Whole = field()
    full: Numbers = field("levels", 3, unit="m/s, m/s, rad/s")
    lever: Number = field(unit="m")
    pivots: Numbers = field(2, unit="1/m")
    own: Numbers = field("levels", "own", unit="rad/s")
    start: Whole = field()
    forward: Whole = field()
    pivot: Whole = field()
    slow: Whole = field()
    level_to: Whole = field()
    level_by: Whole = field()
    brake: Whole = field()
    coast: Whole = field()


class LawState(Record):
    """The speed level's index, B."""

    level: Number = field()


class LawColumns(Record):
    """The commanded twist, the speed level, what full means now, whether another than the controls asks, and on a bench what
    is commanded of each motor.
    """

    twist: Numbers = field(3, unit="m/s, m/s, rad/s")
    level: Number = field()
    full: Numbers = field(3, unit="m/s, m/s, rad/s")
    entered: Flag = field()
    own: Numbers = field("own", unit="rad/s")


HALTS = ("brake", "coast")
"""Buttons and letters that leave no motion, and no drive to the motors that drive."""


@kernel
def are_halted(bindings: BindingsColumns, brake: int, coast: int, entered: bool) -> bool:
    """Return whether a brake or a coast counts: not while something other than the controls asks for the motion."""
    if entered:
        return False
    return (brake >= 0 and bindings.value[max(brake, 0)] != 0.0) or (
        coast >= 0 and bindings.value[max(coast, 0)] != 0.0
    )


@kernel
def full_speeds(s: LawSettings, level: int, forward: float, left: float, turn: float) -> tuple[float, float, float]:
    """Return the twist that fractions of 1 ask for at a level, for the fractions of now.

    Notes
    -----
    SIDES: with l and r the sides' fractions, a = |l + r|/(|l| + |r|) is 1 while both go the same way and 0 while they go
    opposite ways alike. Both sides get one speed, V·a + W·(1 - a), with V what moving and W what turning asks of a wheel at
    the level; so a side that rests does, and the path is as curved as the sticks say. DISTANCE: with f and s the push, the
    full speed in its direction is that of the ellipse through the full speeds forward and left,
    √(f² + s²)/√((f/V)² + (s/W)²), for both. (Own rules.)
    """
    full = s.full[level]
    if s.kind == SIDES:
        # |l| + |r| is 2·max(|f|, |t|), and |l + r| is 2·|f|
        most = larger(abs(forward), abs(turn))
        alike = div(abs(forward), most) if most > 0.0 else 1.0
        moving, spinning = full[0], full[2] * s.lever
        each = moving if moving == spinning else moving * alike + spinning * (1.0 - alike)
        return each, full[1], div(each, s.lever)
    if s.kind == DISTANCE:
        way = hypot(div(forward, full[0]), div(left, full[1]))
        radius = div(hypot(forward, left), way) if way > 0.0 else full[0]
        return radius, radius, full[2]
    return full[0], full[1], full[2]


@kernel
def next_level(s: LawSettings, level: float, bindings: BindingsColumns) -> float:
    """Return the speed level that buttons choose."""
    if s.level_to >= 0 and bindings.value[s.level_to] > 0.0:
        level = bindings.value[s.level_to] - 1.0
    if s.level_by >= 0 and bindings.value[s.level_by] != 0.0:
        level = clamp(level + bindings.value[s.level_by], 0.0, 1.0 * (len(s.full) - 1))
    return level


@kernel
def with_buttons(s: LawSettings, full: Numbers, slow: float, bindings: BindingsColumns, twist: Numbers) -> None:
    """Add the motion of buttons where no stick asks for any: the sticks go first."""
    pivot = bindings.value[s.pivot] if s.pivot >= 0 else 0.0
    speed = abs(pivot) * 0.5 * (full[0] * slow)
    about = s.pivots[0] if pivot > 0.0 else -s.pivots[1]
    for i in range(3):
        requested = bindings.value[s.forward + i] * (full[i] * slow)
        if i == 0:
            requested += speed
        if i == 2:
            requested += speed * about
        if twist[i] == 0.0:
            twist[i] = requested


@kernel
def law_step(
    s: LawSettings, before: LawState, after: LawState, rate: Fractions, bindings: BindingsColumns, out: LawColumns
) -> None:
    """Turn the functions' fractions into a twist, at the speed level of now; where buttons ask for a motion, that."""
    after.level = next_level(s, before.level, bindings)
    level = whole(after.level)
    forward, left, turn = requested_by_law(s.law, rate.value)
    out.full[0], out.full[1], out.full[2] = full_speeds(s, level, forward, left, turn)
    slow = bindings.value[s.slow] if s.slow >= 0 else 1.0
    for i in range(3):
        out.full[i] = out.full[i] * slow
    out.twist[0], out.twist[1], out.twist[2] = forward * out.full[0], left * out.full[1], turn * out.full[2]
    if s.forward >= 0:
        with_buttons(s, s.full[level], slow, bindings, out.twist)
    out.entered = False  # another part enters after this stage
    halted = are_halted(bindings, s.brake, s.coast, False)
    if halted:
        out.twist[0], out.twist[1], out.twist[2] = 0.0, 0.0, 0.0
    for i in range(len(out.own)):
        out.own[i] = 0.0 if halted else rate.value[i] * slow * s.own[level][i]
    out.level = after.level


def settings_of(rig: Rig, inputs: Inputs) -> LawSettings:
    """Return the law's numbers of a rig."""
    full = (rig.full_forward_m_s, rig.full_left_m_s if rig.law.kind == "planar" else 0.0, rig.full_turn_rad_s)
    turning_alone = rig.fastest((0, 0, 1))
    lever = rig.fastest((1, 0, 0)) / turning_alone if turning_alone else 0.0
    sides = [lever, lever]
    if rig.chassis.shape == "two-sided":
        left = [w.y_m for w in rig.chassis.wheels if w.y_m > 0]
        right = [-w.y_m for w in rig.chassis.wheels if w.y_m < 0]
        sides = [sum(s) / len(s) if s else lever for s in (left, right)]
    columns = ("forward", "pivot", "slow", "level_to", "level_by", "brake", "coast")
    own = [rig.motors[n].wheel_top_rad_s for n in inputs.functions] if rig.is_bench else []
    made: LawSettings = Form(LawSettings, levels=len(rig.speed_levels.levels), own=len(own)).of(
        own=[[v.moving * top for top in own] for v in rig.speed_levels.levels],
        law=LAWS[rig.law.kind],
        kind=SIDES if rig.law.kind == "tank" else DISTANCE if rig.keeps_direction else EACH,
        full=[(v.moving * full[0], v.moving * full[1], v.turning * full[2]) for v in rig.speed_levels.levels],
        lever=lever,
        pivots=[1 / s if s else 0.0 for s in sides],
        start=rig.speed_levels.start_index,
        **{name: column_of(rig, inputs, name) for name in columns},
    )
    return made


def halts(layout: Layout, row: Floats) -> bool:
    """Return whether in the row of one robot, (K,), a brake or a coast counts."""
    at = [layout.at("bindings", n) for n in HALTS if layout.has("bindings", n)]
    return bool(row[at].any()) and not row[layout.at("law", "entered")]


class Law(Stage):
    """The last stage of what is asked. A motion from elsewhere enters here, in the law's place."""

    name = "law"

    def __init__(self, rig: Rig, inputs: Inputs) -> None:
        self._rig = rig
        self.functions = inputs.functions
        self.settings: LawSettings = settings_of(rig, inputs)
        own = [(f"{plain(f)}_asked", "rad/s") for f in self.functions] if rig.is_bench else []
        self.form, self.memory = Form(LawColumns, own=len(own)), Form(LawState)
        self.begins = {"level": self.settings.start}
        self.columns = named(
            "law", *TWIST, ("level", ""), *((f"full_{n}", unit) for n, unit in TWIST), ("entered", ""), *own
        )  # fmt: skip
        maps = kinematics_of(rig.chassis)
        self._rows = maps.inverse[:, None, :] if maps.hubs is None else maps.hubs

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Law:
        return cls(rig, inputs)

    def place(self, layout: Layout) -> None:
        self.entry = layout.these("law", ("forward", "left", "turn"))
        self.entered = layout.at("law", "entered")

    def function(self, fractions: Floats) -> Floats:
        """Return what fractions of the functions, (C,), mean: forward, left, turn as fractions of full, (3,)."""
        return np.array(requested_by_law(int(self.settings.law), fractions.tolist()))

    def full_of(self, function: str, level: int) -> tuple[float, str]:
        """Return what a fraction of 1 of a function means at a level, and its unit: m/s, deg/s of a turn, rpm on a bench."""
        if self._rig.is_bench:
            return float(self.settings.own[level][self.functions.index(function)]) * 30 / np.pi, "rpm"
        full = self.settings.full[level]
        if function == "turn":
            return float(np.degrees(full[2])), "deg/s"
        return float(full[1 if function == "sideways" else 0]), "m/s"

    def keep(self, other: Stage, state: LawState, batch: tuple[int, ...]) -> LawState:
        return self.choose(state, 0)

    def choose(self, state: LawState, steps: Floats | float) -> LawState:
        """Return the state with the level walked by ``steps``."""
        return state._replace(level=np.clip(state.level + steps, 0.0, len(self.settings.full) - 1.0))

    # --- explanation ---

    def terms(self, tick: WheelTick) -> dict[str, float]:
        """Return what each function adds to a wheel's speed, in m/s: the law and the wheel matrix are linear. Of wheels next to
        steered ones it is the length of what it adds to the hub's velocity.
        """
        if self._rig.is_bench:
            return {tick.wheel: tick("law", f"{tick.column}_asked")}
        full = np.array([tick("law", f"full_{n}") for n, _ in TWIST])
        found = {}
        for i, function in enumerate(self.functions):
            unit = np.zeros(len(self.functions))
            unit[i] = tick("rate", function)
            found[function] = self._along(tick, self.function(unit) * full)
        return found

    def _along(self, tick: WheelTick, twist: Floats) -> float:
        parts = (self._rows[tick.w] * twist).sum(axis=-1)
        return float(parts[0]) if len(parts) == 1 else float(np.hypot(parts[0], parts[1]))

    def from_elsewhere(self, tick: WheelTick) -> bool:
        """Return whether the motion is a button's, or one that entered here, or none because it is braked."""
        if tick("law", "entered"):
            return True
        if any(abs(v) >= NOTHING for v in tick.terms.values()):
            return any(tick.get("bindings", n) for n in ("brake", "coast"))
        requested = any(tick.get("bindings", n) for n in ("forward", "left", "turn", "pivot", "brake", "coast"))
        return bool(requested)

    def _shares(self, tick: WheelTick) -> str:
        """Name what makes it slower than full: the level and a slow button."""
        level = self._rig.speed_levels.levels[int(tick("law", "level"))]
        slow = tick.get("bindings", "slow", 1.0)
        words = [level.name] if min(level.moving, level.turning) != 1 else []
        words += [f"slow {slow * 100:g} %"] if slow != 1 else []
        return f"{', '.join(words)}: " if words else ""

    def phrases(self, tick: WheelTick) -> list[str]:
        if tick("law", "entered"):
            return [_asker(tick)]
        if not tick.by_stick:
            return []
        if self._rig.is_bench:
            return [f"{self._shares(tick)}{tick.speed(tick('law', f'{tick.column}_asked'))}"]
        if tick.by_motion:
            return [f"{self._shares(tick)}{self._motion(tick, 2)}"]
        main = tick.terms[tick.main]
        others = [(f, v) for f, v in tick.terms.items() if f != tick.main]
        # a button's request counts where the sticks are at rest
        twist = np.array([tick("law", n) for n, _ in TWIST])
        others.append(("button", self._along(tick, twist) - sum(tick.terms.values())))
        others = [(f, v) for f, v in others if abs(v) >= SHOWN]
        requested = tick("wheels", f"{tick.column}_requested")
        total = f"{self._shares(tick)}{main + 0.0:.2f} m/s" + "".join(
            f" {'+' if v > 0 else '-'} {f} {abs(v):.2f}" for f, v in others
        )
        return [total] + ([f"{requested:.2f} m/s"] if others or abs(requested - main) >= SHOWN else [])

    def _motion(self, tick: WheelTick, digits: int) -> str:
        sign = "+" if digits == 3 else ""
        left = f" left {tick('law', 'left'):{sign}.{digits}f}" if self._rig.law.kind == "planar" else ""
        turn = turning(float(np.degrees(tick("law", "turn"))))
        return f"forward {tick('law', 'forward'):{sign}.{digits}f}{left} m/s, turn {turn}"

    def rungs(self, tick: WheelTick) -> list[Rung]:
        level = self._rig.speed_levels.levels[int(tick("law", "level"))]
        slow = tick.get("bindings", "slow", 1.0)
        shares = f"moving {level.moving * 100:g} %, turning {level.turning * 100:g} %"
        shares += f", slow {slow * 100:g} %" if slow != 1 else ""
        if tick("law", "entered"):
            return [Rung("law", f"{_asker(tick)} → {self._motion(tick, 3)}")]
        if self._rig.is_bench:
            speed = tick.speed(tick("law", f"{tick.column}_asked"))
            text = f"{tick.wheel} {tick('rate', tick.wheel):+.3f}, level {level.name} ({shares}) → {speed}"
            return [Rung("law", text, f"law.motors.{tick.wheel}")]
        values = ", ".join(f"{f} {tick('rate', f):+.3f}" for f in self.functions)
        text = f"{self._rig.law.kind}: {values}, level {level.name} ({shares}) → {self._motion(tick, 3)}"
        return [Rung("law", text, "law.kind")]


def _asker(tick: WheelTick) -> str:
    """Return who asks for a motion that entered here."""
    line = int(tick("routine", "line"))
    return f"line {line} of the routine commands it" if line else "commanded by a move, not by the sticks"
