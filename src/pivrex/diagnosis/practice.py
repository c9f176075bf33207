"""A whole shakedown on the simulated robot, with a simulated person who answers truthfully: for practice, scripts and tests."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from pivrex.diagnosis.correction import correct_text, corrections, is_right
from pivrex.diagnosis.hypotheses import Wire
from pivrex.diagnosis.moves import MotorMove, Run, Runner
from pivrex.diagnosis.shakedown import Place, Shakedown
from pivrex.diagnosis.steps import Step
from pivrex.line.outputs import encode, settings_of
from pivrex.rig.changes import Change
from pivrex.rig.rig import Rig
from pivrex.sim.body import RealisticBody
from pivrex.sim.body.robot import in_hand
from pivrex.sim.ideal import IdealBody
from pivrex.sim.model import AnySimulator
from pivrex.sim.wiring import Wiring, ports_of

__all__ = ["Report", "practise", "true_wires"]

Floats = NDArray[np.float64]

TICK_S = 0.25
"""The simulated robot's motion is solved exactly over a tick, so practice needs no finer ones."""

MAX_STEPS = 200


@dataclass(frozen=True)
class Report:
    """The result of a practice.

    Attributes
    ----------
    correct : bool
        Whether the corrected rig says what the wiring is.
    probes, human_answers : int
    left : int
        Assignments that are left at the end.
    steps : list of str
        What was seen, in words.
    changes : list of Change
    """

    correct: bool
    probes: int
    human_answers: int
    left: int
    steps: list[str]
    changes: list[Change]

    def as_json(self) -> dict[str, Any]:
        """Return it ready for JSON."""
        return {
            "correct": self.correct,
            "probes": self.probes,
            "human_answers": self.human_answers,
            "explanations_left": self.left,
            "steps": self.steps,
            "correction": [{"key": c.key, "before": c.before, "after": c.after} for c in self.changes],
        }


class _Bench:
    """The perfect simulated robot, driven port by port: with realistic physics braked wheels are dragged along, and a person is asked
    more often which of them drives.
    """

    def __init__(self, rig: Rig, wiring: Wiring) -> None:
        self._model: AnySimulator = (
            IdealBody(rig, None, wiring) if rig.balance is None else RealisticBody(rig, None, wiring)
        )
        self._outputs = settings_of(rig)
        self.state: Any = self._model.start()

    def put(self, lifted: bool) -> None:
        self.state = self.state._replace(lifted=np.array(float(lifted)))

    def tip(self) -> None:
        """Let a hand tip it forward."""
        self.state = in_hand(self._model, self.state, "tip")
        self._tell(0, 0.0)

    def turn(self) -> None:
        """Let a hand turn it to the left."""
        self.state = in_hand(self._model, self.state, "turn left")

    def point_ahead(self) -> None:
        self.state = self._model.point_ahead(self.state)

    def sensed(self) -> Floats:
        sensed: Floats = self._model.sense(self.state)
        return sensed

    def run(self, moves: tuple[MotorMove, ...]) -> list[Run]:
        """Carry moves out."""
        runner = Runner(moves, TICK_S)
        while (commands := runner.step(self.sensed())) is not None:
            self._tell(*commands)
        return runner.runs

    def _tell(self, port: int, duty: float) -> None:
        drive = np.zeros(self._model.drives)
        drive[port] = duty
        self.state = self._model.step(self.state, encode(self._outputs, drive), TICK_S)


def true_wires(rig: Rig, wiring: Wiring) -> list[Wire]:
    """Return the truth about each port, in the order of the rig's ports."""
    names = rig.motor_names
    found = []
    for port in ports_of(rig):
        motor, sign = wiring.plugs[port]
        k = names.index(motor)
        encoder = wiring.encoders[motor]
        if k >= len(rig.motors) and rig.steering is not None:
            steering = rig.steering.wheels[rig.steered[k - len(rig.motors)]]
            if not steering.counts_per_turn:
                encoder = wiring.senses.get(rig.steered[k - len(rig.motors)], 1.0)
        found.append(Wire(k, int(sign), int(encoder), int(wiring.gyro)))
    return found


def practise(
    rig: Rig,
    text: str,
    path: Path,
    wiring: Wiring,
    place: Place = "floor",
    by: Literal["sensors", "person"] = "sensors",
) -> Report:
    """Shake a simulated robot with a wiring down until all is known, and correct the rig.

    Parameters
    ----------
    rig : Rig
    text : str
        The rig's TOML.
    path : Path
        For messages only.
    wiring : Wiring
        How the simulated robot is really wired.
    place, by
        As in `Shakedown`.
    """
    shakedown, bench, truth = Shakedown(rig, place, by), _Bench(rig, wiring), true_wires(rig, wiring)
    bench.put(lifted=place == "up")
    said: list[str] = []
    for _ in range(MAX_STEPS):
        step = shakedown.next()
        if step.kind == "ahead":
            bench.point_ahead()
            shakedown.ahead(bench.sensed())
        elif step.kind == "tip":
            bench.tip()
            said.append(shakedown.tip(bench.sensed()))
        elif step.kind == "turn":
            before = bench.sensed()
            bench.turn()
            said.append(shakedown.turn(before, bench.sensed()))
        elif step.kind == "floor":
            bench.put(lifted=False)
            shakedown.on_floor()
        elif step.kind == "probe":
            said.append(_probe(shakedown, bench, step, truth))
        else:
            said.append(step.text)
            break
    if shakedown.solution() is None:
        return Report(False, shakedown.probes, shakedown.human_answers, shakedown.left, said, [])
    changes = corrections(shakedown)
    _, corrected = correct_text(text, path, changes)
    return Report(is_right(corrected, wiring), shakedown.probes, shakedown.human_answers, shakedown.left, said, changes)


def _probe(shakedown: Shakedown, bench: _Bench, step: Step, truth: list[Wire]) -> str:
    seen = bench.run(step.moves)[step.seen_in]
    before, after = seen.before, seen.after
    if step.asks == "sensors":
        return shakedown.see(step, before, after)
    wire = truth[step.port]
    option = next(o for o in step.options if o.of is not None and o.of(wire) == o.outcome)
    return shakedown.say(step, option, before, after)
