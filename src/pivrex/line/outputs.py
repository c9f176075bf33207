"""Outputs: drives to what each motor driver and attachment wants to be told, and back (for the stand-in)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.line.inputs import Inputs
from pivrex.line.law import halts
from pivrex.line.layout import Layout, plain
from pivrex.line.stage import Floats, Rung, Stage, named
from pivrex.line.told import Told
from pivrex.rig.attachments import Encoded, MotorAttachment, ServoAttachment, SwitchAttachment
from pivrex.rig.outputs import (
    DutyOutput,
    FractionOutput,
    MagnitudeOutput,
    PercentOutput,
    ServoOutput,
    SpeedOutput,
    TwoPinOutput,
)
from pivrex.rig.rig import Rig

__all__ = ["OutputSettings", "Outputs", "Value", "decode", "encode", "hums", "settings_of", "values_of"]

STEP, SWITCH = 1.0, 0.5
"""Values are whole numbers; a direction is read on from half way."""


@dataclass(frozen=True)
class Value:
    """One number that a motor driver is told: the motor, the number's name and unit."""

    motor: str
    name: str
    unit: str


@dataclass(frozen=True)
class OutputSettings:
    """The wiring of M motors and A attachments with V values between them, the motors' first.

    Attributes
    ----------
    source : (V,) int
        The drive of each value: of a motor, or of an attachment behind them.
    rest, forward, backward : (V,) float64
        A value is rest + forward·max(drive, 0) + backward·max(-drive, 0).
    whole : (V,) bool
        Values that are rounded to whole numbers.
    direction : (V,) bool
        Values that only say which way: 1 forward, 0 backward.
    all_whole, any_direction, even : bool
        Whether all values are whole, whether any is a direction, and whether forward and backward mirror each other.
    above, below : (V,) float64
        How each value is read back: the drive per unit above and below its rest.
    gather, turns : (M + A, V) float64
        1 where a value speaks for a drive, and where it says which way that is.
    smallest : (M,) float64
        The smallest drive that turns the wheel.
    """

    source: NDArray[np.intp]
    rest: Floats
    forward: Floats
    backward: Floats
    whole: NDArray[np.bool_]
    direction: NDArray[np.bool_]
    all_whole: bool
    any_direction: bool
    even: bool
    above: Floats
    below: Floats
    gather: Floats
    turns: Floats
    smallest: Floats


def told_values(rig: Rig) -> tuple[Value, ...]:
    """Name what leaves for the robot: the motors' values, then the attachments'."""
    return tuple(Value(name, *value[:2]) for name, values in _wiring(rig) for value in values)


def settings_of(rig: Rig) -> OutputSettings:
    """Take the wiring from a rig."""
    rows = [(k, *value[2:]) for k, (_, values) in enumerate(_wiring(rig)) for value in values]
    rest, forward, backward, step = (np.array([row[i] for row in rows], float) for i in range(1, 5))
    direction = np.array([row[5] for row in rows], bool)
    whole = (step > 0) | direction
    above, below = _slopes(forward, backward)
    source = np.array([row[0] for row in rows], np.intp)
    of = (np.arange(len(_wiring(rig)))[:, None] == source).astype(float)
    return OutputSettings(
        source=source,
        rest=rest,
        forward=forward,
        backward=backward,
        whole=whole,
        direction=direction,
        all_whole=bool(whole.all()),
        any_direction=bool(direction.any()),
        even=bool((forward == -backward).all()),
        above=above,
        below=below,
        gather=of * ~direction,
        turns=of * direction,
        smallest=np.array([m.smallest for m in rig.all_motors().values()]),
    )


_Told = tuple[str, str, float, float, float, float, bool]


def _wiring(rig: Rig) -> list[tuple[str, list[_Told]]]:
    """Every motor and attachment with its values: name, unit, rest, forward, backward, step and direction."""
    found = [
        (name, values_of(output, top))
        for name, output, top in zip(rig.motor_names, rig.outputs().values(), _tops(rig), strict=True)
    ]
    return found + [(name, _attached(a)) for name, a in rig.attachments.items()]


def _slopes(forward: Floats, backward: Floats) -> tuple[Floats, Floats]:
    """Give how values are read back. Above or below its rest, a value speaks for the drive whose slope goes there. A
    magnitude goes up for both drives and is read as ahead; its direction pin turns it round.
    """
    above, below = np.zeros(len(forward)), np.zeros(len(forward))
    for slopes, drive in ((backward, -1.0), (forward, 1.0)):
        up, down = slopes > 0, slopes < 0
        above[up], below[down] = drive / slopes[up], drive / slopes[down]
    return above, below


def _tops(rig: Rig) -> list[float]:
    """The wheel speed in m/s at full drive of each motor; of a steering motor its rate in rad/s."""
    driving = [rig.wheel_top_m_s(motor.wheels[0]) for motor in rig.motors.values()]
    return driving + [rig.steering.wheels[w].top_rad_s for w in rig.steered if rig.steering is not None]


def _attached(a: object) -> list[_Told]:
    match a:
        case MotorAttachment() | Encoded():
            return values_of(a.output, 1.0)
        case ServoAttachment():
            low, high = a.output.at_minimum_s * 1e6, a.output.at_maximum_s * 1e6
            per_rad = (high - low) / (a.maximum_rad - a.minimum_rad)
            return [("pulse", "us", low - per_rad * a.minimum_rad, per_rad, -per_rad, STEP, False)]
        case SwitchAttachment():
            on = -1.0 if a.output.low_is_on else 1.0
            return [("pin", "", 1.0 if a.output.low_is_on else 0.0, on, -on, STEP, False)]
    raise TypeError(f"unknown attachment {a!r}")


def values_of(output: object, top_m_s: float) -> list[_Told]:  # noqa: PLR0911 - a case for each kind of output
    """Give name, unit, rest, forward, backward, step and direction of each value of an output; see `OutputSettings`."""
    match output:
        case FractionOutput():
            return [("fraction", "", 0, 1, -1, 0, False)]
        case PercentOutput():
            return [("percent", "%", 0, 100, -100, 0, False)]
        case SpeedOutput():
            full = top_m_s * (1000 if output.unit == "mm/s" else 1)
            return [("speed", output.unit, 0, full, -full, 0, False)]
        case DutyOutput():
            return [("duty", "", 0, output.full, -output.full, 1, False)]
        case MagnitudeOutput():
            return [("duty", "", 0, output.full, output.full, 1, False), ("direction", "", 1, 0, 0, 0, True)]
        case TwoPinOutput():
            return [
                ("forward_duty", "", 0, output.full, 0, 1, False),
                ("backward_duty", "", 0, 0, output.full, 1, False),
            ]
        case ServoOutput():
            rest, ahead, behind = output.rest_s * 1e6, output.forward_s * 1e6, output.backward_s * 1e6
            return [("pulse", "us", rest, ahead - rest, behind - rest, 1, False)]
    raise TypeError(f"unknown output {output!r}")


def encode(settings: OutputSettings, drive: Floats) -> Floats:
    """Turn drives into what the motor drivers are told.

    Parameters
    ----------
    settings : OutputSettings
    drive : B + (M + A,) float64
        The motors' drives in [-1, 1]; of attachments the drive of those with a motor, the angle in rad of servos, and
        whether switches are on.

    Returns
    -------
    B + (V,) float64
        Duties and pulses are whole numbers. A direction is 1 forward (and at rest), 0 backward.
    """
    each = drive[..., settings.source]
    if settings.even:
        values: Floats = settings.rest + settings.forward * each
    else:
        ahead = np.maximum(each, 0.0)
        values = settings.rest + settings.forward * ahead + settings.backward * (ahead - each)
    values = np.rint(values) if settings.all_whole else np.where(settings.whole, np.rint(values), values)
    if settings.any_direction:
        np.copyto(values, each >= 0.0, where=settings.direction)
    return values


def decode(settings: OutputSettings, values: Floats) -> Floats:
    """Give the drives, B + (M + A,), that values, B + (V,), mean: `encode` undone, up to its rounding."""
    away = values - settings.rest
    each = away * np.where(away > 0, settings.above, settings.below)
    drive: Floats = np.einsum("sv,...v->...s", settings.gather, each)
    if settings.any_direction:
        drive = drive * (1.0 - 2.0 * np.einsum("sv,...v->...s", settings.turns, values < SWITCH))
    return drive


def hums(settings: OutputSettings, drive: Floats) -> NDArray[np.bool_]:
    """Tell, B + (M,), which motors get too little to turn: 0 < |drive| < smallest."""
    size = np.abs(drive)
    return (size > 0) & (size < settings.smallest)


class Outputs(Stage):
    """What leaves for the robot: the motors' values, the attachments', and whether it coasts; and which motors only hum."""

    name = "outputs"
    reads = ("bindings", "law", "drive", "attachments")

    def __init__(self, rig: Rig, coasts: bool) -> None:
        self._rig = rig
        self.settings: OutputSettings = settings_of(rig)
        self.motors = rig.motor_names
        self._coasts = coasts
        self._attached = {plain(n): a for n, a in rig.attachments.items()}
        self._sign = np.array([-1.0 if getattr(a, "reversed", False) else 1.0 for a in rig.attachments.values()])
        self.values = (*told_values(rig), *([Value("robot", "coast", "")] if coasts else []))
        self.columns = named(
            "outputs",
            *((f"{plain(v.motor)}_{v.name}", v.unit) for v in self.values),
            *((f"{plain(m)}_hums", "") for m in self.motors),
        )

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Outputs:
        return cls(rig, any(p.action is not None and p.action.verb == "coast" for p in inputs.patches))

    def place(self, layout: Layout) -> None:
        first, count = layout.stage("outputs").start, len(self.settings.source)
        self._in = layout.stage("drive")
        self._told = slice(first, first + count)
        self.told = slice(first, first + len(self.values))
        self._hums = slice(self.told.stop, layout.stage("outputs").stop)
        self._coast = layout.at("bindings", "coast") if self._coasts else -1
        self._halts = halts(layout)
        # of those with a motor its drive, of the others what they are told to be
        self._others = np.array(
            [layout.at("attachments", f"{n}_{'drive' if layout.has('attachments', f'{n}_drive') else 'target'}")
             for n in self._attached], np.intp,
        )  # fmt: skip

    def step(self, state: object, row: Floats) -> object:
        drive = motors = row[..., self._in]
        if self._attached:
            drive = np.concatenate((motors, row[..., self._others] * self._sign), axis=-1)
        row[..., self._told] = encode(self.settings, drive)
        if self._coast >= 0 and self._halts is not None:
            row[..., self.told.stop - 1] = row[..., self._coast] * self._halts(row)
        row[..., self._hums] = hums(self.settings, motors)
        return state

    # --- what it tells ---

    def _said(self, told: Told) -> tuple[str, str]:
        """The motor of the wheel, and what its driver is told."""
        rig = self._rig
        name, motor = next((n, m) for n, m in rig.motors.items() if told.wheel in m.wheels)
        mine = [v for v in self.values if v.motor == name]
        values = {v.name: told("outputs", f"{plain(name)}_{v.name}") for v in mine}
        drive = told("drive", plain(name)) * (-1.0 if motor.reversed else 1.0)
        way = "rest" if drive == 0 else "forward" if drive > 0 else "backward"
        hum = " (! only hums)" if told("outputs", f"{plain(name)}_hums") else ""
        match motor.output:
            case MagnitudeOutput():
                pin = f"pin {motor.output.direction_pin}" if motor.output.direction_pin != "" else "direction pin"
                said = (
                    f"{values['duty']:.0f}/{motor.output.full} {way}, {pin} {'high' if values['direction'] else 'low'}"
                )
            case TwoPinOutput():
                said = f"{values['forward_duty']:.0f} and {values['backward_duty']:.0f} of {motor.output.full} {way}"
            case ServoOutput():
                said = f"{values['pulse']:.0f} µs {way}"
            case DutyOutput():
                said = f"{values['duty']:+.0f}/{motor.output.full} {way}"
            case _:
                said = f"{next(iter(values.values())):+.3g} {mine[0].unit}".rstrip() + f" {way}"
        return name, said + hum

    def phrases(self, told: Told) -> list[str]:
        return [self._said(told)[1]]

    def rungs(self, told: Told) -> list[Rung]:
        name, said = self._said(told)
        stopped, humming = told("clock", "stopped"), told("outputs", f"{plain(name)}_hums")
        note = "! too little to turn it: it only hums" if humming else "! stopped" if stopped else ""
        turned = ", reversed" if self._rig.motors[name].reversed else ""
        drive = told("drive", plain(name))
        text = f"motor {name}{turned}: drive {drive:+.3f} → {said}"
        return [Rung("output", text, f"motors.{name}.reversed", note)]
