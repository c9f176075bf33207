"""The loops of a line that have gains: heading, wheel speed, the angle of a steered wheel, and those of balance. One set of tools serves
all.
"""

from __future__ import annotations

from collections.abc import Mapping
from math import cos, degrees, pi, radians, sin

import numpy as np

from pivrex.line import Line
from pivrex.line.layout import plain
from pivrex.line.stage import Floats
from pivrex.rig import Rig
from pivrex.rig.correction import Correction as CorrectionTable
from pivrex.rig.wheel_control import WheelControl
from pivrex.routine.motion import Motion, straight_of, turn_of
from pivrex.tuning.balance_loops import BALANCE
from pivrex.tuning.loop import AT_ONCE, OPEN, Experiment, Gains, Loop, rounded
from pivrex.units import format_quantity

__all__ = ["LOOPS", "Heading", "SteeringLoop", "WheelLoop", "loop_named", "loops_of"]


class Heading(Loop):
    """The correction by the gyro; p in 1/s, i in 1/s²."""

    name = "heading"
    unit, scale = "deg", degrees(1)
    gives, gives_scale = "deg/s", degrees(1)
    kinds = ("step", "push", "turn", "straight")
    least = radians(0.5)
    ranges = ((2.0, 30.0), (0.0, 60.0), (0.0, 1.0))

    def of(self, rig: Rig) -> Rig | None:
        if rig.gyro is None:
            return None
        return rig if rig.correction is not None else rig.model_copy(update={"correction": CorrectionTable()})

    def gains(self, rig: Rig) -> Gains:
        c = rig.correction or CorrectionTable()
        return Gains(c.p_per_s, c.i, c.d)

    def without_gains(self, rig: Rig) -> Rig:
        table = rig.correction and rig.correction.model_copy(update={"p_per_s": 0.0, "i": 0.0, "d": 0.0})
        return rig.model_copy(update={"correction": table})

    def put(self, line: Line, gains: Gains) -> None:
        own, (p, i, d) = line.of_rig["correction"], gains
        line.put("correction", own._replace(outer=own.outer._replace(p=p, i=i, d=d)))

    def places(self, line: Line) -> tuple[int, int, dict[str, int]]:
        names = [n for n in ("p", "i", "d", "rate_p", "rate_i", "output") if line.layout.has("correction", n)]
        parts = {n: line.layout.at("correction", n) for n in names}
        return line.layout.at("truth", "heading"), line.layout.at("correction", "target"), parts

    def experiment(self, rig: Rig, kind: str) -> Experiment:
        body = rig.with_body("realistic").body
        assert body is not None
        lever = rig.chassis.length_m / 2 - rig.chassis.mass_centre.x_m
        # one that turns a free robot at about 250 deg/s
        push = body.weighs_kg(rig.chassis) * body.spread_of_m(rig.chassis) ** 2 * radians(250) / lever
        push = max(round(push, 2), 0.05)
        match kind:
            case "push":
                return Experiment("push", push, 2.0, push, f"push {push:.2f} N·s at the front")
            case "both":
                return Experiment("both", radians(30), 2.0, push, "target jumps 30 deg under way, then a push")
            case "turn":
                return Experiment("turn", pi / 2, 2.5, title="turn 90 deg")
            case "straight":
                return Experiment("straight", 1.0, 4.0, title="straight on 1.0 m")
        return Experiment("step", radians(30), 1.6, title="target jumps 30 deg")

    def move(self, line: Line, experiment: Experiment) -> Motion:
        match experiment.kind:
            case "step":
                return Motion(most=0.0, jump=experiment.amount)
            case "both":  # under way, where a weak side pulls
                most = 0.4 * line.rig.full_forward_m_s
                return Motion(forward=1.0, most=most, rise=AT_ONCE, jump=experiment.amount)
            case "turn":
                return turn_of(line, experiment.amount)
            case "push":
                return Motion(most=0.0)
        return straight_of(line, experiment.amount)

    def impulse(self, rig: Rig, experiment: Experiment) -> Floats:
        lever = rig.chassis.length_m / 2 - rig.chassis.mass_centre.x_m
        return np.array([0.0, experiment.push, experiment.push * lever])

    def changes(self, rig: Rig, gains: Gains) -> dict[str, object]:
        return {
            "correction.p": format_quantity(rounded(float(gains.p)), "rate", "/s"),
            "correction.i": rounded(float(gains.i)),
            "correction.d": rounded(float(gains.d)),
        }


class WheelLoop(Loop):
    """The loop on a wheel's encoder; shares of full drive for shares of top speed."""

    name = "wheel"
    unit, scale, p_unit = "% of top speed", 100.0, ""
    gives, gives_scale = "% drive", 100.0
    kinds = ("step", "push")
    least = 0.02
    ranges = ((0.05, 4.0), (0.0, 30.0), (0.0, 0.1))
    from_start, follows = False, True

    def of(self, rig: Rig) -> Rig | None:
        if rig.balance is not None or any(not m.counts_per_turn for m in rig.motors.values()):
            return None
        table = (rig.control or WheelControl()).model_copy(update={"wheels": "pid"})
        return rig.model_copy(update={"control": table})

    def gains(self, rig: Rig) -> Gains:
        c = rig.control or WheelControl()
        return Gains(c.p, c.i, c.d)

    def without_gains(self, rig: Rig) -> Rig:
        table = rig.control and rig.control.model_copy(update={"p": 0.0, "i": 0.0, "d": 0.0})
        return rig.model_copy(update={"control": table})

    def put(self, line: Line, gains: Gains) -> None:
        own, (p, i, d) = line.of_rig["control"], gains
        if isinstance(p, float | int) and gains == OPEN:  # nothing counts but the share of top speed
            own, p = own._replace(static=0.0, speed=1.0, acceleration=0.0), 0.0
        line.put("control", own._replace(loop=own.loop._replace(p=p, i=i, d=d)))

    def places(self, line: Line) -> tuple[int, int, dict[str, int]]:
        motor = plain(next(iter(line.rig.motors)))
        names = ("p", "i", "d", "static", "speed", "acceleration", "drive")
        parts = {("output" if n == "drive" else n): line.layout.at("control", f"{motor}_{n}") for n in names}
        return line.layout.at("control", f"{motor}_measured"), line.layout.at("control", f"{motor}_setpoint"), parts

    def experiment(self, rig: Rig, kind: str) -> Experiment:
        body = rig.with_body("realistic").body
        assert body is not None
        push = round(body.weighs_kg(rig.chassis) * 0.25 * rig.full_forward_m_s, 2)
        match kind:
            case "push":
                return Experiment("push", 0.4, 2.0, -push, f"at 40 % a push of {push:.2f} N·s", 0.05)
            case "both":
                return Experiment("both", 0.4, 2.0, -push, "to 40 % of full speed, then a push", 0.05)
        return Experiment("step", 0.4, 1.2, title="to 40 % of full speed", begins_s=0.25)

    def move(self, line: Line, experiment: Experiment) -> Motion:
        return Motion(forward=1.0, most=experiment.amount * line.rig.full_forward_m_s, rise=AT_ONCE, held=False)

    def impulse(self, rig: Rig, experiment: Experiment) -> Floats:
        return np.array([experiment.push, 0.0, 0.0])

    def changes(self, rig: Rig, gains: Gains) -> dict[str, object]:
        return {
            "control.wheels": "pid",
            **{f"control.{n}": rounded(float(v)) for n, v in zip(("p", "i", "d"), gains, strict=True)},
        }


class SteeringLoop(Loop):
    """The loop that turns a steered wheel; p in 1/s, i in 1/s². The experiments are the same for all steered wheels."""

    name = "steering"
    unit, scale = "deg", degrees(1)
    gives, gives_scale = "% drive", 100.0
    kinds = ("step",)
    least = radians(1.0)
    ranges = ((2.0, 60.0), (0.0, 60.0), (0.0, 0.6))

    def of(self, rig: Rig) -> Rig | None:
        return rig if rig.steering is not None and rig.steered else None

    def gains(self, rig: Rig) -> Gains:
        assert rig.steering is not None
        motor = rig.steering.wheels[rig.steered[0]]
        return Gains(motor.p_per_s, motor.i, motor.d)

    def put(self, line: Line, gains: Gains) -> None:
        own = line.of_rig["steering"]
        wheels = np.zeros(len(own.per_top))
        p, i, d = (np.asarray(v, float)[..., None] + wheels for v in gains)
        line.put("steering", own._replace(loop=own.loop._replace(p=p, i=i, d=d)))

    def places(self, line: Line) -> tuple[int, int, dict[str, int]]:
        wheel = plain(line.rig.steered[0])
        parts = {"output": line.layout.at("steering", f"{wheel}_drive")}
        return line.layout.at("pointing", f"{wheel}_angle"), line.layout.at("steering", f"{wheel}_target"), parts

    def experiment(self, rig: Rig, kind: str) -> Experiment:
        return Experiment(
            "both" if kind == "both" else "step", radians(60), 1.2, title="wheels from 0 to 60 deg", begins_s=0.25
        )

    def move(self, line: Line, experiment: Experiment) -> Motion:
        slow, angle = 0.3 * line.rig.full_forward_m_s, experiment.amount
        return Motion(forward=cos(angle), left=sin(angle), most=slow, rise=AT_ONCE, held=False)

    def changes(self, rig: Rig, gains: Gains) -> dict[str, object]:
        found: dict[str, object] = {}
        for wheel in rig.steered:
            key = f"steering.wheels.{wheel}"
            found[f"{key}.p"] = format_quantity(rounded(float(gains.p)), "rate", "/s")
            found[f"{key}.i"] = rounded(float(gains.i))
            found[f"{key}.d"] = rounded(float(gains.d))
        return found


LOOPS: Mapping[str, Loop] = {loop.name: loop for loop in (*BALANCE, Heading(), WheelLoop(), SteeringLoop())}
"""Every loop, in the order in which they are walked."""


def loops_of(rig: Rig) -> list[Loop]:
    """Return the loops that a rig has."""
    return [loop for loop in LOOPS.values() if loop.of(rig) is not None]


def loop_named(name: str) -> Loop:
    """Return a loop by its name; raises `KeyError`."""
    return LOOPS[name]
