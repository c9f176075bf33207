"""What may move, and why not: one small, pure state machine, in one table of states and events."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

__all__ = ["EFFECTS", "Event", "Moving", "Refused", "State"]


class State(StrEnum):
    """The states of motion."""

    SAFE = "safe"
    """The line drives the simulated robot; a robot on a link rests."""
    LOST = "safe, lost"
    """Like safe, but nothing moves until a source that is lost is heard again and let go."""
    STOPPED = "stopped"
    """Nothing moves until the person goes on."""
    PROBING = "probing"
    """Only a probe moves the simulated robot."""
    LIVE = "live"
    """The line drives whatever robot is commanded."""
    LIVE_LOST = "live, lost"
    """Like live, but nothing moves until a source that is lost is heard again and let go."""
    LIVE_PROBING = "live, probing"
    """Only a probe moves the robot on the link."""
    LIVE_WAITING = "live, waiting"
    """Nothing moves; the next probe of the robot on the link may begin."""


class Event(StrEnum):
    """The events that change them."""

    STOP = "stop"
    """Somebody or something says stop."""
    GO_ON = "go on"
    """The person lets the line drive again; hands are at rest."""
    GO_LIVE = "go live"
    """The person goes live; hands are at rest and the robot is heard."""
    LOSE = "lose"
    """A source that moves the robot is lost."""
    FIND = "find"
    """It is heard again and let go."""
    PROBE = "probe"
    """A probe of the simulated robot begins."""
    PROBE_ROBOT = "probe the robot"
    """A probe of the robot on the link begins."""
    PROBED = "probed"
    """A probe is over."""


@dataclass(frozen=True)
class Refused:
    """An event that changes nothing, and why."""

    why: str


_LIVE_FIRST = Refused("this would move a real robot: go live first, with Ctrl+L")
_PROBE_GOES_ON = Refused("a probe is going on; Esc stops it")
_STILL_LOST = Refused("the source that drives is not listened to yet")

S = State

EFFECTS: dict[State, dict[Event, State | Refused]] = {
    S.SAFE: {
        Event.STOP: S.STOPPED, Event.GO_ON: S.SAFE, Event.GO_LIVE: S.LIVE, Event.LOSE: S.LOST, Event.FIND: S.SAFE,
        Event.PROBE: S.PROBING, Event.PROBE_ROBOT: _LIVE_FIRST, Event.PROBED: S.SAFE,
    },
    S.LOST: {
        Event.STOP: S.STOPPED, Event.GO_ON: S.LOST, Event.GO_LIVE: _STILL_LOST, Event.LOSE: S.LOST, Event.FIND: S.SAFE,
        Event.PROBE: S.PROBING, Event.PROBE_ROBOT: _LIVE_FIRST, Event.PROBED: S.LOST,
    },
    S.STOPPED: {
        Event.STOP: S.STOPPED, Event.GO_ON: S.SAFE, Event.GO_LIVE: S.LIVE, Event.LOSE: S.STOPPED, Event.FIND: S.STOPPED,
        Event.PROBE: S.PROBING, Event.PROBE_ROBOT: _LIVE_FIRST, Event.PROBED: S.STOPPED,
    },
    S.PROBING: {
        Event.STOP: S.STOPPED, Event.GO_ON: _PROBE_GOES_ON, Event.GO_LIVE: _PROBE_GOES_ON, Event.LOSE: S.PROBING,
        Event.FIND: S.PROBING, Event.PROBE: S.PROBING, Event.PROBE_ROBOT: _LIVE_FIRST, Event.PROBED: S.STOPPED,
    },
    S.LIVE: {
        Event.STOP: S.STOPPED, Event.GO_ON: S.LIVE, Event.GO_LIVE: S.LIVE, Event.LOSE: S.LIVE_LOST, Event.FIND: S.LIVE,
        Event.PROBE: S.PROBING, Event.PROBE_ROBOT: S.LIVE_PROBING, Event.PROBED: S.LIVE,
    },
    S.LIVE_LOST: {
        Event.STOP: S.STOPPED, Event.GO_ON: S.LIVE_LOST, Event.GO_LIVE: S.LIVE_LOST, Event.LOSE: S.LIVE_LOST,
        Event.FIND: S.LIVE, Event.PROBE: S.PROBING, Event.PROBE_ROBOT: S.LIVE_PROBING, Event.PROBED: S.LIVE_LOST,
    },
    S.LIVE_PROBING: {
        Event.STOP: S.STOPPED, Event.GO_ON: _PROBE_GOES_ON, Event.GO_LIVE: _PROBE_GOES_ON, Event.LOSE: S.LIVE_PROBING,
        Event.FIND: S.LIVE_PROBING, Event.PROBE: S.PROBING, Event.PROBE_ROBOT: S.LIVE_PROBING, Event.PROBED: S.LIVE_WAITING,
    },
    S.LIVE_WAITING: {
        Event.STOP: S.STOPPED, Event.GO_ON: S.LIVE, Event.GO_LIVE: S.LIVE, Event.LOSE: S.LIVE_WAITING,
        Event.FIND: S.LIVE_WAITING, Event.PROBE: S.PROBING, Event.PROBE_ROBOT: S.LIVE_PROBING, Event.PROBED: S.LIVE_WAITING,
    },
}  # fmt: skip
"""The table: for each state what each event makes of it. docs/architecture.md shows it, and a test compares the two."""

_WHILE_LOST = {S.SAFE: S.LOST, S.LIVE: S.LIVE_LOST}
"""A source that was lost while the robot stood for another reason is still lost when that reason is gone."""

_LINE_DRIVES = (S.SAFE, S.LIVE)
_PROBES = (S.PROBING, S.LIVE_PROBING)
_UNTIL_GO_ON = (S.STOPPED, S.PROBING, S.LIVE_PROBING, S.LIVE_WAITING)
_WITH_REASON = (Event.STOP, Event.PROBE, Event.PROBE_ROBOT)
_LIVE = (S.LIVE, S.LIVE_LOST, S.LIVE_PROBING, S.LIVE_WAITING)


@dataclass(frozen=True)
class Moving:
    """Where the machine stands.

    Attributes
    ----------
    state : State
    held : str
        Why the line does not drive, until the person says otherwise; empty while it may.
    lost : str
        Which source that moves the robot is not listened to, and why; empty if none.
    """

    state: State = State.SAFE
    held: str = ""
    lost: str = ""

    @property
    def line_drives(self) -> bool:
        """Whether the line's motions count; else it is ticked with stop."""
        return self.state in _LINE_DRIVES

    @property
    def probing(self) -> bool:
        """Whether a probe moves motors."""
        return self.state in _PROBES

    @property
    def live(self) -> bool:
        """Whether the person has gone live."""
        return self.state in _LIVE

    @property
    def robot_drives(self) -> bool:
        """Whether a robot on a link is commanded to drive."""
        return self.live and (self.line_drives or self.probing)

    def refusal(self, event: Event) -> str:
        """Return why an event changes nothing now; empty if it counts."""
        effect = EFFECTS[self.state][event]
        return effect.why if isinstance(effect, Refused) else ""

    def after(self, event: Event, reason: str = "") -> Moving:
        """Return where the machine stands after an event; ``reason`` is why, of a stop, a probe or a loss."""
        effect = EFFECTS[self.state][event]
        if isinstance(effect, Refused) or (event is Event.STOP and self.state is State.STOPPED):
            return self  # the first reason of a stop stays
        lost = reason if event is Event.LOSE else "" if event is Event.FIND else self.lost
        state = _WHILE_LOST.get(effect, effect) if lost else effect
        held = reason if event in _WITH_REASON else self.held
        return Moving(state, held if state in _UNTIL_GO_ON else "", lost)
