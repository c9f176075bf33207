"""The loops of a robot that balances, for tests and tuning."""

from __future__ import annotations

from math import degrees, radians

import numpy as np

from pivrex.line import Line
from pivrex.line.stage import Floats
from pivrex.rig import Rig
from pivrex.routine.motion import Motion
from pivrex.tuning.loop import AT_ONCE, Experiment, Gains, Loop, rounded

__all__ = ["BALANCE", "WHOLE", "BalanceLoop"]


class BalanceLoop(Loop):
    """A loop of the cascade with which a robot balances. The experiments are the same for all: a step of the speed, or a push.

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
        parts = {n: line.layout.at("balance", f"{self.name}_{n}") for n in ("p", "i", "output")}
        value, target = (line.layout.at("balance", f"{self.name}_{n}") for n in ("measured", "setpoint"))
        return value, target, parts

    def experiment(self, rig: Rig, kind: str) -> Experiment:
        body = rig.with_body("realistic").body
        assert body is not None
        push, speed = round(body.weighs_kg(rig.chassis) * 0.4, 2), round(0.4 * rig.full_forward_m_s, 2)
        if kind == "step":
            return Experiment("step", speed, 3.0, title=f"to {speed:.2f} m/s at once", begins_s=0.25)
        if kind == "both":
            return Experiment("both", speed, 5.0, push, f"to {speed:.2f} m/s at once, then a push", 0.25, 2.5)
        return Experiment("push", push, 4.0, push, f"a push of {push:.2f} N·s forward")

    def move(self, line: Line, experiment: Experiment) -> Motion:
        most = experiment.amount if experiment.kind in ("step", "both") else 0.0
        return Motion(forward=1.0, most=most, rise=AT_ONCE, held=False)

    def impulse(self, rig: Rig, experiment: Experiment) -> Floats:
        return np.array([experiment.push, 0.0, 0.0])

    def changes(self, rig: Rig, gains: Gains) -> dict[str, object]:
        key = f"balance.{self.name}"
        return {f"{key}.p": rounded(float(gains.p)), f"{key}.i": rounded(float(gains.i))}


class WholeBalance(BalanceLoop):
    """All loops of a cascade together: the speed of the robot, and the drive that keeps it. This judges each of them."""

    def places(self, line: Line) -> tuple[int, int, dict[str, int]]:
        value, target, _ = super().places(line)
        return value, target, {"output": line.layout.at("balance", "upright")}


DEG, DEG_S = ("deg", degrees(1)), ("deg/s", degrees(1))

BALANCE = (
    BalanceLoop("rate", (*DEG_S, "% drive", -100.0), radians(5.0), (0.1, 1.5), (0.0, 2.0)),
    BalanceLoop("lean", (*DEG, *DEG_S), radians(0.7), (2.0, 25.0), (0.0, 20.0)),
    BalanceLoop("speed", ("m/s", 1.0, *DEG), 0.03, (4.0, 40.0), (0.0, 30.0)),
    BalanceLoop("place", ("cm", 100.0, "m/s", 1.0), 0.02, (0.2, 4.0), (0.0, 0.5)),
)
"""From the inside out, which is the order in which they are tuned."""

WHOLE = WholeBalance("speed", ("m/s", 1.0, "% drive", 100.0), 0.03, (0.0, 0.0), (0.0, 0.0))
