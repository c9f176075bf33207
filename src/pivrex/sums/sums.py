"""All bench sums. A new one is a function and an entry of `SUMS`."""

from __future__ import annotations

from math import degrees, pi, radians, sqrt

import numpy as np

from pivrex.errors import UnitError
from pivrex.line.questions.figures import travel_for
from pivrex.rig.body import Body
from pivrex.rig.motors import Motor
from pivrex.rig.rig import Rig
from pivrex.sim.traction import GRAVITY_M_S2, held_start, pushed_start, standing_of
from pivrex.sums.what import Operand, Result, Sum, Values
from pivrex.units import format_quantity

__all__ = ["E24", "SUMS", "nearest_pair"]

E24 = (
    1.0,
    1.1,
    1.2,
    1.3,
    1.5,
    1.6,
    1.8,
    2.0,
    2.2,
    2.4,
    2.7,
    3.0,
    3.3,
    3.6,
    3.9,
    4.3,
    4.7,
    5.1,
    5.6,
    6.2,
    6.8,
    7.5,
    8.2,
    9.1,
)
"""The values of resistors within a decade, IEC 60063."""


def _motor(rig: Rig) -> Motor:
    return next(iter(rig.motors.values()))


def _radius(rig: Rig) -> float:
    return rig.chassis.wheels[0].radius_m


def _turning(rig: Rig) -> tuple[int, float]:
    """Return which wheel rolls most while the robot turns on the spot, and how far for a radian, in m, as `describe` has it."""
    each = np.abs(travel_for(rig, 1.0))
    return int(np.argmax(each)), float(each.max())


def _motor_of(rig: Rig, wheel: int) -> Motor:
    return next(m for m in rig.motors.values() if rig.chassis.wheels[wheel].name in m.wheels)


# --- a divider ---


def nearest_pair(given: float, wanted: float, whole: float) -> tuple[float, float]:
    """Return the two standard resistors, in ohm, of about ``whole`` together, whose divider comes nearest to ``wanted`` volts from
    ``given`` without being above it.
    """
    decades = [v * 10.0**d for d in range(1, 7) for v in E24]
    pairs = [(a, b) for a in decades for b in decades if whole / 2 <= a + b <= whole * 2]
    below = [(a, b) for a, b in pairs if given * b / (a + b) <= wanted + 1e-9]
    if not below:
        raise UnitError("no two standard resistors divide so; take more ohm together, or less voltage")
    return min(below, key=lambda p: (round(wanted - given * p[1] / (p[0] + p[1]), 6), abs(p[0] + p[1] - whole)))


def _divider(v: Values) -> list[Result]:
    """The divided voltage of the sensor with two resistors: those at hand, else the nearest standard ones.

    Notes
    -----
    With a load R_L at the pin the lower resistor counts as R2·R_L/(R2 + R_L). The voltage is highest with R1 too small and R2 too
    large by the tolerance, and lowest the other way round. (Ohm's law.)
    """
    if v["r1"] or v["r2"]:
        for key, other in (("r1", "r2"), ("r2", "r1")):
            if not v[key]:
                raise UnitError(
                    f"{key}: is 0 ohm, which divides nothing; give its value with {other}, or leave both out"
                )
        upper, lower = v["r1"], v["r2"]
    elif v["pin"] >= v["sensor"]:
        raise UnitError("the sensor never gives more than the pin allows: no divider is needed")
    else:
        # as much less as the tolerance may make it more
        ratio = v["pin"] / (v["sensor"] - v["pin"]) * (1 - v["tolerance"]) / (1 + v["tolerance"])
        upper, lower = nearest_pair(v["sensor"], v["sensor"] * ratio / (1 + ratio), v["whole"])

    def out(r1: float, r2: float) -> float:
        loaded = r2 * v["load"] / (r2 + v["load"])
        return v["sensor"] * loaded / (r1 + loaded)

    off = v["tolerance"]
    highest, lowest = out(upper * (1 - off), lower * (1 + off)), out(upper * (1 + off), lower * (1 - off))
    may = v["pin"] + 1e-9
    above = "above the pin maximum"
    return [
        Result("upper", "R1, to the sensor", upper, "ohm", 0),
        Result("lower", "R2, to ground", lower, "ohm", 0),
        Result("out", "pin voltage", out(upper, lower), "V", 3, above if out(upper, lower) > may else ""),
        Result("highest", "highest, by tolerance", highest, "V", 3, above if highest > may else ""),
        Result("lowest", "lowest, by tolerance", lowest, "V", 3),
        Result("below", "margin", (v["pin"] - out(upper, lower)) * 1e3, "mV", 0),
        Result(
            "loaded", "drop by the load", (v["sensor"] * lower / (upper + lower) - out(upper, lower)) * 1e3, "mV", 1
        ),
        Result("current", "current", v["sensor"] / (upper + lower) * 1e3, "mA", 3),
    ]


# --- an echo ---


def sound_m_s(celsius: float) -> float:
    """Return the speed of sound in dry air, in m/s: 331.3·√(1 + T/273.15). (Kinsler & Frey, Fundamentals of Acoustics.)"""
    return 331.3 * sqrt(1 + celsius / 273.15)


def _echo(v: Values) -> list[Result]:
    speed = sound_m_s(v["celsius"])
    way = speed * v["time"] / 2
    return [
        Result("distance", "distance", way, "m", 4),
        Result("speed", "speed of sound", speed, "m/s", 1),
        Result(
            "warmer", "change if 10 °C warmer", (sound_m_s(v["celsius"] + 10) - speed) * v["time"] / 2 * 1e3, "mm", 1
        ),
        Result("us_for_cm", "time for each cm", 2e4 / speed, "us", 1),
    ]


# --- counts ---


def _counts(v: Values) -> list[Result]:
    turn = v["per_turn"] * v["gear"]
    around = 2 * pi * v["radius"]
    return [
        Result("distance", "distance", v["counts"] / turn * around, "m", 4),
        Result("per_m", "counts per metre", turn / around, "", 1),
        Result("one", "one count", around / turn * 1e3, "mm", 3),
        Result("turns", "turns of the wheel", v["counts"] / turn, "", 3),
    ]


def _writes_counts(rig: Rig, v: Values) -> list[tuple[str, object]]:
    found: list[tuple[str, object]] = []
    for name in rig.motors:
        found += [(f"motors.{name}.counts_per_turn", _whole(v["per_turn"])), (f"motors.{name}.gear", _whole(v["gear"]))]
    return found


def _whole(value: float) -> int | float:
    return int(value) if value == int(value) else round(value, 6)


# --- gear and wheel ---


def _gear(v: Values) -> list[Result]:
    top = v["shaft"] / v["gear"] * v["radius"]
    push = v["motors"] * v["stall"] * v["gear"] * v["efficiency"] / v["radius"]
    held = held_start(v["grip"], v["drag"], v["share"], v["shift"])
    pushed = pushed_start(push, v["mass"], v["drag"], v["share"], v["shift"])
    grip = v["grip"] * v["mass"] * max(0.0, GRAVITY_M_S2 * v["share"] - held * v["shift"])
    slides = "the wheels spin before the motors stall" if pushed > held else ""
    return [
        Result("top", "top speed", top, "m/s", 3),
        Result("push", "stall force of the motors", push, "N", 2),
        Result("grip", "traction limit", grip, "N", 2, slides),
        Result("rise", "acceleration from rest", max(0.0, min(pushed, held)), "m/s/s", 2),
        Result("held", "maximum acceleration without slip", max(0.0, held), "m/s/s", 2),
    ]


def _writes_gear(rig: Rig, v: Values) -> list[tuple[str, object]]:
    found: list[tuple[str, object]] = []
    for name in rig.motors:
        found.append((f"motors.{name}.gear", _whole(v["gear"])))
        found.append((f"motors.{name}.top_speed", format_quantity(v["shaft"], "turn rate", "rpm", 1)))
    return found


# --- PWM ---


def _pwm(v: Values) -> list[Result]:
    steps = 2.0 ** v["bits"] - 1
    usable = (1 - v["smallest"]) * steps
    whole = v["clock"] / v["frequency"]
    few = f"the timer has only {whole:.0f} steps at this frequency" if whole < steps else ""
    return [
        Result("steps", "steps", steps, "", 0, few),
        Result("step", "smallest step", 100 / steps, "%", 3),
        Result("speed", "smallest step of speed", v["top"] / steps * 1e3, "mm/s", 2),
        Result("usable", "steps above the smallest drive", usable, "", 0),
        Result("possible", "timer resolution", float(len(f"{int(whole):b}") - 1), "", 0),
    ]


def _writes_pwm(rig: Rig, v: Values) -> list[tuple[str, object]]:
    return [
        (f"motors.{name}.output.bits", int(v["bits"]))
        for name, motor in rig.motors.items()
        if getattr(motor.output, "bits", None) is not None
    ]


# --- a battery ---


def _battery(v: Values) -> list[Result]:
    amps = v["electronics"] + v["motors"] * v["each"]
    seconds = v["capacity"] * v["usable"] / amps
    matches = seconds / v["match"]
    return [
        Result("amps", "total current", amps, "A", 2),
        Result("minutes", "running time", seconds / 60, "min", 1),
        Result("matches", "matches", matches, "", 1, "not even one match" if matches < 1 else ""),
        Result("sag", "voltage sag", amps * v["resistance"], "V", 2),
    ]


def _writes_battery(rig: Rig, v: Values) -> list[tuple[str, object]]:
    return [
        ("battery.capacity", format_quantity(v["capacity"], "charge", "mAh", 0)),
        ("battery.resistance", format_quantity(v["resistance"], "resistance", "mohm", 0)),
    ]


# --- a turn ---


def _turn(v: Values) -> list[Result]:
    way = v["angle"] * v["track"] * v["scrub"] / 2
    around = 2 * pi * v["radius"]
    counts = way / around * v["per_turn"]
    return [
        Result("way", "wheel distance", way, "m", 4),
        Result("turns", "turns of the wheel", way / around, "", 3),
        Result("counts", "counts", counts, "", 0),
        Result(
            "one",
            "one count turns it",
            degrees(around / max(v["per_turn"], 1e-9) * 2 / (v["track"] * v["scrub"])),
            "deg",
            3,
        ),
    ]


SUMS: tuple[Sum, ...] = (
    Sum(
        "divider", "voltage divider for a sensor",
        ("V_pin = V_sensor · R / (R1 + R)", "R = R2 · R_load / (R2 + R_load)"), "Ohm's law; values of IEC 60063, E24",
        (
            Operand("sensor", "sensor voltage", "voltage", "V", lambda _: 5.0, 0.1, 60.0, 0.1),
            Operand("pin", "pin maximum", "voltage", "V", lambda _: 3.3, 0.1, 60.0, 0.1),
            Operand("whole", "R1 + R2, about", "resistance", "kohm", lambda _: 20_000.0, 200.0, 1e6, 1000.0),
            Operand("r1", "your own R1 (0: none)", "resistance", "kohm", lambda _: 0.0, 0.0, 1e7, 100.0),
            Operand("r2", "your own R2", "resistance", "kohm", lambda _: 0.0, 0.0, 1e7, 100.0),
            Operand("tolerance", "tolerance", "fraction", "%", lambda _: 0.01, 0.0, 0.2, 0.01),
            Operand("load", "input resistance of the pin", "resistance", "kohm", lambda _: 1e8, 1e3, 1e9, 1e5),
        ),
        _divider,
    ),
    Sum(
        "echo", "echo time to distance", ("c = 331.3 m/s · √(1 + T / 273.15 °C)", "distance = c · t / 2"), "Kinsler & Frey",
        (
            Operand("time", "echo time", "time", "ms", lambda _: 5.8e-3, 0.0, 0.1, 1e-4),
            Operand("celsius", "air temperature", "number", "°C", lambda _: 20.0, -40.0, 60.0, 1.0),
        ),
        _echo,
    ),
    Sum(
        "counts", "counts to distance", ("distance = counts / (counts per turn · gear) · 2π · radius",), "the circle",
        (
            Operand("counts", "counts", "number", "", lambda _: 1000.0, 0.0, 1e9, 10.0),
            Operand("per_turn", "counts per turn of the shaft", "number", "", lambda r: _motor(r).counts_per_turn or 12.0, 1.0, 1e6, 1.0),
            Operand("gear", "gear ratio", "number", "", lambda r: _motor(r).gear, 0.01, 1e4, 1.0),
            Operand("radius", "radius of the wheel", "length", "mm", _radius, 1e-3, 10.0, 1e-3),
        ),
        _counts, _writes_counts,
    ),
    Sum(
        "gear", "gear ratio to speed and force",
        ("v = ω_shaft / gear · radius", "F = motors · M_stall · gear · efficiency / radius", "F ≤ grip · m · (g · share − a · shift)"),
        "a brushed motor's straight line from stall to free speed; moments about the mass centre",
        (
            Operand("shaft", "top speed of the shaft", "turn rate", "rpm", lambda r: _motor(r).top_speed_rad_s, 0.1, 1e5, 2 * pi / 60 * 100),
            Operand("gear", "gear ratio", "number", "", lambda r: _motor(r).gear, 0.01, 1e4, 1.0),
            Operand("radius", "radius of the wheel", "length", "mm", _radius, 1e-3, 10.0, 1e-3),
            Operand("stall", "stall torque of the shaft", "torque", "mNm", lambda r: _motor(r).stall_Nm or 0.03, 1e-5, 1e3, 1e-3),
            Operand("efficiency", "gear efficiency", "fraction", "%", lambda r: _motor(r).efficiency, 0.05, 1.0, 0.01),
            Operand("motors", "driving motors", "number", "", lambda r: standing_of(r).motors, 0.1, 32.0, 1.0),
            Operand("mass", "mass", "mass", "kg", lambda r: (r.body or Body()).weighs_kg(r.chassis), 0.01, 1e4, 0.1),
            Operand("grip", "friction coefficient", "number", "", lambda r: (r.body or Body()).grip, 0.01, 3.0, 0.05),
            Operand("share", "load share of driven wheels", "fraction", "%", lambda r: round(standing_of(r).share, 4), 0.0, 1.0, 0.05),
            Operand("shift", "load shift at 1 g", "fraction", "%", lambda r: round(standing_of(r).shift, 4), -3.0, 3.0, 0.05),
            Operand("drag", "caster drag, of their load", "fraction", "%",
                  lambda r: (r.body or Body()).casters if r.chassis.casters else 0.0, 0.0, 3.0, 0.01),
        ),
        _gear, _writes_gear,
    ),
    Sum(
        "pwm", "PWM resolution", ("step = 1 / (2^bits − 1)", "timer steps = clock / frequency"), "counting",
        (
            Operand("bits", "bits", "number", "", lambda r: float(getattr(_motor(r).output, "bits", None) or 8), 1.0, 24.0, 1.0),
            Operand("top", "top speed of the wheels", "speed", "m/s", lambda r: r.wheel_top_m_s(r.chassis.wheels[0].name), 1e-3, 100.0, 0.01),
            Operand("smallest", "smallest drive that turns", "fraction", "%", lambda r: _motor(r).smallest, 0.0, 0.9, 0.01),
            Operand("frequency", "frequency", "frequency", "Hz", lambda r: getattr(_motor(r).output, "pwm_hz", None) or 1000.0, 1.0, 1e6, 100.0),
            Operand("clock", "timer clock", "frequency", "kHz", lambda _: 16e6, 1e3, 1e9, 1e6),
        ),
        _pwm, _writes_pwm,
    ),
    Sum(
        "battery", "battery running time", ("t = capacity · usable / I", "I = electronics + motors · I_each", "sag = I · R"),
        "charge over current",
        (
            Operand("capacity", "capacity", "charge", "mAh", lambda r: r.battery.capacity_As, 3.6, 1e7, 360.0),
            Operand("usable", "usable share", "fraction", "%", lambda _: 0.8, 0.05, 1.0, 0.05),
            Operand("electronics", "current of the electronics", "current", "mA", lambda r: r.battery.electronics_A, 0.0, 1e3, 0.05),
            Operand("motors", "motors", "number", "", lambda r: float(len(r.motors)), 0.0, 64.0, 1.0),
            Operand("each", "mean current of each", "current", "mA", lambda _: 0.8, 0.0, 1e3, 0.05),
            Operand("resistance", "internal resistance", "resistance", "mohm", lambda r: r.battery.resistance_ohm, 0.0, 1e3, 0.01),
            Operand("match", "match time", "time", "s", lambda _: 138.0, 1.0, 1e5, 1.0),
        ),
        _battery, _writes_battery,
    ),
    Sum(
        "turn", "turn to wheel distances", ("distance = angle · track / 2", "track acts as track · scrub"), "the circle; the wheel matrix",
        (
            Operand("angle", "turn", "angle", "deg", lambda _: pi / 2, 0.0, radians(36000), radians(5)),
            Operand("track", "track, or 2 × roll per radian", "length", "mm", lambda r: 2 * _turning(r)[1], 0.01, 100.0, 1e-3),
            Operand("scrub", "scrub factor", "number", "", lambda r: r.odometry.scrub, 0.5, 5.0, 0.01),
            Operand("radius", "radius of the wheel", "length", "mm", lambda r: r.chassis.wheels[_turning(r)[0]].radius_m, 1e-3, 10.0, 1e-3),
            Operand("per_turn", "counts per turn of the wheel", "number", "",
                  lambda r: _motor_of(r, _turning(r)[0]).counts_per_wheel_turn or 360.0, 1.0, 1e7, 1.0),
        ),
        _turn, lambda _rig, v: [("odometry.scrub", round(v["scrub"], 4))] if v["scrub"] != 1 else [],
    ),
)  # fmt: skip
"""All of them, in the order in which they are listed."""
