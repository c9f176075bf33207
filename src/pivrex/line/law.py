"""The law: what the sticks mean at the present speed level; where buttons ask for a motion, that. It ends in a twist."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from pivrex.line.inputs import Inputs
from pivrex.line.kinematics import kinematics_of
from pivrex.line.laws import LAW_FUNCTIONS
from pivrex.line.layout import Layout
from pivrex.line.stage import Floats, Rung, Stage, named, some
from pivrex.line.told import NOTHING, Told, turning
from pivrex.rig.rig import Rig

__all__ = ["Law", "LawSettings", "LawState", "full_speeds", "settings_of"]

EACH, SIDES, DISTANCE = range(3)

SHOWN = 0.005
"""What two digits show."""

TWIST = (("forward", "m/s"), ("left", "m/s"), ("turn", "rad/s"))


@dataclass(frozen=True)
class LawSettings:
    """What fractions of 1 mean at each of L levels.

    Attributes
    ----------
    kind : int
        How a level's shares act. EACH: on moving and turning by themselves. SIDES: on both sides alike, for tank.
        DISTANCE: on the stick's distance, so that a push keeps its direction.
    full : (L, 3) float64
        The twist that fractions of 1 ask for: forward and left in m/s, turn in rad/s, the levels' shares in them.
    lever : float
        How fast a wheel at a side rolls for a turn of 1 rad/s, in m.
    pivot : (2,) float64
        The turn in rad/s for each m/s of the centre while the left, or the right, wheels stand.
    start : int
        The level at the start.
    """

    kind: int
    full: Floats
    lever: float
    pivot: Floats
    start: int


class LawState(NamedTuple):
    """The speed level's index, B."""

    level: Floats


def settings_of(rig: Rig) -> LawSettings:
    """Take the law's numbers from a rig."""
    full = (rig.full_forward_m_s, rig.full_left_m_s if rig.law.kind == "planar" else 0.0, rig.full_turn_rad_s)
    turning_alone = rig.fastest((0, 0, 1))
    lever = rig.fastest((1, 0, 0)) / turning_alone if turning_alone else 0.0
    sides = [lever, lever]
    if rig.chassis.shape == "two-sided":
        left = [w.y_m for w in rig.chassis.wheels if w.y_m > 0]
        right = [-w.y_m for w in rig.chassis.wheels if w.y_m < 0]
        sides = [sum(s) / len(s) if s else lever for s in (left, right)]
    return LawSettings(
        kind=SIDES if rig.law.kind == "tank" else DISTANCE if rig.keeps_direction else EACH,
        full=np.array([(v.moving * full[0], v.moving * full[1], v.turning * full[2]) for v in rig.speed_levels.levels]),
        lever=lever,
        pivot=np.array([1 / s if s else 0.0 for s in sides]),
        start=rig.speed_levels.start_index,
    )


def full_speeds(settings: LawSettings, level: Floats, fractions: Floats) -> Floats:
    """Give the twist that fractions of 1 ask for, B + (3,), at levels B and the fractions B + (3,) of now.

    Notes
    -----
    SIDES: with l and r the sides' fractions, a = |l + r|/(|l| + |r|) is 1 while both go the same way and 0 while they go
    opposite ways alike. Both sides get one speed, V·a + W·(1 - a), with V what moving and W what turning asks of a wheel at
    the level; so a side that rests does, and the path is as curved as the sticks say. DISTANCE: with f and s the push, the
    full speed in its direction is that of the ellipse through the full speeds forward and left,
    √(f² + s²)/√((f/V)² + (s/W)²), for both. (Own rules.)
    """
    full = settings.full[level.astype(np.intp)]
    if settings.kind == EACH:
        return full
    full = full.copy()
    if settings.kind == SIDES:
        both, apart = np.abs(fractions[..., 0]), np.abs(fractions[..., 2])
        # |l| + |r| is 2·max(|f|, |t|), and |l + r| is 2·|f|
        most = np.maximum(both, apart)
        alike = np.where(most > 0, both / np.where(most > 0, most, 1.0), 1.0)
        moving, spinning = full[..., 0], full[..., 2] * settings.lever
        each = np.where(moving == spinning, moving, moving * alike + spinning * (1.0 - alike))
        full[..., 0] = each
        full[..., 2] = each / settings.lever
        return full
    f, s = fractions[..., 0], fractions[..., 1]
    way = np.sqrt((f / full[..., 0]) ** 2 + (s / full[..., 1]) ** 2)
    radius = np.where(way > 0, np.sqrt(f * f + s * s) / np.where(way > 0, way, 1.0), full[..., 0])
    full[..., 0], full[..., 1] = radius, radius
    return full


HALTS = ("brake", "coast")
"""Buttons and letters that leave no motion, and no drive to the motors that drive."""


def halts(layout: Layout) -> Callable[[Floats], Floats] | None:
    """Return a function that tells for rows, B + (K,), whether a brake or a coast counts, B float64: not while something other than
    the controls asks for the motion. None for a rig that has neither.
    """
    at, entered = [layout.at("bindings", n) for n in HALTS if layout.has("bindings", n)], layout.at("law", "entered")
    if not at:
        return None
    return lambda row: ((row[..., at] != 0).any(axis=-1) & (row[..., entered] == 0)) * 1.0


class Law(Stage):
    """The last stage of what is asked. A motion from elsewhere enters here, in the law's place."""

    name = "law"
    reads = ("rate", "bindings")

    def __init__(self, rig: Rig, inputs: Inputs) -> None:
        self._rig = rig
        self.functions = inputs.functions
        self.function = LAW_FUNCTIONS[rig.law.kind]
        self.settings: LawSettings = settings_of(rig)
        self.columns = named(
            "law", *TWIST, ("level", ""), *((f"full_{n}", unit) for n, unit in TWIST), ("entered", "")
        )  # fmt: skip
        maps = kinematics_of(rig.chassis)
        self._rows = maps.inverse[:, None, :] if maps.hubs is None else maps.hubs

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Law:
        return cls(rig, inputs)

    def place(self, layout: Layout) -> None:
        self._in = layout.stage("rate")
        self.entry = layout.these("law", ("forward", "left", "turn"))
        self._level, self._full = layout.at("law", "level"), layout.these("law", [f"full_{n}" for n, _ in TWIST])
        self.entered = layout.at("law", "entered")

        def at(name: str) -> int:
            return layout.at("bindings", name) if layout.has("bindings", name) else -1

        self._moves = at("forward")
        self._pivot, self._slow = at("pivot"), at("slow")
        self._halts = halts(layout)
        self._to, self._by = at("level_to"), at("level_by")

    def start(self, batch: tuple[int, ...]) -> LawState:
        return LawState(np.full(batch, float(self.settings.start)))

    def keep(self, other: Stage, state: LawState, batch: tuple[int, ...]) -> LawState:
        return LawState(np.minimum(state.level, len(self.settings.full) - 1.0))

    def choose(self, state: LawState, steps: Floats | float) -> LawState:
        """Give the state with the level walked by ``steps``."""
        return LawState(np.minimum(np.maximum(state.level + steps, 0.0), len(self.settings.full) - 1.0))

    def step(self, state: LawState, row: Floats) -> LawState:
        s = self.settings
        if self._to >= 0 and some(row[..., self._to]):
            wanted = row[..., self._to]
            state = LawState(np.where(wanted > 0, wanted - 1.0, state.level))
        if self._by >= 0 and some(row[..., self._by]):
            state = self.choose(state, row[..., self._by])
        fractions = self.function(row[..., self._in])
        full = full_speeds(s, state.level, fractions)
        if self._slow >= 0:
            full = full * row[..., self._slow, None]
        twist = fractions * full
        if self._moves >= 0:
            twist = self._with_buttons(row, state.level, twist)
        if self._halts is not None:
            row[..., self.entered] = 0.0  # whoever enters does so after this stage
            twist = np.where(self._halts(row)[..., None] > 0, 0.0, twist)
        row[..., self.entry], row[..., self._full] = twist, full
        row[..., self._level] = state.level
        return state

    def run(self, state: LawState, rows: Floats, counts: Sequence[bool]) -> LawState:
        if any(k >= 0 and some(rows[:, k]) for k in (self._to, self._by)):
            return super().run(state, rows, counts)
        self.step(LawState(np.full(len(rows), state.level)), rows)
        return state

    def _with_buttons(self, row: Floats, level: Floats, twist: Floats) -> Floats:
        """The sticks go first: a button moves the robot where no stick does."""
        full = self.settings.full[level.astype(np.intp)]
        if self._slow >= 0:
            full = full * row[..., self._slow, None]
        asked = row[..., self._moves : self._moves + 3] * full
        if self._pivot >= 0:
            pivot = row[..., self._pivot]
            speed = np.abs(pivot) * 0.5 * full[..., 0]
            about = np.where(pivot > 0, self.settings.pivot[0], -self.settings.pivot[1])
            asked = asked.copy()
            asked[..., 0] += speed
            asked[..., 2] += speed * about
        return np.where(twist == 0, asked, twist)

    # --- what it tells ---

    def terms(self, told: Told) -> dict[str, float]:
        """Give what each function adds to a wheel's speed, in m/s: the law and the wheel matrix are linear. Of wheels beside
        steered ones it is the length of what it adds to the hub's velocity.
        """
        full = np.array([told("law", f"full_{n}") for n, _ in TWIST])
        found = {}
        for i, function in enumerate(self.functions):
            unit = np.zeros(len(self.functions))
            unit[i] = told("rate", function)
            found[function] = self._along(told, self.function(unit) * full)
        return found

    def _along(self, told: Told, twist: Floats) -> float:
        parts = (self._rows[told.w] * twist).sum(axis=-1)
        return float(parts[0]) if len(parts) == 1 else float(np.hypot(parts[0], parts[1]))

    def from_elsewhere(self, told: Told) -> bool:
        """Tell whether the motion is a button's, or one that entered here, or none because it is braked."""
        if told("law", "entered"):
            return True
        if any(abs(v) >= NOTHING for v in told.terms.values()):
            return any(told.get("bindings", n) for n in ("brake", "coast"))
        asked = any(told.get("bindings", n) for n in ("forward", "left", "turn", "pivot", "brake", "coast"))
        return bool(asked)

    def _shares(self, told: Told) -> str:
        """Name what makes it slower than full: the level and a slow button."""
        level = self._rig.speed_levels.levels[int(told("law", "level"))]
        slow = told.get("bindings", "slow", 1.0)
        words = [level.name] if min(level.moving, level.turning) != 1 else []
        words += [f"slow {slow * 100:g} %"] if slow != 1 else []
        return f"{', '.join(words)}: " if words else ""

    def phrases(self, told: Told) -> list[str]:
        if told("law", "entered"):
            return [_asker(told)]
        if not told.by_stick:
            return []
        if told.by_motion:
            return [f"{self._shares(told)}{self._motion(told, 2)}"]
        main = told.terms[told.main]
        others = [(f, v) for f, v in told.terms.items() if f != told.main]
        # what a button asks for beside the sticks, where these are at rest
        twist = np.array([told("law", n) for n, _ in TWIST])
        others.append(("button", self._along(told, twist) - sum(told.terms.values())))
        others = [(f, v) for f, v in others if abs(v) >= SHOWN]
        asked = told("wheels", f"{told.column}_asked")
        total = f"{self._shares(told)}{main + 0.0:.2f} m/s" + "".join(
            f" {'+' if v > 0 else '-'} {f} {abs(v):.2f}" for f, v in others
        )
        return [total] + ([f"{asked:.2f} m/s"] if others or abs(asked - main) >= SHOWN else [])

    def _motion(self, told: Told, digits: int) -> str:
        sign = "+" if digits == 3 else ""
        left = f" left {told('law', 'left'):{sign}.{digits}f}" if self._rig.law.kind == "planar" else ""
        turn = turning(float(np.degrees(told("law", "turn"))))
        return f"forward {told('law', 'forward'):{sign}.{digits}f}{left} m/s, turn {turn}"

    def rungs(self, told: Told) -> list[Rung]:
        level = self._rig.speed_levels.levels[int(told("law", "level"))]
        slow = told.get("bindings", "slow", 1.0)
        shares = f"moving {level.moving * 100:g} %, turning {level.turning * 100:g} %"
        shares += f", slow {slow * 100:g} %" if slow != 1 else ""
        if told("law", "entered"):
            return [Rung("law", f"{_asker(told)} → {self._motion(told, 3)}")]
        values = ", ".join(f"{f} {told('rate', f):+.3f}" for f in self.functions)
        text = f"{self._rig.law.kind}: {values}, level {level.name} ({shares}) → {self._motion(told, 3)}"
        return [Rung("law", text, "law.kind")]


def _asker(told: Told) -> str:
    """Say who asks for a motion that entered here."""
    line = int(told("routine", "line"))
    return f"line {line} of the routine asks" if line else "asked for beside the sticks"
