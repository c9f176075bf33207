"""A routine's attachments and their known positions: the part of a runner that moves no wheel."""

from __future__ import annotations

from math import isfinite, isnan, nan
from typing import TYPE_CHECKING

from pivrex.line.zeroing import DONE
from pivrex.routine import watching as w
from pivrex.routine.kinds import COUNTS
from pivrex.routine.motion import rest, wrapped
from pivrex.routine.program import AttachStep
from pivrex.routine.watching import NoWatchError, Step

if TYPE_CHECKING:
    from pivrex.line.line import Line
    from pivrex.rig.attachments import Reach
    from pivrex.routine.hands import Hands
    from pivrex.routine.means import Means
    from pivrex.routine.memory import Habits
    from pivrex.routine.profile import ProfileState
    from pivrex.routine.robot import RobotWords
    from pivrex.routine.ticking import RoutineState
    from pivrex.routine.watching import Witnessed

__all__ = ["Knowing"]


class Knowing:
    """One robot, as `pivrex.routine.world.World` says."""

    line: Line
    state: RoutineState
    _means: Means
    _words: RobotWords
    _hands: Hands
    _habits: Habits
    _profile: ProfileState
    _seen: Witnessed
    _zero_requested: int
    _zeroes: bool

    @property
    def n(self) -> int:
        """Ticks of the routine that have been."""
        return int(self._seen.get("n"))

    # --- attachments ---

    def _raw(self, name: str) -> float:
        return float(self._seen.column[self._means.places[name]])

    def _place_of(self, step: AttachStep, value: float) -> float:
        return value * self._words.per_count(step.name) if step.kind == COUNTS else value

    def move(self, step: AttachStep, value: float, over: float, n: int, code: str) -> None:
        at, hands = self.angle(step.name), self._hands
        goal = hands.aimed(self._words, step.name, step.by, self._place_of(step, value), at)
        seconds = self._habits.slow.get(code, over)
        hands.move(step.name, goal, at, n, max(1, round(seconds / self.line.dt_s)) if isfinite(seconds) else 0)

    def reach(self, name: str) -> Reach:
        return self._words.reach(name)

    def there(self, name: str) -> bool:
        return self._hands.there(name, self.angle(name), self.reach(name).near)

    def angle(self, name: str) -> float:
        return self._hands.angle(name, self._raw(name))

    def switch(self, name: str, on: bool) -> None:
        hands = self._hands
        if name not in self._words.sensors:
            hands.switch(name, on)
        elif on:
            hands.off.discard(name)
        else:
            hands.off.add(name)

    def run(self, name: str, share: float) -> None:
        self._hands.run(name, share)

    def zero(self, what: str) -> None:
        if what == "gyro":
            if not self._profile.get("active"):
                rest(self._profile, nan, False)  # a heading held against a bias turns the robot
            self._zeroes, self._zero_requested = True, self.n
        elif what != "counts":
            self._hands.call(what, 0.0, self.angle(what))

    def zeroed(self) -> bool:
        done = self._raw("zeroing") == DONE and self.n > self._zero_requested
        if done and not self._profile.get("active"):
            rest(self._profile, nan, self._habits.gyro)
        return done

    def home(self, name: str, share: float, as_: float) -> None:
        self._hands.home(name, share, as_)

    def homed(self, name: str, found: bool) -> None:
        self._hands.homed(name, found, self.angle(name))

    def stuck(self, name: str) -> int:
        return self._hands.stuck(name)

    def rested(self) -> int:
        return int(self._seen.get("rested"))

    # --- known positions ---

    def reading(self, name: str) -> float:
        if name in ("x", "y", "heading"):
            found = float(self._seen.pose[("x", "y", "heading").index(name)])
            return wrapped(found) if name == "heading" else found
        if name in self._words.sensors:
            value = self._raw(name)
            return nan if name in self._hands.off or not value > 0 else value
        if name in self._words.attachments:
            return self.angle(name)
        return self._raw(name)

    def is_in(self, name: str, state: str) -> bool:
        if state in ("heard", "silent"):
            return (self.reading(name) == self.reading(name)) == (state == "heard")
        if state == "there":
            return self.there(name)
        return (self._hands.goal(name, self._raw(name)) > 0.5) == (state == "on")

    def watched(self, name: str, state: str) -> list[Step]:  # noqa: PLR0911 - a case for each word
        """Return the steps of a watch that do what `reading` and `is_in` do, until the mind has run again; raises `NoWatchError`."""
        opposite = [(w.NEGATION, 0, 0.0)] if state in ("silent", "off") else []
        if state in ("heard", "silent"):
            return [*self.watched(name, ""), (w.HEARD, 0, 0.0), *opposite]
        if state in ("on", "off"):
            goal = self._hands.goal(name, nan)
            now = (w.KNOWN, 0, goal) if not isnan(goal) else (w.COLUMN, self._place(name), 0.0)
            return [now, (w.KNOWN, 0, 0.5), (w.MORE, 0, 0.0), *opposite]
        if state:
            return self._watched_state(name, state)
        if name == "time":
            return [(w.TIME, 0, 0.0)]
        if name in ("x", "y", "heading"):
            return [(w.ANGLE, 2, 0.0) if name == "heading" else (w.POSE, ("x", "y").index(name), 0.0)]
        if name in self._words.sensors:
            return [(w.KNOWN, 0, nan) if name in self._hands.off else (w.SENSOR, self._place(name), 0.0)]
        return [(w.COLUMN, self._place(name), 0.0)]

    def _watched_state(self, name: str, state: str) -> list[Step]:
        """Return the steps of what is waited for by name: `there`, once a move over a time has come to its last tick; being stuck; zeroing."""
        if state == "stuck":
            return [(w.STUCK, self._means.names.index(name), 0.0)]
        at = (w.COLUMN, self._place(name), 0.0)
        begin = self._zero_requested + 1.0 if state == "done" else self._hands.moves_until(name)
        from_on = [(w.TICK, 0, 0.0), (w.KNOWN, 0, begin), (w.MORE_SAME, 0, 0.0)]
        if state == "done":
            return [*from_on, at, (w.KNOWN, 0, DONE), (w.IS, 0, 0.0), (w.AND, 0, 0.0)]
        goal = self._hands.goal(name, nan)
        to = (w.KNOWN, 0, goal) if not isnan(goal) else at
        off = [at, to, (w.MINUS, 0, 0.0), (w.SIZE, 0, 0.0), (w.KNOWN, 0, self.reach(name).near), (w.LESS, 0, 0.0)]
        return [*from_on, *off, (w.AND, 0, 0.0)]

    def _place(self, name: str) -> int:
        if name not in self._means.places:
            raise NoWatchError
        return self._means.places[name]
