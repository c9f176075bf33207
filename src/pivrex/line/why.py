"""The why: one wheel's output derived from the stick, stage by stage, with the numbers of one Tick."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from pivrex.line.equations import equation
from pivrex.line.layout import plain
from pivrex.line.levels import PRESSED
from pivrex.line.line import Line
from pivrex.line.shaping import describe_curve
from pivrex.rig.channels import describe_channel, is_one_sided
from pivrex.rig.controls import Axis
from pivrex.rig.outputs import DutyOutput, MagnitudeOutput, ServoOutput, TwoPinOutput
from pivrex.units import wrap_deg

__all__ = ["Rung", "ladder", "sentence"]

Floats = NDArray[np.float64]

ARROW = " → "


@dataclass(frozen=True)
class Rung:
    """One stage of the derivation.

    Attributes
    ----------
    stage : str
        What happens here, in a word.
    text : str
        With its numbers.
    setting : str
        The dotted key of the rig that shaped it; empty if none does.
    note : str
        What a student should look at; empty when all is well.
    """

    stage: str
    text: str
    setting: str = ""
    note: str = ""


def sentence(line: Line, row: Floats, wheel: str) -> str:
    """Derive a wheel's output in one sentence."""
    get = _Getter(line, row)
    w = line.wheels.index(wheel)
    terms = _terms(line, get, w)
    pressed = _pressed(line, get)
    if pressed and not any(t.speed for t in terms):
        wheel_m_s = get("wheels", f"{plain(wheel)}_asked")
        return f"why {wheel}: {', '.join(pressed)}{ARROW}{wheel_m_s:.2f} m/s{ARROW}{_told(line, get, wheel)}".replace(
            "-", "−"
        )
    main = max(terms, key=lambda t: abs(t.speed)) if any(t.speed for t in terms) else terms[0]
    way = (
        {1.0: " left", -1.0: " right"}.get(float(np.sign(get("axes", main.function))), "")
        if main.function == "turn"
        else ""
    )
    turns = main.function == "turn"

    def shown(stage: str) -> str:
        # a turn is told as left or right, without a sign beside it
        value = get(stage, main.function)
        return f"{abs(value) if turns else value:.2f}"

    parts = [
        f"{_control(line, main.function)} {shown('axes')}{way}",
        f"band {shown('band')}",
        f"curve {shown('curve')}",
    ]
    if line.shaping.scale[line.functions.index(main.function)] != 1:
        parts.append(f"scale {shown('scale')}")
    if abs(get("rate", main.function) - get("scale", main.function)) > 0.005:
        parts.append(f"rate {shown('rate')}")
    others = [t for t in terms if t is not main and abs(t.speed) >= 0.0005]
    asked, given = get("wheels", f"{plain(wheel)}_asked"), get("limits", f"{plain(wheel)}_given")
    if line.steering is not None or _turned(line, get):
        parts += _by_motion(line, get, wheel)
    else:
        total = f"{main.speed + 0.0:.2f} m/s" + "".join(
            f" {'+' if t.speed > 0 else '−'} {t.function} {abs(t.speed):.2f}" for t in others
        )
        parts.append(total)
        if others:
            parts.append(f"{asked:.2f} m/s")
    lost = get("limits", f"{plain(wheel)}_lost")
    if abs(lost) > 0.0005:
        parts.append(f"! limited to {asked - lost:.2f} m/s")
    if line.steering is not None and abs(asked - lost - given) > 0.0005:
        parts.append(f"cosine {get('steering', f'{plain(wheel)}_share'):.2f}: {given:.2f} m/s")
    parts.append(_told(line, get, wheel))
    return f"why {wheel}: " + ARROW.join(parts).replace("-", "−")


def _turned(line: Line, get: _Getter) -> bool:
    """Tell whether what the wheels do is not what the law's own functions add up to: another frame, point or side."""
    if line.frame is None:
        return False
    return any(abs(get("law", n) - get("frame", n)) > 0.0005 for n in ("forward", "left", "turn")) or bool(
        get("frame", "over")
    )


def _by_motion(line: Line, get: _Getter, wheel: str) -> list[str]:
    """Derive a wheel from the robot's motion, where the functions do not simply add up."""
    stage = "frame" if line.frame is not None else "law"
    forward, left, turn = (get(stage, n) for n in ("forward", "left", "turn"))
    parts = []
    if _turned(line, get):
        point = int(get("frame", "point"))
        words = [f"heading {np.degrees(get('frame', 'heading')):.0f} deg"] if get("frame", "field") else []
        words += [f"about {line.rig.plane.points[point - 1].name}"] if point else []
        words += ["on its back"] if get("frame", "over") else []
        parts.append(f"{', '.join(words)}: forward {forward:.2f} left {left:.2f} m/s turn {_turn(np.degrees(turn))}")
    w = line.wheels.index(wheel)
    asked = get("wheels", f"{plain(wheel)}_asked")
    if line.steering is not None and line.rig.chassis.wheels[w].steered:
        target, angle = (np.degrees(get("steering", f"{plain(wheel)}_{k}")) for k in ("target", "angle"))
        parts.append(f"{asked:.2f} m/s at {wrap_deg(target):.0f} deg, points {wrap_deg(angle):.0f} deg")
    else:
        parts.append(f"{equation(line.rig.chassis, w)} = {asked:.2f} m/s")
    return parts


def ladder(line: Line, row: Floats, wheel: str) -> list[Rung]:
    """Derive a wheel's output, a rung a stage, in the order of the line."""
    get = _Getter(line, row)
    rig = line.rig
    w = line.wheels.index(wheel)
    rungs = []
    axes = rig.law.axes()
    for function in line.functions:
        name = axes[function]
        channel = rig.channel(name)
        axis, place = _calibration(line, get, name)
        centre = f", centre [{axis.centre[0]:g}, {axis.centre[1]:g}]" if axis.centre else ""
        rungs.append(
            Rung(
                "stick" if not is_one_sided(channel) else "trigger",
                f"{function}: {describe_channel(channel)} reads {get('raw', line.channels[line.functions.index(function)]):+.3f}, "
                f"between {axis.minimum:g} and {axis.maximum:g}{centre}{ARROW}{get('axes', function):+.3f}",
                place,
            )
        )
    measured = {"axis": "by itself", "stick": "by the stick's distance", "sum": "by the sum of both axes"}
    for function in line.functions:
        s = rig.shaping.of(function)
        inside = get("axes", function) != 0 and get("band", function) == 0
        rungs.append(
            Rung(
                "band",
                f"{function}: edge {s.edge * 100:.0f} % {measured[rig.shaping.measure]}, {rig.shaping.onset}"
                f"{ARROW}{get('band', function):+.3f}",
                f"shaping.{function}.edge",
                "inside the dead band" if inside else "",
            )
        )
        rungs.append(
            Rung(
                "curve",
                f"{function}: {describe_curve(s)}{ARROW}{get('curve', function):+.3f}",
                f"shaping.{function}.curve",
            )
        )
        rungs.append(
            Rung(
                "scale",
                f"{function}: {s.scale * 100:.0f} % · overall {rig.shaping.overall * 100:.0f} %"
                f"{ARROW}{get('scale', function):+.3f}",
                f"shaping.{function}.scale",
            )
        )
        slowed = abs(get("rate", function) - get("scale", function)) > 0.0005 and not get("clock", "stopped")
        limits = " and ".join(
            f"{word} {rate:g} /s" for word, rate in (("faster", s.faster_per_s), ("slower", s.slower_per_s)) if rate
        )
        rungs.append(
            Rung(
                "rate",
                f"{function}: {limits or 'no limit'}{ARROW}{get('rate', function):+.3f}",
                f"shaping.{function}.faster",
                "still on its way" if slowed else "",
            )
        )
    level = rig.speed_levels.levels[int(get("law", "level"))]
    left = f" left {get('law', 'left'):+.3f}" if rig.law.kind == "planar" else ""
    rungs.append(
        Rung(
            "law",
            f"{rig.law.kind}, level {level.name} (moving {level.moving * 100:.0f} %, turning {level.turning * 100:.0f} %)"
            f"{ARROW}forward {get('law', 'forward'):+.3f}{left} m/s, turn {_turn(np.degrees(get('law', 'turn')))}",
            "law.kind",
        )
    )
    if line.bindings is not None:
        pressed = _pressed(line, get)
        asked = ", ".join(f"{n} {get('bindings', n):+.2f}" for n in ("forward", "left", "turn") if get("bindings", n))
        slow, halted = get("bindings", "slow"), [n for n in ("brake", "coast") if get("bindings", n)]
        words = [", ".join(pressed)] if pressed else []
        words += [f"slow {slow * 100:.0f} %"] if slow != 1 else []
        if words or halted:
            key = next(
                (p.key for p in line.bindings.patches if p.deed is not None and p.deed.verb in ("motion", "slow")), ""
            )
            note = f"! {halted[0]}" if halted else ""
            rungs.insert(-1, Rung("button", f"{' · '.join(words + halted)}{ARROW}{asked or 'no motion'}", key, note))
    rungs += _frame_rungs(line, get)
    rungs.append(
        Rung(
            "wheel",
            f"{wheel} = {equation(rig.chassis, w)}{ARROW}{get('wheels', f'{plain(wheel)}_asked'):+.3f} m/s",
            f"chassis.wheels.{w}.x",
        )
    )
    lost = get("limits", f"{plain(wheel)}_lost")
    first = "" if rig.limits.first == "both" else f", {rig.limits.first} gives way first"
    limited = get("wheels", f"{plain(wheel)}_asked") - lost
    rungs.append(
        Rung(
            "limits",
            f"{rig.limits.fit}{first}, top {line.top_m_s[w]:.2f} m/s{ARROW}{limited:+.3f} m/s",
            "limits.fit",
            f"! {abs(lost):.3f} m/s lost" if abs(lost) > 0.0005 else "",
        )
    )
    if line.steering is not None and rig.chassis.wheels[w].steered:
        angle, target = (np.degrees(get("steering", f"{plain(wheel)}_{k}")) for k in ("angle", "target"))
        share = get("steering", f"{plain(wheel)}_share")
        rungs.append(
            Rung(
                "steer",
                f"{wheel} points {wrap_deg(angle):+.1f} deg, shall {wrap_deg(target):+.1f} deg, share {share:.2f}"
                f"{ARROW}{get('limits', f'{plain(wheel)}_given'):+.3f} m/s",
                f"steering.wheels.{wheel}.p",
                "still turning" if abs(target - angle) > 2 else "",
            )
        )
    motor = next(n for n, m in rig.motors.items() if wheel in m.wheels)
    hums = bool(get("outputs", f"{plain(motor)}_hums"))
    rungs.append(
        Rung(
            "output",
            f"motor {motor}{', reversed' if rig.motors[motor].reversed else ''}{ARROW}{_told(line, get, wheel)}",
            f"motors.{motor}.reversed",
            "! too little to turn it: it only hums" if hums else "! stopped" if get("clock", "stopped") else "",
        )
    )
    return rungs


def _calibration(line: Line, get: _Getter, name: str) -> tuple[Axis, str]:
    """Give the calibration that made a fraction, and its key: that of the source that drove, where it has its own."""
    rig = line.rig
    channel, own = rig.channel(name), rig.axis(name).source
    if line.calibrated and own == "chosen" and get("clock", "source"):
        own = list(rig.sources)[int(get("clock", "source")) - 1]
    if own in rig.sources and channel in rig.sources[own].axes:
        return rig.sources[own].axes[channel], f"sources.{own}.axes.{channel}"
    return rig.axis(name), f"axes.{name}" if name in rig.axes else ""


def _pressed(line: Line, get: _Getter) -> list[str]:
    """Say which buttons or letters move the robot in this Tick, where no stick does."""
    if line.bindings is None or not any(get("bindings", n) for n in ("forward", "left", "turn")):
        return []
    held = [
        f"{p.channel} {p.deed.text}"
        for i, p in enumerate(line.bindings.patches)
        if p.deed is not None
        and p.deed.verb == "motion"
        and get("raw", line.channels[line.bindings.channel[i]]) >= PRESSED
    ]
    return held or ["a button, falling back"]


def _frame_rungs(line: Line, get: _Getter) -> list[Rung]:
    if line.frame is None:
        return []
    plane = line.rig.plane
    heading = np.degrees(get("frame", "heading"))
    whose = f"field, heading {wrap_deg(heading):+.1f} deg" if get("frame", "field") else "robot"
    point = int(get("frame", "point"))
    about = f", about {plane.points[point - 1].name}" if point else ""
    side = ", on its back" if get("frame", "over") else ""
    return [
        Rung(
            "frame",
            f"{whose}{about}{side}{ARROW}forward {get('frame', 'forward'):+.3f} left {get('frame', 'left'):+.3f} m/s, "
            f"turn {_turn(np.degrees(get('frame', 'turn')))}",
            "plane.frame" if line.rig.law.kind == "planar" else "",
        )
    ]


@dataclass(frozen=True)
class _Term:
    function: str
    speed: float


class _Getter:
    def __init__(self, line: Line, row: Floats) -> None:
        self._layout, self._row = line.layout, row

    def __call__(self, stage: str, name: str) -> float:
        value = float(self._row[self._layout.at(stage, name)])
        # what would be written as -0.000 is 0
        return 0.0 if abs(value) < 0.0005 else value


def _terms(line: Line, get: _Getter, w: int) -> list[_Term]:
    """Split a wheel's speed into what each function adds: the law and the wheel matrix are linear."""
    full = line.levels[int(get("law", "level"))][:3]
    terms = []
    rows = line.kinematics.inverse[w] if line.kinematics.hubs is None else line.kinematics.hubs[w].sum(axis=0)
    for i, function in enumerate(line.functions):
        unit = np.zeros(len(line.functions))
        unit[i] = get("rate", function)
        terms.append(_Term(function, float((rows * line.law(unit) * full).sum())))
    return terms


def _turn(deg_s: float) -> str:
    return f"{abs(deg_s):.1f} deg/s" + (" left" if deg_s > 0.05 else " right" if deg_s < -0.05 else "")


def _control(line: Line, function: str) -> str:
    channel = line.rig.channel(line.rig.law.axes()[function])
    return f"{function} trigger" if is_one_sided(channel) else f"{function} stick"


def _told(line: Line, get: _Getter, wheel: str) -> str:
    """Say what the motor driver of a wheel is told."""
    rig = line.rig
    name, motor = next((n, m) for n, m in rig.motors.items() if wheel in m.wheels)
    values = {v.name: get("outputs", f"{plain(name)}_{v.name}") for v in line.outputs.values if v.motor == name}
    given = get("limits", f"{plain(wheel)}_given")
    way = "rest" if given == 0 else "forward" if given > 0 else "backward"
    hum = " (! only hums)" if get("outputs", f"{plain(name)}_hums") else ""
    match motor.output:
        case MagnitudeOutput():
            return f"{values['duty']:.0f}/{motor.output.full} {way}, direction {values['direction']:.0f}{hum}"
        case TwoPinOutput():
            return f"{values['forward_duty']:.0f} and {values['backward_duty']:.0f} of {motor.output.full} {way}{hum}"
        case ServoOutput():
            return f"{values['pulse']:.0f} µs {way}{hum}"
    number = next(iter(values.values()))
    unit = next(v.unit for v in line.outputs.values if v.motor == name)
    shown = (
        f"{number:+.0f}/{motor.output.full}"
        if isinstance(motor.output, DutyOutput)
        else f"{number:+.3g} {unit}".rstrip()
    )
    return f"{shown} {way}{hum}"
