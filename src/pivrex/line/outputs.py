"""Outputs: from drives to the signals of motor drivers and attachments, and back for the simulated robot."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from pivrex.kernels.engines import Call
from pivrex.kernels.maths import larger, rint
from pivrex.kernels.records import Flags, Form, Numbers, Record, Whole, Wholes, field
from pivrex.kernels.subset import kernel
from pivrex.line.attachments import AttachmentsColumns
from pivrex.line.bindings import BindingsColumns, column_of
from pivrex.line.drive import DriveColumns
from pivrex.line.inputs import Inputs
from pivrex.line.law import HALTS, LawColumns, are_halted
from pivrex.line.layout import Layout, plain
from pivrex.line.stage import Floats, Rung, Stage, named
from pivrex.line.too_little import too_little
from pivrex.line.wheel_tick import WheelTick
from pivrex.rig.attachments import Encoded, MotorAttachment, ServoAttachment, SwitchAttachment
from pivrex.rig.outputs import (
    DutyOutput,
    FractionOutput,
    MagnitudeOutput,
    PercentOutput,
    ServoOutput,
    SpeedOutput,
    ThreePinOutput,
    TwoPinOutput,
)
from pivrex.rig.rig import Rig

__all__ = ["OutputSettings", "Outputs", "OutputsColumns", "Value", "encode", "outputs_step", "settings_of", "values_of"]

NUMBER, DIRECTION, FORWARD, BACKWARD = 0, 1, 2, 3
"""A value is a number, or a pin that is high but backward, only forward, or only backward."""


@dataclass(frozen=True)
class Value:
    """One number that a motor driver gets: the motor, the number's name and unit."""

    motor: str
    name: str
    unit: str


class OutputSettings(Record):
    """The wiring of M motors and A attachments with V values between them, the motors' first.

    Attributes
    ----------
    source : (V,)
        The drive of each value: of a motor, or of an attachment behind them.
    rest, forward, backward : (V,)
        A value is rest + forward·max(drive, 0) + backward·max(-drive, 0).
    is_whole : (V,) flags
        Values that are rounded to whole numbers.
    level : (V,)
        NUMBER, or how a pin without PWM says which way: DIRECTION, FORWARD or BACKWARD.
    halts : (V,) flags
        Values of motors that drive: they brake and coast.
    braked, coasted : (V,)
        What a value is while the robot brakes or coasts.
    above, below : (V,)
        How each value is read back: the drive per unit above and below its rest.
    smallest : (M,)
        The smallest drive that turns the wheel.
    sign : (A,)
        -1 for an attachment with a reversed motor.
    driven : (A,)
        Its place among the attachments with a motor; -1 for one that is commanded its target.
    coast, brake : int
        The columns of the bindings, -1 for none.
    """

    is_settings = True

    source: Wholes = field("values")
    rest: Numbers = field("values")
    forward: Numbers = field("values")
    backward: Numbers = field("values")
    is_whole: Flags = field("values")
    level: Wholes = field("values")
    halts: Flags = field("values")
    braked: Numbers = field("values")
    coasted: Numbers = field("values")
    above: Numbers = field("values")
    below: Numbers = field("values")
    smallest: Numbers = field("motors")
    sign: Numbers = field("attached")
    driven: Wholes = field("attached")
    coast: Whole = field()
    brake: Whole = field()


class OutputsColumns(Record):
    """The values for the robot, whether it coasts if the rig has that; and which motors only hum."""

    value: Numbers = field("values")
    coast: Numbers = field("coasts")
    hums: Numbers = field("motors")


class OutputsScratch(Record):
    """The drives of motors, then of attachments."""

    is_scratch = True

    drive: Numbers = field("drives")


@kernel
def encode_all(s: OutputSettings, drive: Numbers, value: Numbers) -> None:
    """Turn drives into what the motor drivers are commanded.

    ``drive``, (M + A,): the motors' drives in [-1, 1]; of attachments the drive of those with a motor, the angle in rad of servos, and
    whether switches are on. Duties and pulses are whole numbers. A direction is 1 forward (and at rest), 0 backward; of two direction
    pins one is 1, at rest none.
    """
    for k in range(len(s.source)):
        mine = drive[s.source[k]]
        if s.level[k] == DIRECTION:
            value[k] = 1.0 if mine >= 0.0 else 0.0
        elif s.level[k] == FORWARD:
            value[k] = 1.0 if mine > 0.0 else 0.0
        elif s.level[k] == BACKWARD:
            value[k] = 1.0 if mine < 0.0 else 0.0
        else:
            ahead = larger(mine, 0.0)
            value[k] = s.rest[k] + s.forward[k] * ahead + s.backward[k] * (ahead - mine)
            if s.is_whole[k]:
                value[k] = rint(value[k])


@kernel
def outputs_step(
    s: OutputSettings, w: OutputsScratch, bindings: BindingsColumns, law: LawColumns, drive: DriveColumns, attachments: AttachmentsColumns,
    out: OutputsColumns,
) -> None:  # fmt: skip
    """Write what leaves for the robot, and which motors get too little to turn: 0 < |drive| < smallest. A robot that is asked to
    brake and to coast brakes.
    """
    motors = len(s.smallest)
    for k in range(motors):
        w.drive[k] = drive.drive[k]
        size = abs(drive.drive[k])
        out.hums[k] = 1.0 if size > 0.0 and size < s.smallest[k] else 0.0
    for k in range(len(s.sign)):
        own = attachments.drive[s.driven[k]] if s.driven[k] >= 0 else attachments.target[k]
        w.drive[motors + k] = own * s.sign[k]
    encode_all(s, w.drive, out.value)
    brakes = are_halted(bindings, s.brake, -1, law.entered)
    coasts = not brakes and are_halted(bindings, -1, s.coast, law.entered)
    if brakes or coasts:
        for k in range(len(out.value)):
            if s.halts[k]:
                out.value[k] = s.braked[k] if brakes else s.coasted[k]
    for k in range(len(out.coast)):
        out.coast[k] = 1.0 if coasts else 0.0


_ENCODE = Call(encode_all, ("value",))


def command_values(rig: Rig) -> tuple[Value, ...]:
    """Name what leaves for the robot: the motors' values, then the attachments'."""
    return tuple(Value(name, v.name, v.unit) for name, values in _wiring(rig) for v in values)


def settings_of(rig: Rig, inputs: Inputs | None = None) -> OutputSettings:
    """Return the wiring of a rig; what its bindings do with it only with its inputs."""
    rows = [(k, value) for k, (_, values) in enumerate(_wiring(rig)) for value in values]
    wired = [value for _, value in rows]
    forward, backward = np.array([v.forward for v in wired], float), np.array([v.backward for v in wired], float)
    above, below = _slopes(forward, backward)
    each = list(rig.attachments.values())
    has_motor = [isinstance(a, MotorAttachment | Encoded) for a in each]
    columns = {n: column_of(rig, inputs, n) if inputs is not None else -1 for n in ("coast", "brake")}
    form = Form(OutputSettings, values=len(rows), motors=len(rig.motor_names), attached=len(each))
    made: OutputSettings = form.of(
        source=[k for k, _ in rows],
        rest=[v.rest for v in wired],
        forward=forward,
        backward=backward,
        is_whole=[v.is_whole for v in wired],
        level=[v.level for v in wired],
        halts=[k < len(rig.motors) for k, _ in rows],
        braked=[v.rest if v.braked is None else v.braked for v in wired],
        coasted=[v.rest for v in wired],
        above=above,
        below=below,
        # a robot that balances gives a little drive all the time
        smallest=[m.smallest * (rig.balance is None) for m in rig.all_motors().values()],
        sign=[-1.0 if getattr(a, "reversed", False) else 1.0 for a in each],
        driven=[sum(has_motor[:i]) if flag else -1 for i, flag in enumerate(has_motor)],
        **columns,
    )
    return made


class _Wired(NamedTuple):
    """A value; see `OutputSettings`. It brakes as it rests unless it says otherwise."""

    name: str
    unit: str
    rest: float
    forward: float
    backward: float
    is_whole: bool = True
    level: int = NUMBER
    braked: float | None = None


def _wiring(rig: Rig) -> list[tuple[str, list[_Wired]]]:
    """Every motor and attachment with its values."""
    found = [
        (name, values_of(output, top))
        for name, output, top in zip(rig.motor_names, rig.outputs().values(), _tops(rig), strict=True)
    ]
    return found + [(name, _attached(a)) for name, a in rig.attachments.items()]


def _slopes(forward: Floats, backward: Floats) -> tuple[Floats, Floats]:
    """Return how values are read back. Above or below its rest, a value speaks for the drive whose slope goes there. A
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


def _attached(a: object) -> list[_Wired]:
    match a:
        case MotorAttachment() | Encoded():
            return values_of(a.output, 1.0)
        case ServoAttachment():
            low, high = a.output.at_minimum_s * 1e6, a.output.at_maximum_s * 1e6
            per_rad = (high - low) / (a.maximum_rad - a.minimum_rad)
            return [_Wired("pulse", "us", low - per_rad * a.minimum_rad, per_rad, -per_rad)]
        case SwitchAttachment():
            on = -1.0 if a.output.low_is_on else 1.0
            return [_Wired("pin", "", 1.0 if a.output.low_is_on else 0.0, on, -on)]
    raise TypeError(f"unknown attachment {a!r}")


def values_of(output: object, top_m_s: float) -> list[_Wired]:  # noqa: PLR0911 - a case for each kind of output
    """Return the values of an output."""
    match output:
        case FractionOutput():
            return [_Wired("fraction", "", 0, 1, -1, is_whole=False)]
        case PercentOutput():
            return [_Wired("percent", "%", 0, 100, -100, is_whole=False)]
        case SpeedOutput():
            full = top_m_s * (1000 if output.unit == "mm/s" else 1)
            return [_Wired("speed", output.unit, 0, full, -full, is_whole=False)]
        case DutyOutput():
            return [_Wired("duty", "", 0, output.full, -output.full)]
        case MagnitudeOutput():
            return [_Wired("duty", "", 0, output.full, output.full), _Wired("direction", "", 1, 0, 0, level=DIRECTION)]
        case TwoPinOutput():
            return [
                _Wired("forward_duty", "", 0, output.full, 0, braked=output.full),
                _Wired("backward_duty", "", 0, 0, output.full, braked=output.full),
            ]
        case ThreePinOutput():
            return [
                _Wired("duty", "", 0, output.full, output.full, braked=output.full),
                _Wired("forward", "", 0, 0, 0, level=FORWARD, braked=1),
                _Wired("backward", "", 0, 0, 0, level=BACKWARD, braked=1),
            ]
        case ServoOutput():
            rest, ahead, behind = output.rest_s * 1e6, output.forward_s * 1e6, output.backward_s * 1e6
            return [_Wired("pulse", "us", rest, ahead - rest, behind - rest)]
    raise TypeError(f"unknown output {output!r}")


def _pin_of(output: ThreePinOutput, way: str) -> str:
    pin = output.pins().get(f"{way}_pin", "")
    return f"pin {pin}" if pin != "" else way


def encode(settings: OutputSettings, drive: Floats) -> Floats:
    """Return what the motor drivers are commanded, B + (V,), from drives, B + (M + A,); see `encode_all`."""
    value = np.empty((*drive.shape[:-1], len(settings.source)))
    _ENCODE(drive.shape[:-1], settings, drive, value)
    return value


class Outputs(Stage):
    """The values for the robot: its motors, its attachments, and whether it coasts; and which motors only hum."""

    name = "outputs"

    def __init__(self, rig: Rig, inputs: Inputs) -> None:
        self._rig = rig
        self.settings: OutputSettings = settings_of(rig, inputs)
        coasts = self.settings.coast >= 0
        self.motors = rig.motor_names
        self.values = (*command_values(rig), *([Value("robot", "coast", "")] if coasts else []))
        self.columns = named(
            "outputs",
            *((f"{plain(v.motor)}_{v.name}", v.unit) for v in self.values),
            *((f"{plain(m)}_hums", "") for m in self.motors),
        )
        sizes = {"values": len(self.settings.source), "motors": len(self.motors)}
        self.form = Form(OutputsColumns, **sizes, coasts=coasts)
        self.scratch = Form(OutputsScratch, drives=len(self.motors) + len(rig.attachments))

    @classmethod
    def of(cls, rig: Rig, inputs: Inputs) -> Outputs:
        return cls(rig, inputs)

    def place(self, layout: Layout) -> None:
        first = layout.stage("outputs").start
        self.commands = slice(first, first + len(self.values))

    # --- explanation ---

    def _said(self, tick: WheelTick) -> tuple[str, str]:
        """The motor of the wheel, and what its driver gets."""
        rig = self._rig
        name, motor = next((n, m) for n, m in rig.motors.items() if tick.wheel in m.wheels)
        mine = [v for v in self.values if v.motor == name]
        values = {v.name: tick("outputs", f"{plain(name)}_{v.name}") for v in mine}
        drive = tick("drive", plain(name)) * (-1.0 if motor.reversed else 1.0)
        way = "forward" if drive > 0 else "backward" if drive < 0 else self._rest(tick)
        hum = " (! only hums)" if tick("outputs", f"{plain(name)}_hums") else ""
        match motor.output:
            case MagnitudeOutput():
                pin = f"pin {motor.output.direction_pin}" if motor.output.direction_pin != "" else "direction pin"
                said = (
                    f"{values['duty']:.0f}/{motor.output.full} {way}, {pin} {'high' if values['direction'] else 'low'}"
                )
            case ThreePinOutput():
                high = [way for way in ("forward", "backward") if values[way]]
                said = f"{values['duty']:.0f}/{motor.output.full} {way}, " + (
                    " and ".join(_pin_of(motor.output, w) for w in high) + " high" if high else "both directions low"
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

    @staticmethod
    def _rest(tick: WheelTick) -> str:
        """Name the state of a motor without drive: "brake" or "coast" if that is requested, else "rest"."""
        asked = [verb for verb in HALTS if tick.get("bindings", verb) and not tick("law", "entered")]
        return asked[0] if asked else "rest"

    def phrases(self, tick: WheelTick) -> list[str]:
        return [self._said(tick)[1]]

    def rungs(self, tick: WheelTick) -> list[Rung]:
        name, said = self._said(tick)
        stopped, humming = tick("clock", "stopped"), tick("outputs", f"{plain(name)}_hums")
        note = "! too little to turn it: it only hums" if humming else "! stopped" if stopped else ""
        if humming and tick.by_stick:
            why = [
                t
                for t in too_little(tick.line)
                if (t.motor, t.level) == (name, tick("law", "level")) and t.function == tick.main
            ]
            at = f" at level {why[0].level_name}" if why and why[0].level_name else ""
            note += f"; even a full stick gives it only {why[0].drive * 100:.0f} %{at}" if why else ""
        turned = ", reversed" if self._rig.motors[name].reversed else ""
        drive = tick("drive", plain(name))
        text = f"motor {name}{turned}: drive {drive:+.3f} → {said}"
        return [Rung("output", text, f"motors.{name}.reversed", note)]
