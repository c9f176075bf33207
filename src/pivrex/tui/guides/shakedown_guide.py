"""The shakedown's guide: asks, sends probes, takes answers, shows what is known, and writes the correction."""

from __future__ import annotations

from typing import Literal

import numpy as np

from pivrex.diagnosis.correction import corrections
from pivrex.diagnosis.hypotheses import Answer
from pivrex.diagnosis.moves import MotorMove, Run
from pivrex.diagnosis.shakedown import Place, Shakedown
from pivrex.diagnosis.smallest import Sweep
from pivrex.diagnosis.steps import Option, Step
from pivrex.errors import PivrexError
from pivrex.line.layout import Floats
from pivrex.rig.changes import Change, put_changes
from pivrex.session.messages import EndMove, MoveSimulated, PutBack, Stop
from pivrex.tui.model import ScreenModel

__all__ = ["ShakedownGuide"]

BEGINNINGS: tuple[tuple[str, Place, Literal["sensors", "person"]], ...] = (
    ("on the floor, half a metre free around it; the sensors say what moved", "floor", "sensors"),
    ("on a block, wheels up; the sensors say what moved", "up", "sensors"),
    ("on the floor; I say what I saw", "floor", "person"),
    ("on a block, wheels up; I say what I saw", "up", "person"),
)

ON_BENCH: tuple[tuple[str, Place, Literal["sensors", "person"]], ...] = (
    ("the motors turn freely; the encoders say what moved", "up", "sensors"),
    ("the motors turn freely; I say what I saw", "up", "person"),
)

HELD = "only the shakedown moves it"

UNHEARD_FRAMES = 50
"""A probe that the session has not begun by then was stopped before it could."""

WAIT_FRAMES = 8
"""Frames until the sensors show what a hand has done."""


class ShakedownGuide:
    """One shakedown on the screen. Enter goes on; ↑ ↓ choose; Backspace removes the last answer.

    Attributes
    ----------
    down : Shakedown or None
        None while it is still asked where the robot stands.
    step : Step or None
        What comes next.
    at : int
        The selected one of `choices`; -1 for none yet.
    number : int
        Of the probe that is being carried out; 0 for none.
    runs : tuple of Run
        What came of the last probe, while its answer is awaited.
    heard : list of str
        What was answered so far.
    changes : list of Change
        What will be written.
    problem, written : str
        What went wrong; what has been written.
    sweep : Sweep or None
        The search for the smallest duties, ``sweeping`` which motor now, ``sweep_place`` where the robot stands.
    """

    def __init__(self, model: ScreenModel) -> None:
        self.model = model
        self._rig = model.rig
        self.down: Shakedown | None = None
        self.step: Step | None = None
        self.at = 0
        self.number = 0
        self._begun, self._asked = False, 0
        self.runs: tuple[Run, ...] = ()
        self._goes_on = False
        self._wait = 0
        self._after_wait = ""
        self._before: Floats = np.zeros(0)
        """What was sensed before a hand turned the robot."""
        self.heard: list[str] = []
        self.changes: list[Change] = []
        self.problem = ""
        self.written = ""
        self.sweep: Sweep | None = None
        self.sweep_place: Literal["up", "floor"] = "up"
        self.sweeping = ""

    # --- work between frames ---

    def update(self) -> None:
        """Take what came of a probe, once a frame, and send the next where no one has to look."""
        if self._rig is not self.model.rig and not self.written:
            self.__init__(self.model)  # type: ignore[misc]
            self.problem = "the rig was changed, so the shakedown begins again"
            return
        if self.sweep is not None and not self.written and self.sweep.next(self.sweep_place) is None:
            self.changes = self.sweep.changes()
        if self._wait:
            self._wait -= 1
            if not self._wait:
                self._waited()
            return
        status = self.model.status
        if self.number and status.probed is not None and status.probed.number == self.number:
            self.number, self.runs = 0, status.probed.runs
            self._came_back()
        elif self.number and status.probing == self.number:
            self._begun, self._asked = True, 0
        elif self.number:
            self._asked += 1
            if self._begun or self._asked > UNHEARD_FRAMES:
                self.number, self._goes_on = 0, False
                self.problem = "the probe was stopped; Enter sends it again"

    def _waited(self) -> None:
        row = self.model.row
        if self.down is not None and row is not None and self._after_wait == "ahead":
            self.down.ahead(row[self.model.line.layout.stage("sensed")])
            self.heard.append("the steered wheels' sensors were read straight ahead")
        if self.down is not None and row is not None and self._after_wait in ("tip", "turn"):
            sensed = row[self.model.line.layout.stage("sensed")]
            tips = self._after_wait == "tip"
            self.heard.append(self.down.tip(sensed) if tips else self.down.turn(self._before, sensed))
            self.model.ask(MoveSimulated("lift"))
        self._after_wait = ""
        self._look_further()

    def _came_back(self) -> None:
        if self.sweep is not None:
            self.sweep.take(self.sweeping, self.sweep_place, abs(self.runs[0].duty))
            self._next_ramp()
            return
        assert self.down is not None and self.step is not None
        self.at = -1
        if self.step.asks == "sensors":
            run = self.runs[self.step.seen_in]
            self.heard.append(self.down.see(self.step, run.before, run.after))
            self._look_further()
            if self._goes_on and self.step is not None and self.step.kind == "probe" and self.step.asks == "sensors":
                self._send()

    def _look_further(self) -> None:
        assert self.down is not None
        self.step, self.at, self.runs = self.down.next(), 0, ()
        if self.step.kind == "done" and self.down.solution() is not None:
            try:
                self.changes = corrections(self.down)
            except PivrexError as problem:
                self.problem = str(problem)
        if self.step.kind == "contradiction":
            self._goes_on = False

    def _send(self) -> None:
        assert self.step is not None
        self.problem = ""
        self._probe(self.step.moves)

    def _probe(self, moves: tuple[MotorMove, ...]) -> None:
        self.number, self._begun, self._asked = self.model.probe(moves), False, 0

    # --- keys ---

    def take_key(self, key: str) -> bool:
        """Take a key that the guide knows; returns whether it did."""
        if key in ("up", "down"):
            count = len(self.choices())
            if count:
                step = 1 if key == "down" else -1
                self.at = (self.at + step) % count if self.at >= 0 else (0 if step > 0 else count - 1)
            return True
        if key == "backspace":
            self._take_back()
            return True
        if key == "enter":
            self._enter()
            return True
        return False

    def choices(self) -> list[str]:
        """Return what may be selected now."""
        if self.down is None and self.sweep is None:
            return [text for text, _, _ in self._beginnings()]
        if self.sweep is None and self.step is not None:
            if self.step.kind == "contradiction":
                return [a.said for a in self._clash()]
            if self.runs and self.step.asks != "sensors":
                return [o.text for o in self.step.options]
        return []

    def _beginnings(self) -> tuple[tuple[str, Place, Literal["sensors", "person"]], ...]:
        if self._rig.balance is not None:  # on the floor it would fall while its motors are tried
            return tuple(each for each in BEGINNINGS if each[1] == "up")
        return ON_BENCH if self._rig.is_bench else BEGINNINGS

    def click(self, choice: int | None) -> None:
        """Select a choice, and take it if it was selected already; without one go on."""
        if choice is None or choice == self.at:
            self._enter()
        else:
            self.at = choice

    def _clash(self) -> list[Answer]:
        return self.down.hypotheses.contradiction() if self.down is not None else []

    def _enter(self) -> None:
        if self.number and self.sweep is not None:
            self.model.ask(EndMove())
            return
        if self.number or self._wait:
            return
        if self.sweep is not None:
            self._enter_sweep()
        elif self.down is None:
            self._begin()
        elif self.step is not None:
            self._enter_step(self.step)

    def _begin(self) -> None:
        _, place, by = self._beginnings()[self.at]
        self.down = Shakedown(self.model.rig, place, by)
        self.model.ask(Stop(HELD))
        self.model.ask(PutBack())  # the simulated robot may have driven against something meanwhile
        self.model.ask(MoveSimulated("lift" if place == "up" else "lower"))
        self._look_further()

    def _enter_step(self, step: Step) -> None:
        assert self.down is not None
        if step.kind == "ahead":
            self.model.ask(MoveSimulated("point ahead"))
            self._wait, self._after_wait = WAIT_FRAMES, "ahead"
        elif step.kind in ("tip", "turn") and self.model.row is not None:
            self._before = self.model.row[self.model.line.layout.stage("sensed")].copy()
            self.model.ask(MoveSimulated("tip" if step.kind == "tip" else "turn left"))
            self._wait, self._after_wait = 2 * WAIT_FRAMES, step.kind
        elif step.kind == "floor":
            self.model.ask(MoveSimulated("lower"))
            self.down.on_floor()
            self._look_further()
        elif step.kind == "contradiction":
            clash = self._clash()
            taken = clash[self.at % len(clash)]
            self.down.hypotheses.withdraw(taken)
            self.heard.append(f"taken back: {taken.said}")
            self._look_further()
        elif step.kind == "probe" and self.runs and step.asks != "sensors":
            if self.at < 0:  # the Enter that sent the probe should not answer it too
                self.problem = "choose what you saw first, with ↑ or ↓ or a click"
                return
            self.problem = ""
            self._answer(step, step.options[self.at])
        elif step.kind == "probe":
            self._goes_on = step.asks == "sensors"
            self._send()
        elif self.changes and not self.written:
            self._write(self.changes, "what the shakedown found")
        else:
            self._begin_sweep()

    def _answer(self, step: Step, option: Option) -> None:
        assert self.down is not None
        run = self.runs[step.seen_in]
        self.heard.append(self.down.say(step, option, run.before, run.after))
        self._look_further()

    def _take_back(self) -> None:
        if self.down is not None and self.down.hypotheses.answers and not self.number and not self.written:
            last = self.down.hypotheses.answers[-1]
            self.down.hypotheses.withdraw(last)
            self.heard.append(f"taken back: {last.said}")
            self._goes_on, self.changes = False, []
            self._look_further()

    def _write(self, changes: list[Change], what: str) -> None:
        self.written = "being written"
        done = self.model.edit(what, lambda document: put_changes(document, changes))
        where = f"{'the copy of ' * bool(self.model.practice)}{self.model.file.path.name}"
        self.written = f"written to {where}; u undoes it" if done else ""
        self._rig = self.model.rig

    # --- the smallest duty ---

    def _begin_sweep(self) -> None:
        if self._rig.balance is not None:
            self.problem = "the smallest duties are measured on the floor, where it would fall"
            return
        self.sweep, self.sweep_place, self.written = Sweep(self.model.rig), "up", ""
        self._rig, self.changes = self.model.rig, []

    def _enter_sweep(self) -> None:
        assert self.sweep is not None
        if self.sweep.next(self.sweep_place) is not None:
            self.model.ask(MoveSimulated("lift" if self.sweep_place == "up" else "lower"))
            self._next_ramp()
        elif self.sweep.changes() and not self.written:
            self._write(self.sweep.changes(), "the smallest duties found")

    def _next_ramp(self) -> None:
        assert self.sweep is not None
        ramp = self.sweep.next(self.sweep_place)
        if ramp is not None:
            self.sweeping, moves = ramp
            self._probe(moves)
        elif self.sweep_place == "up":
            self.sweep_place = "floor"
