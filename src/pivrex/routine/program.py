"""The program of a routine: lists of instructions with jumps, so that a robot can stop in the middle."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from pivrex.path import Path
from pivrex.routine.kinds import NUMBER, Kind
from pivrex.routine.nodes import Condition, Expression

__all__ = [
    "MAIN", "Assign", "AttachStep", "BeginCount", "CallMove", "Choose", "Code", "Default", "FollowStep", "Fork", "GiveBack",
    "HereStep", "HomeStep", "Instruction", "Jump", "JumpUnless", "Limit", "MarkStep", "MotionStep", "NextCount", "Program",
    "RunStep", "SayStep", "SettleStep", "ShowStep", "StopStep", "SwitchStep", "WaitForStep", "WaitStep", "WaitUntilStep", "Where", "ZeroStep",
]  # fmt: skip

MAIN = ""
"""The name of the code that a routine begins with."""


@dataclass(frozen=True)
class Where:
    """Which line an instruction is; ``file`` is empty in the routine's own text."""

    line: int
    text: str
    file: str = ""


@dataclass(frozen=True)
class Instruction:
    """One instruction. Two that do the same are equal, wherever they stand."""

    where: Where = field(compare=False)


@dataclass(frozen=True)
class Limit:
    """How long or how far at most, and what happens then: "stop", "go on", or the call of a move."""

    most: Expression | None = None
    kind: Kind = NUMBER
    what: str = "go on"
    call: CallMove | None = None


@dataclass(frozen=True)
class MotionStep(Instruction):
    """A motion of the robot.

    Attributes
    ----------
    shape : str
        "straight", "along", "to", "turn", "turn to", "toward", "pivot", "bend", "wheels" or "follow".
    values : dict of str to expression
        What the shape needs: "direction", "x", "y", "angle", "radius".
    forward, left, spin : float
        Which way, each -1, 0 or 1; of a pivot ``left`` says which side stands.
    amount : expression or None
    kind : Kind
        What the amount measures.
    speed : expression or None
    speed_kind : Kind
    gyro : bool or None
        None for what counts now.
    until : condition or None
    limit : Limit
    shares : tuple of (wheels, expression)
        Of "wheels": places of wheels in the chassis, and their share.
    """

    shape: str
    values: Mapping[str, Expression]
    forward: int = 0
    left: int = 0
    spin: int = 0
    amount: Expression | None = None
    kind: Kind = NUMBER
    speed: Expression | None = None
    speed_kind: Kind = NUMBER
    gyro: bool | None = None
    until: Condition | None = None
    limit: Limit = Limit()
    shares: tuple[tuple[tuple[int, ...], Expression], ...] = ()


@dataclass(frozen=True)
class FollowStep(MotionStep):
    """A path is followed.

    Attributes
    ----------
    path : Path or None
        None for one through ``places``, from where the robot stands.
    places : tuple of (x, y)
    here : bool
        Whether the path is moved and turned to where the robot stands.
    feeds : (bool, bool)
        Whether the planned motion counts, and whether the corrections do.
    """

    path: Path | None = None
    places: tuple[tuple[Expression, Expression], ...] = ()
    here: bool = False
    feeds: tuple[bool, bool] = (True, True)


@dataclass(frozen=True)
class WaitStep(Instruction):
    time: Expression


@dataclass(frozen=True)
class WaitUntilStep(Instruction):
    until: Condition
    limit: Limit


@dataclass(frozen=True)
class WaitForStep(Instruction):
    name: str
    limit: Limit


@dataclass(frozen=True)
class SettleStep(Instruction):
    limit: Limit


@dataclass(frozen=True)
class AttachStep(Instruction):
    """An attachment is sent to, or by, an angle; over a time or as quick as it can."""

    name: str
    by: bool
    value: Expression
    kind: Kind
    over: Expression | None
    waits: bool
    limit: Limit


@dataclass(frozen=True)
class SwitchStep(Instruction):
    name: str
    on: bool


@dataclass(frozen=True)
class RunStep(Instruction):
    name: str
    share: Expression
    time: Expression | None


@dataclass(frozen=True)
class ZeroStep(Instruction):
    """``what`` is "gyro", "counts" or an attachment."""

    what: str


@dataclass(frozen=True)
class HomeStep(Instruction):
    name: str
    share: Expression
    as_: Expression | None
    limit: Limit


@dataclass(frozen=True)
class HereStep(Instruction):
    x: Expression
    y: Expression
    facing: Expression | None


@dataclass(frozen=True)
class MarkStep(Instruction):
    """The robot knows where it is by a wall that it touches with its ``side``, or, if that is empty, by a ranger."""

    side: str
    sensor: str = ""


@dataclass(frozen=True)
class Default(Instruction):
    """A setting from here on: "drive", "turn" with a speed, or "gyro" with whether it corrects."""

    what: str
    value: Expression | None = None
    kind: Kind = NUMBER
    on: bool = True


@dataclass(frozen=True)
class Assign(Instruction):
    name: str
    value: Expression
    otherwise: Expression | None


@dataclass(frozen=True)
class CallMove(Instruction):
    move: str
    args: tuple[tuple[str, Expression], ...]
    result: str = ""


@dataclass(frozen=True)
class GiveBack(Instruction):
    value: Expression | None = None
    otherwise: Expression | None = None


@dataclass(frozen=True)
class SayStep(Instruction):
    """A step that shows a sentence."""

    text: str


@dataclass(frozen=True)
class ShowStep(Instruction):
    """A value is shown; ``label`` is how the line names it."""

    label: str
    value: Expression
    kind: Kind


@dataclass(frozen=True)
class StopStep(Instruction):
    """The routine ends."""


@dataclass(frozen=True)
class Jump(Instruction):
    by: int


@dataclass(frozen=True)
class JumpUnless(Instruction):
    cond: Condition
    by: int


@dataclass(frozen=True)
class Choose(Instruction):
    """Jumps to the block of a value: (value, by) each; ``otherwise`` for any other and for none."""

    value: Expression
    cases: tuple[tuple[float, int], ...]
    otherwise: int


@dataclass(frozen=True)
class BeginCount(Instruction):
    """Begins to count: ``slot`` of the frame holds how often."""

    slot: int
    times: Expression


@dataclass(frozen=True)
class NextCount(Instruction):
    """Counts down; jumps ``by`` once nothing is left."""

    slot: int
    by: int


@dataclass(frozen=True)
class Fork(Instruction):
    """Begins codes together, and goes on when "all" have ended or "one" has; "together" slows the quicker ones."""

    branches: tuple[str, ...]
    mode: str


Code = tuple[Instruction, ...]


@dataclass(frozen=True)
class Program:
    """A routine that has been read, for one rig.

    Attributes
    ----------
    name : str
    text : str
        As it was read.
    rig : str
        Which rig it says that it is for; empty if it does not say.
    floor : str
        On which floor it says that it drives; empty for the workspace's field.
    start : (3,) of float or None
        Where the robot begins, x and y in m, heading in rad; None where it does not say.
    codes : dict of str to Code
        The routine's own, under `MAIN`, its moves, and the branches of what goes on at once.
    params : dict of str to tuple of (name, expression)
        The parameters of each move with their defaults.
    """

    name: str
    text: str
    rig: str
    start: tuple[float, float, float] | None
    codes: Mapping[str, Code]
    params: Mapping[str, tuple[tuple[str, Expression], ...]]
    floor: str = ""
