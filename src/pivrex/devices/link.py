"""The robot on a link: outputs leave as sentences, and sensed values come back. See docs/wire.md."""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial

import numpy as np
from numpy.typing import NDArray

from pivrex.devices.decode.lines import LONGEST_LINE, Lines
from pivrex.devices.decode.message import Message, shown
from pivrex.devices.decode.sentences import SentenceError, opened
from pivrex.devices.health import Said, Tally
from pivrex.devices.link_speed import link_speed
from pivrex.devices.pace import Pace
from pivrex.devices.robot_sentences import STAMPS, Out, Parts, SensedWire, out_sentences, read_sensed, wire_hash
from pivrex.devices.seal import HIGHEST, Seal, sealed
from pivrex.devices.transports.base import BUDGET_S
from pivrex.devices.transports.opening import open_transport
from pivrex.line.input_stages import TRUTH
from pivrex.line.line import Line
from pivrex.rig.transports import Link, transport_title

__all__ = ["RobotLink"]

Floats = NDArray[np.float64]

MAX_SENT = 256
"""Sentences that an answer may still acknowledge."""


class RobotLink:
    """A robot behind a link.

    Attributes
    ----------
    title : str
    tally : Tally
        Of what it says.
    drives : bool
        Whether it is commanded to drive; the session says so before each command.
    greeted : str
        The hash of the rig that the robot says it has; empty before it has greeted.
    fault : str
        What its motor driver complained of last.
    state : int
        What the robot says of itself: 0 rests, 1 drives, 2 was left alone.
    sent : Said or None
        Its last command.
    """

    def __init__(self, line: Line, link: Link) -> None:
        self._link = link
        self.title = f"robot, {transport_title(link.wire)}"
        self.wire = open_transport(link.wire, outward=True)
        self.tally = Tally()
        self.hash = wire_hash(line)
        self._key = line.rig.secret
        self._seal = Seal(self._key) if self._key else None
        self._numbers = HIGHEST + 1 if self._key else STAMPS
        self._session: int | None = None
        """The number that the robot gave itself when it was switched on; of a rig with a key."""
        self._back = SensedWire(line)
        self._speed = link_speed(line, link)
        self._pace = Pace()
        self._lines = Lines()
        self._parts = Parts()
        self._seq = 0
        self._sent: dict[int, tuple[float, bool]] = {}
        """When the last sentences left, and whether they said drive, by their numbers."""
        self._echo: int | None = None
        self._acked: tuple[float, bool] | None = None
        self._sensed = np.zeros(len(line.stages["sensed"].columns))
        self._truth = np.full(len(line.stages["truth"].columns), np.nan)
        self._rest = line.resting()
        self.drives = False
        self.greeted = ""
        self.fault = ""
        self.state = 0
        self._heard_s = float("-inf")
        self._deaf_s = float("-inf")
        self._drives_s = float("-inf")
        self._next_s = float("-inf")
        self._last_drove = False
        self.sent: Said | None = None

    def poll(self, now_s: float, budget_s: float = BUDGET_S) -> None:
        """Take what has come, as far as there is time. Call it once a tick."""
        chunks = self.wire.poll(now_s, budget_s / 2)
        if not chunks:
            return
        at_s = chunks[-1].at_s
        data = b"".join(
            c.data if c.data.endswith(b"\n") or not self.wire.whole_messages else c.data + b"\n" for c in chunks
        )
        most, whole = self._pace.most(budget_s / 2), self._lines.count(data)
        if whole > most:
            data = self._lines.newest(data, most)
            self._parts.forget()
            said = Message(data[:LONGEST_LINE], None, "too much", f"{whole - most} were left out; the newest count")
            self.tally.add_unread("too much", whole - most, at_s, said)
        self._pace.begin()
        count = 0
        for line, too_long in self._lines.feed(data):
            count += 1
            message = self._read(line, too_long, at_s)
            if message is not None:  # else more parts are to come
                self.tally.add(message, at_s)
            if self._pace.over(budget_s):
                break
        self._pace.end(count)

    def _read(self, line: bytes, too_long: bool, at_s: float) -> Message | None:
        """Read a line; None of a part while others are to come."""
        try:
            body, session = opened(line, too_long, self._seal, "PIV")
            self._look_at_session(body, session, at_s)
            words = self._parts.whole(body.split(","))
            return None if words is None else self._understand(line, words, at_s)
        except SentenceError as problem:
            return Message(line, None, problem.fault, str(problem))
        except ValueError as problem:
            return Message(line, None, "damaged", str(problem))

    def _understand(self, line: bytes, words: list[str], at_s: float) -> Message:
        match words[0]:
            case "PIVSEN":
                return self._take_sensed(line, words, at_s)
            case "PIVHEY" if len(words) >= 3:
                self.greeted = words[2][:16]
            case "PIVFLT" if len(words) >= 2:
                self.fault = ", ".join(words[1:])[:80]
            case _:
                raise SentenceError("unknown", f"a sentence {words[0][:12]}")
        return Message(line, {})

    def _look_at_session(self, body: str, session: int, at_s: float) -> None:
        """With a key: a robot that is not heard may say by its greeting that it was switched on again; else what was sealed
        for another start of it says nothing.
        """
        if self._seal is None or not body.startswith("PIV"):
            return
        if body.startswith("PIVHEY,") and at_s - self._heard_s > self._link.quiet_after_s:
            self._session = session
        if session != self._session:
            raise SentenceError("foreign", "sealed before the robot was switched on last")

    def _take_sensed(self, line: bytes, words: list[str], at_s: float) -> Message:
        """Take what the robot senses, if it answers what was sent here: else no one knows whether it hears."""
        count = len(self._back.columns)
        back, values = read_sensed(words, count + len(TRUTH), self._numbers - 1)
        self._echo = back.stamp  # its answer tells the robot how old it is
        if self._seal is not None and back.ack is not None and back.ack > self._seq:
            self._seq = back.ack  # another head spoke before: continue its numbers
        acked = self._sent.get(back.ack) if back.ack is not None else None
        if acked is None:
            if back.ack is None and self._acked is None:
                self._deaf_s = at_s
                return Message(line, {})  # it was just switched on, or hears nothing
            said = "nothing" if back.ack is None else f"number {back.ack}"
            return Message(line, None, "old", f"acknowledges {said}, which is not what was sent last")
        if self._acked is None or acked[0] >= self._acked[0]:
            self._acked = acked
        self.state = back.state
        sensed = self._back.read(np.array(values[:count]), back.stamp)
        self._truth[: len(TRUTH)] = values[count:]
        self._sensed = np.where(np.isnan(sensed), self._sensed, sensed)
        self._heard_s = at_s
        return Message(line, {})

    def problem(self, now_s: float) -> str:  # noqa: PLR0911 - a sentence for each thing that may be wrong
        """Return why it cannot be driven now; empty if it can."""
        if not self.wire.is_open:
            return self.wire.problem
        if self._speed.too_slow:
            return self._speed.too_slow
        if self.greeted and self.greeted != self.hash:
            return f"the robot has another rig ({self.greeted}, here {self.hash})"
        longest = self._link.quiet_after_s
        if now_s - self._heard_s > longest:
            if self._heard_s > 0:
                return f"the robot is silent for {longest * 1e3:.0f} ms"
            if now_s - self._deaf_s < longest:
                return "the robot talks, but hears nothing: it acknowledges nothing"
            bad = self.tally.newest_fault
            return f"no robot answers well: {bad}" if bad else "no robot answers"
        if not self.greeted:
            return "the robot has not greeted yet"
        if self._acked is not None and time.perf_counter() - self._acked[0] > longest + 2 * self._speed.period_s:
            return f"link lost: no answer for {longest * 1e3:.0f} ms"
        if self._acked is not None and not self._acked[1] and self.state == 1:
            return "the robot says that it drives, but it is commanded to rest"
        return ""

    @property
    def sealed(self) -> bool:
        """Whether messages in both directions count only with the rig's key."""
        return self._seal is not None

    def alone_for(self, now_s: float) -> float:
        """Return for how long it has been commanded to drive, in s."""
        return now_s - self._drives_s

    def sense(self) -> Floats:
        """Return the newest sensed values; before the first, and where the robot says nothing, 0."""
        return self._sensed

    def truth(self) -> Floats:
        """Return what the robot says is true of it; NaN where it does not know, as hardly any robot does."""
        return self._truth

    def command(self, commands: Floats, dt_s: float) -> None:
        """Tell the robot; while it may not drive it is commanded to rest. What the line has no room for is never sent later."""
        now = time.perf_counter()
        if not self.drives:
            self._drives_s = now
        first = self._last_drove and not self.drives  # a rest goes before whatever is on its way
        if now < self._next_s and not first:
            return
        self._seq = (self._seq + 1) % self._numbers
        out = Out(self._seq, self._echo, self.drives)
        sentences = out_sentences(out, self.hash, commands if self.drives else self._rest, self._sign)
        messages = sentences if self.wire.whole_messages else [b"".join(sentences)]
        left = [self.wire.send(message, first) for message in messages]
        if not all(left):
            return
        # computed with long values, also in the robot's reply: shorter ones leave the line some room
        self._next_s = now + self._speed.period_s - dt_s / 2 if self._speed.period_s > dt_s else now
        self._last_drove = self.drives
        self._sent[self._seq] = now, self.drives
        if len(self._sent) > MAX_SENT:
            del self._sent[next(iter(self._sent))]
        self.sent = Said(now, shown(sentences[-1]), out=True)

    @property
    def _sign(self) -> Callable[[str], str] | None:
        if self._seal is None:
            return None
        return partial(sealed, self._key, session=self._session or 0)

    def put_back(self) -> None:
        """A real robot is put back by hand."""

    def goes_on(self, line: Line, link: Link | None) -> bool:
        """Continue over this link with a changed rig, whose wheels may have another size. Returns whether that is possible."""
        fits = wire_hash(line) == self.hash and link == self._link and line.rig.secret == self._key
        if fits:
            self._back = SensedWire(line)
        return fits

    def close(self) -> None:
        """Command it to rest a last time, and close the link."""
        self.drives = False
        self.command(self._rest, 0.0)
        self.wire.close()
