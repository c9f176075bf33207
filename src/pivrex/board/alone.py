"""A board that drives by itself: the inputs of its line, and its telemetry for a laptop that watches."""

from __future__ import annotations

import zlib
from dataclasses import dataclass
from math import ceil
from pathlib import Path

import numpy as np

from pivrex.board.flat_program import Global
from pivrex.board.line_parts import LineParts, line_parts
from pivrex.board.packing import Packed
from pivrex.board.pins_used import BoardWiring, wired
from pivrex.board.steps import BoardRoutine, Task
from pivrex.devices.decode.lines import LONGEST_LINE
from pivrex.devices.transports.serial_line import BITS_A_BYTE
from pivrex.errors import Mistake, RigError
from pivrex.line.bindings import Bindings
from pivrex.line.layout import Floats
from pivrex.line.line import Line
from pivrex.line.zeroing import Zeroing
from pivrex.rig.sources import NumbersSource, PacketsSource

__all__ = ["NOT_READ", "SAYS_LINKED", "SAYS_READY", "Alone", "Telemetry", "part_length"]

WAYS = ("kept.odometry.travels", "kept.balance.at")
"""What remembers the ways of encoders."""

TICK_HEAD = len("$PIVTIC,4294967295,0,0000,") + len("*hh\r\n")
STATE_HEAD = len("$PIVALL,4294967295,9999,") + len("*hh\r\n")

MIN_PART, MAX_PART = 24, 150
"""Bytes of the state in a sentence."""

MAX_TELEMETRY_HZ = 100.0
"""A small chip needs 2 ms to tell a tick: at more than this rate it tells twenty of them a second."""

LINE_SHARE = 0.95
"""Of the serial line a board's sentences take so much at most."""

NOT_READ, SAYS_READY, SAYS_LINKED = -1, -2, -3


def _no_places(wiring: BoardWiring) -> str:
    """Return why a board does not know where on the field it is; empty if it does."""
    ways = [s for s in wiring.sensed if f"_travel_{wiring.rig.way_unit}" in s.title and not s.known]
    return f"a place on the field needs the way of each wheel, but no encoder says {ways[0].title}" if ways else ""


def part_length(each: int) -> int:
    """Return how long a sentence with so many bytes of the state is; 0 for none."""
    return STATE_HEAD + ceil(each * 8 / 6) if each else 0


@dataclass(frozen=True)
class Telemetry:
    """The telemetry of a tick, in the order of its bytes: readings of sticks as numbers, buttons as bits, then the sensed values.

    Attributes
    ----------
    sticks, buttons : tuple of int
        Places among the line's readings.
    sensed : tuple of int
        Places among the sensed columns.
    counted : dict of int to float
        Those of them that are counts, with what a count is.
    """

    sticks: tuple[int, ...]
    buttons: tuple[int, ...]
    sensed: tuple[int, ...]
    counted: dict[int, float]

    @property
    def size(self) -> int:
        """How many bytes that is."""
        return 4 * len(self.sticks) + ceil(len(self.buttons) / 8) + 4 * len(self.sensed)

    @property
    def longest(self) -> int:
        """The length of its longest sentence, in bytes."""
        return TICK_HEAD + ceil(self.size * 8 / 6)


@dataclass(frozen=True)
class Alone:
    """A board that drives by itself, in addition to its wiring.

    Attributes
    ----------
    channels : tuple of str
        What its source says, in this order.
    reads : tuple of int
        For each reading of the line which of them it is; or one of NOT_READ, SAYS_READY, SAYS_LINKED.
    telemetry : Telemetry
    hash : str
        Which line and which inputs these are: a CRC-32 in eight hexadecimal digits.
    each, every : int
        Number of bytes of the state in a sentence, one for each `each` ticks; 0 if the serial line or the board is too slow to tell each tick.
    routine : BoardRoutine or None
        What it drives on command.
    """

    wiring: BoardWiring
    parts: LineParts
    channels: tuple[str, ...]
    reads: tuple[int, ...]
    telemetry: Telemetry
    hash: str
    each: int
    every: int
    routine: BoardRoutine | None = None

    @classmethod
    def of(cls, line: Line, at: Floats | None = None, task: Task | None = None) -> Alone:
        """Return it for the line of a rig.

        Parameters
        ----------
        line : Line
        at : (3,) float64
            Where the robot stands at the beginning, m and rad, if its routine does not say.
        task : Task
            The routine that it drives on command.

        Raises
        ------
        RigError
            For what cannot be.
        RoutineError
            For what a board cannot do of the routine.
        """
        wiring = wired(line, alone=True)
        source = wiring.source
        if source is None:
            what = 'is missing; a board that is alone needs one of [sources], such as { kind = "pins" } with its pins'
            raise RigError(Path("rig"), [Mistake(0, "board.source", what)])
        rig, name = wiring.rig, wiring.rig.board.source
        lacks = [rig.channel(a) for a in rig.law.axes().values() if rig.axis(a).source == "chosen"]
        lacks = [c for c in lacks if c not in source.channels()]
        if lacks:
            what = f'is "{name}", which has no {", ".join(lacks)}; the law {rig.law.kind} reads that'
            raise RigError(Path("rig"), [Mistake(0, "board.source", what)])
        wanted = line.inputs.wanted
        buttons = tuple(
            dict.fromkeys(c for s, c in wanted if s in ("chosen", name, source.kind) and c.startswith("button_"))
        )
        match source:
            case PacketsSource(columns=columns):
                channels = (*columns, *(b for b in buttons if b in source.channels()))
            case NumbersSource(columns=columns):
                channels = columns
            case _:
                channels = source.channels()
        own = {"ready": SAYS_READY, "linked": SAYS_LINKED}
        reads = tuple(
            own.get(c, NOT_READ) if s == "session"
            else channels.index(c) if s in ("chosen", name, source.kind) and c in channels
            else NOT_READ
            for s, c in wanted
        )  # fmt: skip
        pressed = tuple(k for k, (_, c) in enumerate(wanted) if c.startswith("button_") or reads[k] < NOT_READ)
        telemetry = Telemetry(
            tuple(k for k, at in enumerate(reads) if at >= 0 and k not in pressed),
            tuple(k for k in pressed if reads[k] != NOT_READ),
            tuple(k for k, s in enumerate(wiring.sensed) if s.known),
            {k: s.share for k, s in enumerate(wiring.sensed) if s.counter},
        )
        if telemetry.longest > LONGEST_LINE:
            what = f"a tick has {telemetry.size} bytes of readings, more than a sentence of {LONGEST_LINE} bytes holds"
            raise RigError(Path("rig"), [Mistake(0, "board.mode", what)])
        routine = BoardRoutine.of(task, line, _no_places(wiring)) if task is not None else None
        begins = task.program.start if task is not None else None
        parts = line_parts(line, at if begins is None else np.array(begins), routine)
        if routine is not None and wiring.shares_port and line.rig.board.start_pin == "":
            what = "is missing: the radio has the one serial line, so only a button can begin the routine"
            raise RigError(Path("rig"), [Mistake(0, "board.start_pin", what)])
        text = "\n".join([parts.source(), parts.header("float"), *map(str, (reads, telemetry, channels))])
        room = (
            wiring.baud / BITS_A_BYTE * line.dt_s * LINE_SHARE - telemetry.longest
            if rig.rate_hz <= MAX_TELEMETRY_HZ
            else 0.0
        )
        each = min(MAX_PART, max(MIN_PART, int((room - STATE_HEAD) * 6 / 8))) if room > 0 else 0
        every = ceil(part_length(each) / room) if each else 0
        return cls(wiring, parts, channels, reads, telemetry, f"{zlib.crc32(text.encode()):08X}", each, every, routine)

    @property
    def watched(self) -> str:
        """Why a laptop that watches does not see each tick; empty if it does."""
        if self.each:
            return ""
        rate_hz = self.wiring.rig.rate_hz
        needs = self.telemetry.longest / LINE_SHARE * min(rate_hz, MAX_TELEMETRY_HZ) * BITS_A_BYTE
        slow = (
            f"{self.wiring.baud} baud are too slow for what a tick tells, which needs {needs:.0f}"
            if self.wiring.baud < needs
            else ""
        )
        fast = f"the board has no time to tell each tick at {rate_hz:g} Hz, only at {MAX_TELEMETRY_HZ:g} Hz or less"
        return f"a laptop can stop this board and be its stick, but shows nothing of its ticks: {fast if rate_hz > MAX_TELEMETRY_HZ else slow}"

    @property
    def lacks(self) -> list[str]:
        """What the board cannot do, in sentences."""
        bindings = self.wiring.line.stages.get("bindings")
        if not isinstance(bindings, Bindings):
            return [self.watched] if self.watched else []
        not_here = [
            f'{patch.channel} does "{action.text}", which a board that is alone cannot'
            for patch, action in zip(bindings.patches, bindings.actions, strict=True)
            if action.verb in ("record", "routine", "do")
        ]
        return not_here + ([self.watched] if self.watched else [])

    @property
    def rebased(self) -> list[Global]:
        """The memory of encoder distances: each tick begins at 0, so that counts stay whole until they are differenced.

        Nothing if a way does not come from an encoder.
        """
        ways = [s for s in self.wiring.sensed if s.title.endswith(f"_travel_{self.wiring.rig.way_unit}")]
        if not all(s.counter for s in ways):
            return []
        return [g for g in self.parts.program.globals.values() if g.name in WAYS and 0 not in g.shape]

    @property
    def zeroed(self) -> dict[int, float]:
        """The line's memory at the moment when its gyro is to be zeroed, by its place."""
        line = self.wiring.line
        stage = line.stages.get("zeroing")
        if not isinstance(stage, Zeroing) or stage.memory is None:
            return {}
        first = line.memory.places["zeroing"].start
        asked = stage.ask(stage.start(()))
        return {
            first + place.start: float(getattr(asked, name))
            for name, place in stage.memory.places.items()
            if name in ("status", "readings", "first", "second")
        }

    def sizes(self) -> tuple[Packed, Packed]:
        """Return how the row and the state stand in the board's memory."""
        return Packed(self.parts.program, "row"), Packed(self.parts.program, "kept")
