"""What a routine's robots do with their attachments, and what is known of them: the part of a runner that moves no wheel."""

from __future__ import annotations

from math import isfinite, nan
from typing import TYPE_CHECKING, Any

from pivrex.line.stage import Floats
from pivrex.line.zeroing import DONE
from pivrex.routine import watching as w
from pivrex.routine.kinds import COUNTS
from pivrex.routine.motion import wrapped
from pivrex.routine.program import AttachStep
from pivrex.routine.watching import NoWatchError, Step

if TYPE_CHECKING:
    import numpy as np

    from pivrex.line.line import Line
    from pivrex.rig.attachments import Reach
    from pivrex.routine.belief import Belief
    from pivrex.routine.hands import Hands
    from pivrex.routine.memory import Habits
    from pivrex.routine.motion import Motions
    from pivrex.routine.robot import RobotWords

__all__ = ["Knowing"]


class Knowing:
    """Robots by their number ``i``, as `pivrex.routine.world.World` says."""

    line: Line
    n: int
    belief: Belief
    _batch: tuple[int, ...]
    _words: RobotWords
    _hands: list[Hands]
    _habits: list[Habits]
    _motions: Motions
    _names: list[str]
    _arms: list[str]
    _requests: Floats
    _seen: Floats
    _places: dict[str, int]
    _columns: np.ndarray
    _zeroes: list[int]
    _zero_asked: list[int]

    def _one(self, i: int, value: Any) -> float:
        return float(value[i]) if self._batch else float(value)

    # --- attachments ---

    def _requested(self) -> Floats:
        """Give what all ask of their attachments in this tick, batch + (A, 3)."""
        for i, hands in enumerate(self._hands):
            if hands.busy:
                self._requests[i if self._batch else ...] = hands.asked(self._names, self.n)
        return self._requests.copy()

    def _raw(self, i: int, name: str) -> float:
        return float(self._seen[i, self._places[name]])

    def _place_of(self, step: AttachStep, value: float) -> float:
        return value * self._words.per_count(step.name) if step.kind == COUNTS else value

    def move(self, i: int, step: AttachStep, value: float, over: float, n: int, code: str) -> None:
        at, hands = self.angle(i, step.name), self._hands[i]
        goal = hands.aimed(self._words, step.name, step.by, self._place_of(step, value), at)
        seconds = self._habits[i].slow.get(code, over)
        hands.move(step.name, goal, at, n, max(1, round(seconds / self.line.dt_s)) if isfinite(seconds) else 0)

    def reach(self, name: str) -> Reach:
        return self._words.reach(name)

    def there(self, i: int, name: str) -> bool:
        return self._hands[i].there(name, self.angle(i, name), self.reach(name).near)

    def angle(self, i: int, name: str) -> float:
        return self._hands[i].called.get(name, self._raw(i, name))

    def switch(self, i: int, name: str, on: bool) -> None:
        hands = self._hands[i]
        if name not in self._words.sensors:
            hands.switch(name, on)
        elif on:
            hands.off.discard(name)
        else:
            hands.off.add(name)

    def run(self, i: int, name: str, share: float) -> None:
        self._hands[i].run(name, share)

    def zero(self, i: int, what: str) -> None:
        if what == "gyro":
            if not self._motions.get(i, "active") > 0:
                self._motions.rest(i, nan, False)  # a heading held against a bias turns the robot
            self._zeroes.append(i)
            self._zero_asked[i] = self.n
        elif what != "counts":
            self._hands[i].call(what, 0.0, self.angle(i, what))

    def zeroed(self, i: int) -> bool:
        done = self._raw(i, "zeroing status") == DONE and self.n > self._zero_asked[i] + 1
        if done and not self._motions.get(i, "active") > 0:
            self._motions.rest(i, nan, self._habits[i].gyro)
        return done

    def home(self, i: int, name: str, share: float, as_: float) -> None:
        self._hands[i].home(name, share, as_)

    def homed(self, i: int, name: str, found: bool) -> None:
        self._hands[i].homed(name, found, self.angle(i, name))

    # --- what is known ---

    def reading(self, i: int, name: str) -> float:
        belief = self.belief
        if name in ("x", "y", "heading"):
            found = self._one(i, getattr(belief, name))
            return wrapped(found) if name == "heading" else found
        if name in self._words.sensors:
            value = self._raw(i, name)
            return nan if name in self._hands[i].off or not value > 0 else value
        if name in self._words.attachments:
            return self.angle(i, name)
        return self._raw(i, name)

    def state(self, i: int, name: str, state: str) -> bool:
        if state in ("heard", "silent"):
            return (self.reading(i, name) == self.reading(i, name)) == (state == "heard")
        if state == "there":
            return self.there(i, name)
        return (self._hands[i].goals.get(name, self._raw(i, name)) > 0.5) == (state == "on")

    def watched(self, i: int, name: str, state: str) -> list[Step]:  # noqa: PLR0911 - a case for each word
        """Give the steps of a watch that do what `reading` and `state` do, until the mind has run again; raises `NoWatchError`."""
        opposite = [(w.NEGATION, 0, 0.0)] if state in ("silent", "off") else []
        if state in ("heard", "silent"):
            return [*self.watched(i, name, ""), (w.HEARD, 0, 0.0), *opposite]
        if state in ("on", "off"):
            goal = self._hands[i].goals.get(name)
            now = (w.COLUMN, self._place(name), 0.0) if goal is None else (w.CONSTANT, 0, goal)
            return [now, (w.CONSTANT, 0, 0.5), (w.MORE, 0, 0.0), *opposite]
        if state:
            return self._there(i, name)
        if name == "time":
            return [(w.TIME, 0, 0.0)]
        if name in ("x", "y", "heading"):
            return [(w.ANGLE, 2, 0.0) if name == "heading" else (w.POSE, ("x", "y").index(name), 0.0)]
        if name in self._words.sensors:
            return [(w.CONSTANT, 0, nan) if name in self._hands[i].off else (w.SENSOR, self._place(name), 0.0)]
        return [(w.COLUMN, self._place(name), 0.0)]

    def _there(self, i: int, name: str) -> list[Step]:
        """Give the steps of `there`: it is where it was sent once a move over a time has come to its last tick."""
        hands, at = self._hands[i], (w.COLUMN, self._place(name), 0.0)
        _, _, begin, count = hands.ramps.get(name, (0.0, 0.0, 0, 0))
        goal = (w.CONSTANT, 0, hands.goals[name]) if name in hands.goals else at
        off = [at, goal, (w.MINUS, 0, 0.0), (w.SIZE, 0, 0.0), (w.CONSTANT, 0, self.reach(name).near), (w.LESS, 0, 0.0)]
        return [(w.TICK, 0, 0.0), (w.CONSTANT, 0, float(begin + count)), (w.MORE_SAME, 0, 0.0), *off, (w.AND, 0, 0.0)]

    def _place(self, name: str) -> int:
        if name not in self._places:
            raise NoWatchError
        return self._places[name]
