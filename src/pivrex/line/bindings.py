"""Bindings: what buttons, letters and bits ask for, tick by tick."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from pivrex.line import axes as calibrated
from pivrex.line.helping import Help, helps_of
from pivrex.line.inputs import Inputs
from pivrex.line.layout import Layout, plain
from pivrex.line.presses import HELD, TOGGLE, BindingSettings, BindingState, Bools, act, deflections, way_of
from pivrex.line.stage import PRESSED, Floats, Rung, Stage, named, some
from pivrex.line.told import Told
from pivrex.rig.actions import Action
from pivrex.rig.attachments import PLACES, reach_of
from pivrex.rig.patches import Patch, target_of
from pivrex.rig.rig import Rig

__all__ = ["Bindings"]

EVENTS = ("stop", "shut down", "record", "holding", "zero gyro")
LASTING = ("brake", "coast", "hold")


class Bindings(Stage):
    """Everything that buttons, letters, bits and the sticks of attachments ask for, in columns by what is asked."""

    name = "bindings"
    reads = ("clock", "raw")

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
        self.settings: BindingSettings = self._settings(rig, inputs, [p for p, _ in following])
        self.at_rest = tuple(inputs.at(p.source, p.channel) for p in self.patches)
        """The reading of each binding, among all."""
        self.columns = named("bindings", *self._names())
        self.kept_while = tuple((p.source, p.channel, p.action, p.binding) for p in self.patches)
        self._names_of_levels = [v.name for v in rig.speed_levels.levels]

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Bindings | None:
        return cls(rig, inputs) if inputs.patches or rig.attachments else None

    def _settings(self, rig: Rig, inputs: Inputs, following: list[Patch]) -> BindingSettings:
        n = len(self.patches)
        bindings = [p.binding for p in self.patches]
        at = [inputs.at(p.source, p.channel) for p in self.patches]
        beside = [
            inputs.at(p.source, b.with_) if b is not None and b.with_ else -1
            for p, b in zip(self.patches, bindings, strict=True)
        ]
        channels = list(dict.fromkeys([*at, *(b for b in beside if b >= 0)]))
        other = [channels.index(b) if b >= 0 else -1 for b in beside]
        beaten = np.array([[a >= 0 and b < 0 and i == j for b, j in zip(beside, at, strict=True)]
                           for a, i in zip(beside, at, strict=True)], bool).reshape(n, n)  # fmt: skip
        motions = [i for i, d in enumerate(self.actions) if d.verb == "motion"]
        twist = np.array([self._fractions(self.actions[i]) for i in motions]).reshape(-1, 4)
        of_motion = [bindings[i] for i in motions]
        ways = np.array([self.actions[i].twist for i in motions]).reshape(-1, 3)
        opposite = [[bool((a * b < 0).any()) for b in ways] for a in ways]
        return BindingSettings(
            channels=np.array(channels, np.intp),
            of=np.array([channels.index(a) for a in at], np.intp),
            other=np.array(other, np.intp),
            way=np.array([way_of(p) for p in self.patches], np.intp),
            presses=np.array([float(b.presses) if b is not None else 0.0 for b in bindings]),
            within=np.array([b.within_s if b is not None else 1e9 for b in bindings]),
            letter=np.array([p.channel.startswith("letter ") for p in self.patches], bool),
            beaten=beaten,
            dt_s=rig.dt_s,
            motions=np.array(motions, np.intp),
            twist=twist,
            bound=np.array([self.actions[i].value for i in motions]),
            rise=np.array([b.rise_per_s if b is not None else 0.0 for b in of_motion]),
            fall=np.array([b.fall_per_s if b is not None else 0.0 for b in of_motion]),
            against=np.array(opposite, bool).reshape(len(motions), len(motions)),
            follows=np.array([inputs.at(p.source, p.channel) for p in following], np.intp),
            calibration=calibrated.of_drivers(
                calibrated.calibration([[(p.channel, rig.axis_of(p.source, p.channel)) for p in following]]), 0
            ),
            edge=np.array([p.binding.edge if p.binding is not None else 0.0 for p in following]),
            sense=np.array([-1.0 if p.binding is not None and p.binding.reversed else 1.0 for p in following]),
        )

    @staticmethod
    def _fractions(action: Action) -> tuple[float, float, float, float]:
        """Forward, left, turn and pivot: of a pivot the wheels of one side stand, whatever full means."""
        forward, left, turn = action.twist
        return (0.0, 0.0, 0.0, 2 * turn) if action.pivots else (forward, left, turn, 0.0)

    def _names(self) -> list[tuple[str, str]]:
        verbs = {d.verb for d in self.actions}
        names = ["forward", "left", "turn"] if self.settings.motions.size else []
        names += ["pivot"] if (self.settings.twist[:, 3] != 0).any() else []
        names += ["slow"] if "slow" in verbs else []
        names += [v for v in LASTING if v in verbs] + [v.replace(" ", "_") for v in EVENTS if v in verbs]
        names += ["level_to"] if "level" in verbs else []
        names += ["level_by"] if "walk" in verbs else []
        names += ["frame"] if "frame" in verbs else []
        names += ["set_heading"] if "heading" in verbs else []
        names += ["next_point"] if "point" in verbs else []
        names += ["help"] if "help" in verbs else []
        found = [(n, "") for n in names]
        for name, attachment in self._rig.attachments.items():
            unit = reach_of(attachment).unit if attachment.kind in PLACES else ""
            found += [(f"{plain(name)}_share", ""), (f"{plain(name)}_to", unit), (f"{plain(name)}_by", unit)]
        return found

    def place(self, layout: Layout) -> None:
        self._raw, self._out = layout.stage("raw"), layout.stage("bindings")
        self._t, self._stopped = layout.at("clock", "t"), layout.at("clock", "stopped")
        first = self._out.start
        at = {c.name: layout.at("bindings", c.name) - first for c in self.columns}
        self._idle = np.zeros(len(self.columns))
        """What stands there while nothing is asked for."""
        if "slow" in at:
            self._idle[at["slow"]] = 1.0
        self._idle[[i for n, i in at.items() if n.endswith("_to") and n != "level_to"]] = np.nan
        self._idles = bool((self._idle != 0).any())
        self._twist = slice(0, 4 if "pivot" in at else 3 if "forward" in at else 0)
        self._writers = [self._writer(action, at) for action in self.actions]
        self._follower_at = [
            (at[f"{plain(n)}_to"], *self._range(n)) if self._rig.attachments[n].kind == "servo"
            else (at[f"{plain(n)}_share"], 0.0, 0.0)
            for n in self.followers
        ]  # fmt: skip
        self._lamp_at = [(first + at[f"{plain(n)}_share"], self._raw.start + channel) for n, channel in self._lamps]
        self._pressed = self.settings.channels + self._raw.start

    def _range(self, name: str) -> tuple[float, float]:
        reach = reach_of(self._rig.attachments[name])
        return reach.low, reach.high

    def _writer(self, action: Action, at: dict[str, int]) -> Callable[[Floats, Bools, Bools], None] | None:  # noqa: C901, PLR0911, PLR0912 - a case for each action, with the column that it writes
        """Give what writes an action into the columns, B + (n,), from whether it lasts and whether it is done now, B."""
        kind = self._rig.attachments[action.target].kind if action.target in self._rig.attachments else ""
        name = plain(action.target)

        def put(column: str, value: float, by: int = 1) -> Callable[[Floats, Bools, Bools], None]:
            k = at[column]

            def write(out: Floats, lasting: Bools, fired: Bools) -> None:
                out[..., k] = np.where(fired if by else lasting, value, out[..., k])

            return write

        def add(column: str, value: float, by: int = 1) -> Callable[[Floats, Bools, Bools], None]:
            k = at[column]

            def write(out: Floats, lasting: Bools, fired: Bools) -> None:
                out[..., k] = out[..., k] + np.where(fired if by else lasting, value, 0.0)

            return write

        match action.verb:
            case "motion":
                return None
            case "slow":
                k = at["slow"]

                def slower(out: Floats, lasting: Bools, fired: Bools) -> None:
                    out[..., k] = np.where(lasting, np.minimum(out[..., k], action.value), out[..., k])

                return slower
            case "brake" | "coast" | "hold":
                return put(action.verb, 1.0, 0)
            case "stop" | "shut down" | "record" | "holding" | "zero gyro":
                return put(action.verb.replace(" ", "_"), 1.0)
            case "level":
                return put("level_to", 1.0 + [v.name for v in self._rig.speed_levels.levels].index(action.target))
            case "walk":
                return add("level_by", 1.0 if action.target == "up" else -1.0)
            case "frame":
                return put("frame", {"robot": 1.0, "field": 2.0, "other": 3.0}[action.target])
            case "heading":
                return put("set_heading", 1.0)
            case "point":
                return put("next_point", 1.0)
            case "help":
                return put("help", 1.0 + self._helps.index(Help(action.target, action.numbers)), 0)
            case "speed":
                return add(f"{name}_share", action.value, 0)
            case "to":
                return put(f"{name}_to", target_of(self._rig, action))
            case "by":
                return add(f"{name}_by", target_of(self._rig, action))
            case "on" if kind == "switch" and way_of(self._patch_of(action)) in (HELD, TOGGLE):
                return put(f"{name}_share", 1.0, 0)
            case "on" | "off":
                return put(f"{name}_to", float(action.verb == "on"))
            case "toggle":
                return put(f"{name}_by", 1.0)
        raise TypeError(f"unknown action {action!r}")

    def _patch_of(self, action: Action) -> Patch:
        return next(p for p in self.patches if p.action is action)

    def start(self, batch: tuple[int, ...]) -> BindingState:
        s = self.settings
        no, zero = np.zeros((*batch, len(s.of)), bool), np.zeros((*batch, len(s.of)))
        unseen = np.zeros((*batch, len(s.channels)), bool)
        grown, busy = np.zeros((*batch, len(s.motions))), np.ones(batch, bool)
        return BindingState(unseen, no, zero, no, no, zero, np.full(zero.shape, -1e9), grown, busy)

    def step(self, state: BindingState, row: Floats) -> BindingState:
        s = self.settings
        if self._idles:
            row[..., self._out] = self._idle
        if some(state.busy) or some(row[..., self._pressed] >= PRESSED):
            out = row[..., self._out]
            state, acting = act(s, state, row[..., self._raw], row[..., self._t], row[..., self._stopped] != 0)
            if self._twist.stop:
                asked = (state.grown[..., :, None] * s.twist[:, : self._twist.stop]).sum(axis=-2)
                out[..., self._twist] = np.minimum(np.maximum(asked, -1.0), 1.0)
            if some(acting.lasting) or some(acting.fired):
                for i, write in enumerate(self._writers):
                    if write is not None:
                        write(out, acting.lasting[..., i], acting.fired[..., i])
        if self._follower_at:
            self._follow(row[..., self._out], deflections(s, row[..., self._raw]))
        for k, channel in self._lamp_at:
            row[..., k] = np.maximum(row[..., k], row[..., channel] >= PRESSED)
        return state

    def run(self, state: BindingState, rows: Floats, counts: Sequence[bool]) -> BindingState:
        if some(state.busy) or some(rows[:, self._pressed] >= PRESSED):
            return super().run(state, rows, counts)
        self.step(self.idle((len(rows),)), rows)
        return state

    def idle(self, batch: tuple[int, ...]) -> BindingState:
        """Give the state of robots whose buttons were all seen released."""
        fresh = self.start(batch)
        return fresh._replace(armed=np.ones_like(fresh.armed), busy=np.zeros(batch, bool))

    def _follow(self, out: Floats, shares: Floats) -> None:
        for f, (k, low, high) in enumerate(self._follower_at):
            share = shares[..., f]
            if low == high:
                out[..., k] = out[..., k] + share
            else:  # a servo goes where the stick is
                out[..., k] = np.where(share != 0, (low + high) / 2 + share * (high - low) / 2, out[..., k])

    # --- what it tells ---

    def moving(self, told: Told) -> list[str]:
        """Say which buttons or letters move the robot; empty if none does."""
        if not any(told.get("bindings", n) for n in ("forward", "left", "turn", "pivot")):
            return []
        names = told.line.inputs.names
        held = [
            f"{p.channel} {d.text}"
            for p, d, at in zip(self.patches, self.actions, self.at_rest, strict=True)
            if d.verb == "motion" and told("raw", names[at]) >= PRESSED
        ]
        return held or ["a button, falling back"]

    def phrases(self, told: Told) -> list[str]:
        halted = [n for n in ("brake", "coast") if told.get("bindings", n)]
        return [] if told.by_stick or told("law", "entered") else [", ".join(halted or self.moving(told))]

    def rungs(self, told: Told) -> list[Rung]:
        moving = self.moving(told)
        slow = told.get("bindings", "slow", 1.0)
        halted = [n for n in ("brake", "coast") if told.get("bindings", n)]
        words = [*moving, *([f"slow {slow * 100:g} %"] if slow != 1 else []), *halted]
        if not words:
            return []
        asked = ", ".join(
            f"{n} {told('bindings', n):+.2f}" for n in ("forward", "left", "turn", "pivot") if told.get("bindings", n)
        )
        verbs = ("motion",) if moving else ("slow",) if slow != 1 else ("brake", "coast")
        key = next((p.key for p, d in zip(self.patches, self.actions, strict=True) if d.verb in verbs), "")
        return [
            Rung(
                "button", " · ".join(words) + (f" → {asked}" if moving else ""), key, f"! {halted[0]}" if halted else ""
            )
        ]
