"""The driver's side of a rig: axes, shaping, law, limits and speed levels."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable
from typing import Annotated, Any, Literal

from pydantic import Field

from pivrex.rig.base import Table
from pivrex.rig.channels import CHANNELS, is_one_sided, stick_of
from pivrex.rig.chassis import Name
from pivrex.rig.quantities import Quantity

__all__ = ["LAWS", "ROLES", "Axis", "ChannelShaping", "Law", "Level", "Limits", "Shaping", "SpeedLevels"]

LAWS: dict[str, dict[str, str]] = {
    "tank": {"left": "left_y", "right": "right_y"},
    "arcade": {"forward": "left_y", "turn": "left_x"},
    "split arcade": {"forward": "left_y", "turn": "right_x"},
    "triggers": {"ahead": "right_trigger", "back": "left_trigger", "turn": "left_x"},
    "planar": {"forward": "left_y", "sideways": "left_x", "turn": "right_x"},
    "each": {},
}
"""Every law with the functions it needs and the channel that each reads unless the rig says otherwise."""

EITHER = "either"
"""Of moving and turning the weaker rests."""

ON_BENCH = ("left_y", "right_y", "left_x", "right_x", "right_trigger", "left_trigger")
"""The channels of motors on a bench, unless the rig says others."""

ROLES = ("forward", "sideways", "turn", "left", "right", "ahead", "back")
"""Every function that a law may need."""


class Axis(Table):
    """How one raw reading becomes a fraction. Sticks read less at left and away, as gamepads do."""

    source: str = Field(
        default="chosen",
        description="Its source: chosen (the one that drives), always the same kind (gamepad, keys, sticks), or one of this "
        "rig's own.",
        examples=["chosen"],
    )
    channel: str = Field(
        default="",
        description="The channel, named by its position; the axis' own name if left out.",
        examples=["left_y"],
    )
    minimum: Annotated[float, Quantity("number")] = Field(
        default=-1.0,
        description="The raw reading at the left or forward end (of a trigger: at rest; 0 if left out).",
        examples=[-0.97],
    )
    centre: tuple[Annotated[float, Quantity("number")], Annotated[float, Quantity("number")]] | None = Field(
        default=None,
        description="The range of raw readings of the released stick. Half way if left out; a trigger has none.",
        examples=[[-0.03, 0.02]],
    )
    maximum: Annotated[float, Quantity("number")] = Field(
        default=1.0,
        description="The raw reading at the right or back end (of a trigger: fully pressed).",
        examples=[0.98],
    )
    reversed: bool = Field(
        default=False, description="True if the device's readings have the opposite sign.", examples=[False]
    )

    def of_channel(self, channel: str) -> Axis:
        """Return the calibration as it counts for a channel: one that does not say where a trigger or button begins begins
        at 0, where these rest.
        """
        if not is_one_sided(channel) or "minimum" in self.model_fields_set:
            return self
        return self.model_copy(update={"minimum": 0.0})

    def mistakes(self) -> list[tuple[str, str]]:
        found = []
        if self.channel and self.channel not in CHANNELS:
            found.append(("channel", f'is "{self.channel}", which is no channel; {_nearest(self.channel, CHANNELS)}'))
        if self.minimum >= self.maximum:
            found.append(
                (
                    "minimum",
                    f"is {self.minimum:g}, but must be less than maximum, {self.maximum:g}; "
                    "if the device reads the other way round, say reversed = true",
                )
            )
        elif self.centre is not None:
            low, high = self.centre
            if not self.minimum <= low <= high <= self.maximum:
                found.append(
                    (
                        "centre",
                        f"is [{low:g}, {high:g}], but must rise and lie within minimum and maximum, "
                        f"{self.minimum:g} to {self.maximum:g}",
                    )
                )
            elif low == self.minimum or high == self.maximum:
                found.append(
                    (
                        "centre",
                        f"reaches the end of the range {self.minimum:g} to {self.maximum:g}; "
                        "that half of the stick would do nothing",
                    )
                )
        return found


class ChannelShaping(Table):
    """How the fraction of one function is shaped."""

    dead_band: Annotated[float, Quantity("fraction", at_least=0, at_most=0.9, step="1 %")] = Field(
        default=0.05, description="The dead band: a smaller reading does nothing.", examples=["6 %"]
    )
    curve: Annotated[float, Quantity("fraction", at_least=0, at_most=1, step="5 %")] = Field(
        default=0.0,
        description="Strength of the cubic blend (1 - k)·x + k·x³: 0 straight, 1 all cubic, gentle near the centre.",
        examples=["35 %"],
    )
    points: tuple[tuple[float, float], ...] = Field(
        default=(),
        description="A curve of your own instead: points [in, out] from [0, 0] to an in of 1, joined by straight lines.",
        examples=[[[0, 0], [0.5, 0.2], [1, 1]]],
    )
    scale: Annotated[float, Quantity("fraction", at_least=0, at_most=1, step="1 %")] = Field(
        default=1.0, description="The output of this function at full stick.", examples=["80 %"]
    )
    slew_up_per_s: Annotated[float, Quantity("rate", at_least=0, step="0.1 /s")] = Field(
        default=0.0,
        alias="slew_up",
        description="Slew rate away from zero, in full strokes a second: 2.5 /s is full speed in 0.4 s. 0 for no limit.",
        examples=["3 /s"],
    )
    slew_down_per_s: Annotated[float, Quantity("rate", at_least=0, step="0.1 /s")] = Field(
        default=0.0,
        alias="slew_down",
        description="Slew rate toward zero; 0 for no limit. There is no pause at zero: the rest of a tick counts at the other "
        "rate. A stop ignores it.",
        examples=["6 /s"],
    )

    def mistakes(self) -> list[tuple[str, str]]:
        if not self.points:
            return []
        xs, ys = zip(*self.points, strict=True)
        if not all(math.isfinite(v) and 0 <= v <= 1 for v in xs + ys):
            return [("points", "has a number outside 0 to 1")]
        if self.points[0] != (0, 0) or xs[-1] != 1:
            return [
                (
                    "points",
                    f"goes from {list(self.points[0])} to {list(self.points[-1])}, but must begin with [0, 0] and end with an in of 1",
                )
            ]
        if any(b <= a for a, b in itertools.pairwise(xs)):
            return [("points", "must have a larger in at every point")]
        if any(b < a for a, b in itertools.pairwise(ys)):
            return [("points", "goes down somewhere; more stick must never give less")]
        return []


class Shaping(Table):
    """Dead band, curve, scale and rate limit, for each function that the law needs."""

    measure: Literal["axis", "stick", "sum"] = Field(
        default="axis",
        description="What the dead band measures: each axis by itself, the stick's distance from its centre (two edges make "
        "an ellipse), or the sum of both axes (a rhombus). Only the last two keep the direction of a push.",
        examples=["stick"],
    )
    after_dead_band: Literal["from zero", "with a jump"] = Field(
        default="from zero",
        description="How motion begins outside the dead band: from zero, or with a jump to the stick's value.",
        examples=["from zero"],
    )
    direction: Literal["free", "kept"] = Field(
        default="free",
        description="For the law planar. free: each function is shaped by itself, so a curve, or different full speeds, turn a "
        "diagonal stick toward its stronger side. kept: the stick is shaped by its distance, with the curve and "
        "scale of forward, and keeps its direction; full speeds forward and left make an ellipse.",
        examples=["kept"],
    )
    overall: Annotated[float, Quantity("fraction", at_least=0, at_most=1, step="1 %")] = Field(
        default=1.0, description="Scales every function alike: everything slower.", examples=["100 %"]
    )
    forward: ChannelShaping = Field(default=ChannelShaping(), description="For forward and back.")
    sideways: ChannelShaping = Field(default=ChannelShaping(), description="For moving sideways (planar).")
    turn: ChannelShaping = Field(default=ChannelShaping(), description="For turning.")
    left: ChannelShaping = Field(default=ChannelShaping(), description="For the left side (tank).")
    right: ChannelShaping = Field(default=ChannelShaping(), description="For the right side (tank).")
    ahead: ChannelShaping = Field(default=ChannelShaping(), description="For the trigger that drives forward.")
    back: ChannelShaping = Field(default=ChannelShaping(), description="For the trigger that drives back.")

    motors: dict[Name, ChannelShaping] = Field(
        default_factory=dict, description="For each motor on a bench, by its name (law each)."
    )

    def of(self, role: str) -> ChannelShaping:
        """Return the shaping of a function; on a bench that of a motor."""
        if role in self.motors:  # whatever it is called: a motor may be a "left" too
            return self.motors[role]
        shaping: ChannelShaping = getattr(self, role)
        return shaping

    def key(self, role: str) -> str:
        """Return the key of a function's table."""
        return f"shaping.motors.{role}" if role in self.motors else f"shaping.{role}"


class Law(Table):
    """What the sticks mean. Each function reads the axis named here, or the usual one for that law."""

    kind: Literal["tank", "arcade", "split arcade", "triggers", "planar", "each"] = Field(
        description="tank: a stick for each side. arcade: one stick to move and turn. split arcade: one stick to move, "
        "the other to turn. triggers: one trigger forward, one back, a stick to turn. planar: one stick to move in "
        "any direction, an axis to turn. each: on a bench, a channel for each motor."
    )
    forward: str = Field(default="", description="The axis for forward and back.", examples=["left_y"])
    sideways: str = Field(default="", description="The axis for moving sideways.", examples=["left_x"])
    turn: str = Field(default="", description="The axis for turning.", examples=["left_x"])
    left: str = Field(default="", description="The axis for the left side.", examples=["left_y"])
    right: str = Field(default="", description="The axis for the right side.", examples=["right_y"])
    ahead: str = Field(default="", description="The axis that drives forward.", examples=["right_trigger"])
    back: str = Field(default="", description="The axis that drives back.", examples=["left_trigger"])
    motors: dict[Name, str] = Field(
        default_factory=dict,
        description="The axis of each motor on a bench, by its name.",
        examples=[{"drum": "left_y"}],
    )
    move_and_turn: Literal["together", "either"] = Field(
        default="together",
        description="Whether sticks move and turn the robot together, or do either: then the weaker of the two rests.",
        examples=["either"],
    )
    full_forward_m_s: Annotated[float, Quantity("speed", above=0, step="0.05 m/s")] | None = Field(
        default=None,
        alias="full_forward",
        description="The speed that a forward fraction of 1 commands; the fastest the wheels allow if left out.",
        examples=["1.2 m/s"],
    )
    full_left_m_s: Annotated[float, Quantity("speed", above=0, step="0.05 m/s")] | None = Field(
        default=None,
        alias="full_left",
        description="The speed that a sideways fraction of 1 commands; the fastest the wheels allow if left out.",
        examples=["1.0 m/s"],
    )
    full_turn_rad_s: Annotated[float, Quantity("turn rate", above=0, step="5 deg/s")] | None = Field(
        default=None,
        alias="full_turn",
        description="The turn that a turn fraction of 1 commands; the fastest on the spot if left out. With tank it counts as "
        "far as the sticks point in opposite directions: with a = abs(l + r) / (abs(l) + abs(r)) a stick of 1 "
        "commands its side to full_forward · a + (side speed of full_turn on the spot) · (1 - a). Both sticks "
        "forward, or one alone, command full_forward; equal and opposite sticks command full_turn.",
        examples=["360 deg/s"],
    )

    def axes(self) -> dict[str, str]:
        """Return the functions of this law in their order, each with the axis it reads. On a bench each motor is one."""
        if self.kind == "each":
            return dict(self.motors)
        return {role: getattr(self, role) or usual for role, usual in LAWS[self.kind].items()}

    def key(self, role: str) -> str:
        """Return the key at which a function's axis stands."""
        return f"law.motors.{role}" if self.kind == "each" else f"law.{role}"

    def mistakes(self) -> list[tuple[str, str]]:
        found: list[tuple[str, str]] = []
        axes = self.axes()
        if self.kind == "each" and self.move_and_turn == EITHER:
            found.append(("move_and_turn", f'is "{EITHER}", but motors on a bench neither move nor turn a robot'))
        for role in ROLES:
            if getattr(self, role) and role not in axes:
                found.append((role, f"is not a function of the law {self.kind}, which needs {', '.join(axes)}"))
        values = list(axes.values())
        for i, (role, axis) in enumerate(axes.items()):
            if axis in values[:i]:
                place = f"motors.{role}" if self.kind == "each" else role
                found.append((place, f'reads "{axis}", which is another function of this law already; choose another'))
        return found


def on_bench(law: dict[str, Any], motors: Iterable[str]) -> dict[str, Any]:
    """Return what a file says of the law of a bench, with a channel for each of its motors."""
    said = law.get("motors", {})
    if not isinstance(said, dict):
        return law
    free = iter([channel for channel in ON_BENCH if channel not in said.values()])
    others = [n for n in said if n not in motors]
    axes = {name: said[name] if name in said else next(free, "") for name in motors}
    return {"kind": "each", **law, "motors": {n: a for n, a in axes.items() if a} | {n: said[n] for n in others}}


class Limits(Table):
    """What happens when wheels would need more than they can."""

    fit: Literal["scale", "clip"] = Field(
        default="scale",
        description="scale slows all wheels by one factor, which keeps the direction of motion; clip limits each wheel by "
        "itself, which does not.",
        examples=["scale"],
    )
    first: Literal["both", "turning", "moving"] = Field(
        default="both",
        description="What is reduced first if moving and turning together are too fast: both equally, turning first (the path "
        "keeps its speed), or moving first (the turn keeps its rate).",
        examples=["turning"],
    )


class Level(Table):
    """A speed level chosen while driving."""

    name: Name = Field(description="Your name for it.", examples=["creep"])
    moving: Annotated[float, Quantity("fraction", above=0, at_most=1, step="5 %")] = Field(
        default=1.0, description="The share of moving at this level.", examples=["40 %"]
    )
    turning: Annotated[float, Quantity("fraction", above=0, at_most=1, step="5 %")] = Field(
        default=1.0, description="The share of turning at this level.", examples=["60 %"]
    )


class SpeedLevels(Table):
    """Speed levels, slowest first, and the buttons that walk through them. Where moving and turning are commanded apart
    (arcade, triggers, planar, a button's "turn left 40 %"), each share counts for its part. With tank both sides get one
    share, so that a resting side rests and the path stays as curved as the sticks say: the share for moving while both
    sides go the same way, the one for turning while they go opposite ways alike, evenly in between. A pivot gets the
    share for moving, and the wheels of the side that it names stand.
    """

    levels: tuple[Level, ...] = Field(default=(Level(name="full"),), min_length=1, description="The levels.")
    start: str = Field(default="", description="The level at the start; the last if left out.", examples=["cruise"])
    up: str = Field(default="", description="The button for the next faster level.", examples=["button_5"])
    down: str = Field(default="", description="The button for the next slower level.", examples=["button_4"])

    def mistakes(self) -> list[tuple[str, str]]:
        found = []
        names = [level.name for level in self.levels]
        if self.start and self.start not in names:
            found.append(("start", f'is "{self.start}", which is no level; {_nearest(self.start, names)}'))
        for i, name in enumerate(names):
            if name in names[:i]:
                found.append((f"levels.{i}.name", f'is "{name}" again; every level needs its own name'))
        for key, button in (("up", self.up), ("down", self.down)):
            if button and (button not in CHANNELS or not is_one_sided(button)):
                buttons = [c for c in CHANNELS if is_one_sided(c)]
                found.append((key, f'is "{button}", which is no button; {_nearest(button, buttons)}'))
        if self.up and self.up == self.down:
            found.append(("down", f'is "{self.down}", the same button as up'))
        return found

    @property
    def start_index(self) -> int:
        """The index of the level at the start."""
        names = [level.name for level in self.levels]
        return names.index(self.start) if self.start else len(names) - 1


def same_stick(first: str, second: str) -> bool:
    """Return whether two channels are the two directions of one stick."""
    return stick_of(first) == stick_of(second) and not is_one_sided(first)


def _nearest(name: str, known: list[str] | tuple[str, ...]) -> str:
    from difflib import get_close_matches

    near = get_close_matches(name, known, 1, 0.5)
    return f'did you mean "{near[0]}"?' if near else f"known are {', '.join(known)}"
