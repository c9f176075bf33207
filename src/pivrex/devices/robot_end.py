"""The robot's own end of a link, as a program: the simulated robot's physics with the sentences of docs/wire.md."""

from __future__ import annotations

import secrets
from collections import Counter
from collections.abc import Callable

import numpy as np

from pivrex.devices.decode.lines import Lines
from pivrex.devices.robot_sentences import (
    STALE_S,
    STAMPS,
    Back,
    Out,
    Parts,
    SensedWire,
    age_of,
    read_out,
    sensed_sentences,
    stamp_of,
    wire_hash,
)
from pivrex.devices.seal import HIGHEST, Seal, sealed
from pivrex.devices.sentence import frame, unframe
from pivrex.line.input_stages import TRUTH
from pivrex.line.line import Line
from pivrex.rig.field import Field
from pivrex.rig.rig import Rig
from pivrex.sim.model import simulator_of

__all__ = ["WATCHDOG_S", "RobotEnd"]

WATCHDOG_S = 0.15
"""Without a good sentence for this long the robot rests by itself, and stays at rest until it is commanded to rest."""

GREETING_S = 1.0
PHYSICS_S = 0.005
LONGEST_GAP_S = 0.25

RESTING, DRIVING, ALONE = 0, 1, 2

MAX_SENDERS = 8


class RobotEnd:
    """A microcontroller's work: read sentences, drive the motors, watch the clock, reply.

    Attributes
    ----------
    state : int
        0 rests, 1 drives, 2 was left alone: then it rests until a sentence says rest.
    commands : list of float
        The motors' drives now.
    refused : Counter
        Sentences that moved nothing, by the reason.

    ``tells_truth`` says whether it answers with where it truly is, as no real robot could.
    """

    def __init__(
        self,
        rig: Rig,
        field: Field | None,
        now_s: float,
        note: Callable[[float, str], None] | None = None,
        tells_truth: bool = True,
    ) -> None:
        self._rig = rig
        self._tells_truth = tells_truth
        line = Line(rig)
        self._hash = wire_hash(line)
        self._back = SensedWire(line)
        self._rest = line.resting().tolist()
        self._model = simulator_of(rig, field, tick_s=PHYSICS_S)
        self.body = self._model.start()
        self.commands = list(self._rest)
        self.state = ALONE
        self.refused: Counter[str] = Counter()
        self.good = 0
        self.last_good_s = float("-inf")
        self.partner = ""
        """Who is answered: who is obeyed, or while no one is, who last spoke as a head does."""
        self._note = note or (lambda _t, _what: None)
        self._seal = Seal(rig.secret) if rig.secret else None
        self._key = rig.secret
        self.session = secrets.randbelow(HIGHEST) + 1
        """Chosen again at each start: what was sealed for an earlier one does nothing."""
        self._lines: dict[str, Lines] = {}
        self._parts: dict[str, Parts] = {}
        self._newest: int | None = None
        self._fresh_s = float("-inf")
        self._physics_s = now_s
        self._greet_s = now_s
        self._answer = False
        self.fault = ""

    @property
    def resting(self) -> bool:
        """Whether the motors are off."""
        return self.commands == self._rest

    @property
    def restarts(self) -> bool:
        """Whether its battery sagged so far that its electronics start again: it rests, hears nothing and says nothing."""
        return bool(getattr(self.body, "restart", 0.0) > 0)

    def take(self, data: bytes, sender: str, now_s: float) -> None:
        """Take bytes that came from a sender; electronics that start again hear nothing."""
        if self.restarts:
            return
        self._watch(now_s)  # notice silence before obeying a late message
        if len(self._lines) > MAX_SENDERS:
            self._lines.clear()
            self._parts.clear()
        for line, too_long in self._lines.setdefault(sender, Lines()).feed(data):
            if too_long:
                self.refused["too long"] += 1
                continue
            try:
                found = self._read(self._opened(line, sender, now_s), sender)
            except ValueError as problem:
                self.refused[str(problem).split(",", maxsplit=1)[0][:40]] += 1
                continue
            if found is not None:
                self._obey(*found, sender, now_s)

    def _opened(self, line: bytes, sender: str, now_s: float) -> list[str]:
        """Return the words of a sentence whose check and, with a key, whose seal are right."""
        body = unframe(line)
        session = self.session
        if self._seal is not None:
            body, session = self._seal.open(body)
        words = body.split(",")
        if words[0] == "PIVOUT" and self._alone(now_s):
            self.partner = sender  # it gets this robot's name, whatever it sent
        if session != self.session:
            raise ValueError("sealed for another start of the robot")
        return words

    def _read(self, words: list[str], sender: str) -> tuple[Out, list[float]] | None:
        """Read a sentence; None while parts of it are missing. A rest is obeyed at its first part, the others say nothing."""
        in_parts = "/" in "".join(words[1:2])
        highest = STAMPS - 1 if self._seal is None else HIGHEST
        if words[3:4] != ["0"]:
            joined = self._parts.setdefault(sender, Parts()).whole(words)
            return read_out(joined, self._hash, len(self._rest), highest) if joined is not None else None
        found = read_out(words, self._hash, len(self._rest), highest)
        return None if in_parts and found[0].seq == self._newest and self.state == RESTING else found

    def _alone(self, now_s: float) -> bool:
        return now_s - self.last_good_s > WATCHDOG_S

    def _is_new(self, seq: int, alone: bool) -> bool:
        """Return whether a number is a new one. Sealed ones never begin again while the robot is on."""
        if self._newest is None:
            return True
        if self._seal is not None:
            return seq > self._newest
        return alone or 0 < (seq - self._newest) % STAMPS < STAMPS // 2

    def _obey(self, out: Out, values: list[float], sender: str, now_s: float) -> None:
        alone = self._alone(now_s)
        if sender != self.partner and not alone:
            self.refused["another sender"] += 1
            return
        if not self._is_new(out.seq, alone):
            self.refused["an old number"] += 1
            return
        self._answer = True
        if out.drive and (out.echo is None or age_of(out.echo, now_s) > STALE_S):
            # on its way for too long, or from a head that does not hear this robot
            self.refused["a stale drive"] += 1
            return
        self.partner, self._newest = sender, out.seq
        self.last_good_s = now_s
        self.good += 1
        if not out.drive:
            self.state, self.commands = RESTING, list(self._rest)
            self._note(now_s, "rest")
            return
        self._fresh_s = now_s - age_of(out.echo or 0, now_s)
        if self.state == ALONE:
            self.refused["drive before rest"] += 1
        else:
            self.state, self.commands = DRIVING, values
            self._note(now_s, "drive")

    def _watch(self, now_s: float) -> None:
        """The watchdog: whoever was silent, or has not heard this robot for too long, drives it no longer."""
        stale = self.state == DRIVING and now_s - self._fresh_s > STALE_S
        if self.state != ALONE and (self._alone(now_s) or stale):
            self.state, self.commands = ALONE, list(self._rest)
            self._note(now_s, "left alone")

    def step(self, now_s: float, room: bool = True) -> list[bytes]:
        """Let time pass; returns the sentences to send to `partner`. Without ``room`` on the line it answers later, with what
        it senses then.
        """
        self._watch(now_s)
        self._physics_s = max(self._physics_s, now_s - LONGEST_GAP_S)
        while self._physics_s + PHYSICS_S <= now_s:
            self._physics_s += PHYSICS_S
            self.body = self._model.step(self.body, np.array(self.commands), PHYSICS_S)
        out: list[bytes] = []
        if self.restarts:
            self.state, self.commands, self._answer = ALONE, list(self._rest), False
            return out
        if not room:
            return out
        if now_s >= self._greet_s:
            self._greet_s = now_s + GREETING_S
            out.append(frame(self._sign(f"PIVHEY,{self._rig.name},{self._hash}")))
            self._answer = True
            if self.fault:
                out.append(frame(self._sign(f"PIVFLT,{self.fault}")))
        if self._answer:
            self._answer = False
            truth = self._model.truth(self.body)[: len(TRUTH)]
            if not self._tells_truth:
                truth = np.full_like(truth, np.nan)
            values = np.concatenate((self._back.written(self._model.sense(self.body)), truth))
            out += sensed_sentences(Back(stamp_of(now_s), self._newest, self.state), values, self._sign)
        return out

    def close(self) -> None:
        """Do nothing: all of it ends with the program."""

    def _sign(self, body: str) -> str:
        return sealed(self._key, body, self.session) if self._key else body
