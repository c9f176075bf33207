"""A laptop that watches a board which drives by itself: turns the telemetry of a tick into a whole Tick of the line."""

from __future__ import annotations

import base64
import struct
import time
from binascii import Error, crc_hqx
from collections import deque
from math import ceil, inf, prod
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from pivrex.board.alone import Alone
from pivrex.board.flat import ENTERS
from pivrex.board.single_line import SingleLine
from pivrex.board.steps import Task
from pivrex.line.input_stages import NOWHERE
from pivrex.line.line import Line
from pivrex.line.tick import LineMemory

__all__ = ["BY_BUTTON", "BY_LAPTOP", "BY_ROUTINE", "STOPPED", "WHY", "BoardTick", "Rebuilder"]

Floats = NDArray[np.float64]

DRIVES, LOST, NOT_AT_REST, STOPPED, RAMPS, BY_BUTTON, BY_ROUTINE, BY_LAPTOP, LAPTOP_NOT_AT_REST = range(9)
WHY = {
    DRIVES: "",
    LOST: "{source} is lost",
    NOT_AT_REST: "let go of its sticks and buttons first",
    STOPPED: "this computer stopped it; g lets it move again",
    RAMPS: "{source} is lost: it rolls out",
    BY_BUTTON: "a button stopped it; g here lets it move again, or switching it off and on",
    BY_ROUTINE: "",
    BY_LAPTOP: "",
    LAPTOP_NOT_AT_REST: "let go of the sticks and buttons here first",
}
"""What a board says of why it rests; ``source`` is what drives it."""

RECENT = 600
"""How many ticks a state may be old and is still followed up."""

COLUMNS = ("clock", "sensed", "truth", "raw")
"""The stages whose columns go in; what the board computed from them stands in the others."""


class BoardTick(NamedTuple):
    """A Tick that a board made.

    Attributes
    ----------
    number : int
        Which of its ticks.
    why : int
        One of `WHY`.
    row : (K,) float64
        The Tick: of what the board computes the very numbers that it has, the rest as the line computes it from them.
    same : bool
        Whether the checksum that the board sent is that of the row as it was computed here.
    routine : str
        What is to be said of its routine from this tick on.
    """

    number: int
    why: int
    row: Floats
    same: bool
    routine: str = ""


class _Said(NamedTuple):
    """The telemetry of a tick."""

    number: int
    why: int
    check: int
    raw: Floats
    values: tuple[float, ...]
    """What was sensed, in the order of `Telemetry.sensed`: counts and numbers."""


class Rebuilder:
    """Makes Ticks from a board's telemetry.

    A tick needs the state that the one before left. The board tells that once a second: from there on each tick is computed, until one
    is missing. ``at`` is where the robot stands at the beginning, (3,), and ``task`` the routine that the board has.

    Attributes
    ----------
    hash : str
        Which line this is.
    synced : bool
        Whether the state is known.
    missed : int
        Ticks that never came.
    """

    def __init__(self, line: Line, at: Floats | None = None, task: Task | None = None) -> None:
        self._line = line
        self.alone = Alone.of(line, at, task)
        self.hash, parts, routine = self.alone.hash, self.alone.parts, self.alone.routine
        self._routine = routine
        self._on = parts.program.globals["kept.thoughts.on"].at if routine is not None else -1
        self._single = SingleLine(parts)
        self._memory: Floats = parts.start.copy()
        self._rest_raw = line.rest().astype(np.float32).astype(float)
        self._rebased = [g.at + k for g in self.alone.rebased for k in range(g.shape[0])]
        self._exact: Floats | None = None
        """The row of the tick before, in single precision."""
        self._recent: deque[_Said] = deque(maxlen=RECENT)
        self._state, self._state_of = b"", -1
        self._waiting: deque[tuple[_Said, _Said | None] | Floats] = deque()
        """Ticks that are not computed yet, each with the one before, and states from which they go on."""
        self.synced = False
        self.missed = 0
        self._driving = line.source_number(line.rig.board.source)
        self._first_sensed = line.layout.stage("sensed").start
        self._in_program = self._places("row.sensed.")
        self._ways = self._places("row.sensed.travel") if self._rebased else []
        """The sensed columns that the board counts from the tick before."""

    def _places(self, begins: str) -> list[int]:
        """Return which sensed columns the board's line reads."""
        own = [g for g in self._single.row.fields if g.name.startswith(begins)]
        return [g.at - self._first_sensed + j for g in own for j in range(prod(g.shape))]

    # --- messages ---

    def take_tick(self, words: list[str]) -> None:
        """Take the words of a sentence PIVTIC. Raises `ValueError` with what is wrong."""
        said = self._read_tick(words)
        if self._recent and said.number <= self._recent[-1].number:
            # the board was switched on again
            self._recent.clear()
            self._waiting.append(self.alone.parts.start.copy())
            self.synced = False
        if self._recent and said.number != self._recent[-1].number + 1:
            self.missed += said.number - self._recent[-1].number - 1
            self._recent.clear()
            self.synced = False
        before = self._recent[-1] if self._recent else None
        self._recent.append(said)
        if self.synced:
            self._waiting.append((said, before))
        if len(self._waiting) > RECENT // 2:  # this computer is too slow: it continues from the next state
            self._waiting.clear()
            self.synced = False

    def take_state(self, words: list[str]) -> None:
        """Take the words of a sentence PIVALL, a part of the state. Raises `ValueError` with what is wrong."""
        if len(words) != 4:
            raise ValueError("a state without its four fields")
        number, at, data = _whole(words[1]), _whole(words[2]), _bytes(words[3])
        if at == 0:
            self._state, self._state_of = b"", number
        if number != self._state_of or at != len(self._state):
            return  # a part before it is missing
        self._state += data
        if len(self._state) < self._single.kept.size:
            return
        if len(self._state) > self._single.kept.size:
            raise ValueError(f"a state of {len(self._state)} bytes, but this line remembers {self._single.kept.size}")
        self._state_of = -1
        if not self.synced:
            self._follow_up(number, self._state)

    def make(self, budget_s: float = inf) -> list[BoardTick]:
        """Return the Ticks that may be made of what has come, as many as there is time for, in s; one at least."""
        made: list[BoardTick] = []
        until_s = time.perf_counter() + budget_s
        while self._waiting and (not made or time.perf_counter() < until_s):
            one = self._waiting.popleft()
            if isinstance(one, np.ndarray):
                self._memory = self._known(one, self._memory)
            else:
                made.append(self._make(*one))
        return made

    def _follow_up(self, number: int, state: bytes) -> None:
        """Let all ticks be made after the one whose state this is."""
        least = number if self._rebased or self._routine is not None else number + 1
        if not self._recent or self._recent[0].number > least or self._recent[-1].number < number:
            return
        memory = self._single.kept.unpacked(state, len(self._memory))
        self._waiting.append(memory)
        self.synced = True
        before = None
        for said in self._recent:
            if said.number == number and self._rebased:
                memory[self._rebased] = np.resize(self._sensed(said)[self._ways], len(self._rebased))
            if said.number > number:
                self._waiting.append((said, before))
            before = said

    def _read_tick(self, words: list[str]) -> _Said:
        telemetry = self.alone.telemetry
        if len(words) != 5 or len(words[3]) != 4:
            raise ValueError("a tick without its five fields")
        data = _bytes(words[4])
        if len(data) != telemetry.size:
            raise ValueError(f"a tick of {len(data)} bytes, but this line tells {telemetry.size}")
        sticks = struct.unpack_from(f"<{len(telemetry.sticks)}f", data)
        at = 4 * len(telemetry.sticks)
        bits = int.from_bytes(data[at : at + ceil(len(telemetry.buttons) / 8)], "little")
        at += ceil(len(telemetry.buttons) / 8)
        values = tuple(
            struct.unpack_from("<i" if k in telemetry.counted else "<f", data, at + 4 * n)[0]
            for n, k in enumerate(telemetry.sensed)
        )
        raw = self._rest_raw.copy()
        raw[list(telemetry.sticks)] = sticks
        raw[list(telemetry.buttons)] = [bits >> n & 1 for n in range(len(telemetry.buttons))]
        why = _whole(words[2])
        if why not in WHY:
            raise ValueError(f"a tick that says {why} of why it rests")
        return _Said(_whole(words[1]), why, int(words[3], 16), raw, values)

    # --- a Tick ---

    def _sensed(self, said: _Said) -> Floats:
        """Return what the robot sensed, (S,), as a link says it."""
        telemetry = self.alone.telemetry
        sensed = np.zeros(len(self._line.stages["sensed"].columns))
        for k, value in zip(telemetry.sensed, said.values, strict=True):
            share = telemetry.counted.get(k)
            if share is None:
                sensed[k] = 0.0 if np.isnan(value) else value
            elif k in self._in_program and k not in self._ways:
                sensed[k] = np.float32(value) * np.float32(share)
            else:
                sensed[k] = value * share
        return sensed

    def _make(self, said: _Said, before: _Said | None) -> BoardTick:
        line, many = self._line, self._line.memory.size
        stopped = float(said.why not in (DRIVES, RAMPS, BY_ROUTINE, BY_LAPTOP))
        driving = 0.0 if said.why in (BY_LAPTOP, LAPTOP_NOT_AT_REST) else self._driving
        routine = self._begin_routine(said, before)
        row = line.begin(np.array(float(said.number)), said.raw, self._sensed(said), stopped, driving, NOWHERE)
        remembered = self._memory.copy()
        remembered[self._rebased] = 0.0
        goes_on = self._exact if said.number % line.rig.asks_every else None
        exact, kept = self._single.tick(self._as_board(row, said, before), remembered, goes_on)
        self._exact = exact.copy()
        same = crc_hqx(self._single.row.packed(exact), 0xFFFF) == said.check
        old, new = line.memory.start(), line.memory.start()
        old.data[:] = self._memory[:many]
        self._pass_through(old, new, row, exact, said)
        for stage in COLUMNS:
            exact[line.layout.stage(stage)] = np.nan
        kept[self._rebased] = np.nan
        self._memory = self._known(kept, new.data)
        if line.layout.has("bindings", "zero_gyro") and row[line.layout.at("bindings", "zero_gyro")] > 0.5:
            for place, value in self.alone.zeroed.items():
                self._memory[place] = value
        return BoardTick(said.number, said.why, np.where(np.isnan(exact), row, exact), same, routine)

    def _known(self, kept: Floats, otherwise: Floats) -> Floats:
        """Return what is remembered: of the line what a board does not keep from ``otherwise``; of its routine a NaN means something."""
        many = self._line.memory.size
        own = np.where(np.isnan(kept[:many]), otherwise[:many], kept[:many])
        return np.concatenate((own, kept[many:]))

    def _begin_routine(self, said: _Said, before: _Said | None) -> str:
        """Let the state be the one in which a routine begins, where it does; return what is to be said of it."""
        routine, was = self._routine, before.why if before is not None else DRIVES
        if routine is None:
            return ""
        telemetry = ""
        if said.why == BY_ROUTINE and was != BY_ROUTINE:
            self._memory = self.alone.parts.again(self._memory)
            telemetry = f"the board drives its routine {routine.task.program.name}"
        elif was == BY_ROUTINE and said.why != BY_ROUTINE:
            telemetry = routine.ended_in(self._memory) or "the routine was cut off"
        self._memory[self._on] = float(said.why == BY_ROUTINE)
        return telemetry

    def _pass_through(self, old: LineMemory, new: LineMemory, row: Floats, exact: Floats, said: _Said) -> None:
        """Let the line compute the rest of a row; in a routine's tick, with the routine's requests."""
        line, routine = self._line, self._routine
        if routine is None or said.why != BY_ROUTINE:
            line.pass_through(old, new, row)
            return
        line.pass_through(old, new, row, follows=False)
        for name in ENTERS:
            if (stage := line.stages.get(name)) is not None:
                own = [] if stage.entered < 0 else [stage.entered]
                places = np.array([*np.arange(len(row))[stage.entry].tolist(), *own])
                known = places[~np.isnan(exact[places])]
                row[known] = exact[known]
        row[line.layout.at("routine", "line")] = routine.line_in(self._memory)
        line.pass_through(old, new, row, asks=False)

    def _as_board(self, row: Floats, said: _Said, before: _Said | None) -> Floats:
        """Return a row with the inputs of the board's line: numbers in single precision, distances counted from the tick before."""
        own = row.copy()
        own[1] = np.float32(said.number) * np.float32(self._line.dt_s)
        telemetry = self.alone.telemetry
        for n, k in enumerate(telemetry.sensed):
            if k in self._ways:
                moved = int(said.values[n]) - (int(before.values[n]) if before is not None else 0)
                own[self._first_sensed + k] = np.float32(moved) * np.float32(telemetry.counted[k])
        return own


def _whole(word: str) -> int:
    if not (word.isascii() and word.isdecimal() and len(word) <= 10):
        raise ValueError(f"{word[:12]!r} is no whole number")
    return int(word)


def _bytes(word: str) -> bytes:
    try:
        return base64.b64decode(word + "=" * (-len(word) % 4), validate=True)
    except Error:
        raise ValueError("bytes that are not Base64") from None
