"""What the session shows the screen in addition to the Ticks: plain records that pickle."""

from __future__ import annotations

from dataclasses import dataclass, field
from math import isfinite

from pivrex.devices.keys import KeysMode
from pivrex.devices.source import BY_HAND, Abilities
from pivrex.diagnosis.moves import Run
from pivrex.routine.kinds import shown, unit_of
from pivrex.routine.thread import RoutineMessage
from pivrex.session.moving import Moving
from pivrex.session.periods import MatchStatus

__all__ = ["Probed", "Shown", "SourceInfo", "Status", "shown_of"]


@dataclass(frozen=True)
class Probed:
    """The result of a probe; ``eyes`` is the first move of the simulated robot in words, for a person who would see it."""

    number: int
    runs: tuple[Run, ...]
    eyes: str = ""


@dataclass(frozen=True)
class SourceInfo:
    """A source that may be chosen. ``can`` is what it may do; ``lacks`` names the channels that the rig reads and it does
    not have; ``waits`` says why it is not listened to now.
    """

    name: str
    kind: str
    title: str
    can: Abilities = BY_HAND
    lacks: tuple[str, ...] = ()
    waits: str = ""


@dataclass(frozen=True)
class Shown:
    """A value that a routine showed: at which line, what it is called there, when in s of the routine, and the value in its unit, NaN for
    nothing sensed.
    """

    line: int
    label: str
    t_s: float
    value: float
    unit: str
    said: str
    """The value in words."""

    @property
    def text(self) -> str:
        """The text for a person."""
        return f"{self.label}: {self.said}"

    @property
    def brief(self) -> str:
        """The value in few letters."""
        return f"{self.value:.3g} {self.unit}".rstrip() if isfinite(self.value) else self.said


def shown_of(message: RoutineMessage, dt_s: float) -> Shown:
    """Return what the screen shows of a value that a routine showed."""
    return Shown(
        message.line,
        message.label,
        message.n * dt_s,
        message.shown,
        unit_of(message.kind),
        shown(message.value, message.kind),
    )


@dataclass(frozen=True)
class Status:
    """Everything that the screen needs in addition to the Ticks. Sent whenever a part of it changes.

    Attributes
    ----------
    moving : Moving
        What may move, and why it must not.
    recording : str
        The file that is being recorded; empty for none.
    linked : str
        "off" where the simulated robot is commanded; "heard" or what is wrong where a robot behind a link is.
    source : str
        The name of the chosen source.
    sources : tuple of SourceInfo
        Those that may be chosen.
    keys_mode : str
        The way keys drive.
    serial : int
        Of the rig in use.
    robot : str
        What the robot is.
    watching : bool
        Whether the robot drives by itself, and this computer only watches. Then ``moving`` says what its board says.
    note : str
        The last thing worth saying, numbered by ``notes``; ``notes_before`` are the ones right before it.
    shown : tuple of Shown
        What the routine showed last at each of its lines.
    pad_port : int
        Where simulated gamepads may connect; 0 if nowhere.
    runs : int
        Counts how often the robot was put back at its start.
    probing : int
        The number of the probe that is being carried out; 0 for none.
    probed : Probed or None
        The last one that is over.
    lifted, upside_down : bool
        Whether the simulated robot stands on a block, and whether it lies on its back.
    upright : bool
        Whether it is a robot that balances, and stands by itself.
    holding : bool
        Whether the gyro holds the heading while the driver does not turn.
    experiment : str
        The move that the line makes alone; empty for none.
    match : MatchStatus
        The match clock, and the routine.
    keeping : str
        The folder of the run that stays and is being kept now; empty while only the last minutes are.
    kept_from_s : float
        What the clock said when the run began that is kept now.
    cannot_keep : str
        Why no run is kept; empty while one is.
    """

    moving: Moving = field(default_factory=Moving)
    recording: str = ""
    linked: str = "off"
    source: str = ""
    sources: tuple[SourceInfo, ...] = ()
    keys_mode: KeysMode = "latched"
    serial: int = 0
    robot: str = "simulator"
    watching: bool = False
    note: str = ""
    notes: int = 0
    notes_before: tuple[str, ...] = ()
    shown: tuple[Shown, ...] = ()
    pad_port: int = 0
    runs: int = 0
    probing: int = 0
    probed: Probed | None = None
    lifted: bool = False
    upside_down: bool = False
    upright: bool = False
    holding: bool = False
    experiment: str = ""
    match: MatchStatus = field(default_factory=MatchStatus)
    keeping: str = ""
    kept_from_s: float = 0.0
    cannot_keep: str = ""

    def notes_since(self, notes: int) -> list[str]:
        """Return the notes that are newer than the first ``notes``."""
        new = self.notes - notes
        return [*self.notes_before, self.note][-new:] if new > 0 else []

    @property
    def watches(self) -> str:
        """Whether a board that drives by itself is "heard", or "unheard" while it is not known what it does; empty if none is watched."""
        return ("heard" if self.linked == "heard" else "unheard") if self.watching else ""

    @property
    def stopped(self) -> str:
        """The words for the state in which nothing drives from here."""
        if self.upright and self.watches != "unheard":
            return "it stands upright and holds its place"
        return {"heard": "the board rests", "unheard": "what the board does is not known"}.get(self.watches, "stopped")

    @property
    def live(self) -> bool:
        """Whether the person has gone live."""
        return self.moving.live

    @property
    def held(self) -> str:
        """Why the robot is stopped; empty while it may move."""
        return self.moving.held

    @property
    def lost(self) -> str:
        """Which source that moves the robot is not listened to, and why; it rests until that is back and let go."""
        return self.moving.lost
