"""One robot's attachments in a routine: their targets, their outputs in this tick, their set positions."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from pivrex.kernels.maths import div, is_nan, nan, smaller
from pivrex.kernels.records import Flags, Form, Numbers, Record, Wholes, field
from pivrex.kernels.subset import kernel
from pivrex.line.attachments import AttachmentSettings
from pivrex.line.bindings import BindingsColumns
from pivrex.line.routine_stage import RoutineColumns
from pivrex.routine.robot import RobotWords

__all__ = ["AttachedState", "Hands", "ask_attachments"]


class AttachedState(Record):
    """Commands of one robot's attachments, in the angles (of a lift: heights) that the line calls theirs.

    Attributes
    ----------
    goal : where each was sent last; NaN for nowhere
    sent : what goes to each in this tick; NaN for nothing
    first, last, begin, ticks : one that moves over a time: from, to, the first tick and how many; 0 for none
    share : of its speed
    homes, push, found_as : one that is driven against a stop: the share, and what the place is called
    is_called, called : one that is called otherwise from this tick on
    stuck, stuck_at : of one that is driven against its stop, for how many ticks it has been where
    """

    goal: Numbers = field("attached")
    sent: Numbers = field("attached")
    first: Numbers = field("attached")
    last: Numbers = field("attached")
    begin: Wholes = field("attached")
    ticks: Wholes = field("attached")
    share: Numbers = field("attached")
    homes: Flags = field("attached")
    push: Numbers = field("attached")
    found_as: Numbers = field("attached")
    is_called: Flags = field("attached")
    called: Numbers = field("attached")
    stuck: Wholes = field("attached")
    stuck_at: Numbers = field("attached")


@kernel
def ask_attachments(
    s: AttachmentSettings, v: AttachedState, n: int, bindings: BindingsColumns, routine: RoutineColumns
) -> None:
    """Write the outputs of each attachment in tick n. Single requests, and new names of positions, are written once."""
    for k in range(len(v.goal)):
        to = v.sent[k]
        v.sent[k] = nan
        if v.ticks[k] > 0:
            done = smaller(1.0, div(1.0 * (n - v.begin[k] + 1), 1.0 * v.ticks[k]))
            to = v.first[k] + (v.last[k] - v.first[k]) * done
            if done >= 1.0:
                v.ticks[k] = 0
        at = s.first + 3 * k
        bindings.value[at], bindings.value[at + 1], bindings.value[at + 2] = v.share[k], to, 0.0
        i = s.arm[k]
        if i >= 0:
            routine.push[i] = v.push[k] if v.homes[k] else 0.0
            routine.homed[i] = 1.0 if v.is_called[k] else 0.0
            routine.called[i] = v.called[k] if v.is_called[k] else 0.0
        v.is_called[k] = False


class Hands:
    """One robot's attachments by their names, and which of its sensors are switched off."""

    def __init__(self, names: Sequence[str], state: AttachedState) -> None:
        self._at, self._state = {name: k for k, name in enumerate(names)}, state
        self.off = set[str]()

    def _get(self, name: str, what: str) -> float:
        return float(getattr(self._state, what)[self._at[name]])

    def _set(self, name: str, **values: float) -> None:
        for what, value in values.items():
            getattr(self._state, what)[self._at[name]] = value

    def goal(self, name: str, at: float) -> float:
        """Return where one was sent last; where it is, ``at``, if it never was."""
        goal = self._get(name, "goal")
        return at if is_nan(goal) else goal

    def angle(self, name: str, reached: float) -> float:
        """Return where one is, as it is called from now on; ``reached`` is that of the Tick before."""
        return self._get(name, "called") if self._get(name, "is_called") else reached

    def aimed(self, words: RobotWords, name: str, by: bool, place: float, at: float) -> float:
        """Return where a move to or by a place would lead, within its reach."""
        reach = words.reach(name)
        goal = self.goal(name, at) + place if by else place
        return min(max(goal, reach.low), reach.high)

    def move(self, name: str, goal: float, at: float, n: int, ticks: int) -> None:
        """Send one somewhere, at once or over so many ticks."""
        before = self.goal(name, at)
        self._set(name, goal=goal, ticks=ticks)
        if ticks > 0:
            self._set(name, first=before, last=goal, begin=n)
        else:
            self._set(name, sent=goal)

    def moves_until(self, name: str) -> float:
        """Return the tick from which on one moves over a time no more."""
        return self._get(name, "begin") + self._get(name, "ticks") if self._get(name, "ticks") else 0.0

    def there(self, name: str, at: float, near: float) -> bool:
        """Return whether one is where it was sent, as near as that."""
        on_its_way = self._get(name, "ticks") > 0 or not is_nan(self._get(name, "sent"))
        return not on_its_way and abs(at - self.goal(name, at)) < near

    def switch(self, name: str, on: bool) -> None:
        """Switch one on or off."""
        self._set(name, sent=float(on), goal=float(on))

    def run(self, name: str, share: float) -> None:
        """Run a motor at a share, from now on."""
        self._set(name, share=min(max(share, -1.0), 1.0))

    def home(self, name: str, share: float, found_as: float) -> None:
        """Drive one against its stop, from now on."""
        self._set(
            name, goal=nan, sent=nan, ticks=0, homes=1.0, push=share, found_as=found_as, stuck=0, stuck_at=nan
        )  # fmt: skip

    def stuck(self, name: str) -> int:
        """Return for how many ticks one that is driven against its stop has come no farther."""
        return int(self._get(name, "stuck"))

    def homed(self, name: str, found: bool, at: float) -> None:
        """Drive one no longer; the place ``at`` which its stop was ``found`` is called as was said."""
        if self._get(name, "homes"):
            self._set(name, homes=0.0, goal=at)
            if found:
                self.call(name, self._get(name, "found_as"), at)

    def call(self, name: str, as_: float, at: float) -> None:
        """Call the place where one stands, so far called ``at``, otherwise."""
        by = as_ - at
        self._set(
            name, is_called=1.0, called=as_, goal=self.goal(name, at) + as_ - at,
            first=self._get(name, "first") + by, last=self._get(name, "last") + by,
        )  # fmt: skip

    def kept(self) -> dict[str, dict[str, float]]:
        """Return the command of each by its name."""
        return {name: {what: self._get(name, what) for what in AttachedState.fields} for name in self._at}

    def begin(self, kept: dict[str, dict[str, float]], off: set[str], angles: dict[str, float]) -> None:
        """Begin with their commands in another line; each goes where it was sent, and those with ``angles`` are called so."""
        self.off = set(off)
        for name, values in kept.items():
            if name in self._at:
                self._set(name, **values)
                self._set(name, sent=values["goal"] if not is_nan(values["goal"]) else values["sent"])
        for name, angle in angles.items():
            self._set(name, is_called=1.0, called=angle)


def attached(names: Sequence[str]) -> Form:
    """Return how the state of some attachments stands."""
    return Form(AttachedState, attached=len(names))


NEVER = {"goal": np.nan, "sent": np.nan, "stuck_at": np.nan}
"""What they begin with: none was sent anywhere."""
