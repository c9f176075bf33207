"""Outputs: wheel speeds to what each motor driver wants to be told, and back (for the stand-in)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

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
from pivrex.rig.steering import steering_name

__all__ = [
    "OutputSettings",
    "Readers",
    "Value",
    "decode",
    "decode_by",
    "drive_of",
    "encode",
    "hums",
    "motor_names",
    "readers_of",
    "settings_of",
    "values_of",
]

Floats = NDArray[np.float64]


Readers = tuple[tuple[int, float, float, float, bool], ...]


@dataclass(frozen=True)
class Value:
    """One number that a motor driver is told: the motor, the number's name and unit."""

    motor: str
    name: str
    unit: str


@dataclass(frozen=True)
class OutputSettings:
    """The wiring of M motors with V values between them. Motors that steer come after the D that drive.

    Attributes
    ----------
    values : tuple of Value
        What each of the V numbers is.
    share : (D, W) float64
        Each driving motor's drive from its wheels' surface speeds: the mean of speed/top, with the motor's polarity.
    motor : (V,) int
        The motor of each value.
    rest, forward, backward : (V,) float64
        A value is rest + forward·max(drive, 0) + backward·max(-drive, 0).
    whole : (V,) bool
        Values that are rounded to whole numbers.
    direction : (V,) bool
        Values that only say which way: 1 forward, 0 backward.
    all_whole, any_direction, even : bool
        Whether all values are whole, whether any is a direction, and whether forward and backward mirror each other.
    readers : tuple of (motor, rest, above, below, direction)
        How each value is read back: the drive per unit above and below its rest.
    smallest : (M,) float64
        The smallest drive that turns the wheel.
    """

    values: tuple[Value, ...]
    share: Floats
    motor: NDArray[np.intp]
    rest: Floats
    forward: Floats
    backward: Floats
    whole: NDArray[np.bool_]
    direction: NDArray[np.bool_]
    all_whole: bool
    any_direction: bool
    even: bool
    readers: Readers
    smallest: Floats


def settings_of(rig: Rig) -> OutputSettings:
    """Take the wiring from a rig."""
    wheels = [w.name for w in rig.chassis.wheels]
    share = np.zeros((len(rig.motors), len(wheels)))
    values: list[Value] = []
    rows: list[tuple[int, float, float, float, float, bool]] = []
    for m, motor in enumerate(rig.motors.values()):
        sign = -1.0 if motor.reversed else 1.0
        for wheel in motor.wheels:
            share[m, wheels.index(wheel)] = sign / len(motor.wheels) / rig.wheel_top_m_s(wheel)
    names, outputs, tops = motor_names(rig), list(rig.outputs().values()), _tops(rig)
    for m, (name, output, top) in enumerate(zip(names, outputs, tops, strict=True)):
        for value, unit, *numbers in values_of(output, top):
            values.append(Value(name, value, unit))
            rows.append((m, *numbers))  # type: ignore[arg-type]
    numbers_of = np.array([row[1:5] for row in rows])
    rest, forward, backward, step = numbers_of.T.copy()
    direction = np.array([row[5] for row in rows])
    whole = (step > 0) | direction
    motors = [row[0] for row in rows]
    return OutputSettings(
        values=tuple(values),
        share=share,
        motor=np.array(motors),
        rest=rest,
        forward=forward,
        backward=backward,
        whole=whole,
        direction=direction,
        all_whole=bool(whole.all()),
        any_direction=bool(direction.any()),
        even=bool((forward == -backward).all()),
        readers=readers_of([(m, r, f, b, d) for m, r, f, b, _, d in rows]),
        smallest=np.array([m.smallest for m in rig.all_motors().values()]),
    )


def readers_of(rows: list[tuple[int, float, float, float, bool]]) -> Readers:
    """Give how values are read back, from the motor, rest, forward, backward and direction of each.

    Above or below its rest, a value speaks for the drive whose slope goes there. A magnitude goes up for both drives and
    is read as ahead; its direction pin turns it round.
    """
    found = []
    for motor, rest, forward, backward, direction in rows:
        above = below = 0.0
        for slope, drive in ((backward, -1.0), (forward, 1.0)):
            if slope > 0:
                above = drive / slope
            elif slope < 0:
                below = drive / slope
        found.append((motor, float(rest), above, below, bool(direction)))
    return tuple(found)


def motor_names(rig: Rig) -> tuple[str, ...]:
    """Name every motor, those that drive before those that steer, in the order of ``Rig.outputs``."""
    return (*rig.motors, *(steering_name(w) for w in rig.steered))


def _tops(rig: Rig) -> list[float]:
    """The wheel speed in m/s at full drive of each motor; of a steering motor its rate in rad/s."""
    driving = [rig.wheel_top_m_s(motor.wheels[0]) for motor in rig.motors.values()]
    return driving + [rig.steering.wheels[w].top_rad_s for w in rig.steered if rig.steering is not None]


def values_of(output: object, top_m_s: float) -> list[tuple[str, str, float, float, float, float, bool]]:
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


def drive_of(settings: OutputSettings, speeds: Floats) -> Floats:
    """Give each driving motor's drive, B + (D,) in [-1, 1] with its polarity, from wheel surface speeds, B + (W,) in m/s."""
    return np.einsum("mw,...w->...m", settings.share, speeds)


def encode(settings: OutputSettings, drive: Floats) -> Floats:
    """Turn drives into what the motor drivers are told.

    Parameters
    ----------
    settings : OutputSettings
    drive : B + (M,) float64
        In [-1, 1].

    Returns
    -------
    B + (V,) float64
        Duties and pulses are whole numbers. A direction is 1 forward (and at rest), 0 backward.
    """
    each = drive[..., settings.motor]
    if settings.even:
        values: Floats = settings.rest + settings.forward * each
    else:
        ahead = np.maximum(each, 0.0)
        values = settings.rest + settings.forward * ahead + settings.backward * (ahead - each)
    values = np.rint(values) if settings.all_whole else np.where(settings.whole, np.rint(values), values)
    if settings.any_direction:
        values = np.where(settings.direction, each >= 0.0, values)
    return values


def decode(settings: OutputSettings, values: list[float]) -> list[float]:
    """Give the drives, M of them, that V values of one robot mean: `encode` undone, up to its rounding."""
    return decode_by(settings.readers, len(settings.smallest), values)


def decode_by(readers: Readers, count: int, values: list[float]) -> list[float]:
    """Give ``count`` drives from values, each read by its reader."""
    drive = [0.0] * count
    for v, (m, rest, above, below, direction) in enumerate(readers):
        if direction:
            continue
        away = values[v] - rest
        drive[m] += away * (above if away > 0 else below)
    for v, (m, *_, direction) in enumerate(readers):
        if direction and values[v] < 0.5:
            drive[m] = -drive[m]
    return drive


def hums(settings: OutputSettings, drive: Floats) -> NDArray[np.bool_]:
    """Tell, B + (M,), which motors get too little to turn: 0 < |drive| < smallest."""
    size = np.abs(drive)
    return (size > 0) & (size < settings.smallest)
