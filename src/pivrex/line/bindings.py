"""Bindings: the requests of buttons, letters and bits, tick by tick."""

from __future__ import annotations

from collections.abc import Iterable
from types import MappingProxyType
from typing import Any

import numpy as np

from pivrex.kernels.maths import clamp, larger, nan, smaller
from pivrex.kernels.records import Form, Numbers, Record, field
from pivrex.kernels.subset import kernel
from pivrex.line.axes import AxesSettings, calibration
from pivrex.line.helps import Help, helps_of
from pivrex.line.input_stages import ClockColumns, RawColumns
from pivrex.line.inputs import Inputs
from pivrex.line.layout import plain
from pivrex.line.presses import (
    ADD,
    HELD,
    LOWER,
    NOTHING,
    PUT,
    TOGGLE,
    BindingScratch,
    BindingSettings,
    BindingState,
    deflection,
    press_step,
    way_of,
)  # fmt: skip
from pivrex.line.stage import PRESSED, Rung, Stage, named
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.actions import Action
from pivrex.rig.attachments import PLACES, reach_of
from pivrex.rig.patches import Patch, target_of
from pivrex.rig.rig import Rig

__all__ = ["Bindings", "BindingsColumns", "bindings_step", "column_of", "moves_of"]

EVENTS = ("stop", "shut down", "record", "holding", "zero gyro")
LASTING = ("brake", "coast", "hold", "reverse")


class BindingsColumns(Record):
    """Commands, by kind: whoever obeys knows the column."""

    value: Numbers = field("columns")


@kernel
def write_action(s: BindingSettings, k: int, out: BindingsColumns) -> None:
    """Write what binding k asks for into its column."""
    if s.does[k] == PUT:
        out.value[s.column[k]] = s.value[k]
    elif s.does[k] == ADD:
        out.value[s.column[k]] += s.value[k]
    elif s.does[k] == LOWER:
        out.value[s.column[k]] = smaller(out.value[s.column[k]], s.value[k])


@kernel
def bindings_step(
    s: BindingSettings, w: BindingScratch, before: BindingState, after: BindingState, clock: ClockColumns, raw: RawColumns,
    out: BindingsColumns,
) -> None:  # fmt: skip
    """Write all that buttons, letters, bits and the sticks of attachments ask for."""
    for k in range(len(s.idle)):
        out.value[k] = s.idle[k]
    press_step(s, w, before, after, clock, raw)
    for i in range(s.twists):
        requested = 0.0
        for k in range(len(s.motions)):
            requested += after.grown[k] * s.twist[k][i]
        out.value[i] = clamp(requested, -1.0, 1.0)
    for k in range(len(s.of)):
        if w.lasting[k] if s.lasts[k] else w.fired[k]:
            write_action(s, k, out)
    for k in range(len(s.follows)):
        share = deflection(s, k, raw.reading[s.follows[k]])
        column, low, high = s.follow_column[k], s.follow_low[k], s.follow_high[k]
        if low == high:
            out.value[column] += share
        elif share != 0.0:  # a servo goes where the stick is
            out.value[column] = 0.5 * (low + high) + share * 0.5 * (high - low)
    for k in range(len(s.lamps)):
        lit = 1.0 if raw.reading[s.lamps[k]] >= PRESSED else 0.0
        out.value[s.lamp_column[k]] = larger(out.value[s.lamp_column[k]], lit)


def column_of(rig: Rig, inputs: Inputs, name: str) -> int:
    """Return the place of a column among those of the bindings; -1 if this rig has none of that name."""
    if inputs.requested is None:
        stage = Bindings.of(rig, inputs)
        inputs.requested = tuple(c.name for c in stage.columns) if stage is not None else ()
    return inputs.requested.index(name) if name in inputs.requested else -1


def moves_of(actions: Iterable[Action]) -> list[str]:
    """Return the own moves that are bound, each as it is written, once."""
    return list(dict.fromkeys(a.text for a in actions if a.verb == "do"))


class Bindings(Stage):
    """Everything that buttons, letters, bits and the sticks of attachments ask for, in columns by kind."""

    name = "bindings"
    begins = MappingProxyType({"pressed_at": -1e9})

    def __init__(self, rig: Rig, inputs: Inputs) -> None:
        self._rig = rig
        pairs = [(p, p.action) for p in inputs.patches if p.action is not None]
        self.patches: tuple[Patch, ...] = tuple(
            p for p, d in pairs if d.verb != "follow" and not (p.source == "session" and d.target in rig.attachments)
        )
        self.actions: tuple[Action, ...] = tuple(p.action for p in self.patches if p.action is not None)
        self._helps = helps_of(list(self.actions))
        self._lamps = [
            (d.target, inputs.at(p.source, p.channel))
            for p, d in pairs
            if p.source == "session" and d.target in rig.attachments
        ]
        following = [(p, d.target) for p, d in pairs if d.verb == "follow"]
        self.followers = tuple(target for _, target in following)
        self._names_of_levels = [v.name for v in rig.speed_levels.levels]
        motions = [i for i, d in enumerate(self.actions) if d.verb == "motion"]
        twist = np.array([self._fractions(self.actions[i]) for i in motions]).reshape(-1, 4)
        self.columns = named("bindings", *self._names(bool(motions), bool((twist[:, 3] != 0).any())))
        self.settings: BindingSettings = self._settings(rig, inputs, [p for p, _ in following], motions, twist)
        self.at_rest = tuple(inputs.at(p.source, p.channel) for p in self.patches)
        """The reading of each binding, among all."""
        self.form = Form(BindingsColumns, columns=len(self.columns))
        sizes = {"pressed": len(self.settings.channels), "bindings": len(self.patches), "motions": len(motions)}
        self.memory, self.scratch = Form(BindingState, **sizes), Form(BindingScratch, **sizes)
        self.kept_while = tuple((p.source, p.channel, p.action, p.binding) for p in self.patches)

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Bindings | None:
        return cls(rig, inputs) if inputs.patches or rig.attachments else None

    def _settings(
        self, rig: Rig, inputs: Inputs, following: list[Patch], motions: list[int], twist: Any
    ) -> BindingSettings:
        bindings = [p.binding for p in self.patches]
        at = [inputs.at(p.source, p.channel) for p in self.patches]
        with_ = [
            inputs.at(p.source, b.with_) if b is not None and b.with_ else -1
            for p, b in zip(self.patches, bindings, strict=True)
        ]
        channels = list(dict.fromkeys([*at, *(b for b in with_ if b >= 0)]))
        beats = [
            (i, j) for i, (a, b) in enumerate(zip(at, with_, strict=True)) for j, (c, d) in enumerate(zip(at, with_, strict=True))
            if b >= 0 and d < 0 and a == c
        ]  # fmt: skip
        of_motion = [bindings[i] for i in motions]
        ways = np.array([self.actions[i].twist for i in motions]).reshape(-1, 3)
        opposite = [(i, j) for i, a in enumerate(ways) for j, b in enumerate(ways) if (a * b < 0).any()]
        columns = {c.name: i for i, c in enumerate(self.columns)}
        does = [self._does(action, columns) for action in self.actions]
        followers = [self._followed(name, columns) for name in self.followers]
        idle = [1.0 if n == "slow" else nan if n.endswith("_to") and n != "level_to" else 0.0 for n in columns]
        form = Form(
            BindingSettings, pressed=len(channels), bindings=len(self.patches), beats=len(beats), motions=len(motions),
            opposites=len(opposite), columns=len(columns), followers=len(following), lamps=len(self._lamps),
            calibration=Form(AxesSettings, drivers=1, channels=len(following)),
        )  # fmt: skip
        made: BindingSettings = form.of(
            channels=channels,
            of=[channels.index(a) for a in at],
            other=[channels.index(b) if b >= 0 else -1 for b in with_],
            way=[way_of(p) for p in self.patches],
            presses=[float(b.presses) if b is not None else 0.0 for b in bindings],
            within=[b.within_s if b is not None else np.inf for b in bindings],
            letter=[p.channel.startswith("letter ") for p in self.patches],
            beats=np.array(beats).reshape(-1, 2),
            **{what: [d[k] for d in does] for k, what in enumerate(("does", "column", "value", "lasts"))},
            motions=motions,
            twist=twist,
            bound=[self.actions[i].value for i in motions],
            slew_up=[b.slew_up_per_s if b is not None else 0.0 for b in of_motion],
            slew_down=[b.slew_down_per_s if b is not None else 0.0 for b in of_motion],
            opposite=np.array(opposite).reshape(-1, 2),
            twists=4 if "pivot" in columns else 3 if "forward" in columns else 0,
            idle=idle,
            follows=[inputs.at(p.source, p.channel) for p in following],
            **{
                what: [f[k] for f in followers] for k, what in enumerate(("follow_column", "follow_low", "follow_high"))
            },
            calibration=calibration([[(p.channel, rig.axis_of(p.source, p.channel)) for p in following]]),
            dead_band=[p.binding.dead_band if p.binding is not None else 0.0 for p in following],
            sense=[-1.0 if p.binding is not None and p.binding.reversed else 1.0 for p in following],
            lamps=[channel for _, channel in self._lamps],
            lamp_column=[columns[f"{plain(n)}_share"] for n, _ in self._lamps],
            dt=rig.ask_dt_s,
        )
        return made

    @staticmethod
    def _fractions(action: Action) -> tuple[float, float, float, float]:
        """Forward, left, turn and pivot: of a pivot the wheels of one side stand, whatever full means."""
        forward, left, turn = action.twist
        return (0.0, 0.0, 0.0, 2 * turn) if action.pivots else (forward, left, turn, 0.0)

    def _names(self, moves: bool, pivots: bool) -> list[tuple[str, str]]:
        verbs = {d.verb for d in self.actions}
        names = ["forward", "left", "turn"] if moves else []
        names += ["pivot"] if pivots else []
        names += ["slow"] if "slow" in verbs else []
        names += [v for v in LASTING if v in verbs] + [v.replace(" ", "_") for v in EVENTS if v in verbs]
        names += ["level_to"] if "level" in verbs else []
        names += ["level_by"] if "walk" in verbs else []
        names += ["frame"] if "frame" in verbs else []
        names += ["set_heading"] if "heading" in verbs else []
        names += ["next_point"] if "point" in verbs else []
        names += ["help"] if "help" in verbs else []
        names += ["routine_by"] if "routine" in verbs else []
        names += ["do"] if "do" in verbs else []
        found = [(n, "") for n in names]
        for name, attachment in self._rig.attachments.items():
            unit = reach_of(attachment).unit if attachment.kind in PLACES else ""
            found += [(f"{plain(name)}_share", ""), (f"{plain(name)}_to", unit), (f"{plain(name)}_by", unit)]
        return found

    def _followed(self, name: str, columns: dict[str, int]) -> tuple[int, float, float]:
        """Return the column of an attachment that follows a stick, and where a servo goes at its ends."""
        attachment = self._rig.attachments[name]
        if attachment.kind != "servo":
            return columns[f"{plain(name)}_share"], 0.0, 0.0
        reach = reach_of(attachment)
        return columns[f"{plain(name)}_to"], reach.low, reach.high

    def _does(self, action: Action, columns: dict[str, int]) -> tuple[int, int, float, bool]:  # noqa: C901, PLR0911, PLR0912 - a case for each action
        """Return what an action does to which column, by what, and whether as long as it lasts."""
        kind = self._rig.attachments[action.target].kind if action.target in self._rig.attachments else ""
        name = plain(action.target)
        match action.verb:
            case "motion":
                return NOTHING, 0, 0.0, False
            case "slow":
                return LOWER, columns["slow"], action.value, True
            case "brake" | "coast" | "hold" | "reverse":
                return PUT, columns[action.verb], 1.0, True
            case "stop" | "shut down" | "record" | "holding" | "zero gyro":
                return PUT, columns[action.verb.replace(" ", "_")], 1.0, False
            case "level":
                return PUT, columns["level_to"], 1.0 + self._names_of_levels.index(action.target), False
            case "walk":
                return ADD, columns["level_by"], 1.0 if action.target == "up" else -1.0, False
            case "frame":
                return PUT, columns["frame"], {"robot": 1.0, "field": 2.0, "other": 3.0}[action.target], False
            case "heading":
                return PUT, columns["set_heading"], 1.0, False
            case "point":
                return PUT, columns["next_point"], 1.0, False
            case "routine":
                return ADD, columns["routine_by"], 1.0 if action.target == "next" else -1.0, False
            case "do":
                return PUT, columns["do"], 1.0 + moves_of(self.actions).index(action.text), False
            case "help":
                return PUT, columns["help"], 1.0 + self._helps.index(Help(action.target, action.numbers)), True
            case "speed":
                return ADD, columns[f"{name}_share"], action.value, True
            case "to":
                return PUT, columns[f"{name}_to"], target_of(self._rig, action), False
            case "by":
                return ADD, columns[f"{name}_by"], target_of(self._rig, action), False
            case "on" if kind == "switch" and way_of(self._patch_of(action)) in (HELD, TOGGLE):
                return PUT, columns[f"{name}_share"], 1.0, True
            case "on" | "off":
                return PUT, columns[f"{name}_to"], float(action.verb == "on"), False
            case "toggle":
                return PUT, columns[f"{name}_by"], 1.0, False
        raise TypeError(f"unknown action {action!r}")

    def _patch_of(self, action: Action) -> Patch:
        return next(p for p in self.patches if p.action is action)

    # --- explanation ---

    def moving(self, tick: WheelTick) -> list[str]:
        """Return which buttons or letters move the robot; empty if none does."""
        if not any(tick.get("bindings", n) for n in ("forward", "left", "turn", "pivot")):
            return []
        names = tick.line.inputs.names
        held = [
            f"{p.channel} {d.text}"
            for p, d, at in zip(self.patches, self.actions, self.at_rest, strict=True)
            if d.verb == "motion" and tick("raw", names[at]) >= PRESSED
        ]
        return held or ["a button, falling back"]

    def phrases(self, tick: WheelTick) -> list[str]:
        halted = [n for n in ("brake", "coast") if tick.get("bindings", n)]
        return [] if tick.by_stick or tick("law", "entered") else [", ".join(halted or self.moving(tick))]

    def rungs(self, tick: WheelTick) -> list[Rung]:
        moving = self.moving(tick)
        slow = tick.get("bindings", "slow", 1.0)
        halted = [n for n in ("brake", "coast") if tick.get("bindings", n)]
        words = [*moving, *([f"slow {slow * 100:g} %"] if slow != 1 else []), *halted]
        if not words:
            return []
        requested = ", ".join(
            f"{n} {tick('bindings', n):+.2f}" for n in ("forward", "left", "turn", "pivot") if tick.get("bindings", n)
        )
        verbs = ("motion",) if moving else ("slow",) if slow != 1 else ("brake", "coast")
        key = next((p.key for p, d in zip(self.patches, self.actions, strict=True) if d.verb in verbs), "")
        return [
            Rung(
                "button",
                " · ".join(words) + (f" → {requested}" if moving else ""),
                key,
                f"! {halted[0]}" if halted else "",
            )
        ]
