"""One robot's attachments and sensors in a routine: where they were sent, what goes to them in this tick, what they are called."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from math import isfinite, nan

from pivrex.routine.robot import RobotWords

__all__ = ["Hands"]

Request = tuple[float, float, float]


@dataclass
class Hands:
    """What one robot's attachments and sensors were told, in the angles (of a lift: heights) that the line calls theirs.

    Attributes
    ----------
    goals : dict of str to float
        Where each was sent last.
    sent : dict of str to float
        What goes to each in this tick.
    ramps : dict
        Those that move over a time: from, to, the first tick and how many.
    shares : dict of str to float
    homing : dict
        Those that are driven against a stop: the share, and what the place is called.
    called : dict of str to float
        What the places where some stand are called from this tick on.
    off : set of str
        Sensors that are switched off.
    busy : bool
        Whether something is asked in this tick.
    """

    goals: dict[str, float] = field(default_factory=dict)
    sent: dict[str, float] = field(default_factory=dict)
    ramps: dict[str, tuple[float, float, int, int]] = field(default_factory=dict)
    shares: dict[str, float] = field(default_factory=dict)
    homing: dict[str, tuple[float, float]] = field(default_factory=dict)
    called: dict[str, float] = field(default_factory=dict)
    off: set[str] = field(default_factory=set)
    busy: bool = True

    def copied(self) -> Hands:
        """Give a copy that goes its own way."""
        return replace(
            self, goals=dict(self.goals), sent=dict(self.sent), ramps=dict(self.ramps), shares=dict(self.shares),
            homing=dict(self.homing), called=dict(self.called), off=set(self.off),
        )  # fmt: skip

    def goal(self, name: str, at: float) -> float:
        """Give where one was sent last; where it is, ``at``, if it never was."""
        return self.goals.get(name, at)

    def aimed(self, words: RobotWords, name: str, by: bool, place: float, at: float) -> float:
        """Return where a move to or by a place would lead, within its reach."""
        reach = words.reach(name)
        goal = self.goal(name, at) + place if by else place
        return min(max(goal, reach.low), reach.high)

    def move(self, name: str, goal: float, at: float, n: int, ticks: int) -> None:
        """Send one somewhere, at once or over so many ticks."""
        before = self.goal(name, at)
        self.goals[name] = goal
        self.ramps.pop(name, None)
        if ticks > 0:
            self.ramps[name] = (before, goal, n, ticks)
        else:
            self.sent[name] = goal
        self.busy = True

    def there(self, name: str, at: float, near: float) -> bool:
        """Return whether one is where it was sent, as near as that."""
        return name not in self.ramps and name not in self.sent and abs(at - self.goal(name, at)) < near

    def switch(self, name: str, on: bool) -> None:
        """Switch one on or off."""
        self.sent[name] = self.goals[name] = float(on)
        self.busy = True

    def run(self, name: str, share: float) -> None:
        """Run a motor at a share, from now on."""
        self.shares[name] = min(max(share, -1.0), 1.0)
        self.busy = True

    def home(self, name: str, share: float, as_: float) -> None:
        """Drive one against its stop, from now on."""
        self.goals.pop(name, None)
        self.sent.pop(name, None)
        self.ramps.pop(name, None)
        self.homing[name] = (share, as_)
        self.busy = True

    def homed(self, name: str, found: bool, at: float) -> None:
        """Drive one no more; the place ``at`` which its stop was ``found`` is called as was said."""
        if name in self.homing:
            _, as_ = self.homing.pop(name)
            self.goals[name] = at
            self.busy = True
            if found:
                self.call(name, as_, at)

    def call(self, name: str, as_: float, at: float) -> None:
        """Call the place where one stands, so far called ``at``, otherwise."""
        self.called[name] = as_
        self.goals[name] = self.goal(name, at) + as_ - at
        if name in self.ramps:
            first, last, begin, count = self.ramps[name]
            self.ramps[name] = (first + as_ - at, last + as_ - at, begin, count)
        self.busy = True

    def pushes(self, names: list[str]) -> list[float]:
        """Return how some are homed in this tick, see `pivrex.line.asked`: push of all, homed of all, as of all. What is called
        otherwise is said once.
        """
        pushed = [self.homing[name][0] if name in self.homing else 0.0 for name in names]
        return pushed + [float(name in self.called) for name in names] + [self.called.get(name, 0.0) for name in names]

    def asked(self, names: list[str], n: int) -> list[Request]:
        """Give what goes to each attachment in tick ``n``: share, to, by. What is asked once is forgotten."""
        found, busy = [], bool(self.ramps or self.homing)
        for name in names:
            to, share = self.sent.pop(name, nan), self.shares.get(name, 0.0)
            if name in self.ramps:
                first, last, begin, count = self.ramps[name]
                done = min(1.0, (n - begin + 1) / count)
                to = first + (last - first) * done
                if done >= 1:
                    del self.ramps[name]
            busy = busy or isfinite(to)
            found.append((share, to, 0.0))
        self.called = {}
        self.busy = busy  # the tick after one is asked, it is asked no more
        return found
