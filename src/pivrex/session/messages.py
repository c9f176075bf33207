"""The requests of the screen to the session: plain records that pickle."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from dataclasses import field as made
from pathlib import Path

from pivrex.board.steps import Task
from pivrex.devices.keys import KeysMode
from pivrex.diagnosis.moves import MotorMove
from pivrex.rig import Field, Rig
from pivrex.rig.field import Keep, Match
from pivrex.rig.transports import Link
from pivrex.routine.midway import Midway
from pivrex.routine.motion import Motion
from pivrex.routine.program import Program

__all__ = [
    "AttachPads",
    "BeginMotion",
    "Believe",
    "ChooseRoutine",
    "ChooseSource",
    "EndMove",
    "GoLive",
    "GoOn",
    "Hold",
    "KeepRun",
    "KeyDown",
    "KeyUp",
    "LayOut",
    "Leave",
    "LeaveMatch",
    "LetGo",
    "MakeReady",
    "MeasureAgain",
    "MoveSimulated",
    "MoveSticks",
    "PauseRoutine",
    "Probe",
    "Push",
    "PutBack",
    "Record",
    "Request",
    "Rewire",
    "SetKeysMode",
    "SetUp",
    "StartPeriod",
    "StepLevel",
    "StepRoutine",
    "Stop",
    "TakeMark",
    "UseMoves",
    "UseRig",
    "UseRobot",
    "WatchSources",
    "ZeroGyro",
]


@dataclass(frozen=True)
class SetUp:
    """How a session starts."""

    rig: Rig
    field: Field | None
    recordings: tuple[Path, ...] = ()
    source: str = "keys"
    listen_for_pads: bool = False
    gamepads: bool = True
    fault: str = ""
    seed: int = 0
    inputs: Path | None = None
    link: Link | None = None
    periods: Match = made(default_factory=Match)
    memory: Path | None = None
    """Where it keeps what was sealed and heard before."""
    runs: Path | None = None
    """Where runs are kept; None keeps none."""
    keep: Keep = made(default_factory=Keep)
    rig_name: str = ""
    rig_text: str = ""
    """The rig's file: its name without the end, and its text, to be kept with a run."""
    task: Task | None = None
    """The routine of a board that drives by itself."""


@dataclass(frozen=True)
class UseRig:
    """Use another rig, or a changed one; ``serial`` marks its rows. ``name`` and ``text`` belong to its file, ``task`` is the routine of its
    board.
    """

    rig: Rig
    serial: int
    name: str = ""
    text: str = ""
    task: Task | None = None


@dataclass(frozen=True)
class Rewire:
    """Plug the simulated robot of the open rig wrongly, to practise on; see `pivrex.sim.wiring.faulty`. Empty for as the rig says."""

    fault: str = ""


@dataclass(frozen=True)
class KeepRun:
    """Let what was kept of the last minutes stay, or mark this moment in a run that stays anyhow."""

    note: str = ""


@dataclass(frozen=True)
class LayOut:
    """Put the simulated robot onto another floor; it stays where it is."""

    field: Field | None


@dataclass(frozen=True)
class Believe:
    """Somebody says where the robot is: x and y in m, heading in rad."""

    pose: tuple[float, float, float]


@dataclass(frozen=True)
class TakeMark:
    """The robot should know where it is by what is at hand: a wall that it touches, or a ranger that looks at one."""


@dataclass(frozen=True)
class Probe:
    """Carry out moves of single motors, round the line; ``number`` marks the answer."""

    number: int
    moves: tuple[MotorMove, ...]


@dataclass(frozen=True)
class EndMove:
    """End the move that is being carried out, as if its sensor had seen it: a person did."""


@dataclass(frozen=True)
class MoveSimulated:
    """Take the simulated robot in hand: "lift" it onto a block, "lower" it, "turn over", "point ahead" its steered wheels; one that
    balances "set up" on the floor, "lay down" on its frame, "tip" forward or "turn left" in the hand.
    """

    what: str


@dataclass(frozen=True)
class Push:
    """Push the simulated robot: an impulse on its mass centre, in its own directions."""

    forward_Ns: float = 0.0  # noqa: N815 - newton seconds
    left_Ns: float = 0.0  # noqa: N815
    turn_Nms: float = 0.0  # noqa: N815


@dataclass(frozen=True)
class Hold:
    """Let the gyro hold the heading while the driver does not turn, or no longer."""

    on: bool


@dataclass(frozen=True)
class ZeroGyro:
    """Measure the gyro's bias as soon as the robot stands, and take it off."""


@dataclass(frozen=True)
class BeginMotion:
    """Let the robot make a motion alone; ``title`` says which. Esc ends it, and so does a stick that is touched."""

    motion: Motion
    title: str


@dataclass(frozen=True)
class ChooseRoutine:
    """Let this routine drive while the robot is alone; None for none. One that drives ends."""

    program: Program | None


@dataclass(frozen=True)
class UseMoves:
    """The own moves that buttons may do, by what is bound: each as a program, or why it cannot be done."""

    moves: Mapping[str, Program | str]


@dataclass(frozen=True)
class MakeReady:
    """Put the simulated robot where the routine starts, or where it is before one of its lines; nothing moves until a period is started."""

    midway: Midway | None = None


@dataclass(frozen=True)
class StartPeriod:
    """Start a period: "alone", "between" or "driven"; ``only`` says that nothing follows it. It lasts as the workspace says, or
    ``seconds`` where a routine needs longer.
    """

    period: str
    only: bool = False
    seconds: float = 0.0


@dataclass(frozen=True)
class LeaveMatch:
    """Count no longer: the robot may be driven."""


@dataclass(frozen=True)
class PauseRoutine:
    """Let the clock and the routine stand, or go on."""

    on: bool


@dataclass(frozen=True)
class StepRoutine:
    """Go on until another step of the routine begins, then pause."""


@dataclass(frozen=True)
class ChooseSource:
    """Drive by this source."""

    name: str


@dataclass(frozen=True)
class KeyDown:
    """A driving key went down or repeated."""

    key: str


@dataclass(frozen=True)
class KeyUp:
    """A driving key came up."""

    key: str


@dataclass(frozen=True)
class SetKeysMode:
    """Change how keys drive."""

    mode: KeysMode


@dataclass(frozen=True)
class MoveSticks:
    """The sticks on the screen are dragged here."""

    readings: Mapping[str, float] = made(default_factory=dict)


@dataclass(frozen=True)
class LetGo:
    """Bring keys and sticks on the screen to rest."""


@dataclass(frozen=True)
class StepLevel:
    """Walk the speed level up or down."""

    steps: int


@dataclass(frozen=True)
class Stop:
    """Stop the robot, and say why."""

    reason: str


@dataclass(frozen=True)
class GoOn:
    """Let the simulated robot drive again after a stop."""


@dataclass(frozen=True)
class GoLive:
    """Go live."""


@dataclass(frozen=True)
class Record:
    """Begin to record what the sources say, or end it."""


@dataclass(frozen=True)
class WatchSources:
    """Send reports of all sources, or no longer."""

    on: bool


@dataclass(frozen=True)
class MeasureAgain:
    """Forget where the channels of a source have been."""

    source: str


@dataclass(frozen=True)
class UseRobot:
    """Command the robot behind the link, or the simulated robot."""

    on_link: bool


@dataclass(frozen=True)
class PutBack:
    """Put the robot back at its start."""


@dataclass(frozen=True)
class AttachPads:
    """Listen for simulated gamepads."""


@dataclass(frozen=True)
class Leave:
    """The screen leaves in good order; it closes the connection next."""


Request = (
    UseRig
    | ChooseSource
    | KeepRun
    | KeyDown
    | KeyUp
    | SetKeysMode
    | MoveSticks
    | LetGo
    | StepLevel
    | Stop
    | GoOn
    | GoLive
    | PutBack
    | Probe
    | Push
    | Hold
    | BeginMotion
    | Believe
    | TakeMark
    | ZeroGyro
    | ChooseRoutine
    | UseMoves
    | MakeReady
    | StartPeriod
    | LayOut
    | LeaveMatch
    | Rewire
    | PauseRoutine
    | StepRoutine
    | EndMove
    | MoveSimulated
    | AttachPads
    | Record
    | WatchSources
    | MeasureAgain
    | UseRobot
    | Leave
)
