"""The robot's own end of a link, as a program of its own: the stand-in's physics behind the sentences of docs/wire.md."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable

import numpy as np

from pivrex.devices.decode.lines import Lines
from pivrex.devices.robot_sentences import Parts, read_out, sensed_sentences, wire_hash
from pivrex.devices.sentence import frame, unframe
from pivrex.line.line import Line
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.sim.stand_in import StandIn

__all__ = ["WATCHDOG_S", "RobotEnd"]

WATCHDOG_S = 0.15
"""Without a good sentence for this long the robot rests by itself, and stays at rest until it is told to rest."""

GREETING_S = 1.0
PHYSICS_S = 0.005
LONGEST_GAP_S = 0.25

RESTING, DRIVING, ALONE = 0, 1, 2


class RobotEnd:
    """What a microcontroller would do: read sentences, drive the motors, watch the clock, answer.

    Attributes
    ----------
    state : int
        0 rests, 1 drives, 2 was left alone: then it rests until a sentence says rest.
    told : list of float
        What the motors are given now.
    refused : Counter
        Sentences that moved nothing, by the reason.
    """

    def __init__(
        self, rig: Rig, field: Field | None, now_s: float, note: Callable[[float, str], None] | None = None
    ) -> None:
        self._rig = rig
        line = Line(rig)
        self._hash = wire_hash(line)
        self._rest = line.resting().tolist()
        self._model = StandIn(rig, field)
        self.body = self._model.start()
        self.told = list(self._rest)
        self.state = ALONE
        self.refused: Counter[str] = Counter()
        self.good = 0
        self.last_good_s = float("-inf")
        self._note = note or (lambda _t, _what: None)
        self._lines: dict[str, Lines] = {}
        self._parts: dict[str, Parts] = {}
        self._paired = ""
        self._newest = -1
        self._seq = 0
        self._physics_s = now_s
        self._greet_s = now_s
        self._answer = False
        self.fault = ""

    @property
    def resting(self) -> bool:
        """Whether the motors are given nothing."""
        return self.told == self._rest

    def take(self, data: bytes, sender: str, now_s: float) -> None:
        """Take bytes that came from a sender."""
        if len(self._lines) > 8:
            self._lines.clear()
            self._parts.clear()
        for line, too_long in self._lines.setdefault(sender, Lines()).feed(data):
            if too_long:
                self.refused["too long"] += 1
                continue
            try:
                found = self._read(unframe(line).split(","), sender)
            except ValueError as problem:
                self.refused[str(problem).split(",", maxsplit=1)[0][:40]] += 1
                continue
            if found is not None:
                self._obey(*found, sender, now_s)

    def _read(self, words: list[str], sender: str) -> tuple[int, bool, list[float]] | None:
        """Read a sentence; None while parts of it are missing. A rest is obeyed at its first part, the others say nothing."""
        in_parts = "/" in "".join(words[1:2])
        if words[2:3] != ["0"]:
            joined = self._parts.setdefault(sender, Parts()).whole(words)
            return read_out(joined, self._hash, len(self._rest)) if joined is not None else None
        found = read_out(words, self._hash, len(self._rest))
        return None if in_parts and found[0] == self._newest and self.state == RESTING else found

    def _obey(self, seq: int, drive: bool, values: list[float], sender: str, now_s: float) -> None:
        alone = now_s - self.last_good_s > WATCHDOG_S
        if sender != self._paired and not alone:
            self.refused["another sender"] += 1
            return
        if not alone and not 0 < (seq - self._newest) % 65536 < 32768:
            self.refused["an old number"] += 1
            return
        if alone:
            self._rest_now(now_s)
        self._paired, self._newest = sender, seq
        self.last_good_s = now_s
        self.good += 1
        self._answer = True
        if not drive:
            self.state, self.told = RESTING, list(self._rest)
            self._note(now_s, "rest")
        elif self.state == ALONE:
            self.refused["drive before rest"] += 1
        else:
            self.state, self.told = DRIVING, values
            self._note(now_s, "drive")

    def _rest_now(self, now_s: float) -> None:
        before, self.state, self.told = self.state, ALONE, list(self._rest)
        if before != ALONE:
            self._note(now_s, "left alone")

    def step(self, now_s: float) -> list[bytes]:
        """Let time pass; gives the sentences to send."""
        if self.state != ALONE and now_s - self.last_good_s > WATCHDOG_S:
            self._rest_now(now_s)
        self._physics_s = max(self._physics_s, now_s - LONGEST_GAP_S)
        while self._physics_s + PHYSICS_S <= now_s:
            self._physics_s += PHYSICS_S
            self.body = self._model.step(self.body, np.array(self.told), PHYSICS_S)
        out = []
        if now_s >= self._greet_s:
            self._greet_s = now_s + GREETING_S
            out.append(frame(f"PIVHEY,{self._rig.name},{self._hash}"))
            self._answer = True
            if self.fault:
                out.append(frame(f"PIVFLT,{self.fault}"))
        if self._answer:
            self._answer = False
            self._seq = (self._seq + 1) % 65536
            back = np.concatenate((self._model.sense(self.body), self._model.truth(self.body)))
            out += sensed_sentences(self._seq, max(0, self._newest), self.state, back)
        return out
