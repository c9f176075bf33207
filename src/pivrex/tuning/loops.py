"""The loops of a line that have gains: heading, wheel speed, the angle of a steered wheel. One set of tools for all of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from math import cos, degrees, pi, radians, sin
from typing import NamedTuple

import numpy as np

from pivrex.line import Line
from pivrex.line.layout import plain
from pivrex.line.stage import Floats
from pivrex.rig import Rig
from pivrex.rig.correction import Correction as CorrectionTable
from pivrex.rig.wheel_control import WheelControl
from pivrex.routine.motion import Motion, straight_of, turn_of
from pivrex.units import format_quantity

__all__ = [
    "LOOPS",
    "OPEN",
    "WHOLE",
    "BalanceLoop",
    "Experiment",
    "Gains",
    "Heading",
    "Loop",
    "SteeringLoop",
    "WheelLoop",
    "loop_named",
    "loops_of",
]

KNOCK_AT_S = {"push": 0.3, "both": 1.1}
"""When a knock comes: once the heading is held, or once a step has settled."""


class Gains(NamedTuple):
    """Gains of a loop; floats, or arrays of a batch's shape. Their units are the loop's."""

    p: float | Floats
    i: float | Floats
    d: float | Floats


@dataclass(frozen=True)
class Experiment:
    """What is tried with a loop.

    Attributes
    ----------
    kind : str
        "step" of the target, "push" from outside, "both" one after the other, "turn" (a profiled one), "straight".
    amount : float
        In the loop's unit; of a push N·s, of a straight drive m.
    seconds : float
        For how long it is watched.
    knock : float
        Of "both": N·s.
    title : str
        What it is, in words.
    begins_s : float
        When its motion begins.
    knocked_s : float
        When it is knocked; 0 for the usual time.
    """

    kind: str
    amount: float
    seconds: float
    knock: float = 0.0
    title: str = ""
    begins_s: float = 0.0
    knocked_s: float = 0.0

    @property
    def knock_at_s(self) -> float:
        """When it is knocked; below 0 for never."""
        return self.knocked_s or KNOCK_AT_S.get(self.kind, -1.0)


AT_ONCE = 1e6
"""The rise of what is asked for at once, in m/s²."""


OPEN = Gains(-1.0, 0.0, 0.0)
"""Of a wheel: neither a loop nor feedforward, only the share of top speed."""


class Loop:
    """A loop of a line. What stands in the Tick of it, and how it is tried and changed.

    Attributes
    ----------
    name : str
    unit : str
        Of what it controls, for people; ``scale`` times SI is in it. ``p_unit`` is that of P, with a space before it.
    gives : str
        The unit of what it gives, with ``gives_scale``.
    kinds : tuple of str
        The experiments that mean something here.
    least : float
        The narrowest band, in SI, within which it counts as settled.
    """

    name = ""
    unit, scale = "", 1.0
    p_unit = " /s"
    gives, gives_scale = "", 1.0
    kinds: tuple[str, ...] = ("step",)
    least = 0.0
    ranges = ((1.0, 30.0), (0.0, 60.0), (0.0, 1.0))
    """Between which P, I and D are searched."""
    from_start = True
    """Whether its value counts from where it began."""
    follows = False
    """Whether it ends at what its target is then, whatever the experiment's size."""

    def of(self, rig: Rig) -> Rig | None:
        """Give the rig as this loop is tried on it; None if it has no such loop."""
        raise NotImplementedError

    def gains(self, rig: Rig) -> Gains:
        """Give a rig's own gains."""
        raise NotImplementedError

    def without_gains(self, rig: Rig) -> Rig:
        """Give a rig as if it had no gains of its own here: what is the same for all gain sets."""
        return rig

    def put(self, line: Line, gains: Gains) -> None:
        """Let a line go on with other gains than its rig says; arrays count robot by robot of a batch."""
        raise NotImplementedError

    def places(self, line: Line) -> tuple[int, int, dict[str, int]]:
        """Give where value, target and parts stand in the row."""
        raise NotImplementedError

    def experiment(self, rig: Rig, kind: str) -> Experiment:
        """Give an experiment of a size that suits a rig."""
        raise NotImplementedError

    def move(self, line: Line, experiment: Experiment) -> Motion:
        """Give what makes it on a line, but for a knock."""
        raise NotImplementedError

    def impulse(self, rig: Rig, experiment: Experiment) -> Floats:
        """Give the knock, (3,): forward and left in N·s, turning in N·m·s about the mass centre."""
        return np.zeros(3)

    def changes(self, rig: Rig, gains: Gains) -> dict[str, object]:
        """Give what a rig file must say for it to have these gains, by dotted key."""
        raise NotImplementedError


def _rounded(value: float) -> float:
    return float(f"{value:.3g}")


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
        parts = {("given" if n == "output" else n): line.layout.at("correction", n) for n in names}
        return line.layout.at("truth", "heading"), line.layout.at("correction", "target"), parts

    def experiment(self, rig: Rig, kind: str) -> Experiment:
        body = rig.with_body("real").body
        assert body is not None
        lever = rig.chassis.length_m / 2 - rig.chassis.mass_centre.x_m
        # one that turns a free robot at about 250 deg/s
        knock = body.weighs_kg(rig.chassis) * body.spread_of_m(rig.chassis) ** 2 * radians(250) / lever
        knock = max(round(knock, 2), 0.05)
        match kind:
            case "push":
                return Experiment("push", knock, 2.0, knock, f"knock {knock:.2f} N·s at the front")
            case "both":
                return Experiment("both", radians(30), 2.0, knock, "target jumps 30 deg under way, then a knock")
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
        return np.array([0.0, experiment.knock, experiment.knock * lever])

    def changes(self, rig: Rig, gains: Gains) -> dict[str, object]:
        return {
            "correction.p": format_quantity(_rounded(float(gains.p)), "rate", "/s"),
            "correction.i": _rounded(float(gains.i)),
            "correction.d": _rounded(float(gains.d)),
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
        parts = {("given" if n == "drive" else n): line.layout.at("control", f"{motor}_{n}") for n in names}
        return line.layout.at("control", f"{motor}_measured"), line.layout.at("control", f"{motor}_setpoint"), parts

    def experiment(self, rig: Rig, kind: str) -> Experiment:
        body = rig.with_body("real").body
        assert body is not None
        knock = round(body.weighs_kg(rig.chassis) * 0.25 * rig.full_forward_m_s, 2)
        match kind:
            case "push":
                return Experiment("push", 0.4, 2.0, -knock, f"at 40 % a knock of {knock:.2f} N·s", 0.05)
            case "both":
                return Experiment("both", 0.4, 2.0, -knock, "to 40 % of full speed, then a knock", 0.05)
        return Experiment("step", 0.4, 1.2, title="to 40 % of full speed", begins_s=0.25)

    def move(self, line: Line, experiment: Experiment) -> Motion:
        return Motion(forward=1.0, most=experiment.amount * line.rig.full_forward_m_s, rise=AT_ONCE, held=False)

    def impulse(self, rig: Rig, experiment: Experiment) -> Floats:
        return np.array([experiment.knock, 0.0, 0.0])

    def changes(self, rig: Rig, gains: Gains) -> dict[str, object]:
        return {
            "control.wheels": "pid",
            **{f"control.{n}": _rounded(float(v)) for n, v in zip(("p", "i", "d"), gains, strict=True)},
        }


class SteeringLoop(Loop):
    """The loop that turns a steered wheel; p in 1/s, i in 1/s². All steered wheels are tried alike."""

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
        parts = {"given": line.layout.at("steering", f"{wheel}_drive")}
        return line.layout.at("pointing", f"{wheel}_angle"), line.layout.at("steering", f"{wheel}_target"), parts

    def experiment(self, rig: Rig, kind: str) -> Experiment:
        return Experiment(
            "both" if kind == "both" else "step", radians(60), 1.2, title="wheels from ahead to 60 deg", begins_s=0.25
        )

    def move(self, line: Line, experiment: Experiment) -> Motion:
        slow, angle = 0.3 * line.rig.full_forward_m_s, experiment.amount
        return Motion(forward=cos(angle), left=sin(angle), most=slow, rise=AT_ONCE, held=False)

    def changes(self, rig: Rig, gains: Gains) -> dict[str, object]:
        found: dict[str, object] = {}
        for wheel in rig.steered:
            key = f"steering.wheels.{wheel}"
            found[f"{key}.p"] = format_quantity(_rounded(float(gains.p)), "rate", "/s")
            found[f"{key}.i"] = _rounded(float(gains.i))
            found[f"{key}.d"] = _rounded(float(gains.d))
        return found


class BalanceLoop(Loop):
    """A loop of the cascade with which a robot balances. All are tried alike: a step of the speed, or a push.

    Parameters
    ----------
    name : str
        "place", "speed", "lean" or "rate".
    units : (str, float, str, float)
        Of what it controls and of what it gives, each with its scale.
    least : float
    p, i : (float, float)
        Between which they are searched.
    """

    kinds = ("push", "step")
    from_start, follows = False, True

    def __init__(
        self,
        name: str,
        units: tuple[str, float, str, float],
        least: float,
        p: tuple[float, float],
        i: tuple[float, float],
    ) -> None:
        self.name, self.least, self.ranges = name, least, (p, i, (0.0, 0.0))
        self.unit, self.scale, self.gives, self.gives_scale = units
        self.p_unit = " /s" if name in ("lean", "place") else ""
        self.gain_unit = radians(1.0) if name == "speed" else 1.0
        """One of its gains in SI."""

    def of(self, rig: Rig) -> Rig | None:
        return rig if rig.balance is not None else None

    def gains(self, rig: Rig) -> Gains:
        own = getattr(rig.balance, self.name)
        return Gains(own.p, own.i, 0.0)

    def without_gains(self, rig: Rig) -> Rig:
        return self.with_gains(rig, Gains(0.0, 0.0, 0.0))

    def with_gains(self, rig: Rig, gains: Gains) -> Rig:
        """Return a rig that has these gains."""
        assert rig.balance is not None
        table = getattr(rig.balance, self.name).model_copy(update={"p": gains.p, "i": gains.i})
        return rig.model_copy(update={"balance": rig.balance.model_copy(update={self.name: table})})

    def put(self, line: Line, gains: Gains) -> None:
        own, unit = line.of_rig["balance"], self.gain_unit
        loop = getattr(own, self.name)._replace(p=gains.p * unit, i=gains.i * unit)
        line.put("balance", own._replace(**{self.name: loop}))

    def places(self, line: Line) -> tuple[int, int, dict[str, int]]:
        parts = {
            n: line.layout.at("balance", f"{self.name}_{'output' if n == 'given' else n}") for n in ("p", "i", "given")
        }
        value, target = (line.layout.at("balance", f"{self.name}_{n}") for n in ("measured", "setpoint"))
        return value, target, parts

    def experiment(self, rig: Rig, kind: str) -> Experiment:
        body = rig.with_body("real").body
        assert body is not None
        knock, speed = round(body.weighs_kg(rig.chassis) * 0.4, 2), round(0.4 * rig.full_forward_m_s, 2)
        if kind == "step":
            return Experiment("step", speed, 3.0, title=f"to {speed:.2f} m/s at once", begins_s=0.25)
        if kind == "both":
            return Experiment("both", speed, 5.0, knock, f"to {speed:.2f} m/s at once, then a push", 0.25, 2.5)
        return Experiment("push", knock, 4.0, knock, f"a push of {knock:.2f} N·s forward")

    def move(self, line: Line, experiment: Experiment) -> Motion:
        most = experiment.amount if experiment.kind in ("step", "both") else 0.0
        return Motion(forward=1.0, most=most, rise=AT_ONCE, held=False)

    def impulse(self, rig: Rig, experiment: Experiment) -> Floats:
        return np.array([experiment.knock, 0.0, 0.0])

    def changes(self, rig: Rig, gains: Gains) -> dict[str, object]:
        key = f"balance.{self.name}"
        return {f"{key}.p": _rounded(float(gains.p)), f"{key}.i": _rounded(float(gains.i))}


class WholeBalance(BalanceLoop):
    """What all loops of a cascade come to together: the speed of the robot, and the drive that keeps it. By this each of them is judged."""

    def places(self, line: Line) -> tuple[int, int, dict[str, int]]:
        value, target, _ = super().places(line)
        return value, target, {"given": line.layout.at("balance", "upright")}


DEG, DEG_S = ("deg", degrees(1)), ("deg/s", degrees(1))

BALANCE = (
    BalanceLoop("rate", (*DEG_S, "% drive", -100.0), radians(5.0), (0.1, 1.5), (0.0, 2.0)),
    BalanceLoop("lean", (*DEG, *DEG_S), radians(0.7), (2.0, 25.0), (0.0, 20.0)),
    BalanceLoop("speed", ("m/s", 1.0, *DEG), 0.03, (4.0, 40.0), (0.0, 30.0)),
    BalanceLoop("place", ("cm", 100.0, "m/s", 1.0), 0.02, (0.2, 4.0), (0.0, 0.5)),
)
"""From the inside out, which is the order in which they are tuned."""

WHOLE = WholeBalance("speed", ("m/s", 1.0, "% drive", 100.0), 0.03, (0.0, 0.0), (0.0, 0.0))

LOOPS: Mapping[str, Loop] = {loop.name: loop for loop in (*BALANCE, Heading(), WheelLoop(), SteeringLoop())}
"""Every loop, in the order in which they are walked."""


def loops_of(rig: Rig) -> list[Loop]:
    """Give the loops that a rig has."""
    return [loop for loop in LOOPS.values() if loop.of(rig) is not None]


def loop_named(name: str) -> Loop:
    """Give a loop by its name; raises `KeyError`."""
    return LOOPS[name]
